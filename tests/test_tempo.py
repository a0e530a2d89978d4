"""Tempo, meter, bars and downbeat from patterns alone, without sound."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bompla.analysis.analyse import analyse
from bompla.analysis.loop.passages import proposals_of
from bompla.analysis.params import AnalysisParams
from bompla.analysis.tempo.evidence import BeatGrid, Evidence, evidence_of
from bompla.analysis.tempo.features import FEATURE_NAMES, METER_NAMES, Places, features
from bompla.analysis.tempo.readings import THIN, Reading, bars_placed, candidates, confidence_of, read_tempo, shares_of
from bompla.analysis.tempo.stretches import stretches_of
from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.demo.patterns import GROOVES, Groove, perform
from bompla.formats.analysis_json import analysis_object
from bompla.groove.rebuild import document_from
from bompla.model.document import Heard
from bompla.model.drums import METERS

ROCK = {"kick": "X.....x.X..x....", "snare": "....X.......X...", "hat_closed": "x.x.x.x.x.x.x.x."}
WALTZ = {"kick": "X...........", "snare": "....x...x...", "hat_closed": "x.x.x.x.x.x."}
SHUFFLE = {"kick": "X....x..X...", "snare": "...X.....X..", "ride": "x.xx.xx.xx.x"}
SIX = {"kick": "X....x", "snare": "...X..", "hat_closed": "xxxxxx"}
FIVE = {"kick": "X.....x.....x.......", "snare": "............X.......", "hat_closed": "x.x.x.x.x.x.x.x.x.x."}


def played(bar: dict[str, str], *, bpm: float, bars: int, steps: int, lead_s: float = 0.0, tail_s: float = 0.0, loose_ms: float = 2.0,
           beats: int = 4, missed: float = 0.0, seed: int = 3) -> Evidence:
    """Return the evidence of a bar played so many times, a little loosely, with some hits missed."""
    rng = np.random.default_rng(seed)
    step_s = 60.0 / bpm / steps
    rows: dict[int, list[Heard]] = {}
    for number in range(bars):
        for drum, marks in bar.items():
            for step, mark in enumerate(marks):
                if mark != "." and (rng.random() >= missed or (number == 0 and step == 0)):
                    rows.setdefault(number * len(marks) + step, []).append(Heard(drum, 0.95, 118 if mark == "X" else 95))
    order = sorted(rows)
    times = np.array([lead_s + step * step_s + (rng.normal(0.0, loose_ms / 1000.0) if step else 0.0) for step in order])
    return evidence_of(np.maximum(times, 0.0), [tuple(rows[s]) for s in order], lead_s + bars * beats * 60.0 / bpm + tail_s)


CASES = [
    ("rock", ROCK, 4, 4, "4/4"), ("waltz", WALTZ, 4, 3, "3/4"), ("shuffle", SHUFFLE, 3, 4, "4/4"), ("five", FIVE, 4, 5, "5/4"),
]


@pytest.mark.parametrize(("bar", "steps", "beats", "meter"), [case[1:] for case in CASES], ids=[case[0] for case in CASES])
@pytest.mark.parametrize("bpm", [78.0, 104.5, 128.0])
def test_trimmed_bars_are_read_as_they_are(bar: dict[str, str], steps: int, beats: int, meter: str, bpm: float) -> None:
    best = read_tempo(played(bar, bpm=bpm, bars=4, steps=steps, beats=beats, missed=0.05), AnalysisParams())[0]
    assert best.bpm == pytest.approx(bpm, rel=1e-3)
    assert (best.meter.name, best.bars, best.trimmed) == (meter, 4, True)
    assert best.start_s == 0.0


DROP = {"kick": "........X.......", "rim": "........X.......", "hat_closed": "x.x.x.x.x.x.x.x."}
HALF = {"kick": "X.....x...x.....", "snare": "........X.......", "hat_closed": "x.x.x.x.x.x.x.x."}
FAST = {"kick": "X.........x.....", "snare": "....X..o.o..X..o", "ride": "x.x.x.x.x.x.x.x."}
SLOW = {"kick": "X......x..x.....", "snare": "....X.......X...", "hat_closed": "x---x---x---x---"}
SWUNG = {"kick": "o..o..o..o..", "hat_pedal": "...x.....x..", "snare": ".....o...o..", "ride": "x..x.xx..x.x"}
SWUNG_THREE = {"kick": "x........", "hat_pedal": "...x.....", "snare": ".....o...", "ride": "x..x.xx.."}
TWELVE = {"kick": "X.....X....x", "snare": "...X.....X..", "ride": "xxxxxxxxxxxx"}
STYLES = {
    "one drop": (DROP, 72.0, 4, 4), "half time": (HALF, 140.0, 4, 4), "fast break": (FAST, 172.0, 4, 4),
    "slow sixteenths": (SLOW, 66.0, 4, 4),
    "swing": (SWUNG, 138.0, 3, 4), "swung three": (SWUNG_THREE, 132.0, 3, 3), "slow twelve": (TWELVE, 58.0, 3, 4),
}


@pytest.mark.parametrize("seed", [1, 2, 3])
@pytest.mark.parametrize("style", STYLES)
def test_the_beat_of_a_style_is_neither_halved_nor_doubled(style: str, seed: int) -> None:
    bar, bpm, steps, beats = STYLES[style]
    for missed in (0.0, 0.04):
        evidence = played(bar, bpm=bpm, bars=4, steps=steps, beats=beats, missed=missed, seed=seed)
        assert read_tempo(evidence, AnalysisParams())[0].bpm == pytest.approx(bpm, rel=1e-3)


def test_six_eight_is_counted_in_two() -> None:
    best = read_tempo(played(SIX, bpm=72.0, bars=4, steps=3, beats=2), AnalysisParams())[0]
    assert best.bpm == pytest.approx(72.0, rel=1e-3)
    assert best.meter.compound


@settings(max_examples=25, deadline=None)
@given(bpm=st.floats(85.0, 140.0), lead=st.floats(0.3, 3.0), tail=st.floats(0.2, 2.0), seed=st.integers(0, 500))
def test_untrimmed_bars_are_found_where_they_begin(bpm: float, lead: float, tail: float, seed: int) -> None:
    evidence = played(ROCK, bpm=bpm, bars=4, steps=4, lead_s=lead, tail_s=tail, seed=seed)
    best = read_tempo(evidence, AnalysisParams())[0]
    assert best.bpm == pytest.approx(bpm, rel=0.005)
    assert best.start_s == pytest.approx(lead, abs=0.01)
    assert best.end_s == pytest.approx(lead + 16 * 60.0 / bpm, abs=0.04)


@pytest.mark.parametrize("bpm", [88.0, 121.0, 165.0])
@pytest.mark.parametrize("count", [(1, 2, 3, 4), (1, 2, 3, 4, 6, 8)], ids=["four", "two and four"])
@pytest.mark.parametrize("stick", ["rim", "hat_closed", "perc"])
@pytest.mark.parametrize("cough", [False, True], ids=["", "something falls down after it"])
def test_a_count_is_none_of_the_loop_nor_what_falls_down_after_it(bpm: float, count: tuple[int, ...], stick: str, *, cough: bool) -> None:
    beat_s, lead_s = 60.0 / bpm, 0.4 + 8 * 60.0 / bpm
    loop = played(ROCK, bpm=bpm, bars=2, steps=4, lead_s=lead_s, tail_s=4.0)
    before = [(lead_s - beat * beat_s, Heard(stick, 0.8, 70)) for beat in sorted(count, reverse=True)]
    after = [(lead_s + 8.0 * beat_s + 1.7, Heard("perc", 0.6, 40))] if cough else []
    others = evidence_of(np.array([at for at, _ in before + after]), [(heard,) for _, heard in before + after], loop.duration_s)
    times = np.concatenate([loop.times_s, others.times_s])
    order = np.argsort(times)
    rows = np.hstack([loop.roles, others.roles])[:, order]
    best = read_tempo(Evidence(times[order], *rows, duration_s=loop.duration_s), AnalysisParams())[0]
    assert best.bpm == pytest.approx(bpm, rel=0.005)
    assert (best.start_s, best.bars) == (pytest.approx(lead_s, abs=0.012), 2)


@pytest.mark.parametrize("late_share", [0.52, 0.58, 0.62, 0.66])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_late_sixteenths_do_not_bend_the_tempo_of_two_free_bars(late_share: float, seed: int) -> None:
    """The second of two sixteenths comes late, and more of them stand at the end than at the start."""
    rng = np.random.default_rng(seed)
    beat_s, lead_s = 60.0 / 92.0, 1.3
    steps = [0, 4, 6, 8, 12, 14, 16, 18, 19, 20, 22, 23, 24, 25, 27, 28, 30, 31]
    where = np.array([step // 2 / 2.0 + (0.5 * late_share if step % 2 else 0.0) for step in steps])
    times = lead_s + where * beat_s + rng.normal(0.0, 0.002, where.size)
    heard = [(Heard("snare" if step % 8 == 4 else "kick" if step % 8 == 0 else "hat_closed", 0.9, 100),) for step in steps]
    best = read_tempo(evidence_of(times, heard, lead_s + 8 * beat_s + 0.7), AnalysisParams(trimmed=False))[0]
    assert best.bpm == pytest.approx(92.0, rel=0.005)


@pytest.mark.parametrize("bpm", [52.0, 58.5, 71.0])
def test_slow_beats_in_three_are_looked_at_in_free_sound(bpm: float) -> None:
    found = candidates(played(SIX, bpm=bpm, bars=4, steps=3, beats=2, lead_s=0.9, tail_s=1.1), AnalysisParams(trimmed=False))
    assert found is not None
    right = (found.meter == METER_NAMES.index("6/8")) & (found.bars == 4) & (np.abs(found.start_s - 0.9) < 0.02)
    assert np.abs(60.0 / found.beat_s[right] / bpm - 1.0).min() < 0.003


@pytest.mark.parametrize("groove", GROOVES, ids=lambda groove: groove.title)
def test_the_demo_grooves_are_read_without_their_sound(groove: Groove) -> None:
    hits = perform(groove)
    times = np.array([groove.lead_in_s + hit.time_s for hit in hits])
    length = groove.lead_in_s + groove.duration_s + groove.tail_s
    evidence = evidence_of(times, [(Heard(hit.drum, 0.9, hit.velocity),) for hit in hits], length)
    best = read_tempo(evidence, AnalysisParams())[0]
    assert best.bpm == pytest.approx(groove.bpm, rel=0.005)
    assert (best.bars, best.meter.name) == (groove.bars, groove.meter)


def test_shares_are_probabilities() -> None:
    sure = read_tempo(played(ROCK, bpm=100.0, bars=4, steps=4), AnalysisParams())
    assert sum(shares_of(sure)) == pytest.approx(1.0)
    assert confidence_of(sure) > 0.8
    scores = [reading.score for reading in sure]
    assert scores == sorted(scores, reverse=True)


def test_what_is_asked_for_is_kept_to() -> None:
    evidence = played(ROCK, bpm=100.0, bars=4, steps=4)
    slow = read_tempo(evidence, AnalysisParams(min_bpm=40.0, max_bpm=80.0))
    assert all(reading.bpm <= 80.5 for reading in slow if reading.meter.beat_quarters >= 1.0)
    waltz = read_tempo(evidence, AnalysisParams(meters=("3/4",)))
    assert {reading.meter.name for reading in waltz} == {"3/4"}
    free = read_tempo(evidence, AnalysisParams(trimmed=False))
    assert not any(reading.trimmed for reading in free)
    assert free[0].bpm == pytest.approx(100.0, rel=0.005)


def test_nothing_to_read_gives_a_usual_tempo_that_fills_the_sound() -> None:
    reading = read_tempo(evidence_of(np.zeros(0), [], 8.0), AnalysisParams())[0]
    assert isinstance(reading, Reading)
    assert reading.unknown
    assert (8.0 / reading.beat_s) % 4 == pytest.approx(0.0), "whole bars of it"
    assert 60.0 <= reading.bpm <= 190.0


def test_a_grid_tells_quarters_from_thirds_and_bars_from_beats() -> None:
    phases_s = np.array([0.0, 0.3])
    straight = BeatGrid(played(ROCK, bpm=100.0, bars=4, steps=4, loose_ms=0.0), phases_s, 0.6, 16, wraps=True)
    thirds = BeatGrid(played(SHUFFLE, bpm=100.0, bars=4, steps=3, loose_ms=0.0), phases_s, 0.6, 16, wraps=True)
    assert straight.judged[0][0] > 0.9
    assert straight.judged[1][0] < 0.0 < thirds.judged[1][0]
    assert straight.likeness[0, 4] == pytest.approx(1.0)
    assert straight.likeness[0, 4] > straight.likeness[0, 2] > straight.likeness[0, 1]
    assert straight.covered.tolist() == [1.0, 1.0]
    common = METER_NAMES.index("4/4")
    places = Places(*np.array([[0, 0, 1], [common, common, common], [0, 1, 0], [4, 4, 4]]))
    values, moved, between = (dict(zip(FEATURE_NAMES, row, strict=True)) for row in features(straight, places, trimmed=True))
    assert values["mid on back"] == pytest.approx(1.0)
    assert values["bars opened"] == 1.0
    assert between["low on first"] == 0.0
    assert moved["mid on back"] == 0.0


@settings(max_examples=40, deadline=None)
@given(seed=st.integers(0, 10_000), attacks=st.integers(2, 40), duration_s=st.floats(0.5, 12.0))
def test_phases_side_by_side_are_seen_as_each_alone(seed: int, attacks: int, duration_s: float) -> None:
    rng = np.random.default_rng(seed)
    roles = rng.random((5, attacks))
    evidence = Evidence(np.sort(rng.uniform(0.0, duration_s, attacks)), roles[0] + 0.01, *roles[1:], duration_s)
    phases_s, beat_s, beats = rng.uniform(0.0, 0.5, 3), float(rng.uniform(0.3, 1.0)), int(rng.integers(1, 30))
    together = BeatGrid(evidence, phases_s, beat_s, beats, wraps=False)
    for index in range(3):
        alone = BeatGrid(evidence, phases_s[index : index + 1], beat_s, beats, wraps=False)
        meters = np.arange(len(METER_NAMES))
        first, bars = rng.integers(0, beats, meters.size), rng.integers(1, 5, meters.size)
        expected = features(alone, Places(np.zeros_like(meters), meters, first, bars), trimmed=False)
        seen = features(together, Places(np.full_like(meters, index), meters, first, bars), trimmed=False)
        assert np.isfinite(seen).all()
        np.testing.assert_allclose(seen, expected, atol=1e-9)


def bars_that_fit(grid: BeatGrid, per_bar: int, first: float, last: float) -> set[tuple[int, int, int]]:
    """Return phase, first beat and bars of every reading worth a look, one rule after the other."""
    e, beat_s, bar_s = grid.evidence, grid.beat_s, grid.beat_s * per_bar
    thin = THIN * e.total * bar_s / max(bar_s, last - first)

    def weight(until_s: float) -> float:
        return float(e.weights[e.times_s < until_s].sum())

    found = set()
    for phase, phase_s in enumerate(grid.phases_s):
        for beat in range(min(3 * per_bar, grid.beats)):
            start = phase_s + beat * beat_s
            begins = start >= -0.02 and first - 0.3 * beat_s <= start <= last
            if not begins or (beat >= per_bar and not grid.counted_in[phase, beat] and weight(start - 0.1 * beat_s) > thin):
                continue
            bars = max(1, int(np.ceil((last - start - 0.06 * beat_s) / bar_s)))
            while bars > 1 and start + bars * bar_s > e.duration_s + 0.02 * bar_s:
                bars -= 1
            if start + bars * bar_s > e.duration_s + 0.25 * beat_s:
                continue
            found.add((phase, beat, bars))
            while bars > 1 and e.total - weight(start + (bars - 1) * bar_s - 0.1 * beat_s) <= thin:
                bars -= 1
                found.add((phase, beat, bars))
    return found


@settings(max_examples=60, deadline=None)
@given(seed=st.integers(0, 10_000), attacks=st.integers(2, 40), lead_s=st.floats(0.0, 3.0), tail_s=st.floats(0.0, 5.0),
       beat_s=st.floats(0.3, 1.0), meter=st.sampled_from(["4/4", "3/4", "6/8", "12/8", "5/4"]))
def test_bars_are_looked_for_wherever_they_fit(
    seed: int, attacks: int, lead_s: float, tail_s: float, beat_s: float, meter: str
) -> None:
    rng = np.random.default_rng(seed)
    times = lead_s + np.sort(rng.uniform(0.0, 8.0, attacks))
    roles = rng.random((5, attacks)) * rng.choice([0.1, 1.0], attacks)
    evidence = Evidence(times, roles[0] + 0.01, *roles[1:], float(times[-1]) + tail_s)
    first, last = float(times[0]), float(times[-1])
    grid = BeatGrid(evidence, first - rng.uniform(0.0, beat_s, 3), beat_s, int((last - first) / beat_s) + 2, wraps=False)
    placed = bars_placed(grid, np.array([METER_NAMES.index(meter)]), first, last)
    assert set(placed.meter.tolist()) <= {METER_NAMES.index(meter)}
    found = list(zip(placed.phase.tolist(), placed.first_beat.tolist(), placed.bars.tolist(), strict=True))
    assert len(found) == len(set(found))
    assert set(found) == bars_that_fit(grid, METERS[meter].beats_per_bar, first, last)


@pytest.mark.parametrize("seconds", [14.0, 23.0, 41.0])
def test_a_piece_cut_anywhere_is_read_by_how_it_repeats(demo_loops: list[tuple[str, Clip, dict[str, Any]]], seconds: float) -> None:
    """Demo loops over and over, cut in mid-bar: the length of the file says nothing of the tempo."""
    right = on_lines = 0
    chosen = [(clip, truth) for name, clip, truth in demo_loops if name in ("quay break", "gangway hats", "rough dub", "tin roof rim")]
    for n, (clip, truth) in enumerate(chosen):
        start = round((0.37 + 0.11 * n) * clip.frames)
        turns = -(-(start + round(seconds * clip.sample_rate)) // clip.frames)
        sound = np.tile(clip.samples, (turns, 1))[start : start + round(seconds * clip.sample_rate)]
        found = analyse(Clip(sound, clip.sample_rate))
        right += abs(60.0 * found.loop.length_beats / (found.loop.frames / clip.sample_rate) / truth["bpm"] - 1.0) < 0.005
        bar = clip.frames / truth["region"]["bars"]
        off = [(at + start + bar / 2) % bar - bar / 2 for at in (found.loop.start_sample, found.loop.end_sample)]
        on_lines += max(map(abs, off)) < 0.02 * clip.sample_rate
    assert right == len(chosen)
    assert on_lines >= len(chosen) - 1


def test_a_song_of_two_tempos_has_two_stretches_and_loops_in_each(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    by_name = {name: (clip, truth) for name, clip, truth in demo_loops}
    (first, one), (second, other) = by_name["quay break"], by_name["gangway hats"]
    rate = first.sample_rate
    parts = [np.tile(first.stereo, (3, 1)), np.zeros((rate, 2), np.float32), np.tile(resampled(second, rate).stereo, (4, 1))]
    found = analyse(Clip(np.concatenate(parts), rate))
    assert [stretch.bpm for stretch in found.stretches] == pytest.approx([one["bpm"], other["bpm"]], rel=0.005)
    border = 3 * first.frames / rate + 1.0
    assert abs(found.stretches[1].start_sample / rate - border) < 0.2
    assert found.loop == found.passages[0].loop
    document = document_from(found, "song")
    assert {loop.score for loop in proposals_of(document)} == {passage.clarity for passage in found.passages}
    for passage in found.passages:
        bpm = 60.0 * passage.loop.length_beats / (passage.loop.frames / rate)
        assert bpm == pytest.approx(one["bpm"] if passage.loop.end_sample < border * rate else other["bpm"], rel=0.01)
        assert not passage.loop.start_sample < (border - 1.0) * rate < passage.loop.end_sample, "no loop lies across the rest"
    told = analysis_object(found, document)
    assert len(told["stretches"]) == 2
    assert told["region"]["start_s"] == told["passages"][0]["start_s"]


@pytest.mark.parametrize("rest_s", [0.0, 0.6])
@pytest.mark.parametrize("seed", range(3))
def test_a_stretch_begins_where_its_beat_does_and_there_with_a_bar(rest_s: float, seed: int) -> None:
    """Both halves of these bars are alike: only where they begin tells which is the first."""
    alike = {"kick": "X.......X.......", "snare": "....X.......X...", "hat_closed": "x.x.x.x.x.x.x.x."}
    one = played(ROCK, bpm=97.0, bars=7, steps=4, seed=seed)
    other = played(alike, bpm=128.0, bars=9, steps=4, seed=10 + seed)
    border = one.duration_s + rest_s
    roles = ("weights", "low", "mid", "high", "splash")
    both = Evidence(np.concatenate([one.times_s, other.times_s + border]),
                    *(np.concatenate([getattr(one, role), getattr(other, role)]) for role in roles), border + other.duration_s)
    found = stretches_of(both, AnalysisParams())
    assert [stretch.readings[0].bpm for stretch in found] == pytest.approx([97.0, 128.0], rel=0.005)
    assert found[1].start_s == pytest.approx(border, abs=0.06)
    best = found[1].readings[0]
    bar_s = 4 * best.beat_s
    assert (border - best.start_s + bar_s / 2) % bar_s - bar_s / 2 == pytest.approx(0.0, abs=0.03)


def test_what_is_trimmed_or_has_rests_around_it_is_read_as_before(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    for _, clip, truth in demo_loops[:4]:
        found = analyse(clip)
        assert not found.stretches
        told = analysis_object(found, document_from(found, "it"))
        assert [one["bpm"] for one in told["stretches"]] == [pytest.approx(truth["bpm"], rel=0.005)]
        assert told["passages"][0]["start_s"] == told["region"]["start_s"]
