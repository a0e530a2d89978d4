"""Places in the shared sound pool: given out, taken back, and only used again when nothing can sound from them."""

from __future__ import annotations

from dataclasses import dataclass

from bompla.engine.layout import POOL_FRAMES
from bompla.errors import EngineError


@dataclass(frozen=True)
class Place:
    """A stretch of the pool, in frames."""

    offset: int
    length: int


class PoolPlan:
    """First-fit places in a pool; a returned place rests until it may be used again."""

    def __init__(self, frames: int = POOL_FRAMES) -> None:
        self._free = [Place(0, frames)]
        self._resting: list[tuple[int, int, Place]] = []

    def take(self, length: int) -> Place:
        """Return a free place; raises EngineError where the pool is full."""
        length = max(1, length)
        for index, place in enumerate(self._free):
            if place.length >= length:
                self._free[index] = Place(place.offset + length, place.length - length)
                return Place(place.offset, length)
        raise EngineError("This loop is too long to be played all at once; choose a shorter one.")

    def give_back(self, place: Place, *, serial: int, at_frame: int) -> None:
        """Return a place, to be free once command `serial` is served and frame `at_frame` rendered."""
        self._resting.append((serial, at_frame, place))

    def settle(self, *, served: int, rendered: int) -> None:
        """Free the places whose time has come."""
        ready = [place for serial, frame, place in self._resting if serial <= served and frame <= rendered]
        if not ready:
            return
        self._resting = [rest for rest in self._resting if rest[2] not in ready]
        merged: list[Place] = []
        for place in sorted([p for p in self._free if p.length] + ready, key=lambda p: p.offset):
            if merged and merged[-1].offset + merged[-1].length == place.offset:
                merged[-1] = Place(merged[-1].offset, merged[-1].length + place.length)
            else:
                merged.append(place)
        self._free = merged

    @property
    def free_frames(self) -> int:
        """How much of the pool is free."""
        return sum(place.length for place in self._free)
