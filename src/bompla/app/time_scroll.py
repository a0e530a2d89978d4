"""The whole of a picture over time in small, with the part that is in view: dragged to scroll, by its ends to zoom."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.sound_picture import SoundPicture
from bompla.app.theme import theme
from bompla.app.ui.gesture import GestureWidget

HEIGHT, GRAB = 24, 8.0
INSET = 4.0
LEAST_WIDTH = 10.0

Small = Callable[[int, int, float], QPixmap | None]
"""Makes the picture in small: so many points wide and tall, at a pixel ratio."""


class TimeScroll(GestureWidget):
    """Stands under a picture, as wide as its stretch of time. A press beside the part in view brings that there; two show everything."""

    def __init__(self, picture: SoundPicture, small: Small, parent: QWidget | None = None, *, height: int = HEIGHT) -> None:
        super().__init__(parent)
        self._picture, self._small = picture, small
        self._drawn: QPixmap | None = None
        self._drawn_of: tuple[float, ...] = ()
        self.setFixedHeight(height)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName("Part in view")
        self.setToolTip("The part in view: drag it to scroll, its ends to zoom; a double click shows everything")
        picture.view_changed.connect(self.update)

    def sizeHint(self) -> QSize:  # noqa: N802  # Qt's name
        return QSize(200, self.height())

    def redraw(self, _changed: object = None) -> None:
        """Draw the small picture anew: what it shows is another."""
        self._drawn = None
        self.update()

    def _left(self) -> float:
        """Return where the stretch of time begins that the picture shows: right under it."""
        return self._picture.axis.left + self.mapFromGlobal(self._picture.mapToGlobal(QPoint(0, 0))).x()

    def x_of(self, at_sample: float) -> float:
        """Return where a sample is."""
        first, last = self._picture.limits()
        return self._left() + (at_sample - first) / max(1.0, last - first) * self._picture.axis.width

    def sample_at(self, x: float) -> float:
        """Return the sample at a place."""
        first, last = self._picture.limits()
        axis = self._picture.axis
        return first + (x - self._left()) / max(1.0, axis.width) * (last - first)

    def part(self) -> QRectF:
        """Return where the part in view is, wide enough to be taken hold of."""
        left, right = self.x_of(self._picture.axis.start), self.x_of(self._picture.axis.end)
        spare = max(0.0, LEAST_WIDTH - (right - left)) / 2.0
        return QRectF(left - spare, 1.0, right - left + 2.0 * spare, self.height() - 3.0)

    def press(self, event: QMouseEvent) -> tuple[str, float, float, float] | None:
        """Take hold of the part in view, or of one of its ends; the gesture is which, where, and what was in view."""
        axis, part, x = self._picture.axis, self.part(), event.position().x()
        if event.button() != Qt.MouseButton.LeftButton:
            return None
        end = self._end_at(x)
        if not end and not part.left() <= x <= part.right():
            half = (axis.end - axis.start) / 2.0
            self._picture.show_span(self.sample_at(x) - half, self.sample_at(x) + half)
        return end or "all", x, axis.start, axis.end

    def _end_at(self, x: float) -> str:
        """Return the end of the part in view that is at a place; none in the middle of a narrow one."""
        part = self.part()
        grab = min(GRAB, part.width() / 4.0)
        return "start" if abs(x - part.left()) <= grab else "end" if abs(x - part.right()) <= grab else ""

    def drag(self, gesture: tuple[str, float, float, float], event: QMouseEvent) -> None:
        """Scroll, or zoom by an end."""
        what, x, start, end = gesture
        by = self.sample_at(event.position().x()) - self.sample_at(x)
        if what == "all":
            axis = self._picture.axis
            middle = self.sample_at(event.position().x()) if not self.x_of(start) <= x <= self.x_of(end) else (start + end) / 2.0 + by
            half = (axis.end - axis.start) / 2.0
            self._picture.show_span(middle - half, middle + half)
        else:
            self._picture.show_span(start + by if what == "start" else start, end + by if what == "end" else end)

    def cancel(self, gesture: tuple[str, float, float, float]) -> None:
        """Show what was in view before."""
        self._picture.show_span(gesture[2], gesture[3])

    def double_click(self, event: QMouseEvent) -> None:
        """Show everything."""
        self._picture.show_all()

    def hover(self, event: QMouseEvent) -> None:
        """Show what a press would take hold of."""
        at_end = self._end_at(event.position().x())
        self.setCursor(Qt.CursorShape.SizeHorCursor if at_end else Qt.CursorShape.OpenHandCursor)

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802  # Qt's name
        self._picture.wheelEvent(event)

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        axis = self._picture.axis
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        whole = QRectF(self._left(), INSET, axis.width, self.height() - 2.0 * INSET)
        ratio = self.devicePixelRatioF()
        now = (*self._picture.limits(), whole.width(), ratio)
        if (self._drawn is None or now != self._drawn_of) and whole.width() > 1.0:
            self._drawn, self._drawn_of = self._small(round(whole.width()), round(whole.height()), ratio), now
        if self._drawn is not None:
            painter.setOpacity(0.75)
            painter.drawPixmap(whole.topLeft(), self._drawn)
            painter.setOpacity(1.0)
        part = self.part()
        first, last = self._picture.limits()
        if axis.end - axis.start < 0.999 * (last - first):
            within = QRectF(whole.left(), 0.0, whole.width(), self.height())
            right = QPointF(whole.right(), self.height())
            for outside in (QRectF(QPointF(whole.left(), 0.0), part.bottomLeft()), QRectF(part.topRight(), right)):
                painter.fillRect(outside.intersected(within), theme().colour("panel", 0.65))
            painter.setPen(QPen(theme().colour("paper"), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(part, 3.0, 3.0)
