"""Tempo, meter, bars and downbeat, read together from attacks and from where the sound ends."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import product
from typing import IO

import numpy as np

from bompla.analysis.params import AnalysisParams
from bompla.analysis.shipped import shipped
from bompla.analysis.tempo.evidence import GRID_SIGMA_S, TEMPO_CENTRE_BPM, Array, BeatGrid, Evidence
from bompla.analysis.tempo.features import FEATURE_NAMES, METER_NAMES, Places, features, usual_beat
from bompla.model.drums import METERS, Meter

MAX_BARS = 64
KEPT_PERIODS, KEPT_PHASES = 10, 4
"""How many beat lengths, and places of the beat in each, are looked at in every meter."""

COMBED_AT_ONCE = 256
WIDELY, LOOKED_CLOSELY = 4, 8
"""Of how many tempos one is looked at first, and around how many of those all are."""

SEARCHED = 16
"""How many beat lengths the search gives."""

SLOWER, SLOWER_TIMES = 3, (1.5, 2.0, 3.0)
"""Of how many of them beats so many times as long are looked at too."""

SAME_BEAT = 0.02
"""Beats whose lengths differ by less than this share are one."""

LOOSE_S = 0.010
"""How far from its division of the beat an attack may lie and still count much for how long a beat is."""

MAX_BEATS = 1024
THIN = 0.35
"""Less than this share of what a bar usually has may be none of the loop."""

WEIGHTS_FILE = "tempo.json"


@dataclass(frozen=True, eq=False)
class Reading:
    """A way to hear the sound: where its first bar starts, how long a beat is, bars and meter.

    `score` is a log odds up to a constant shared by all readings of one sound; `trimmed` says
    that the region is the whole file, `anywhere` that the sound may be cut anywhere. `evidence`
    holds what spoke for it, as `FEATURE_NAMES`.
    """

    start_s: float
    beat_s: float
    bars: int
    meter: Meter
    score: float
    trimmed: bool
    evidence: Array
    anywhere: bool = False

    @property
    def bpm(self) -> float:
        """Tempo in beats per minute."""
        return 60.0 / self.beat_s

    @property
    def end_s(self) -> float:
        """Where the last bar ends."""
        return self.start_s + self.beat_s * self.meter.beats_per_bar * self.bars


def read_tempo(evidence: Evidence, params: AnalysisParams) -> list[Reading]:
    """Return the likely readings, best first, at least one.

    For a trimmed loop every whole number of bars of its length in every meter is a candidate;
    for untrimmed sound the beat is searched for and refined by regression. All are scored by
    one conditional logit (McFadden, 1974) over what `tempo_features.features` sees, with a few bent sums of
    it beside the straight one, fitted by `training/train_tempo.py`, so that scores are log odds and
    their shares probabilities.
    """
    readings = candidates(evidence, params)
    if not readings:
        return [_unknown(evidence, params)]
    scores = scores_of(load_weights(), np.stack([reading.evidence for reading in readings]))
    return distinct([(readings[index], float(scores[index])) for index in np.argsort(-scores, kind="stable")])


def candidates(evidence: Evidence, params: AnalysisParams) -> list[Reading]:
    """Return every reading that is looked at, in no order and without a score."""
    if evidence.times_s.size < 2 or evidence.duration_s <= 0.0:
        return []
    readings: list[Reading] = []
    if params.trimmed is not False:
        readings += _trimmed_readings(evidence, params)
    if params.trimmed is not True:
        readings += _untrimmed_readings(evidence, params)
    return readings


def confidence_of(readings: list[Reading]) -> float:
    """Return from 0 to 1 how likely the best reading's tempo is among all."""
    best = readings[0].bpm
    return float(sum(s for r, s in zip(readings, shares_of(readings), strict=True) if abs(r.bpm / best - 1.0) < 0.01))


def shares_of(readings: list[Reading]) -> list[float]:
    """Return a probability for each reading; together they make 1."""
    scores = np.array([reading.score for reading in readings])
    weights = np.exp(scores - scores.max())
    return [float(share) for share in weights / weights.sum()]


@dataclass(frozen=True, eq=False)
class TempoWeights:
    """What features are worth: `straight` (features,), and `bent` (hidden,) of each hinge of `hidden` (features, hidden) and `bias`."""

    straight: Array
    hidden: Array
    bias: Array
    bent: Array


def scores_of(weights: TempoWeights, seen: Array) -> Array:
    """Return the log odds of readings, shape (readings,), from their features, shape (readings, features)."""
    return np.asarray(seen @ weights.straight + np.maximum(seen @ weights.hidden + weights.bias, 0.0) @ weights.bent)


@lru_cache(maxsize=1)
def load_weights() -> TempoWeights:
    """Return what the features are worth; raises AnalysisError where the file is missing or does not fit."""
    return shipped("tempo", WEIGHTS_FILE, _read_weights)


