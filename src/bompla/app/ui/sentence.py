"""A sentence as a button, as tall as its words need."""

from __future__ import annotations

from PyQt6.QtCore import QRect, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QFontMetrics, QPainter, QPaintEvent
from PyQt6.QtWidgets import QPushButton

from bompla.app.theme import theme

TOP, LEFT, TITLE = 5, 9, 19


class Sentence(QPushButton):
    """A sentence, with a title where it has one; `pointed` tells that the pointer or the focus comes to it, or leaves."""

    pointed = pyqtSignal(bool)

    def __init__(self, title: str, text: str, current: bool = False, *, tip: str = "Click to hear these hits") -> None:
        super().__init__()
        self._title, self._text, self._current = title, text.replace(" %", "\u00a0%"), current
        self.setObjectName("sentence")
        self.setAccessibleName(f"{title}: {text}" if title else text)
        self.setToolTip(tip)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)

    def _text_area(self) -> QRect:
        return QRect(LEFT, TOP + (TITLE if self._title else 0), max(40, self.width() - 2 * LEFT), 2_000)

    def resizeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        metrics = QFontMetrics(theme().font(16, weight=500))
        flags = Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignTop
        area = self._text_area()
        self.setFixedHeight(area.top() + metrics.boundingRect(area, flags, self._text).height() + 6)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        super().paintEvent(event)
        painter = QPainter(self)
        if self._current:
            painter.fillRect(0, 0, 3, self.height(), theme().colour("paper"))
        if self._title:
            painter.setFont(theme().font(14, weight=600))
            painter.setPen(theme().colour("paper" if self._current else "dim"))
            painter.drawText(QRect(LEFT, TOP, self.width() - 2 * LEFT, TITLE), Qt.AlignmentFlag.AlignVCenter, self._title)
        painter.setFont(theme().font(16, weight=500))
        painter.setPen(theme().colour("paper"))
        painter.drawText(self._text_area(), Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignTop, self._text)

    def enterEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.pointed.emit(True)

    def leaveEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.pointed.emit(False)

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802  # Qt's name
        super().focusInEvent(event)
        self.pointed.emit(True)
