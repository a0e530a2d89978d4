"""Drums that sound together are pulled apart, and the drums of a mix from its chords."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bompla.analysis.separation.percussive import percussive
from bompla.analysis.separation.pull_apart import RINGING, pull_apart
from bompla.audio.clip import Clip
from bompla.errors import AnalysisError
from bompla.model.strike_levels import SIZE
from conftest import struck


def sdr_db(known: np.ndarray, found: np.ndarray) -> float:
    return float(10 * np.log10((known**2).sum() / ((found - known) ** 2).sum()))


@pytest.mark.parametrize(("pair", "least_db"), [(("kick", "hat_closed"), 6.0), (("kick", "ride"), 6.0), (("snare", "kick"), 3.0)])
def test_drums_that_sound_together_are_pulled_apart(pair: tuple[str, str], least_db: float) -> None:
    gains = []
    for seed in range(4):
        known = {drum: struck(drum, seed, peak) for drum, peak in zip(pair, (0.8, 0.3), strict=True)}
        mixture = np.sum(list(known.values()), axis=0).astype(np.float32)
        parts = pull_apart(Clip(mixture, 44_100), 0, len(mixture), pair)
        assert np.abs(np.sum([p.samples[:, 0] for p in parts.values()], axis=0) - mixture).max() < 1e-5
        for drum in pair:
            gains.append(sdr_db(known[drum], parts[drum].samples[:, 0]) - sdr_db(known[drum], mixture))
    assert np.median(gains) > least_db


@pytest.mark.parametrize("most", [0.0, 0.1, 0.5])
def test_a_drum_gets_no_more_than_it_can_have(most: float) -> None:
    mixture = (struck("snare", 3, 0.7) + struck("hat_closed", 3, 0.3)).astype(np.float32)
    clip = Clip(mixture, 44_100)
    free = pull_apart(clip, 0, len(mixture), ("snare", "hat_closed"))
    held = pull_apart(clip, 0, len(mixture), ("snare", "hat_closed"), most={"hat_closed": (most,) * SIZE})
    assert np.abs(np.sum([part.samples[:, 0] for part in held.values()], axis=0) - mixture).max() < 1e-5
    power, whole, unheld = (float((sound**2).sum()) for sound in (held["hat_closed"].samples, mixture, free["hat_closed"].samples))
    assert power <= max(1e-6, 1.2 * most) * whole
    assert power < unheld


def with_strikes_alone(mixture: np.ndarray, strikes: dict[str, np.ndarray]) -> tuple[Clip, dict[str, list[tuple[int, int]]]]:
    """Return a slice with strikes after it, and where those are."""
    sounds, alone, at = [mixture, np.zeros(4_000)], {}, len(mixture) + 4_000
    for drum, strike in strikes.items():
        alone[drum] = [(at, at + len(strike))]
        sounds += [strike, np.zeros(4_000)]
        at += len(strike) + 4_000
    return Clip(np.concatenate(sounds).astype(np.float32), 44_100), alone


@settings(max_examples=15, deadline=None)
@given(seed=st.integers(0, 50), later=st.integers(0, 110), gain=st.floats(0.3, 1.4), rate=st.sampled_from([44_100, 48_000]))
def test_strikes_that_come_again_wave_for_wave_are_had_whole(seed: int, later: int, gain: float, rate: int) -> None:
    """Snare and hat, each alone elsewhere at another level, and the hat in the slice up to 2.5 ms late: masks get 3 dB and 15 of them."""
    snare, hat = struck("snare", seed, 0.7), struck("hat_closed", seed, 0.25)
    known = {"snare": snare, "hat_closed": np.concatenate([np.zeros(later), hat])[: len(hat)]}
    mixture = snare + known["hat_closed"]
    clip, alone = with_strikes_alone(mixture, {"snare": gain * snare, "hat_closed": hat / gain})
    parts = pull_apart(Clip(clip.samples, rate), 0, len(mixture), ("snare", "hat_closed"), alone=alone)
    assert np.abs(np.sum([part.samples[:, 0] for part in parts.values()], axis=0) - mixture).max() < 1e-5
    for drum, least_db in (("snare", 12.0), ("hat_closed", 20.0)):
        assert sdr_db(known[drum], parts[drum].samples[:, 0]) - sdr_db(known[drum], mixture) > least_db


@settings(max_examples=20, deadline=None)
@given(
    seed=st.integers(0, 99), frames=st.integers(1, 700), length=st.integers(1, 4_000), ahead=st.integers(0, 60),
    rate=st.sampled_from([8_000, 44_100]),
)
def test_a_slice_however_short_is_the_sum_of_its_parts(seed: int, frames: int, length: int, ahead: int, rate: int) -> None:
    samples = np.random.default_rng(seed).uniform(-0.5, 0.5, (9_000, 2)).astype(np.float32)
    clip = Clip(samples, rate)
    alone = {"snare": [(5_000, 5_000 + length)], "hat_closed": [(4_000, 4_000 + length), (0, 900)]}
    start = 3_000
    parts = pull_apart(clip, start, start + frames, ("snare", "hat_closed"), attack_sample=start + min(ahead, frames - 1), alone=alone)
    whole = np.sum([part.samples for part in parts.values()], axis=0)
    assert whole == pytest.approx(samples[start : start + frames], abs=1e-4)


def test_strikes_of_which_no_two_are_alike_help_all_the_same() -> None:
    """As a drummer's are: what is like them is told better by strikes alone, and nothing that is not there is taken off."""
    from bompla.demo.synth import draw_kit, strike

    gains = []
    for pair, seed in itertools.product((("snare", "hat_closed"), ("kick", "hat_closed"), ("snare", "kick")), range(6)):
        rng = np.random.default_rng(seed)
        kit = draw_kit(rng)
        twice = {drum: [np.pad(strike(kit, drum, 110, rng), (0, 11_025))[:11_025] for _ in range(2)] for drum in pair}
        known = {drum: peak * twice[drum][0] / np.abs(twice[drum][0]).max() for drum, peak in zip(pair, (0.8, 0.3), strict=True)}
        mixture = np.sum(list(known.values()), axis=0)
        clip, alone = with_strikes_alone(mixture, {drum: 0.5 * strikes[1] for drum, strikes in twice.items()})
        plain, helped = (pull_apart(clip, 0, len(mixture), pair, alone=its) for its in ({}, alone))
        gains += [sdr_db(known[d], helped[d].samples[:, 0]) - sdr_db(known[d], plain[d].samples[:, 0]) for d in pair]
    assert np.median(gains) > 1.0
    assert min(gains) > -4.0


