"""What the analysis hears: on the demo loops against their truths, and on sounds that are none."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from typing import Any

import mir_eval
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bompla.analysis.analyse import analyse, hear_at, quiet_before
from bompla.analysis.hearing.attacks import CANDIDATE_FLOOR, find_attacks
from bompla.analysis.hearing.context import AMONG, DrumOdds, load_context, read_context, reheard, seen_at
from bompla.analysis.hearing.drums import CUT_THRESHOLD, heard_alone, strengths_of
from bompla.analysis.hearing.network import load_model, read_model, run
from bompla.analysis.hearing.recurring import BarGrid, load_recurring, read_recurring, recurring
from bompla.analysis.hearing.refine import BACK, ON, read_refine, refine
from bompla.analysis.hearing.spectrum import (
    ANALYSIS_RATE,
    BLOCK,
    HOP,
    LONGEST_S,
    LOW_BINS,
    LOW_FFT_SIZE,
    LOW_HOP,
    REST_S,
    SHORTEST_S,
    WHOLE_S,
    Spectrum,
    spectrum_of,
)
from bompla.analysis.params import AnalysisParams
from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.errors import AnalysisError
from bompla.groove.rebuild import document_from
from bompla.model.analysis_result import AnalysisResult
from bompla.model.detected_pattern import pattern_of, played
from bompla.model.drums import DRUMS, Family
from conftest import pictures_of, struck

SAME_ATTACK_S = 0.016
FAMILIES = {"kick": {"kick"}, "snare": {d.key for d in DRUMS.values() if d.family is Family.SNARES},
            "hat": {d.key for d in DRUMS.values() if d.family is Family.HATS}}


def bare(heard: AnalysisResult) -> AnalysisResult:
    from msgspec.structs import replace

    return replace(heard, elapsed_s=0.0)


def apart(times: list[float]) -> np.ndarray:
    """Return onset times with those too close to be two taken as one."""
    kept: list[float] = []
    for time in sorted(times):
        if not kept or time - kept[-1] > SAME_ATTACK_S:
            kept.append(time)
    return np.array(kept)


@pytest.fixture(scope="module")
def heard_demo(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> list[tuple[str, AnalysisResult, dict[str, Any]]]:
    return [(name, analyse(clip, name=name), truth) for name, clip, truth in demo_loops]


def test_tempo_bars_and_region_of_every_demo_loop(heard_demo: list[tuple[str, AnalysisResult, dict[str, Any]]]) -> None:
    for name, heard, truth in heard_demo:
        document, region = document_from(heard, name), truth["region"]
        assert document.bpm == pytest.approx(truth["bpm"], rel=0.005), name
        assert (document.loop.bars, document.loop.meter_name) == (region["bars"], truth["meter"]), name
        assert document.loop.start_sample / heard.source.sample_rate == pytest.approx(region["start_s"], abs=0.01), name
        assert document.loop.end_sample / heard.source.sample_rate == pytest.approx(region["end_s"], abs=0.01), name


def test_attacks_of_the_demo_loops_to_ten_milliseconds(heard_demo: list[tuple[str, AnalysisResult, dict[str, Any]]]) -> None:
    scores = []
    for name, heard, truth in heard_demo:
        reference = apart([hit["time_s"] for hit in truth["hits"]])
        found = np.array([cut.attack_sample for cut in document_from(heard, name).cuts if cut.origin == "detected"])
        scores.append(mir_eval.onset.f_measure(reference, found / heard.source.sample_rate, window=0.01)[0])
    assert np.mean(scores) > 0.96
    assert min(scores) > 0.93


@pytest.mark.parametrize("family", sorted(FAMILIES))
def test_drums_of_the_demo_loops(heard_demo: list[tuple[str, AnalysisResult, dict[str, Any]]], family: str) -> None:
    right = wrong = missed = 0
    for name, heard, truth in heard_demo:
        rate = heard.source.sample_rate
        found = [c.attack_sample / rate for c in document_from(heard, name).cuts for h in played(c) if h.drum in FAMILIES[family]]
        known = [hit["time_s"] for hit in truth["hits"] if hit["drum"] in FAMILIES[family]]
        matched = len(mir_eval.util.match_events(np.sort(known), np.sort(found), 0.025)) if known and found else 0
        right, wrong, missed = right + matched, wrong + len(found) - matched, missed + len(known) - matched
    assert 2 * right / (2 * right + wrong + missed) > 0.85


def test_the_same_sound_gives_the_same_result(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    clip = demo_loops[2][1]
    assert bare(analyse(clip)) == bare(analyse(clip))


@pytest.mark.parametrize(("rate", "channels"), [(8_000, 1), (22_050, 2), (48_000, 6), (192_000, 1)])
def test_attacks_are_placed_to_a_millisecond_at_any_rate(make_tone: Callable[..., Clip], rate: int, channels: int) -> None:
    times = [0.0, 0.5, 0.75, 1.0, 1.5]
    heard = analyse(make_tone(times, rate=rate, channels=channels, hz=900.0))
    found = np.array([a.at_sample for a in heard.attacks if a.strength >= heard.threshold]) / rate
    assert found == pytest.approx(times, abs=0.001 + 12.0 / rate)
    assert all(0 <= a.at_sample - a.cut_sample <= 0.0013 * rate + 1 for a in heard.attacks)


@pytest.mark.parametrize(("bpm", "bars", "per_bar"), [(90.0, 2, 8), (120.0, 4, 4), (132.0, 2, 16)])
def test_a_trimmed_train_of_hits_fills_whole_bars(make_tone: Callable[..., Clip], bpm: float, bars: int, per_bar: int) -> None:
    length = bars * 240.0 / bpm
    clip = make_tone([n * length / (bars * per_bar) for n in range(bars * per_bar)], duration_s=length)
    readings = analyse(clip).readings
    assert any(abs(r.bpm / bpm - 1) < 0.005 for r in readings[:4])
    assert sum(r.score for r in readings) == pytest.approx(1.0, abs=0.01)


def test_sounds_without_hits_give_a_sensible_result() -> None:
    rate, t = 44_100, np.arange(2 * 44_100) / 44_100
    silence = analyse(Clip(np.zeros((rate, 1), np.float32), rate))
    assert silence.attacks == ()
    assert pattern_of(document_from(silence, "x")).hits == ()
    constant = analyse(Clip(np.full((rate, 1), 0.5, np.float32), rate))
    assert constant.attacks == ()
    sine = analyse(Clip((0.5 * np.sin(2 * np.pi * 300 * t)).astype(np.float32), rate))
    assert sum(a.strength >= sine.threshold for a in sine.attacks) <= 2
    with pytest.raises(AnalysisError, match="too short"):
        analyse(Clip(np.ones((40, 1), np.float32), rate), name="blip.wav")
    one = analyse(Clip((0.5 * np.exp(-t / 0.1) * np.sin(2 * np.pi * 200 * t)).astype(np.float32), rate))
    assert one.loop.bars >= 1


@pytest.mark.parametrize("bad", [{"min_bpm": 100.0, "max_bpm": 120.0}, {"meters": ("9/4",)}, {"sensitivity": 0.0}])
def test_parameters_are_checked_in_words(bad: dict[str, Any]) -> None:
    with pytest.raises(AnalysisError, match=r"[A-Z].*\."):
        AnalysisParams(**bad).checked()


def test_a_greater_sensitivity_cuts_at_softer_attacks(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    clip = demo_loops[0][1]
    counts = [len(document_from(analyse(clip, AnalysisParams(sensitivity=s)), "x").slices()) for s in (0.3, 1.0, 2.0)]
    assert counts == sorted(counts)
    assert counts[0] < counts[2]


def test_what_turns_out_to_be_no_attack_is_nothing_to_snap_to(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    """Places that were looked at and are none, all attacks known, are not told of; those in doubt are."""
    weakest = [min(attack.strength for attack in analyse(clip, name=name).attacks) for name, clip, _ in demo_loops]
    assert min(weakest) >= CANDIDATE_FLOOR
    assert min(weakest) < CUT_THRESHOLD


def test_progress_is_told_and_may_cancel(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    said: list[float] = []

    def stop(share: float, _what: str) -> None:
        said.append(share)
        if share > 0.5:
            raise InterruptedError

    with pytest.raises(InterruptedError):
        analyse(demo_loops[0][1], progress=stop)
    assert said == sorted(said)
    assert said[0] < 0.1


def test_curves_for_drawing_rise_where_attacks_are(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    name, clip, _ = demo_loops[0]
    drawn = pictures_of(clip)
    curve, step_s = drawn.curve, drawn.curve_step_s
    heard = analyse(clip, name=name)
    strong = [a for a in heard.attacks if a.strength > 0.5]
    for attack in strong:
        at = round(attack.at_sample / clip.sample_rate / step_s)
        assert curve[max(0, at - 8) : at + 9].max() == pytest.approx(attack.strength, abs=0.02)
    bands = drawn.bands
    assert bands.shape[0] == 3
    assert bands.max(axis=1) == pytest.approx(1.0)
    kick = next(a for a in strong if a.heard[0].drum == "kick")
    at = round(kick.at_sample / clip.sample_rate / step_s)
    assert bands[0, at : at + 12].max() > 0.5


def test_hearing_at_given_places_is_that_of_the_analysis(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    clip = demo_loops[0][1]
    strong = [a for a in analyse(clip).attacks if a.strength > 0.6][:6]
    answers = hear_at(clip, [a.at_sample for a in reversed(strong)])
    assert [h[0].drum for h in reversed(answers)] == [a.heard[0].drum for a in strong]


SURE, UNLIKELY = 0.7, 0.35


def hits_of(heard: AnalysisResult) -> list[tuple[float, dict[str, float]]]:
    """Return when the cut attacks are, from the first on, and how likely each drum is there."""
    rate, cut = heard.source.sample_rate, [a for a in heard.attacks if a.strength >= heard.threshold]
    return [((a.at_sample - cut[0].at_sample) / rate, {h.drum: h.confidence for h in a.heard}) for a in cut]


def at_odds(one: dict[str, float], other: dict[str, float]) -> set[str]:
    """Return the drums that are there for sure in one and unlikely in the other."""
    return {drum for drum, likely in one.items() if likely >= SURE and other.get(drum, 0.0) < UNLIKELY}


CHANGES: dict[str, Callable[[Clip], Clip]] = {
    "thirty decibels softer": lambda clip: Clip(clip.samples * np.float32(0.0316), clip.sample_rate),
    "upside down": lambda clip: Clip(-clip.samples, clip.sample_rate),
    "of one channel": lambda clip: Clip(clip.mono, clip.sample_rate),
    "with one side upside down": lambda clip: Clip(clip.mono[:, None] * np.array([1.0, -1.0], np.float32), clip.sample_rate),
    "at another rate": lambda clip: resampled(clip, 48_000),
    "after half a second of nothing": lambda clip: Clip(
        np.concatenate([np.zeros((clip.sample_rate // 2, clip.channels), np.float32), clip.samples]), clip.sample_rate
    ),
}


@pytest.mark.parametrize("change", CHANGES)
def test_a_changed_file_of_the_same_loop_is_heard_the_same(
    demo_loops: list[tuple[str, Clip, dict[str, Any]]], heard_demo: list[tuple[str, AnalysisResult, dict[str, Any]]], change: str
) -> None:
    for (name, clip, _), (_, heard, _) in list(zip(demo_loops, heard_demo, strict=True))[list(CHANGES).index(change) % 2 :: 2]:
        before, after = hits_of(heard), hits_of(analyse(CHANGES[change](clip)))
        assert len(after) == len(before), name
        assert np.median(np.abs([b[0] - a[0] for b, a in zip(before, after, strict=True)])) < 0.0005, name
        for (at_s, was), (_, now) in list(zip(before, after, strict=True))[1:]:  # what goes before the first is the loop's end, or nothing
            assert not at_odds(was, now) | at_odds(now, was), (name, at_s, was, now)


def test_a_soft_take_before_a_loud_one_of_another_kit_is_heard_as_by_itself(
    demo_loops: list[tuple[str, Clip, dict[str, Any]]], heard_demo: list[tuple[str, AnalysisResult, dict[str, Any]]]
) -> None:
    attacks = changed = 0
    pairs = list(zip(demo_loops, [*demo_loops[1:], demo_loops[0]], heard_demo, strict=True))
    for (_, take, _), (_, other, _), (_, heard, _) in pairs[::2]:
        loud = np.tile(other.mono, 1 + 20 * other.sample_rate // other.frames)
        both = analyse(Clip(np.concatenate([0.125 * take.mono, loud]), take.sample_rate))
        by_itself = hits_of(heard)
        after = {round(at_s, 2): drums for at_s, drums in hits_of(both)}
        attacks += len(by_itself)
        for at_s, was in by_itself:
            now = next((after[key] for key in (round(at_s, 2), round(at_s + 0.005, 2), round(at_s - 0.005, 2)) if key in after), {})
            changed += bool(at_odds(was, now) | at_odds(now, was))
    assert changed <= 0.04 * attacks


@settings(max_examples=25, deadline=None)
@given(at=st.integers(0, 999), seed=st.integers(0, 5))
def test_a_cut_is_at_the_quietest_sample_just_ahead(at: int, seed: int) -> None:
    samples = np.random.default_rng(seed).standard_normal((1_000, 1)).astype(np.float32)
    clip = Clip(samples / 8, 44_100)
    quiet = quiet_before(clip, at)
    assert at - 53 <= quiet <= at
    assert abs(clip.mono[quiet]) == np.abs(clip.mono[max(0, at - 53) : at + 1]).min()


def no_weights() -> bytes:
    """Return a file of weights without any."""
    stream = io.BytesIO()
    np.savez(stream)
    return stream.getvalue()


@settings(max_examples=25, deadline=None)
@given(
    at=st.integers(3_000, 60_000), off=st.integers(50 - ON, BACK - 50), hz=st.floats(60.0, 6_000.0), seed=st.integers(0, 999),
    gain=st.floats(0.02, 1.0),
)
def test_a_strike_over_hiss_is_placed_to_half_a_millisecond(at: int, off: int, hz: float, seed: int, gain: float) -> None:
    """However far off the place that is thought of, and however loud the sound."""
    rng = np.random.default_rng(seed)
    sound = 0.002 * rng.normal(size=64_000)
    since = np.arange(64_000 - at) / 44_100
    sound[at:] += np.exp(-since / 0.05) * (np.sin(2 * np.pi * hz * since) + 0.3 * rng.normal(size=since.size))
    found = refine((gain * sound).astype(np.float32), np.array([at + off]))
    assert abs(int(found[0]) - at) <= 22


@pytest.mark.parametrize("read", [read_model, read_context, read_refine, read_recurring])
@pytest.mark.parametrize("content", [b"", b"not weights", no_weights()])
def test_a_damaged_model_is_told_in_words(read: Callable[[io.BytesIO], object], content: bytes) -> None:
    with pytest.raises(AnalysisError, match="damaged"):
        read(io.BytesIO(content))


def seen_of(clip: Clip) -> tuple[np.ndarray, DrumOdds]:
    """Return what is seen of the attacks of a clip, and what is heard of each by itself."""
    spectrum, model = spectrum_of(clip), load_model()
    assert spectrum is not None
    activations = run(model, spectrum)
    samples = find_attacks(spectrum, activations, strengths_of(activations, model), AnalysisParams()).samples
    alone = heard_alone(activations, model, samples)
    return seen_at(spectrum, activations.inner, samples, alone), alone


def test_what_is_heard_together_does_not_hang_on_the_order_nor_on_how_long_it_goes_on(
    demo_loops: list[tuple[str, Clip, dict[str, Any]]],
) -> None:
    context = load_context()
    seen, alone = seen_of(demo_loops[0][1])
    known = reheard(context, seen, alone)
    told = [reheard((net,), seen, alone) for net in context]
    assert len(told) > 1
    assert known.odds == pytest.approx(np.mean([one.odds for one in told], axis=0), abs=1e-4), "all of them count alike"
    assert known.force == pytest.approx(np.mean([one.force for one in told], axis=0), abs=1e-4)
    order = np.random.default_rng(3).permutation(len(seen))
    mixed = reheard(context, seen[order], DrumOdds(alone.odds[order], alone.force[order], alone.attack[order]))
    assert mixed.odds == pytest.approx(known.odds[order], abs=1e-3)
    assert mixed.attack == pytest.approx(known.attack[order], abs=1e-3)
    rounds = 2 + 2 * AMONG // len(seen)
    many = DrumOdds(np.tile(alone.odds, (rounds, 1)), np.tile(alone.force, (rounds, 1)), np.tile(alone.attack, rounds))
    longer = reheard(context, np.tile(seen, (rounds, 1)), many)
    assert len(longer.odds) > 2 * AMONG
    assert np.mean((longer.odds > 0.0) == np.tile(known.odds > 0.0, (rounds, 1))) > 0.99
    for count in (AMONG + 1, 2 * AMONG - 64, 2 * AMONG - 63):
        first = DrumOdds(many.odds[:count], many.force[:count], many.attack[:count])
        part = reheard(context, np.tile(seen, (rounds, 1))[:count], first)
        assert (np.abs(part.force - first.force).max(axis=1) > 0.0).all(), "each is heard anew, those at the ends of parts too"


LEVELS = {"kick": (110, 0.8), "snare": (115, 0.8), "hat_closed": (80, 0.25), "ride": (90, 0.3), "tom_low": (95, 0.7),
          "tom_high": (100, 0.7)}
"""How hard and how loud drums are struck here."""


def played_on(
    seed: int, lanes: dict[str, Iterable[int]], step_s: float, softly: dict[str, tuple[int, set[int]]] | None = None, steps: int = 32
) -> Clip:
    """Return drums of a kit by seed, struck on these steps, some of them softly on others: (velocity, steps)."""
    rate = 44_100
    sound = np.zeros(round(steps * step_s * rate))
    struck_on = [(drum, step, *LEVELS[drum]) for drum, at in lanes.items() for step in at]
    struck_on += [(drum, step, velocity, LEVELS[drum][1]) for drum, (velocity, at) in (softly or {}).items() for step in sorted(at)]
    for drum, step, velocity, peak in struck_on:
        voice = peak * (velocity / 127.0) ** 1.6 * struck(drum, seed, 1.0, rate)
        at = round(step * step_s * rate)
        sound[at : at + len(voice)] += voice[: len(sound) - at]
    return Clip((0.6 * sound / max(1.0, np.abs(sound).max())).astype(np.float32), rate)


def heard_in(clip: Clip) -> list[tuple[float, str]]:
    return [(cut.attack_sample / clip.sample_rate, hit.drum) for cut in document_from(analyse(clip), "x").cuts for hit in played(cut)]


RIDDEN: list[dict[str, Iterable[int]]] = [
    {"ride": range(0, 64, 2), "snare": range(4, 64, 8), "kick": range(0, 64, 8)},
    {"ride": range(0, 64, 4), "snare": range(8, 64, 16), "kick": range(0, 64, 16)},
    {"ride": range(0, 64, 4), "snare": range(4, 64, 8), "kick": [*range(0, 64, 8), *range(6, 64, 16)], "tom_low": range(56, 64, 2)},
]


@pytest.mark.parametrize("lanes", RIDDEN)
def test_no_foot_is_heard_only_because_a_snare_answers_a_ride(lanes: dict[str, Iterable[int]]) -> None:
    feet = [[drum for _, drum in heard_in(played_on(seed, lanes, 0.125, steps=64))].count("hat_pedal") for seed in range(3)]
    assert sum(feet) <= 0.05 * 3 * len(list(lanes["snare"])), feet


@pytest.mark.parametrize("ghost", [24, 44])
def test_ghosts_under_hats_are_told_from_hats_without(ghost: int) -> None:
    """Of hats on every eighth some have a soft snare under them: which ones is heard by how they differ from the others."""
    step_s = 0.25
    under = {3, 5, 9, 14, 19, 21, 27, 30}
    right = wrong = 0
    for seed in range(3):
        lanes = {"hat_closed": range(32), "snare": range(4, 32, 8), "kick": range(0, 32, 8)}
        heard = heard_in(played_on(seed, lanes, step_s, softly={"snare": (ghost, under)}))
        snares = {round(at_s / step_s) for at_s, drum in heard if drum == "snare"}
        right, wrong = right + len(snares & under), wrong + len(snares - under - set(range(4, 32, 8)))
    assert right >= 3 * len(under) - 4
    assert wrong <= 1


@settings(max_examples=25)
@given(bars=st.integers(2, 8), step=st.integers(0, 15), drum=st.integers(0, 3), jitter=st.integers(0, 9), start=st.floats(0.0, 2.0))
def test_what_other_bars_have_in_the_same_place_counts(bars: int, step: int, drum: int, jitter: int, start: float) -> None:
    """A doubtful attack and its drum, sure in every other bar, become likelier, those that are in none of them less likely."""
    rng = np.random.default_rng(jitter)
    drums = ("kick", "snare", "rim", "shaker")
    bar_s = 2.0
    times = np.array([start + bar_s * (bar + place / 16.0) for bar in range(bars) for place in range(16)])
    times += rng.normal(0.0, 0.002, times.size)
    odds = np.full((times.size, 4), -3.0)
    odds[step::16, drum] = 3.0
    doubtful = step  # the one in the first bar
    odds[doubtful, drum] = -0.5
    alone = (step + 5) % 16
    odds[alone, (drum + 1) % 4] = -0.5
    likely = odds.max(axis=1)
    found = recurring(DrumOdds(odds, np.zeros_like(odds), likely), times, BarGrid(start, bar_s, bars), drums, load_recurring())
    assert found.odds[doubtful, drum] > odds[doubtful, drum] + 0.5
    assert found.odds[alone, (drum + 1) % 4] < odds[alone, (drum + 1) % 4] - 0.3
    assert found.attack[doubtful] > likely[doubtful] + 0.2
    assert found.attack[alone] < likely[alone] - 0.2
    sure = np.delete(np.arange(bars) * 16 + step, 0)
    assert (found.odds[sure, drum] > 1.5).all(), "one bar in doubt does not unsettle the others"
    for other in (BarGrid(start, bar_s, 1), BarGrid(start, bar_s, 500), BarGrid(start + 900.0, bar_s, bars)):
        assert np.array_equal(recurring(DrumOdds(odds, odds, odds[:, 0]), times, other, drums, load_recurring()).odds, odds)
    rare = ("crash", "tom_low", "tom_mid", "perc")
    fills = recurring(DrumOdds(odds, np.zeros_like(odds), odds[:, 0]), times, BarGrid(start, bar_s, bars), rare, load_recurring())
    assert (fills.odds >= odds).all(), "what is struck for once is not taken for a mistake"


@settings(max_examples=40)
@given(
    bar_s=st.floats(0.3, 4.0), bars=st.integers(2, 12), early_ms=st.floats(0.0, 17.9),
    seed=st.integers(0, 99), later_s=st.floats(0.0, 900.0),
)
def test_what_bars_have_in_common_is_bounded_and_the_same_at_any_time(
    bar_s: float, bars: int, early_ms: float, seed: int, later_s: float
) -> None:
    """However short bars are and however early the first attack is; what lies outside the bars is let alone."""
    rng = np.random.default_rng(seed)
    drums = load_model().drums
    first = 1.0 - early_ms / 1000.0
    times = np.concatenate([[0.2, first], np.sort(rng.uniform(1.0, 1.0 + bars * bar_s, 6 * bars)), [1.0 + bars * bar_s + 0.5]])
    odds = rng.normal(0.0, 4.0, (times.size, len(drums))).astype(np.float32)
    found = DrumOdds(odds, rng.uniform(0.1, 1.0, odds.shape).astype(np.float32), rng.normal(2.0, 2.0, times.size).astype(np.float32))
    kept = odds.copy()
    heard = recurring(found, times, BarGrid(1.0, bar_s, bars), drums, load_recurring())
    moved = recurring(found, times + later_s, BarGrid(1.0 + later_s, bar_s, bars), drums, load_recurring())
    assert np.array_equal(found.odds, kept), "what was heard before is not written over"
    for before, after, again, most in ((found.odds, heard.odds, moved.odds, 1.5), (found.attack, heard.attack, moved.attack, 0.3)):
        assert np.isfinite(after).all()
        assert np.abs(after - before).max() <= most + 1e-4
        assert np.array_equal(after[[0, -1]], before[[0, -1]])
        assert np.allclose(after, again, atol=1e-3)
    assert np.isfinite(heard.force).all()


def spectrum_with(level_db: np.ndarray) -> Spectrum:
    """Return a spectrum of frames of these levels, all in one band."""
    power = (10.0 ** (level_db / 10.0)).astype(np.float32)[:, None]
    low = np.zeros((-(-len(power) // 2), LOW_BINS), np.float32)
    return Spectrum(np.zeros(len(power) * HOP, np.float32), power, low, np.array([1_000.0]))


@settings(max_examples=60, deadline=None)
@given(frames=st.integers(1, 30_000), seed=st.integers(0, 999), gain_db=st.floats(-30.0, 0.0))
def test_stretches_cover_a_sound_and_do_not_hang_on_its_level(frames: int, seed: int, gain_db: float) -> None:
    level = np.random.default_rng(seed).uniform(-50.0, 0.0, frames)
    stretches = spectrum_with(level).stretches
    longest = WHOLE_S if len(stretches) == 1 else LONGEST_S
    assert [one.first for one in stretches] == [0, *np.cumsum([one.sounding.size for one in stretches])[:-1]]
    assert sum(one.sounding.size for one in stretches) == frames
    assert all(one.first % 2 == 0 and one.sounding.size <= longest * ANALYSIS_RATE / HOP + 2 for one in stretches)
    for one, softer in zip(stretches, spectrum_with(level + gain_db).stretches, strict=True):
        assert softer.loud_db == pytest.approx(one.loud_db + gain_db, abs=0.01)
        assert (softer.sounding == one.sounding).all()


@settings(max_examples=60, deadline=None)
@given(first_s=st.floats(5.0, 60.0), rest_s=st.floats(5.0, 60.0), over_db=st.floats(0.0, 6.0), louder=st.booleans(),
       seed=st.integers(0, 999))
def test_stretches_part_where_the_level_changes(first_s: float, rest_s: float, over_db: float, louder: bool, seed: int) -> None:
    rng = np.random.default_rng(seed)
    first, count = (round(length_s * ANALYSIS_RATE / HOP) for length_s in (first_s, first_s + rest_s))
    step_db = (12.0 + over_db) * (1 if louder else -1)
    since = np.concatenate([np.arange(first), np.arange(count - first)]) % 90  # a strike each quarter of a second
    level = -30.0 - 0.3 * since + rng.normal(0.0, 1.5, count) + step_db * (np.arange(count) >= first)
    starts = np.array([one.first for one in spectrum_with(level).stretches])
    last_strike = 0 if louder else 90
    assert np.abs(starts - first).min() <= 4 * BLOCK + last_strike  # 0.4 s: lengths count as well
    lengths_s = np.diff([*starts, count]) * HOP / ANALYSIS_RATE
    assert lengths_s.min() > SHORTEST_S - 0.2


@settings(max_examples=60, deadline=None)
@given(seconds=st.floats(6.0, 15.9), lead_s=st.floats(1.8, 4.0), step_db=st.floats(-6.0, 6.0), quiet_db=st.floats(-90.0, -60.0))
def test_a_short_sound_with_silence_around_it_is_one_take(seconds: float, lead_s: float, step_db: float, quiet_db: float) -> None:
    count, lead = round(seconds * ANALYSIS_RATE / HOP), round(min(lead_s, seconds / 3) * ANALYSIS_RATE / HOP)
    level = -30.0 - 0.3 * (np.arange(count) % 90) + step_db * (np.arange(count) > count // 2)
    level[:lead] = level[count - lead :] = quiet_db
    assert len(spectrum_with(level).stretches) == 1


@settings(max_examples=40, deadline=None)
@given(lead=st.integers(0, 900), rest=st.integers(0, 1_600), tail=st.integers(0, 900), quiet_db=st.floats(-90.0, -35.0))
def test_only_what_sounds_tells_what_a_loop_is_like(lead: int, rest: int, tail: int, quiet_db: float) -> None:
    hits = np.full(300, -6.0)
    level = np.concatenate([np.full(lead, quiet_db), hits, np.full(rest, quiet_db), hits, np.full(tail, quiet_db)])
    (only,) = spectrum_with(level).stretches
    between = np.full(rest, (rest + 1) * HOP / ANALYSIS_RATE <= REST_S)  # a short rest belongs to the groove
    expected = np.concatenate([np.zeros(lead, bool), np.ones(300, bool), between, np.ones(300, bool), np.zeros(tail, bool)])
    assert (only.sounding == expected).all()
    assert only.loud_db == pytest.approx(-6.0, abs=0.01)


@pytest.mark.parametrize("frames", [2_300, 44_100 + 17, 3 * 44_100])
def test_the_lowest_bins_are_those_of_a_whole_transform(frames: int) -> None:
    rng = np.random.default_rng(frames)
    sound = (rng.standard_normal(frames) * np.exp(-np.arange(frames) % 9_000 / 3_000.0)).astype(np.float32)
    spectrum = spectrum_of(Clip(sound, ANALYSIS_RATE))
    assert spectrum is not None
    window = np.hanning(LOW_FFT_SIZE + 1)[:-1]
    for frame in range(0, (frames - LOW_FFT_SIZE) // LOW_HOP, 7):
        start = frame * LOW_HOP - LOW_FFT_SIZE // 2
        part = np.concatenate([np.zeros(max(0, -start)), spectrum.signal[max(0, start) : start + LOW_FFT_SIZE]])
        known = np.abs(np.fft.rfft(part * window / (window.sum() / 2.0))[1 : LOW_BINS + 1]) ** 2
        assert spectrum.low[frame] == pytest.approx(known, rel=2e-4, abs=1e-9)
