"""A keyboard on which a pad's range of notes is dragged."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from bompla.app.theme import theme
from bompla.app.ui.gesture import GestureWidget
from bompla.units import note_name

FIRST, LAST = 24, 96
BLACK = (1, 3, 6, 8, 10)


class KeyboardBar(GestureWidget):
    """Shows which notes play a pad: drag either end of the range; a click on a key inside strikes it.

    `chosen` carries the lowest and highest note, (0, 0) for only the pad's own; `struck` a note.
    """

    chosen = pyqtSignal(int, int)
    struck = pyqtSignal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(40)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Notes that play the pad at pitch")
        self.setToolTip("Drag from the pad's note outwards: these notes play it at their pitch. A click plays a key; "
                        "a double click leaves only its own note")
        self.root, self.low, self.high = 60, 60, 60

    def show_range(self, root: int, keys: tuple[int, int]) -> None:
        """Show a pad's own note and range."""
        low, high = keys if keys != (0, 0) else (root, root)
        if self.gesture is None:
            self.root, self.low, self.high = root, low, high
            self.setAccessibleDescription(self.words())
            self.update()

    def words(self) -> str:
        """Return the range as text."""
        return "own note only" if self.low == self.high else f"{note_name(self.low)} to {note_name(self.high)}"

    def x_of(self, note: float) -> float:
        """Return where a note's key begins."""
        return (note - FIRST) / (LAST + 1 - FIRST) * self.width()

    def note_at(self, x: float) -> int:
        """Return the note of a place across."""
        return max(FIRST, min(LAST, FIRST + int(x / max(1, self.width()) * (LAST + 1 - FIRST))))

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        for note in range(FIRST, LAST + 1):
            area = QRectF(self.x_of(note), 0.0, self.x_of(note + 1) - self.x_of(note), 24.0)
            inside = self.low <= note <= self.high and self.low != self.high
            role = "paper" if note == self.root else "hats" if inside else "raised"
            painter.fillRect(area.adjusted(0.5, 0.0, -0.5, -9.0 if note % 12 in BLACK else 0.0), theme().colour(role))
        painter.setPen(QPen(theme().colour("focus" if self.hasFocus() else "dim"), 1.0))
        painter.setFont(theme().font(13))
        painter.drawText(QRectF(0.0, 25.0, self.width(), 15.0), Qt.AlignmentFlag.AlignLeft, self.words())

    def press(self, event: QMouseEvent) -> tuple[str, int, int]:
        """Begin to drag an end of the range; the gesture is which, with the range before."""
        note = self.note_at(event.position().x())
        upwards = note > self.root or (note == self.root and event.position().x() > self.x_of(self.root + 0.5))
        return "high" if upwards else "low", self.low, self.high

    def drag(self, gesture: tuple[str, int, int], event: QMouseEvent) -> None:
        """Let the end follow the pointer."""
        note = self.note_at(event.position().x())
        if gesture[0] == "high":
            self.high = max(self.root, note)
        else:
            self.low = min(self.root, note)
        self.update()

    def commit(self, gesture: tuple[str, int, int], event: QMouseEvent) -> None:
        """Keep the range; a key inside it is struck."""
        note = self.note_at(event.position().x())
        inside = self.low <= note <= self.high
        self.chosen.emit(*((0, 0) if self.low == self.high else (self.low, self.high)))
        if inside:
            self.struck.emit(note)

    def cancel(self, gesture: tuple[str, int, int]) -> None:
        """Take the range that it had before."""
        _, self.low, self.high = gesture

    def double_click(self, event: QMouseEvent) -> None:
        """Leave only the pad's own note."""
        self.low = self.high = self.root
        self.chosen.emit(0, 0)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        steps = {Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Up: (-1, 1), Qt.Key.Key_Down: (1, -1)}
        step = steps.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        low, high = max(FIRST, min(self.root, self.low + step[0])), min(LAST, max(self.root, self.high + step[1]))
        self.chosen.emit(*((0, 0) if low == high else (low, high)))
