"""What the window and the audio process share: records of fixed size in anonymous memory.

Memory is passed as file descriptors (memfd), so that it has no name and is gone with its last
user. Each ring has one writer and one reader; each side only ever writes its own counter, after
the record it counts.
"""

from __future__ import annotations

import mmap
import os
from dataclasses import dataclass
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from bompla.engine.commands import COMMAND
from bompla.errors import EngineError

NO_PAD, SLICE_PAD, PREVIEW_PAD, MOMENT_PAD = -1, -2, -3, -4
"""Numbers of pads that are none: of a click, of a slice and a sound that are listened to, and of the loop's own moments; the next one
ends the one before."""


class Bus(IntEnum):
    """Where a voice sounds: the pattern, the click, what is played by hand; or a note that leaves as MIDI."""

    PATTERN = 0
    CLICK = 1
    LIVE = 2
    MIDI = 3


class DeviceKind(IntEnum):
    """What plays."""

    NONE = 0
    SYSTEM = 1
    SIMULATED = 2


EVENT = np.dtype(
    [
        ("at_frame", "<i8"),
        ("offset", "<i8"),
        ("length", "<i4"),
        ("pad", "<i8"),
        ("choke", "<i1"),
        ("bus", "<i1"),
        ("gain", "<f4"),
        ("sends", "<u4"),
        ("gate", "<i4"),
        ("release", "<i4"),
        ("hit", "<u4"),
    ]
)
"""A hit to be played: when in the loop, which sound of the pool, how loud; after `gate` frames, if any, it is let go.

All that one hit plays shares its number `hit`, by which chance decides. A note that leaves has its number in `pad`, its velocity in
`gain`, and its length in frames.
"""

KICK_FLAG = 1 << 16
OUTPUT_SHIFT = 17
EARLY_FLAG = 1 << 20
"""A hit ahead of the first beat: it lies before the end of each turn, and is played as the very first turn begins."""

MOST_CHANNELS = 8


def sends_of(room: float, echo: float, *, kick: bool, chance: float = 1.0, output: int = 0, early: bool = False) -> int:
    """Return as one number shares of room and echo, 0 to 1, whether it is a kick, a pair of outputs, how often a hit is left out.

    And whether it is ahead of the first beat.
    """
    missed = round(255 * (1.0 - max(0.0, min(1.0, chance))))
    flags = (KICK_FLAG if kick else 0) | (EARLY_FLAG if early else 0)
    return round(255 * room) | round(255 * echo) << 8 | flags | output << OUTPUT_SHIFT | missed << 24


ZONE = np.dtype(
    [
        ("note", "<i2"),
        ("up_to", "<i2"),
        ("pad", "<i8"),
        ("choke", "<i2"),
        ("pitch", "<i2"),
        ("length", "<i4"),
        ("velocity", "<f4"),
        ("offset", "<i8"),
        ("gain", "<f4"),
        ("most", "<f4"),
        ("sends", "<u4"),
        ("release", "<i4"),
    ]
)
"""What a MIDI note plays up to a velocity; `velocity` is what the sound was played at, `most` the gain that it is
raised by at most; one with a release ends with its note."""

PLAYED = np.dtype(
    [("at_frame", "<u8"), ("position", "<i8"), ("pad", "<i8"), ("velocity", "<i4"), ("playing", "<i4"), ("pitch", "<i4")]
)
"""A pad struck by hand: the frame since the start, the place in the loop, whether it played."""

LEFT = np.dtype([("when_s", "<f8"), ("size", "<u4"), ("message", "u1", 4)])
"""A MIDI message that left, 16 bytes, with when it did on the clock of `time.perf_counter`."""

STATE = np.dtype(
    [
        ("told", "<u8"),
        ("rendered_frames", "<u8"),
        ("position", "<i8"),
        ("served", "<u8"),
        ("playing", "<i4"),
        ("voices", "<i4"),
        ("peak", "<f4"),
        ("underruns", "<i4"),
        ("worst_s", "<f8"),
        ("kind", "<i4"),
        ("sample_rate", "<i4"),
        ("block_frames", "<i4"),
        ("channels", "<i4"),
        ("ready", "<i4"),
        ("last_note", "<i8"),
        ("latency_s", "<f8"),
        ("device", "S96"),
        ("message", "S280"),
    ]
)
"""What the audio process says of itself, block by block; `told` is odd while it is being written."""

RING_SIZE = 1024
RING_AT = 4096
STATE_AT = 64
PLAYED_SIZE = 1024
PLAYED_AT = RING_AT + RING_SIZE * COMMAND.itemsize
LEFT_SIZE = 2048
LEFT_AT = PLAYED_AT + PLAYED_SIZE * PLAYED.itemsize
CONTROL_BYTES = LEFT_AT + LEFT_SIZE * LEFT.itemsize
POOL_FRAMES = 1 << 26
"""512 MB of address space; memory is taken only where sound is written."""

CAPTURE_FRAMES = 1 << 20


