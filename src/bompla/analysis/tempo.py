"""Tempo, meter, bars and downbeat, read together from attacks and from where the sound ends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.params import AnalysisParams
from bompla.model.drums import METERS, Meter

Array = NDArray[np.float64]

GRID_SIGMA_S = 0.012
"""How far from the grid a hit may lie and still speak for it."""

MAX_BARS = 64
PREFERRED_BARS = {1: 0.0, 2: 0.12, 4: 0.2, 8: 0.12, 16: 0.05, 3: -0.25, 6: -0.15, 12: -0.15}
METER_PRIOR = {"4/4": 0.0, "3/4": -0.45, "6/8": -0.2, "12/8": -0.45, "5/4": -0.6, "7/8": -0.75}
KEPT_PERIODS, KEPT_PHASES = 6, 3
"""How many beat lengths, and places of the beat in each, are looked at in every meter."""

TEMPO_CENTRE_BPM, TEMPO_SPREAD_OCTAVES = 112.0, 0.62


@dataclass(frozen=True, eq=False)
class Evidence:
    """What tempo is read from: times in seconds, and for each attack its strength by role.

    All arrays have shape (attacks,). `low`, `mid` and `high` are how much each attack adds in
    the bands of kick, snare and hat, from 0 to 1 over the whole sound. `duration_s` is the
    length of the sound.
    """

    times_s: Array
    weights: Array
    low: Array
    mid: Array
    high: Array
    duration_s: float


@dataclass(frozen=True)
class Reading:
    """A way to hear the sound: where its first bar starts, how long a beat is, bars and meter.

    `score` is comparable between readings of one sound; `trimmed` says that the region is the
    whole file.
    """

    start_s: float
    beat_s: float
    bars: int
    meter: Meter
    score: float
    trimmed: bool

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
    for untrimmed sound the beat is searched for and refined by regression. All are scored alike:
    how well attacks lie on the beat's own grid beyond chance, whether low and mid hits fall where
    such a meter has them, whether bars repeat, and how usual the tempo is (a log-normal
    prior about a medium tempo; Parncutt, 1994).
    """
    if evidence.times_s.size < 2 or evidence.duration_s <= 0.0:
        return [_unknown(evidence, params)]
    readings: list[Reading] = []
    if params.trimmed is not False:
        readings += _trimmed_readings(evidence, params)
    if params.trimmed is not True:
        readings += _untrimmed_readings(evidence, params)
    if not readings:
        return [_unknown(evidence, params)]
    return _distinct(sorted(readings, key=lambda reading: -reading.score))


def confidence_of(readings: list[Reading]) -> float:
    """Return from 0 to 1 how far the best reading's tempo stands above other tempos."""
    shares = _shares(readings)
    best = readings[0].bpm
    return float(sum(s for r, s in zip(readings, shares, strict=True) if abs(r.bpm / best - 1.0) < 0.01))


def shares_of(readings: list[Reading]) -> list[float]:
    """Return a share from 0 to 1 for each reading; together they make 1."""
    return [float(share) for share in _shares(readings)]


def _shares(readings: list[Reading]) -> Array:
    scores = np.array([reading.score for reading in readings])
    weights = np.exp((scores - scores.max()) / 0.12)
    return np.asarray(weights / weights.sum())


def _trimmed_readings(evidence: Evidence, params: AnalysisParams) -> list[Reading]:
    readings = []
    for name in params.meters:
        meter = METERS[name]
        for bars in range(1, MAX_BARS + 1):
            beat_s = evidence.duration_s / (bars * meter.beats_per_bar)
            if not 60.0 / params.max_bpm <= beat_s * _usual_beat(meter) <= 60.0 / params.min_bpm:
                continue
            offset = _offset(evidence, 0.0, beat_s)
            score = _score(evidence, offset, beat_s, bars, meter) + _lead_penalty(evidence, beat_s) + 0.22
            readings.append(Reading(0.0, beat_s, bars, meter, score, True))
    return readings


def _usual_beat(meter: Meter) -> float:
    """Return how many plain beats a meter's beat is worth when it is held to the tempo range."""
    return 2.0 if meter.beat_quarters < 1.0 else 1.0


