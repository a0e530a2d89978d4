"""Shaping a pad's sound before it is played: trim, tune, filter, envelope, direction, tail, pan.

Nothing here needs SciPy, so that the window can bake at once.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import soxr
from numpy.typing import NDArray

from bompla.model.shape import PLAIN, Shape
from bompla.units import ms_to_samples

Sound = NDArray[np.float32]

RING_S = 1.2
"""How much longer a sound becomes that rings on."""

RING_BLEND_MS = 20.0
RING_EDGES_HZ = (150.0, 600.0, 2_500.0, 7_000.0)
"""Between these a sound that rings on falls by itself."""

LEAST_LEFT_MS = 30.0
"""Trimming leaves so much of every sound, if it was as long."""

LEAST_FALL, MOST_FALL = 0.05, 0.9


def shaped(sound: Sound, sample_rate: int, shape: Shape) -> Sound:
    """Return a sound of shape (frames, 2) as a pad's shape makes it."""
    if shape == PLAIN:
        return sound
    sound = _trimmed(sound, sample_rate, shape)
    if shape.tune:
        sound = _tuned(sound, shape.tune)
    if shape.direction != "forward":
        back = sound[::-1]
        sound = back if shape.direction == "reverse" else np.concatenate([sound, back])
    if shape.tail in ("ring", "both"):
        sound = ringing(sound, sample_rate, back_and_forth=shape.tail == "both")
    if shape.filter != "none":
        sound = _filtered(sound, sample_rate, shape)
    sound = sound * envelope(shape, len(sound), sample_rate)[:, np.newaxis]
    if shape.pan:
        angle = (shape.pan + 1.0) * np.pi / 4.0
        sound = sound * np.array([np.cos(angle), np.sin(angle)], np.float32) * np.float32(np.sqrt(2.0))
    return np.ascontiguousarray(sound, dtype=np.float32)


def lead_ms(shape: Shape, attack_ms: float) -> float:
    """Return where the attack of a shaped sound lies from its start, given where it lay in the slice."""
    if shape.direction == "reverse":
        return 0.0
    speed = float(2.0 ** (shape.tune / 12.0))
    return max(0.0, attack_ms - shape.start_ms) / speed


def envelope(shape: Shape, frames: int, sample_rate: int) -> NDArray[np.float32]:
    """Return the loudness over time of a shape, shape (frames,): fades, attack, hold, decay."""
    t_ms = np.arange(frames) * (1000.0 / sample_rate)
    gain = np.ones(frames)
    if shape.attack_ms > 0.0:
        gain *= np.clip(t_ms / shape.attack_ms, 0.0, 1.0)
    if shape.decay_ms > 0.0 and shape.sustain < 1.0:
        past = np.clip((t_ms - shape.attack_ms - shape.hold_ms) / shape.decay_ms, 0.0, None)
        gain *= shape.sustain + (1.0 - shape.sustain) * np.clip((np.exp(-4.0 * past) - np.exp(-4.0)) / (1.0 - np.exp(-4.0)), 0.0, 1.0)
    if shape.fade_in_ms > 0.0:
        gain *= np.clip(t_ms / shape.fade_in_ms, 0.0, 1.0)
    if shape.fade_out_ms > 0.0:
        gain *= np.clip((t_ms[-1] - t_ms) / shape.fade_out_ms if frames else t_ms, 0.0, 1.0)
    return gain.astype(np.float32)


def response(shape: Shape, hz: NDArray[np.float64], sample_rate: int) -> NDArray[np.complex128]:
    """Return a shape's filter at frequencies in Hz (second-order sections; Bristow-Johnson, "Audio EQ cookbook", 1998)."""
    if shape.filter == "none":
        return np.ones(hz.shape, complex)
    w = 2.0 * np.pi * min(shape.cutoff_hz, 0.49 * sample_rate) / sample_rate
    cos, alpha = np.cos(w), np.sin(w) / (2.0 * shape.resonance)
    tops = {
        "low": ((1.0 - cos) / 2.0, 1.0 - cos, (1.0 - cos) / 2.0),
        "high": ((1.0 + cos) / 2.0, -1.0 - cos, (1.0 + cos) / 2.0),
        "band": (alpha, 0.0, -alpha),
        "notch": (1.0, -2.0 * cos, 1.0),
    }[shape.filter]
    z = np.exp(-2j * np.pi * hz / sample_rate)
    return np.asarray((tops[0] + tops[1] * z + tops[2] * z * z) / (1.0 + alpha - 2.0 * cos * z + (1.0 - alpha) * z * z))


