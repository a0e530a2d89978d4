"""Loops brought to another tempo at their own pitch: by a phase vocoder, in grains, or cut at the hits and laid out anew."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from bompla.render.stretch import stretched as vocoded
from corpus import RATE

Mono = NDArray[np.float64]
VOCODED, GRAINED = 0.45, 0.65
"""Up to where of one loops are brought there by the phase vocoder that the application plays with, and in grains; the others are cut."""

SAME_SLICE_S, BEFORE_S, FADE_S = 0.012, 0.0015, 0.004
"""Hits that near stay together; a cut is so long before them, and what is cut short fades so long."""


def stretched(sound: Mono, ratio: float, hits_s: Mono, rng: np.random.Generator) -> tuple[Mono, Mono]:
    """Return a sound played so many times as fast, and when its hits are then, in seconds."""
    way = rng.random()
    if way < VOCODED:
        return vocoded(sound[:, None].astype(np.float32), RATE, ratio)[:, 0].astype(np.float64), hits_s / ratio
    if way < GRAINED:
        return grained(sound, ratio, round(rng.uniform(0.012, 0.04) * RATE)), hits_s / ratio
    return sliced(sound, ratio, hits_s)


def grained(sound: Mono, ratio: float, size: int) -> Mono:
    """Return a sound of grains that overlap by half, each from where the tape would be."""
    hop = size // 2
    frames = round(len(sound) / ratio)
    at = np.round(np.arange(frames // hop + 2) * hop * ratio).astype(int)
    padded = np.pad(sound, (hop, 2 * size))
    parts = np.hanning(2 * hop + 1)[:-1] * padded[np.minimum(at[:, None] + np.arange(2 * hop), len(padded) - 1)]
    return _laid(parts, hop)[hop : hop + frames]


def _laid(parts: Mono, hop: int) -> Mono:
    """Return parts laid over one another, each a hop after the one before."""
    count, size = parts.shape
    made = np.zeros(size + hop * (count - 1))
    for first in range(0, size, hop):
        made[first : first + hop * count] += parts[:, first : first + hop].ravel()
    return made


def sliced(sound: Mono, ratio: float, hits_s: Mono) -> tuple[Mono, Mono]:
    """Return slices from hit to hit, each as fast as it was, laid out anew: with rests between them if slower, cut short if faster."""
    frames, before, fade = round(len(sound) / ratio), round(BEFORE_S * RATE), round(FADE_S * RATE)
    ordered = np.sort(hits_s)
    firsts = ordered[np.diff(ordered, prepend=-1.0) > SAME_SLICE_S]
    cuts = np.unique(np.concatenate([[0], np.maximum(0, np.round(firsts * RATE).astype(int) - before), [len(sound)]]))
    made, when_s = np.zeros(frames), hits_s / ratio
    for cut, end in pairwise(cuts):
        start = round((cut + before) / ratio) - before if cut else 0
        part = sound[cut : cut + min(end - cut, round(end / ratio) - start, frames - start)].copy()
        ending = min(fade, len(part))
        part[len(part) - ending :] *= np.linspace(1.0, 0.0, ending)
        made[start : start + len(part)] += part
        inside = (hits_s * RATE >= cut + before - 0.5) & (hits_s * RATE < end + before - 0.5)
        when_s[inside] = hits_s[inside] + (start - cut) / RATE
    return made, when_s
