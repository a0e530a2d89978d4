"""Measuring strikes: how loud each is, by stretch of time and band."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, HOP, Spectrum
from bompla.model.strike_levels import BAND_COUNT, EDGES_HZ, STRETCHES_MS, encoded

SKIPPED_FRAMES = 1
"""The frame at an attack is half of what was before."""

CHUNK_FRAMES = 1 << 16

SHORTEST_SHARE = 0.4
"""Of a stretch of time at least so much must be free of the next strike to say anything."""


def strike_levels(spectrum: Spectrum, samples: NDArray[np.int64], next_samples: NDArray[np.int64]) -> list[bytes]:
    """Return the levels of strikes, as `model.strike_levels` keeps them.

    `samples` are attacks and `next_samples` when the next strike begins for each, in samples at `ANALYSIS_RATE`. A stretch of time that
    the next strike cuts short counts as if it had gone on as it was.
    """
    group = np.searchsorted(np.array(EDGES_HZ[1:-1]), spectrum.centres_hz, side="right")
    into = np.zeros((spectrum.centres_hz.size, BAND_COUNT))
    into[np.arange(group.size), group] = 1.0
    summed = np.zeros((spectrum.frames + 1, BAND_COUNT))
    for at in range(0, spectrum.frames, CHUNK_FRAMES):
        upto = min(at + CHUNK_FRAMES, spectrum.frames)
        summed[at + 1 : upto + 1] = spectrum.power[at:upto].astype(np.float64) @ into
    np.cumsum(summed, axis=0, out=summed)
    first = np.round(samples / HOP).astype(np.int64) + SKIPPED_FRAMES
    last = np.minimum(np.maximum(np.round(next_samples / HOP).astype(np.int64) - 2, first + 1), spectrum.frames)
    power = np.full((samples.size, len(STRETCHES_MS), BAND_COUNT), np.nan)
    for n, (from_ms, to_ms) in enumerate(STRETCHES_MS):
        begin, end = (first + round(ms * ANALYSIS_RATE / 1000.0 / HOP) for ms in (from_ms, to_ms))
        until = np.minimum(end, last)
        share = (until - begin) / (end - begin)
        known = (share >= SHORTEST_SHARE) | ((n == 0) & (until > begin))
        energy = summed[np.clip(until, 0, spectrum.frames)] - summed[np.clip(begin, 0, spectrum.frames)]
        power[known, n] = energy[known] / share[known, np.newaxis]
    return [encoded(one) for one in power]
