"""The path on the left: the stages in the order of the work, each with its state in a line."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QRect, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QFontMetrics, QPainter, QPaintEvent
from PyQt6.QtWidgets import QLabel, QPushButton, QVBoxLayout, QWidget

from bompla.app.commands import HINTS
from bompla.app.preferences import preferences
from bompla.app.project.session import Session
from bompla.app.stage import Stage
from bompla.app.theme import theme
from bompla.app.ui.controls import Button

HOVER_MS = 450
"""What is dragged over a stage for so long opens it."""


class StageButton(Button):
    """A stage on the path: its name, and its state in a line. What is dragged over it for a moment opens it."""

    def __init__(self, stage: Stage) -> None:
        super().__init__()
        self.setObjectName("stage")
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setFixedHeight(52)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._title = stage.title
        self._line, self._needs_you = "", False
        self.setAccessibleName(stage.title)
        self.setAcceptDrops(True)
        self._hovered = QTimer(self)
        self._hovered.setSingleShot(True)
        self._hovered.setInterval(HOVER_MS)
        self._hovered.timeout.connect(self.click)

    def show_line(self, line: str, shortcut: str, *, needs_you: bool = False) -> None:
        """Show the stage's state, marked where it waits for the user."""
        self._line, self._needs_you = line, needs_you
        self.setToolTip(f"{self._title} ({shortcut})")
        self.setAccessibleDescription(line)
        self.update()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        event.accept()
        self._hovered.start()

    def dragLeaveEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._hovered.stop()

    def dropEvent(self, event: QDropEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        self._hovered.stop()
        event.ignore()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setFont(theme().font(16, weight=600 if self.isChecked() else 500))
        painter.setPen(theme().colour("paper" if self.isChecked() else "dim"))
        painter.drawText(self.rect().adjusted(17, 8, -2, 0), Qt.AlignmentFlag.AlignTop, self._title)
        painter.setFont(theme().font(13, weight=400))
        painter.setPen(theme().colour("signal" if self._needs_you else "dim"))
        painter.drawText(self.rect().adjusted(17, 29, -2, 0), Qt.AlignmentFlag.AlignTop, self._line)


class StageNav(QWidget):
    """The stages in the order of the work."""

    chosen = pyqtSignal(int)
    _restyled: QTimer | None = None

    def __init__(self, session: Session, stages: list[Stage]) -> None:
        super().__init__()
        self.setObjectName("path")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(102)
        self._session, self._stages, self._hinted = session, stages, ""
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 10, 0, 10)
        column.setSpacing(2)
        self.buttons: list[StageButton] = []
        for index, stage in enumerate(stages):
            made = StageButton(stage)
            stage.line_changed.connect(self.refresh)
            made.clicked.connect(lambda _=False, index=index: self.chosen.emit(index))
            self.buttons.append(made)
            column.addWidget(made)
        column.addStretch(1)
        self.hint = QPushButton()
        self.hint.setObjectName("hint")
        self.hint.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.hint.clicked.connect(self._put_hint_away)
        self.hint_text = QLabel(self.hint)
        self.hint_text.setObjectName("dim")
        self.hint_text.setWordWrap(True)
        self.hint_text.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        column.addWidget(self.hint)
        preferences().changed.connect(self._preferences_changed)
        session.store.document_changed.connect(lambda _: self.refresh())
        session.project.saved_changed.connect(self.refresh)
        session.review.changed.connect(self.refresh)
        self._restyled = QTimer(self)
        self._restyled.setSingleShot(True)
        self._restyled.timeout.connect(self.refresh)

    def refresh(self) -> None:
        """Show each stage's state."""
        document = self._session.store.document
        for index, (stage, made) in enumerate(zip(self._stages, self.buttons, strict=True)):
            made.setEnabled(document is not None or index == 0)
            made.show_line(stage.state_line(self._session.store.document), f"Ctrl+{index + 1}", needs_you=stage.needs_you())
            if not made.isEnabled():
                made.setToolTip(f"{stage.title}: bring in a loop first")
        shown = next((n for n, made in enumerate(self.buttons) if made.isChecked()), 0)
        words = HINTS.get(self._stages[shown].key, "")
        self._hinted = self._stages[shown].key
        away = document is None or self._hinted in preferences().value.hints_put_away
        self.hint.setVisible(bool(words) and not away)
        self._show_hint(words)

    def _show_hint(self, words: str) -> None:
        self.hint_text.ensurePolished()  # a style sheet sets its font
        self.hint_text.setText(words)
        width = self.width() - 12
        room = QRect(0, 0, width - 18, 2000)
        high = QFontMetrics(self.hint_text.font()).boundingRect(room, Qt.TextFlag.TextWordWrap, words).height() + 16
        self.hint.setFixedSize(width, high)
        self.hint_text.setGeometry(11, 4, width - 14, high - 8)
        self.hint.setAccessibleName(f"Hint: {words} Click to put it away for good")
        self.hint.setToolTip("Click to put this hint away for good")

    def changeEvent(self, event: QEvent | None) -> None:  # noqa: N802  # Qt's name
        """Lay the hint out anew: another style sheet has sizes of its own."""
        super().changeEvent(event)
        if event is not None and event.type() == QEvent.Type.StyleChange and self._restyled is not None:
            self._restyled.start(0)

    def _put_hint_away(self) -> None:
        preferences().set(hints_put_away=tuple(sorted({*preferences().value.hints_put_away, self._hinted})))

    def _preferences_changed(self, _before: object, _now: object) -> None:
        self.refresh()