def _read_weights(stream: IO[bytes]) -> TempoWeights:
    known = json.load(stream)
    table = np.array([known["features"][name] for name in FEATURE_NAMES], dtype=float)
    return TempoWeights(table[:, 0], np.ascontiguousarray(table[:, 1:]), np.array(known["bias"]), np.array(known["bent"]))


def _read(grid: BeatGrid, places: Places, *, trimmed: bool) -> list[Reading]:
    starts_s = np.zeros(places.phase.size) if trimmed else grid.phases_s[places.phase] + places.first_beat * grid.beat_s
    rows = zip(starts_s.tolist(), places.bars.tolist(), places.meter.tolist(), features(grid, places, trimmed=trimmed), strict=True)
    return [Reading(start_s, grid.beat_s, bars, METERS[METER_NAMES[meter]], 0.0, trimmed, seen) for start_s, bars, meter, seen in rows]


def _trimmed_readings(evidence: Evidence, params: AnalysisParams) -> list[Reading]:
    filling: dict[int, list[tuple[int, int]]] = {}
    for name in params.meters:
        meter = METERS[name]
        for bars in range(1, MAX_BARS + 1):
            beats = bars * meter.beats_per_bar
            if 60.0 / params.max_bpm <= evidence.duration_s / beats * usual_beat(meter) <= 60.0 / params.min_bpm:
                filling.setdefault(beats, []).append((METER_NAMES.index(name), bars))
    readings = []
    for beats, found in filling.items():
        beat_s = evidence.duration_s / beats
        grid = BeatGrid(evidence, np.array([_offset(evidence, beat_s)]), beat_s, beats, wraps=True)
        meters, bars_of = np.array(found).T
        readings += _read(grid, Places(np.zeros_like(meters), meters, np.zeros_like(meters), bars_of), trimmed=True)
    return readings


def _offset(evidence: Evidence, beat_s: float) -> float:
    """Return where the grid starts, by where attacks near beats lie on the whole: within 20 ms of the sound's start."""
    deviation = evidence.times_s - np.round(evidence.times_s / (beat_s / 2.0)) * (beat_s / 2.0)
    near = np.abs(deviation) < 0.02
    return float(np.median(deviation[near])) if near.any() else 0.0


def _untrimmed_readings(evidence: Evidence, params: AnalysisParams) -> list[Reading]:
    plain = evidence.times_s[evidence.weights >= 0.4 * np.median(evidence.weights)]
    first, last = float(plain[0]), float(plain[-1])
    fitted = [regressed(evidence, beat_s) for beat_s in periods(evidence, params)]
    ranked = sorted((-promise(evidence, beat_s, phase), beat_s, phase) for beat_s, phase in fitted)
    readings: list[Reading] = []
    for beat_s, phase in _kept([(beat_s, phase) for _, beat_s, phase in ranked], 60.0 / params.min_bpm):
        beats = int(np.clip(np.ceil((last - first) / beat_s) + 1, 1, MAX_BEATS))
        starts = {round(_first_beat(first, phase + k * beat_s / n, beat_s), 6) for n in (4, 3) for k in range(n)}
        grid = BeatGrid(evidence, np.array(sorted(starts)), beat_s, beats, wraps=False)
        likeliest = np.argsort(-grid.covered - grid.judged[0], kind="stable")[:KEPT_PHASES]
        grid = BeatGrid(evidence, grid.phases_s[likeliest], beat_s, beats, wraps=False)
        placed = [bars_placed(grid, METER_NAMES.index(name), first, last) for name in params.meters if METERS[name].beat_quarters >= 1.0]
        if placed:
            readings += _read(grid, Places(*(np.concatenate(parts) for parts in zip(*placed, strict=True))), trimmed=False)
    return readings


def _kept(ranked: list[tuple[float, float]], longest_s: float) -> list[tuple[float, float]]:
    """Return the most promising beats, and slower ones of the best: three quick ones may be two slow ones in three, or one."""
    kept = ranked[:KEPT_PERIODS]
    for (beat_s, phase), times in product(ranked[:SLOWER], SLOWER_TIMES):
        longer = times * beat_s
        if longer <= longest_s and all(abs(np.log(longer / known)) > SAME_BEAT for known, _ in kept):
            kept.append((longer, phase))
    return kept


