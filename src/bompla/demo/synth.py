"""Drum synthesis: modal membranes, noise and inharmonic metal, one strike at a time.

Every strike begins to sound at its first sample, so that a strike's place in a mix is its true
acoustic onset. A drum kit is a set of parameters drawn once; each strike varies a little.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfilt

Mono = NDArray[np.float64]

MEMBRANE_RATIOS = np.array([1.0, 1.594, 2.136, 2.296, 2.653, 2.918, 3.156, 3.501])
"""Zeros of the Bessel functions: the mode ratios of an ideal circular membrane (Rossing, 1992)."""

METAL_RATIOS = np.array([2.0, 3.0, 4.16, 5.43, 6.79, 8.21, 9.74, 11.37])


@dataclass(frozen=True)
class DrumKit:
    """The parameters of a drum kit: pitches in Hz, decays in seconds, brightness from 0 to 1."""

    sample_rate: int
    kick_hz: float
    kick_decay_s: float
    kick_sweep: float
    kick_click: float
    snare_hz: float
    snare_decay_s: float
    snare_wires: float
    tom_hz: float
    tom_decay_s: float
    rim_hz: float
    metal_hz: float
    hat_decay_s: float
    hat_open_decay_s: float
    ride_hz: float
    crash_decay_s: float
    shaker_rise_s: float
    brightness: float


def draw_kit(rng: np.random.Generator, sample_rate: int = 44_100, width: float = 1.0) -> DrumKit:
    """Return a kit drawn at random; `width` 0 gives the middle of every range, 1 all of it."""

    def within(low: float, high: float) -> float:
        middle, half = (low + high) / 2.0, (high - low) / 2.0
        return float(middle + half * width * rng.uniform(-1.0, 1.0))

    return DrumKit(
        sample_rate=sample_rate,
        kick_hz=within(42.0, 66.0),
        kick_decay_s=within(0.12, 0.34),
        kick_sweep=within(0.8, 3.5),
        kick_click=within(0.15, 0.6),
        snare_hz=within(155.0, 235.0),
        snare_decay_s=within(0.10, 0.24),
        snare_wires=within(0.5, 1.1),
        tom_hz=within(78.0, 112.0),
        tom_decay_s=within(0.22, 0.42),
        rim_hz=within(380.0, 560.0),
        metal_hz=within(290.0, 420.0),
        hat_decay_s=within(0.028, 0.065),
        hat_open_decay_s=within(0.22, 0.48),
        ride_hz=within(310.0, 460.0),
        crash_decay_s=within(0.9, 1.8),
        shaker_rise_s=within(0.010, 0.028),
        brightness=within(0.25, 0.9),
    )


def strike(kit: DrumKit, drum: str, velocity: int, rng: np.random.Generator) -> Mono:
    """Return one strike as mono samples that begin at once and end in silence.

    Its level follows the square of the velocity, its brightness rises with it. `drum` is a key of
    `VOICES`.
    """
    force = max(1, velocity) / 127.0
    sound = VOICES[drum](kit, force, rng)
    peak = float(np.abs(sound).max()) or 1.0
    level = LEVELS[drum] * force**2 * 10.0 ** (rng.normal(0.0, 0.25) / 20.0)
    return _ended(sound * (level / peak), kit.sample_rate)


def _time(kit: DrumKit, seconds: float) -> Mono:
    return np.arange(int(seconds * kit.sample_rate)) / kit.sample_rate


def _filtered(sound: Mono, rate: int, low_hz: float | None, high_hz: float | None, order: int = 2) -> Mono:
    top = 0.46 * rate
    if low_hz is not None:
        sound = sosfilt(butter(order, min(low_hz, top), "highpass", fs=rate, output="sos"), sound)
    if high_hz is not None and high_hz < top:
        sound = sosfilt(butter(order, high_hz, "lowpass", fs=rate, output="sos"), sound)
    return np.asarray(sound, dtype=np.float64)


def _ended(sound: Mono, rate: int) -> Mono:
    fade = min(len(sound), int(0.01 * rate))
    sound[len(sound) - fade :] *= np.linspace(1.0, 0.0, fade)
    return sound


def _levelled(sound: Mono) -> Mono:
    return np.asarray(sound / (np.abs(sound).max() + 1e-9))


def _mixed(*parts: Mono) -> Mono:
    return np.asarray(np.sum(parts, axis=0))


def _noise(kit: DrumKit, t: Mono, rng: np.random.Generator, low_hz: float, high_hz: float) -> Mono:
    return _filtered(rng.standard_normal(len(t)), kit.sample_rate, low_hz, high_hz)


def _modes(t: Mono, hz: Mono, decay_s: Mono, gain: Mono, rng: np.random.Generator) -> Mono:
    """Sum decaying sine modes that start at zero, each detuned by a little."""
    sound = np.zeros_like(t)
    for f, tau, g in zip(hz, decay_s, gain, strict=True):
        sound += g * np.sin(2.0 * np.pi * f * rng.normal(1.0, 0.002) * t) * np.exp(-t / tau)
    return sound


def _membrane(
    kit: DrumKit, t: Mono, rng: np.random.Generator, *, hz: float, decay_s: float, sweep: float, force: float
) -> Mono:
    """Return a struck head whose pitch falls as its tension settles."""
    glide = 1.0 + sweep * force * np.exp(-t / 0.018)
    phase = 2.0 * np.pi * np.cumsum(hz * glide) / kit.sample_rate
    sound = np.zeros_like(t)
    for index, ratio in enumerate(MEMBRANE_RATIOS[:6]):
        gain = (0.55 * force + 0.08) ** index * rng.uniform(0.7, 1.2) if index else 1.0
        sound += gain * np.sin(phase * ratio) * np.exp(-t / (decay_s / (1.0 + 0.9 * index)))
    return sound


def _kick(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 0.12 + 2.2 * kit.kick_decay_s)
    body = _membrane(kit, t, rng, hz=kit.kick_hz, decay_s=kit.kick_decay_s, sweep=kit.kick_sweep, force=force)
    click = _noise(kit, t, rng, 600.0, 1800.0 + 4500.0 * kit.brightness * force) * np.exp(-t / 0.004)
    return _mixed(body, kit.kick_click * (0.4 + force) * _levelled(click))


def _snare(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 0.1 + 2.6 * kit.snare_decay_s)
    head = _membrane(kit, t, rng, hz=kit.snare_hz, decay_s=0.055, sweep=0.25, force=force)
    second = _modes(t, kit.snare_hz * np.array([1.72, 2.41]), np.array([0.05, 0.035]), np.array([0.5, 0.3]), rng)
    top = 4500.0 + 9000.0 * kit.brightness * (0.35 + 0.65 * force)
    wires = _noise(kit, t, rng, 900.0, top) * np.exp(-t / (kit.snare_decay_s * (0.45 + 0.55 * force)))
    snap = _noise(kit, t, rng, 1500.0, top) * np.exp(-t / 0.006)
    rattle = 0.95 * _levelled(wires) + 0.7 * force * _levelled(snap)
    return _mixed(0.75 * head, 0.4 * second, kit.snare_wires * rattle)


def _rim(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 0.22)
    hz = kit.rim_hz * np.array([1.0, 2.31, 3.62, 5.43, 7.9])
    decay = np.array([0.028, 0.022, 0.016, 0.010, 0.006])
    wood = _modes(t, hz, decay, np.array([0.7, 1.0, 0.8, 0.5, 0.3 + force]), rng)
    tick = _noise(kit, t, rng, 2000.0, 9000.0) * np.exp(-t / 0.0025)
    return _mixed(wood, 0.8 * _levelled(tick))


def _clap(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 0.4)
    bursts = np.exp(-t / 0.004)
    for index in range(1, 4):
        at = index * 0.0095 + rng.normal(0.0, 0.0008)
        decay = 0.005 if index < 3 else 0.05 + 0.05 * force
        bursts = bursts + (t >= at) * np.exp(-np.maximum(t - at, 0.0) / decay)
    return _noise(kit, t, rng, 750.0, 2600.0 + 4000.0 * kit.brightness) * bursts


def _metal(
    kit: DrumKit, t: Mono, rng: np.random.Generator, *, hz: float, low_hz: float, decay_s: float, force: float
) -> Mono:
    """Return clashing metal: partials of no common pitch that modulate each other, and hiss."""
    sound = np.zeros_like(t)
    for ratio in METAL_RATIOS:
        f = hz * ratio * rng.normal(1.0, 0.003)
        wobble = 1.3 * np.sin(2.0 * np.pi * f * 1.483 * t + rng.uniform(0.0, 6.28))
        sound += np.sin(2.0 * np.pi * f * t + rng.uniform(0.0, 6.28) + wobble)
    sound = 0.45 * sound / len(METAL_RATIOS) + 0.42 * rng.standard_normal(len(t))
    bright = 7000.0 + 11000.0 * kit.brightness * (0.4 + 0.6 * force)
    return _filtered(sound, kit.sample_rate, low_hz, bright) * np.exp(-t / decay_s)


def _hat_closed(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    decay = kit.hat_decay_s * (0.7 + 0.5 * force)
    t = _time(kit, 8.0 * decay)
    return _metal(kit, t, rng, hz=kit.metal_hz * 2.0, low_hz=5200.0, decay_s=decay, force=force)


def _hat_pedal(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 0.3)
    sound = _metal(kit, t, rng, hz=kit.metal_hz * 1.7, low_hz=3600.0, decay_s=kit.hat_decay_s * 0.8, force=force * 0.5)
    return np.asarray(sound * (1.0 - np.exp(-t / 0.0015)))


def _hat_open(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 4.5 * kit.hat_open_decay_s)
    decay = kit.hat_open_decay_s * (0.8 + 0.3 * force)
    return _metal(kit, t, rng, hz=kit.metal_hz * 2.0, low_hz=4700.0, decay_s=decay, force=force)


def _ride(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 2.4)
    wash = _metal(kit, t, rng, hz=kit.ride_hz * 1.3, low_hz=2600.0, decay_s=0.75, force=force * 0.6)
    hz = kit.ride_hz * np.array([5.9, 8.3, 9.7, 12.6])
    ping = _modes(t, hz, np.array([0.5, 0.35, 0.3, 0.16]), np.array([0.5, 0.7, 0.5, 0.5]), rng)
    stick = _noise(kit, t, rng, 3000.0, 12000.0) * np.exp(-t / 0.005)
    return _mixed(0.4 * _levelled(wash), 0.22 * ping, 0.5 * _levelled(stick))


def _crash(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 2.2 * kit.crash_decay_s)
    wash = _metal(kit, t, rng, hz=kit.ride_hz, low_hz=1400.0, decay_s=kit.crash_decay_s * 0.5, force=force)
    bloom = 0.45 + 0.55 * (1.0 - np.exp(-t / 0.012))
    stick = _noise(kit, t, rng, 2500.0, 11000.0) * np.exp(-t / 0.006)
    return _mixed(_levelled(wash) * bloom, 0.4 * _levelled(stick))


def _tom(ratio: float) -> Callable[[DrumKit, float, np.random.Generator], Mono]:
    def voice(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
        t = _time(kit, 0.15 + 2.4 * kit.tom_decay_s)
        body = _membrane(kit, t, rng, hz=kit.tom_hz * ratio, decay_s=kit.tom_decay_s, sweep=0.35, force=force)
        stick = _noise(kit, t, rng, 900.0, 3000.0 + 3500.0 * kit.brightness * force) * np.exp(-t / 0.005)
        return _mixed(body, 0.3 * _levelled(stick))

    return voice


def _shaker(kit: DrumKit, _force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 0.2)
    rise = np.minimum(1.0, (t + 0.0005) / kit.shaker_rise_s)
    fall = np.exp(-np.maximum(t - kit.shaker_rise_s, 0.0) / 0.022)
    return _noise(kit, t, rng, 4200.0, 9000.0 + 6000.0 * kit.brightness) * rise**1.3 * fall


def _perc(kit: DrumKit, force: float, rng: np.random.Generator) -> Mono:
    t = _time(kit, 0.45)
    hz = kit.rim_hz * np.array([1.18, 1.76, 3.4])
    return _modes(t, hz, np.array([0.11, 0.09, 0.03]), np.array([1.0, 0.8, 0.3 + 0.4 * force]), rng)


VOICES: dict[str, Callable[[DrumKit, float, np.random.Generator], Mono]] = {
    "kick": _kick,
    "snare": _snare,
    "rim": _rim,
    "clap": _clap,
    "hat_closed": _hat_closed,
    "hat_pedal": _hat_pedal,
    "hat_open": _hat_open,
    "ride": _ride,
    "crash": _crash,
    "tom_low": _tom(1.0),
    "tom_mid": _tom(1.38),
    "tom_high": _tom(1.85),
    "shaker": _shaker,
    "perc": _perc,
}

LEVELS = {
    "kick": 0.85,
    "snare": 0.72,
    "rim": 0.45,
    "clap": 0.5,
    "hat_closed": 0.26,
    "hat_pedal": 0.2,
    "hat_open": 0.28,
    "ride": 0.26,
    "crash": 0.42,
    "tom_low": 0.66,
    "tom_mid": 0.64,
    "tom_high": 0.6,
    "shaker": 0.17,
    "perc": 0.4,
}
"""The peak of a strike at full force, as in a mix of a whole kit."""

PANS = {
    "hat_closed": -0.35,
    "hat_pedal": -0.35,
    "hat_open": -0.35,
    "ride": 0.45,
    "crash": 0.3,
    "tom_high": -0.25,
    "tom_mid": 0.05,
    "tom_low": 0.35,
    "shaker": 0.4,
    "rim": 0.08,
    "perc": -0.2,
}
"""Where a drum stands, from -1 (left) to 1 (right); those not named stand in the middle."""