def _lead_penalty(evidence: Evidence, beat_s: float) -> float:
    """A loop that begins or ends with a long silence is not likely to be trimmed."""
    lead = evidence.times_s[0]
    rest = evidence.duration_s - evidence.times_s[-1]
    return float(-0.6 * min(1.0, max(0.0, lead / beat_s - 0.1) * 2.0) - 0.6 * min(1.0, max(0.0, rest / beat_s - 1.6)))


def _untrimmed_readings(evidence: Evidence, params: AnalysisParams) -> list[Reading]:
    fitted = [_regressed(evidence, beat_s) for beat_s in _periods(evidence, params)]
    fitted.sort(key=lambda beat: -_promise(evidence, *beat))
    readings = []
    for beat_s, phase in fitted[:KEPT_PERIODS]:
        beats = max(1, int((evidence.times_s[-1] - evidence.times_s[0]) / beat_s) + 1)
        phases = {phase + k * beat_s / n for n in (4, 3) for k in range(n)}
        for start in _best_phases(evidence, phases, beat_s, beats):
            for name in params.meters:
                if METERS[name].beat_quarters >= 1.0:
                    readings += _placed(evidence, beat_s, start, METERS[name])
    return readings


def _best_phases(evidence: Evidence, phases: set[float], beat_s: float, beats: int) -> list[float]:
    """Return the places of the beat at which most beats have an attack, best first."""
    first = float(evidence.times_s[0])
    covered = {phase: _covered(evidence, _first_beat(first, phase, beat_s), beat_s, beats) for phase in phases}
    return sorted(phases, key=lambda phase: (-covered[phase], phase))[:KEPT_PHASES]


def _promise(evidence: Evidence, beat_s: float, phase: float) -> float:
    """Return how far a beat is worth a closer look: its fit, and how usual its tempo is."""
    prior = float(_tempo_prior(np.array([60.0 / beat_s]))[0])
    return _grid_fit(evidence.times_s, evidence.weights, phase, beat_s) + 0.35 * prior


def _first_beat(first_s: float, phase: float, beat_s: float) -> float:
    return float(phase + np.floor((first_s - phase) / beat_s + 0.12) * beat_s)


def _placed(evidence: Evidence, beat_s: float, phase: float, meter: Meter) -> list[Reading]:
    """Return readings with the first bar at each of the beats near the first attack."""
    plain = evidence.times_s[evidence.weights >= 0.4 * np.median(evidence.weights)]
    first, last = float(plain[0]), float(plain[-1])
    readings = []
    bar_s = beat_s * meter.beats_per_bar
    for beat in range(meter.beats_per_bar):
        start = _first_beat(first, phase, beat_s) + beat * beat_s
        if start < first - 0.2 * beat_s or start > last:
            continue
        bars = int(np.clip(np.ceil((last - start - 0.06 * beat_s) / bar_s), 1, 4096))
        while bars > 1 and start + bars * bar_s > evidence.duration_s + 0.02 * bar_s:
            bars -= 1
        if start + bars * bar_s > evidence.duration_s + 0.25 * beat_s:
            continue
        score = _score(evidence, start, beat_s, min(bars, MAX_BARS), meter)
        missed = evidence.weights[evidence.times_s < start - 0.1 * beat_s].sum() / np.median(evidence.weights)
        score -= 0.08 * min(3.0, float(missed))
        readings.append(Reading(start, beat_s, bars, meter, score, False))
    return readings


def _periods(evidence: Evidence, params: AnalysisParams) -> list[float]:
    """Return beat lengths at which attacks line up best, from a fine search over the tempo range."""
    span = max(1.0, evidence.times_s[-1] - evidence.times_s[0])
    step = min(0.002, 0.004 / span)
    bpms = np.exp(np.arange(np.log(params.min_bpm), np.log(params.max_bpm), step))
    times, weights = evidence.times_s, evidence.weights
    strength = np.zeros(bpms.size)
    for start in range(0, bpms.size, 1024):
        turns = times[None, :] * (bpms[start : start + 1024, None] / 60.0)
        for divisions, share in ((1, 0.35), (2, 0.35), (4, 0.45), (3, 0.4)):
            wave = np.exp(2j * np.pi * divisions * turns) @ weights
            strength[start : start + 1024] += share * np.abs(wave)
    strength *= np.exp(0.5 * _tempo_prior(bpms))
    chosen: list[float] = []
    for index in np.argsort(-strength):
        bpm = float(bpms[index])
        if all(abs(np.log(bpm / other)) > 0.02 for other in chosen):
            chosen.append(bpm)
        if len(chosen) == 14:
            break
    return [60.0 / bpm for bpm in chosen]


