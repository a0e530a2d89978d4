"""A value as a bar: dragged, finely with Shift, stepped by keys, typed after a double click or by its first digit, reset by Delete."""

from __future__ import annotations

import math

from PyQt6.QtCore import QEvent, QObject, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QWheelEvent
from PyQt6.QtWidgets import QLineEdit, QSizePolicy, QSlider, QWidget

from bompla.app.theme import theme
from bompla.app.ui.gesture import Gestures
from bompla.model.params import Param

STEPS = 200
FINE_SHARE, DRAG_POINTS, TEXT_HEIGHT = 0.1, 3.0, 20.0
ZERO_SHARE = 0.02
"""So near to it a value of both signs is drawn to zero."""


class ValueBar(Gestures, QSlider):
    """Shows a name, a value and how far along its range it is.

    `moved` carries the value while it is dragged, `chosen` when it is settled; `dropped` tells that a drag was given up. To a screen
    reader it is a slider of `STEPS`, whose value in words is its description.
    """

    moved = pyqtSignal(float)
    chosen = pyqtSignal(float)
    dropped = pyqtSignal()

    def __init__(self, param: Param, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.param = param
        self.amount = param.default
        self.setOrientation(Qt.Orientation.Horizontal)
        self.setRange(0, STEPS)
        self.valueChanged.connect(self._slid)
        self._tell()
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(param.label)
        resets = f"Delete resets to {self.param.in_words(param.default)}"
        self.setToolTip(f"{param.help}. Double-click the number to type, Shift drags finely, {resets}")
        self.field: QLineEdit | None = None
        self._anchor, self._dragged = (0.0, 0.0), False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.SizeHorCursor)

    def sizeHint(self) -> QSize:  # noqa: N802  # Qt's name
        return QSize(90, 30)

    def show_value(self, value: float) -> None:
        """Show a value, unless it is being dragged."""
        if self.gesture is None and value != self.amount:
            self.amount = value
            self._tell()
            self.update()

    def _tell(self) -> None:
        """Say where the value is to who does not see it."""
        self.setAccessibleDescription(self.param.in_words(self.amount))
        self.blockSignals(True)
        self.setValue(round(STEPS * self._share(self.amount)))
        self.blockSignals(False)

    def _slid(self, step: int) -> None:
        """Take a value that was set from outside, as a screen reader does."""
        self._settle(self._value_at(step / STEPS))

    def _share(self, value: float) -> float:
        p = self.param
        if p.by_ratio:
            return math.log(value / p.low) / math.log(p.high / p.low)
        return (value - p.low) / (p.high - p.low)

    def _value_at(self, share: float) -> float:
        p = self.param
        share = max(0.0, min(1.0, share))
        if p.by_ratio:
            return float(p.low * (p.high / p.low) ** share)
        value = p.stepped(p.low + share * (p.high - p.low))
        return 0.0 if p.low < 0.0 and abs(value) < ZERO_SHARE * (p.high - p.low) else value

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setFont(theme().font(14))
        painter.setPen(theme().colour("paper"))
        top = QRectF(0.0, 0.0, self.width(), TEXT_HEIGHT)
        painter.drawText(top, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.param.label)
        painter.setPen(theme().colour("paper" if self.amount != self.param.default else "dim"))
        painter.drawText(top, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self.param.in_words(self.amount))
        bar = QRectF(0.0, 23.0, self.width(), 4.0)
        painter.fillRect(bar, theme().colour("raised"))
        base = self._share(min(max(0.0, self.param.low), self.param.high)) if self.param.low < 0.0 else 0.0
        left, right = sorted((base, self._share(self.amount)))
        role = "focus" if self.hasFocus() else "paper"
        painter.fillRect(QRectF(left * self.width(), 23.0, max(2.0, (right - left) * self.width()), 4.0), theme().colour(role))

    def press(self, event: QMouseEvent) -> float | None:
        """Begin to drag the value; the gesture is the value before."""
        if event.button() != Qt.MouseButton.LeftButton:
            return None
        before = self.amount
        on_bar = event.position().y() >= TEXT_HEIGHT and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        if on_bar:
            self._drag_to(event.position().x() / max(1.0, self.width()))
        self._anchor, self._dragged = (event.position().x(), self._share(self.amount)), on_bar
        return before

    def drag(self, gesture: float, event: QMouseEvent) -> None:
        """Let the value follow the pointer, a tenth as far with Shift."""
        x = event.position().x()
        if not self._dragged and abs(x - self._anchor[0]) < DRAG_POINTS:
            return  # a click on the words changes nothing, so that two of them can open the field
        self._dragged = True
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            at, share = self._anchor
            self._drag_to(share + FINE_SHARE * (x - at) / max(1.0, self.width()))
        else:
            self._drag_to(x / max(1.0, self.width()))
            self._anchor = (x, self._share(self.amount))

    def commit(self, gesture: float, event: QMouseEvent) -> None:
        """Keep the value, where it was dragged."""
        if self._dragged:
            self.chosen.emit(self.amount)

    def cancel(self, gesture: float) -> None:
        """Take the value that it had before."""
        self.amount = gesture
        self.dropped.emit()

    def double_click(self, event: QMouseEvent) -> None:
        """Let a number be typed."""
        self.type_number()

    def type_number(self, begins: str = "") -> None:
        """Open a field for the number, with what was typed already, or with the value as it is."""
        if self.field is None:
            self.field = QLineEdit(self)
            self.field.setAccessibleName(f"{self.param.label}: type a number")
            self.field.editingFinished.connect(self._take_typed)
            self.field.installEventFilter(self)
        self.field.setText(begins or self.param.in_words(self.amount))
        self.field.setGeometry(0, 0, self.width(), self.height())
        self.field.show()
        self.field.setFocus()
        if not begins:
            self.field.selectAll()

    def _take_typed(self) -> None:
        """Take what was typed; what is no number changes nothing."""
        if self.field is None or self.field.isHidden():
            return
        value = self.param.parsed(self.field.text())
        same = self.field.text() == self.param.in_words(self.amount)
        self._close_field()
        if value is not None and not same:
            self._settle(value)

    def _close_field(self) -> None:
        if self.field is not None:
            self.field.hide()
            self.setFocus()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:  # noqa: N802  # Qt's name
        """Close the field at Escape, and leave the value as it is."""
        if watched is self.field and isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Escape:
            if event.type() == QEvent.Type.KeyPress:
                self._close_field()
            return True
        return super().eventFilter(watched, event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        event.ignore()

    def event(self, event: QEvent | None) -> bool:
        """Keep the keys that change the value from the window."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and (_resets(event) or _begins_number(event)):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        ways = {Qt.Key.Key_Right: 1, Qt.Key.Key_Up: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Down: -1}
        way = ways.get(Qt.Key(event.key()))
        if _resets(event):
            self._settle(self.param.default)
        elif _begins_number(event):
            self.type_number(event.text())
        elif way is None:
            super().keyPressEvent(event)
        elif self.param.step:
            self._settle(self.param.stepped(self.amount + self.param.step * way))
        else:
            self._settle(self._value_at(self._share(self.amount) + way * 4.0 / STEPS))

    def _drag_to(self, share: float) -> None:
        self.amount = self._value_at(share)
        self.moved.emit(self.amount)
        self._tell()
        self.update()

    def _settle(self, value: float) -> None:
        self.amount = value
        self._tell()
        self.update()
        self.chosen.emit(value)


def _resets(event: QKeyEvent) -> bool:
    return event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and event.modifiers() == Qt.KeyboardModifier.NoModifier


def _begins_number(event: QKeyEvent) -> bool:
    return bool(event.text()) and event.text() in "0123456789-+.,"
