"""Feels side by side as small plots: how late and how hard each step of a bar is."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.theme import theme
from bompla.model.document import Feel

ROW = 46
MOST_LATE_BEATS = 0.06


class FeelList(QWidget):
    """A row for each feel; a bar right of its step's middle is late, left early, and as high as the step is hard.

    A click, or Up, Down and Return, takes one; `chosen` carries its place.
    """

    chosen = pyqtSignal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._feels: tuple[Feel, ...] = ()
        self._taken = -1
        self._marked = 0
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Feels compared")
        self.setToolTip("Each step of a bar: a bar right of its middle is late, left early; higher is harder. A click takes the feel")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_feels(self, feels: Sequence[Feel], taken: int) -> None:
        """Show feels, and which is taken."""
        self._feels, self._taken = tuple(feels), taken
        self.setFixedHeight(ROW * max(1, len(self._feels)))
        self.update()

    def sizeHint(self) -> QSize:  # noqa: N802  # Qt's name
        return QSize(200, ROW * max(1, len(self._feels)))

    def step_place(self, row: int, step: int) -> QPointF:
        """Return where a step of a feel is drawn: its foot, moved by how late it is."""
        feel = self._feels[row]
        width = (self.width() - 12.0) / len(feel.late)
        late = max(-1.0, min(1.0, feel.late[step] / MOST_LATE_BEATS))
        return QPointF(6.0 + (step + 0.5 + 0.45 * late) * width, (row + 1) * ROW - 6.0)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for row, feel in enumerate(self._feels):
            area = QRectF(0.5, row * ROW + 0.5, self.width() - 1.0, ROW - 3.0)
            focused = self.hasFocus() and row == self._marked
            role = "focus" if focused else "paper" if row == self._taken else "faint_line"
            painter.setPen(QPen(theme().colour(role), 2.0 if focused else 1.0))
            painter.setBrush(theme().colour("sunk"))
            painter.drawRoundedRect(area, 3.0, 3.0)
            painter.setFont(theme().font(13))
            painter.setPen(theme().colour("paper"))
            name = painter.fontMetrics().elidedText(feel.name, Qt.TextElideMode.ElideRight, self.width() - 16)
            painter.drawText(QRectF(7.0, row * ROW + 2.0, self.width() - 14.0, 16.0), Qt.AlignmentFlag.AlignLeft, name)
            width = (self.width() - 12.0) / len(feel.late)
            painter.setPen(QPen(theme().colour("line"), 1.0))
            for step in range(len(feel.late)):
                x = 6.0 + (step + 0.5) * width
                painter.drawLine(QPointF(x, (row + 1) * ROW - 6.0), QPointF(x, (row + 1) * ROW - 8.0))
            for step, accent in enumerate(feel.accent):
                foot = self.step_place(row, step)
                beat = step % feel.steps_per_beat == 0
                painter.setPen(QPen(theme().colour("hats" if beat else "good"), 2.0))
                painter.drawLine(foot, QPointF(foot.x(), foot.y() - 3.0 - 16.0 * max(0.0, min(1.0, (accent - 0.6) / 0.7))))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        row = int(event.position().y() // ROW)
        if 0 <= row < len(self._feels):
            self._marked = row
            self.chosen.emit(row)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        way = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if way is not None:
            self._marked = max(0, min(len(self._feels) - 1, self._marked + way))
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._feels:
            self.chosen.emit(self._marked)
        else:
            super().keyPressEvent(event)
