"""The ceiling: what plays never leaves the range of a device, and is left alone below -1 dB."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bompla.units import db_to_gain, gain_to_db

CEILING_DB = -1.0
HOLD_S, RELEASE_S = 0.05, 0.25
ATTACK_FRAMES = 24


class Ceiling:
    """Turns what is over `CEILING_DB` down at once, and lets go slowly; what is below passes as it is.

    It has no lookahead and so no delay; the few frames in which it takes hold are cut off at full scale.
    """

    def __init__(self, sample_rate: int) -> None:
        self._top = db_to_gain(CEILING_DB)
        self._gain = 1.0
        self._held = 0
        self._hold = round(HOLD_S * sample_rate)
        self._back = 1.0 / (RELEASE_S * sample_rate)

    def apply(self, block: NDArray[np.float32]) -> float:
        """Hold a block of shape (frames, channels) under the ceiling, in place, and return its peak as it came."""
        frames = len(block)
        peak = float(np.abs(block).max(initial=0.0))
        if peak <= self._top and self._gain >= 1.0:
            return peak
        wanted = min(1.0, self._top / max(peak, 1e-9))
        before = self._gain
        if wanted < before:
            self._gain, self._held = wanted, self._hold
            turn = np.minimum(1.0, np.arange(1, frames + 1) / ATTACK_FRAMES)
        elif self._held > 0:
            self._held -= frames
            turn = np.zeros(frames)
        else:
            self._gain = min(wanted, before + self._back * frames)
            turn = np.arange(1, frames + 1) / frames
        block *= (before + (self._gain - before) * turn).astype(np.float32)[:, np.newaxis]
        np.clip(block, -1.0, 1.0, out=block)
        return peak


LOOKAHEAD_BLOCKS, BLOCK = 6, 32


def held_below(sound: NDArray[np.float32], sample_rate: int, peaks: NDArray[np.float64]) -> tuple[NDArray[np.float32], float]:
    """Return a whole sound of shape (frames, channels) under the ceiling, for files, and by how many dB it was turned down at most.

    `peaks` are the levels to be held, one for each `BLOCK` frames. It knows what comes, so it turns down ahead of a peak and cuts
    nothing off; what stays below the ceiling all the time comes back untouched.
    """
    top = db_to_gain(CEILING_DB)
    if not peaks.size or float(peaks.max()) <= top:
        return sound, 0.0
    wanted = np.minimum(1.0, top / np.maximum(peaks, 1e-9))
    ahead = np.pad(wanted, LOOKAHEAD_BLOCKS + 1, constant_values=1.0)
    least = np.lib.stride_tricks.sliding_window_view(ahead, 2 * LOOKAHEAD_BLOCKS + 3).min(axis=1)
    back = BLOCK / (RELEASE_S * sample_rate)
    gain = np.empty(len(least))
    now = 1.0
    for n, value in enumerate(least.tolist()):
        now = min(value, now + back)
        gain[n] = now
    even = np.full(LOOKAHEAD_BLOCKS + 1, 1.0 / (LOOKAHEAD_BLOCKS + 1))
    smooth = np.minimum(np.convolve(np.pad(gain, LOOKAHEAD_BLOCKS // 2, mode="edge"), even, "valid"), wanted)
    at = (np.arange(len(smooth)) + 0.5) * BLOCK
    curve = np.minimum(np.interp(np.arange(len(sound)), at, smooth), np.repeat(wanted, BLOCK)[: len(sound)])
    return (sound * curve[:, np.newaxis]).astype(np.float32), -gain_to_db(float(curve.min()))
