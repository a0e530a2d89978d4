"""Where in time and in which band two sounds differ."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from bompla.app.theme import theme
from bompla.render.sound_difference import SoundDifference

FULL_DB = 18.0
LABEL = 92.0


class DifferenceStrip(QWidget):
    """Bands from low to high over the loop: what the second sound has more of in one colour, less of in another; a click hears there.

    `chosen` carries a share of the loop.
    """

    chosen = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__()
        self._difference: SoundDifference | None = None
        self._image: QImage | None = None
        self._share = -1.0
        self.setFixedHeight(74)
        self.setAccessibleName("Where the two sounds differ")
        self.setToolTip("Yellow: louder in the second, blue: softer; low bands below. Click to hear there")
        theme().changed.connect(self._redraw)

    def show_difference(self, difference: SoundDifference | None) -> None:
        """Show where two sounds differ, nothing with None."""
        self._difference = difference
        self._redraw()

    def show_share(self, share: float) -> None:
        """Show where it plays."""
        self._share = share
        self.update()

    def _redraw(self) -> None:
        self._image = None
        self.update()

    def _made(self, difference: SoundDifference) -> QImage:
        ground, more, less = (np.array([getattr(theme().colour(role), name)() for name in ("red", "green", "blue")], float)
                              for role in ("sunk", "snares", "cymbals"))
        amount = np.clip(difference.louder_db.T[::-1] / FULL_DB, -1.0, 1.0)[..., np.newaxis]
        rgb = np.round(ground + np.maximum(amount, 0.0) * (more - ground) + np.maximum(-amount, 0.0) * (less - ground)).astype(np.uint32)
        packed = np.ascontiguousarray(0xFF000000 | rgb[..., 0] << 16 | rgb[..., 1] << 8 | rgb[..., 2], dtype=np.uint32)
        high, wide = packed.shape
        return QImage(packed.tobytes(), wide, high, 4 * wide, QImage.Format.Format_RGB32).copy()

    def _area(self) -> QRectF:
        return QRectF(LABEL, 2.0, max(1.0, self.width() - LABEL - 12.0), self.height() - 4.0)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        area = self._area()
        painter.fillRect(area, theme().colour("sunk"))
        painter.setFont(theme().font(13))
        painter.setPen(theme().colour("dim"))
        for text, at in (("high", area.top()), ("low", area.bottom() - 16.0)):
            painter.drawText(QRectF(0.0, at, LABEL - 8.0, 16.0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        if self._difference is None or not self._difference.louder_db.size:
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter, "both have to be of this loop")
            return
        if self._image is None:
            self._image = self._made(self._difference)
        painter.drawImage(area, self._image)
        if 0.0 <= self._share <= 1.0:
            painter.fillRect(QRectF(area.left() + self._share * area.width(), area.top(), 1.5, area.height()), theme().colour("signal"))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        if event is not None and self._difference is not None:
            area = self._area()
            self.chosen.emit(max(0.0, min(1.0, (event.position().x() - area.left()) / area.width())))
