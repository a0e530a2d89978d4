"""The level of what plays, with its highest peak held: one thin bar."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from bompla.app.theme import theme
from bompla.units import gain_to_db

LOWEST_DB, HIGHEST_DB = -40.0, 6.0
LIGHT_HEIGHT = 5.0


class LevelMeter(QWidget):
    """Shows the peak before the ceiling; over full scale its light comes on and stays, until it is clicked."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(9, 38)
        self.level_db = self.held_db = LOWEST_DB
        self.loudest = ""
        self.setAccessibleName("Peak level")
        theme().changed.connect(self.update)
        self._tell()

    @property
    def over(self) -> bool:
        """Whether full scale was passed since the last click."""
        return self.held_db > 0.0

    def show_peak(self, peak: float, loudest: str = "") -> None:
        """Show the latest peak as a gain; `loudest` names the pad that sounds loudest."""
        level_db = max(LOWEST_DB, min(HIGHEST_DB, gain_to_db(peak)))
        if level_db > self.held_db:
            self.held_db, self.loudest = level_db, loudest
            self._tell()
        if level_db != self.level_db:
            self.level_db = level_db
            self.update()

    def reset(self) -> None:
        """Forget the highest peak."""
        self.held_db, self.loudest = self.level_db, ""
        self._tell()
        self.update()

    def _tell(self) -> None:
        words = f"Peak {self.held_db:+.1f} dB" if self.held_db > LOWEST_DB else "Peak level"
        if self.over:
            words += f", loudest {self.loudest}" if self.loudest else ""
            words += ": over full scale, turned down by the ceiling. Lower a pad's level, or click to reset"
        self.setToolTip(words)
        self.setAccessibleDescription(words)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self.reset()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        top, height = LIGHT_HEIGHT + 2.0, self.height() - LIGHT_HEIGHT - 2.0
        painter.fillRect(QRectF(0.0, top, self.width(), height), theme().colour("sunk"))
        rise = height * (min(0.0, self.level_db) - LOWEST_DB) / -LOWEST_DB
        painter.fillRect(QRectF(0.0, self.height() - rise, self.width(), rise), theme().colour("dim"))
        held = height * (min(0.0, self.held_db) - LOWEST_DB) / -LOWEST_DB
        if self.held_db > LOWEST_DB:
            painter.fillRect(QRectF(0.0, self.height() - held, self.width(), 1.5), theme().colour("paper"))
        painter.fillRect(QRectF(0.0, 0.0, self.width(), LIGHT_HEIGHT), theme().colour("signal" if self.over else "line"))