def _regressed(evidence: Evidence, beat_s: float) -> tuple[float, float]:
    """Return beat length and phase fitted to the attacks by weighted least squares.

    Each attack is taken to its nearest division (halves, quarters and thirds of a beat); those
    further off than chance allows do not count. Repeated, so that a small error in the first
    guess cannot add up over the sound.
    """
    times, weights = evidence.times_s, evidence.weights
    phases = np.arange(48) / 48.0 * beat_s
    fits = [_grid_fit(times, weights, phase, beat_s) for phase in phases]
    phase = float(phases[int(np.argmax(fits))])
    for tolerance in (0.14, 0.10, 0.08):
        beats = (times - phase) / beat_s
        grids = np.stack([np.round(beats * n) / n for n in (4, 3)])
        nearest = grids[np.abs(grids - beats).argmin(axis=0), np.arange(beats.size)]
        used = weights * (np.abs(nearest - beats) < tolerance) * np.where(nearest == np.round(nearest), 1.5, 1.0)
        if np.count_nonzero(used) < 3 or np.ptp(nearest[used > 0]) < 0.9:
            break
        slope, origin = np.polyfit(nearest, times, 1, w=np.sqrt(used))
        if not 0.97 < slope / beat_s < 1.03:
            break
        beat_s, phase = float(slope), float(origin)
    return beat_s, phase


def _offset(evidence: Evidence, start: float, beat_s: float) -> float:
    """Return the start of the grid moved to where attacks near beats lie on the whole, by up to 20 ms."""
    deviation = evidence.times_s - start
    deviation = deviation - np.round(deviation / (beat_s / 2.0)) * (beat_s / 2.0)
    near = np.abs(deviation) < 0.02
    return start + (float(np.median(deviation[near])) if near.any() else 0.0)


def _score(evidence: Evidence, start: float, beat_s: float, bars: int, meter: Meter) -> float:
    fit = _grid_fit(evidence.times_s, evidence.weights, start, beat_s, meter.compound)
    bpm = 60.0 / (beat_s * _usual_beat(meter))
    score = fit + 0.4 * _covered(evidence, start, beat_s, bars * meter.beats_per_bar)
    score += 0.5 * _roles(evidence, start, beat_s, meter)
    score += 0.4 * _repeats(evidence, start, beat_s, bars, meter)
    prior = float(_tempo_prior(np.array([bpm * (1.3 if meter.compound else 1.0)]))[0])
    return float(score + 0.35 * prior + METER_PRIOR[meter.name] + PREFERRED_BARS.get(bars, -0.3))


def _tempo_prior(bpm: Array) -> Array:
    return np.asarray(-0.5 * (np.log2(bpm / TEMPO_CENTRE_BPM) / TEMPO_SPREAD_OCTAVES) ** 2)


def _grid_fit(times: Array, weights: Array, start: float, beat_s: float, compound: bool = False) -> float:
    """Return how much of the attacks lies on the beat's divisions beyond what chance would give.

    Each beat may be straight or in three; a beat in three costs a little in a simple meter, and a
    straight one in a compound meter.
    """
    beats = (times - start) / beat_s
    total = float(weights.sum()) or 1.0
    fits = {}
    for divisions in (4, 3):
        distance = np.abs(beats * divisions - np.round(beats * divisions)) / divisions * beat_s
        on_grid = np.exp(-0.5 * (distance / GRID_SIGMA_S) ** 2)
        chance = min(0.95, GRID_SIGMA_S * np.sqrt(2.0 * np.pi) * divisions / beat_s)
        fits[divisions] = (on_grid - chance) / (1.0 - chance)
    which = np.floor(beats + 0.06).astype(int)
    which -= which.min()
    size = int(which.max()) + 1
    by_beat = {d: np.bincount(which, weights * fits[d], minlength=size) for d in fits}
    straight, thirds = by_beat[4].sum(), by_beat[3].sum()
    mixed = np.maximum(by_beat[4], by_beat[3]).sum() - 0.12 * total
    if compound:
        return float(max(thirds, mixed - 0.1 * total) / total)
    return float(max(straight, thirds - 0.08 * total, mixed) / total)