def bars_placed(grid: BeatGrid, meter: int, first: float, last: float) -> Places:
    """Return bars from each of the beats near the first attack to the last attack, in every phase of a grid.

    Later too, and fewer bars, where so little is struck before or after that it may be a count-in, or noise.
    """
    evidence, per_bar, beat_s = grid.evidence, METERS[METER_NAMES[meter]].beats_per_bar, grid.beat_s
    bar_s = beat_s * per_bar
    thin = THIN * evidence.total * bar_s / max(bar_s, last - first)
    beat = np.arange(min(3 * per_bar, grid.beats))
    start = grid.phases_s[:, None] + beat * beat_s
    fits = (start >= -0.02) & (start >= first - 0.3 * beat_s) & (start <= last)
    little = evidence.weights_before(start - 0.1 * beat_s) <= thin
    fits &= (beat < per_bar) | (grid.counted_in[:, : beat.size] > 0.0) | little
    bars = np.ceil((last - start - 0.06 * beat_s) / bar_s)
    bars = np.maximum(1, np.minimum(bars, np.floor((evidence.duration_s - start) / bar_s + 0.02))).astype(np.intp)
    fits &= start + bars * bar_s <= evidence.duration_s + 0.25 * beat_s
    phase, first_beat = np.nonzero(fits)
    most, begins = bars[fits], start[fits]
    enough = evidence.enough_s(evidence.total - thin) + 0.1 * beat_s
    least = np.minimum(most, np.maximum(1, np.floor((enough - begins) / bar_s).astype(np.intp) + 1))
    times = most - least + 1
    reading = np.repeat(np.arange(most.size), times)
    fewer = np.arange(reading.size) - np.repeat(np.cumsum(times) - times, times)
    return Places(phase[reading], np.full(reading.size, meter), first_beat[reading], most[reading] - fewer)


def promise(evidence: Evidence, beat_s: float, phase: float) -> float:
    """Return how far a beat is worth a closer look: its fit, and how usual its tempo is (Parncutt, 1994)."""
    fit, _ = BeatGrid(evidence, np.array([phase]), beat_s, 1, wraps=False).judged
    return float(fit[0]) - 0.35 * 0.5 * float(np.log2(60.0 / beat_s / TEMPO_CENTRE_BPM) / 0.62) ** 2


def _first_beat(first_s: float, phase: float, beat_s: float) -> float:
    return float(phase + np.floor((first_s - phase) / beat_s + 0.12) * beat_s)


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


def regressed(evidence: Evidence, beat_s: float) -> tuple[float, float]:
    """Return beat length and phase fitted to the attacks by weighted least squares.

    Each attack is taken to its nearest division (quarters and thirds of a beat); those further
    off than chance allows do not count, and others the less the further they are off (Welsch's weights:
    Holland and Welsch, 1977), so that a swung or a late hit does not bend the beat. Repeated, so that a small
    error in the first guess cannot add up over the sound.
    """
    times, weights = evidence.times_s, evidence.weights
    phases = np.arange(48) / 48.0 * beat_s
    beats = (times[None, :] - phases[:, None]) / beat_s
    fits = []
    for n in (4, 3):
        near = np.abs(beats * n - np.round(beats * n)) / n * beat_s
        fits.append(np.exp(-0.5 * (near / GRID_SIGMA_S) ** 2) @ weights)
    divisions = (4, 3) if fits[0].max() >= fits[1].max() else (3, 3)
    phase = float(phases[int(np.maximum(*fits).argmax())])
    for tolerance in (0.14, 0.10, 0.08):
        beats = (times - phase) / beat_s
        grids = np.stack([np.round(beats * n) / n for n in divisions])
        nearest = grids[np.abs(grids - beats).argmin(axis=0), np.arange(beats.size)]
        off = np.abs(nearest - beats)
        used = weights * (off < tolerance) * np.where(nearest == np.round(nearest), 1.5, 1.0) * np.exp(-0.5 * (off * beat_s / LOOSE_S) ** 2)
        if np.count_nonzero(used) < 3 or np.ptp(nearest[used > 0]) < 0.9:
            break
        slope, origin = _line(nearest, times, used)
        if not 0.97 < slope / beat_s < 1.03:
            break
        beat_s, phase = slope, origin
    return beat_s, phase


def _line(x: Array, y: Array, weights: Array) -> tuple[float, float]:
    """Return slope and origin of the line nearest to points in the sense of weighted least squares."""
    total = weights.sum()
    x_mean, y_mean = weights @ x / total, weights @ y / total
    slope = weights @ ((x - x_mean) * (y - y_mean)) / (weights @ (x - x_mean) ** 2)
    return float(slope), float(y_mean - slope * x_mean)


def distinct(ranked: list[tuple[Reading, float]]) -> list[Reading]:
    """Keep the best of readings that say the same, and no more than a dozen, each with its score."""
    kept: list[Reading] = []
    for reading, score in ranked:
        if all(
            abs(reading.bpm / other.bpm - 1.0) > 0.004 or reading.meter.name != other.meter.name for other in kept
        ):
            kept.append(replace(reading, score=score))
        if len(kept) == 12:
            break
    return kept


def _unknown(evidence: Evidence, params: AnalysisParams) -> Reading:
    """Return a reading for sound that says nothing of tempo: the bars that fill it at a usual tempo."""
    meter = METERS[params.meters[0]]
    duration = max(evidence.duration_s, 0.05)
    usual = TEMPO_CENTRE_BPM if params.min_bpm <= TEMPO_CENTRE_BPM <= params.max_bpm else params.max_bpm
    bars = max(1, round(duration * usual / 60.0 / meter.beats_per_bar))
    return Reading(0.0, duration / (bars * meter.beats_per_bar), bars, meter, 0.0, True, np.zeros(len(FEATURE_NAMES)))
