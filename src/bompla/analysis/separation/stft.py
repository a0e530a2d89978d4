"""A spectrogram with phase, and the way back: for pulling sounds apart."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]
Spectrogram = NDArray[np.complexfloating]


def stft(sound: Floats, size: int, hop: int) -> NDArray[np.complex64]:
    """Return frames of `size` samples each `hop` samples, shape (frames, bins), the first about sample 0."""
    padded = np.pad(sound, (size // 2, 2 * size))
    frames = 2 + (sound.size + size // 2) // hop
    views = np.lib.stride_tricks.sliding_window_view(padded, size)[::hop][:frames]
    return np.asarray(np.fft.rfft(views * _window(size), axis=1), np.complex64)


def istft(spectrogram: Spectrogram, size: int, hop: int, length: int) -> Floats:
    """Return the sound of frames made by `stft`, changed or not, `length` samples long."""
    window = _window(size)
    frames = np.fft.irfft(spectrogram, size, axis=1) * window
    out = np.zeros(hop * len(frames) + size)
    norm = np.zeros_like(out)
    square = window.astype(np.float64) ** 2
    count = len(frames)
    for start in range(0, size, hop):  # the same part of every frame at once; they do not overlap
        length_here = min(hop, size - start)
        places = np.s_[start : start + count * hop]
        out[places].reshape(count, hop)[:, :length_here] += frames[:, start : start + length_here]
        norm[places].reshape(count, hop)[:, :length_here] += square[start : start + length_here]
    sound = (out / np.maximum(norm, 1e-3))[size // 2 : size // 2 + length]
    return np.asarray(np.pad(sound, (0, length - len(sound))), np.float32)


@lru_cache(maxsize=4)
def _window(size: int) -> Floats:
    return np.asarray(np.sqrt(np.hanning(size + 1)[:-1]), np.float32)