def test_what_rings_on_from_before_is_kept_apart() -> None:
    """A kick and a hat under a crash that rings: the kick gets no more than a tenth of it, and all parts are the slice again."""
    crash = 0.5 * np.pad(struck("crash", 3, 1.0, 40_000), (0, 22_050))[:44_100]
    known = {"kick": struck("kick", 3, 0.8), "hat_closed": struck("hat_closed", 3, 0.2)}
    start = 22_050
    sound = crash.copy()
    sound[start : start + 11_025] += np.sum(list(known.values()), axis=0)
    part = sound[start : start + 11_025]
    parts = pull_apart(Clip(sound.astype(np.float32), 44_100), start, start + 11_025, ("kick", "hat_closed"))
    assert set(parts) == {"kick", "hat_closed", RINGING}
    assert np.abs(np.sum([one.samples[:, 0] for one in parts.values()], axis=0) - part).max() < 1e-5
    assert sdr_db(crash[start : start + 11_025], parts[RINGING].samples[:, 0]) > 3.0
    assert sdr_db(known["kick"], parts["kick"].samples[:, 0]) - sdr_db(known["kick"], part) > 6.0


def test_pulling_apart_says_what_it_cannot_do(make_tone: Callable[..., Clip]) -> None:
    clip = make_tone([0.0])
    with pytest.raises(AnalysisError, match="tambourine"):
        pull_apart(clip, 0, 2_000, ["tambourine", "kick"])
    with pytest.raises(AnalysisError, match="at least one"):
        pull_apart(clip, 0, 2_000, [])
    whole = pull_apart(clip, 0, 2_000, ["kick"])["kick"]
    assert np.array_equal(whole.samples, clip.samples[:2_000])


def test_the_percussive_part_drops_the_chords(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    drums = demo_loops[0][1].mono[: 5 * 44_100]
    t = np.arange(len(drums)) / 44_100
    chord = sum(0.08 * np.sin(2 * np.pi * hz * t) for hz in (220.0, 277.2, 329.6, 440.0, 554.4, 659.3)).astype(np.float32)
    part = percussive(Clip(drums + chord, 44_100)).mono

    assert sdr_db(drums, part) > sdr_db(drums, drums + chord) + 3.0
    silent = percussive(Clip(np.zeros((9_000, 2), np.float32), 44_100))
    assert not silent.samples.any()
