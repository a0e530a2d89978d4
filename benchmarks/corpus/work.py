"""What producers do to a loop once it is recorded: samplers, filters, echoes, gates and levels that move.

None of it moves an attack. An echo is no hit: whoever plays the groove strikes the drum once.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d, uniform_filter1d
from scipy.signal import butter, istft, lfilter, sosfilt, stft

from corpus import RATE

Mono = NDArray[np.float64]
FRAME, HOP = 2048, 512


def worked(sound: Mono, beat_s: float, rng: np.random.Generator) -> Mono:
    """Return a loop with one to three of the treatments, in any order, at the level it had."""
    peak = float(np.abs(sound).max()) + 1e-9
    made = sound / peak
    for way in rng.choice(len(WAYS), int(rng.integers(1, 4)), replace=False):
        made = WAYS[way](made, beat_s, rng)
        made = made / (float(np.abs(made).max()) + 1e-9)
    return np.asarray(made * peak)


def _ducked(sound: Mono, beat_s: float, rng: np.random.Generator) -> Mono:
    """Fall on every beat, or every other, and come back until the next, as under a kick that is not in the loop."""
    every = beat_s * float(rng.choice([1.0, 1.0, 2.0]))
    since = (np.arange(len(sound)) / RATE + rng.choice([0.0, 0.5]) * every) % every
    fall = 1.0 - np.minimum(1.0, since / rng.uniform(0.25, 0.9) / every) ** rng.uniform(0.6, 2.0)
    smooth = uniform_filter1d(fall, int(0.005 * RATE), mode="wrap")
    return np.asarray(sound * 10.0 ** (-rng.uniform(3.0, 14.0) * smooth / 20.0))


def _swept(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Open or close a low pass, or a high pass, through the loop."""
    hz, _, parts = stft(sound, RATE, nperseg=FRAME, noverlap=FRAME - HOP)
    high = rng.random() < 0.3
    ends = np.log(rng.uniform(40.0, 700.0, 2) if high else rng.uniform(700.0, 14_000.0, 2))
    way = np.linspace(0.0, 1.0, parts.shape[1])
    if rng.random() < 0.4:
        way = 0.5 - 0.5 * np.cos(2.0 * np.pi * way * rng.integers(1, 5))
    edge = np.exp(ends[0] + (ends[1] - ends[0]) * way)
    over = np.maximum(hz, 1.0)[:, None] / edge[None, :]
    gain = 1.0 / (1.0 + (1.0 / over if high else over) ** 4)
    made = istft(parts * gain, RATE, nperseg=FRAME, noverlap=FRAME - HOP)[1]
    return np.asarray(made[: len(sound)])


