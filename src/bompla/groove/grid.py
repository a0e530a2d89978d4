"""The grid a pattern lies on, judged beat by beat: straight or in three."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bompla.model.detected_pattern import pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document, Hit
from bompla.model.loop import NEARLY_WHOLE_BEATS, whole_beats

STRAIGHT, THIRDS = 4, 3
EARLY_BEATS = 0.1
_DOUBT = 0.02


def beat_divisions(at_beats: Sequence[float], beats: float, *, compound: bool = False) -> NDArray[np.int64]:
    """Return for each beat how many steps it divides into: 4, or 3 where its hits lie nearer to thirds.

    A beat whose hits do not tell follows what the whole pattern does. Shape (beats,), of a last
    beat that is only begun, too.
    """
    count = whole_beats(beats)
    times = np.asarray(at_beats, dtype=np.float64)
    beat = np.floor(times + EARLY_BEATS).astype(np.int64)
    inside = (beat >= 0) & (beat < count)
    errors = {}
    for divisions in (STRAIGHT, THIRDS):
        distance = np.abs(times * divisions - np.round(times * divisions)) / divisions
        errors[divisions] = np.bincount(beat[inside], distance[inside] ** 2, minlength=count)
    overall = STRAIGHT
    if compound or errors[THIRDS].sum() < 0.7 * errors[STRAIGHT].sum():
        overall = THIRDS
    judged = np.full(count, overall, dtype=np.int64)
    judged[errors[STRAIGHT] + _DOUBT**2 < 0.5 * errors[THIRDS]] = STRAIGHT
    judged[errors[THIRDS] + _DOUBT**2 < 0.5 * errors[STRAIGHT]] = THIRDS
    return judged


def quantised(at_beats: Sequence[float], beats: float, *, compound: bool = False) -> NDArray[np.float64]:
    """Return times moved to the nearest step of their own beat's grid, none after the end, nor over a step ahead of the start."""
    times = np.asarray(at_beats, dtype=np.float64)
    if times.size == 0:
        return times
    divisions = beat_divisions(at_beats, beats, compound=compound)
    beat = np.clip(np.floor(times + EARLY_BEATS).astype(np.int64), 0, divisions.size - 1)
    steps = divisions[beat]
    moved = np.round(times * steps) / steps
    last = np.ceil(beats * steps - NEARLY_WHOLE_BEATS) / steps - 1.0 / steps  # the last step that begins inside
    return np.asarray(np.clip(moved, -1.0 / steps, np.where(moved >= beats, last, moved)))


def quantised_hits(hits: Sequence[Hit], beats: float, amount: float, *, flam_beats: float, compound: bool = False) -> list[float]:
    """Return the times of hits moved to the grid by an amount from 0 to 1.

    Of hits of one pad that are nearer than `flam_beats` the last moves, and those before it keep their distance: a flam stays one.
    """
    goes_with = list(range(len(hits)))
    last: dict[int, int] = {}
    for n in sorted(range(len(hits)), key=lambda k: -hits[k].at_beats):
        after = last.get(hits[n].pad_id)
        if after is not None and hits[after].at_beats - hits[n].at_beats < flam_beats:
            goes_with[n] = goes_with[after]
        last[hits[n].pad_id] = n
    leaders = sorted(set(goes_with))
    moved = quantised([hits[n].at_beats for n in leaders], beats, compound=compound).tolist()
    by = {n: amount * (to - hits[n].at_beats) for n, to in zip(leaders, moved, strict=True)}
    return [hit.at_beats + by[goes_with[n]] for n, hit in enumerate(hits)]


def offset_beats(hit: Hit, divisions: NDArray[np.int64]) -> float:
    """Return how far behind its nearest step a hit lies, in beats; negative is ahead."""
    beat = int(np.clip(np.floor(hit.at_beats + EARLY_BEATS), 0, len(divisions) - 1))
    steps = int(divisions[beat])
    return float(hit.at_beats - round(hit.at_beats * steps) / steps)


@dataclass(frozen=True, eq=False)
class Grid:
    """The steps that hits of a pattern are drawn on and moved by.

    `step_beats` is their length; 0 takes each beat's own steps, of which `divisions` (beats,) holds how many there are, and below 0
    there is no grid. `beats` is the length of the pattern.
    """

    step_beats: float = 0.0
    divisions: NDArray[np.int64] = field(default_factory=lambda: np.full(1, STRAIGHT))
    beats: float = 1.0
    _made_of: tuple[object, ...] = ()

    @classmethod
    def of(cls, document: Document, step_beats: float = 0.0) -> Grid:
        """Return the grid of the shown pattern."""
        beats, meter = pattern_beats(document), pattern_meter(document)
        hits = pattern_of(document).hits
        divisions = beat_divisions([hit.at_beats for hit in hits], beats, compound=meter.compound)
        return cls(step_beats, divisions, beats, (hits, beats, meter.compound))

    def is_of(self, document: Document, step_beats: float) -> bool:
        """Whether this is the grid of a document's shown pattern with a step."""
        if step_beats != self.step_beats or not self._made_of:
            return False
        hits, beats, compound = self._made_of
        return hits is pattern_of(document).hits and (beats, compound) == (pattern_beats(document), pattern_meter(document).compound)

    def own_step_at(self, at_beats: float) -> float:
        """Return the length of a step of a beat's own grid, in beats."""
        beat = int(np.clip(at_beats + EARLY_BEATS, 0, len(self.divisions) - 1))
        return 1.0 / float(self.divisions[beat])

    def step_at(self, at_beats: float) -> float:
        """Return the length of a step in beats at a time."""
        return self.step_beats if self.step_beats > 0.0 else self.own_step_at(at_beats)

    def step_near(self, at_beats: float) -> float:
        """Return the step nearest to a time, in beats; the time itself where there is no grid."""
        if self.step_beats < 0.0:
            return at_beats
        step = self.step_at(at_beats)
        return float(np.clip(round(at_beats / step) * step, 0.0, self.beats - step))

    def offset_beats(self, hit: Hit) -> float:
        """Return how far behind its nearest step a hit lies, in beats; negative is ahead."""
        if self.step_beats > 0.0:
            return hit.at_beats - round(hit.at_beats / self.step_beats) * self.step_beats
        return offset_beats(hit, self.divisions)

    def steps_between(self, first_beat: float, last_beat: float) -> NDArray[np.float64]:
        """Return the steps from one whole beat to another, in beats; none where there is no grid."""
        if self.step_beats < 0.0:
            return np.zeros(0)
        if self.step_beats > 0.0:
            step = self.step_beats
            return np.arange(int(first_beat / step), int(np.ceil(last_beat / step)), dtype=np.float64) * step
        beats = np.arange(int(first_beat), int(last_beat))
        counts = self.divisions[np.minimum(beats, len(self.divisions) - 1)]
        steps = [beat + np.arange(count) / count for beat, count in zip(beats.tolist(), counts.tolist(), strict=True)]
        return np.concatenate(steps) if steps else np.zeros(0)
