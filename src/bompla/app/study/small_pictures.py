"""Small pictures of a groove: how busy each bar is, and where the second notes of pairs fall."""

from __future__ import annotations

from collections import Counter

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from bompla.app.theme import theme
from bompla.groove.feel import felt_pattern
from bompla.groove.grid import EARLY_BEATS
from bompla.groove.read import GrooveRead
from bompla.model.detected_pattern import pattern_bars, pattern_meter
from bompla.model.document import Document
from bompla.model.drums import DRUMS, Family

LEFT, TOP, FOOT = 34.0, 16.0, 22.0
LOW, HIGH = 44.0, 72.0
STRAIGHT, TRIPLET = 50.0, 200.0 / 3.0


class DensityPicture(QWidget):
    """How many hits each bar has, by family, one on the other; the bar that plays is lit, a click hears one."""

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self._counts: list[Counter[Family]] = []
        self._playing = -1
        self.setMinimumSize(180, 150)
        self.setAccessibleName("How many hits each bar has")

    def show_document(self, document: Document) -> None:
        """Show the shown pattern of a document."""
        per_bar = pattern_meter(document).beats_per_bar
        self._counts = [Counter() for _ in range(pattern_bars(document))]
        for hit in felt_pattern(document):
            bar = int((hit.at_beats + EARLY_BEATS) // per_bar)
            if 0 <= bar < len(self._counts):
                self._counts[bar][DRUMS[document.pad(hit.pad_id).drum].family] += 1
        self.setAccessibleDescription(", ".join(f"bar {n}: {count.total()}" for n, count in enumerate(self._counts, 1)))
        self.update()

    def show_bar(self, bar: int) -> None:
        """Mark the bar that plays."""
        if bar != self._playing:
            self._playing = bar
            self.update()

    def column(self, bar: int) -> QRectF:
        """Return where the column of a bar is, at its full height."""
        wide = (self.width() - LEFT - 6.0) / max(1, len(self._counts))
        gap = min(8.0, wide * 0.2)
        return QRectF(LEFT + bar * wide + gap / 2, TOP, wide - gap, self.height() - TOP - FOOT)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        if not self._counts:
            return
        painter = QPainter(self)
        painter.setFont(theme().font(13, weight=500))
        most = max(1, *(count.total() for count in self._counts))
        painter.setPen(theme().colour("dim"))
        painter.drawText(QRectF(0.0, TOP - 4.0, LEFT - 6.0, 18.0), Qt.AlignmentFlag.AlignRight, str(most))
        labelled = max(1, -(-len(self._counts) * 22 // max(1, int(self.width() - LEFT))))
        for bar, count in enumerate(self._counts):
            column = self.column(bar)
            foot = column.bottom()
            for family in Family:
                tall = column.height() * count[family] / most
                painter.fillRect(QRectF(column.left(), foot - tall, column.width(), max(0.0, tall - 1.0)), theme().colour(family.value))
                foot -= tall
            if bar % labelled == 0:
                painter.setPen(theme().colour("signal" if bar == self._playing else "dim"))
                painter.drawText(QRectF(column.left() - 8.0, column.bottom() + 3.0, column.width() + 16.0, 18.0),
                                 Qt.AlignmentFlag.AlignHCenter, str(bar + 1))
        painter.setPen(QPen(theme().colour("line"), 1.0))
        painter.drawLine(QPointF(LEFT, self.height() - FOOT), QPointF(self.width() - 6.0, self.height() - FOOT))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        for bar in range(len(self._counts)):
            if event is not None and self.column(bar).contains(event.position()):
                self.chosen.emit(bar)
                return


class SwingPicture(QWidget):
    """Where the second notes of pairs fall, a row a level: a column a per cent, straight and triplet marked."""

    def __init__(self) -> None:
        super().__init__()
        self._places: dict[str, tuple[float, ...]] = {}
        self.setMinimumSize(180, 150)
        self.setAccessibleName("Where the second notes of pairs fall")

    def show_read(self, read: GrooveRead) -> None:
        """Show the pairs of a groove."""
        self._places = dict(read.second_places)
        said = [f"{level}s: {len(places)} pairs" for level, places in self._places.items()]
        self.setAccessibleDescription(", ".join(said) or "no pairs in this meter")
        self.update()

    def x_at(self, per_cent: float) -> float:
        """Return where a place in its pair is drawn."""
        return LEFT + (self.width() - LEFT - 10.0) * (per_cent - LOW) / (HIGH - LOW)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setFont(theme().font(13, weight=500))
        if not any(self._places.values()):
            painter.setPen(theme().colour("dim"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "no pairs of eighths or sixteenths")
            return
        tall = (self.height() - TOP - FOOT) / len(self._places)
        for per_cent, words in ((STRAIGHT, "50 straight"), (TRIPLET, "67 triplet")):
            x = self.x_at(per_cent)
            painter.setPen(QPen(theme().colour("line"), 1.0, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, TOP - 4.0), QPointF(x, self.height() - FOOT))
            painter.setPen(theme().colour("dim"))
            painter.drawText(QRectF(x - 40.0, self.height() - FOOT + 3.0, 80.0, 18.0), Qt.AlignmentFlag.AlignHCenter, words)
        for row, (level, places) in enumerate(self._places.items()):
            foot = TOP + (row + 1) * tall
            counts = Counter(round(place) for place in places)
            most = max(counts.values(), default=1)
            wide = self.x_at(LOW + 1.0) - self.x_at(LOW)
            for per_cent, count in counts.items():
                high = (tall - 20.0) * count / most
                painter.fillRect(QRectF(self.x_at(per_cent) - wide / 2, foot - high, wide - 1.0, high), theme().colour("hats"))
            painter.setPen(theme().colour("paper"))
            painter.drawText(QRectF(4.0, foot - tall + 2.0, self.width() - 8.0, 18.0), Qt.AlignmentFlag.AlignLeft, f"{level}s")
            painter.setPen(QPen(theme().colour("line"), 1.0))
            painter.drawLine(QPointF(LEFT, foot), QPointF(self.width() - 10.0, foot))
