"""Pictures of a groove: where each hit falls and how hard, step by step; which bars are alike; the part on paper."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from PyQt6.QtCore import QByteArray, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QWheelEvent
from PyQt6.QtSvg import QSvgRenderer
from PyQt6.QtWidgets import QWidget

from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.noteheads import draw_head
from bompla.export.engrave import HEAD_PX, Engraved
from bompla.groove.feel import felt_pattern
from bompla.groove.grid import EARLY_BEATS
from bompla.groove.read import KNOWN_MS, GrooveRead
from bompla.model.detected_pattern import pattern_meter
from bompla.model.document import Document, Hit
from bompla.model.memo import LastMade

LABEL, SIDE = 92.0, 12.0
BELOW_HEAD, SMALLEST = 14.0, 0.7
"""So far below its title the music on paper begins, in the page's own points; how much smaller than its width allows it may become."""

NO_LIKENESS = 0.12
VIEWS = {"place": "where each hit falls, as large as it is hard", "offset": "how early or late each hit is",
         "velocity": "how hard each hit is"}
MOST_LATE_MS, LANE_SHARE = 20.0, 0.42


class StepPicture(QWidget):
    """Hits of all bars laid over one, a lane a pad; those of a sentence are lit.

    Seen by `place` each hit is where it falls, as large as it is hard; by `offset` its height is how early (above) or late it is, with
    what is too little to be known as a band; by `velocity` its height is how hard it is. Bars across are the middle of a step.
    """

    heard = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._lit: frozenset[int] = frozenset()
        self._beat = -1.0
        self._marked: tuple[str, float] | None = None
        self._late_ms: Mapping[int, float] = {}
        self.view = "place"
        self._used: LastMade[list[int]] = LastMade(1)
        self._still: LastMade[QPixmap] = LastMade(1)
        self.setMinimumHeight(150)
        self.setMouseTracking(True)
        self.setAccessibleName("Where each hit falls in the bar, and how hard")

    def light(self, hit_ids: Sequence[int]) -> None:
        """Light some hits; none lights all."""
        self._lit, self._marked = frozenset(hit_ids), None
        self.update()

    def show_view(self, view: str) -> None:
        """Show hits by one of `VIEWS`."""
        self.view = view
        self.setAccessibleDescription(VIEWS[view])
        self.update()

    def show_read(self, read: GrooveRead) -> None:
        """Take how late each hit is."""
        self._late_ms = read.late_ms
        self.update()

    def mark(self, drum: str, at_beats: float) -> None:
        """Mark where a hit of a drum is missing; an empty drum marks nothing."""
        self._marked = (drum, at_beats) if drum else None
        self.update()

    def show_beat(self, beat: float) -> None:
        """Show where in the bar it plays; only the strips that changed are drawn."""
        before, self._beat = self._beat, beat
        document = self._session.store.document
        if document is not None and beat != before:
            for one in (before, beat):
                self.update(round(self._x_of(one, pattern_meter(document).beats_per_bar)) - 2, 0, 6, self.height())

    def _x_of(self, within_beats: float, beats_per_bar: int) -> float:
        area = self._area()
        return area.left() + area.width() * (within_beats + EARLY_BEATS) / (beats_per_bar + 2 * EARLY_BEATS)

    def resizeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._still = LastMade(1)

    def place(self, document: Document, hit: Hit) -> QPointF:
        """Return where a hit is drawn."""
        lanes, per_bar = self._lanes(document), pattern_meter(document).beats_per_bar
        area = self._area()
        within = (hit.at_beats + EARLY_BEATS) % per_bar - EARLY_BEATS
        tall = area.height() / max(1, len(lanes))
        row = lanes.index(hit.pad_id)
        return QPointF(self._x_of(within, per_bar), area.top() + (row + 0.5) * tall + self._height(hit, per_bar) * tall)

    def _height(self, hit: Hit, per_bar: int) -> float:
        """Return how far below the middle of its lane a hit is drawn, as a share of the lane."""
        if self.view == "offset":
            return LANE_SHARE * float(np.clip(self._late_ms.get(hit.id, 0.0) / MOST_LATE_MS, -1.0, 1.0))
        if self.view == "velocity":
            return LANE_SHARE * (1.0 - 2.0 * hit.velocity / 127.0)
        bar = int((hit.at_beats + EARLY_BEATS) // per_bar)
        return (bar % 5 - 2) / 13.0

    def _area(self) -> QRectF:
        return QRectF(LABEL, 20.0, self.width() - LABEL - SIDE, self.height() - 28.0)

    def _lanes(self, document: Document) -> list[int]:
        def made() -> list[int]:
            used = {hit.pad_id for hit in felt_pattern(document)}
            return [pad.id for pad in sorted(document.pads, key=lambda pad: -pad.slot) if pad.id in used]

        return self._used.get((document,), made)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document = self._session.store.document
        if document is None:
            return
        made_of = (document, theme().palette, self._lit, self.view, self._late_ms, self._marked)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._still.get(made_of, lambda: self._painted(document)))
        if self._beat >= 0.0:
            x, area = self._x_of(self._beat, pattern_meter(document).beats_per_bar), self._area()
            painter.fillRect(QRectF(x, area.top(), 1.5, area.height()), theme().colour("signal"))

    def _painted(self, document: Document) -> QPixmap:
        """Return all that stands still."""
        pixmap = QPixmap(self.size() * self.devicePixelRatioF())
        pixmap.setDevicePixelRatio(self.devicePixelRatioF())
        pixmap.fill(Qt.GlobalColor.transparent)
        painter = QPainter(pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(self.font())
        self._paint_still(painter, document)
        painter.end()
        return pixmap

    def _paint_still(self, painter: QPainter, document: Document) -> None:
        meter, lanes, area = pattern_meter(document), self._lanes(document), self._area()
        steps = 3 if meter.compound else 4
        painter.setFont(theme().font(13, weight=500))
        for step in range(meter.beats_per_bar * steps + 1):
            x = self._x_of(step / steps, meter.beats_per_bar)
            painter.setPen(QPen(theme().colour("line" if step % steps == 0 else "faint_line"), 1.0))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            if step % steps == 0 and step // steps < meter.beats_per_bar:
                painter.setPen(theme().colour("dim"))
                painter.drawText(QPointF(x - 3.0, area.top() - 5.0), str(step // steps + 1))
        tall = area.height() / max(1, len(lanes))
        self._paint_scale(painter, len(lanes), area)
        for row, pad_id in enumerate(lanes):
            pad = document.pad(pad_id)
            y = area.top() + (row + 0.5) * tall
            draw_head(painter, pad.drum, 10.0, y, 10.0, theme().drum(pad.drum))
            painter.setPen(theme().colour("paper"))
            name = painter.fontMetrics().elidedText(pad.name, Qt.TextElideMode.ElideRight, int(LABEL - 26.0))
            painter.drawText(QRectF(22.0, y - 10.0, LABEL - 26.0, 20.0), Qt.AlignmentFlag.AlignVCenter, name)
        self._paint_hits(painter, document, lanes, area)
        self._paint_mark(painter, document, lanes, area)

    def _paint_hits(self, painter: QPainter, document: Document, lanes: list[int], area: QRectF) -> None:
        """Paint a dot a hit, one of those that fall on a pixel; and where the middle of each step is."""
        per_bar = pattern_meter(document).beats_per_bar
        tall, rows = area.height() / max(1, len(lanes)), {pad_id: row for row, pad_id in enumerate(lanes)}
        colours = {(pad_id, lit): theme().drum(document.pad(pad_id).drum, 0.85 if lit else NO_LIKENESS) for pad_id in lanes
                   for lit in (True, False)}
        painter.setPen(Qt.PenStyle.NoPen)
        by_step: dict[tuple[int, int], list[QPointF]] = {}
        drawn: set[tuple[int, int, bool]] = set()
        wide = area.width() / (per_bar + 2 * EARLY_BEATS)
        for hit in felt_pattern(document):
            row = rows.get(hit.pad_id)
            if row is None or (self.view == "offset" and hit.id not in self._late_ms):
                continue
            lit = not self._lit or hit.id in self._lit
            x = area.left() + wide * ((hit.at_beats + EARLY_BEATS) % per_bar)
            y = area.top() + (row + 0.5 + self._height(hit, per_bar)) * tall
            if self.view != "place":
                by_step.setdefault((hit.pad_id, round(hit.at_beats * 12) % (12 * per_bar)), []).append(QPointF(x, y))
            if (int(x), int(y), lit) in drawn:
                continue
            drawn.add((int(x), int(y), lit))
            painter.setBrush(colours[hit.pad_id, lit])
            size = 2.0 + 5.0 * hit.velocity / 127.0 if self.view == "place" else 3.5
            painter.drawEllipse(QPointF(x, y), size, size)
        if self.view != "place":
            for places in by_step.values():
                x, y = (float(np.median([getattr(place, axis)() for place in places])) for axis in ("x", "y"))
                painter.fillRect(QRectF(x - 9.0, y - 1.0, 18.0, 2.0), theme().colour("paper"))

    def _paint_scale(self, painter: QPainter, lanes: int, area: QRectF) -> None:
        """Draw what heights mean: the grid and what is too near it to be known, or how hard a stroke can be."""
        tall = area.height() / max(1, lanes)
        if self.view == "place":
            return
        painter.setFont(theme().font(12))
        for row in range(lanes):
            middle = area.top() + (row + 0.5) * tall
            if self.view == "offset":
                known = LANE_SHARE * tall * KNOWN_MS / MOST_LATE_MS
                painter.fillRect(QRectF(area.left(), middle - known, area.width(), 2.0 * known), theme().colour("raised"))
            else:
                painter.setPen(QPen(theme().colour("faint_line"), 1.0))
                painter.drawLine(QPointF(area.left(), middle + LANE_SHARE * tall), QPointF(area.right(), middle + LANE_SHARE * tall))
        painter.setPen(theme().colour("dim"))
        top, foot = (f"{MOST_LATE_MS:.0f} ms early", "late") if self.view == "offset" else ("127", "1")
        painter.drawText(QRectF(area.right() - 90.0, area.top() + 0.5 * tall - LANE_SHARE * tall - 8.0, 90.0, 16.0),
                         Qt.AlignmentFlag.AlignRight, top)
        painter.drawText(QRectF(area.right() - 90.0, area.top() + 0.5 * tall + LANE_SHARE * tall - 8.0, 90.0, 16.0),
                         Qt.AlignmentFlag.AlignRight, foot)

    def _paint_mark(self, painter: QPainter, document: Document, lanes: list[int], area: QRectF) -> None:
        row = next((n for n, pad_id in enumerate(lanes) if self._marked and document.pad(pad_id).drum == self._marked[0]), -1)
        if self._marked is None or row < 0:
            return
        per_bar = pattern_meter(document).beats_per_bar
        within = (self._marked[1] + EARLY_BEATS) % per_bar
        x = area.left() + area.width() * within / (per_bar + 2 * EARLY_BEATS)
        painter.setPen(QPen(theme().colour("paper"), 2.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(x, area.top() + (row + 0.5) * area.height() / max(1, len(lanes))), 10.0, 10.0)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        document = self._session.store.document
        if document is None or event is None:
            return
        near = [((self.place(document, hit) - event.position()).manhattanLength(), hit) for hit in felt_pattern(document)]
        away, hit = min(near, key=lambda one: one[0], default=(99.0, None))
        if hit is not None and away <= 12.0:
            self.heard.emit(hit.pad_id)


class BarsPicture(QWidget):
    """Which bars are alike: a field for each two, as bright as they are alike, with the letters of the form."""

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self._read: GrooveRead | None = None
        self._playing = -1
        self.setMinimumSize(180, 150)
        self.setAccessibleName("Which bars are alike")

    def show_read(self, read: GrooveRead) -> None:
        """Show the bars of a groove."""
        self._read = read
        self.setAccessibleDescription(f"the bars go {read.form}")
        self.update()

    def show_bar(self, bar: int) -> None:
        """Mark the bar that plays."""
        if bar != self._playing:
            self._playing = bar
            self.update()

    def field(self, row: int, column: int) -> QRectF:
        """Return where the field of two bars is."""
        bars = len(self._read.form) if self._read is not None else 1
        size = min((self.width() - 40.0) / bars, (self.height() - 30.0) / bars, 56.0)
        return QRectF(30.0 + column * size, 24.0 + row * size, size - 2.0, size - 2.0)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        read = self._read
        if read is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bars = len(read.form)
        for row in range(bars):
            for column in range(bars):
                like = float(read.likeness[row, column])
                field = self.field(row, column)
                painter.fillRect(field, theme().colour("hats", NO_LIKENESS + (1.0 - NO_LIKENESS) * like**2))
                if field.width() >= 30.0:
                    painter.setFont(theme().font(13, weight=600))
                    painter.setPen(theme().colour("ground" if like > 0.6 else "paper"))
                    painter.drawText(field, Qt.AlignmentFlag.AlignCenter, f"{100 * like:.0f} %")
        if self.field(0, 0).width() >= 9.0:
            painter.setFont(theme().font(14, weight=600))
            for bar in range(bars):
                painter.setPen(theme().colour("signal" if bar == self._playing else "paper"))
                top, side = self.field(0, bar), self.field(bar, 0)
                painter.drawText(QRectF(top.left(), 2.0, top.width(), 20.0), Qt.AlignmentFlag.AlignCenter, read.form[bar])
                painter.drawText(QRectF(2.0, side.top(), 24.0, side.height()), Qt.AlignmentFlag.AlignCenter, str(bar + 1))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        if self._read is None or event is None:
            return
        for bar in range(len(self._read.form)):
            for other in range(len(self._read.form)):
                if self.field(other, bar).contains(event.position()):
                    self.chosen.emit(bar)
                    return


class PaperPicture(QWidget):
    """The part on paper, engraved; the bar that plays is lit, a click hears one."""

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self._engraved: Engraved | None = None
        self._renderer: QSvgRenderer | None = None
        self._seen = QRectF(0.0, 0.0, 1.0, 1.0)
        self._scroll = self._most = 0.0
        self._playing, self._words = -1, ""
        self.setMinimumHeight(130)
        self.setAccessibleName("The part on paper")

    def show_paper(self, engraved: Engraved, words: str = "") -> None:
        """Show an engraved part, and say how much of it that is."""
        self._words = words
        self.setAccessibleDescription(words)
        self._engraved, self._renderer = engraved, QSvgRenderer(QByteArray(engraved.svg))
        size = self._renderer.defaultSize()  # title and tempo are on the screen already
        self._seen = QRectF(0.0, HEAD_PX + BELOW_HEAD, size.width(), max(1.0, size.height() - HEAD_PX - BELOW_HEAD))
        self._renderer.setViewBox(self._seen)
        self.update()

    def show_bar(self, bar: int) -> None:
        """Light the bar that plays."""
        if bar != self._playing:
            self._playing = bar
            self._bring_in_view(bar)
            self.update()

    def _page(self) -> tuple[QRectF, float]:
        """Return where the music is drawn, as large as it can be, and its scale; what is long is as wide as the picture, and scrolls."""
        wide, tall = self.width() / self._seen.width(), self.height() / self._seen.height()
        scale = wide if tall < SMALLEST * wide else min(wide, tall)
        width, height = scale * self._seen.width(), scale * self._seen.height()
        self._most = max(0.0, height - self.height())
        self._scroll = max(0.0, min(self._most, self._scroll))
        top = -self._scroll if self._most else (self.height() - height) / 2.0
        return QRectF((self.width() - width) / 2.0, top, width, height), scale

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802  # Qt's name
        if event is None or not self._most:
            return
        self._scroll -= event.angleDelta().y() / 2.0
        event.accept()
        self.update()

    def _bring_in_view(self, bar: int) -> None:
        """Scroll to the line of a bar, where it is not all in view."""
        box = self.bar_box(bar)
        if self._most and not box.isEmpty() and not (box.top() >= 0.0 and box.bottom() <= self.height()):
            self._scroll += box.top()

    def bar_box(self, bar: int) -> QRectF:
        """Return where a bar is."""
        if self._engraved is None or self._renderer is None or not 0 <= bar < len(self._engraved.bars):
            return QRectF()
        box, (page, scale) = self._engraved.bars[bar], self._page()
        return QRectF(page.left() + scale * box.left, page.top() + scale * (box.top - self._seen.top() - 34.0),
                      scale * (box.right - box.left), scale * (box.bottom - box.top + 68.0))

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._renderer is None:
            painter.setPen(theme().colour("dim"))
            painter.setFont(theme().font(14))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "engraving…")
            return
        painter.fillRect(self.rect(), theme().sheet())
        if self._playing >= 0:
            painter.fillRect(self.bar_box(self._playing), theme().colour("signal", 0.22))
        self._renderer.render(painter, self._page()[0])
        if self._words:
            painter.setPen(theme().sheet_ink())
            painter.setFont(theme().font(13))
            painter.drawText(self.rect().adjusted(8, 4, -8, -4), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, self._words)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        if self._engraved is None or event is None:
            return
        for bar in range(len(self._engraved.bars)):
            if self.bar_box(bar).contains(event.position()):
                self.chosen.emit(bar)
                return
