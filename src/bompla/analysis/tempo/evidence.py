"""Where attacks fall in beats: how well they lie on them, what is struck on each, and what repeats."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from math import pi

import numpy as np
from numpy.typing import NDArray

from bompla.model.document import Heard

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
    def _sums(self) -> Array:
        return np.concatenate([[0.0], np.cumsum(self.weights)])

    def enough_s(self, weight: Array) -> Array:
        """Return the times after which the strength of all attacks before is at least so much, of the shape of `weight`."""
        return np.asarray(self.times_s[np.minimum(np.searchsorted(self._sums, weight), self.times_s.size) - 1])

    def weights_before(self, at_s: Array) -> Array:
        """Return the strength of all attacks before each of some times, of their shape."""
        return np.asarray(self._sums[np.searchsorted(self.times_s, at_s)])


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


def part_of(evidence: Evidence, start_s: float, end_s: float) -> Evidence:
    """Return the evidence from one time up to another, its times counted from the first."""
    first, last = np.searchsorted(evidence.times_s, (start_s, end_s))
    chosen = slice(int(first), int(last))
    return Evidence(
        evidence.times_s[chosen] - start_s, evidence.weights[chosen], evidence.low[chosen], evidence.mid[chosen], evidence.high[chosen],
        evidence.splash[chosen], min(evidence.duration_s, end_s) - start_s,
    )


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
    """The attacks seen on beats of one length that begin at several places.

    Beat 0 falls at each of `phases_s`, shape (phases,); `beat_s` is how long a beat is, `beats` how many there are.
    With `wraps` the sound goes round. All that is seen has a row for each phase: side by side they take little longer than one.
    """

    evidence: Evidence
    phases_s: Array
    beat_s: float
    beats: int
    wraps: bool

    @cached_property
    def at(self) -> Array:
        """The attacks' times in beats, shape (phases, attacks)."""
        return np.asarray((self.evidence.times_s - self.phases_s[:, None]) / self.beat_s)

    @cached_property
    def fits(self) -> tuple[Array, Array]:
        """How well each attack lies on quarters and on thirds of a beat beyond what chance would give, each (phases, attacks)."""
        return grid_fits(self.at, np.full(len(self.at), self.beat_s))

    @cached_property
    def judged(self) -> tuple[Array, Array]:
        """The fit with each beat straight or in three, and how much of it thirds give over quarters, from -1 to 1, each (phases,)."""
        return judged_fits(self.evidence, self.at, self.fits)

    def of(self, phases: NDArray[np.intp]) -> BeatGrid:
        """Return the grid of some of its phases, with what of them is known."""
        chosen = replace(self, phases_s=self.phases_s[phases])
        for name in ("at", "steps", "on_beat"):
            chosen.__dict__[name] = getattr(self, name)[phases]
        chosen.__dict__["judged"] = tuple(seen[phases] for seen in self.judged)
        return chosen

    @cached_property
    def steps(self) -> Array:
        """Weights, low, mid, high and splash by step, shape (phases, 5, beats * STEPS)."""
        rows, size = len(self.at), self.beats * STEPS
        index = np.round(self.at * STEPS).astype(int)
        if self.wraps:
            index = np.mod(index, size)
        row, attack = np.nonzero((index >= 0) & (index < size))
        places = index[row, attack] + size * (5 * row + _ROLE_ROWS)
        counted = np.bincount(places.ravel(), self.evidence.roles[:, attack].ravel(), minlength=5 * rows * size)
        return np.asarray(counted, np.float64).reshape(rows, 5, size)

    @cached_property
    def on_beat(self) -> Array:
        """The same roles gathered on each beat, from a step before it to a step after it, shape (phases, 5, beats)."""
        steps = self.steps.reshape(-1, 5, self.beats, STEPS)
        return np.asarray(steps[..., 0] + steps[..., 1] + _later(steps[..., -1]))

    @cached_property
    def hits(self) -> float:
        """How many attacks a beat has, as a power of two."""
        return float(np.log2(max(0.05, self.at.shape[1] / self.beats)))

    @cached_property
    def totals(self) -> Array:
        """The sum of each role, at least a little, shape (phases, 5)."""
        return np.asarray(np.maximum(self.steps.sum(axis=2), 1e-6))

    @cached_property
    def likeness(self) -> Array:
        """How alike the pattern is to itself so many beats later, from 0 to 1, shape (phases, beats)."""
        rows = self.steps[:, 1:4] / self.totals[:, 1:4, None]
        smooth = rows + 0.5 * (_later(rows) + _later(rows[..., ::-1])[..., ::-1])
        # a power of two: SciPy, which knows more lengths that are quick, is not to be imported where the window starts
        size = smooth.shape[2] if self.wraps else 1 << (2 * smooth.shape[2] - 1).bit_length()
        spectrum = np.fft.rfft(smooth, size, axis=2)
        power = (spectrum.real**2 + spectrum.imag**2).sum(axis=1)
        auto = np.fft.irfft(power, size)[:, : smooth.shape[2] : STEPS]
        if not self.wraps:
            auto = auto * self.beats / np.maximum(1, self.beats - np.arange(self.beats))
        return np.asarray(np.clip(auto / np.maximum(auto[:, :1], 1e-9), 0.0, 1.2))

    @cached_property
    def low_on(self) -> Array:
        """How low each beat is, against the lowest, shape (phases, beats)."""
        low = self.on_beat[:, 1]
        return np.asarray(low / np.maximum(1e-6, low.max(axis=1, keepdims=True)))

    @cached_property
    def counted_in(self) -> Array:
        """How much what is struck before each beat is like a count up to it, from 0 to 1, shape (phases, beats).

        A count is a few strikes on beats with no kick among them, none much before as many beats as there are strikes.
        """
        e, (fewest, most) = self.evidence, COUNT_IN
        opening = self.at[:, : most + 1]
        low, every = np.cumsum(e.low[: most + 1]), np.cumsum((e.low + e.mid + e.high)[: most + 1])
        strikes = np.arange(1, opening.shape[1] + 1)
        on_beats = np.cumsum(np.abs(opening - np.round(opening)) < ON_BEAT, axis=1) / strikes
        like = np.maximum(0.0, 2.0 * on_beats - 1.0) * (1.0 - low / np.maximum(1e-6, every))
        like = np.where((strikes >= fewest) & (strikes <= most), like, 0.0)
        beat = np.arange(self.beats)
        before = (opening[:, None] < beat[:, None] - 0.1).sum(axis=2)
        counts = np.where(before > 0, np.take_along_axis(like, np.maximum(before - 1, 0), axis=1), 0.0)
        return np.where(beat - opening[:, :1] <= 1.5 * before + 0.5, counts, 0.0)

    @cached_property
    def covered(self) -> Array:
        """The share of beats that have an attack on them, shape (phases,)."""
        return np.asarray(np.count_nonzero(self.on_beat[:, 0] > 0.0, axis=1) / self.beats)

    @cached_property
    def odd_steps(self) -> Array:
        """The share of the weight on odd sixteenths, shape (phases,)."""
        odd = np.round(self.at * 4.0).astype(int) % 2 == 1
        return np.asarray(odd @ self.evidence.weights / self.evidence.total)

    @cached_property
    def middle_thirds(self) -> Array:
        """The share of beats with a hit on their second third, which a shuffle leaves out, shape (phases,)."""
        around = self.steps[:, 0].reshape(-1, self.beats, STEPS)[..., 4:6].sum(axis=2)
        return np.where(self.judged[1] > 0.0, np.count_nonzero(around > 0.0, axis=1) / self.beats, 0.0)

    @cached_property
    def high_steps(self) -> Array:
        """The share of eighths that have a hat on them, shape (phases,)."""
        eighths = self.steps[:, 3].reshape(-1, 2 * self.beats, STEPS // 2)
        near = eighths[..., 0] + eighths[..., 1] + _later(eighths[..., -1])
        return np.asarray(np.count_nonzero(near > 0.0, axis=1) / (2 * self.beats))


_DIVISIONS = np.array([[4.0], [3.0]])
_ROLE_ROWS = np.arange(5)[:, None]
_CHANCE = GRID_SIGMA_S * (2.0 * pi) ** 0.5


def grid_fits(at: Array, beats_s: Array) -> tuple[Array, Array]:
    """Return how well attacks lie on quarters and on thirds of a beat beyond what chance would give, each (rows, attacks).

    `at` says where they are in beats, shape (rows, attacks), `beats_s` how long those beats are, shape (rows,).
    """
    divided = at[:, None] * _DIVISIONS
    divided -= np.rint(divided)
    on_grid = np.exp(-0.5 * (divided * (beats_s[:, None, None] / (_DIVISIONS * GRID_SIGMA_S))) ** 2)
    chance = np.minimum(0.95, _CHANCE * _DIVISIONS / beats_s[:, None, None])
    both = (on_grid - chance) / (1.0 - chance)
    return both[:, 0], both[:, 1]


def judged_fits(evidence: Evidence, at: Array, fits: tuple[Array, Array]) -> tuple[Array, Array]:
    """Return the fit with each beat straight or in three, and how much of it thirds give over quarters, from -1 to 1, each (rows,)."""
    weights, total = evidence.weights, evidence.total
    which = np.floor(at + 0.06).astype(int)
    which -= which.min(axis=1, initial=0, keepdims=True)
    size, rows = int(which.max(initial=0)) + 1, len(which)
    places = (which + size * np.arange(rows)[:, None]).ravel()
    four, three = (np.bincount(places, (weights * fit).ravel(), minlength=rows * size).reshape(rows, size) for fit in fits)
    quarters, thirds = four.sum(axis=1), three.sum(axis=1)
    whole = np.maximum(np.maximum(quarters, thirds), np.maximum(four, three).sum(axis=1) - 0.12 * total)
    return whole / total, (thirds - quarters) / total


def _later(rows: Array) -> Array:
    """Return the last axis turned round by one; NumPy's own turn takes several times as long on so few."""
    return np.concatenate((rows[..., -1:], rows[..., :-1]), axis=-1)


def struck_by_bar(lines: NDArray[np.floating], evidence: Evidence) -> Array:
    """Return what is struck in each bar by step, shape (bars, roles times steps)."""
    size = 4 * STEPS
    bar = np.searchsorted(lines, evidence.times_s + 0.02, side="right") - 1
    inside = (bar >= 0) & (bar < len(lines) - 1)
    length = np.diff(lines)
    place = (evidence.times_s[inside] - lines[bar[inside]]) / length[bar[inside]] * size
    step = np.clip(np.round(place), 0, size - 1).astype(np.intp)
    made = np.zeros((len(lines) - 1, 3, size))
    for row, strength in enumerate((evidence.low, evidence.mid, evidence.high)):
        np.add.at(made[:, row], (bar[inside], step), strength[inside])
    return made.reshape(len(lines) - 1, -1)


def bars_alike(struck: Array) -> tuple[Array, Array]:
    """Return how like the usual bar each bar is, from 0 to 1, and how much is struck in it against the usual; of `struck_by_bar`."""
    usual = np.median(struck, axis=0)
    like = struck @ usual / np.maximum(np.linalg.norm(struck, axis=1) * np.linalg.norm(usual), 1e-9)
    busy = struck.sum(axis=1)
    return like, busy / max(1e-9, float(np.median(busy)))