def _roles(evidence: Evidence, start: float, beat_s: float, meter: Meter) -> float:
    """Return whether low hits open bars and mid hits answer them, from -1 to 1."""
    beats = (evidence.times_s - start) / beat_s
    place = np.mod(beats + 0.12, meter.beats_per_bar) - 0.12
    near = np.abs(place - np.round(place)) < 0.13
    beat = np.mod(np.round(place), meter.beats_per_bar).astype(int)
    low = np.bincount(beat[near], evidence.low[near], minlength=meter.beats_per_bar)
    mid = np.bincount(beat[near], evidence.mid[near], minlength=meter.beats_per_bar)
    off_mid = float(evidence.mid[~near].sum())
    off_low = float(evidence.low[~near].sum())
    all_low, all_mid = float(evidence.low.sum()) or 1.0, float(evidence.mid.sum()) or 1.0
    back = _back_beats(meter)
    answer = float(mid[back].sum()) - 0.6 * float(np.delete(mid, back).sum()) - 0.4 * off_mid
    down = float(low[0]) - 0.3 * float(low[back].sum()) - 0.15 * off_low
    expected = 1.0 / meter.beats_per_bar
    return 0.55 * answer / all_mid + 0.45 * (down / all_low - 0.5 * expected) * 1.4


def _covered(evidence: Evidence, start: float, beat_s: float, beats: int) -> float:
    """Return the share of beats that have an attack on them."""
    at = (evidence.times_s - start) / beat_s
    near = np.abs(at - np.round(at)) * beat_s < 2.0 * GRID_SIGMA_S
    inside = near & (np.round(at) >= 0) & (np.round(at) < beats)
    return float(np.unique(np.round(at[inside])).size) / beats


def _back_beats(meter: Meter) -> list[int]:
    if meter.name in ("4/4", "12/8"):
        return [1, 3]
    if meter.name == "6/8":
        return [1]
    if meter.name == "3/4":
        return [1, 2]
    return [meter.beats_per_bar // 2 + 1]


def _repeats(evidence: Evidence, start: float, beat_s: float, bars: int, meter: Meter) -> float:
    """Return how alike the bars are to each other, compared with the same pattern moved by a beat."""
    if bars < 2:
        return 0.35
    steps = 12 * meter.beats_per_bar
    at = np.round((evidence.times_s - start) / beat_s * 12.0).astype(int)
    inside = (at >= 0) & (at < steps * bars)
    size = steps * bars
    profile = np.concatenate(
        [
            _smoothed(np.bincount(at[inside], role[inside], minlength=size)[:size])
            for role in (evidence.low, evidence.mid, evidence.high)
        ]
    ).reshape(3, size)
    return _likeness(profile, steps)


def _likeness(profile: Array, lag: int) -> float:
    first, second = profile[:, :-lag].ravel(), profile[:, lag:].ravel()
    norm = float(np.sqrt((first**2).sum() * (second**2).sum()))
    return float(first @ second) / norm if norm > 0.0 else 0.0


def _smoothed(profile: NDArray[np.floating] | NDArray[np.integer]) -> Array:
    return np.asarray(np.convolve(profile, (0.5, 1.0, 0.5), mode="same"))


def _distinct(readings: list[Reading]) -> list[Reading]:
    """Keep the best of readings that say the same, and no more than a dozen."""
    kept: list[Reading] = []
    for reading in readings:
        if all(
            abs(reading.bpm / other.bpm - 1.0) > 0.004 or reading.meter.name != other.meter.name for other in kept
        ):
            kept.append(reading)
        if len(kept) == 12:
            break
    return kept


def _unknown(evidence: Evidence, params: AnalysisParams) -> Reading:
    """Return a reading for sound that says nothing of tempo: the bars that fill it at a usual tempo."""
    meter = METERS[params.meters[0]]
    duration = max(evidence.duration_s, 0.05)
    usual = TEMPO_CENTRE_BPM if params.min_bpm <= TEMPO_CENTRE_BPM <= params.max_bpm else params.max_bpm
    bars = max(1, round(duration * usual / 60.0 / meter.beats_per_bar))
    return Reading(0.0, duration / (bars * meter.beats_per_bar), bars, meter, 0.0, True)
