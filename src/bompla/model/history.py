"""Undo and redo: earlier documents with the name of the edit that followed each, and what was selected on either side of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from dataclasses import replace as replaced

from msgspec.structs import replace

from bompla.model.document import Document
from bompla.model.selection import NOTHING, Selection

MAX_STEPS = 500


@dataclass(frozen=True)
class Step:
    """A document that can be come back to, and the edit that leads away from it.

    `before` was selected when the edit was made, `after` when it was undone; `shown_after` is the variation that the edit was made in.
    """

    document: Document
    label: str
    before: Selection = NOTHING
    after: Selection = NOTHING
    shown_after: int = 0


@dataclass(frozen=True)
class History:
    """The current document with what came before it and what was undone."""

    document: Document
    done: tuple[Step, ...] = ()
    undone: tuple[Step, ...] = ()

    def after(self, document: Document, label: str, selected: Selection = NOTHING, *, joins: bool = False) -> History:
        """Return the history after an edit made with something `selected`; an edit that changes nothing leaves no step.

        One that `joins` is one step with the last.
        """
        if document == self.document:
            return self
        if joins and self.done:
            last = replaced(self.done[-1], shown_after=document.shown)
            return History(document, (*self.done[:-1], last))
        step = Step(self.document, label, selected, selected, document.shown)
        return History(document, (*self.done, step)[-MAX_STEPS:])

    def amended(self, change: Callable[[Document], Document]) -> History:
        """Return the history with the current document completed, without a step of its own."""
        return replaced(self, document=change(self.document))

    @property
    def undo_label(self) -> str:
        """The name of the edit that undo takes back, empty where there is none."""
        return self.done[-1].label if self.done else ""

    @property
    def redo_label(self) -> str:
        """The name of the edit that redo repeats, empty where there is none."""
        return self.undone[-1].label if self.undone else ""

    def undo(self, selected: Selection = NOTHING) -> tuple[History, Selection]:
        """Return the history one edit back, and what was selected then; `selected` is what is now, for redo to bring back."""
        if not self.done:
            return self, selected
        step = self.done[-1]
        there = replace(self.document, shown=step.shown_after) if self.document.shown != step.shown_after else self.document
        left = Step(there, step.label, step.before, selected, step.shown_after)
        return History(step.document, self.done[:-1], (*self.undone, left)), step.before

    def redo(self, selected: Selection = NOTHING) -> tuple[History, Selection]:
        """Return the history one edit forward again, and what was selected when it was undone."""
        if not self.undone:
            return self, selected
        step = self.undone[-1]
        back = Step(self.document, step.label, step.before, step.after, step.shown_after)
        return History(step.document, (*self.done, back), self.undone[:-1]), step.after
