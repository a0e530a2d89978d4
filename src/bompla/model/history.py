"""Undo and redo: earlier documents with the name of the edit that followed each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from bompla.model.document import Document

MAX_STEPS = 500


@dataclass(frozen=True)
class Step:
    """A document that can be come back to, and the edit that leads away from it."""

    document: Document
    label: str


@dataclass(frozen=True)
class History:
    """The current document with what came before it and what was undone."""

    document: Document
    done: tuple[Step, ...] = ()
    undone: tuple[Step, ...] = ()

    def after(self, document: Document, label: str) -> History:
        """Return the history after an edit; an edit that changes nothing leaves no step."""
        if document == self.document:
            return self
        done = (*self.done, Step(self.document, label))[-MAX_STEPS:]
        return History(document, done)

    def amended(self, change: Callable[[Document], Document]) -> History:
        """Return the history with the current document completed, without a step of its own."""
        return replace(self, document=change(self.document))

    @property
    def undo_label(self) -> str:
        """The name of the edit that undo takes back, empty where there is none."""
        return self.done[-1].label if self.done else ""

    @property
    def redo_label(self) -> str:
        """The name of the edit that redo repeats, empty where there is none."""
        return self.undone[-1].label if self.undone else ""

    def undo(self) -> History:
        """Return the history one edit back."""
        if not self.done:
            return self
        step = self.done[-1]
        return History(step.document, self.done[:-1], (*self.undone, Step(self.document, step.label)))

    def redo(self) -> History:
        """Return the history one edit forward again."""
        if not self.undone:
            return self
        step = self.undone[-1]
        return History(step.document, (*self.done, Step(self.document, step.label)), self.undone[:-1])
