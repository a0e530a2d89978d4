"""Drum sounds as textbooks have them, each from a line or two: kits to judge with, never to learn from.

They are of the same kind as those of `machine.py`, but not made as they are. How kits like these were heard led to those.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfilt

from corpus import RATE

Mono = NDArray[np.float64]
Draw = np.random.Generator


def plain_strikes(seed: int) -> dict[str, Mono]:
    """Return a strike at full force of every drum of a kit drawn by seed."""
    rng = np.random.default_rng((seed, 5))
    within = rng.uniform
    metallic, base = rng.random() < 0.4, within(250.0, 500.0)

    def metal(seconds: float) -> Mono:
        return _squares(seconds, base, rng) if metallic else 0.4 * _noise(seconds, rng)

    edge_hz = within(5_000.0, 9_000.0)
    strikes = {
        "kick": _sweep(0.8, within(120, 320), within(40, 62), within(0.01, 0.05), within(0.08, 0.3)) + within(0.0, 0.4) * _tick(0.8, rng),
        "snare": _snare(rng),
        "clap": _clap(rng),
        "rim": _band(_noise(0.1, rng) * _fade(0.1, 0.004), 1_200, 4_000) + 0.5 * _sine(0.1, within(1_400, 2_000)) * _fade(0.1, 0.012),
        "hat_closed": _high(metal(0.3), edge_hz) * _fade(0.3, within(0.012, 0.045)),
        "hat_pedal": _high(metal(0.3), 0.8 * edge_hz) * _fade(0.3, within(0.015, 0.05)),
        "hat_open": _high(metal(1.2), edge_hz) * _fade(1.2, within(0.15, 0.4)),
        "ride": _high(_squares(2.0, within(300, 600), rng), within(3_000, 6_000)) * _fade(2.0, within(0.3, 0.8))
        + 0.1 * _sine(2.0, within(2_500, 5_000)) * _fade(2.0, 0.3),
        "crash": _high(_noise(2.4, rng), within(2_500, 5_000)) * _fade(2.4, within(0.5, 1.0)),
        "shaker": _band(_noise(0.25, rng), within(4_000, 6_000), 12_000) * _swell(0.25, within(0.005, 0.02), within(0.03, 0.06)),
        "perc": _squares(0.5, within(520, 560), rng, (1.0, 1.5)) * _fade(0.5, 0.1),
    }
    for drum, (low, high) in {"tom_low": (75, 105), "tom_mid": (110, 145), "tom_high": (150, 210)}.items():
        hz = within(low, high)
        body = _sweep(0.9, hz * within(1.2, 1.8), hz, within(0.02, 0.06), within(0.12, 0.3))
        strikes[drum] = body + 0.1 * _noise(0.9, rng) * _fade(0.9, 0.01)
    return {drum: strike / np.abs(strike).max() for drum, strike in strikes.items()}


def duller(strike: Mono, force: float) -> Mono:
    """Return a strike at a force from 0 to 1, which is duller the softer it is, at a peak of 1."""
    made = sosfilt(butter(1, 3_000.0 + 15_000.0 * force, "low", fs=RATE, output="sos"), strike)
    return np.asarray(made / np.abs(made).max())


def _time(seconds: float) -> Mono:
    return np.arange(int(seconds * RATE)) / RATE


def _fade(seconds: float, decay_s: float) -> Mono:
    return np.asarray(np.exp(-_time(seconds) / decay_s))


def _swell(seconds: float, rise_s: float, decay_s: float) -> Mono:
    return np.minimum(1.0, _time(seconds) / rise_s) * _fade(seconds, decay_s)


def _sine(seconds: float, hz: float) -> Mono:
    return np.asarray(np.sin(2.0 * np.pi * hz * _time(seconds)))


def _noise(seconds: float, rng: Draw) -> Mono:
    return rng.standard_normal(int(seconds * RATE))


def _squares(seconds: float, hz: float, rng: Draw, ratios: tuple[float, ...] = (1.0, 1.31, 1.47, 1.66, 1.93, 2.27)) -> Mono:
    waves = [np.sign(np.sin(2.0 * np.pi * hz * ratio * _time(seconds) + rng.uniform(0.0, 6.28))) for ratio in ratios]
    return np.asarray(np.mean(waves, axis=0))


def _sweep(seconds: float, from_hz: float, to_hz: float, fall_s: float, decay_s: float) -> Mono:
    hz = to_hz + (from_hz - to_hz) * _fade(seconds, fall_s)
    return np.sin(2.0 * np.pi * np.cumsum(hz) / RATE) * _fade(seconds, decay_s)


def _tick(seconds: float, rng: Draw) -> Mono:
    return _high(_noise(seconds, rng) * _fade(seconds, 0.002), 1_000.0)


def _high(sound: Mono, hz: float) -> Mono:
    return np.asarray(sosfilt(butter(2, hz, "high", fs=RATE, output="sos"), sound))


def _band(sound: Mono, low_hz: float, high_hz: float) -> Mono:
    return np.asarray(sosfilt(butter(2, (low_hz, high_hz), "band", fs=RATE, output="sos"), sound))


def _snare(rng: Draw) -> Mono:
    tones = _sine(0.6, rng.uniform(160, 220)) * _fade(0.6, rng.uniform(0.04, 0.1))
    tones = tones + 0.6 * _sine(0.6, rng.uniform(280, 350)) * _fade(0.6, rng.uniform(0.03, 0.08))
    return rng.uniform(0.3, 1.0) * tones + 0.4 * _high(_noise(0.6, rng), rng.uniform(600, 2_500)) * _fade(0.6, rng.uniform(0.05, 0.2))


def _clap(rng: Draw) -> Mono:
    shape = np.zeros(int(0.5 * RATE))
    for burst, decay_s in enumerate((0.004, 0.004, 0.004, rng.uniform(0.05, 0.15))):
        since = _time(0.5) - 0.011 * burst
        shape += (since >= 0.0) * np.exp(-np.maximum(since, 0.0) / decay_s)
    return _band(_noise(0.5, rng) * shape, rng.uniform(700, 1_000), rng.uniform(1_800, 4_000))