def ringing(sound: Sound, sample_rate: int, *, back_and_forth: bool = False) -> Sound:
    """Return a sound that goes on: its second half again and again, blended, ever softer, each band as fast as it was falling.

    So a slower tempo leaves no hole between slices, a kick does not hum on under the hats, and a cymbal does not end with the kick
    that it was struck with.
    """
    half = sound[len(sound) // 2 :]
    blend = min(ms_to_samples(RING_BLEND_MS, sample_rate), len(half) // 3)
    if blend < 8:
        return sound
    wanted = len(sound) + round(RING_S * sample_rate)
    out = np.zeros((wanted, sound.shape[1]), np.float32)
    out[: len(sound) - blend] = sound[:-blend]
    for band in _bands(half, sample_rate):
        fall = float(np.sqrt((band[-blend:] ** 2).mean() / max(float((band[:blend] ** 2).mean()), 1e-12)))
        _ring_on(out, len(sound) - blend, band, blend, min(MOST_FALL, max(LEAST_FALL, fall)), back_and_forth=back_and_forth)
    last = wanted - len(sound)
    out[-last:] *= np.linspace(1.0, 0.0, last, dtype=np.float32)[:, np.newaxis] ** 2
    return out


def _ring_on(out: Sound, at: int, piece: Sound, blend: int, fall: float, *, back_and_forth: bool) -> None:
    """Add a piece to what is there from its last `blend` frames on, which lie at frame `at`: then again and again, softer by `fall`."""
    turn = np.linspace(0.0, 1.0, blend, dtype=np.float32)[:, np.newaxis]
    ending, gain, backwards = piece[-blend:], 1.0, back_and_forth
    while at < len(out):
        gain *= 1.0 if backwards else fall
        if gain <= 0.001:
            out[at : at + blend] += (ending * (1.0 - turn))[: len(out) - at]
            return
        again = (piece[::-1] if backwards else piece) * np.float32(gain)
        joined = np.concatenate([ending * (1.0 - turn) + again[:blend] * turn, again[blend:-blend]])
        room = min(len(joined), len(out) - at)
        out[at : at + room] += joined[:room]
        at, ending = at + len(joined), again[-blend:]
        backwards = back_and_forth and not backwards


def _bands(sound: Sound, sample_rate: int) -> list[Sound]:
    """Return a sound in bands that add up to it."""
    size = 2 * len(sound)  # another length would part the bands elsewhere: kits sound as they did
    spectrum = np.fft.rfft(np.ascontiguousarray(sound.T), size)
    hz = np.fft.rfftfreq(size, 1.0 / sample_rate)
    bands: list[Sound] = []
    edges = [0.0, *(edge for edge in RING_EDGES_HZ if edge < 0.4 * sample_rate), np.inf]
    rest = sound
    for low, high in pairwise(edges[:-1]):
        inside = ((hz >= low) & (hz < high)).astype(np.float32)
        band = np.ascontiguousarray(np.fft.irfft(spectrum * inside, size)[:, : len(sound)].T, np.float32)
        bands.append(band)
        rest = rest - band
    return [*bands, rest]


def _trimmed(sound: Sound, sample_rate: int, shape: Shape) -> Sound:
    start = min(ms_to_samples(shape.start_ms, sample_rate), max(0, len(sound) - 64))
    least = min(len(sound), start + ms_to_samples(LEAST_LEFT_MS, sample_rate))  # layers are not all as long as the one that is seen
    end = max(start + 1, least, len(sound) - ms_to_samples(shape.end_ms, sample_rate))
    return sound[start:end]


def _tuned(sound: Sound, semitones: float) -> Sound:
    ratio = 2.0 ** (semitones / 12.0)
    made = soxr.resample(sound, ratio * 48_000.0, 48_000.0)
    return np.asarray(made, np.float32) if len(made) else sound[:1]


def _filtered(sound: Sound, sample_rate: int, shape: Shape) -> Sound:
    """Filter by the spectrum of sound and filter, with room for what rings on."""
    room = round(min(0.5, 12.0 * shape.resonance / shape.cutoff_hz) * sample_rate) + 256
    size = 1 << int(np.ceil(np.log2(len(sound) + room)))
    hz = np.asarray(np.fft.rfftfreq(size, 1.0 / sample_rate), np.float64)
    spectrum = np.asarray(np.fft.rfft(sound, size, axis=0), np.complex128)
    made = np.fft.irfft(spectrum * response(shape, hz, sample_rate)[:, np.newaxis], size, axis=0)
    return np.asarray(made[: len(sound) + room], np.float32)
