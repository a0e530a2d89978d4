"""Ending the processes that work for the window."""

from __future__ import annotations

from PyQt6.QtCore import QProcess

KILLED_WITHIN_MS = 30_000
"""A killed process is gone at once, except where the whole machine stands still for a while."""


def end_process(process: QProcess, *, own_time_ms: int = 0) -> None:
    """End a process with nothing told, and forget it; it may have so much time to end by itself."""
    process.blockSignals(True)
    if own_time_ms:
        process.terminate()
    if not own_time_ms or not process.waitForFinished(own_time_ms):
        process.kill()
        process.waitForFinished(KILLED_WITHIN_MS)
    process.deleteLater()
