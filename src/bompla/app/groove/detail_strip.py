"""One value of every hit of the chosen lane, drawn by hand, by a line, by a curve, or by chance."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.groove.lane_picture import HEADER, LanePicture
from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.gesture import GestureWidget
from bompla.model.detected_pattern import hits_inside
from bompla.model.document import Document, Hit
from bompla.model.phrase_edits import LEAST_GAIN_DB, MOST_GAIN_DB, set_values
from bompla.model.wording import counted

REACH = 7.0
MARGIN = 9.0
WAYS = (("hand", "hand"), ("line", "line"), ("curve", "curve"), ("chance", "random"))


@dataclass(frozen=True)
class DetailFacts:
    """A value that is drawn: its range, what it is where nothing was done, and how it is said."""

    label: str
    low: float
    high: float
    usual: float
    words: Callable[[float], str]


DETAILS: dict[str, DetailFacts] = {
    "offset": DetailFacts("offset", -60.0, 60.0, 0.0, lambda v: f"{v:+.0f} ms"),
    "velocity": DetailFacts("velocity", 1.0, 127.0, 1.0, lambda v: f"{v:.0f}"),
    "length": DetailFacts("length", 0.0, 2.0, 0.0, lambda v: f"{v:.2f} beats" if v > 0.0 else "rings"),
    "pitch": DetailFacts("pitch", -12.0, 12.0, 0.0, lambda v: f"{v:+.1f} st"),
    "chance": DetailFacts("chance", 0.0, 1.0, 0.0, lambda v: f"{100.0 * v:.0f} %"),
    "gain": DetailFacts("gain", LEAST_GAIN_DB, MOST_GAIN_DB, 0.0, lambda v: f"{v:+.1f} dB"),
}


@dataclass
class _Stroke:
    start: QPointF
    values: dict[int, float] = field(default_factory=dict)
    last: QPointF = field(default_factory=QPointF)


class DetailStrip(GestureWidget):
    """Stands under the lanes and shares their time. A double click brings a hit's usual value back."""

    def __init__(self, session: Session, lanes: LanePicture, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._lanes = session, lanes
        self.what, self.way = "velocity", "hand"
        self.seed = 1
        self.setMinimumHeight(46)
        self.setMaximumHeight(84)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.setAccessibleName("Values of the selected lane's hits")
        self.setToolTip("Draw across the hits of the selected lane. A double click resets a hit")
        lanes.redrawn.connect(self.update)
        theme().changed.connect(self.update)

    def sizeHint(self) -> QSize:  # noqa: N802  # Qt's name
        return QSize(400, 84)

    def show_value(self, what: str) -> None:
        """Choose which value is shown."""
        self.what = what
        self.update()

    def hits(self) -> list[Hit]:
        """Return the hits that are drawn: of the chosen lane, or of those chosen, where they are several."""
        document, selection = self._session.store.document, self._session.shown.selection
        if document is None:
            return []
        inside = [h for h in hits_inside(document) if h.pad_id == selection.pad_id]
        chosen = [h for h in inside if h.id in selection.hit_ids]
        return chosen if len(chosen) > 1 else inside

    def value(self, document: Document, hit: Hit) -> float:
        """Return a hit's value."""
        if self.what == "velocity":
            return float(hit.velocity)
        if self.what == "length":
            return hit.length_beats
        if self.what == "pitch":
            return hit.pitch
        if self.what == "chance":
            return hit.chance
        if self.what == "gain":
            return hit.gain_db
        return self._session.shown.grid.offset_beats(hit) * 60_000.0 / document.bpm

    def x_of(self, hit: Hit) -> float:
        """Return where a hit is across."""
        document = self._session.store.document
        return self._lanes.axis.x(float(document.beat_map.samples_at(hit.at_beats))) if document is not None else 0.0

    def y_of(self, value: float) -> float:
        """Return how high a value is."""
        facts = DETAILS[self.what]
        share = (max(facts.low, min(facts.high, value)) - facts.low) / (facts.high - facts.low)
        return self.height() - MARGIN - share * (self.height() - 2.0 * MARGIN)

    def value_of(self, y: float) -> float:
        """Return the value at a height."""
        facts = DETAILS[self.what]
        share = (self.height() - MARGIN - y) / (self.height() - 2.0 * MARGIN)
        return facts.low + max(0.0, min(1.0, share)) * (facts.high - facts.low)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document = self._session.store.document
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme().colour("panel"))
        axis = self._lanes.axis
        painter.fillRect(QRectF(axis.left, 2.0, axis.width, self.height() - 4.0), theme().colour("sunk"))
        if document is None:
            return
        facts = DETAILS[self.what]
        pad = next((one for one in document.pads if one.id == self._session.shown.selection.pad_id), None)
        self._paint_names(painter, facts, pad.name if pad else "select a lane")
        base = self.y_of(facts.usual)
        painter.setPen(QPen(theme().colour("line"), 1.0))
        painter.drawLine(QPointF(axis.left, base), QPointF(axis.left + axis.width, base))
        chosen = self._session.shown.selection.hit_ids
        hits = self.hits()
        samples = document.beat_map.samples_at([hit.at_beats for hit in hits])
        for hit, at in zip(hits, samples.tolist(), strict=True):
            x = axis.x(at)
            if pad is None or not axis.left <= x <= axis.left + axis.width:
                continue
            y = self.y_of(self.value(document, hit))
            colour = theme().colour("paper") if hit.id in chosen else theme().drum(pad.drum)
            painter.setPen(QPen(colour, 2.0))
            painter.drawLine(QPointF(x, base), QPointF(x, y))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            painter.drawEllipse(QPointF(x, y), 3.2, 3.2)
        if self.gesture is not None and self.way != "hand":
            painter.setPen(QPen(theme().colour("paper"), 1.2))
            painter.drawLine(self.gesture.start, self.gesture.last)

    def _paint_names(self, painter: QPainter, facts: DetailFacts, pad_name: str) -> None:
        painter.setFont(theme().font(15, weight=600))
        painter.setPen(theme().colour("paper"))
        painter.drawText(QRectF(14.0, 8.0, HEADER - 70.0, 20.0), Qt.AlignmentFlag.AlignLeft, facts.label)
        painter.setFont(theme().font(13, weight=400))
        painter.setPen(theme().colour("dim"))
        painter.drawText(QRectF(14.0, 28.0, HEADER - 70.0, 20.0), Qt.AlignmentFlag.AlignLeft, pad_name)
        for value, y in ((facts.high, MARGIN), (facts.low, self.height() - MARGIN)):
            area = QRectF(HEADER - 80.0, y - 9.0, 74.0, 18.0)
            painter.drawText(area, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, facts.words(value))

    def press(self, event: QMouseEvent) -> _Stroke | None:
        """Begin a stroke over the hits."""
        if event.button() != Qt.MouseButton.LeftButton or event.position().x() < self._lanes.axis.left - REACH:
            return None
        stroke = _Stroke(event.position(), {}, event.position())
        self._draw_to(stroke, event.position())
        return stroke

    def drag(self, gesture: _Stroke, event: QMouseEvent) -> None:
        """Draw on."""
        self._draw_to(gesture, event.position())

    def commit(self, gesture: _Stroke, event: QMouseEvent) -> None:
        """Give the hits their values, as one step."""
        if self.way == "chance":
            self.seed += 1
        if gesture.values:
            what, values = self.what, gesture.values
            count = "" if len(values) == 1 else f" of {counted(len(values), 'hit')}"
            grid = self._session.shown.grid
            self._session.store.edit(f"draw {DETAILS[what].label}{count}", lambda d: set_values(d, what, values, grid.step_at))
        else:
            self._session.store.drop_preview()
        self.update()

    def cancel(self, gesture: _Stroke) -> None:
        """Show the values as they were."""
        self._session.store.drop_preview()

    def double_click(self, event: QMouseEvent) -> None:
        """Bring the usual value of a hit back."""
        x = event.position().x()
        near = min(self.hits(), key=lambda hit: abs(self.x_of(hit) - x), default=None)
        if near is not None and abs(self.x_of(near) - x) <= REACH:
            usual = {"velocity": 100.0, "chance": 1.0}.get(self.what, 0.0)
            grid = self._session.shown.grid
            self._session.store.edit(f"usual {self.what}", lambda d: set_values(d, self.what, {near.id: usual}, grid.step_at))

    def _draw_to(self, stroke: _Stroke, point: QPointF) -> None:
        before, stroke.last = stroke.last, point
        if self.way == "hand":
            stroke.values |= self._along(before, point, lambda share: before.y() + share * (point.y() - before.y()))
        elif self.way == "chance":
            rng = np.random.default_rng(self.seed)
            low, high = sorted((stroke.start.y(), point.y()))
            stroke.values = self._along(stroke.start, point, lambda _: float(rng.uniform(low, high)))
        else:
            bend = (lambda share: share) if self.way == "line" else (lambda share: 0.5 - 0.5 * math.cos(math.pi * share))
            rise = point.y() - stroke.start.y()
            stroke.values = self._along(stroke.start, point, lambda share: stroke.start.y() + bend(share) * rise)
        what, values = self.what, dict(stroke.values)
        self._session.store.preview(lambda d: set_values(d, what, values, self._session.shown.grid.step_at))
        self.update()

    def _along(self, start: QPointF, end: QPointF, height: Callable[[float], float]) -> dict[int, float]:
        """Return values for the hits between two points across, or at them, by how far along they are."""
        low, high = sorted((start.x(), end.x()))
        width = end.x() - start.x()
        found = {}
        for hit in self.hits():
            x = self.x_of(hit)
            if low - REACH <= x <= high + REACH:
                share = max(0.0, min(1.0, (x - start.x()) / width)) if abs(width) > 1.0 else 1.0
                found[hit.id] = self.value_of(height(share))
        return found
