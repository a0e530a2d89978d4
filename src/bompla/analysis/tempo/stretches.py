"""A recording parted into stretches of one tempo: where rests are, and where two combs explain more than one."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from bompla.analysis.params import AnalysisParams
from bompla.analysis.tempo.evidence import EXCERPT_S, Evidence, excerpt, part_of
from bompla.analysis.tempo.pieces import FEWEST, read_piece
from bompla.analysis.tempo.readings import Reading, best_combed, confidence_of

SHORTEST_S = 16.0
"""What is shorter is one stretch."""

REST_S = 3.0
"""A rest so long always parts."""

LOOK_EVERY_S, LOOK_S = 4.0, 8.0
GAP_S, RARE_TIMES = 0.8, 2.5
PARTS_AT_GAP, PARTS_ANYWHERE = 0.03, 0.07
"""How much more two combs must explain than one, of all that is struck: at a gap that is rare, and anywhere."""

LEAST_S, LEAST_BARS = 4.0, 2.0
AFTER_REST, ON_FIRST_S = 1.5, 0.06
"""How many log odds a bar line at the first attack after a rest is worth, and how near it has to be."""

SAME_TEMPO = 0.006


@dataclass(frozen=True, eq=False)
class Stretch:
    """A part of a recording, in seconds, and the ways to read it, best first; their times are those of the recording."""

    start_s: float
    end_s: float
    readings: list[Reading]

    @property
    def confidence(self) -> float:
        """How likely the best reading's tempo is, from 0 to 1."""
        return confidence_of(self.readings)


def stretches_of(evidence: Evidence, params: AnalysisParams) -> list[Stretch]:
    """Return the stretches of a recording that is read as a piece, in order; those in which too little is struck are left out."""
    bounds = _bounds(evidence, params)
    found = []
    for start_s, end_s in pairwise(bounds):
        part = part_of(evidence, start_s, end_s)
        if part.times_s.size < FEWEST or part.last_s - part.first_s < LEAST_S:
            continue
        readings = _read(part, params, rested=start_s > 0.0 or part.first_s > GAP_S)
        if readings and (part.last_s - part.first_s) >= LEAST_BARS * readings[0].beat_s * readings[0].meter.beats_per_bar:
            moved = [replace(reading, start_s=reading.start_s + start_s) for reading in readings]
            found.append(Stretch(start_s + part.first_s, start_s + min(part.duration_s, part.last_s + readings[0].beat_s), moved))
    return _joined(evidence, found, params)


def _read(part: Evidence, params: AnalysisParams, *, rested: bool) -> list[Reading]:
    """Return the readings of a stretch; after a rest the first attack is likely the first of a bar."""
    read = read_piece(excerpt(part) if part.duration_s > EXCERPT_S else part, params)
    if not rested or not read:
        return read
    scored = [replace(r, score=r.score + AFTER_REST * _on_line(r, part.first_s)) for r in read]
    return sorted(scored, key=lambda reading: -reading.score)


def _on_line(reading: Reading, at_s: float) -> bool:
    bar_s = reading.beat_s * reading.meter.beats_per_bar
    off = (at_s - reading.start_s) % bar_s
    return min(off, bar_s - off) < ON_FIRST_S


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


def _joined(evidence: Evidence, found: list[Stretch], params: AnalysisParams) -> list[Stretch]:
    """Return stretches of which neighbours of one tempo, with no rest between, are one."""
    made: list[Stretch] = []
    for one in found:
        if made and one.start_s - made[-1].end_s < REST_S:
            before = made[-1].readings[0]
            if abs(one.readings[0].beat_s / before.beat_s - 1.0) < SAME_TEMPO:
                part = part_of(evidence, made[-1].start_s, one.end_s)
                readings = [replace(r, start_s=r.start_s + made[-1].start_s) for r in _read(part, params, rested=True)]
                if readings and abs(readings[0].beat_s / before.beat_s - 1.0) < SAME_TEMPO:
                    made[-1] = Stretch(made[-1].start_s, one.end_s, readings)
                    continue
        made.append(one)
    return made
