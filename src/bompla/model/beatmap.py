"""The one map between time in the sound and beats in the pattern."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

from bompla.errors import EditError


@dataclass(frozen=True)
class BeatMap:
    """Anchors at which samples and beats are known; straight in between, and continued outside.

    `samples` and `beats` are of equal length, at least two, and strictly rising.
    """

    samples: tuple[float, ...]
    beats: tuple[float, ...]

    def __post_init__(self) -> None:
        rising = all(np.diff(self.samples) > 0) and all(np.diff(self.beats) > 0)
        if len(self.samples) < 2 or len(self.samples) != len(self.beats) or not rising:
            raise EditError("A beat map needs two or more anchors in rising order.")

    @classmethod
    @lru_cache(maxsize=16)  # every view asks for it, many times a frame
    def steady(cls, start_sample: float, end_sample: float, beats: float) -> BeatMap:
        """Return the map of a region that holds so many beats at one tempo."""
        return cls((float(start_sample), float(end_sample)), (0.0, float(beats)))

    def beats_at(self, samples: ArrayLike) -> NDArray[np.float64]:
        """Return the beats at samples of the source, any shape."""
        return _interpolated(samples, self.samples, self.beats)

    def samples_at(self, beats: ArrayLike) -> NDArray[np.float64]:
        """Return the samples of the source at beats, any shape, not rounded."""
        return _interpolated(beats, self.beats, self.samples)

    def beat_at(self, at_sample: float) -> float:
        """Return the beat at one sample."""
        return float(self.beats_at(at_sample))

    def sample_at(self, beat: float) -> int:
        """Return the nearest sample at one beat."""
        return round(float(self.samples_at(beat)))


def _interpolated(values: ArrayLike, known: tuple[float, ...], wanted: tuple[float, ...]) -> NDArray[np.float64]:
    x = np.asarray(values, dtype=np.float64)
    xs, ys = np.asarray(known), np.asarray(wanted)
    segment = np.clip(np.searchsorted(xs, x, side="right") - 1, 0, len(xs) - 2)
    slope = (ys[segment + 1] - ys[segment]) / (xs[segment + 1] - xs[segment])
    result: NDArray[np.float64] = np.asarray(ys[segment] + (x - xs[segment]) * slope)
    return result
