"""One band of a sound: its low, mid or high drums, to be heard against a lane."""

from __future__ import annotations

import numpy as np

from bompla.audio.clip import Clip

EDGE_OCTAVES = 0.25
"""A band's edges fall over so much on either side."""

CHUNK_S, OVERLAP_S = 30.0, 1.0


def only_band(clip: Clip, low_hz: float, high_hz: float) -> Clip:
    """Return a clip with only what lies between two pitches, its timing and length unchanged.

    A zero-phase filter in the frequency domain, in overlapping pieces of half a minute that are crossfaded.
    """
    size, over = round(CHUNK_S * clip.sample_rate), round(OVERLAP_S * clip.sample_rate)
    out = np.zeros_like(clip.samples)
    turn = np.linspace(0.0, 1.0, over, dtype=np.float32)[:, np.newaxis]
    for start in range(0, clip.frames, size):
        first, last = max(0, start - over), min(clip.frames, start + size)
        part = _filtered(clip.samples[first:last], clip.sample_rate, low_hz, high_hz)
        if start > 0:
            shared = min(over, len(part))
            part[:shared] *= turn[:shared]
            out[first : first + shared] *= (1.0 - turn)[:shared]
        out[first:last] += part
    return Clip(out, clip.sample_rate)


def _filtered(samples: np.ndarray, sample_rate: int, low_hz: float, high_hz: float) -> np.ndarray:
    spectrum = np.fft.rfft(samples, axis=0)
    octaves = np.log2(np.maximum(np.fft.rfftfreq(len(samples), 1.0 / sample_rate), 1.0))
    rise = np.clip((octaves - np.log2(max(low_hz, 1.0))) / (2.0 * EDGE_OCTAVES) + 0.5, 0.0, 1.0)
    fall = np.clip((np.log2(high_hz) - octaves) / (2.0 * EDGE_OCTAVES) + 0.5, 0.0, 1.0)
    gain = np.sin(0.5 * np.pi * rise) ** 2 * np.sin(0.5 * np.pi * fall) ** 2
    return np.asarray(np.fft.irfft(spectrum * gain[:, np.newaxis], len(samples), axis=0), np.float32)