def _sampled(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Hold every so many samples and keep few bits, as an old sampler does."""
    every = int(rng.integers(2, 6))
    held = sound[np.arange(len(sound)) // every * every]
    steps = 2.0 ** rng.integers(7, 12)
    return np.asarray(np.round(held * steps) / steps)


def _echoed(sound: Mono, beat_s: float, rng: np.random.Generator) -> Mono:
    """Repeat, softer and duller each time, in time with the loop or not."""
    late_s = beat_s * float(rng.choice([0.25, 0.5, 0.75, 1.0 / 3.0])) if rng.random() < 0.6 else float(rng.uniform(0.04, 0.4))
    late, again, level = max(64, round(late_s * RATE)), rng.uniform(0.0, 0.5), 10.0 ** (rng.uniform(-20.0, -7.0) / 20.0)
    dull = rng.uniform(0.2, 0.8)
    made, echo = sound.copy(), sound * level
    for _ in range(6):
        echo = lfilter([1.0 - dull], [1.0, -dull], np.roll(echo, late))
        made = made + echo
        echo = echo * again
        if again < 0.05:
            break
    return np.asarray(made)


def _combed(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Add the sound to itself a little later, by as much all the time or more and less."""
    late = rng.uniform(0.3, 5.0) / 1000.0 * RATE
    moved, times_a_s = (0.8, rng.uniform(0.1, 1.5)) if rng.random() < 0.6 else (0.0, 1.0)
    at = np.arange(len(sound))
    places = at - late * (1.0 + moved * np.sin(2.0 * np.pi * times_a_s * at / RATE))
    return np.asarray(sound + rng.uniform(-0.8, 0.8) * np.interp(places, at, sound, left=0.0))


def _muffled(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Keep what is low, or a band in the middle, as through a wall or a telephone."""
    if rng.random() < 0.65:
        return np.asarray(sosfilt(butter(2, rng.uniform(1_200.0, 6_000.0), "low", fs=RATE, output="sos"), sound))
    band = (rng.uniform(120.0, 400.0), rng.uniform(2_500.0, 7_000.0))
    return np.asarray(sosfilt(butter(2, band, "band", fs=RATE, output="sos"), sound))


def _worn(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Add hum, crackle and rumble."""
    t = np.arange(len(sound)) / RATE
    mains = float(rng.choice([50.0, 60.0]))
    hum = sum(rng.random() / k * np.sin(2 * np.pi * mains * k * t + rng.uniform(0, 6)) for k in (1, 2, 3, 5))
    made = sound + 10.0 ** rng.uniform(-3.0, -1.6) * hum
    clicks = rng.random(len(sound)) < rng.uniform(5.0, 60.0) / RATE
    crackle = lfilter([1.0], [1.0, -rng.uniform(0.3, 0.85)], clicks * rng.standard_normal(len(sound)) * rng.exponential(1.0, len(sound)))
    rumble = lfilter([0.01], [1.0, -0.99], rng.standard_normal(len(sound)))
    return np.asarray(made + 10.0 ** rng.uniform(-3.0, -1.7) * crackle + 10.0 ** rng.uniform(-3.5, -1.6) * rumble)


def _clipped(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Go far over full scale."""
    return np.asarray(np.clip(sound * 10.0 ** (rng.uniform(4.0, 18.0) / 20.0), -1.0, 1.0))


def _smashed(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Bring everything to about one level, quickly, and mix it with what was there."""
    level = uniform_filter1d(np.abs(sound), int(rng.uniform(0.004, 0.03) * RATE), mode="wrap")
    level = maximum_filter1d(level, int(0.002 * RATE), mode="wrap")
    flat = sound * (level + 10.0 ** rng.uniform(-2.5, -1.3)) ** -rng.uniform(0.5, 0.9)
    share = rng.uniform(0.3, 1.0)
    return np.asarray((1.0 - share) * sound + share * flat / (np.abs(flat).max() + 1e-9))


def _gated(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Shut where it is soft, so that rooms and tails are cut short."""
    late = int(0.006 * RATE)  # never open before the strike: a gate that opens early moves its attack
    level = maximum_filter1d(np.abs(sound), 2 * late, mode="wrap", origin=late - 1)
    release = np.exp(-1.0 / RATE / rng.uniform(0.02, 0.12))
    open_ = (level > 10.0 ** (rng.uniform(-34.0, -18.0) / 20.0)).astype(float)
    held = np.maximum(open_, lfilter([1.0 - release], [1.0, -release], open_))
    return np.asarray(sound * np.clip(held, 0.0, 1.0))


def _resonant(sound: Mono, _beat_s: float, rng: np.random.Generator) -> Mono:
    """Ring, as a resonant filter or a body does, at one pitch."""
    hz, width = np.exp(rng.uniform(np.log(90.0), np.log(4_000.0))), rng.uniform(0.985, 0.998)
    angle = 2.0 * np.pi * hz / RATE
    ring = lfilter([1.0 - width], [1.0, -2.0 * width * np.cos(angle), width**2], sound)
    return np.asarray(sound + rng.uniform(0.1, 0.6) * ring / (np.abs(ring).max() + 1e-9))


WAYS: tuple[Callable[[Mono, float, np.random.Generator], Mono], ...] = (
    _ducked, _swept, _sampled, _echoed, _combed, _muffled, _worn, _clipped, _smashed, _gated, _resonant,
)
