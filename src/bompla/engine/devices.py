"""Where sound goes: the system's device through PortAudio, or the simulated one."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bompla.engine.layout import DeviceKind
from bompla.errors import EngineError

Fill = Callable[[NDArray[np.float32]], None]
SIMULATED_NAME = "simulated device"


class SystemDevice:
    """The system's sound device."""

    kind = DeviceKind.SYSTEM
    LATENCY_S = 0.02

    def __init__(self, fill: Fill, *, sample_rate: int, block_frames: int, name: str, channels: int,
                 on_channels: Callable[[int], None], on_underrun: Callable[[], None]) -> None:
        """Open the device called `name`, or the default one; raises EngineError where there is none.

        Where it has fewer than `channels`, two are used; `on_channels` is told how many before it is filled.
        """
        try:
            import sounddevice
        except (ImportError, OSError) as error:
            raise EngineError("the PortAudio library is not installed") from error

        def callback(out: NDArray[np.float32], _frames: int, _time: Any, status: Any) -> None:
            if status.output_underflow:
                on_underrun()
            fill(out)

        try:
            most = int(sounddevice.query_devices(name or None, "output")["max_output_channels"])
            self.channels = channels if channels <= most else 2
            on_channels(self.channels)
            self._stream = sounddevice.OutputStream(
                samplerate=sample_rate, blocksize=block_frames, channels=self.channels, dtype="float32", latency=self.LATENCY_S,
                device=name or None, callback=callback,
            )
            self._stream.start()
            info = sounddevice.query_devices(self._stream.device)
        except (sounddevice.PortAudioError, ValueError) as error:
            raise EngineError(_first_words(error)) from error
        self.name = str(info["name"])
        self.latency_s = float(self._stream.latency)

    def close(self) -> None:
        """Stop playing."""
        self._stream.close()


class SimulatedDevice:
    """A device without a loudspeaker: the same clock and blocks; what it plays is kept by the player."""

    kind = DeviceKind.SIMULATED
    name = SIMULATED_NAME

    def __init__(self, fill: Fill, *, sample_rate: int, block_frames: int, channels: int) -> None:
        self._fill = fill
        self.channels = channels
        self._block = np.zeros((block_frames, channels), np.float32)
        self._period_s = block_frames / sample_rate
        self._stop = threading.Event()
        self.latency_s = self._period_s
        self._thread = threading.Thread(target=self._run, name="simulated-device", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Stop playing."""
        self._stop.set()
        self._thread.join()

    def _run(self) -> None:
        due = time.monotonic()
        while not self._stop.is_set():
            self._fill(self._block)
            due += self._period_s
            ahead = due - time.monotonic()
            if ahead > 0.0:
                time.sleep(ahead)
            elif ahead < -0.5:
                due = time.monotonic()


def _first_words(error: Exception) -> str:
    if "querying device -1" in str(error):
        return "none is connected"
    text = str(error.args[0] if error.args else error).split("[")[0].strip(" :.")
    return text or type(error).__name__
