"""The analysis process as the window sees it: requests go in, each one's task ends exactly once."""

from __future__ import annotations

import pickle
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, QProcess, QProcessEnvironment, pyqtSignal

from bompla.app.project.processes import end_process
from bompla.app.project.tasks import Task, sentence_of
from bompla.audio.clip import Clip
from bompla.audio.memory import Elsewhere, Handover, taken
from bompla.worker.protocol import LENGTH, Answer, Kind, Request, packed

SIDE_BY_SIDE = ("hear_at", "scan")
"""Of these kinds each request stands for itself; of the others a newer one takes the place of one that waits."""


@dataclass(frozen=True, eq=False)
class _Job:
    request: Request
    task: Task
    sound: Handover | None = None
    """What the request's sound is reached by, for as long as the job lasts."""


class AnalysisProcess(QObject):
    """Speaks to the analysis process; requests are answered in order, one at a time.

    The process is started when first needed, or ahead of time by `warm`, and again after a
    cancelled or broken request.
    """

    idle = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._process: QProcess | None = None
        self._waiting: list[_Job] = []
        self._running: _Job | None = None
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
        self, kind: Kind, clip: Clip, *, done: Callable[[Any], object], failed: Callable[[str], object],
        cancelled: Callable[[], object] | None = None, progress: Callable[[float, str], object] | None = None, **inputs: Any,
    ) -> Task:
        """Ask for something and return its task; a waiting request of the same kind is given up."""
        self._number += 1
        sound = Handover(clip.samples)
        request = Request(self._number, kind, sound.sound, clip.sample_rate, **inputs)
        task = Task(done=done, failed=failed, cancelled=cancelled, progress=progress)
        if kind not in SIDE_BY_SIDE:
            for job in [job for job in self._waiting if job.request.kind == kind]:
                job.task.cancel()
        return self._put(_Job(request, task, sound))

    def ask_scan(self, path: Path, *, done: Callable[[Any], object], failed: Callable[[str], object]) -> Task:
        """Ask what the shelf shows of a file, and return the task; the process reads it itself."""
        self._number += 1
        request = Request(self._number, "scan", np.zeros((0, 1), np.float32), 1, path=str(path))
        return self._put(_Job(request, Task(done=done, failed=failed)))

    def close(self) -> None:
        """Give up all requests, and end the process."""
        jobs = [*self._waiting, *([self._running] if self._running is not None else [])]
        self._waiting, self._running = [], None
        self._end()
        for job in jobs:
            job.task.cancel()

    def _put(self, job: _Job) -> Task:
        job.task.when_over(self._over)
        self._waiting.append(job)
        self._next()
        return job.task

    def _over(self, task: Task) -> None:
        """Forget a task that has ended; where the process is still at work on it, it was cancelled, and the process has to go."""
        self._waiting = [job for job in self._waiting if job.task is not task]
        if self._running is not None and self._running.task is task:
            self._running = None
            if task.ending == "cancelled":
                self._end()
                self._next()

    def _started(self) -> QProcess:
        process = QProcess(self)
        environment = QProcessEnvironment.systemEnvironment()
        for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
            environment.insert(name, "1")
        process.setProcessEnvironment(environment)
        process.setProgram(sys.executable)
        process.setArguments(["-P", "-m", "bompla.worker.process"])
        process.readyReadStandardOutput.connect(self._read)
        process.finished.connect(self._ended)
        process.errorOccurred.connect(self._broken)
        process.start()
        return process

    def _end(self) -> None:
        process, self._process = self._process, None
        self._received.clear()
        if process is not None:
            end_process(process)

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
            try:
                answer = pickle.loads(content)  # our own child process
            except Exception as error:  # noqa: BLE001  # a broken answer ends its task as any other failure does
                self._fail(sentence_of(error))
                return
            self._take(answer)

    def _take(self, answer: Answer) -> None:
        job = self._running
        if job is None or job.request.number != answer.number:
            return
        if answer.kind == "progress":
            job.task.tell_progress(answer.share, answer.value)
            return
        try:  # whatever comes of what is told, the next is begun
            if answer.kind != "done":
                job.task.fail(answer.value)
                return
            try:
                value = taken(answer.value) if isinstance(answer.value, Elsewhere) else answer.value
            except OSError as error:
                job.task.fail(sentence_of(error))
            else:
                job.task.finish(value)
        finally:
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
            try:
                job.task.fail(sentence)
            finally:
                self._next()
