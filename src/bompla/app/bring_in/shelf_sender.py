"""Sending out all loops of the shelf at once: the command line's own export, in a process."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QObject, QProcess, pyqtSignal

from bompla.app.project.processes import end_process

STARTS = "from bompla.cli import main; main()"


class ShelfSender(QObject):
    """Runs `bompla export` over files; `progressed` carries how many are over and of how many, `over` a sentence."""

    progressed = pyqtSignal(int, int)
    over = pyqtSignal(str, bool)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._process: QProcess | None = None
        self._count = self._done = self._failed = 0
        self._folder = Path()
        self._first_problem = ""

    @property
    def busy(self) -> bool:
        """Whether it is at work."""
        return self._process is not None

    def send(self, files: Sequence[Path], folder: Path, kinds: Sequence[str]) -> None:
        """Send out files into a folder, only these kinds; one job a core."""
        if self._process is not None or not files:
            return
        self._count, self._done, self._failed, self._folder, self._first_problem = len(files), 0, 0, folder, ""
        process = QProcess(self)
        process.setProgram(sys.executable)
        process.setArguments(["-P", "-c", STARTS, "export", "--to", str(folder), "--only", ",".join(kinds), "--jobs", "0", "--",
                              *map(str, files)])
        process.readyReadStandardOutput.connect(lambda: self._read(process))
        process.readyReadStandardError.connect(lambda: self._read(process))
        process.finished.connect(lambda: self._finished(process))
        self._process = process
        process.start()
        self.progressed.emit(0, self._count)

    def cancel(self) -> None:
        """Give it up; loops that are written whole stay, others leave nothing."""
        if self._process is not None:
            self._process.terminate()

    def close(self) -> None:
        """End at once, with nothing told."""
        if self._process is not None:
            process, self._process = self._process, None
            end_process(process, own_time_ms=3_000)

    def _read(self, process: QProcess) -> None:
        self._done += bytes(process.readAllStandardOutput().data()).count(b"\n")
        problems = bytes(process.readAllStandardError().data()).decode(errors="replace").splitlines()
        self._failed += len(problems)
        self._first_problem = self._first_problem or next(iter(problems), "")
        self.progressed.emit(min(self._count, self._done + self._failed), self._count)

    def _finished(self, process: QProcess) -> None:
        self._read(process)
        self._process = None
        process.deleteLater()
        if process.exitStatus() != QProcess.ExitStatus.NormalExit or self._done + self._failed < self._count:
            self.over.emit(f"Stopped; {self._done} of {self._count} loops are in {self._folder}.", True)
        elif self._failed:
            self.over.emit(f"{self._done} of {self._count} loops are in {self._folder}; {self._failed} failed. {self._first_problem}", True)
        else:
            what = "1 loop is" if self._done == 1 else f"{self._done} loops are"
            self.over.emit(f"{what} in {self._folder}.", False)
