"""Long work under way, as one line: what it is, how far, and how it is given up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal


@dataclass(frozen=True)
class Work:
    """Long work under way: what it is, and how far, from 0 to 1."""

    label: str
    share: float


class WorkLine(QObject):
    """Holds the works under way, each under a key; what began last is told. `changed` carries it, None where nothing goes on."""

    changed = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._works: dict[str, tuple[Work, Callable[[], object]]] = {}

    @property
    def work(self) -> Work | None:
        """What is told."""
        return next(reversed(self._works.values()))[0] if self._works else None

    def tell(self, key: str, label: str, share: float, cancel: Callable[[], object]) -> None:
        """Tell how far a work is, and what gives it up."""
        before = self.work
        self._works[key] = (Work(label, share), cancel)
        self._emit(before)

    def over(self, key: str) -> None:
        """Tell that a work has ended, in whatever way."""
        before = self.work
        self._works.pop(key, None)
        self._emit(before)

    def cancel(self) -> None:
        """Give up the work that is told."""
        if self._works:
            next(reversed(self._works.values()))[1]()

    def _emit(self, before: Work | None) -> None:
        if self.work != before:
            self.changed.emit(self.work)
