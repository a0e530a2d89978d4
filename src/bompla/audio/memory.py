"""Room for sound: in memory while it is short; long sound lies in a file without a name, from which pages come and go as they are used.

A process that it is handed to opens the same file: nothing is copied, and nothing goes through a pipe.
"""

from __future__ import annotations

import errno
import math
import mmap
import os
import tempfile
import weakref
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Literal

import numpy as np
import platformdirs
from numpy.typing import NDArray

LARGE_BYTES = 64 << 20
"""From here on, three minutes of stereo, sound lies in a file."""

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Elsewhere:
    """Sound in the file of another process: where, which file that is (its device and number), and its shape."""

    place: str
    file: tuple[int, int]
    shape: tuple[int, ...]


class Handover:
    """A sound on its way to another process; it owns what it is reached by until it is closed, whoever else lets go of the sound.

    `sound` goes to the other process, which gets it by `taken`: where a long one lies, or a short one itself.
    """

    def __init__(self, samples: Floats) -> None:
        self.sound: Floats | Elsewhere = samples
        self._handle = -1
        owner = _owner(samples)
        handle = getattr(owner, "handle", None)
        if handle is None or owner is None or not samples.flags.c_contiguous or samples.ctypes.data != owner.ctypes.data:
            return
        self._handle = os.dup(handle)
        weakref.finalize(self, os.close, self._handle)
        found = os.fstat(self._handle)
        self.sound = Elsewhere(f"/proc/{os.getpid()}/fd/{self._handle}", (found.st_dev, found.st_ino), samples.shape)


def samples_for(*shape: int) -> Floats:
    """Return an array of a shape, to be written: in a file of the user's cache where it is large and the disk has room for all of it."""
    size = 4 * math.prod(shape)
    if size >= LARGE_BYTES:
        folder = Path(platformdirs.user_cache_dir("bompla"))
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            with tempfile.TemporaryFile(dir=folder) as file:
                os.posix_fallocate(file.fileno(), 0, size)  # now, or as a crash when a page is written
                return _mapped(file, shape, "r+")
        except OSError:
            pass  # a full disk or none: then all of it is in memory
    return np.empty(shape, np.float32)


def _mapped(file: IO[bytes], shape: tuple[int, ...], mode: Literal["r", "r+"]) -> Floats:
    """Return what is in a file as an array, which keeps the file for as long as anything of it is in use."""
    made = np.memmap(file, np.float32, mode, shape=shape)
    handle = os.dup(file.fileno())
    made.handle = handle  # type: ignore[attr-defined]
    weakref.finalize(made, os.close, handle)
    return made


def release_pages(samples: Floats) -> None:
    """Give the memory back that a large sound takes; its pages are read again where they are used."""
    mapped = getattr(_owner(samples), "_mmap", None)
    if isinstance(mapped, mmap.mmap):
        mapped.madvise(mmap.MADV_DONTNEED)


def taken(sound: Floats | Elsewhere) -> Floats:
    """Return a sound that was handed over; raises OSError where it is not there any more, or another file is in its place."""
    if not isinstance(sound, Elsewhere):
        return sound
    with open(sound.place, "rb") as file:
        found = os.fstat(file.fileno())
        if (found.st_dev, found.st_ino) != sound.file or found.st_size < 4 * math.prod(sound.shape):
            raise FileNotFoundError(errno.ENOENT, "the sound is not there any more", sound.place)
        return _mapped(file, sound.shape, "r")


def _owner(samples: Floats) -> np.memmap[tuple[int, ...], np.dtype[np.float32]] | None:
    """Return the mapped file that samples lie in, if any."""
    owner: object = samples
    while isinstance(owner, np.ndarray):
        if isinstance(owner, np.memmap) and (hasattr(owner, "handle") or not isinstance(owner.base, np.ndarray)):
            return owner
        owner = owner.base
    return None
