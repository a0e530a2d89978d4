"""Tempo, meter, bars and downbeat, read together from attacks and from where the sound ends."""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import lru_cache
from itertools import product
from typing import IO

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.params import AnalysisParams
from bompla.analysis.shipped import shipped
from bompla.analysis.tempo.evidence import TEMPO_CENTRE_BPM, Array, BeatGrid, Evidence
from bompla.analysis.tempo.features import FEATURE_NAMES, METER_NAMES, PER_BAR, Index, Places, features, usual_beat
from bompla.analysis.tempo.search import SAME_BEAT, promise, promising
from bompla.model.drums import METERS, Meter

MAX_BARS = 64
KEPT_FILLING, KEPT_PERIODS, KEPT_PHASES = 9, 8, 4
"""How many beat lengths that make whole bars of the sound, and how many others, are looked at in every meter; how many places of each."""

SLOWER, SLOWER_TIMES = 3, (1.5, 2.0, 3.0)
"""Of how many of them beats so many times as long are looked at too."""

SAME_TEMPO, MOST_READINGS = 0.004, 12
"""Readings of one meter whose tempos differ by no more than this share say the same, and how many are told."""

MAX_BEATS = 1024
THIN = 0.35
"""Less than this share of what a bar usually has may be none of the loop."""

WEIGHTS_FILE = "tempo.json"


@dataclass(frozen=True, eq=False)
class Reading:
    """A way to hear the sound: where its first bar starts, how long a beat is, bars and meter.

    `score` is a log odds up to a constant shared by all readings of one sound; `trimmed` says
    that the region is the whole file, `anywhere` that the sound may be cut anywhere, `unknown` that
    nothing tells the tempo, so that there is none. `evidence` holds what spoke for it, as `FEATURE_NAMES`.
    """

    start_s: float
    beat_s: float
    bars: int
    meter: Meter
    score: float
    trimmed: bool
    evidence: Array
    anywhere: bool = False
    unknown: bool = False

    @property
    def bpm(self) -> float:
        """Tempo in beats per minute."""
        return 60.0 / self.beat_s

    @property
    def end_s(self) -> float:
        """Where the last bar ends."""
        return self.start_s + self.beat_s * self.meter.beats_per_bar * self.bars


@dataclass(frozen=True, eq=False)
class Candidates:
    """Readings that are looked at, side by side, without a score: see `Reading`; all (readings,), `meter` one of `METER_NAMES`.

    `seen` holds what speaks for each, shape (readings, features).
    """

    start_s: Array
    beat_s: Array
    bars: Index
    meter: Index
    trimmed: NDArray[np.bool_]
    seen: Array
    anywhere: bool = False

    def __len__(self) -> int:
        return int(self.bars.size)

    @classmethod
    def joined(cls, parts: list[Candidates]) -> Candidates:
        """Return all of several, at least one."""
        start_s, beat_s, bars, meter, trimmed, seen = (
            np.concatenate([getattr(part, name) for part in parts]) for name in ("start_s", "beat_s", "bars", "meter", "trimmed", "seen")
        )
        return cls(start_s, beat_s, bars, meter, trimmed, seen, parts[0].anywhere)

    @classmethod
    def on(cls, grid: BeatGrid, places: Places, seen: Array, *, trimmed: bool = False, anywhere: bool = False) -> Candidates:
        """Return the readings that bars on a grid are."""
        starts_s = np.zeros(places.phase.size) if trimmed else grid.phases_s[places.phase] + places.first_beat * grid.beat_s
        beats_s = np.full(places.phase.size, grid.beat_s)
        return cls(starts_s, beats_s, places.bars, places.meter, np.full(places.phase.size, trimmed), seen, anywhere)

    def reading(self, index: int, score: float = 0.0) -> Reading:
        """Return one of them."""
        return Reading(
            float(self.start_s[index]), float(self.beat_s[index]), int(self.bars[index]), METERS[METER_NAMES[self.meter[index]]], score,
            bool(self.trimmed[index]), self.seen[index], self.anywhere,
        )

    def best(self, scores: Array) -> list[Reading]:
        """Return those that score best, at most `MOST_READINGS`, best first, one of those that say the same."""
        left = np.argsort(-scores, kind="stable")
        kept: list[Reading] = []
        while left.size and len(kept) < MOST_READINGS:
            first = int(left[0])
            kept.append(self.reading(first, float(scores[first])))
            near = np.abs(self.beat_s[first] / self.beat_s[left] - 1.0) <= SAME_TEMPO
            left = left[~(near & (self.meter[left] == self.meter[first]))]
        return kept


