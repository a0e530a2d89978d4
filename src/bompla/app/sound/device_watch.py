"""What devices there are, and a watch for one that comes back."""

from __future__ import annotations

import json
import sys

from PyQt6.QtCore import QObject, QProcess, QTimer, pyqtSignal

from bompla.app.project.processes import end_process
from bompla.app.sound.transport import Transport
from bompla.engine.devices import SIMULATED_NAME
from bompla.engine.host import Engine
from bompla.engine.layout import DeviceKind

FIRST_LOOK_S, LAST_LOOK_S = 5, 60
"""How soon a missing device is looked for, and how seldom in the end; each wait is twice the one before."""


class DeviceLister(QObject):
    """Asks a process of its own for the devices, so that a slow driver holds nothing up.

    `found` carries sound outputs, MIDI inputs and MIDI outputs.
    """

    found = pyqtSignal(list, list, list)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._process: QProcess | None = None

    @property
    def busy(self) -> bool:
        """Whether an answer is awaited."""
        return self._process is not None

    def look(self) -> None:
        """Ask, unless an answer is awaited already."""
        if self._process is not None:
            return
        process = QProcess(self)
        process.setProgram(sys.executable)
        process.setArguments(["-P", "-m", "bompla.engine.child", "--list"])
        process.finished.connect(lambda: self._listed(process))
        self._process = process
        process.start()

    def close(self) -> None:
        """Wait for no answer any more."""
        if self._process is not None:
            process, self._process = self._process, None
            end_process(process)

    def _listed(self, process: QProcess) -> None:
        self._process = None
        try:
            listed = json.loads(bytes(process.readAllStandardOutput().data()).decode() or "{}")
        except ValueError:
            listed = {}
        process.deleteLater()
        self.found.emit(listed.get("outputs", []), listed.get("inputs", []), listed.get("midi_outputs", []))


class DeviceWatch(QObject):
    """Plays to the device that was chosen as soon as there is one, while the simulated one stands in for it."""

    def __init__(self, engine: Engine, transport: Transport, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._engine, self._transport = engine, transport
        self.lister = DeviceLister(self)
        self.lister.found.connect(self._found)
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.timeout.connect(self.lister.look)
        self._wait_s = FIRST_LOOK_S
        transport.device_changed.connect(lambda _: self._device_changed())

    def close(self) -> None:
        """Look no more."""
        self.timer.stop()
        self.lister.close()

    @property
    def missing(self) -> bool:
        """Whether the simulated device stands in for one that was chosen."""
        state = self._engine.state
        return state.ready and state.kind == DeviceKind.SIMULATED and self._engine.chosen.device != SIMULATED_NAME

    def try_again(self) -> None:
        """Play to the chosen device, if there is one now."""
        self._transport.use_device(self._engine.chosen)

    def _device_changed(self) -> None:
        if self.missing:
            self.timer.start(1000 * self._wait_s)
        elif self._engine.state.ready:
            self.timer.stop()
            self._wait_s = FIRST_LOOK_S

    def _found(self, outputs: list[str], _inputs: list[str], _midi_outputs: list[str]) -> None:
        if not self.missing:
            return
        wanted = self._engine.chosen.device
        self._wait_s = min(LAST_LOOK_S, 2 * self._wait_s)
        if wanted in outputs or (not wanted and outputs):
            self.try_again()
        self.timer.start(1000 * self._wait_s)
