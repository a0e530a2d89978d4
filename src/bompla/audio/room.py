"""Room for sound: in memory while it is short; long sound lies in a file without a name, from which pages come and go as they are used.

A process that it is handed to opens the same file: nothing is copied, and nothing goes through a pipe.
"""

from __future__ import annotations

import math
import mmap
import os
import tempfile
import weakref
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import platformdirs
from numpy.typing import NDArray

LARGE_BYTES = 64 << 20
"""From here on, three minutes of stereo, sound lies in a file."""

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Elsewhere:
    """Sound in the file of another process, which has to live until it is opened: where, and its shape."""

    place: str
    shape: tuple[int, ...]


def room_for(*shape: int) -> Floats:
    """Return an array of a shape, to be written: in a file of the user's cache where it is large and the disk has room for all of it."""
    size = 4 * math.prod(shape)
    if size >= LARGE_BYTES:
        folder = Path(platformdirs.user_cache_dir("bompla"))
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            with tempfile.TemporaryFile(dir=folder) as file:
                os.posix_fallocate(file.fileno(), 0, size)  # now, or as a crash when a page is written
                made = np.memmap(file, np.float32, "r+", shape=shape)
                handle = os.dup(file.fileno())
        except OSError:
            pass  # a full disk or none: then all of it is in memory
        else:
            made.handle = handle  # type: ignore[attr-defined]  # for as long as anything of it is in use
            weakref.finalize(made, os.close, handle)
            return made
    return np.empty(shape, np.float32)


def let_go(samples: Floats) -> None:
    """Give the memory back that a large sound takes; its pages are read again where they are used."""
    mapped = getattr(_owner(samples), "_mmap", None)
    if isinstance(mapped, mmap.mmap):
        mapped.madvise(mmap.MADV_DONTNEED)


def handed(samples: Floats) -> Floats | Elsewhere:
    """Return what another process of this user gets a sound by: where it lies, or the sound itself."""
    owner = _owner(samples)
    handle = getattr(owner, "handle", None)
    if handle is None or owner is None or not samples.flags.c_contiguous or samples.ctypes.data != owner.ctypes.data:
        return samples
    return Elsewhere(f"/proc/{os.getpid()}/fd/{handle}", samples.shape)


def taken(sound: Floats | Elsewhere) -> Floats:
    """Return a sound that was handed over; raises OSError where the process that it is from has ended."""
    return np.memmap(sound.place, np.float32, "r", shape=sound.shape) if isinstance(sound, Elsewhere) else sound


def _owner(samples: Floats) -> np.memmap[tuple[int, ...], np.dtype[np.float32]] | None:
    """Return the mapped file that samples lie in, if any."""
    owner: object = samples
    while isinstance(owner, np.ndarray):
        if isinstance(owner, np.memmap) and (hasattr(owner, "handle") or not isinstance(owner.base, np.ndarray)):
            return owner
        owner = owner.base
    return None
