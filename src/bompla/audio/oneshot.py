"""A sound file as a single hit: what a pad plays of it."""

from __future__ import annotations

import numpy as np

from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.errors import SoundFileError

LONGEST_S = 12.0
RISES_AT = 10.0 ** (-42.0 / 20.0)
"""A hit begins where it first comes this near to its peak, 42 dB below."""

ENDS_AT = 10.0 ** (-72.0 / 20.0)
LEAD_S = 0.002


def one_shot(clip: Clip, sample_rate: int, name: str) -> tuple[Clip, int]:
    """Return a clip without the silence around its sound, at a sample rate in Hz, and the sample at which it rises.

    No more than 12 s are kept. Raises SoundFileError, naming the file, where it is silent.
    """
    whole = resampled(clip.part(0, round(4 * LONGEST_S * clip.sample_rate)), sample_rate)
    level = np.abs(whole.samples).max(axis=1)
    peak = float(level.max(initial=0.0))
    if peak < 1e-5:
        raise SoundFileError(f"{name} is silent; a pad cannot play it.")
    rises = int(np.argmax(level >= RISES_AT * peak))
    start = max(0, rises - round(LEAD_S * sample_rate))
    ends = int(np.flatnonzero(level >= ENDS_AT * peak)[-1]) + 1
    kept = whole.part(start, min(ends, start + round(LONGEST_S * sample_rate)))
    return Clip(kept.samples.copy(), sample_rate), rises - start
