"""Files that were damaged anywhere: each gives what it holds, or a sentence of our own, and nothing else."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bompla.audio.clip import Clip
from bompla.audio.files import encode_clip, read_clip
from bompla.errors import BomplaError
from bompla.formats.midi import midi_bytes
from bompla.formats.midi_read import read_midi_notes
from bompla.formats.note_list import read_note_list, write_note_list
from bompla.formats.project import Project, project_bytes, read_project
from bompla.groove.feel import load_feel, own_feels, save_feel
from bompla.model.checks import check_document
from bompla.model.document import Document

SENTENCE_LENGTH = 400


def said_in_words(error: BomplaError) -> None:
    """A sentence for people: it begins and ends as one, and shows nothing of the program's insides."""
    text = str(error)
    assert 10 < len(text) < SENTENCE_LENGTH, text
    assert text.rstrip().endswith((".", "!", "?")), text
    assert "Traceback" not in text
    assert "object at 0x" not in text


def damaged(content: bytes, rng: random.Random) -> bytes:
    """Bytes with some of them changed, cut out, doubled, or with the end missing."""
    made = bytearray(content)
    for _ in range(rng.choice((1, 1, 2, 8))):
        at = rng.randrange(len(made))
        kind = rng.random()
        if kind < 0.5:
            made[at] = rng.randrange(256)
        elif kind < 0.65:
            del made[at : at + rng.randrange(1, 9)]
        elif kind < 0.8:
            made[at:at] = made[at : at + rng.randrange(1, 9)]
        elif len(made) > 64:
            del made[max(16, at) :]
    return bytes(made)


def holds(read: Callable[[], object]) -> bool:
    """Whether something was read; a sentence is well too, any other error is not."""
    try:
        read()
    except BomplaError as error:
        said_in_words(error)
        return False
    return True


@pytest.mark.parametrize(("container", "subtype"), [
    ("WAV", "PCM_16"), ("WAV", "FLOAT"), ("FLAC", "PCM_24"), ("AIFF", "PCM_16"), ("OGG", "VORBIS"),
])
def test_a_damaged_sound_file_is_read_or_refused(tmp_path: Path, container: str, subtype: str) -> None:
    rng = random.Random(f"{container} {subtype}")
    t = np.arange(4_000) / 44_100
    sound = (0.4 * np.sin(2 * np.pi * 300.0 * t)).astype(np.float32)
    whole = encode_clip(Clip(np.stack([sound, -sound], axis=1), 44_100), container=container, subtype=subtype)
    read = 0
    for n in range(60):
        path = tmp_path / f"{n}.{container.lower()}"
        content = damaged(whole, rng)
        if n % 2:  # headers are where it matters
            content = damaged(whole[:80], rng) + whole[80:]
        path.write_bytes(content)

        def look(path: Path = path) -> None:
            clip = read_clip(path)
            assert np.isfinite(clip.samples).all()
            assert clip.frames > 0

        read += holds(look)
    path = tmp_path / f"whole.{container.lower()}"
    path.write_bytes(whole)
    assert read_clip(path).frames == 4_000
    assert read < 60, "some of this damage cannot be read over"


def test_a_damaged_project_is_read_or_refused(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    rng = random.Random(4)
    whole = project_bytes(Project(((document, clip),)))
    for _ in range(40):
        content = damaged(whole, rng)

        def look(content: bytes = content) -> None:
            for made, sound in read_project(content, "band.bompla").sources:
                check_document(made)
                assert sound.frames == made.source.frames

        holds(look)


@given(seed=st.integers(0, 2**32))
def test_a_damaged_midi_file_is_read_or_refused(demo: tuple[Document, Clip], tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    path = tmp_path_factory.getbasetemp() / "damaged.mid"
    path.write_bytes(damaged(midi_bytes(demo[0]), random.Random(seed)))

    def look() -> None:
        notes = read_midi_notes(path)
        assert notes.notes
        assert all(at >= 0.0 and 0 <= note <= 127 and 1 <= velocity <= 127 for at, note, velocity in notes.notes)

    holds(look)


ANY_JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3), max_leaves=8)


@given(content=ANY_JSON, key=st.sampled_from(["notes", "late", "accent", "steps_per_beat", "name", "format", "version"]))
def test_any_json_is_a_list_of_notes_a_feel_or_refused(
    demo: tuple[Document, Clip], tmp_path_factory: pytest.TempPathFactory, content: object, key: str
) -> None:
    path = tmp_path_factory.getbasetemp() / "any.json"
    path.write_text(json.dumps(content))
    holds(lambda: read_note_list(path))
    holds(lambda: load_feel(path))
    write_note_list(demo[0], path)
    known = json.loads(path.read_text())
    path.write_text(json.dumps({**known, key: content}))
    holds(lambda: read_note_list(path))
    save_feel(own_feels()[0], path)
    feel = json.loads(path.read_text())
    feel["feel"][key] = content
    path.write_text(json.dumps(feel))
    holds(lambda: load_feel(path))
