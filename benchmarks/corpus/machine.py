"""Kits as drum machines make them: falling sines, filtered noise and clashing oscillators, every strike the same.

Drums of a machine differ from struck ones: no two modes of a head, no two strikes unlike each other, and force is little more
than level. All parameters are drawn over wide ranges, and each drum is made in one of several ways.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, lfilter, sosfilt

from corpus import RATE

Mono = NDArray[np.float64]
Draw = np.random.Generator


def machine_strikes(seed: int) -> dict[str, Mono]:
    """Return a strike at full force of each drum that a machine drawn by seed has, each with a peak of 1."""
    rng = np.random.default_rng((seed, 3))
    strikes = {drum: voice(rng) for drum, voice in _VOICES.items()}
    low, step = rng.uniform(60.0, 120.0), rng.uniform(1.2, 1.6)
    way = int(rng.integers(3))
    strikes |= {drum: _tom(rng, low * step**place, way) for place, drum in enumerate(("tom_low", "tom_mid", "tom_high"))}
    closed, opened, source = _hats(rng)
    strikes |= {"hat_closed": closed, "hat_open": opened}
    strikes |= {"ride": _ride(rng, source), "crash": _crash(rng, source)}
    if rng.random() < 0.3:
        strikes = {drum: np.tanh(rng.uniform(1.5, 6.0) * _levelled(strike)) for drum, strike in strikes.items()}
    return {drum: _levelled(strike) for drum, strike in strikes.items()}


def at_force(strike: Mono, force: float, tone: float) -> Mono:
    """Return a strike at a force from 0 to 1, duller the softer as far as `tone` from 0 to 1 says, at a peak of 1."""
    keep = 1.0 - tone * (1.0 - force)
    return _levelled(lfilter([keep], [1.0, keep - 1.0], strike))


def _t(seconds: float) -> Mono:
    return np.arange(int(seconds * RATE)) / RATE


def _levelled(sound: Mono) -> Mono:
    return np.asarray(sound / (np.abs(sound).max() + 1e-9))


def _filtered(sound: Mono, kind: str, hz: float | tuple[float, float], order: int = 2) -> Mono:
    return np.asarray(sosfilt(butter(order, np.minimum(hz, 20_000.0), kind, fs=RATE, output="sos"), sound))


def _between(rng: Draw, low: float, high: float) -> float:
    """Return a number between two of one sign, as much of an octave as any other."""
    return float(np.exp(rng.uniform(np.log(low), np.log(high))))


def _falling(rng: Draw, t: Mono, hz: float, *, over: float, fall_s: float, decay_s: float) -> Mono:
    """Return a sine, or what is nearly one, that begins `over` times as high as it ends."""
    way = np.exp(-t / fall_s) if rng.random() < 0.6 else 1.0 / (1.0 + t / fall_s) ** 2
    phase = 2.0 * np.pi * np.cumsum(hz * (1.0 + (over - 1.0) * way)) / RATE
    wave = np.sin(phase)
    if rng.random() < 0.3:
        wave = 2.0 / np.pi * np.arcsin(wave)
    shape = np.exp(-t / decay_s) if rng.random() < 0.7 else np.clip(1.0 - t / (2.5 * decay_s), 0.0, None) ** 1.5
    return np.asarray(wave * shape)


def _click(rng: Draw, t: Mono, high_hz: float) -> Mono:
    return _filtered(rng.standard_normal(len(t)), "low", high_hz) * np.exp(-t / _between(rng, 0.0008, 0.006))


def _kick(rng: Draw) -> Mono:
    decay = _between(rng, 0.06, 0.6)
    t = _t(0.1 + 3.0 * decay)
    body = _falling(rng, t, rng.uniform(36.0, 68.0), over=_between(rng, 1.2, 12.0), fall_s=_between(rng, 0.004, 0.07), decay_s=decay)
    body = body + rng.uniform(0.0, 0.6) * _levelled(_click(rng, t, rng.uniform(1_500.0, 12_000.0))) * (rng.random() < 0.7)
    return np.tanh(_between(rng, 1.0, 8.0) * body) if rng.random() < 0.4 else body


def _snare(rng: Draw) -> Mono:
    decay = _between(rng, 0.04, 0.25)
    t = _t(0.1 + 3.0 * decay)
    hz = rng.uniform(140.0, 260.0)
    tone = _falling(rng, t, hz, over=rng.uniform(1.0, 2.2), fall_s=0.015, decay_s=_between(rng, 0.025, 0.12))
    tone = tone + rng.uniform(0.0, 0.8) * np.sin(2 * np.pi * hz * rng.uniform(1.5, 2.1) * t) * np.exp(-t / _between(rng, 0.02, 0.09))
    noise = _filtered(rng.standard_normal(len(t)), "high", _between(rng, 300.0, 3_500.0), int(rng.integers(1, 3)))
    if rng.random() < 0.4:
        noise = _filtered(noise, "low", rng.uniform(5_000.0, 14_000.0))
    return rng.uniform(0.2, 1.0) * tone + rng.uniform(0.4, 1.0) * _levelled(noise * np.exp(-t / decay))


def _clap(rng: Draw) -> Mono:
    t = _t(0.6)
    decay, shape = _between(rng, 0.03, 0.2), np.zeros(len(t))
    apart, bursts = rng.uniform(0.006, 0.014), int(rng.integers(2, 6))
    for burst in range(bursts):
        since = t - burst * apart * rng.uniform(0.9, 1.1)
        shape += (since >= 0.0) * np.exp(-np.maximum(since, 0.0) / (decay if burst == bursts - 1 else rng.uniform(0.002, 0.006)))
    middle = _between(rng, 700.0, 2_200.0)
    return _filtered(rng.standard_normal(len(t)) * shape, "band", (middle * 0.6, middle * rng.uniform(1.6, 4.0)), 1)


def _rim(rng: Draw) -> Mono:
    t = _t(0.15)
    hz = _between(rng, 380.0, 2_400.0)
    tones = sum(np.sin(2 * np.pi * hz * times * t) * np.exp(-t / _between(rng, 0.004, 0.025)) for times in (1.0, rng.uniform(1.4, 3.9)))
    return np.asarray(tones + rng.uniform(0.0, 0.8) * _levelled(_click(rng, t, 12_000.0)))


def _tom(rng: Draw, hz: float, way: int) -> Mono:
    decay = _between(rng, 0.1, 0.45)
    t = _t(0.1 + 3.0 * decay)
    body = _falling(rng, t, hz, over=rng.uniform(1.05, (1.4, 2.0, 3.0)[way]), fall_s=_between(rng, 0.015, 0.1), decay_s=decay)
    noise = _filtered(rng.standard_normal(len(t)), "low", rng.uniform(800.0, 6_000.0)) * np.exp(-t / _between(rng, 0.005, 0.08))
    return body + rng.uniform(0.0, 0.35) * _levelled(noise)


def _metal(rng: Draw) -> Callable[[float], Mono]:
    """Return a source of so many seconds: square waves of no common pitch, one wave bending another, noise, or some of each."""
    base, ratios = _between(rng, 180.0, 900.0), 1.0 + np.cumsum(rng.uniform(0.08, 0.45, int(rng.integers(4, 9))))
    phases, noisy, way = rng.uniform(0.0, 6.28, len(ratios)), rng.uniform(0.1, 1.0), int(rng.integers(4))
    bend = rng.uniform(1.0, 8.0)

    def source(seconds: float) -> Mono:
        t = _t(seconds)
        noise = rng.standard_normal(len(t)) * 0.5
        squares = sum(np.sign(np.sin(2 * np.pi * base * r * t + p)) for r, p in zip(ratios, phases, strict=True)) / len(ratios)
        bent = np.sin(2 * np.pi * base * 4.0 * t + bend * np.sin(2 * np.pi * base * ratios[1] * 5.7 * t))
        return np.asarray((noise, squares, bent + noisy * noise, squares + noisy * noise)[way])

    return source


def _hats(rng: Draw) -> tuple[Mono, Mono, Callable[[float], Mono]]:
    source = _metal(rng)
    edge, order = _between(rng, 3_500.0, 10_500.0), int(rng.integers(1, 4))
    short, long = _between(rng, 0.008, 0.06), _between(rng, 0.12, 0.5)
    closed, opened = (
        _filtered(source(0.03 + 4.0 * decay), "high", edge, order) * np.exp(-_t(0.03 + 4.0 * decay) / decay) for decay in (short, long)
    )
    return closed, opened, source if rng.random() < 0.6 else _metal(rng)


def _ride(rng: Draw, source: Callable[[float], Mono]) -> Mono:
    t = _t(2.2)
    wash = _filtered(source(2.2), "high", _between(rng, 2_000.0, 7_000.0)) * np.exp(-t / _between(rng, 0.25, 0.9))
    hz = _between(rng, 1_500.0, 6_000.0)
    ping = sum(np.sin(2 * np.pi * hz * times * t) * np.exp(-t / _between(rng, 0.05, 0.5)) for times in (1.0, rng.uniform(1.2, 1.9)))
    tick = _filtered(rng.standard_normal(len(t)), "high", 3_000.0) * np.exp(-t / 0.004)
    return _levelled(wash) + rng.uniform(0.0, 0.4) * ping + rng.uniform(0.0, 0.6) * _levelled(tick)


def _crash(rng: Draw, source: Callable[[float], Mono]) -> Mono:
    t = _t(2.4)
    wash = _filtered(source(2.4), "high", _between(rng, 800.0, 5_000.0), int(rng.integers(1, 3)))
    noise = _filtered(rng.standard_normal(len(t)), "high", _between(rng, 1_000.0, 5_000.0))
    return (_levelled(wash) + rng.uniform(0.3, 1.5) * _levelled(noise)) * np.exp(-t / _between(rng, 0.35, 1.1))


def _shaker(rng: Draw) -> Mono:
    t = _t(0.25)
    rise = rng.uniform(0.004, 0.03)
    shape = np.minimum(1.0, (t + 0.0005) / rise) * np.exp(-np.maximum(t - rise, 0.0) / _between(rng, 0.012, 0.06))
    return _filtered(rng.standard_normal(len(t)), "band", (rng.uniform(2_500.0, 6_500.0), rng.uniform(8_000.0, 16_000.0)), 1) * shape


def _perc(rng: Draw) -> Mono:
    """Return a bell of two square waves, a stick of wood, or a hand drum."""
    way = int(rng.integers(3))
    t = _t(0.5)
    if way == 0:
        hz = rng.uniform(480.0, 640.0)
        pair = np.sign(np.sin(2 * np.pi * hz * t)) + np.sign(np.sin(2 * np.pi * hz * rng.uniform(1.4, 1.55) * t))
        return _filtered(pair, "band", (hz * 0.8, hz * 5.0), 1) * np.exp(-t / _between(rng, 0.04, 0.2))
    if way == 1:
        return np.sin(2 * np.pi * _between(rng, 1_600.0, 2_900.0) * t) * np.exp(-t / _between(rng, 0.01, 0.05))
    return _falling(rng, t, _between(rng, 190.0, 480.0), over=rng.uniform(1.0, 1.4), fall_s=0.02, decay_s=_between(rng, 0.04, 0.2))


_VOICES: dict[str, Callable[[Draw], Mono]] = {"kick": _kick, "snare": _snare, "clap": _clap, "rim": _rim, "shaker": _shaker, "perc": _perc}
