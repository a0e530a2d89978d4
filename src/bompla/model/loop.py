"""The loop: the region of a source that comes round."""

from __future__ import annotations

import math

import msgspec

from bompla.model.drums import METERS, Meter

MOST_LOOP_BARS = 256
NEARLY_WHOLE_BEATS = 2e-3
"""So little off whole beats or bars a length counts as whole: ends fall on samples."""


def whole_bars(length_beats: float, meter: Meter) -> int:
    """Return how many bars a length in beats reaches into, at least one."""
    return max(1, math.ceil((length_beats - NEARLY_WHOLE_BEATS) / meter.beats_per_bar))


def whole_beats(length_beats: float) -> int:
    """Return how many beats a length reaches into, at least one."""
    return max(1, math.ceil(length_beats - NEARLY_WHOLE_BEATS))


class Tempo(msgspec.Struct, frozen=True):
    """The beat that a loop is counted by, whatever its ends: detected, or `by_hand` (typed, tapped, said in bars, or chosen).

    0 where it is what the loop's ends and length say.
    """

    bpm: float = 0.0
    by_hand: bool = False


class Loop(msgspec.Struct, frozen=True):
    """The region of the source that comes round: `start_sample` up to `end_sample`, `length_beats` long.

    It is whole bars, unless a hand moved an end off them. Its end is blended over `fade_ms` with what lies before its start, for a seam
    that is not heard.
    """

    start_sample: int
    end_sample: int
    length_beats: float
    meter_name: str
    fade_ms: float = 0.0

    @classmethod
    def of_bars(cls, start_sample: int, end_sample: int, bars: float, meter_name: str, fade_ms: float = 0.0) -> Loop:
        """Return a loop of so many bars of a meter."""
        return cls(start_sample, end_sample, float(bars * METERS[meter_name].beats_per_bar), meter_name, fade_ms)

    @property
    def meter(self) -> Meter:
        """The meter of the loop."""
        return METERS[self.meter_name]

    @property
    def bars(self) -> float:
        """The number of bars in the loop."""
        return self.length_beats / self.meter.beats_per_bar

    @property
    def whole_bars(self) -> int:
        """The number of bars that it reaches into, at least one."""
        return whole_bars(self.length_beats, self.meter)

    @property
    def is_whole_bars(self) -> bool:
        """Whether it ends on a bar line."""
        return abs(self.length_beats - self.whole_bars * self.meter.beats_per_bar) <= NEARLY_WHOLE_BEATS

    @property
    def beat_frames(self) -> float:
        """How long a beat is, in samples."""
        return self.frames / self.length_beats

    @property
    def bar_frames(self) -> float:
        """How long a bar is, in samples."""
        return self.beat_frames * self.meter.beats_per_bar

    @property
    def frames(self) -> int:
        """Length in samples."""
        return self.end_sample - self.start_sample
