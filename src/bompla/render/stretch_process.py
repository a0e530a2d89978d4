"""Stretching in a process of its own: what stretches holds Python's lock, and a window that waits for it stands still.

`python -m bompla.render.stretch_process` answers on standard output what it is asked on standard input: a record of frames, channels,
rate, speed and semitones, and the sound itself as float32.
"""

from __future__ import annotations

import contextlib
import os
import select
import struct
import subprocess
import sys
import threading
from collections.abc import Callable
from typing import IO

import numpy as np
from numpy.typing import NDArray

from bompla.errors import BomplaError
from bompla.render.stretch import made_here

ASKED = struct.Struct("<qqqdd")
ANSWERED = struct.Struct("<qq")
LOOK_S = 0.05
NICENESS = 5


class StretchProcess:
    """Stretches in a process, started when first needed; for any thread, one at a time.

    `check` is called in that thread while it waits, and may raise to give it up: then the process goes, and the next has another.
    """

    def __init__(self, check: Callable[[], object]) -> None:
        self._check = check
        self._process: subprocess.Popen[bytes] | None = None
        self._turn = threading.Lock()

    def stretched(self, sound: NDArray[np.float32], sample_rate: int, speed: float, semitones: float) -> NDArray[np.float32]:
        """Return a sound of shape (frames, channels) stretched; raises what `check` raises, and BomplaError where the process ended."""
        with self._turn:
            try:
                self._check()
                return self._asked(sound, sample_rate, speed, semitones)
            except (OSError, struct.error) as error:
                self._end()
                raise BomplaError("The sound could not be stretched; there may not be enough memory. Try a shorter loop.") from error
            except BaseException:
                self._end()
                raise

    def close(self) -> None:
        """End the process."""
        with self._turn:
            self._end()

    def _asked(self, sound: NDArray[np.float32], sample_rate: int, speed: float, semitones: float) -> NDArray[np.float32]:
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen([sys.executable, "-P", "-m", "bompla.render.stretch_process"], stdin=subprocess.PIPE,
                                             stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                                             env=dict(os.environ, OMP_NUM_THREADS="1", OPENBLAS_NUM_THREADS="1"))
        stdin, stdout = self._process.stdin, self._process.stdout
        if stdin is None or stdout is None:
            raise OSError("the process has no pipes")
        stdin.write(ASKED.pack(sound.shape[0], sound.shape[1], sample_rate, speed, semitones))
        stdin.write(np.ascontiguousarray(sound, dtype="<f4").data)
        stdin.flush()
        frames, channels = ANSWERED.unpack(_read(stdout, ANSWERED.size, self._check))
        return np.frombuffer(_read(stdout, 4 * frames * channels, self._check), "<f4").reshape(frames, channels)

    def _end(self) -> None:
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            for stream in (process.stdin, process.stdout):
                if stream is not None:
                    with contextlib.suppress(OSError):
                        stream.close()
            process.wait()


def _read(stream: IO[bytes], size: int, check: Callable[[], object]) -> bytearray:
    """Return so many bytes of a pipe; raises OSError where it ends before."""
    content = bytearray(size)
    view, done = memoryview(content), 0
    while done < size:
        if not select.select([stream], [], [], LOOK_S)[0]:
            check()
            continue
        got = os.read(stream.fileno(), min(size - done, 1 << 20))
        if not got:
            raise OSError("the process ended")
        view[done : done + len(got)] = got
        done += len(got)
    return content


def main() -> None:
    """Answer until standard input closes."""
    os.nice(NICENESS)
    source, out = sys.stdin.buffer, sys.stdout.buffer
    while len(head := source.read(ASKED.size)) == ASKED.size:
        frames, channels, rate, speed, semitones = ASKED.unpack(head)
        sound = np.frombuffer(source.read(4 * frames * channels), "<f4").reshape(frames, channels)
        made = made_here(sound, rate, speed, semitones)
        out.write(ANSWERED.pack(*made.shape))
        out.write(np.ascontiguousarray(made, dtype="<f4").data)
        out.flush()


if __name__ == "__main__":
    main()
