"""The grid a pattern lies on, judged beat by beat: straight or in three."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from bompla.model.document import Hit

STRAIGHT, THIRDS = 4, 3
_EARLY_BEATS = 0.1
_DOUBT = 0.02


def beat_divisions(at_beats: Sequence[float], beats: int, *, compound: bool = False) -> NDArray[np.int64]:
    """Return for each beat how many steps it divides into: 4, or 3 where its hits lie nearer to thirds.

    A beat whose hits do not tell follows what the whole pattern does. Shape (beats,).
    """
    times = np.asarray(at_beats, dtype=np.float64)
    beat = np.floor(times + _EARLY_BEATS).astype(np.int64)
    inside = (beat >= 0) & (beat < beats)
    errors = {}
    for divisions in (STRAIGHT, THIRDS):
        distance = np.abs(times * divisions - np.round(times * divisions)) / divisions
        errors[divisions] = np.bincount(beat[inside], distance[inside] ** 2, minlength=beats)
    overall = STRAIGHT
    if compound or errors[THIRDS].sum() < 0.7 * errors[STRAIGHT].sum():
        overall = THIRDS
    judged = np.full(beats, overall, dtype=np.int64)
    judged[errors[STRAIGHT] + _DOUBT**2 < 0.5 * errors[THIRDS]] = STRAIGHT
    judged[errors[THIRDS] + _DOUBT**2 < 0.5 * errors[STRAIGHT]] = THIRDS
    return judged


def quantised(at_beats: Sequence[float], beats: int, *, compound: bool = False) -> NDArray[np.float64]:
    """Return times moved to the nearest step of their own beat's grid, none at or after the end."""
    times = np.asarray(at_beats, dtype=np.float64)
    if times.size == 0:
        return times
    divisions = beat_divisions(at_beats, beats, compound=compound)
    beat = np.clip(np.floor(times + _EARLY_BEATS).astype(np.int64), 0, beats - 1)
    steps = divisions[beat]
    moved = np.round(times * steps) / steps
    last = beats - 1.0 / steps
    return np.asarray(np.clip(moved, 0.0, np.where(moved >= beats, last, moved)))


def offset_beats(hit: Hit, divisions: NDArray[np.int64]) -> float:
    """Return how far behind its nearest step a hit lies, in beats; negative is ahead."""
    beat = int(np.clip(np.floor(hit.at_beats + _EARLY_BEATS), 0, len(divisions) - 1))
    steps = int(divisions[beat])
    return float(hit.at_beats - round(hit.at_beats * steps) / steps)
