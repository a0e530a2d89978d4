"""How loud a clip sounds."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.units import SILENCE_DB

_MAX_FFT_FRAMES = 1 << 20


def loudness_db(clip: Clip) -> float:
    """Return the K-weighted loudness of a whole clip in LUFS, `SILENCE_DB` for silence.

    The K weighting of ITU-R BS.1770-4 is applied in the frequency domain and the power summed
    over all channels by Parseval's theorem. There is no gate: a loop is short and repeats, so
    its rests belong to how loud it is.
    """
    power = 0.0
    for start in range(0, clip.frames, _MAX_FFT_FRAMES):
        part = clip.samples[start : start + _MAX_FFT_FRAMES]
        size = 1 << max(4, (part.shape[0] - 1).bit_length())
        spectrum = np.abs(np.fft.rfft(part, size, axis=0)) ** 2
        weighted = spectrum * _k_weight(size, clip.sample_rate)[:, np.newaxis]
        power += float(2.0 * weighted.sum() - weighted[0].sum() - weighted[-1].sum()) / size
    mean = power / max(1, clip.frames)
    return -0.691 + 10.0 * float(np.log10(mean)) if mean > 1e-12 else SILENCE_DB


def _k_weight(size: int, sample_rate: int) -> NDArray[np.float64]:
    """Return the squared magnitude of the two K filters at each bin, from their analogue prototypes."""
    frequency = np.fft.rfftfreq(size, 1.0 / sample_rate)
    s = 1j * frequency
    f0, gain_db, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    high = 10.0 ** (gain_db / 20.0)
    band = high**0.4996667741545416
    shelf = (high * s**2 + band * f0 / q * s + f0**2) / (s**2 + f0 / q * s + f0**2)
    f1, q1 = 38.13547087602444, 0.5003270373238773
    high_pass = s**2 / (s**2 + f1 / q1 * s + f1**2)
    weight: NDArray[np.float64] = np.abs(shelf * high_pass) ** 2
    return weight
