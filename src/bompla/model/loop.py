"""The loop: the region of a source that is whole bars."""

from __future__ import annotations

import msgspec

from bompla.model.drums import METERS, Meter


class Loop(msgspec.Struct, frozen=True):
    """The region of the source that is whole bars: `start_sample` up to `end_sample`.

    Its end is blended over `fade_ms` with what lies before its start, for a seam that is not heard.
    """

    start_sample: int
    end_sample: int
    bars: int
    meter_name: str
    fade_ms: float = 0.0

    @property
    def meter(self) -> Meter:
        """The meter of the loop."""
        return METERS[self.meter_name]

    @property
    def beats(self) -> int:
        """The number of beats in the loop."""
        return self.bars * self.meter.beats_per_bar

    @property
    def frames(self) -> int:
        """Length in samples."""
        return self.end_sample - self.start_sample
