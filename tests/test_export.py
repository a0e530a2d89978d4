"""Everything that leaves is read back by readers that are not ours, and is what the document says."""

from __future__ import annotations

import base64
import csv
import io
import json
import resource
import struct
import xml.etree.ElementTree as ET
from html.parser import HTMLParser
from pathlib import Path

import mido
import numpy as np
import pretty_midi
import pypdf
import pytest
import soundfile
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.cli import cli
from bompla.demo import DEMO_PROJECT, loop_paths
from bompla.engine.bounce import bounce_rebuilt
from bompla.engine.ceiling import BLOCK, CEILING_DB, held_below
from bompla.errors import ExportError
from bompla.export.engrave import HEAD_PX
from bompla.export.folder import MANIFEST, free_name, write_all, write_some
from bompla.export.loops import rebuilt_sound
from bompla.export.options import ExportOptions, checked
from bompla.export.paper import on_paper
from bompla.export.request import ExportRequest, Made, file_name, parts_of
from bompla.export.sound_file import encoded
from bompla.export.stems import REMAINDER, loop_stems
from bompla.export.table import EXPORTS, KINDS
from bompla.formats.midi import MidiOptions, midi_bytes, written_hits
from bompla.formats.wav_chunks import CuePoint, with_chunks
from bompla.groove.score import score_of
from bompla.groove.slice_kit import kit_of_slices
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document, Hit, OrderStep
from bompla.model.drums import DRUMS
from bompla.model.variation_edits import add_variation_hits
from bompla.render.bake import bake
from bompla.render.events import BakeRequest
from bompla.render.seam import seamless
from bompla.units import db_to_gain
from conftest import made, none, struck


def sound_of(one: Made) -> tuple[np.ndarray, int]:
    sound, rate = soundfile.read(io.BytesIO(one.content), always_2d=True)
    return sound, rate


@pytest.fixture(scope="module")
def request_of(demo: tuple[Document, Clip]) -> ExportRequest:
    return ExportRequest(*demo)


