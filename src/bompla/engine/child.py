"""The audio process: `python -m bompla.engine.child CONTROL POOL CAPTURE RATE BLOCK DEVICE`.

It imports NumPy and, if it is to play aloud, sounddevice; no Qt and no SciPy. It ends when its
standard input closes, which happens when the window's process ends, however that came about.
"""

from __future__ import annotations

import contextlib
import gc
import os
import sys
import time

import numpy as np
from numpy.typing import NDArray

from bompla.engine.devices import SIMULATED_NAME, SimulatedDevice, SystemDevice
from bompla.engine.layout import POOL_FRAMES, Capture, Control, SharedMemory
from bompla.engine.mixer import MAX_BLOCK_FRAMES, MixerState, apply, render
from bompla.errors import EngineError


class Player:
    """Fills blocks for a device: commands first, then sound, then what the window may know."""

    def __init__(self, control: Control, pool: NDArray[np.float32]) -> None:
        self._control = control
        self._state = MixerState(pool)
        self._rendered = 0
        self._status = control.state

    def fill(self, out: NDArray[np.float32]) -> None:
        """Fill a block of any length."""
        began = time.perf_counter()
        commands = self._control.receive()
        if commands is not None:
            for record in commands:
                apply(self._state, record)
        peak = 0.0
        for start in range(0, len(out), MAX_BLOCK_FRAMES):
            part = out[start : start + MAX_BLOCK_FRAMES]
            part[:] = render(self._state, len(part))
            peak = max(peak, float(part.max(initial=0.0)), -float(part.min(initial=0.0)))
        self._rendered += len(out)
        status = self._status
        status["position"] = self._state.position
        status["playing"] = self._state.playing
        status["voices"] = len(self._state.voices)
        status["peak"] = max(peak, float(status["peak"][0]) * 0.9)
        status["served"] = self._state.served
        status["worst_s"] = max(float(status["worst_s"][0]), time.perf_counter() - began)
        status["rendered_frames"] = self._rendered

    def count_underrun(self) -> None:
        """Count a block that came too late."""
        self._status["underruns"] += 1


def open_device(
    player: Player, capture: Capture, *, sample_rate: int, block_frames: int, name: str
) -> tuple[SystemDevice | SimulatedDevice, str]:
    """Return the device that plays, and a sentence where it is not the one asked for."""
    message = ""
    if name != SIMULATED_NAME:
        try:
            return SystemDevice(
                player.fill, sample_rate=sample_rate, block_frames=block_frames, name=name, on_underrun=player.count_underrun
            ), ""
        except EngineError as error:
            message = f"No sound device can be used ({error}); the simulated device plays instead."
    return SimulatedDevice(player.fill, sample_rate=sample_rate, block_frames=block_frames, capture=capture), message


def main(arguments: list[str]) -> None:
    """Play until standard input closes."""
    control_fd, pool_fd, capture_fd, sample_rate, block_frames = (int(text) for text in arguments[:5])
    control = Control(SharedMemory.attach(control_fd))
    pool_memory = SharedMemory.attach(pool_fd)
    pool: NDArray[np.float32] = np.frombuffer(pool_memory.memory, "<f4", POOL_FRAMES * 2).reshape(POOL_FRAMES, 2)
    capture = Capture(SharedMemory.attach(capture_fd))
    with contextlib.suppress(OSError, AttributeError):
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
    player = Player(control, pool)
    player.fill(np.zeros((block_frames, 2), np.float32))
    gc.collect()
    gc.disable()
    device, message = open_device(player, capture, sample_rate=sample_rate, block_frames=block_frames, name=arguments[5])
    status = control.state
    status["kind"], status["sample_rate"], status["block_frames"] = int(device.kind), sample_rate, block_frames
    status["latency_s"] = device.latency_s
    status["device"], status["message"] = device.name.encode()[:95], message.encode()[:279]
    status["worst_s"] = 0.0
    status["ready"] = 1
    with contextlib.suppress(KeyboardInterrupt):
        while sys.stdin.buffer.read(4096):
            pass
    device.close()


if __name__ == "__main__":
    main(sys.argv[1:])
