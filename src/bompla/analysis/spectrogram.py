"""The spectrogram, for looking at: level by time and pitch."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip

Scale = Literal["mel", "linear"]

ROWS = 160
FFT_SIZE = 2048
FLOOR_DB = -110.0
HIGHEST_HZ = 18_000.0
TILT_DB = 4.0
"""What each octave is lifted by, so that cymbals can be seen beside kicks."""

MOST_FRAMES = 120_000
_CHUNK = 2048


@dataclass(frozen=True, eq=False)
class Spectrogram:
    """Levels of shape (frames, rows), 0 at `FLOOR_DB` and 255 at the loudest; the lowest pitch first.

    `step_s` is the time from frame to frame; `edges_hz` (rows + 1,) are the bounds of the rows.
    """

    levels: NDArray[np.uint8]
    step_s: float
    edges_hz: NDArray[np.float64]

    def row_of(self, hz: float) -> float:
        """Return the row, with its part, in which a frequency lies."""
        return float(np.interp(hz, self.edges_hz, np.arange(self.edges_hz.size)))


def spectrogram(clip: Clip, scale: Scale = "mel") -> Spectrogram:
    """Return the spectrogram of a clip's mono sum on a mel (O'Shaughnessy, 1987) or a linear scale."""
    rate = clip.sample_rate
    top = min(HIGHEST_HZ, rate / 2.0)
    if scale == "mel":
        edges = 700.0 * (10.0 ** (np.linspace(0.0, 2595.0 * np.log10(1.0 + top / 700.0), ROWS + 1) / 2595.0) - 1.0)
    else:
        edges = np.linspace(0.0, top, ROWS + 1)
    hop = max(128, -(-clip.frames // MOST_FRAMES), round(rate * 0.003))
    mono = np.concatenate([np.zeros(FFT_SIZE // 2, np.float32), clip.mono, np.zeros(FFT_SIZE, np.float32)])
    frames = 1 + clip.frames // hop
    views = np.lib.stride_tricks.sliding_window_view(mono, FFT_SIZE)[::hop][:frames]
    window = np.hanning(FFT_SIZE).astype(np.float32)
    middles = 0.5 * (edges[1:] + edges[:-1]) * FFT_SIZE / rate
    first = np.clip(np.floor(edges[:-1] * FFT_SIZE / rate).astype(int), 0, FFT_SIZE // 2)
    last = np.clip(np.ceil(edges[1:] * FFT_SIZE / rate).astype(int), first + 1, FFT_SIZE // 2 + 1)
    narrow = last - first <= 2
    tilt_db = (TILT_DB * np.log2(np.maximum(0.5 * (edges[1:] + edges[:-1]), 60.0) / 1000.0)).astype(np.float32)
    levels = np.empty((frames, ROWS), np.float32)
    for start in range(0, frames, _CHUNK):
        power = np.abs(np.fft.rfft(views[start : start + _CHUNK] * window, axis=1)) ** 2
        total = np.concatenate([np.zeros((power.shape[0], 1), power.dtype), np.cumsum(power, axis=1)], axis=1)
        mean = (total[:, last] - total[:, first]) / (last - first)
        below = np.minimum(middles.astype(int), FFT_SIZE // 2 - 1)
        share = (middles - below).astype(np.float32)
        between = power[:, below] * (1.0 - share) + power[:, below + 1] * share
        levels[start : start + _CHUNK] = 10.0 * np.log10(np.where(narrow, between, mean) + 1e-12) + tilt_db
    levels -= levels.max(initial=-120.0)
    return Spectrogram(np.round(255.0 * np.clip(1.0 - levels / FLOOR_DB, 0.0, 1.0)).astype(np.uint8), hop / rate, edges)
