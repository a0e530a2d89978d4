"""Work that ends exactly once: on a thread here, in a process in `analysis_process.py`.

What runs gets one frozen request and returns one result; it touches nothing of the window. A task ends done, failed (whatever was
raised) or cancelled, and tells so once, on the interface thread.
"""

from __future__ import annotations

import contextlib
import threading
import traceback
from collections.abc import Callable
from typing import Any, Literal, TypeVar

from PyQt6.QtCore import QObject, QRunnable, QThreadPool, pyqtSignal

from bompla.errors import BomplaError

Ending = Literal["", "done", "failed", "cancelled"]
R = TypeVar("R")
CLOSE_WAIT_MS, BRIEF_WAIT_MS = 5_000, 300
"""How long work under way may take to end where the window is closed, and where the system wants it gone."""


class Cancelled(BomplaError):
    """The work was given up; raised by `Token.check` inside it."""


class Token:
    """Says to work under way whether it is still wanted; may be asked on any thread."""

    def __init__(self) -> None:
        self._given_up = threading.Event()

    @property
    def cancelled(self) -> bool:
        """Whether the work was given up."""
        return self._given_up.is_set()

    def cancel(self) -> None:
        """Give the work up."""
        self._given_up.set()

    def check(self) -> None:
        """Raise Cancelled where the work was given up."""
        if self.cancelled:
            raise Cancelled("Cancelled.")

    def wait(self, seconds: float) -> bool:
        """Wait until the work is given up, no longer than so many seconds; return whether it was."""
        return self._given_up.wait(seconds)


_CURRENT = threading.local()


def check_current() -> None:
    """Raise Cancelled where the work that this thread is at was given up; nothing in any other thread."""
    token: Token | None = getattr(_CURRENT, "token", None)
    if token is not None:
        token.check()


class Task:
    """Work that was asked for. `ending` is empty until it has ended, and never changes after that.

    `done` gets the result, `failed` a sentence, `cancelled` nothing; one of them is called, once.
    """

    def __init__(
        self, *, done: Callable[[Any], object], failed: Callable[[str], object], cancelled: Callable[[], object] | None = None,
        progress: Callable[[float, str], object] | None = None,
    ) -> None:
        self.ending: Ending = ""
        self.token = Token()
        self._done, self._failed, self._cancelled, self._progress = done, failed, cancelled, progress
        self._when_over: list[Callable[[Task], object]] = []

    @property
    def over(self) -> bool:
        """Whether it has ended."""
        return bool(self.ending)

    def when_over(self, call: Callable[[Task], object]) -> None:
        """Have something called, before the ending is told, when it ends in whatever way."""
        self._when_over.append(call)

    def finish(self, value: Any) -> None:
        """End with a result, unless it has ended."""
        if self._end("done"):
            self._done(value)

    def fail(self, sentence: str) -> None:
        """End with what went wrong, unless it has ended."""
        if self._end("failed"):
            self._failed(sentence)

    def cancel(self) -> None:
        """Give it up, unless it has ended; what comes of it later is dropped."""
        self.token.cancel()
        if self._end("cancelled") and self._cancelled is not None:
            self._cancelled()

    def tell_progress(self, share: float, what: str) -> None:
        """Tell how far it is, unless it has ended."""
        if not self.over and self._progress is not None:
            self._progress(share, what)

    def _end(self, ending: Ending) -> bool:
        if self.over:
            return False
        self.ending = ending
        for call in self._when_over:
            call(self)
        return True


def sentence_of(error: BaseException) -> str:
    """Return what to tell a person of an error; what is not our own goes to the log."""
    if isinstance(error, BomplaError):
        return str(error)
    if isinstance(error, MemoryError):
        return "There is not enough memory for this; close other programs and try again."
    traceback.print_exception(error)
    return f"Something went wrong inside Bompla ({type(error).__name__}: {error}); try again, and report it if it happens again."


class _Run(QRunnable):
    """A task's work; what came of it goes through a signal, which brings it over to the interface thread."""

    def __init__(
        self, function: Callable[[Any, Token], Any], request: Any, task: Task, tell: Callable[[Task, Ending, Any], object]
    ) -> None:
        super().__init__()
        self._function, self._request, self._task, self._tell = function, request, task, tell

    def run(self) -> None:
        ending: Ending = "done"
        _CURRENT.token = self._task.token
        try:
            self._task.token.check()
            value = self._function(self._request, self._task.token)
        except Cancelled:
            ending, value = "cancelled", None
        except BaseException as error:  # noqa: BLE001  # whatever it is, the task has to end
            ending, value = "failed", sentence_of(error)
        _CURRENT.token = None
        with contextlib.suppress(RuntimeError, AttributeError):  # the window is gone, and nobody is left to be told
            self._tell(self._task, ending, value)


class Threads(QObject):
    """Runs tasks one after the other on a thread; each ending is told on the interface thread."""

    _told = pyqtSignal(object, str, object)
    brief = False
    """Whether the program has to end at once: then nothing is waited for that is given up."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._open: set[Task] = set()
        self._told.connect(self._take)

    @property
    def busy(self) -> bool:
        """Whether a task has not ended yet."""
        return bool(self._open)

    def run(
        self, function: Callable[[R, Token], Any], request: R, *, done: Callable[[Any], object], failed: Callable[[str], object],
        cancelled: Callable[[], object] | None = None,
    ) -> Task:
        """Run a function of a request and a token on the thread, and return the task.

        Raises TypeError for a function that carries anything along: what it needs is in the request.
        """
        if getattr(function, "__closure__", None) or getattr(function, "__self__", None) is not None:
            raise TypeError("What runs on a thread is a plain function of its request.")
        task = Task(done=done, failed=failed, cancelled=cancelled)
        self._open.add(task)
        task.when_over(self._open.discard)
        self._pool.start(_Run(function, request, task, self._told.emit))
        return task

    def close(self, *, finish: bool = False) -> None:
        """Give up what waits, or let it be done with `finish`, and wait a while for what is being done."""
        if finish:
            self._pool.waitForDone(CLOSE_WAIT_MS)
        for task in tuple(self._open):
            task.cancel()
        self._pool.waitForDone(BRIEF_WAIT_MS if Threads.brief else CLOSE_WAIT_MS)

    def _take(self, task: Task, ending: str, value: Any) -> None:
        if ending == "done":
            task.finish(value)
        elif ending == "failed":
            task.fail(value)
        else:
            task.cancel()


class Newest:
    """Of each kind one task at a time that matters: asking again gives the one before up."""

    def __init__(self) -> None:
        self._tasks: dict[str, Task] = {}

    def keep(self, kind: str, task: Task) -> Task:
        """Keep a task as the newest of its kind, giving up the one before."""
        before, self._tasks[kind] = self._tasks.get(kind), task
        if before is not None:
            before.cancel()
        return task

    def of(self, kind: str) -> Task | None:
        """Return the newest task of a kind."""
        return self._tasks.get(kind)

    def cancel(self, kind: str) -> None:
        """Give up the newest task of a kind, if it goes on."""
        task = self._tasks.pop(kind, None)
        if task is not None:
            task.cancel()
