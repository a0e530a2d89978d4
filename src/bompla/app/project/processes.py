"""Ending the processes that work for the window, without waiting for them."""

from __future__ import annotations

import time

from PyQt6.QtCore import QProcess, QTimer

LAST_WAIT_MS, LOOK_MS = 2_000, 250
"""So long the window waits for processes that it killed, as it is closed, before they are left to the system; how often it looks."""

_LEAVING: dict[QProcess, QTimer] = {}


def end_process(process: QProcess, *, own_time_ms: int = 0) -> None:
    """End a process with nothing told of it any more; it may have so much time to end by itself. Nothing waits for it."""
    process.blockSignals(True)
    if own_time_ms:
        process.terminate()
    else:
        process.kill()
    process.setParent(None)
    until = time.monotonic() + own_time_ms / 1000.0
    timer = _LEAVING[process] = QTimer()
    timer.setInterval(LOOK_MS)
    timer.timeout.connect(lambda: _look(process, until))
    timer.start()


def wait_for_processes() -> None:
    """Wait until processes that were ended are gone, as the program ends, killing those that take their time."""
    for process in tuple(_LEAVING):
        process.kill()
        process.waitForFinished(LAST_WAIT_MS)
        _forget(process)


def _look(process: QProcess, until: float) -> None:
    if process.state() == QProcess.ProcessState.NotRunning:
        _forget(process)
    elif time.monotonic() > until:
        process.kill()


def _forget(process: QProcess) -> None:
    timer = _LEAVING.pop(process, None)
    if timer is not None:
        timer.stop()
        process.deleteLater()
