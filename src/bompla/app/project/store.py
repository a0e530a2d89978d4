"""The document store: history, preview and undo of the sound that is worked on."""

from __future__ import annotations

import time
from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.messages import MessageHub
from bompla.app.project.project import Project
from bompla.errors import EditError
from bompla.groove.rebuild import following
from bompla.model.document import Document
from bompla.model.history import History

JOINED_S = 0.7
"""A key that is held down repeats sooner than this."""


class DocumentStore(QObject):
    """Holds the document and tells its listeners, once, after each whole change.

    `went_back` carries what was selected at a place in the history that undo or redo has gone to.
    """

    document_changed = pyqtSignal(object)
    went_back = pyqtSignal(object)

    def __init__(self, hub: MessageHub, project: Project, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub, self._project = hub, project
        self._preview: Document | None = None
        self._clock, self._edited_at = time.monotonic, 0.0
        project.opened.connect(self._forget_preview)

    @property
    def history(self) -> History | None:
        """The history of the sound that is worked on."""
        sound = self._project.sound
        return sound.history if sound is not None else None

    @property
    def document(self) -> Document | None:
        """The document as it is shown: with a gesture in progress, if there is one."""
        if self._preview is not None:
            return self._preview
        return self.history.document if self.history else None

    @property
    def previewing(self) -> bool:
        """Whether a gesture is in progress: what costs time may wait for its end."""
        return self._preview is not None

    def edit(self, label: str, change: Callable[[Document], Document], *, joins: bool = False) -> bool:
        """Make an edit as one step of undo; False, with a message, where it cannot be made.

        A kit and a pattern that nobody has touched are those of the loop, wherever it is moved to.

        One that `joins` is one step with the edit of the same name just before it: a key that is held down.
        """
        if self.history is None:
            return False
        before = self.history.document
        try:
            after = change(before)
        except EditError as error:
            self._preview = None
            self._hub.trouble(str(error))
            self.tell()
            return False
        sound = self._project.sound
        if after.loop != before.loop and sound is not None and sound.untouched:
            after = following(before, after)
        had_preview, self._preview = self._preview is not None, None
        joined = joins and self.history.undo_label == label and self._clock() - self._edited_at < JOINED_S
        history = (self.history.undo() if joined else self.history).after(after, label)
        self._edited_at = self._clock()
        self._keep_selection(len(self.history.done))
        if history is self.history and not had_preview:
            return False
        self._set_history(history)
        return True

    def amend(self, change: Callable[[Document], Document]) -> None:
        """Change what is shown, not what there is: no step of undo."""
        if self.history is not None:
            self._preview = None
            self._set_history(self.history.amended(change))

    def preview(self, change: Callable[[Document], Document]) -> None:
        """Show a gesture in progress; `edit` or `drop_preview` ends it."""
        if self.history is None:
            return
        try:
            self._preview = change(self.history.document)
        except EditError:
            return
        self.tell()

    def drop_preview(self) -> None:
        """Go back to the document before the gesture."""
        if self._preview is not None:
            self._preview = None
            self.tell()

    def undo(self) -> None:
        """Undo the last edit."""
        self.go_back(1)

    def redo(self) -> None:
        """Make the last undone edit again."""
        self.go_back(-1)

    def go_back(self, steps: int) -> None:
        """Undo so many edits at once, or with a negative number make as many undone ones again."""
        history = self.history
        if history is None or not steps:
            return
        before = history
        for _ in range(abs(steps)):
            history = history.undo() if steps > 0 else history.redo()
        if history is not before:
            self._preview = None
            self._keep_selection(len(before.done))
            self._set_history(history)
            sound = self._project.sound
            if sound is not None and (selected := sound.selected_at.get(len(history.done))) is not None:
                self.went_back.emit(selected)

    def _keep_selection(self, after_edits: int) -> None:
        sound = self._project.sound
        if sound is not None:
            sound.selected_at[after_edits] = sound.selection

    def tell(self) -> None:
        """Tell the listeners what the document is."""
        self.document_changed.emit(self.document)
        self._project.saved_changed.emit()

    def _set_history(self, history: History) -> None:
        sound = self._project.sound
        if sound is not None:
            sound.history = history
            self.tell()

    def _forget_preview(self) -> None:
        self._preview = None
