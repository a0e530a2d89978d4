"""How loud a clip sounds."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.units import SILENCE_DB

BLOCK_S, OVERLAP = 0.4, 4
LOWEST_LUFS, GATE_LU = -70.0, -10.0
_OFFSET_DB = -0.691
_MAX_FFT_FRAMES = 1 << 20


def loudness_db(clip: Clip) -> float:
    """Return the gated loudness of a whole clip in LUFS, `SILENCE_DB` for silence.

    As in ITU-R BS.1770-4: K-weighted power summed over channels, in blocks of 400 ms that overlap by three quarters, those under
    -70 LUFS and then those 10 LU under the rest left out; so a loop with rests is as loud as what is played in it. The weighting is
    applied in the frequency domain. A loop goes round, and so do its blocks; what is shorter than a block is one.
    """
    power = _weighted_power(clip)
    step = max(1, round(BLOCK_S / OVERLAP * clip.sample_rate))
    if power.size <= OVERLAP * step:
        blocks = np.array([power.mean() if power.size else 0.0])
    else:
        summed = np.concatenate([[0.0], np.cumsum(np.concatenate([power, power[: OVERLAP * step]]))])
        starts = np.arange(0, power.size, step)
        blocks = (summed[starts + OVERLAP * step] - summed[starts]) / (OVERLAP * step)
    heard = blocks[blocks > 10.0 ** ((LOWEST_LUFS - _OFFSET_DB) / 10.0)]
    if not heard.size:
        return SILENCE_DB
    heard = heard[heard > heard.mean() * 10.0 ** (GATE_LU / 10.0)]
    return _OFFSET_DB + 10.0 * float(np.log10(heard.mean()))


def _weighted_power(clip: Clip) -> NDArray[np.float64]:
    """Return the K-weighted power of each frame, summed over channels."""
    power = np.empty(clip.frames)
    for start in range(0, clip.frames, _MAX_FFT_FRAMES):
        part = clip.samples[start : start + _MAX_FFT_FRAMES]
        size = 1 << max(4, (part.shape[0] - 1).bit_length())
        spectrum = np.fft.rfft(part, size, axis=0) * np.sqrt(_k_weight(size, clip.sample_rate))[:, np.newaxis]
        weighted = np.fft.irfft(spectrum, size, axis=0)[: part.shape[0]]
        power[start : start + part.shape[0]] = np.square(weighted).sum(axis=1)
    return power


@lru_cache(maxsize=4)
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
