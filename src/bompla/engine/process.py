"""The audio process, seen from the window: started, spoken to, watched, and ended without anybody waiting for it."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import time
from collections import deque
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bompla.engine.choice import SoundChoice
from bompla.engine.commands import Op, command
from bompla.engine.layout import CONTROL_BYTES, Control, SharedMemory
from bompla.errors import EngineError

ENDS_WITHIN_S = 2.0
"""How long it has to end by itself before it is killed."""

Played = tuple[int, int, int, int, int, int]


class AudioProcess:
    """One audio process at a time; commands that find no room wait their turn, in order.

    Where one is started while the one before is not gone yet, it is started once that is: two do not share a device.
    """

    def __init__(self, pool: SharedMemory, capture: SharedMemory, sample_rate: int) -> None:
        self._pool, self._capture, self._rate = pool, capture, sample_rate
        self._process: subprocess.Popen[bytes] | None = None
        self._leaving: list[tuple[subprocess.Popen[bytes], float]] = []
        self._wanted: SoundChoice | None = None
        self._memory: SharedMemory | None = None
        self.control: Control | None = None
        self._waiting: deque[NDArray[np.void]] = deque()
        self.serial = 0
        self.frames_before = 0
        """How many frames earlier processes rendered: frames go on being counted over all of them."""

    @property
    def alive(self) -> bool:
        """Whether a process runs."""
        return self._process is not None and self._process.poll() is None

    @property
    def pid(self) -> int:
        """The process, 0 where none was started."""
        return self._process.pid if self._process is not None else 0

    @property
    def started(self) -> bool:
        """Whether one was started that was not ended here: it may have died since."""
        return self._process is not None

    @property
    def waits(self) -> bool:
        """Whether one is to be started as soon as the one before is gone."""
        return self._wanted is not None

    @property
    def served(self) -> int:
        """The last command that was carried out."""
        return int(self.control.state["served"][0]) if self.control is not None else 0

    @property
    def rendered(self) -> int:
        """How many frames this process rendered."""
        return int(self.control.state["rendered_frames"][0]) if self.control is not None else 0

    def start(self, choice: SoundChoice) -> bool:
        """Start a process for what was chosen, at once or once the one before is gone; return whether it was started.

        Raises EngineError where it cannot be.
        """
        self.reap()
        if self._leaving:
            self._wanted = choice
            return False
        self._wanted = None
        self._memory = SharedMemory.make("bompla-control", CONTROL_BYTES)
        self.control = Control(self._memory)
        descriptors = (self._memory.descriptor, self._pool.descriptor, self._capture.descriptor)
        arguments = [*map(str, descriptors), str(self._rate), str(choice.block_frames), choice.device, choice.midi_input,
                     str(choice.channels), choice.midi_output, str(choice.midi_channel)]
        environment = dict(os.environ, OMP_NUM_THREADS="1", OPENBLAS_NUM_THREADS="1")
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-P", "-m", "bompla.engine.child", *arguments],
                stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, pass_fds=descriptors, env=environment)
        except OSError as error:
            self._forget()
            raise EngineError("The sound engine could not be started; there will be no sound.") from error
        return True

    def start_waiting(self) -> bool:
        """Start what waits for the process before, where that is gone now; return whether it was."""
        self.reap()
        return self._wanted is not None and not self._leaving and self.start(self._wanted)

    def end(self, *, kill: bool = False) -> None:
        """End the process, and wait for nothing; it is seen to in `reap`."""
        self._wanted = None
        process, self._process = self._process, None
        if process is not None:
            with contextlib.suppress(OSError):
                if process.stdin is not None:
                    process.stdin.close()
            if kill:
                process.kill()
            self._leaving.append((process, time.monotonic() + ENDS_WITHIN_S))
        self.frames_before += self.rendered + (self._rate if self.control is not None else 0)  # strikes of two processes lie apart
        self._forget()

    def reap(self) -> None:
        """See to processes that were ended: those that take too long are killed."""
        left = []
        for process, until in self._leaving:
            if process.poll() is None:
                if time.monotonic() > until:
                    process.kill()
                left.append((process, until))
        self._leaving = left

    def wait(self) -> None:
        """End whatever runs, and wait until it is gone, killing it where it does not go by itself."""
        self.end()
        for process, until in self._leaving:
            try:
                process.wait(max(0.0, until - time.monotonic()))
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        self._leaving = []

    def send(self, op: Op, **values: Any) -> None:
        """Send a command; one for which the ring has no room waits, and all that come after it."""
        if self.control is None:
            return
        self.serial += 1
        self._waiting.append(command(op, serial=self.serial, **values))
        self.flush()

    def flush(self) -> None:
        """Send what waits, as far as there is room."""
        while self._waiting and self.control is not None and self.control.send(self._waiting[0]):
            self._waiting.popleft()

    def _forget(self) -> None:
        self.control = None
        self._waiting.clear()
        if self._memory is not None:
            self._memory.close()
            self._memory = None
