"""The document store: history, preview and undo of the sound that is worked on."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.messages import MessageHub
from bompla.app.project.project import Project
from bompla.app.project.project_state import ProjectSound
from bompla.errors import EditError
from bompla.groove.rebuild import following
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.history import History
from bompla.model.selection import Selection

JOINED_S = 0.7
"""A key that is held down repeats sooner than this."""


Change = Callable[[Document], Document]


@dataclass(frozen=True, eq=False)
class _Preview:
    """A gesture in progress: on which sound, what it does, and the document that it shows."""

    sound: ProjectSound
    change: Change
    document: Document


class DocumentStore(QObject):
    """Holds the document and tells its listeners, once, after each whole change.

    `went_back` carries what was selected where undo or redo has gone to.
    """

    document_changed = pyqtSignal(object)
    went_back = pyqtSignal(object)

    def __init__(self, hub: MessageHub, project: Project, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub, self._project = hub, project
        self._shown_preview: _Preview | None = None
        self._clock, self._edited_at = time.monotonic, 0.0

    @property
    def _preview(self) -> _Preview | None:
        """The gesture in progress on the sound that is worked on; one on another sound has ended with it."""
        preview = self._shown_preview
        return preview if preview is not None and preview.sound is self._project.sound else None

    @property
    def history(self) -> History | None:
        """The history of the sound that is worked on."""
        sound = self._project.sound
        return sound.history if sound is not None else None

    @property
    def document(self) -> Document | None:
        """The document as it is shown: with a gesture in progress, if there is one."""
        if self._preview is not None:
            return self._preview.document
        return self.history.document if self.history else None

    @property
    def previewing(self) -> bool:
        """Whether a gesture is in progress: what costs time may wait for its end."""
        return self._preview is not None

    def edit(self, label: str, change: Change, *, joins: bool = False) -> bool:
        """Make an edit as one step of undo; False, with a message, where it cannot be made.

        A kit and a pattern that nobody has touched are those of the loop, wherever it is moved to.

        One that `joins` is one step with the edit of the same name just before it: a key that is held down.
        """
        sound = self._project.sound
        if sound is None:
            return False
        before, had_preview = sound.history.document, self._preview is not None
        self._shown_preview = None
        try:
            after = change(before)
        except EditError as error:
            self._hub.trouble(str(error))
            self.tell()
            return False
        if after.loop != before.loop and sound.untouched:
            after = following(before, after)
        joined = joins and sound.history.undo_label == label and self._clock() - self._edited_at < JOINED_S
        self._edited_at = self._clock()
        history = sound.history.after(after, label, sound.selection, joins=joined)
        if history is sound.history and not had_preview:
            return False
        self._set_history(sound, history)
        return True

    def amend(self, change: Change, *, of: ProjectSound | None = None) -> None:
        """Change what is shown, not what there is: no step of undo; of another sound than the one worked on, too.

        What cannot be changed any more stays as it is. A gesture in progress goes on, over what was changed.
        """
        sound = of if of is not None else self._project.sound
        if sound is None:
            return
        try:
            history = sound.history.amended(change)
        except EditError:
            return
        if history.document == sound.history.document:
            return
        preview = self._preview
        if preview is not None and preview.sound is sound:
            try:
                self._shown_preview = _Preview(sound, preview.change, preview.change(history.document))
            except EditError:
                self._shown_preview = None
        self._set_history(sound, history)

    def preview(self, change: Change) -> None:
        """Show a gesture in progress; `edit` or `drop_preview` ends it."""
        sound = self._project.sound
        if sound is None:
            return
        try:
            self._shown_preview = _Preview(sound, change, change(sound.history.document))
        except EditError:
            return
        self.tell()

    def drop_preview(self) -> None:
        """Go back to the document before the gesture."""
        if self._preview is not None:
            self._shown_preview = None
            self.tell()

    def undo(self) -> None:
        """Undo the last edit."""
        self.go_back(1)

    def redo(self) -> None:
        """Make the last undone edit again."""
        self.go_back(-1)

    def go_back(self, steps: int) -> None:
        """Undo so many edits at once, or with a negative number make as many undone ones again."""
        sound = self._project.sound
        if sound is None or not steps:
            return
        before = history = sound.history
        selected: Selection = sound.selection
        for _ in range(abs(steps)):
            history, selected = history.undo(selected) if steps > 0 else history.redo(selected)
        if history is before:
            return
        self._shown_preview = None
        sound.selection = selected
        self._set_history(sound, history)
        self.went_back.emit(selected)
        self._tell_variation(before.document, history.document, "Undone" if steps > 0 else "Made again")

    def _tell_variation(self, before: Document, now: Document, done: str) -> None:
        """Say so where undo has gone to another variation than the one that was shown."""
        if before.shown != now.shown and now.variations:
            self._hub.note(f"{done} in variation {pattern_of(now).letter}, which is shown now." if now.shown >= 0 else
                           f"{done} with the detected pattern shown.")

    def tell(self) -> None:
        """Tell the listeners what the document is."""
        self.document_changed.emit(self.document)
        self._project.saved_changed.emit()

    def _set_history(self, sound: ProjectSound, history: History) -> None:
        sound.history = history
        if sound is self._project.sound:
            self.tell()
        else:
            self._project.saved_changed.emit()
