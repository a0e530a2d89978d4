"""Projects and MIDI files: written, and read back by others."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import mido
import numpy as np
import pretty_midi
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.errors import ExportError, ProjectError
from bompla.formats.midi import MidiOptions, midi_bytes, write_midi
from bompla.formats.project import FORMAT_VERSION, Project, open_project, project_bytes, read_project, save_project
from bompla.groove.grid import beat_divisions, quantised
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document, Hit, Pad, Source, Variation
from bompla.model.kit_edits import rename_pad, set_pad_note
from bompla.model.loop import Loop
from bompla.model.variation_edits import add_variation


def small(hits: list[tuple[float, int]], *, meter: str = "4/4", bars: int = 1, seconds: float = 2.0) -> Document:
    """Return a document with one snare pad and these hits, as (beats, velocity)."""
    frames = round(seconds * 48_000)
    pad = Pad(1, 4, "snare", "Snare", 38)
    made = tuple(Hit(2 + n, 1, beats, velocity) for n, (beats, velocity) in enumerate(sorted(hits)))
    return Document("It", Source("it.wav", "0" * 32, 48_000, 1, frames), Loop.of_bars(0, frames, bars, meter), pads=(pad,),
                    variations=(Variation("A", "main", made),), next_id=100)


def read_back(content: bytes) -> pretty_midi.PrettyMIDI:
    return pretty_midi.PrettyMIDI(io.BytesIO(content))


def test_a_midi_file_holds_the_hits_at_their_times(demo: tuple[Document, Clip], tmp_path: Path) -> None:
    document = set_pad_note(rename_pad(demo[0], demo[0].pads[0].id, "Döner kick"), demo[0].pads[0].id, 35)
    path = tmp_path / "it.mid"
    write_midi(document, path)
    back = read_back(path.read_bytes())
    assert back.get_tempo_changes()[1][0] == pytest.approx(document.bpm, rel=1e-4)
    assert back.resolution == 960
    assert (back.time_signature_changes[0].numerator, back.time_signature_changes[0].denominator) == (4, 4)
    assert all(track.is_drum for track in back.instruments)
    assert "Döner kick" in {m.name for t in mido.MidiFile(path, charset="utf-8").tracks for m in t if m.type == "track_name"}
    written = sorted((note.start, note.pitch, note.velocity) for track in back.instruments for note in track.notes)
    pads = {pad.id: pad.note for pad in document.pads}
    known = sorted((hit.at_beats * 60 / document.bpm, pads[hit.pad_id], hit.velocity) for hit in pattern_of(document).hits)
    assert len(written) == len(known)
    assert [w[0] for w in written] == pytest.approx([k[0] for k in known], abs=0.0008)
    assert sorted(w[1:] for w in written) == sorted(k[1:] for k in known)


def test_a_midi_file_byte_by_byte() -> None:
    """One snare at velocity 100 on beat 2 of a bar at 120 BPM."""
    assert midi_bytes(small([(1.0, 100)])) == bytes.fromhex(
        "4d546864 00000006 0001 0002 03c0"  # a header: type 1, two tracks, 960 ticks to a quarter
        "4d54726b 0000001a"  # the tempo track
        "00 ff03 02 4974"  # its name, It
        "00 ff51 03 07a120"  # 500,000 microseconds to a quarter
        "00 ff58 04 04 02 18 08"  # 4/4
        "9e00 ff2f 00"  # its end after 3,840 ticks
        "4d54726b 00000020"  # the pad's track
        "00 ff03 05 536e617265"  # its name, Snare
        "00 ff04 05 536e617265"  # its instrument
        "8740 99 26 64"  # after 960 ticks: note on, channel 10, note 38, velocity 100
        "78 89 26 40"  # 120 ticks later: note off
        "9548 ff2f 00".replace(" ", "")  # the end, with the bar's
    )


@pytest.mark.parametrize(("meter", "quarter_bpm", "signature"), [("4/4", 120.0, (4, 4)), ("6/8", 90.0, (6, 8)), ("7/8", 105.0, (7, 8))])
def test_meters_are_written_as_they_are_notated(meter: str, quarter_bpm: float, signature: tuple[int, int]) -> None:
    back = read_back(midi_bytes(small([(0.0, 90), (1.0, 90)], meter=meter)))
    assert back.get_tempo_changes()[1][0] == pytest.approx(quarter_bpm, rel=1e-3)
    assert (back.time_signature_changes[0].numerator, back.time_signature_changes[0].denominator) == signature


@settings(max_examples=60, deadline=None)
@given(hits=st.lists(st.tuples(st.floats(0.0, 3.999), st.integers(1, 127)), min_size=1, max_size=40, unique_by=lambda h: round(h[0] * 960)))
def test_every_hit_is_one_note_that_ends(hits: list[tuple[float, int]]) -> None:
    notes = read_back(midi_bytes(small(hits))).instruments[0].notes
    assert len(notes) == len(hits)
    assert all(note.end > note.start for note in notes)
    starts = sorted(note.start for note in notes)
    assert starts == pytest.approx(sorted(b / 2 for b, _ in hits), abs=0.0006)


def test_quantising_takes_triplets_to_triplets_and_sixteenths_to_sixteenths() -> None:
    played = [0.01, 0.26, 0.49, 0.76, 1.02, 1.35, 1.66, 2.01, 2.74, 3.98]
    moved = quantised(played, 4)
    assert moved == pytest.approx([0, 0.25, 0.5, 0.75, 1, 4 / 3, 5 / 3, 2, 2.75, 3.75])
    assert list(beat_divisions(played, 4)) == [4, 3, 4, 4]
    notes = read_back(midi_bytes(small([(b, 100) for b in played[:-1]]), MidiOptions(quantise=1.0))).instruments[0].notes
    assert sorted(note.start * 2 for note in notes) == pytest.approx(moved[:-1], abs=0.0012)


def test_an_empty_pattern_and_a_bad_folder_are_refused_in_words(tmp_path: Path) -> None:
    with pytest.raises(ExportError, match="no hits"):
        midi_bytes(small([]))
    with pytest.raises(ExportError, match="does not exist"):
        write_midi(small([(0.0, 90)]), tmp_path / "no" / "it.mid")


def test_variations_are_written_one_after_the_other(demo: tuple[Document, Clip]) -> None:
    """A, then B with one hit, then A again: as long as three, marked, and each hit in its place."""
    document = add_variation(demo[0], [(demo[0].pads[0].id, 1.0, 99)], "one")
    content = midi_bytes(document, MidiOptions(letters=("A", "B", "A")))
    back = read_back(content)
    loop_s = document.loop.frames / document.source.sample_rate
    starts = sorted(note.start for track in back.instruments for note in track.notes)
    assert len(starts) == 2 * len(pattern_of(demo[0]).hits) + 1
    middle = [t for t in starts if loop_s - 1e-3 <= t < 2 * loop_s - 1e-3]
    assert middle == pytest.approx([loop_s + 60.0 / document.bpm], abs=1e-3)
    marks = [m.text for m in mido.MidiFile(file=io.BytesIO(content)).tracks[0] if m.type == "marker"]
    assert marks == ["A main", "B one", "A main"]
    with pytest.raises(ExportError, match="no variation X"):
        midi_bytes(document, MidiOptions(letters=("X",)))


def test_a_project_comes_back_as_it_was(demo: tuple[Document, Clip], tmp_path: Path) -> None:
    """Two sounds, each with its own document, and which of them was shown."""
    document, clip = demo
    other = replace(document, title="Again", threshold=0.7)
    project = Project((demo, (other, clip)), 1)
    path = tmp_path / "it.bompla"
    save_project(project, path)
    back = open_project(path)
    assert [d for d, _ in back.sources] == [document, other]
    assert back.current == 1
    assert np.abs(back.sources[0][1].samples - clip.samples).max() < 2**-22
    assert project_bytes(project) == path.read_bytes()
    assert zipfile.ZipFile(path).namelist() == ["mimetype", "project.json", "audio/source.flac", "audio/source2.flac"]


def test_a_project_of_the_first_version_is_read(demo: tuple[Document, Clip]) -> None:
    """It held one sound, and its document had fewer fields."""

    def older(header: dict[str, Any]) -> None:
        source = header.pop("sources")[0]
        del header["current"], source["document"]["cutting"]
        for cut in source["document"]["cuts"]:
            del cut["kept"]
        header.update(version=1, **source)

    back = read_project(damaged(project_bytes(Project((demo,))), older), "it.bompla")
    assert back.sources[0][0] == demo[0]


@pytest.mark.parametrize(("gain", "channels"), [(1.5, 2), (0.5, 9)])
def test_sound_that_flac_cannot_hold_is_kept_exactly(gain: float, channels: int) -> None:
    samples = np.full((480, channels), gain, np.float32)
    clip = Clip(samples, 48_000)
    document = replace(small([], seconds=0.01), source=Source("loud.wav", clip.content_hash, 48_000, channels, 480))
    back = read_project(project_bytes(Project(((document, clip),))), "it").sources[0][1]
    assert back.content_hash == clip.content_hash


def damaged(content: bytes, change: Any) -> bytes:
    """Return a project whose header was changed."""
    target = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(target, "w") as new:
        for name in old.namelist():
            data = old.read(name)
            if name == "project.json":
                header = json.loads(data)
                change(header)
                data = json.dumps(header).encode()
            new.writestr(name, data)
    return target.getvalue()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda h: h.update(version=FORMAT_VERSION + 1), "newer Bompla"),
        (lambda h: h.update(version="x"), "damaged"),
        (lambda h: h.update(format="recipe"), "not a Bompla project"),
        (lambda h: h.update(sources=[]), "holds no sound"),
        (lambda h: h.update(sources=3), "damaged"),
        (lambda h: h["sources"][0].update(audio="gone.flac"), "damaged"),
        (lambda h: h["sources"][0]["document"].pop("loop"), "damaged"),
        (lambda h: h["sources"][0]["document"]["loop"].update(end_sample=10**9), "loop must lie inside"),
        (lambda h: h["sources"][0]["document"]["cuts"].reverse(), "in order"),
        (lambda h: h["sources"][0]["document"]["source"].update(frames=5_000_000), "not as long as it has to be"),
        (lambda h: h["sources"][0]["document"]["pads"][0].update(note=400), "of a pad is 400"),
    ],
)
def test_damaged_projects_are_refused_in_words(demo: tuple[Document, Clip], change: Any, words: str) -> None:
    with pytest.raises(ProjectError, match=words):
        read_project(damaged(project_bytes(Project((demo,))), change), "it.bompla")


@pytest.mark.parametrize("content", [b"", b"PK\x03\x04 not a zip", b"\0" * 400])
def test_what_is_no_project_is_refused_in_words(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "it.bompla"
    path.write_bytes(content)
    with pytest.raises(ProjectError, match=r"it\.bompla"):
        open_project(path)
    with pytest.raises(ProjectError, match="is not there"):
        open_project(tmp_path / "gone" / "it.bompla")