def read_tempo(evidence: Evidence, params: AnalysisParams) -> list[Reading]:
    """Return the likely readings, best first, at least one.

    For a trimmed loop every whole number of bars of its length in every meter is a candidate;
    for untrimmed sound the beat is searched for and refined by regression. All are scored by
    one conditional logit (McFadden, 1974) over what `features.features` sees, with a few bent sums of
    it beside the straight one, fitted by `training/train_tempo.py`, so that scores are log odds and
    their shares probabilities.
    """
    found = candidates(evidence, params)
    return [_unknown(evidence)] if found is None else found.best(scores_of(load_weights(), found.seen))


def candidates(evidence: Evidence, params: AnalysisParams) -> Candidates | None:
    """Return every reading that is looked at, in no order; None where there is none."""
    if evidence.times_s.size < 2 or evidence.duration_s <= 0.0:
        return None
    parts: list[Candidates] = []
    if params.trimmed is not False:
        parts += _trimmed_readings(evidence, params)
    if params.trimmed is not True:
        parts += _untrimmed_readings(evidence, params)
    return Candidates.joined(parts) if any(map(len, parts)) else None


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


def _trimmed_readings(evidence: Evidence, params: AnalysisParams) -> list[Candidates]:
    filling: dict[int, list[tuple[int, int]]] = {}
    for name in params.meters:
        meter = METERS[name]
        for bars in range(1, MAX_BARS + 1):
            beats = bars * meter.beats_per_bar
            if 60.0 / params.max_bpm <= evidence.duration_s / beats * usual_beat(meter) <= 60.0 / params.min_bpm:
                filling.setdefault(beats, []).append((METER_NAMES.index(name), bars))
    parts = []
    for beats, beat_s, offset_s in _likely_to_fill(evidence, np.array(list(filling), np.intp)):
        grid = BeatGrid(evidence, np.array([offset_s]), beat_s, beats, wraps=True)
        meters, bars_of = np.array(filling[beats]).T
        places = Places(np.zeros_like(meters), meters, np.zeros_like(meters), bars_of)
        parts.append(Candidates.on(grid, places, features(grid, places, trimmed=True), trimmed=True))
    return parts


def _likely_to_fill(evidence: Evidence, beats: Index) -> list[tuple[int, float, float]]:
    """Return the counts of beats that are worth a closer look, each with how long a beat is and where the first one falls."""
    if not beats.size:
        return []
    beats_s = evidence.duration_s / beats
    offsets_s = np.array([_offset(evidence, beat_s) for beat_s in beats_s.tolist()])
    kept = np.argsort(-promise(evidence, beats_s, offsets_s), kind="stable")[:KEPT_FILLING]
    return list(zip(beats[kept].tolist(), beats_s[kept].tolist(), offsets_s[kept].tolist(), strict=True))


def _offset(evidence: Evidence, beat_s: float) -> float:
    """Return where the grid starts, by where attacks near beats lie on the whole: within 20 ms of the sound's start."""
    deviation = evidence.times_s - np.round(evidence.times_s / (beat_s / 2.0)) * (beat_s / 2.0)
    near = np.abs(deviation) < 0.02
    return float(np.median(deviation[near])) if near.any() else 0.0


