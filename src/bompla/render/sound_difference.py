"""Where two sounds differ, by band and time, and by how much in all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.audio.loudness import loudness_db

FFT_SIZE, HOP_S = 2_048, 0.010
BANDS = 24
LOWEST_HZ, HIGHEST_HZ = 40.0, 16_000.0
FLOOR_DB = -60.0
"""What lies so far under the loudest counts as silence on both sides."""


@dataclass(frozen=True, eq=False)
class SoundDifference:
    """How much louder the second sound is, in dB, shape (frames, bands from low to high), a frame each `step_s`; `mean_db` without signs.

    The mean over bands spaced as mels, of levels held to 60 dB under the loudest: the log-mel distance.
    """

    louder_db: NDArray[np.float32]
    step_s: float
    mean_db: float


def sound_difference(one: Clip, other: Clip) -> SoundDifference:
    """Return where two sounds of one length and rate differ, once they are equally loud (ITU-R BS.1770)."""
    gain = 10.0 ** ((loudness_db(one) - loudness_db(other)) / 20.0)
    frames = min(one.frames, other.frames)
    first = _levels(one.mono[:frames], one.sample_rate)
    second = _levels(other.mono[:frames] * np.float32(gain), one.sample_rate)
    top = max(float(first.max(initial=-200.0)), float(second.max(initial=-200.0)))
    louder = np.maximum(second - top, FLOOR_DB) - np.maximum(first - top, FLOOR_DB)
    return SoundDifference(louder.astype(np.float32), HOP_S, round(float(np.abs(louder).mean()) if louder.size else 0.0, 3))


def _levels(mono: NDArray[np.float32], rate: int) -> NDArray[np.float64]:
    hop = round(HOP_S * rate)
    padded = np.concatenate([np.zeros(FFT_SIZE // 2, np.float32), mono, np.zeros(FFT_SIZE, np.float32)])
    views = np.lib.stride_tricks.sliding_window_view(padded, FFT_SIZE)[::hop][: max(1, len(mono) // hop)]
    power = np.abs(np.fft.rfft(views * np.hanning(FFT_SIZE).astype(np.float32), axis=1)) ** 2
    lowest, highest = (float(2595.0 * np.log10(1.0 + hz / 700.0)) for hz in (LOWEST_HZ, min(HIGHEST_HZ, rate / 2.0)))
    mels = np.linspace(lowest, highest, BANDS + 1)
    edges = np.clip(np.round(700.0 * (10.0 ** (mels / 2595.0) - 1.0) * FFT_SIZE / rate).astype(int), 0, FFT_SIZE // 2)
    first, last = edges[:-1], np.maximum(edges[1:], edges[:-1] + 1)
    total = np.concatenate([np.zeros((len(power), 1)), np.cumsum(power, axis=1)], axis=1)
    return np.asarray(10.0 * np.log10((total[:, last] - total[:, first]) / (last - first) + 1e-12))
