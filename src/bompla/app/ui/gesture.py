"""One gesture: press, drag, let go; Escape puts everything back. All pictures that are dragged on are built on it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QHideEvent, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QApplication, QWidget

if TYPE_CHECKING:
    _Widget = QWidget
else:
    _Widget = object


class Gestures(_Widget):
    """What a widget is made of on which gestures are made, one at a time; stands ahead of the widget's own kind.

    `press` says what a press begins, as any value; `drag` and `commit` get that value. Until it is committed nothing is changed but
    what is shown, and `cancel` shows it again as it was: at Escape, whoever has the focus, and when the widget is hidden.
    """

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._gesture: Any = None

    @property
    def gesture(self) -> Any:
        """The gesture in progress, None where there is none."""
        return self._gesture

    def press(self, event: QMouseEvent) -> Any:
        """Return what a press begins; None where it begins nothing that goes on."""
        return None

    def drag(self, gesture: Any, event: QMouseEvent) -> None:
        """Show where the gesture has come to."""

    def commit(self, gesture: Any, event: QMouseEvent) -> None:
        """Do what the gesture stands for, now that it is let go."""

    def cancel(self, gesture: Any) -> None:
        """Show everything as it was before the press."""

    def hover(self, event: QMouseEvent) -> None:
        """Follow the pointer where no gesture is in progress."""

    def double_click(self, event: QMouseEvent) -> None:
        """Do what a double click stands for."""

    def end_gesture(self) -> Any:
        """End the gesture without an outcome, and return it; what goes on from it, such as a drag out of the widget, is another matter."""
        gesture, self._gesture = self._gesture, None
        if gesture is not None and (application := QApplication.instance()) is not None:
            application.removeEventFilter(self)
        return gesture

    def cancel_gesture(self) -> None:
        """Give the gesture up, if there is one."""
        gesture = self.end_gesture()
        if gesture is not None:
            self.cancel(gesture)
            self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        if self._gesture is not None:
            return  # another button while one is down
        self._gesture = self.press(event)
        if self._gesture is not None and (application := QApplication.instance()) is not None:
            application.installEventFilter(self)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        if self._gesture is None:
            self.hover(event)
        else:
            self.drag(self._gesture, event)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        gesture = self.end_gesture()
        if gesture is not None:
            self.commit(gesture, event)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        self.end_gesture()
        self.double_click(event)

    def hideEvent(self, event: QHideEvent | None) -> None:  # noqa: N802  # Qt's name
        self.cancel_gesture()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:  # noqa: N802  # Qt's name
        """Take Escape while a gesture is in progress, before any shortcut or focused field does."""
        if event is not None and self._gesture is not None and event.type() in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress):
            assert isinstance(event, QKeyEvent)
            if event.key() == Qt.Key.Key_Escape:
                if event.type() == QEvent.Type.KeyPress:
                    self.cancel_gesture()
                event.accept()
                return True
        return False


class GestureWidget(Gestures, QWidget):
    """A plain widget on which gestures are made."""