def _untrimmed_readings(evidence: Evidence, params: AnalysisParams) -> list[Candidates]:
    plain = evidence.times_s[evidence.weights >= 0.4 * np.median(evidence.weights)]
    first, last = float(plain[0]), float(plain[-1])
    meters = np.array([METER_NAMES.index(name) for name in params.meters if METERS[name].beat_quarters >= 1.0], np.intp)
    parts: list[Candidates] = []
    for beat_s, phase in _kept(promising(evidence, params), 60.0 / params.min_bpm) if meters.size else ():
        beats = int(np.clip(np.ceil((last - first) / beat_s) + 1, 1, MAX_BEATS))
        starts = {round(_first_beat(first, phase + k * beat_s / n, beat_s), 6) for n in (4, 3) for k in range(n)}
        grid = BeatGrid(evidence, np.array(sorted(starts)), beat_s, beats, wraps=False)
        grid = grid.of(np.argsort(-grid.covered - grid.judged[0], kind="stable")[:KEPT_PHASES])
        places = bars_placed(grid, meters, first, last)
        parts.append(Candidates.on(grid, places, features(grid, places, trimmed=False)))
    return parts


def _kept(ranked: list[tuple[float, float]], longest_s: float) -> list[tuple[float, float]]:
    """Return the most promising beats, and slower ones of the best: three quick ones may be two slow ones in three, or one."""
    kept = ranked[:KEPT_PERIODS]
    for (beat_s, phase), times in product(ranked[:SLOWER], SLOWER_TIMES):
        longer = times * beat_s
        if longer <= longest_s and all(abs(np.log(longer / known)) > SAME_BEAT for known, _ in kept):
            kept.append((longer, phase))
    return kept


def bars_placed(grid: BeatGrid, meters: Index, first: float, last: float) -> Places:
    """Return bars of some meters from each of the beats near the first attack to the last attack, in every phase of a grid.

    Later too, and fewer bars, where so little is struck before or after that it may be a count-in, or noise.
    """
    evidence, beat_s = grid.evidence, grid.beat_s
    beats = [np.arange(min(3 * METERS[METER_NAMES[meter]].beats_per_bar, grid.beats)) for meter in meters]
    beat, meter = np.concatenate(beats), np.repeat(meters, [one.size for one in beats])
    per_bar = PER_BAR[meter]
    bar_s = beat_s * per_bar
    thin = THIN * evidence.total * bar_s / np.maximum(bar_s, last - first)
    start = grid.phases_s[:, None] + beat * beat_s
    fits = (start >= -0.02) & (start >= first - 0.3 * beat_s) & (start <= last)
    little = evidence.weights_before(start - 0.1 * beat_s) <= thin
    fits &= (beat < per_bar) | (grid.counted_in[:, beat] > 0.0) | little
    bars = np.ceil((last - start - 0.06 * beat_s) / bar_s)
    bars = np.maximum(1, np.minimum(bars, np.floor((evidence.duration_s - start) / bar_s + 0.02))).astype(np.intp)
    fits &= start + bars * bar_s <= evidence.duration_s + 0.25 * beat_s
    phase, column = np.nonzero(fits)
    most, begins = bars[fits], start[fits]
    enough = (evidence.enough_s(evidence.total - thin) + 0.1 * beat_s)[column]
    least = np.minimum(most, np.maximum(1, np.floor((enough - begins) / bar_s[column]).astype(np.intp) + 1))
    times = most - least + 1
    reading = np.repeat(np.arange(most.size), times)
    fewer = np.arange(reading.size) - np.repeat(np.cumsum(times) - times, times)
    return Places(phase[reading], meter[column[reading]], beat[column[reading]], most[reading] - fewer)


def _first_beat(first_s: float, phase: float, beat_s: float) -> float:
    return float(phase + np.floor((first_s - phase) / beat_s + 0.12) * beat_s)


def _unknown(evidence: Evidence) -> Reading:
    """Return what stands for the tempo of sound that has none: bars, or else beats, that fill it at a usual one."""
    meter, duration = METERS["4/4"], max(evidence.duration_s, 1e-3)
    usual = duration * TEMPO_CENTRE_BPM / 60.0
    beats = round(usual / meter.beats_per_bar) * meter.beats_per_bar or round(usual)
    beat_s = duration / beats if beats else 60.0 / TEMPO_CENTRE_BPM
    return Reading(0.0, beat_s, 1, meter, 0.0, True, np.zeros(len(FEATURE_NAMES)), unknown=True)
