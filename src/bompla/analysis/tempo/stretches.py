"""A recording parted into stretches of one tempo: where rests are, and where two combs explain more than one."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.params import AnalysisParams
from bompla.analysis.tempo.evidence import EXCERPT_S, GRID_SIGMA_S, Evidence, excerpt, part_of
from bompla.analysis.tempo.pieces import FEWEST, read_piece
from bompla.analysis.tempo.readings import Reading, confidence_of
from bompla.analysis.tempo.search import best_combed

SHORTEST_S = 16.0
"""What is shorter is one stretch."""

REST_S = 3.0
"""A rest so long always parts."""

LOOK_EVERY_S, LOOK_S = 4.0, 8.0
GAP_S, RARE_TIMES = 0.8, 2.5
PARTS_AT_GAP, PARTS_ANYWHERE = 0.03, 0.07
"""How much more two combs must explain than one, of all that is struck: at a gap that is rare, and anywhere."""

LEAST_S, LEAST_BARS = 4.0, 2.0

SAME_TEMPO, CARRIED_ON = 0.006, 0.2
"""How near tempos are one, and how far, in beats, the bars of one may be off those of the other."""

AFTER_REST = 2.5
"""What it is worth in log odds that a bar begins with the first attack after a rest, or with the first of another tempo."""

TURN_S, TURNS_FOR, AS_GOOD = 6.0, 1.0, 0.5
"""How far around a bound the place is looked for where the beat turns; what it must gain, and what hardly counts, in usual attacks."""


@dataclass(frozen=True, eq=False)
class HeardStretch:
    """A part of a recording, in seconds, and the ways to read it, best first; their times are those of the recording."""

    start_s: float
    end_s: float
    readings: list[Reading]

    @property
    def confidence(self) -> float:
        """How likely the best reading's tempo is, from 0 to 1."""
        return confidence_of(self.readings)


def stretches_of(evidence: Evidence, params: AnalysisParams) -> list[HeardStretch]:
    """Return the stretches of a recording that is read as a piece, in order; those in which too little is struck are left out."""
    bounds = _bounds(evidence, params)
    made = [_stretch(evidence, start_s, end_s, params) for start_s, end_s in pairwise(bounds)]
    for n in range(1, len(made)):
        before, after = made[n - 1], made[n]
        if before is None or after is None:
            continue
        turn = _turn(evidence, before.readings[0], after.readings[0], bounds[n - 1 : n + 2])
        was, now = np.searchsorted(evidence.times_s, (bounds[n], turn))
        if was != now:
            bounds[n] = turn
            made[n] = _stretch(evidence, turn, bounds[n + 1], params)
            last = float(evidence.times_s[now - 1]) + before.readings[0].beat_s  # what it is read as does not hang on a few attacks
            made[n - 1] = replace(before, end_s=min(turn + 0.05, last))
    return _joined(evidence, [one for one in made if one is not None], params)


def _stretch(evidence: Evidence, start_s: float, end_s: float, params: AnalysisParams) -> HeardStretch | None:
    """Return what is between two times as a stretch, or nothing where too little is struck."""
    part = part_of(evidence, start_s, end_s)
    if part.times_s.size < FEWEST or part.last_s - part.first_s < LEAST_S:
        return None
    rested = start_s > 0.0 or part.first_s > GAP_S
    readings = _read(part, params, AFTER_REST if rested else 0.0)
    if not readings or (part.last_s - part.first_s) < LEAST_BARS * readings[0].beat_s * readings[0].meter.beats_per_bar:
        return None
    moved = [replace(reading, start_s=reading.start_s + start_s) for reading in readings]
    return HeardStretch(start_s + part.first_s, start_s + min(part.duration_s, part.last_s + readings[0].beat_s), moved)


def _turn(evidence: Evidence, before: Reading, after: Reading, bounds: list[float]) -> float:
    """Return when one beat becomes another: where as many attacks as can be lie on the first before it and on the second after it.

    Of places about as good the one is taken at which most is struck. `bounds` are where the first begins, where it was thought to
    become the other, and where that ends.
    """
    low, at_s, high = max(bounds[0], bounds[1] - TURN_S), bounds[1], min(bounds[2], bounds[1] + TURN_S)
    first, last = np.searchsorted(evidence.times_s, (low, high))
    times, weights = evidence.times_s[first:last], evidence.weights[first:last]
    if times.size < 2:
        return at_s
    gain = weights * (_on_beat(times, after) - _on_beat(times, before))
    worth = np.cumsum(gain[::-1])[::-1]  # of all from each attack on being the second's
    known = int(np.searchsorted(times, at_s))
    if known < times.size and worth.max() - worth[known] < TURNS_FOR * evidence.usual_weight:
        return at_s
    near = np.flatnonzero(worth > worth.max() - AS_GOOD * evidence.usual_weight)
    struck = (evidence.weights + evidence.low + evidence.splash)[first:last]
    return float(times[near[struck[near].argmax()]]) - 0.05


