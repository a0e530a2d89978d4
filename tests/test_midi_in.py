"""Reading MIDI files: from bytes written out by hand, and back from what is written here."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bompla.audio.clip import Clip
from bompla.errors import ExportError
from bompla.formats.midi import midi_bytes
from bompla.formats.midi_read import read_midi_notes
from bompla.groove.feel import feel_from, feel_of
from bompla.model.detected_pattern import pattern_beats, pattern_of
from bompla.model.document import Document
from bompla.model.drums import METERS
from bompla.model.pattern_edits import with_hits

HEADER = b"MThd" + bytes.fromhex("00000006 0000 0001 0060")  # type 0, one track, 96 ticks a quarter


def track(body: str) -> bytes:
    content = bytes.fromhex(body)
    return b"MTrk" + len(content).to_bytes(4, "big") + content


def written(tmp_path: Path, content: bytes) -> Path:
    path = tmp_path / "it.mid"
    path.write_bytes(content)
    return path


def test_notes_are_read_from_bytes_with_running_status_and_a_meter(tmp_path: Path) -> None:
    body = (
        "00 FF 58 04 03 02 18 08"  # 3/4
        "00 99 24 64"  # kick at once, channel 10
        "30 26 40"  # running status: snare half a beat later
        "30 99 24 00"  # a note-on of velocity 0 is no note
        "81 40 99 2A 50"  # a hat two beats on: at beat 3, in the second bar
        "00 90 3C 7F"  # a note of another channel
        "00 FF 2F 00"
    )
    notes = read_midi_notes(written(tmp_path, HEADER + track(body)))
    assert notes.meter is METERS["3/4"]
    assert notes.notes == ((0.0, 36, 100), (0.5, 38, 64), (3.0, 42, 80))
    assert notes.beats == 6


def test_without_a_percussion_channel_all_notes_count(tmp_path: Path) -> None:
    notes = read_midi_notes(written(tmp_path, HEADER + track("00 90 3C 40 60 91 3E 50 00 FF 2F 00")))
    assert [note for _, note, _ in notes.notes] == [60, 62]
    assert notes.meter is METERS["4/4"]


@pytest.mark.parametrize(("content", "words"), [
    (b"", "no MIDI file"),
    (b"RIFF....WAVE", "no MIDI file"),
    (HEADER, "holds no notes|no MIDI file"),
    (HEADER + track("00 FF 2F 00"), "holds no notes"),
    (HEADER[:12] + bytes.fromhex("E728") + track("00 99 24 64 00 FF 2F 00"), "keeps its time|no MIDI file"),
    (HEADER + b"MTrk\x00\x00\x00\x40\x00\x99", "no MIDI file"),
])
def test_a_file_that_is_none_is_told_in_words(tmp_path: Path, content: bytes, words: str) -> None:
    with pytest.raises(ExportError, match=words):
        read_midi_notes(written(tmp_path, content))


@settings(max_examples=25, deadline=None)
@given(shift=st.floats(-0.04, 0.04), keep=st.sets(st.integers(0, 60), min_size=8))
def test_what_is_written_is_read_back(
    demo: tuple[Document, Clip], tmp_path_factory: pytest.TempPathFactory, shift: float, keep: set[int]
) -> None:
    document = demo[0]
    hits = [h for n, h in enumerate(pattern_of(document).hits) if n in keep and 0.1 < h.at_beats < 15.8]
    moved = with_hits(document, [type(h)(h.id, h.pad_id, h.at_beats + shift, h.velocity) for h in hits])
    path = tmp_path_factory.mktemp("midi") / "it.mid"
    if not hits:
        return
    path.write_bytes(midi_bytes(moved))
    notes = read_midi_notes(path)
    known = {pad.id: pad.note for pad in document.pads}
    wanted = sorted((h.at_beats, known[h.pad_id], h.velocity) for h in pattern_of(moved).hits)
    assert len(notes.notes) == len(wanted)
    for (at, note, velocity), (at2, note2, velocity2) in zip(sorted(notes.notes), wanted, strict=True):
        assert at == pytest.approx(at2, abs=1.0 / 960)
        assert (note, velocity) == (note2, velocity2)
    mine, theirs = feel_of(moved, "a"), feel_from(notes.notes, notes.meter, pattern_beats(moved), "a")
    assert theirs.late == pytest.approx(mine.late, abs=0.002)
