"""The one box in which a number is typed."""

from __future__ import annotations

from typing import Protocol, runtime_checkable

from PyQt6.QtCore import QEvent, QLocale, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QKeySequence, QWheelEvent
from PyQt6.QtWidgets import QDoubleSpinBox, QWidget

TYPED = "0123456789.,-+"


@runtime_checkable
class HasPicture(Protocol):
    """A page with a picture that has the focus when nothing else needs it."""

    def picture(self) -> QWidget:
        """Return the picture."""


def give_focus_back(widget: QWidget) -> None:
    """Give the focus from a control to the picture of its page, so that keys work the page again."""
    above = widget.parentWidget()
    while above is not None:
        if isinstance(above, HasPicture):
            above.picture().setFocus()
            return
        above = above.parentWidget()
    widget.clearFocus()


class NumberBox(QDoubleSpinBox):
    """A number that is typed, and shows what holds.

    `typed` carries a number once: on Return, on leaving the box if its text was edited, and at an arrow or a turn of the
    wheel while it has the focus.
    A change from elsewhere is always shown, and drops a text that was begun. Comma and point both part decimals, in every
    country. Return and Escape give the focus back to the picture; keys that write no number are left to the page.
    """

    typed = pyqtSignal(float)

    def __init__(self, name: str, low: float, high: float, *, decimals: int = 0, before: str = "", unit: str = "", tip: str = "",
                 width: int = 0, arrows: bool = False) -> None:
        super().__init__()
        self._shown = low
        self._committed = False
        self.setLocale(QLocale.c())
        self.setDecimals(decimals)
        self.setRange(low, high)
        self.setPrefix(before)
        self.setSuffix(unit)
        self._unit = unit
        self.setAccessibleName(name)
        self.setToolTip(tip or name)
        self.setKeyboardTracking(False)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus | Qt.FocusPolicy.TabFocus)
        if not arrows:
            self.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        if width:
            self.setFixedWidth(width)
        self.valueChanged.connect(self._commit)

    def show_number(self, number: float) -> None:
        """Show what holds; a text that is being typed stays unless this is news."""
        line = self.lineEdit()
        assert line is not None
        if number == self._shown and line.isModified() and self.hasFocus():
            return
        if self.suffix() != self._unit:
            self.setSuffix(self._unit)
        self._set(number)

    def clear(self) -> None:
        """Show no number, and no unit of one."""
        self.setSuffix("")
        super().clear()

    def validate(self, text: str | None, at: int) -> tuple[object, str, int]:  # type: ignore[override]  # narrower in the stubs
        """Take a comma for a point."""
        return super().validate((text or "").replace(",", "."), at)

    def valueFromText(self, text: str | None) -> float:  # noqa: N802  # Qt's name
        return super().valueFromText((text or "").replace(",", "."))

    def event(self, event: QEvent | None) -> bool:
        """Leave undo, and keys that write no number, to the window."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and self._leaves(event):
            event.ignore()
            return False
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self._set(self._shown)
            give_focus_back(self)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            event.accept()
            give_focus_back(self)
            if self.hasFocus():
                self._leave()
        elif self._leaves(event):
            event.ignore()
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802  # Qt's name
        """Turn the number only while it is being edited: else the wheel scrolls the column under the pointer."""
        assert event is not None
        if self.hasFocus():
            super().wheelEvent(event)
        else:
            event.ignore()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802  # Qt's name
        self._leave()
        super().focusOutEvent(event)

    def _leave(self) -> None:
        """Commit what was typed, also where it is what the box showed: not every selected hit needs to have that value."""
        line = self.lineEdit()
        assert line is not None
        if not line.isModified():
            return
        whole, self._committed = line.hasAcceptableInput(), False
        self.interpretText()
        if whole and not self._committed:
            self.typed.emit(self.value())
        self._set(self.value())

    def _leaves(self, event: QKeyEvent) -> bool:
        if event.matches(QKeySequence.StandardKey.Undo) or event.matches(QKeySequence.StandardKey.Redo):
            line = self.lineEdit()
            return line is None or not line.isModified()
        text = event.text()
        return bool(text) and text.isprintable() and text not in TYPED

    def _set(self, number: float) -> None:
        self._shown = number
        self.blockSignals(True)  # Qt's name
        self.setValue(number)
        self.blockSignals(False)  # Qt's name
        line = self.lineEdit()
        assert line is not None
        special = self.specialValueText()
        lowest = bool(special) and self.value() == self.minimum()
        line.setText(special if lowest else f"{self.prefix()}{self.textFromValue(self.value())}{self.suffix()}")

    def _commit(self, number: float) -> None:
        self._shown, self._committed = number, True
        self.typed.emit(number)
