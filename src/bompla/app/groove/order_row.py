"""The order of variations as a row of cells."""

from __future__ import annotations

from dataclasses import dataclass

from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.groove.cards import VARIATION_MIME
from bompla.app.theme import theme
from bompla.app.ui.gesture import GestureWidget
from bompla.model.document import OrderStep
from bompla.model.order_edits import MOST_REPEATS

CELL, GAP, HEIGHT = 46.0, 5.0, 28.0
POINTS_PER_REPEAT = 14.0


@dataclass
class _Drag:
    index: int
    x: float
    y: float
    repeats: int
    before: tuple[OrderStep, ...]
    kind: str = ""
    to: int = -1


class OrderRow(GestureWidget):
    """Shows what plays after what. A drag along moves a cell, up or down plays it more or less often, a double click takes it out.

    A card that is dropped here is put in where it is dropped. `changed` carries the new steps.
    """

    changed = pyqtSignal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.steps: tuple[OrderStep, ...] = ()
        self.playing = -1
        self.chosen = 0
        self._opening = -1
        self.setAcceptDrops(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Order of the variations")
        self.setToolTip("Drag along to move, up or down to play it more or less often; a double click takes it out. "
                        "Keys: arrows, Shift and arrows to move, Delete")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:  # noqa: N802  # Qt's name
        return QSize(300, round(HEIGHT))

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        data = event.mimeData()
        if data is not None and data.hasFormat(VARIATION_MIME):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        self._opening = self.place_at(event.position().x())
        event.acceptProposedAction()
        self.update()

    def dragLeaveEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._opening = -1
        self.update()

    def dropEvent(self, event: QDropEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        data, self._opening = event.mimeData(), -1
        if data is not None and data.hasFormat(VARIATION_MIME):
            place, step = self.place_at(event.position().x()), OrderStep(data.data(VARIATION_MIME).data().decode())
            event.acceptProposedAction()
            self.changed.emit((*self.steps[:place], step, *self.steps[place:]))
        self.update()

    def place_at(self, x: float) -> int:
        """Return the place in the order that what is dropped at `x` takes."""
        return sum(self.cell(n).center().x() < x for n in range(len(self.steps)))

    def show_steps(self, steps: tuple[OrderStep, ...]) -> None:
        """Show an order."""
        if self.gesture is None and steps != self.steps:
            self.steps = steps
            self.chosen = max(0, min(self.chosen, len(steps) - 1))
            self.setAccessibleDescription(" ".join(f"{step.letter}×{step.repeats}" for step in steps) or "empty")
            self.update()

    def show_playing(self, index: int) -> None:
        """Show which cell plays."""
        if index != self.playing:
            self.playing = index
            self.update()

    def cell(self, index: int) -> QRectF:
        """Return where a cell is; they share the room where there are many."""
        width = min(CELL, (self.width() - GAP * len(self.steps)) / max(1, len(self.steps)))
        return QRectF(index * (width + GAP) + 1.0, 1.0, width, HEIGHT - 2.0)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.steps:
            painter.setFont(theme().font(14))
            painter.setPen(theme().colour("dim"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignVCenter, "The order is empty: drag cards here, or add this variation")
            return
        if self._opening >= 0:
            before = self.cell(self._opening).left() if self._opening < len(self.steps) else self.cell(len(self.steps) - 1).right() + GAP
            painter.fillRect(QRectF(before - GAP / 2.0 - 1.0, 0.0, 2.5, HEIGHT), theme().colour("paper"))
        for index, step in enumerate(self.steps):
            cell = self.cell(index)
            focused = self.hasFocus() and index == self.chosen
            role = "signal" if index == self.playing else "focus" if focused else "line"
            painter.setPen(QPen(theme().colour(role), 2.0 if focused else 1.0))
            painter.setBrush(theme().colour("raised"))
            painter.drawRoundedRect(cell, 3.0, 3.0)
            painter.setFont(theme().font(15, weight=600))
            painter.setPen(theme().colour("signal" if index == self.playing else "paper"))
            text = step.letter if step.repeats == 1 else f"{step.letter} × {step.repeats}"
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, text)

    def _index_at(self, point: QPointF) -> int:
        return next((n for n in range(len(self.steps)) if self.cell(n).contains(point)), -1)

    def press(self, event: QMouseEvent) -> _Drag | None:
        """Take hold of a cell."""
        index = self._index_at(event.position())
        if index < 0 or event.button() != Qt.MouseButton.LeftButton:
            return None
        self.chosen = index
        self.update()
        return _Drag(index, event.position().x(), event.position().y(), self.steps[index].repeats, self.steps)

    def drag(self, gesture: _Drag, event: QMouseEvent) -> None:
        """Move the cell along, or let it play more or less often."""
        across, up = event.position().x() - gesture.x, gesture.y - event.position().y()
        if not gesture.kind and max(abs(across), abs(up)) > 6.0:
            gesture.kind = "move" if abs(across) > abs(up) else "repeats"
        if gesture.kind == "repeats":
            repeats = max(1, min(MOST_REPEATS, gesture.repeats + round(up / POINTS_PER_REPEAT)))
            self.steps = _with(self.steps, gesture.index, replace(self.steps[gesture.index], repeats=repeats))
        elif gesture.kind == "move":
            to = self._index_at(QPointF(event.position().x(), HEIGHT / 2.0))
            if to >= 0 and to != gesture.index:
                self.steps = _moved(self.steps, gesture.index, to)
                self.chosen = gesture.index = to
        self.update()

    def commit(self, gesture: _Drag, event: QMouseEvent) -> None:
        """Keep the order."""
        if gesture.kind:
            self.changed.emit(self.steps)

    def cancel(self, gesture: _Drag) -> None:
        """Take the order that it was before."""
        self.steps = gesture.before

    def double_click(self, event: QMouseEvent) -> None:
        """Remove a cell."""
        self._take_out(self._index_at(event.position()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        key, shift = Qt.Key(event.key()), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        way = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(key)
        more = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(key)
        if not self.steps or (way is None and more is None and key != Qt.Key.Key_Delete):
            super().keyPressEvent(event)
        elif key == Qt.Key.Key_Delete:
            self._take_out(self.chosen)
        elif way is not None:
            to = max(0, min(len(self.steps) - 1, self.chosen + way))
            if shift and to != self.chosen:
                self.changed.emit(_moved(self.steps, self.chosen, to))
            self.chosen = to
            self.update()
        elif more is not None:
            step = self.steps[self.chosen]
            self.changed.emit(_with(self.steps, self.chosen, replace(step, repeats=max(1, min(MOST_REPEATS, step.repeats + more)))))

    def _take_out(self, index: int) -> None:
        if 0 <= index < len(self.steps):
            self.changed.emit((*self.steps[:index], *self.steps[index + 1 :]))


def _with(steps: tuple[OrderStep, ...], index: int, step: OrderStep) -> tuple[OrderStep, ...]:
    return (*steps[:index], step, *steps[index + 1 :])


def _moved(steps: tuple[OrderStep, ...], index: int, to: int) -> tuple[OrderStep, ...]:
    row = list(steps)
    row.insert(to, row.pop(index))
    return tuple(row)
