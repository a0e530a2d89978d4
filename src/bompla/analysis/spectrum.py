"""The one spectral pass that the whole analysis feeds on."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.audio.resample import resampled

ANALYSIS_RATE = 44_100
HOP = 128
FFT_SIZE = 1024
BANDS_PER_OCTAVE = 5
LOWEST_HZ, HIGHEST_HZ = 40.0, 17_500.0
_CHUNK_FRAMES = 2048
_QUIET_PEAK = 1e-4

Floats = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Spectrum:
    """A mono signal at `ANALYSIS_RATE`, scaled to a peak of 1, and its power by bands.

    `power` has shape (frames, bands); frame k is centred on sample k * `HOP`. `centres_hz` has
    shape (bands,).
    """

    signal: Floats
    power: Floats
    centres_hz: NDArray[np.float64]

    @property
    def frames(self) -> int:
        """The number of frames."""
        return int(self.power.shape[0])

    def between(self, low_hz: float, high_hz: float) -> Floats:
        """Return the power from `low_hz` up to `high_hz` in each frame, shape (frames,)."""
        chosen = (self.centres_hz >= low_hz) & (self.centres_hz < high_hz)
        return np.asarray(self.power[:, chosen].sum(axis=1))


def spectrum_of(clip: Clip) -> Spectrum | None:
    """Return the spectral pass over a clip, None where the clip is silent (below -80 dB)."""
    mono = resampled(Clip(clip.mono, clip.sample_rate), ANALYSIS_RATE).samples[:, 0]
    mono = mono - mono.mean(dtype=np.float64).astype(np.float32)
    peak = float(np.abs(mono).max()) if mono.size else 0.0
    if peak < _QUIET_PEAK:
        return None
    signal = np.ascontiguousarray(mono / np.float32(peak))
    weights, centres = _bands()
    padded = _padded(signal)
    frames = 1 + signal.size // HOP
    views = np.lib.stride_tricks.sliding_window_view(padded, FFT_SIZE)[::HOP][:frames]
    window = np.hanning(FFT_SIZE + 1)[:-1].astype(np.float32)
    window /= window.sum() / 2.0
    power = np.empty((frames, centres.size), dtype=np.float32)
    for start in range(0, frames, _CHUNK_FRAMES):
        spectra = np.fft.rfft(views[start : start + _CHUNK_FRAMES] * window, axis=1)
        squares = spectra.real**2 + spectra.imag**2
        power[start : start + _CHUNK_FRAMES] = squares @ weights
    return Spectrum(signal, power, centres)


def _padded(signal: Floats) -> Floats:
    """Return the signal after silence, so that a first hit is an attack, and mirrored at its end, which is none."""
    tail = signal[-2 : -2 - FFT_SIZE : -1]
    silence = np.zeros(FFT_SIZE - tail.size, np.float32)
    return np.concatenate([np.zeros(FFT_SIZE // 2, np.float32), signal, tail, silence])


@lru_cache(maxsize=1)
def _bands() -> tuple[Floats, NDArray[np.float64]]:
    """Return triangular bands, evenly spaced in octaves and never narrower than a bin."""
    bin_hz = ANALYSIS_RATE / FFT_SIZE
    count = int(np.log2(HIGHEST_HZ / LOWEST_HZ) * BANDS_PER_OCTAVE) + 3
    edges = LOWEST_HZ * 2.0 ** ((np.arange(count) - 1) / BANDS_PER_OCTAVE)
    for index in range(1, count):
        edges[index] = max(edges[index], edges[index - 1] + bin_hz)
    edges = edges[edges < ANALYSIS_RATE / 2]
    bins = np.arange(FFT_SIZE // 2 + 1) * bin_hz
    rising = (bins[:, None] - edges[None, :-2]) / (edges[1:-1] - edges[:-2])
    falling = (edges[None, 2:] - bins[:, None]) / (edges[2:] - edges[1:-1])
    weights = np.clip(np.minimum(rising, falling), 0.0, None).astype(np.float32)
    return weights, edges[1:-1]