def _on_beat(times_s: NDArray[np.float64], reading: Reading) -> NDArray[np.float64]:
    """Return how well times lie on a reading's quarters or thirds of a beat, from 0 to 1."""
    beats = (times_s - reading.start_s) / reading.beat_s
    divided = np.stack([beats * 4.0, beats * 3.0])
    off_s = np.abs(divided - np.round(divided)) / np.array([[4.0], [3.0]]) * reading.beat_s
    return np.asarray(np.exp(-0.5 * (off_s / GRID_SIGMA_S) ** 2).max(axis=0) if reading.meter.compound else
                      np.exp(-0.5 * (off_s[0] / GRID_SIGMA_S) ** 2))


def _read(part: Evidence, params: AnalysisParams, opens: float) -> list[Reading]:
    """Return the readings of a stretch; `opens` is what it is worth that a bar begins with its first attack."""
    longest = excerpt(part) if part.duration_s > EXCERPT_S else part
    return read_piece(longest, params, opens=opens if longest.first_s == part.first_s else 0.0)


def _bounds(evidence: Evidence, params: AnalysisParams) -> list[float]:
    """Return where stretches begin and end."""
    times = evidence.times_s
    if evidence.duration_s < SHORTEST_S or times.size < 2 * FEWEST:
        return [0.0, evidence.duration_s]
    gaps = np.diff(times)
    rests = [float(times[n + 1]) - 0.05 for n in np.flatnonzero(gaps > REST_S)]
    usual = float(np.median(gaps))
    rare = [(float(times[n + 1]) - 0.05, PARTS_AT_GAP) for n in np.flatnonzero((gaps > max(GAP_S, RARE_TIMES * usual)) & (gaps <= REST_S))]
    plain = [(float(at), PARTS_ANYWHERE) for at in np.arange(LOOK_S, evidence.duration_s - LOOK_S / 2, LOOK_EVERY_S)]
    gains = sorted(((_gain(evidence, at, params) - needed, at) for at, needed in [*rare, *plain]), reverse=True)
    chosen = list(rests)
    for gain, at in gains:
        if gain <= 0.0:
            break
        if all(abs(at - other) > LOOK_S for other in chosen):
            chosen.append(at if any(at == place for place, _ in rare) else _refined(evidence, at, params))
    return [0.0, *sorted(chosen), evidence.duration_s]


def _refined(evidence: Evidence, at_s: float, params: AnalysisParams) -> float:
    """Return where near a time two combs explain most, at the widest gap there."""
    around = at_s + np.arange(-LOOK_EVERY_S + 1.0, LOOK_EVERY_S)
    best = float(around[int(np.argmax([_gain(evidence, float(at), params) for at in around]))])
    times = evidence.times_s
    near = np.flatnonzero(np.abs(times[1:] - best) < 1.0)
    return float(times[near[np.diff(times)[near].argmax()] + 1]) - 0.05 if near.size else best


def _gain(evidence: Evidence, at_s: float, params: AnalysisParams) -> float:
    """Return how much more of what is struck around a time two combs explain than one."""
    left, right = part_of(evidence, max(0.0, at_s - LOOK_S), at_s), part_of(evidence, at_s, at_s + LOOK_S)
    if min(left.times_s.size, right.times_s.size) < FEWEST:
        return 0.0
    both = part_of(evidence, max(0.0, at_s - LOOK_S), at_s + LOOK_S)
    apart = _explained(left, params) * left.total + _explained(right, params) * right.total
    return float(apart / (left.total + right.total) - _explained(both, params))


def _explained(part: Evidence, params: AnalysisParams) -> float:
    """Return how much of what is struck the best comb explains, from 0 to 1."""
    return best_combed(part, params) / (1.55 * part.total)


def _joined(evidence: Evidence, found: list[HeardStretch], params: AnalysisParams) -> list[HeardStretch]:
    """Return stretches of which neighbours of one tempo, with no rest between, are one where the beat goes on."""
    made: list[HeardStretch] = []
    for one in found:
        if made and one.start_s - made[-1].end_s < REST_S:
            before = made[-1].readings[0]
            if abs(one.readings[0].beat_s / before.beat_s - 1.0) < SAME_TEMPO and _goes_on(made[-1], one):
                part = part_of(evidence, made[-1].start_s, one.end_s)
                readings = [replace(r, start_s=r.start_s + made[-1].start_s) for r in _read(part, params, AFTER_REST)]
                if readings and abs(readings[0].beat_s / before.beat_s - 1.0) < SAME_TEMPO:
                    made[-1] = HeardStretch(made[-1].start_s, one.end_s, readings)
                    continue
        made.append(one)
    return made


def _goes_on(before: HeardStretch, after: HeardStretch) -> bool:
    """Whether a stretch's beats are those of the one before it carried on, and its bars, where a rest is between."""
    first, second = before.readings[0], after.readings[0]
    apart = (second.start_s - first.start_s) / first.beat_s
    every = first.meter.beats_per_bar if after.start_s - before.end_s > GAP_S else 1
    off = abs(apart - every * round(apart / every))
    return off < CARRIED_ON
