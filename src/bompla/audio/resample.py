"""Changing the sample rate of a clip."""

from __future__ import annotations

import numpy as np
import soxr

from bompla.audio.clip import Clip


def resampled(clip: Clip, sample_rate: int) -> Clip:
    """Return the clip at another sample rate in Hz (high quality, linear phase, no delay)."""
    if clip.sample_rate == sample_rate:
        return clip
    samples = soxr.resample(clip.samples, clip.sample_rate, sample_rate, quality="HQ")
    return Clip(np.asarray(samples, dtype=np.float32), sample_rate)
