"""The shared sound pool: places in it are given out, come back, and are only used again when nothing can sound from them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bompla.engine.layout import POOL_FRAMES, SharedMemory
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
        self._resting = [(serial, frame, place) for serial, frame, place in self._resting if serial > served or frame > rendered]
        merged: list[Place] = []
        for place in sorted([p for p in self._free if p.length] + ready, key=lambda p: p.offset):
            if merged and merged[-1].offset + merged[-1].length == place.offset:
                merged[-1] = Place(merged[-1].offset, merged[-1].length + place.length)
            else:
                merged.append(place)
        self._free = merged


class Pool:
    """The pool of sounds and lists that the audio process plays from, seen from the window."""

    def __init__(self, name: str) -> None:
        self.memory = SharedMemory.make(name, POOL_FRAMES * 8)
        self._frames = np.frombuffer(self.memory.memory, "<f4", POOL_FRAMES * 2).reshape(POOL_FRAMES, 2)
        self._plan = PoolPlan()

    def put(self, sound: NDArray[np.float32]) -> Place:
        """Put a sound of shape (frames, 2) into the pool; raises EngineError where there is no room for it."""
        place = self._plan.take(len(sound))
        self._frames[place.offset : place.offset + len(sound)] = sound
        return place

    def put_bytes(self, content: bytes) -> Place:
        """Put bytes into the pool, in place of sound."""
        padded = content.ljust(max(8, -(-len(content) // 8) * 8), b"\0")
        return self.put(np.frombuffer(padded, "<f4").reshape(-1, 2))

    def give_back(self, place: Place, *, serial: int, at_frame: int) -> None:
        """Give a place back, to be free once command `serial` is served and frame `at_frame` rendered."""
        self._plan.give_back(place, serial=serial, at_frame=at_frame)

    def settle(self, *, served: int, rendered: int) -> None:
        """Free the places whose time has come."""
        self._plan.settle(served=served, rendered=rendered)

    def close(self) -> None:
        """Let go of the memory."""
        self.memory.close()
