"""The demo set and the corpus: what ships is what the scripts make, and truths are true."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from mir_eval.util import match_events

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from bompla.demo import DEMO_PROJECT, LOOP_FOLDER, loop_paths
from bompla.demo.make import render_groove, truth_of
from bompla.demo.patterns import GROOVES, QUAY_BREAK, Groove, perform
from bompla.demo.synth import LEVELS, VOICES, draw_kit, strike
from bompla.groove.rebuild import document_from
from bompla.model.checks import check_document
from bompla.model.detected_pattern import pattern_of, played
from bompla.model.document import Document
from bompla.model.drums import DRUMS, METERS

sys.path.insert(0, str(Path(__file__).parents[1] / "benchmarks"))

from corpus import RATE
from corpus.grooves import KINDS, draw_groove
from corpus.kits import VELOCITIES, Bank, from_onset, machine_bank, plain_bank
from corpus.render import at_other_tempo, make_loop
from corpus.stretch import grained, sliced, vocoded
from corpus.work import WAYS, worked


def test_the_shipped_loops_are_those_the_script_makes() -> None:
    assert {path.stem for path in loop_paths()} == {groove.title for groove in GROOVES}
    assert sum(path.stat().st_size for path in LOOP_FOLDER.iterdir()) + DEMO_PROJECT.stat().st_size < 12_000_000
    for groove in GROOVES:
        kept = json.loads((LOOP_FOLDER / f"{groove.title}.json").read_text())
        assert kept == json.loads(json.dumps(truth_of(groove)))


def test_a_shipped_loop_sounds_as_it_is_made(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    made = render_groove(QUAY_BREAK)
    kept = next(clip for name, clip, _ in demo_loops if name == QUAY_BREAK.title)
    assert kept.frames == made.frames
    assert np.abs(kept.samples - made.samples).max() < 2e-4


@pytest.mark.parametrize("groove", GROOVES, ids=lambda groove: groove.title)
def test_a_groove_is_played_the_same_each_time_and_within_its_bars(groove: Groove) -> None:
    hits = perform(groove)
    assert hits == perform(groove)
    assert hits[0].time_s == 0.0
    assert all(0.0 <= hit.time_s < groove.duration_s for hit in hits)
    assert all(abs(hit.time_s - hit.beat * 60.0 / groove.bpm) < 0.03 for hit in hits)
    assert {hit.drum for hit in hits} <= set(DRUMS)
    written = sum(lane.replace(" ", "").replace(".", "") != "" for lane in groove.lanes.values())
    assert len({hit.drum for hit in hits}) == written
    assert groove.beats == groove.bars * METERS[groove.meter].beats_per_bar


def test_truths_are_where_the_sound_rises(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    """At the first hit of the untrimmed tape there is silence just before and sound just after."""
    _, clip, truth = next(row for row in demo_loops if row[0] == "rehearsal tape")
    first = round(truth["hits"][0]["time_s"] * clip.sample_rate)
    before, after = clip.mono[first - 400 : first - 2], clip.mono[first : first + 400]
    assert np.abs(after).max() > 20 * np.abs(before).max()
    assert truth["region"]["start_s"] == pytest.approx(truth["hits"][0]["time_s"], abs=1e-4)


@pytest.mark.parametrize("drum", sorted(VOICES))
def test_every_drum_speaks_at_once_louder_and_brighter_with_force(drum: str) -> None:
    kit = draw_kit(np.random.default_rng(4))
    sounds = [np.mean([np.abs(strike(kit, drum, v, np.random.default_rng(s))).max() for s in range(4)]) for v in (30, 70, 120)]
    assert sounds[0] < sounds[1] < sounds[2] <= LEVELS[drum] * 1.2
    sound = strike(kit, drum, 120, np.random.default_rng(1))
    assert np.abs(sound[:200]).max() > 0.004 * np.abs(sound).max()
    assert abs(sound[-1]) < 0.01 * np.abs(sound).max()
    assert np.isfinite(sound).all()


def test_the_demo_project_is_the_demo_loop_cut_named_and_rebuilt(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    check_document(document)
    truth = truth_of(QUAY_BREAK)
    assert document.title == "Night Ferry"
    assert document.source.path == ""
    assert document.bpm == pytest.approx(truth["bpm"], rel=0.005)
    assert (document.loop.bars, document.loop.end_sample) == (4, clip.frames)
    assert {"kick", "snare", "hat_closed", "hat_open"} <= {pad.drum for pad in document.pads}
    assert len(pattern_of(document).hits) == pytest.approx(len(truth["hits"]), abs=6)


def test_drawn_grooves_are_of_all_kinds_and_in_their_bars() -> None:
    grooves = [draw_groove(seed) for seed in range(150)]
    assert {groove.kind for groove in grooves} == set(KINDS)
    assert {groove.meter for groove in grooves} >= {"4/4", "3/4", "6/8", "12/8", "5/4"}
    for groove in grooves:
        assert groove == draw_groove(grooves.index(groove))
        times = [note.time_s for note in groove.notes]
        assert times == sorted(times)
        assert all(0.0 <= time < groove.duration_s for time in times)
        assert all(1 <= note.velocity <= 127 for note in groove.notes)
    snares = [np.array([note.time_s for note in groove.notes if note.drum == "snare"]) for groove in grooves]
    gaps = np.concatenate([np.diff(times) for times in snares])
    assert ((gaps > 0.018) & (gaps < 0.042)).any(), "there are flams"


def test_a_strike_is_cut_to_its_onset() -> None:
    sound = np.zeros(2_000)
    sound[700:1_500] = np.exp(-np.arange(800) / 100.0)
    cut = from_onset(sound)
    assert cut[0] == pytest.approx(1.0)
    assert len(cut) == pytest.approx(690, abs=5)
    assert from_onset(np.zeros(50)).size == 0


@pytest.mark.parametrize("untrimmed", [False, True])
def test_a_made_loop_has_its_hits_where_its_truth_says(untrimmed: bool) -> None:
    """Made clean, the sound rises at the first hit, and the region is whole bars of the tempo."""
    loop = make_loop(8, ("synth",), untrimmed=untrimmed, mix_share=0.0, clean=True)
    truth = loop.truth()
    region = truth["region"]
    beats = region["bars"] * region["beats_per_bar"]
    assert region["end_s"] - region["start_s"] == pytest.approx(beats * 60.0 / truth["bpm"], abs=1e-4)
    assert len(loop.samples) / RATE >= region["end_s"] - 1e-4
    first = round(loop.hits[0][0] * RATE)
    assert np.abs(loop.samples[first : first + 300]).max() > 0.01
    if untrimmed:
        assert not np.abs(loop.samples[: first - 1]).max() > 0.25
    again = make_loop(8, ("synth",), untrimmed=untrimmed, mix_share=0.0, clean=True)
    assert np.array_equal(loop.samples, again.samples)
    for anywhere in ((), ("synth", "not installed")):
        other = make_loop(8, ("synth",), untrimmed=untrimmed, mix_share=0.0, clean=True, varied=True, anywhere=anywhere)
        assert other.groove == loop.groove
        assert not np.array_equal(other.samples, loop.samples), "strikes made over are other sounds of the same groove"


@pytest.mark.parametrize("way", WAYS, ids=lambda way: way.__name__.strip("_"))
@pytest.mark.parametrize("seed", range(3))
def test_what_is_done_to_a_loop_moves_no_attack(way: Callable[..., np.ndarray], seed: int) -> None:
    rng = np.random.default_rng(seed)
    beat, frames = RATE // 2, 2 * RATE
    burst = rng.standard_normal(RATE // 5) * np.exp(-np.arange(RATE // 5) / (0.02 * RATE)) * 0.3
    sound = 1e-4 * rng.standard_normal(frames)
    for at in range(beat // 2, frames - len(burst), beat):
        sound[at : at + len(burst)] += burst
    made = way(sound / np.abs(sound).max(), beat / RATE, rng)
    assert len(made) == frames
    assert np.isfinite(made).all()
    risen = [
        10.0 * np.log10((made[at : at + 441] ** 2).mean() / ((made[at - 661 : at - 44] ** 2).mean() + 1e-12))
        for at in range(beat // 2, frames - len(burst), beat)
    ]
    assert min(risen) > 5.0


def test_a_loop_that_was_treated_is_the_same_groove_at_the_same_level() -> None:
    plain = make_loop(8, ("synth",), mix_share=0.0, clean=True)
    treated = make_loop(8, ("synth",), mix_share=0.0, clean=True, treated=True)
    assert treated.hits == plain.hits
    assert len(treated.samples) == len(plain.samples)
    assert np.abs(treated.samples).max() == pytest.approx(np.abs(plain.samples).max(), rel=1e-5)
    assert not np.array_equal(treated.samples, plain.samples)
    sound = plain.samples.astype(float)
    assert all(np.array_equal(worked(sound, 0.5, np.random.default_rng(n)), worked(sound, 0.5, np.random.default_rng(n))) for n in range(3))


TEMPO_WAYS: dict[str, tuple[float, Callable[[np.ndarray, float, np.ndarray], tuple[np.ndarray, np.ndarray]]]] = {
    "by a phase vocoder": (
        1.5, lambda sound, ratio, hits_s: (vocoded(sound[:, None].astype(np.float32), RATE, ratio)[:, 0].astype(float), hits_s / ratio)
    ),
    "in grains": (6.0, lambda sound, ratio, hits_s: (grained(sound, ratio, 1200), hits_s / ratio)),
    "cut": (0.3, sliced),
}
"""Ways to bring a loop to another tempo, and how far off, in ms, its attacks are at most."""


@pytest.mark.parametrize("ratio", [0.8, 1.0, 1.25])
@pytest.mark.parametrize("way", TEMPO_WAYS)
def test_a_loop_brought_to_another_tempo_is_struck_where_it_is_said_to_be(way: str, ratio: float) -> None:
    most_ms, made_by = TEMPO_WAYS[way]
    strike = np.exp(-np.arange(4000) / 700) * np.sin(2.0 * np.pi * 300.0 * np.arange(4000) / RATE + 1.0)
    hits_s = np.arange(0.1, 3.8, 0.37)
    sound = np.zeros(4 * RATE)
    for at in np.round(hits_s * RATE).astype(int):
        sound[at : at + len(strike)] += strike
    made, when_s = made_by(sound, ratio, hits_s)
    assert len(made) == round(len(sound) / ratio)
    assert np.abs(when_s - hits_s / ratio).max() < 0.001
    power = np.convolve(made**2, np.ones(20) / 20, "same")
    for at in np.round(when_s * RATE).astype(int):
        near = power[max(0, at - 1500) : at + 1500]
        rises = int(np.argmax(near > 0.25 * near.max())) - min(at, 1500)
        assert abs(1000.0 * rises / RATE) < most_ms, (way, at)
    assert 0.6 < np.sqrt((made**2).mean() / (sound**2).mean()) < 1.3


def test_a_loop_at_another_tempo_is_the_same_groove_and_made_the_same_each_time() -> None:
    plain = make_loop(8, ("synth",), mix_share=0.0, clean=True)
    for seed in range(6):
        loop = at_other_tempo(plain, 1.1, seed)
        assert loop.groove.bpm == pytest.approx(1.1 * plain.groove.bpm)
        assert [drum for _, drum, _ in loop.hits] == [drum for _, drum, _ in plain.hits]
        assert np.abs(loop.samples).max() == pytest.approx(np.abs(plain.samples).max(), rel=1e-5)
        assert np.array_equal(loop.samples, at_other_tempo(plain, 1.1, seed).samples)


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize(("make_bank", "drums"), [(machine_bank, set(DRUMS) - {"hat_pedal"}), (plain_bank, set(DRUMS))])
def test_a_made_kit_strikes_every_drum_at_once_and_louder_the_harder(
    make_bank: Callable[[int], Bank], drums: set[str], seed: int
) -> None:
    voices = make_bank(seed).voices
    assert set(voices) == drums
    for drum, (strikes,) in voices.items():
        peaks = [float(np.abs(strike).max()) for strike in strikes]
        assert peaks == sorted(peaks), drum
        assert peaks[-1] / peaks[0] > 125 / VELOCITIES[0], drum
        assert all(np.abs(strike[:3]).max() > 0.005 * peak for strike, peak in zip(strikes, peaks, strict=True)), drum
    opened, closed = (np.flatnonzero(np.abs(voices[hat][0][-1]) > 0.1).max() for hat in ("hat_open", "hat_closed"))
    assert opened > closed
    assert np.array_equal(make_bank.__wrapped__(seed).voices["ride"][0][0], voices["ride"][0][0])  # type: ignore[attr-defined]


def test_a_foot_keeps_the_hat_on_beats_and_no_more() -> None:
    for groove in (draw_groove(seed) for seed in range(600)):
        assert sum(note.drum == "hat_pedal" for note in groove.notes) <= 2 * groove.beats, groove


@pytest.mark.parametrize("way", WAYS, ids=lambda way: way.__name__.strip("_"))
def test_what_producers_do_to_a_loop_leaves_its_drums_heard(
    way: Callable[..., np.ndarray], demo_loops: list[tuple[str, Clip, dict[str, Any]]]
) -> None:
    right = known = found = 0
    for seed, (name, clip, truth) in enumerate(demo_loops):
        made = way(clip.mono.astype(float) / np.abs(clip.mono).max(), 60.0 / truth["bpm"], np.random.default_rng(seed))
        document = document_from(analyse(Clip((0.9 * made / np.abs(made).max()).astype(np.float32), clip.sample_rate)), name)
        heard = [(cut.attack_sample / clip.sample_rate, hit.drum) for cut in document.cuts for hit in played(cut)]
        hits = [(hit["time_s"], hit["drum"]) for hit in truth["hits"]]
        known, found = known + len(hits), found + len(heard)
        for drum in DRUMS:
            there, here = (np.array(sorted(at for at, what in these if what == drum)) for these in (hits, heard))
            right += len(match_events(there, here, 0.025)) if there.size and here.size else 0
    assert 2 * right / (known + found) > 0.89
