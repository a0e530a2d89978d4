"""The stretch of sound that a picture shows, and how it zooms and scrolls."""

from __future__ import annotations

from dataclasses import dataclass, replace

MIN_SAMPLES = 64.0


@dataclass(frozen=True)
class TimeAxis:
    """Maps samples to points across: `start` to `end` on `left` to `left + width`."""

    start: float
    end: float
    left: float
    width: float

    def x(self, at_sample: float) -> float:
        """Return the place of a sample."""
        return self.left + (at_sample - self.start) / (self.end - self.start) * self.width

    def sample(self, x: float) -> float:
        """Return the sample at a place."""
        return self.start + (x - self.left) / max(1.0, self.width) * (self.end - self.start)

    @property
    def samples_per_point(self) -> float:
        """How much sound a point across stands for."""
        return (self.end - self.start) / max(1.0, self.width)

    def zoomed(self, factor: float, about_x: float, first: float, last: float) -> TimeAxis:
        """Return the axis with a span `factor` times as long, one place kept, inside `first` to `last`."""
        about = self.sample(about_x)
        span = max(MIN_SAMPLES, min((self.end - self.start) * factor, last - first))
        share = (about_x - self.left) / max(1.0, self.width)
        return replace(self, start=about - share * span, end=about + (1.0 - share) * span).kept_inside(first, last)

    def moved(self, by_samples: float, first: float, last: float) -> TimeAxis:
        """Return the axis moved along, inside `first` to `last`."""
        return replace(self, start=self.start + by_samples, end=self.end + by_samples).kept_inside(first, last)

    def kept_inside(self, first: float, last: float) -> TimeAxis:
        """Return the axis moved so that it shows nothing outside `first` to `last` unless it must."""
        span = self.end - self.start
        start = max(first, min(self.start, last - span))
        return replace(self, start=start, end=start + span)
