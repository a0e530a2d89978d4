"""What all stages share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QAction, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QAbstractSpinBox, QApplication, QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from bompla.app.commands import BY_KEY, STAGES
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Panel
from bompla.groove.rebuild import offer_of
from bompla.model.cut_edits import choose_reading
from bompla.model.document import Document, TempoReading
from bompla.model.pattern_edits import drop_offers, take_offers

OFFER_TIP = "Add the hits of new and corrected slices to the pattern, and delete those no longer detected"


@dataclass(frozen=True)
class WindowActions:
    """What a stage may ask of the window: to ask for a file to open, to open one, and to go to another stage."""

    choose_file: Callable[[], object]
    open_file: Callable[[Path], object]
    go_to: Callable[[str], object]


class Stage(QWidget):
    """A stage of the work: a page of the window that shows the document and edits it.

    `key` names it in `commands.STAGES`; the window makes it with what all stages are made with. `line_changed` tells the path that its
    line is another, where no edit told it.
    """

    key = ""
    line_changed = pyqtSignal()

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__()
        self.window_actions = actions
        self.title = STAGES[self.key]
        self.session = session
        self.playback = playback

    def columns(self) -> tuple[QHBoxLayout, QVBoxLayout]:
        """Lay the stage out in columns, and return the row of them and the wide one on the left."""
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(9)
        row.addLayout(left, 1)
        return row, left

    def framed(self, picture: QWidget) -> Panel:
        """Return a picture in a thin frame."""
        panel = Panel()
        panel.body.setContentsMargins(2, 2, 2, 2)
        panel.body.addWidget(picture, 1)
        return panel

    def read_as(self, reading: object) -> None:
        """Read the loop as another tempo, number of bars or meter."""
        if isinstance(reading, TempoReading):
            self.session.store.edit(f"read as {reading.bpm:.1f} BPM", lambda document: choose_reading(document, reading))

    def take_offers(self) -> None:
        """Put the hits of new and corrected cuts into the pattern, and take those out that are no longer heard."""
        self.session.store.edit("add hits from slices", lambda document: take_offers(*offer_of(document)))

    def drop_offers(self) -> None:
        """Leave the pattern as it is, and close the offer."""
        self.session.store.edit("dismiss new hits", drop_offers)

    def connect_all(self) -> None:
        """Listen to session and playback; called when everything has been laid out."""
        self.session.store.document_changed.connect(self._refresh)
        self.session.shown.selection_changed.connect(lambda _: self._refresh(self.session.store.document))
        self.playback.transport.moved.connect(self._moved)

    def state_line(self, document: Document | None) -> str:
        """Return the stage's state in a few words, for the path."""
        return ""

    def needs_you(self) -> bool:
        """Whether something in this stage waits for the user."""
        return False

    def refresh(self, document: Document) -> None:
        """Show the document."""

    def set_playhead(self, at_sample: float) -> None:
        """Show the playhead."""

    def command(self, key: str, action: Callable[[], object]) -> QAction:
        """Make a command of the table work while the focus is on the stage's picture, or on a control that leaves the key unused.

        Not as a shortcut of the whole stage: a text being typed needs Return, Delete and the arrows for itself.
        """
        made = QAction(BY_KEY[key].label, self)
        made.setShortcut(QKeySequence(BY_KEY[key].shortcut))
        made.setShortcutContext(Qt.ShortcutContext.WidgetShortcut)
        made.triggered.connect(lambda _=False: action())
        self.picture().addAction(made)
        return made

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        """Work the stage's commands with the keys that the control with the focus has no use for."""
        assert event is not None
        if not isinstance(QApplication.focusWidget(), QLineEdit | QAbstractSpinBox | QComboBox):
            pressed = QKeySequence(event.keyCombination())
            for action in self.picture().actions():
                if pressed in action.shortcuts() and action.isEnabled():
                    action.trigger()
                    return
        super().keyPressEvent(event)

    def picture(self) -> QWidget:
        """Return the widget that has the focus when the stage is shown."""
        return self

    def showEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._refresh(self.session.store.document)
        self._moved(self.playback.transport.playhead_sample())

    def _refresh(self, document: Document | None) -> None:
        if document is not None and self.isVisible():
            self.refresh(document)

    def _moved(self, at_sample: float) -> None:
        if self.isVisible():
            self.set_playhead(at_sample)
