"""How long a beat may be: lengths at which attacks line up, fitted to them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.params import AnalysisParams
from bompla.analysis.tempo.evidence import GRID_SIGMA_S, TEMPO_CENTRE_BPM, Array, Evidence, grid_fits, judged_fits

COMBED_AT_ONCE = 256
WIDELY, LOOKED_CLOSELY = 4, 8
"""Of how many tempos one is looked at first, and around how many of those all are."""

SEARCHED = 16
"""How many beat lengths the search gives."""

SAME_BEAT = 0.02
"""Beats whose lengths differ by less than this share are one."""

LOOSE_S = 0.010
"""How far from its division of the beat an attack may lie and still count much for how long a beat is."""

PHASES, ON_BEAT = 48, 0.01
"""In how many places of the beat attacks are looked for first, and what those on it count for beside, as quarters tell no beats."""


def combed(evidence: Evidence, params: AnalysisParams) -> tuple[Array, Array, float]:
    """Return tempos in BPM, how well attacks line up on the beats of each and on their divisions, and the ratio they rise by, less 1."""
    bpms, step = _tempos(evidence, params)
    return bpms, _lined_up(evidence, bpms), step


def best_combed(evidence: Evidence, params: AnalysisParams) -> float:
    """Return how well attacks line up at the tempo at which they do best: looked for widely, then closely where that was best."""
    bpms, _ = _tempos(evidence, params)
    strength = _lined_up(evidence, bpms[::WIDELY])
    near = WIDELY * np.argsort(-strength)[:LOOKED_CLOSELY, None] + np.arange(1 - WIDELY, WIDELY)
    return max(float(strength.max()), float(_lined_up(evidence, bpms[np.unique(np.clip(near, 0, bpms.size - 1))]).max()))


def _tempos(evidence: Evidence, params: AnalysisParams) -> tuple[Array, float]:
    span = max(1.0, float(evidence.times_s[-1] - evidence.times_s[0]))
    step = min(0.002, 0.004 / span)
    return np.exp(np.arange(np.log(params.min_bpm), np.log(params.max_bpm), step)), step


def _lined_up(evidence: Evidence, bpms: Array) -> Array:
    """Return how well attacks line up on the beats of tempos and on their halves, thirds and quarters, shape (tempos,)."""
    weights = evidence.weights.astype(np.float32)
    strength = np.zeros(bpms.size)
    for start in range(0, bpms.size, COMBED_AT_ONCE):
        turns = evidence.times_s[None, :] * (bpms[start : start + COMBED_AT_ONCE, None] / 60.0)
        angle = (2.0 * np.pi * (turns - np.rint(turns))).astype(np.float32)
        x, y = np.cos(angle), np.sin(angle)
        # of twice the angle, twice that, and three times; in real numbers, of which the processor takes eight at once
        x2, y2 = 2.0 * x * x - 1.0, 2.0 * x * y
        x4, y4 = 2.0 * x2 * x2 - 1.0, 2.0 * x2 * y2
        x3, y3 = x2 * x - y2 * y, y2 * x + x2 * y
        for waves, share in (((x, y), 0.35), ((x2, y2), 0.35), ((x4, y4), 0.45), ((x3, y3), 0.4)):
            strength[start : start + COMBED_AT_ONCE] += share * np.hypot(waves[0] @ weights, waves[1] @ weights)
    return strength


def periods(evidence: Evidence, params: AnalysisParams) -> list[float]:
    """Return beat lengths at which attacks line up best, from a fine search over the tempo range."""
    bpms, strength, step = combed(evidence, params)
    strength = strength * np.exp(-0.25 * (np.log2(bpms / TEMPO_CENTRE_BPM) / 0.62) ** 2)
    chosen: list[float] = []
    same = int(SAME_BEAT / step)
    while len(chosen) < SEARCHED and strength.max() > 0.0:
        best = int(strength.argmax())
        chosen.append(60.0 / float(bpms[best]))
        strength[max(0, best - same) : best + same + 1] = 0.0
    return chosen


def regressed(evidence: Evidence, beats_s: Array) -> tuple[Array, Array]:
    """Return beat lengths and phases fitted to the attacks by weighted least squares, each of the shape of `beats_s`, (lengths,).

    Each attack is taken to its nearest division (quarters and thirds of a beat); those further
    off than chance allows do not count, and others the less the further they are off (Welsch's weights:
    Holland and Welsch, 1977), so that a swung or a late hit does not bend the beat. Repeated, so that a small
    error in the first guess cannot add up over the sound.
    """
    times, weights = evidence.times_s, evidence.weights
    beat_s = np.array(beats_s, dtype=float)
    phase, straight = _first_phases(evidence, beat_s)
    going = np.ones(beat_s.size, bool)
    for tolerance in (0.14, 0.10, 0.08):
        beats = (times - phase[:, None]) / beat_s[:, None]
        quarters, thirds = np.round(beats * 4.0) / 4.0, np.round(beats * 3.0) / 3.0
        nearest = np.where(straight[:, None] & (np.abs(quarters - beats) <= np.abs(thirds - beats)), quarters, thirds)
        off = np.abs(nearest - beats)
        used = weights * (off < tolerance) * np.where(nearest == np.round(nearest), 1.5, 1.0)
        used *= np.exp(-0.5 * (off * beat_s[:, None] / LOOSE_S) ** 2)
        counts = used > 0.0
        reach = np.where(counts, nearest, -np.inf).max(axis=1) - np.where(counts, nearest, np.inf).min(axis=1)
        slope, origin = _lines(nearest, times, used)
        going &= (np.count_nonzero(counts, axis=1) >= 3) & (reach >= 0.9) & (np.abs(slope / beat_s - 1.0) < 0.03)
        beat_s, phase = np.where(going, slope, beat_s), np.where(going, origin, phase)
    return beat_s, phase


def _first_phases(evidence: Evidence, beat_s: Array) -> tuple[Array, NDArray[np.bool_]]:
    """Return where beats of some lengths fit attacks best, and whether their quarters fit as well as their thirds."""
    shifts = np.arange(PHASES) / PHASES
    fits = np.empty((3, beat_s.size, PHASES))
    for row, length_s in enumerate(beat_s.tolist()):
        at = evidence.times_s / length_s - shifts[:, None]
        for which, n in enumerate((4.0, 3.0, 1.0)):
            divided = at * n
            divided -= np.rint(divided)
            fits[which, row] = np.exp(-0.5 * (divided * (length_s / n / GRID_SIGMA_S)) ** 2) @ evidence.weights
    quarters, thirds, beats = fits
    place = (np.maximum(quarters, thirds) + ON_BEAT * beats).argmax(axis=1)
    return shifts[place] * beat_s, quarters.max(axis=1) >= thirds.max(axis=1)


def _lines(x: Array, y: Array, weights: Array) -> tuple[Array, Array]:
    """Return slopes and origins of the lines nearest to points in the sense of weighted least squares; x and weights (lines, points)."""
    total = np.maximum(weights.sum(axis=1), 1e-12)
    x_mean, y_mean = (weights * x).sum(axis=1) / total, weights @ y / total
    away = x - x_mean[:, None]
    slope = (weights * away * (y - y_mean[:, None])).sum(axis=1) / np.maximum((weights * away**2).sum(axis=1), 1e-12)
    return slope, y_mean - slope * x_mean


def promise(evidence: Evidence, beats_s: Array, phases_s: Array) -> Array:
    """Return how far beats are worth a closer look: their fit, and how usual their tempo is (Parncutt, 1994); each (lengths,)."""
    at = (evidence.times_s - phases_s[:, None]) / beats_s[:, None]
    fit, _ = judged_fits(evidence, at, grid_fits(at, beats_s))
    return np.asarray(fit - 0.35 * 0.5 * (np.log2(60.0 / beats_s / TEMPO_CENTRE_BPM) / 0.62) ** 2)


def promising(evidence: Evidence, params: AnalysisParams) -> list[tuple[float, float]]:
    """Return beat lengths at which attacks line up, each with a place of the beat, the most promising first."""
    beats_s, phases_s = regressed(evidence, np.array(periods(evidence, params)))
    order = np.lexsort((phases_s, beats_s, -promise(evidence, beats_s, phases_s)))
    return list(zip(beats_s[order].tolist(), phases_s[order].tolist(), strict=True))
