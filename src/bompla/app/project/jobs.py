"""Long work, off the interface thread: the analysis process, and short tasks on a thread."""

from __future__ import annotations

import pickle
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, QProcess, QProcessEnvironment, QRunnable, QThreadPool, pyqtSignal

from bompla.analysis.protocol import LENGTH, Answer, Request, packed
from bompla.audio.clip import Clip
from bompla.errors import BomplaError


@dataclass
class Job:
    """Work that was asked for, and what to call as it goes."""

    request: Request
    done: Callable[[Any], None]
    failed: Callable[[str], None]
    progress: Callable[[float, str], None] | None = None


class AnalysisProcess(QObject):
    """Speaks to the analysis process; requests are answered in order, one at a time.

    The process is started when first needed, or ahead of time by `warm`, and again after a
    cancelled or broken request.
    """

    idle = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._process: QProcess | None = None
        self._waiting: list[Job] = []
        self._running: Job | None = None
        self._received = bytearray()
        self._number = 0

    @property
    def busy(self) -> bool:
        """Whether anything is being done or waits."""
        return self._running is not None or bool(self._waiting)

    def warm(self) -> None:
        """Start the process, so that the first request need not wait for it."""
        if self._process is None:
            self._process = self._started()

    def ask(
        self, kind: str, clip: Clip, *, done: Callable[[Any], None], failed: Callable[[str], None],
        progress: Callable[[float, str], None] | None = None, **inputs: Any,
    ) -> int:
        """Ask for something; a waiting request of the same kind is superseded. Return its number."""
        self._number += 1
        request = Request(self._number, kind, clip.samples, clip.sample_rate, **inputs)
        if kind != "hear_at":
            self._waiting = [job for job in self._waiting if job.request.kind != kind]
        self._waiting.append(Job(request, done, failed, progress))
        self._next()
        return self._number

    def ask_scan(self, path: Path, *, done: Callable[[Any], None], failed: Callable[[str], None]) -> None:
        """Ask what the shelf shows of a file; the process reads it itself."""
        self._number += 1
        request = Request(self._number, "scan", np.zeros((0, 1), np.float32), 1, path=str(path))
        self._waiting.append(Job(request, done, failed))
        self._next()

    def cancel(self, number: int) -> None:
        """Give up a request; the process is ended if it is at work on it."""
        self._waiting = [job for job in self._waiting if job.request.number != number]
        if self._running is not None and self._running.request.number == number:
            self._running = None
            self._end()
            self._next()

    def close(self) -> None:
        """End the process and forget all requests."""
        self._waiting, self._running = [], None
        self._end()

    def _started(self) -> QProcess:
        process = QProcess(self)
        environment = QProcessEnvironment.systemEnvironment()
        for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
            environment.insert(name, "1")
        process.setProcessEnvironment(environment)
        process.setProgram(sys.executable)
        process.setArguments(["-m", "bompla.analysis.worker"])
        process.readyReadStandardOutput.connect(self._read)
        process.finished.connect(self._ended)
        process.errorOccurred.connect(self._broken)
        process.start()
        return process

    def _end(self) -> None:
        process, self._process = self._process, None
        self._received.clear()
        if process is not None:
            process.blockSignals(True)
            process.kill()
            process.waitForFinished(2000)
            process.deleteLater()

    def _next(self) -> None:
        if self._running is not None:
            return
        if not self._waiting:
            self.idle.emit()
            return
        self.warm()
        self._running = self._waiting.pop(0)
        assert self._process is not None
        self._process.write(packed(self._running.request))

    def _read(self) -> None:
        if self._process is None:
            return
        self._received += self._process.readAllStandardOutput().data()
        while len(self._received) >= LENGTH.size:
            size = LENGTH.unpack_from(self._received)[0]
            if len(self._received) < LENGTH.size + size:
                return
            content = bytes(self._received[LENGTH.size : LENGTH.size + size])
            del self._received[: LENGTH.size + size]
            self._take(pickle.loads(content))  # our own child process

    def _take(self, answer: Answer) -> None:
        job = self._running
        if job is None or job.request.number != answer.number:
            return
        if answer.kind == "progress":
            if job.progress is not None:
                job.progress(answer.share, answer.value)
            return
        self._running = None
        if answer.kind == "done":
            job.done(answer.value)
        else:
            job.failed(answer.value)
        self._next()

    def _ended(self) -> None:
        self._fail("The analysis stopped unexpectedly; try again, with a shorter sound if it happens again.")

    def _broken(self, error: QProcess.ProcessError) -> None:
        if error == QProcess.ProcessError.FailedToStart:
            self._fail("The analysis could not be started; install Bompla again.")

    def _fail(self, sentence: str) -> None:
        job, self._running = self._running, None
        self._end()
        if job is not None:
            job.failed(sentence)
            self._next()


class _Signals(QObject):
    done = pyqtSignal(object)
    failed = pyqtSignal(str)


class _Task(QRunnable):
    def __init__(self, work: Callable[[], Any], signals: _Signals) -> None:
        super().__init__()
        self._work = work
        self.signals = signals

    def run(self) -> None:
        try:
            result = self._work()
        except BomplaError as error:
            self.signals.failed.emit(str(error))
        except MemoryError:
            self.signals.failed.emit("There is not enough memory for this; close other programs and try again.")
        else:
            self.signals.done.emit(result)


class Threads(QObject):
    """Runs short tasks one after the other on a thread; results come back on the interface thread."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._open: set[_Signals] = set()

    @property
    def busy(self) -> bool:
        """Whether anything is being done, or its result has not been taken yet."""
        return bool(self._open)

    def run(self, work: Callable[[], Any], done: Callable[[Any], None], failed: Callable[[str], None]) -> None:
        """Run `work` on the thread, then `done` with its result, or `failed` with a sentence."""
        signals = _Signals()
        self._open.add(signals)
        signals.done.connect(lambda value: self._finish(signals, done, value))
        signals.failed.connect(lambda sentence: self._finish(signals, failed, sentence))
        self._pool.start(_Task(work, signals))

    def close(self) -> None:
        """Wait for what is being done and drop the rest."""
        self._pool.clear()
        self._pool.waitForDone(5000)
        self._open.clear()

    def _finish(self, signals: _Signals, call: Callable[[Any], None], value: Any) -> None:
        if signals in self._open:
            self._open.discard(signals)
            call(value)