@dataclass(frozen=True, eq=False)
class SharedMemory:
    """A piece of anonymous memory and its file descriptor."""

    descriptor: int
    memory: mmap.mmap

    @classmethod
    def make(cls, name: str, size: int) -> SharedMemory:
        """Return new memory of `size` bytes, all zero."""
        try:
            descriptor = os.memfd_create(name)
            os.ftruncate(descriptor, size)
            return cls(descriptor, mmap.mmap(descriptor, size))
        except OSError as error:
            raise EngineError("There is not enough memory for the sound engine; close other programs.") from error

    @classmethod
    def attach(cls, descriptor: int) -> SharedMemory:
        """Return memory made by another process."""
        return cls(descriptor, mmap.mmap(descriptor, os.fstat(descriptor).st_size))

    def close(self) -> None:
        """Let go of the descriptor; the mapping goes with the last array that looks at it."""
        os.close(self.descriptor)


class Control:
    """The command ring and the state block, seen from either side."""

    def __init__(self, shared: SharedMemory) -> None:
        self._counters: NDArray[np.uint64] = np.frombuffer(shared.memory, "<u8", 4)
        self._played = np.frombuffer(shared.memory, PLAYED, PLAYED_SIZE, PLAYED_AT)
        self._played_read = int(self._counters[2])
        self._left = np.frombuffer(shared.memory, LEFT, LEFT_SIZE, LEFT_AT)
        self._left_read = int(self._counters[3])
        self._ring = np.frombuffer(shared.memory, COMMAND, RING_SIZE, RING_AT)
        self.state = np.frombuffer(shared.memory, STATE, 1, STATE_AT)
        self._written = int(self._counters[0])
        self._read = int(self._counters[1])

    def send(self, command: NDArray[np.void]) -> bool:
        """Put a command into the ring; False where it is full."""
        if self._written - int(self._counters[1]) >= RING_SIZE:
            return False
        self._ring[self._written % RING_SIZE] = command
        self._written += 1
        self._counters[0] = self._written
        return True

    def receive(self) -> NDArray[np.void] | None:
        """Return a copy of the commands that wait, oldest first, None where there are none."""
        written = int(self._counters[0])
        if written == self._read:
            return None
        commands = self._ring[np.arange(self._read, written) % RING_SIZE]
        self._read = written
        self._counters[1] = written
        return commands

    def tell_left(self, when_s: float, message: bytes) -> None:
        """Tell the window of a MIDI message that left."""
        written = int(self._counters[3])
        self._left[written % LEFT_SIZE] = (when_s, len(message), tuple(message.ljust(4, b"\0")))
        self._counters[3] = written + 1

    def read_left(self) -> list[tuple[float, bytes]]:
        """Return the MIDI messages that left since, oldest first, each with when; those that were overwritten are lost."""
        written = int(self._counters[3])
        first = max(self._left_read, written - LEFT_SIZE)
        self._left_read = written
        rows = [self._left[n % LEFT_SIZE] for n in range(first, written)]
        return [(float(row["when_s"]), bytes(row["message"][: int(row["size"])])) for row in rows]

    def tell_played(self, strikes: list[tuple[int, int, int, int, int, int]]) -> None:
        """Tell the window of pads struck, as (frame, position, pad, velocity, playing, pitch)."""
        written = int(self._counters[2])
        for strike in strikes:
            self._played[written % PLAYED_SIZE] = strike
            written += 1
        self._counters[2] = written

    def read_played(self) -> list[tuple[int, int, int, int, int, int]]:
        """Return the pads struck since, oldest first; those that were overwritten are lost."""
        written = int(self._counters[2])
        first = max(self._played_read, written - PLAYED_SIZE)
        self._played_read = written
        rows = [self._played[n % PLAYED_SIZE] for n in range(first, written)]
        return [(int(r["at_frame"]), int(r["position"]), int(r["pad"]), int(r["velocity"]), int(r["playing"]), int(r["pitch"]))
                for r in rows]


class Capture:
    """The ring that keeps what the simulated device played."""

    def __init__(self, shared: SharedMemory) -> None:
        self.sound = np.frombuffer(shared.memory, "<f4", CAPTURE_FRAMES * MOST_CHANNELS).reshape(CAPTURE_FRAMES, MOST_CHANNELS)

    def write(self, at_frame: int, block: NDArray[np.float32]) -> None:
        """Keep a block that was played from frame `at_frame` on."""
        start = at_frame % CAPTURE_FRAMES
        first = min(len(block), CAPTURE_FRAMES - start)
        channels = block.shape[1]
        self.sound[start : start + first, :channels] = block[:first]
        if first < len(block):
            self.sound[: len(block) - first, :channels] = block[first:]

    def read(self, start_frame: int, end_frame: int, pair: int = 0) -> NDArray[np.float32]:
        """Return a copy of what was played to a pair of outputs from `start_frame` to `end_frame`, as far back as it is kept."""
        start_frame = max(start_frame, end_frame - CAPTURE_FRAMES, 0)
        return self.sound[np.arange(start_frame, end_frame) % CAPTURE_FRAMES, 2 * pair : 2 * pair + 2].copy()