@pytest.fixture(scope="module")
def whole(request_of: ExportRequest, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo with everything in one folder."""
    return write_all(request_of, list(EXPORTS), tmp_path_factory.mktemp("out") / "Night Ferry")


def test_the_folder_has_what_its_manifest_says(whole: Path, demo: tuple[Document, Clip]) -> None:
    manifest = json.loads((whole / MANIFEST).read_text())
    assert manifest["bpm"] == pytest.approx(demo[0].bpm, abs=1e-3)
    assert manifest["bars"] == demo[0].loop.bars
    listed = [entry["path"] for entry in manifest["files"]]
    there = [path.relative_to(whole).as_posix() for path in whole.rglob("*") if path.is_file() and path.name != MANIFEST]
    assert sorted(listed) == sorted(there)
    assert {entry["kind"] for entry in manifest["files"]} == set(KINDS)
    assert not [path for path in whole.parent.iterdir() if path != whole], "nothing is left beside it"
    assert all(path.stat().st_size for path in whole.rglob("*") if path.is_file())


def test_the_trimmed_loop_is_the_loop_with_its_slices_marked(whole: Path, demo: tuple[Document, Clip]) -> None:
    from wavinfo import WavInfoReader

    document, clip = demo
    path = next(whole.glob("*loop.wav"))
    sound, rate = soundfile.read(path, always_2d=True)
    assert rate == clip.sample_rate
    assert np.abs(sound - seamless(clip, document.loop)).max() <= 2**-22, "dithered at 24 bits, no more"
    info = WavInfoReader(str(path))
    cues = {cue.name: cue.position for cue in info.cues.cues}
    labels = {label.name: label.text for label in info.cues.labels}
    starts = [piece.start_sample - document.loop.start_sample for piece in document.slices()]
    assert [cues[n] for n in sorted(cues)] == starts
    names = [piece.cut.name or DRUMS[piece.cut.heard[0].drum].label.lower() for piece in document.slices()]
    assert [labels[n] for n in sorted(labels)] == names
    assert [(loop.start, loop.end) for loop in info.smpl.sample_loops] == [(0, document.loop.frames - 1)]
    assert "96" in info.info.comment
    assert "4 bars" in info.info.comment


def test_chunks_are_laid_out_as_the_specification_has_them() -> None:
    """Two cue points, one of an odd label, and a loop, byte by byte."""
    plain = b"RIFF" + struct.pack("<I", 4) + b"WAVE"
    content = with_chunks(plain, sample_rate=50_000, cues=[CuePoint(7, "ab"), CuePoint(9, "c")], loop=(0, 99), note=36)
    assert content == (
        b"RIFF" + struct.pack("<I", len(content) - 8) + b"WAVE"
        # cue : two points, each with id, position, data chunk, chunk start, block start, sample offset
        b"cue \x34\0\0\0\x02\0\0\0"
        b"\x01\0\0\0\x07\0\0\0data\0\0\0\0\0\0\0\0\x07\0\0\0"
        b"\x02\0\0\0\x09\0\0\0data\0\0\0\0\0\0\0\0\x09\0\0\0"
        # LIST adtl: labels with their point's id; the first is odd and padded
        b"LIST\x22\0\0\0adtllabl\x07\0\0\0\x01\0\0\0ab\0\0labl\x06\0\0\0\x02\0\0\0c\0"
        # smpl: period 20,000 ns, note 36, one forward loop from 0 to 99
        b"smpl\x3c\0\0\0\0\0\0\0\0\0\0\0\x20\x4e\0\0\x24\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\x01\0\0\0\0\0\0\0"
        b"\x01\0\0\0\0\0\0\0\0\0\0\0\x63\0\0\0\0\0\0\0\0\0\0\0"
    )
    with pytest.raises(ExportError, match="WAV"):
        with_chunks(b"fLaC" + bytes(20), sample_rate=50_000)


def test_slices_are_the_source_numbered_and_named(whole: Path, demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    files = sorted((whole / "slices").iterdir())
    assert len(files) == len(document.slices())
    for path, piece in zip(files, document.slices(), strict=True):
        assert path.name.startswith(f"{piece.number:02d} ")
        sound, _ = soundfile.read(path, always_2d=True)
        part = clip.part(piece.start_sample, piece.end_sample).samples
        assert len(sound) == len(part)
        body = len(part) - clip.sample_rate // 200
        assert np.abs(sound[:body] - part[:body]).max() <= 2**-22


@pytest.mark.parametrize(("container", "bits", "exact"), [("wav", 32, 0.0), ("wav", 24, 0.0), ("flac", 24, 0.0), ("aiff", 16, 2**-14)])
def test_the_rebuilt_loop_is_what_the_mixer_plays(demo: tuple[Document, Clip], container: str, bits: int, exact: float) -> None:
    document, clip = demo
    softer = replace(document, pads=tuple(replace(pad, level_db=pad.level_db - 12.0) for pad in document.pads))
    request = ExportRequest(softer, clip, ExportOptions(format=container, bits=bits))  # type: ignore[arg-type]
    bounced = bounce_rebuilt(bake(BakeRequest(softer, clip, clip.sample_rate)), passes=2).samples
    sound, rate = sound_of(made("rebuilt", request)[0])
    assert rate == clip.sample_rate
    tolerance = exact or (0.0 if bits == 32 else 2**-22)
    assert np.abs(sound - bounced).max() <= tolerance
    assert len(made("rebuilt", ExportRequest(softer, clip, ExportOptions(tail="ringing")))[0].content) > len(bounced) * 6


@settings(max_examples=20)
@given(bits=st.sampled_from([16, 24]), seed=st.integers(0, 99), peak=st.floats(0.05, 0.85))
def test_what_a_file_of_so_many_bits_holds_comes_back_to_the_bit(bits: int, seed: int, peak: float) -> None:
    full = 1 << (bits - 1)
    whole_numbers = np.round(peak * full * np.random.default_rng(seed).uniform(-1, 1, (500, 2)))
    clip = Clip((whole_numbers / full).astype(np.float32), 44_100)
    content, facts = encoded(clip, ExportOptions(bits=bits))
    back, _ = soundfile.read(io.BytesIO(content), dtype="int32", always_2d=True)
    if "ceiling_db" not in facts:
        assert np.array_equal(back >> (32 - bits), whole_numbers.astype(np.int64))


@settings(max_examples=30)
@given(seed=st.integers(0, 999), gain=st.floats(0.2, 8.0), frames=st.integers(1, 9_000))
def test_the_ceiling_holds_every_peak_and_leaves_the_rest(seed: int, gain: float, frames: int) -> None:
    fall = np.exp(-np.arange(frames) / 2_000.0)[:, None]
    sound = (gain * np.random.default_rng(seed).standard_normal((frames, 2)) * fall).astype(np.float32)
    level = np.abs(sound).max(axis=1)
    peaks = np.pad(level, (0, -frames % BLOCK)).reshape(-1, BLOCK).max(axis=1).astype(float)
    held, turned_db = held_below(sound, 44_100, peaks)
    top = db_to_gain(CEILING_DB)
    assert np.abs(held).max() <= top * 1.0001
    if level.max() <= top:
        assert held is sound
        assert turned_db == 0.0
    else:
        assert turned_db == pytest.approx(20 * np.log10(level.max() / top), abs=0.01)


def test_stems_of_the_rebuilt_loop_add_up_to_it(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    request = ExportRequest(document, clip, ExportOptions(bits=32))
    stems = made("rebuilt-stems", request)
    together = np.sum([sound_of(one)[0] for one in stems], axis=0)
    alone = rebuilt_sound(request, parts_of(document, "shown")[0], none).samples
    assert np.abs(together - alone).max() < 1e-5
    assert {one.facts["drum"] for one in stems} == {*(pad.drum for pad in document.pads), REMAINDER}


def test_stems_of_the_original_add_up_to_the_loop(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    stems = loop_stems(ExportRequest(document, clip), none)
    loop = seamless(clip, document.loop)
    rest = np.sum(list(stems.values()), axis=0) - loop
    assert 10 * np.log10(np.square(rest).mean() / np.square(loop).mean() + 1e-30) < -90
    files = made("original-stems", ExportRequest(document, clip, ExportOptions(bits=32)))
    together = np.sum([sound_of(one)[0] for one in files], axis=0)
    assert 10 * np.log10(np.square(together - loop).mean() / np.square(loop).mean()) < -90
    assert files[-1].facts["drum"] == REMAINDER


def test_a_mixture_whose_parts_are_known_comes_apart_into_stems_nearer_to_them() -> None:
    from bompla.analysis.analyse import analyse
    from bompla.groove.rebuild import document_from

    rate, step = 44_100, 11_025
    parts = {"kick": np.zeros(16 * step), "hat_closed": np.zeros(16 * step)}
    for n in range(16):
        parts["hat_closed"][n * step : (n + 1) * step] += struck("hat_closed", 2, 0.25, step)
        if n % 4 == 0:
            parts["kick"][n * step : (n + 1) * step] += struck("kick", 2, 0.7, step)
    clip = Clip(np.sum(list(parts.values()), axis=0).astype(np.float32), rate)
    document = document_from(analyse(clip), "two")
    first, last = document.loop.start_sample, document.loop.end_sample
    stems = loop_stems(ExportRequest(document, clip), none)
    mixture = clip.mono[first:last]
    for drum, known in parts.items():
        wanted = known[first:last]
        assert np.square(stems[drum][:, 0] - wanted).sum() < 0.5 * np.square(mixture - wanted).sum(), drum


def test_midi_of_both_types_holds_the_same_notes(demo: tuple[Document, Clip]) -> None:
    document, _ = demo
    one = pretty_midi.PrettyMIDI(io.BytesIO(midi_bytes(document)))
    flat = mido.MidiFile(file=io.BytesIO(midi_bytes(document, MidiOptions(file_type=0))))
    assert flat.type == 0
    assert len(flat.tracks) == 1
    again = pretty_midi.PrettyMIDI(io.BytesIO(midi_bytes(document, MidiOptions(file_type=0))))
    notes = [sorted((note.pitch, round(note.start, 4), note.velocity) for track in file.instruments for note in track.notes)
             for file in (one, again)]
    assert notes[0] == notes[1]
    assert len(notes[0]) == len(pattern_of(document).hits)
    faster = mido.MidiFile(file=io.BytesIO(midi_bytes(document, MidiOptions(speed=1.25))))
    tempo = next(message.tempo for message in faster.tracks[0] if message.type == "set_tempo")
    assert mido.tempo2bpm(tempo) == pytest.approx(1.25 * document.bpm, rel=1e-4)


def test_by_slice_each_slice_has_its_note(demo: tuple[Document, Clip]) -> None:
    document, _ = demo
    file = pretty_midi.PrettyMIDI(io.BytesIO(midi_bytes(document, MidiOptions(notes="slices"))))
    pitches = sorted({note.pitch for track in file.instruments for note in track.notes})
    assert pitches == sorted(pad.note for pad in kit_of_slices(document).pads)


def test_a_hit_ahead_of_the_first_beat_gets_a_lead_in_and_a_flam_stays_two(demo: tuple[Document, Clip]) -> None:
    document, _ = demo
    snare = next(pad for pad in document.pads if pad.drum == "snare")
    hits = (Hit(9_001, snare.id, -0.05, 80), Hit(9_002, snare.id, 1.0, 60), Hit(9_003, snare.id, 1.04, 110))
    flams = replace(document, variations=(replace(pattern_of(document), hits=hits),), shown=0)
    file = mido.MidiFile(file=io.BytesIO(midi_bytes(flams)))
    ticks, now = [], 0
    for message in file.tracks[1]:
        now += message.time
        if message.type == "note_on":
            ticks.append(now)
    assert ticks == [round((4 - 0.05) * 960), 5 * 960, round(5.04 * 960)]
    assert [message.text for message in file.tracks[0] if message.type == "marker"] == [pattern_of(document).name]
    moved = [at for at, _ in written_hits(flams, MidiOptions(quantise=1.0))]
    assert moved == pytest.approx([0.0, 0.96, 1.0])
    half = [at for at, _ in written_hits(flams, MidiOptions(quantise=0.5))]
    assert half == pytest.approx([-0.025, 0.98, 1.02])


def test_chance_is_rolled_the_same_for_a_seed_and_muted_lanes_stay_home(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    pattern = pattern_of(document)
    unsure = replace(document, variations=(replace(pattern, hits=tuple(replace(hit, chance=0.5) for hit in pattern.hits)),), shown=0)
    rolled = [len(written_hits(unsure, MidiOptions(chance="rolled", seed=seed))) for seed in (1, 1, 2)]
    assert rolled[0] == rolled[1] < len(pattern.hits)
    assert len(written_hits(unsure, MidiOptions())) == len(pattern.hits)
    kick = next(pad for pad in document.pads if pad.drum == "kick")
    request = ExportRequest(document, clip, silenced=frozenset({kick.id}))
    assert kick.note not in {note.pitch for track in pretty_midi.PrettyMIDI(io.BytesIO(made("midi", request)[0].content)).instruments
                             for note in track.notes}
    muted_too = replace(request.options, muted=True)
    assert "kick" in made("hits-csv", ExportRequest(document, clip, muted_too, silenced=frozenset({kick.id})))[0].content.decode()


def test_variations_and_the_order_leave_and_a_letter_that_is_gone_is_said(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    two = add_variation_hits(document, [Hit(0, document.pads[0].id, 1.0, 99)], "one")
    each = made("midi", ExportRequest(two, clip, ExportOptions(patterns="all")))
    assert [one.path for one in each] == ["Night Ferry A.mid", "Night Ferry B.mid"]
    ordered = replace(two, order=(OrderStep("A", 2), OrderStep("B", 1)))
    request = ExportRequest(ordered, clip, ExportOptions(patterns="order"))
    file = mido.MidiFile(file=io.BytesIO(made("midi", request)[0].content))
    assert [message.text for message in file.tracks[0] if message.type == "marker"] == ["A main", "A main", "B one"]
    assert sound_of(made("rebuilt", request)[0])[0].shape[0] == pytest.approx(3 * document.loop.frames, abs=3)
    with pytest.raises(ExportError, match="no order yet"):
        made("midi", ExportRequest(two, clip, ExportOptions(patterns="order")))
    with pytest.raises(ExportError, match="variation C, which is gone"):
        made("rebuilt", ExportRequest(replace(ordered, order=(OrderStep("C", 1),)), clip, ExportOptions(patterns="order")))


def test_paper_opens_and_its_bars_are_where_it_says(whole: Path, demo: tuple[Document, Clip]) -> None:
    from PyQt6.QtSvg import QSvgRenderer

    svg = next(whole.glob("*.svg"))
    renderer = QSvgRenderer(str(svg))
    assert renderer.isValid()
    root = ET.parse(svg).getroot()  # noqa: S314  # just made here
    assert len([one for one in root.iter() if one.tag.endswith("}svg")]) == 1, "nothing is nested"
    bars = on_paper(score_of(demo[0], "Night Ferry A")).bars
    assert len(bars) == demo[0].loop.bars
    assert all(bar.left < bar.right and HEAD_PX < bar.top < bar.bottom for bar in bars)
    assert bars[0].top == bars[1].top < bars[2].top == bars[3].top, "lines of as many bars"
    assert (bars[0].left, bars[1].right) == pytest.approx((bars[2].left, bars[3].right), abs=1.0), "that fill the page"
    page = pypdf.PdfReader(next(path for path in whole.glob("*.pdf") if "report" not in path.name)).pages[0]
    assert "Night Ferry" in page.extract_text()
    tab = next(whole.glob("*tab.txt")).read_text()
    struck_lines = [line for line in tab.splitlines() if line.startswith("BD|")]
    assert sum(line.count("o") + line.count("O") + line.count("g") for line in struck_lines) == sum(
        1 for hit in pattern_of(demo[0]).hits if demo[0].pad(hit.pad_id).drum == "kick")


def test_hits_as_data_are_the_hits(whole: Path, demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    rows = list(csv.DictReader(io.StringIO(next(whole.glob("*hits.csv")).read_text())))
    same = json.loads(next(whole.glob("*hits.json")).read_text())["hits"]
    hits = sorted(pattern_of(document).hits, key=lambda hit: (hit.at_beats, hit.pad_id))
    assert len(rows) == len(same) == len(hits)
    for row, one, hit in zip(rows, same, hits, strict=True):
        assert float(row["beat"]) == one["beat"] == pytest.approx(hit.at_beats, abs=1e-5)
        assert float(row["time_s"]) == pytest.approx(hit.at_beats * 60 / document.bpm, abs=1e-5)
        assert (int(row["velocity"]), row["drum"]) == (hit.velocity, document.pad(hit.pad_id).drum)
    assert sum(row["confidence"] != "" for row in rows) > 0.9 * len(rows)


def test_a_name_that_is_taken_is_never_written_over_without_a_word(request_of: ExportRequest, tmp_path: Path) -> None:
    target = tmp_path / "loop"
    target.mkdir()
    (target / "mine").write_text("kept")
    with pytest.raises(ExportError, match="already"):
        write_all(request_of, ["midi"], target)
    assert write_all(request_of, ["midi"], target, taken="keep both").name == "loop 2"
    assert (target / "mine").read_text() == "kept"
    write_all(request_of, ["midi"], target, taken="replace")
    assert not (target / "mine").exists()
    assert sorted(path.name for path in tmp_path.iterdir()) == ["loop", "loop 2"]
    assert free_name(tmp_path / "loop").name == "loop 3"
    first, again = (write_some(request_of, "midi", tmp_path) for _ in range(2))
    assert [path.name for path in (*first, *again)] == ["Night Ferry A.mid", "Night Ferry A 2.mid"]


class GivenUp(Exception):
    """The user pressed cancel."""


def test_nothing_is_left_of_what_was_given_up_or_did_not_fit(request_of: ExportRequest, tmp_path: Path) -> None:
    calls = iter(range(10_000))

    def check() -> None:
        if next(calls) > 20:
            raise GivenUp

    with pytest.raises(GivenUp):
        write_all(request_of, list(EXPORTS), tmp_path / "out", check=check)
    assert list(tmp_path.iterdir()) == []
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (40_000, before[1]))
    try:
        with pytest.raises(ExportError, match="Could not write"):
            write_all(request_of, ["midi", "loop"], tmp_path / "out")
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
    assert list(tmp_path.iterdir()) == []


@given(st.text(max_size=200))
def test_any_title_makes_a_name_that_a_file_can_have(title: str) -> None:
    name = file_name(title)
    assert 0 < len(name.encode()) <= 120
    assert not set(name) & set('/\\\0:*?"<>|')
    assert not name.startswith(".")


@pytest.mark.parametrize(("options", "words"), [
    (ExportOptions(rate=12_345), "12345"), (ExportOptions(bits=20), "20 bits"), (ExportOptions(format="flac", bits=32), "FLAC holds"),
    (ExportOptions(name="{nothing}"), "nothing"), (ExportOptions(way="by bus"), "by bus"), (ExportOptions(tempo_percent=3.0), "3 %"),
])
def test_options_that_cannot_be_are_refused_in_words(options: ExportOptions, words: str) -> None:
    with pytest.raises(ExportError, match=words):
        checked(options)


def test_many_files_from_the_command_line(tmp_path: Path) -> None:
    bad = tmp_path / "bad.wav"
    bad.write_bytes(b"no sound")
    loop = loop_paths()[0]
    result = CliRunner().invoke(cli, ["export", str(bad), str(loop), str(DEMO_PROJECT), str(loop), "--to", str(tmp_path / "out"),
                                      "--only", "midi,hits-csv", "--quantise", "50"])
    assert result.exit_code == 1
    assert "bad.wav" in result.stderr
    names = sorted(path.name for path in (tmp_path / "out").iterdir())
    assert names == sorted([loop.stem, f"{loop.stem} 2", DEMO_PROJECT.stem])
    for name in names:
        manifest = json.loads((tmp_path / "out" / name / MANIFEST).read_text())
        assert [entry["kind"] for entry in manifest["files"]] == ["midi", "hits-csv"]
        assert all((tmp_path / "out" / name / entry["path"]).exists() for entry in manifest["files"])
    again = CliRunner().invoke(cli, ["export", str(loop), "--to", str(tmp_path / "out"), "--only", "midi"])
    assert again.exit_code == 1
    assert "already" in again.stderr
    forced = CliRunner().invoke(cli, ["export", str(loop), "--to", str(tmp_path / "out"), "--only", "midi", "--force"])
    assert forced.exit_code == 0
    assert CliRunner().invoke(cli, ["export", str(loop), "--to", str(tmp_path), "--only", "banana"]).exit_code == 2


def test_one_thing_quickly_from_the_command_line(tmp_path: Path) -> None:
    loop = loop_paths()[0]
    result = CliRunner().invoke(cli, ["rebuild", str(loop), "--sound", str(tmp_path / "it.flac"), "--midi", str(tmp_path / "it.mid"),
                                      "--kit", "slices", "--tempo", "80"])
    assert result.exit_code == 0, result.stderr
    sound, rate = soundfile.read(tmp_path / "it.flac")
    original, own_rate = soundfile.read(loop)
    assert len(sound) / rate == pytest.approx(len(original) / own_rate / 0.8, rel=0.05)
    assert mido.MidiFile(tmp_path / "it.mid").length > 1
    assert CliRunner().invoke(cli, ["rebuild", str(loop)]).exit_code == 2


class _Page(HTMLParser):
    """What a page has: its text, its elements, and all that it refers to."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.refers: list[str] = []
        self.words: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        self.refers += [value for name, value in attrs if name in ("src", "href", "xlink:href") and value]

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def test_the_report_is_one_page_that_needs_nothing_else(whole: Path, demo: tuple[Document, Clip]) -> None:
    from bompla.groove.read import read_groove

    page = _Page()
    page.feed(next(whole.glob("*report.html")).read_text(encoding="utf-8"))
    assert all(one.startswith(("data:", "#")) for one in page.refers), "nothing outside is referred to"
    assert page.tags.count("svg") == 3
    assert page.tags.count("audio") == 2
    text = "".join(page.words)
    assert all(fact.text in text for fact in read_groove(demo[0]).sentences())
    sound = next(one for one in page.refers if one.startswith("data:audio/mpeg;base64,"))
    heard, rate = soundfile.read(io.BytesIO(base64.b64decode(sound.partition(",")[2])))
    assert len(heard) / rate == pytest.approx(demo[0].loop.frames / demo[0].source.sample_rate, abs=0.2)


def test_the_printed_report_says_the_same(whole: Path, demo: tuple[Document, Clip]) -> None:
    from bompla.groove.read import read_groove

    read = pypdf.PdfReader(next(whole.glob("*report.pdf")))
    text = " ".join(page.extract_text() for page in read.pages).replace("\n", " ")
    assert all(fact.text in text for fact in read_groove(demo[0]).sentences())
    assert "In numbers" in text
    assert read.metadata is not None
    assert read.metadata.title == "Night Ferry A"
