"""The part as notation: MusicXML read by another library, like bars written once, every bar full."""

from __future__ import annotations

import io
import xml.etree.ElementTree as ET

import pypdf
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.export.options import ExportOptions
from bompla.export.request import ExportRequest
from bompla.groove.repeats import folded
from bompla.groove.score import score_of
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document, Hit
from bompla.model.drums import METERS
from bompla.model.variation_edits import set_bars
from conftest import made


def test_notation_is_read_by_another_library(demo: tuple[Document, Clip]) -> None:
    import music21

    document, clip = demo
    content = made("musicxml", ExportRequest(document, clip, ExportOptions(repeat_signs=False)))[0].content
    part = music21.converter.parseData(content.decode(), format="musicxml").parts[0]
    measures = list(part.getElementsByClass("Measure"))
    assert len(measures) == document.loop.bars
    score = score_of(document)
    for measure, bar in zip(measures, score.bars, strict=True):
        heads = sum(len(getattr(one, "notes", [one])) for one in measure.recurse().notes if not one.duration.isGrace)
        assert heads == sum(len(chord.notes) for beat in (*bar.hands, *bar.feet) for chord in beat.chords)
        for voice in measure.voices or [measure]:
            assert voice.duration.quarterLength == pytest.approx(4.0)
    assert part.recurse().getElementsByClass("MetronomeMark").first().number == pytest.approx(document.bpm, rel=0.01)


@pytest.mark.parametrize(("form", "written"), [("AAAA", "A"), ("ABAB", "AB"), ("AAABAAAC", "ABAC"), ("ABCD", "ABCD"), ("AAB", "AB"),
                                               ("ABACAB", "ABACB"), ("AB" * 10, "ABAB")])
def test_like_bars_are_written_once_and_play_as_they_were(demo: tuple[Document, Clip], form: str, written: str) -> None:
    """Another library, told to play what the signs say, plays the bars as they stood."""
    import music21

    from bompla.formats.musicxml import musicxml_bytes

    shown = {letter: tuple(Hit(n, demo[0].pads[0].id, float(n), 100) for n in range(1 + number)) for number, letter in enumerate("ABCD")}
    hits = tuple(replace(hit, id=100 * bar + hit.id, at_beats=4.0 * bar + hit.at_beats)
                 for bar, letter in enumerate(form) for hit in shown[letter])
    loop = replace(demo[0].loop, length_beats=4.0 * len(form))
    document = replace(demo[0], loop=loop, variations=(replace(pattern_of(demo[0]), hits=hits),), shown=0)
    score, repeats = folded(score_of(document))
    assert "".join("ABCD"[sum(bool(chord.notes) for beat in (*bar.feet, *bar.hands) for chord in beat.chords) - 1]
                   for bar in score.bars) == written
    part = music21.converter.parseData(musicxml_bytes(score, repeats).decode(), format="musicxml").parts[0]
    part = part.expandRepeats() if repeats else part
    played = [len(measure.recurse().notes) for measure in part.getElementsByClass("Measure")]
    assert played == [len(shown[letter]) for letter in form]


@settings(max_examples=25, deadline=None)
@given(st.sampled_from(["4/4", "3/4", "7/8", "6/8", "12/8"]),
       st.lists(st.tuples(st.floats(0, 0.999), st.integers(0, 4), st.integers(1, 127)), min_size=1, max_size=40))
def test_every_bar_of_notation_is_full(demo: tuple[Document, Clip], meter: str, hits: list[tuple[float, int, int]]) -> None:
    from bompla.formats.musicxml import DIVISIONS, musicxml_bytes

    document = replace(demo[0], loop=replace(demo[0].loop, meter_name=meter, length_beats=2.0 * METERS[meter].beats_per_bar))
    beats = document.loop.length_beats
    placed = tuple(sorted((Hit(n, document.pads[k % len(document.pads)].id, at * beats, v) for n, (at, k, v) in enumerate(hits, 1)),
                          key=lambda hit: hit.at_beats))
    document = replace(document, variations=(replace(pattern_of(document), hits=placed),), shown=0)
    root = ET.fromstring(musicxml_bytes(score_of(document)))  # noqa: S314  # just made here
    full = round(document.loop.meter.beats_per_bar * document.loop.meter.beat_quarters * DIVISIONS)
    for measure in root.iter("measure"):
        lengths: dict[str, int] = {}
        for note in measure.iter("note"):
            if note.find("grace") is None and note.find("chord") is None:
                voice = note.findtext("voice", "")
                lengths[voice] = lengths.get(voice, 0) + int(note.findtext("duration", "0"))
            kind, duration = note.findtext("type"), note.findtext("duration")
            if kind and duration and note.find("time-modification") is None:
                plain = {"16th": 3, "eighth": 6, "quarter": 12, "half": 24}[kind]
                assert int(duration) == plain * (1.5 if note.find("dot") is not None else 1)
        assert set(lengths.values()) == {full}


def test_a_long_part_is_printed_on_several_pages_of_a4(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    request = ExportRequest(set_bars(document, 40), clip, ExportOptions(repeat_signs=False))
    pages = pypdf.PdfReader(io.BytesIO(made("score-pdf", request)[0].content)).pages
    assert len(pages) > 1
    assert {(round(float(page.mediabox.width)), round(float(page.mediabox.height))) for page in pages} == {(595, 842)}
    numbers = [int(word) for page in pages for word in page.extract_text().split() if word.isdigit()]
    assert numbers == list(range(1, 40, 2)), "each line once, in order"
    assert "Night Ferry" in pages[0].extract_text()
    report = pypdf.PdfReader(io.BytesIO(made("report-pdf", request)[0].content)).pages
    assert "40 bars of 4/4" in report[0].extract_text()
    assert "In numbers" in "".join(page.extract_text() for page in report)
