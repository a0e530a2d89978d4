"""What a beat says of the attacks: where they fall in it, which drums open and answer bars, what repeats."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from math import log2, pi

import numpy as np
from numpy.typing import NDArray
from scipy.fft import next_fast_len

from bompla.model.document import Heard
from bompla.model.drums import Meter

Array = NDArray[np.float64]

GRID_SIGMA_S = 0.012
"""How far from the grid a hit may lie and still speak for it."""

STEPS = 12
"""Steps a beat is looked at in: a multiple of 3 and of 4."""

COUNT_IN, ON_BEAT = (2, 8), 0.08
"""How many strikes may count a loop in, and how near a beat, in beats, they are on it."""

TEMPO_CENTRE_BPM = 110.0
EXCERPT_S = 45.0
"""Of a longer sound only so much is read for tempo at once."""

METER_NAMES = ("4/4", "3/4", "6/8", "12/8", "5/4", "7/8")
BAR_COUNTS = (1, 2, 4, 8, 3, 6)

FEATURE_NAMES = (
    "grid fit", "thirds gain", "beats covered", "bars opened", "low on first", "mid on back", "mid on others", "mid off beat",
    "low off beat", "bar repeats", "one bar", "repeats sooner", "repeats by beat", "tempo", "tempo squared", "hits a beat",
    "hits a beat squared", "odd steps", "high on steps", "compound and thirds", "simple and thirds",
    "compound tempo", "compound middle", "simple middle", "back twice", "trimmed", "lead", "rest",
    "missed before", "missed after", "counted in", "low at start", "early start", "crash on first",
    *(f"meter {name}" for name in METER_NAMES[1:]),
    *(f"bars {count}" for count in BAR_COUNTS), "odd bars", "many bars",
)
"""What `features` returns, in order."""


@dataclass(frozen=True, eq=False)
class Evidence:
    """What tempo is read from: times in seconds, and for each attack its strength by role.

    All arrays have shape (attacks,), values from 0 to 1. `low`, `mid` and `high` say how much an
    attack is a kick, a snare and a hat or cymbal; `splash` how much it is a crash. `duration_s` is
    the length of the sound.
    """

    times_s: Array
    weights: Array
    low: Array
    mid: Array
    high: Array
    splash: Array
    duration_s: float

    @cached_property
    def first_s(self) -> float:
        """When the first attack is."""
        return float(self.times_s[0])

    @cached_property
    def last_s(self) -> float:
        """When the last attack is."""
        return float(self.times_s[-1])

    @cached_property
    def roles(self) -> Array:
        """Weights, low, mid, high and splash, shape (5, attacks)."""
        return np.stack([self.weights, self.low, self.mid, self.high, self.splash])

    @cached_property
    def usual_weight(self) -> float:
        """The strength in the middle of all, at least a little."""
        return max(float(np.median(self.weights)), 1e-6)

    @cached_property
    def total(self) -> float:
        """All strengths together, at least a little."""
        return max(float(self.weights.sum()), 1e-6)

    @cached_property
    def _summed(self) -> tuple[list[float], list[float]]:
        return self.times_s.tolist(), [0.0, *np.cumsum(self.weights).tolist()]

    def weight_before(self, at_s: float) -> float:
        """Return the strength of all attacks before a time."""
        times, total = self._summed
        return total[bisect_left(times, at_s)]


LOW = {"kick": 1.0, "tom_low": 0.4, "tom_mid": 0.3}
MID = {"snare": 1.0, "rim": 0.9, "clap": 0.9, "tom_high": 0.3, "tom_mid": 0.2}
HIGH = {"hat_closed": 1.0, "hat_open": 1.0, "hat_pedal": 0.7, "ride": 1.0, "crash": 0.8, "shaker": 1.0}
SPLASH = {"crash": 1.0}
"""How much each drum counts in each role."""


def evidence_of(times_s: Array, heard: Sequence[tuple[Heard, ...]], duration_s: float) -> Evidence:
    """Return the evidence of attacks at times in seconds, with the drums heard at each."""
    rows = np.zeros((5, len(heard)))
    for index, drums in enumerate(heard):
        for one in drums:
            force = one.confidence * one.velocity / 127.0
            rows[0, index] = max(rows[0, index], force)
            for row, table in enumerate((LOW, MID, HIGH, SPLASH), 1):
                rows[row, index] = max(rows[row, index], force * table.get(one.drum, 0.0))
    return Evidence(times_s, np.sqrt(np.maximum(rows[0], 0.01)), rows[1], rows[2], rows[3], rows[4], duration_s)


def excerpt(evidence: Evidence) -> Evidence:
    """Return the `EXCERPT_S` seconds with the most attacks of a long sound, and a short one as it is."""
    times = evidence.times_s
    if evidence.duration_s <= EXCERPT_S or times.size < 2:
        return evidence
    total = np.concatenate([[0.0], np.cumsum(evidence.weights)])
    ends = np.searchsorted(times, times + EXCERPT_S)
    first = int((total[ends] - total[: times.size]).argmax())
    chosen = slice(first, int(ends[first]))
    return Evidence(
        times[chosen], evidence.weights[chosen], evidence.low[chosen], evidence.mid[chosen], evidence.high[chosen],
        evidence.splash[chosen], min(evidence.duration_s, float(times[first]) + EXCERPT_S),
    )


@dataclass(frozen=True, eq=False)
class BeatGrid:
    """The attacks seen on a beat: `phase_s` is where beat 0 falls, `beat_s` its length, `beats` how many there are."""

    evidence: Evidence
    phase_s: float
    beat_s: float
    beats: int
    wraps: bool

    @cached_property
    def at(self) -> Array:
        """The attacks' times in beats."""
        return np.asarray((self.evidence.times_s - self.phase_s) / self.beat_s)

    @cached_property
    def fits(self) -> tuple[Array, Array]:
        """How well each attack lies on quarters and on thirds of a beat beyond what chance would give."""
        divided = self.at * _DIVISIONS
        distance = np.abs(divided - np.round(divided)) / _DIVISIONS * self.beat_s
        on_grid = np.exp(-0.5 * (distance / GRID_SIGMA_S) ** 2)
        chance = np.minimum(0.95, _CHANCE * _DIVISIONS / self.beat_s)
        four, three = (on_grid - chance) / (1.0 - chance)
        return four, three

    @cached_property
    def judged(self) -> tuple[float, float]:
        """The fit with each beat straight or in three, and how much of it thirds give over quarters, from -1 to 1."""
        weights, total = self.evidence.weights, self.evidence.total
        which = np.floor(self.at + 0.06).astype(int)
        which -= which.min(initial=0)
        size = int(which.max(initial=0)) + 1
        four, three = (np.bincount(which, weights * fit, minlength=size) for fit in self.fits)
        whole = max(float(four.sum()), float(three.sum()), float(np.maximum(four, three).sum()) - 0.12 * total)
        return whole / total, float(three.sum() - four.sum()) / total

    @cached_property
    def steps(self) -> Array:
        """Weights, low, mid, high and splash by step, shape (5, beats * STEPS)."""
        size = self.beats * STEPS
        index = np.round(self.at * STEPS).astype(int)
        if self.wraps:
            index = np.mod(index, size)
        inside = (index >= 0) & (index < size)
        places = index[inside] + _ROLE_ROWS * size
        counted = np.bincount(places.ravel(), self.evidence.roles[:, inside].ravel(), minlength=5 * size)
        return np.asarray(counted, np.float64).reshape(5, size)

    @cached_property
    def on_beat(self) -> Array:
        """The same roles gathered on each beat, from a step before it to a step after it, shape (5, beats)."""
        steps = self.steps.reshape(5, self.beats, STEPS)
        return np.asarray(steps[:, :, 0] + steps[:, :, 1] + _later(steps[:, :, -1]))

    @cached_property
    def hits(self) -> float:
        """How many attacks a beat has, as a power of two."""
        return float(np.log2(max(0.05, len(self.at) / self.beats)))

    @cached_property
    def totals(self) -> list[float]:
        """The sum of each role, at least a little."""
        return [max(float(total), 1e-6) for total in self.steps.sum(axis=1)]

    @cached_property
    def _to_place(self) -> Array:
        _, low, mid, _, splash = self.on_beat
        return np.stack([low, mid, splash, low != 0.0, np.ones(self.beats)])

    @cached_property
    def _places(self) -> dict[int, list[list[float]]]:
        return {}

    def by_place(self, per_bar: int) -> list[list[float]]:
        """Return low, mid and splash on beats, beats with something low, and beats, each summed by place in bars of so many beats."""
        if per_bar not in self._places:
            rows = np.zeros((5, -(-self.beats // per_bar) * per_bar))
            rows[:, : self.beats] = self._to_place
            self._places[per_bar] = rows.reshape(5, -1, per_bar).sum(axis=1).tolist()
        return self._places[per_bar]

    @cached_property
    def _alike(self) -> dict[int, tuple[float, float]]:
        return {}

    def alike(self, per_bar: int) -> tuple[float, float]:
        """Return how alike the pattern is to itself a bar later, and at most after other stretches shorter than two bars."""
        if per_bar not in self._alike:
            others = self.likeness[2 : min(self.beats, 2 * per_bar)].copy()
            others[per_bar - 2 :: per_bar] = 0.0
            bar = float(self.likeness[per_bar]) if per_bar < self.beats else 0.7
            self._alike[per_bar] = bar, float(others.max()) if others.any() else 0.5
        return self._alike[per_bar]

    @cached_property
    def likeness(self) -> Array:
        """How alike the pattern is to itself so many beats later, from 0 to 1, shape (beats,)."""
        rows = self.steps[1:4] / np.array(self.totals[1:4])[:, None]
        smooth = rows + 0.5 * (_later(rows) + _later(rows[:, ::-1])[:, ::-1])
        size = smooth.shape[1] if self.wraps else next_fast_len(2 * smooth.shape[1], real=True)
        spectrum = np.fft.rfft(smooth, size, axis=1)
        power = (spectrum.real**2 + spectrum.imag**2).sum(axis=0)
        auto = np.fft.irfft(power, size)[: smooth.shape[1] : STEPS]
        if not self.wraps:
            auto = auto * self.beats / np.maximum(1, self.beats - np.arange(self.beats))
        return np.asarray(np.clip(auto / max(float(auto[0]), 1e-9), 0.0, 1.2))

    @cached_property
    def low_on(self) -> list[float]:
        """How low each beat is, against the lowest."""
        low = self.on_beat[1]
        return (low / max(1e-6, float(low.max()))).tolist()  # type: ignore[no-any-return]

    @cached_property
    def counted_in(self) -> list[float]:
        """For each beat from 0 to 1 how much what is struck before it is like a count: a few strikes on beats, no kick among them."""
        e, few = self.evidence, COUNT_IN[1] + 1
        opening = list(zip(self.at[:few].tolist(), e.low[:few].tolist(), (e.low + e.mid + e.high)[:few].tolist(), strict=True))
        counts = [0.0] * (self.beats + 1)
        before = 0
        for beat in range(self.beats + 1):
            while before < len(opening) and opening[before][0] < beat - 0.1:
                before += 1
            if before > COUNT_IN[1]:
                break
            if before >= COUNT_IN[0]:
                counts[beat] = _like_a_count(opening[:before], beat)
        return counts

    @cached_property
    def covered(self) -> float:
        """The share of beats that have an attack on them."""
        return float(np.count_nonzero(self.on_beat[0] > 0.0)) / self.beats

    @cached_property
    def odd_steps(self) -> float:
        """The share of the weight on odd sixteenths."""
        sixteenth = np.round(self.at * 4.0).astype(int)
        return float(self.evidence.weights[sixteenth % 2 == 1].sum() / self.evidence.total)

    @cached_property
    def middle_thirds(self) -> float:
        """The share of beats with a hit on their second third, which a shuffle leaves out."""
        around = self.steps[0].reshape(self.beats, STEPS)[:, 4:6].sum(axis=1)
        return float(np.count_nonzero(around > 0.0)) / self.beats if self.judged[1] > 0.0 else 0.0

    @cached_property
    def high_steps(self) -> float:
        """The share of eighths that have a hat on them."""
        eighths = self.steps[3].reshape(2 * self.beats, STEPS // 2)
        near = eighths[:, 0] + eighths[:, 1] + _later(eighths[:, -1])
        return float(np.count_nonzero(near > 0.0)) / (2 * self.beats)


_DIVISIONS = np.array([[4.0], [3.0]])
_ROLE_ROWS = np.arange(5)[:, None]
_CHANCE = GRID_SIGMA_S * (2.0 * pi) ** 0.5


def _later(rows: Array) -> Array:
    """Return the last axis turned round by one; NumPy's own turn takes several times as long on so few."""
    return np.concatenate((rows[..., -1:], rows[..., :-1]), axis=-1)


def _like_a_count(before: list[tuple[float, float, float]], first_beat: int) -> float:
    """Return how much strikes, each its beat, how low it is and how much it is of any role, are a count up to a beat."""
    if first_beat - before[0][0] > 1.5 * len(before) + 0.5:
        return 0.0
    on_beats = sum(abs(at - round(at)) < ON_BEAT for at, _, _ in before) / len(before)
    low = sum(low for _, low, _ in before) / max(1e-6, sum(every for _, _, every in before))
    return max(0.0, 2.0 * on_beats - 1.0) * (1.0 - low)


_BACK_BEATS = {"6/8": [1], "3/4": [1, 2], "5/4": [3], "7/8": [2, 4]}


def back_beats(meter: Meter) -> list[int]:
    """Return the beats of a bar that snares usually answer on."""
    return _BACK_BEATS.get(meter.name, [1, 3])


def features(grid: BeatGrid, meter: Meter, first_beat: int, bars: int, *, trimmed: bool) -> Array:
    """Return what speaks for and against a reading, shape (features,): see `FEATURE_NAMES`."""
    per_bar = meter.beats_per_bar
    first = first_beat % per_bar
    low, mid, splash, low_beats, beats = grid.by_place(per_bar)
    total = grid.totals
    fit, thirds = grid.judged
    usual = 2.0 if meter.beat_quarters < 1.0 else 1.0
    octaves = log2(60.0 / (grid.beat_s * usual) / TEMPO_CENTRE_BPM)
    hits = grid.hits
    on_back = sum(mid[(first + beat) % per_bar] for beat in back_beats(meter)) / total[2]
    on_low, on_mid = sum(low) / total[1], sum(mid) / total[2]
    bar_like, sooner = _repeats(grid, per_bar, bars)
    e = grid.evidence
    start_s = grid.phase_s + first_beat * grid.beat_s
    end_s = start_s + bars * per_bar * grid.beat_s
    compound, middle = meter.compound, grid.middle_thirds
    values = [
        fit, thirds, grid.covered,
        low_beats[first] / max(1.0, beats[first]),
        low[first] / total[1], on_back, on_mid - on_back,
        1.0 - on_mid, 1.0 - on_low,
        bar_like, float(bars == 1), sooner, float(grid.likeness[1]) if grid.beats > 1 else 0.5,
        octaves, octaves**2, hits, hits**2, grid.odd_steps, grid.high_steps,
        thirds if compound else 0.0, 0.0 if compound else max(0.0, thirds),
        octaves if compound else 0.0, middle if compound else 0.0, 0.0 if compound else middle,
        on_back * hits,
        float(trimmed), min(2.0, max(0.0, e.first_s / grid.beat_s)) if trimmed else 0.0,
        min(4.0, max(0.0, (end_s - e.last_s) / grid.beat_s)),
        e.weight_before(start_s - 0.1 * grid.beat_s) / e.usual_weight if not trimmed else 0.0,
        (e.total - e.weight_before(end_s - 0.1 * grid.beat_s)) / e.usual_weight if not trimmed else 0.0,
        grid.counted_in[first_beat] if not trimmed else 0.0,
        grid.low_on[first_beat] if not trimmed else 0.0,
        min(1.0, max(0.0, (e.first_s - start_s) / grid.beat_s)) if not trimmed else 0.0,
        splash[first] / total[4] if total[4] > 0.2 else 0.4,
        *_kinds(meter.name, bars),
    ]
    return np.array(values)


@lru_cache(maxsize=1024)
def _kinds(meter: str, bars: int) -> tuple[float, ...]:
    return (
        *(float(meter == name) for name in METER_NAMES[1:]),
        *(float(bars == count) for count in BAR_COUNTS), float(bars % 2 == 1 and bars > 3), float(bars > 8),
    )


def _repeats(grid: BeatGrid, per_bar: int, bars: int) -> tuple[float, float]:
    """Return how alike bars are, and how alike the best shorter or crossing stretches are."""
    if grid.beats <= 1:
        return 0.7, 0.5
    alike, sooner = grid.alike(per_bar)
    return alike if bars > 1 and per_bar < grid.beats else 0.7, sooner
