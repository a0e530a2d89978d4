"""What the mixer is made of: gains that move, sounds being played, and the buses they play on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

Block = NDArray[np.float32]

CHOKE_FADE_FRAMES = 240
GAIN_RAMP_FRAMES = 480
MAX_BLOCK_FRAMES = 8192
NEVER = 1 << 62


class Ramp:
    """A gain that moves to its target in a straight line."""

    __slots__ = ("_from", "_left", "target")

    def __init__(self, value: float) -> None:
        self.target = value
        self._from = value
        self._left = 0

    @property
    def value(self) -> float:
        """The gain now."""
        return self.target + (self._from - self.target) * self._left / GAIN_RAMP_FRAMES

    @property
    def frames_left(self) -> int:
        """Frames until the target is reached."""
        return self._left

    def to(self, target: float) -> None:
        """Move to another gain from now on."""
        if target != self.target:
            self._from = self.value
            self.target = target
            self._left = GAIN_RAMP_FRAMES

    def next(self, frames: int) -> Block | float:
        """Return the gains of the next frames, shape (frames, 1), or one number if they are equal."""
        if self._left == 0:
            return self.target
        left = np.maximum(self._left - np.arange(frames), 0)
        gains = self.target + (self._from - self.target) * (left / GAIN_RAMP_FRAMES)
        self._left = max(0, self._left - frames)
        return gains.astype(np.float32)[:, np.newaxis]


@dataclass(slots=True)
class Voice:
    """A sound being played: its place in the pool, how far it is, and where it begins to fade."""

    offset: int
    length: int
    gain: float
    pad: int
    choke: int
    bus: int
    wait: int
    sends: int = 0
    release: int = 0
    done: int = 0
    fade_from: int = NEVER
    fade_frames: int = CHOKE_FADE_FRAMES
    swell: Ramp | None = None


class Colouring(Protocol):
    """What colours a bus; see `bompla.engine.colour`."""

    on: bool

    @property
    def tail_frames(self) -> int:
        """How long it sounds on after its last input."""
        ...

    def set(self, wanted: Mapping[str, Any]) -> None:
        """Take other values."""
        ...

    def process(self, sound: Block, kick: Block, room: Block, echo: Block) -> Block:
        """Return a block coloured."""
        ...


class Strip:
    """A bus on its way through its colour: all of it, its kicks alone, and what its pads send to room and echo."""

    def __init__(self) -> None:
        self.sound, self.kick, self.room, self.echo = np.zeros((4, MAX_BLOCK_FRAMES, 2), np.float32)
        self.rack: Colouring | None = None
        self.ringing = 0

    @property
    def coloured(self) -> bool:
        """Whether it is to be coloured."""
        return self.rack is not None and self.rack.on

    def clear(self, frames: int) -> None:
        """Begin a block."""
        self.sound[:frames] = 0.0
        if self.coloured:
            self.kick[:frames] = self.room[:frames] = self.echo[:frames] = 0.0

    def run(self, frames: int, sounding: bool) -> Block:
        """Return the block as it comes out; once its last sound has rung out nothing is computed."""
        sound = self.sound[:frames]
        if self.rack is None or not self.rack.on:
            return sound
        if sounding:
            self.ringing = self.rack.tail_frames
        elif self.ringing <= 0:
            return sound
        else:
            self.ringing -= frames
        return self.rack.process(sound, self.kick[:frames], self.room[:frames], self.echo[:frames])
