"""The picture of the Groove stage: the original above, a lane for each pad below, hits as pins."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from bompla.app.session import Session
from bompla.app.theme import theme
from bompla.app.widgets.cutview import paint_beats
from bompla.app.widgets.noteheads import draw_head
from bompla.app.widgets.picture import RULER, SoundPicture
from bompla.app.widgets.raster import wave_pixmap
from bompla.groove.grid import beat_divisions, offset_beats
from bompla.model.document import Document, Hit, Pad
from bompla.model.pattern_edits import add_hit, change_velocity, delete_hits, move_hits, usual_velocity
from bompla.units import note_name

HEADER, ORIGINAL = 152, 74
MIN_LANE, MAX_LANE = 34, 100
OFFSET_POINTS_PER_MS, MOST_OFFSET = 0.6, 9.0
PIN_GRAB = 9.0
DRAG_POINTS = 4.0
VELOCITY_PER_POINT = 1.0

GRIDS: tuple[tuple[float, str], ...] = (
    (0.0, "heard"), (0.5, "1/8"), (1.0 / 3.0, "1/8 triplet"), (0.25, "1/16"), (1.0 / 6.0, "1/16 triplet"),
    (0.125, "1/32"), (-1.0, "none"),
)
"""Steps in beats, as they are called in a simple meter; `heard` takes each beat's own grid."""


@dataclass
class _Gesture:
    kind: str
    x: float
    y: float
    hits: frozenset[int] = frozenset()
    pad_id: int = 0
    beat: float = 0.0
    by_beats: float = 0.0
    by_velocity: int = 0


class LaneView(SoundPicture):
    """Shows the pattern under the original sound.

    A click in a lane draws a hit, a drag there selects; pins are dragged along for time and up
    and down for velocity, with Alt off the grid; a right click takes a hit out. `struck` carries a
    pad id and a velocity to be heard, `sought` a beat chosen on the ruler.
    """

    struck = pyqtSignal(int, int)
    sought = pyqtSignal(float)

    left_margin, right_margin = HEADER, 10

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Pattern: a lane for each pad", parent)
        self.grid_beats = 0.0
        self._gesture: _Gesture | None = None
        self._band: QRectF | None = None
        self._divisions = np.full(1, 4)
        self.setMinimumSize(460, 300)
        session.document_changed.connect(self._document_changed)
        session.selection_changed.connect(self.redraw)

    def pads(self) -> list[Pad]:
        """Return the pads in the order of their lanes, from the top."""
        document = self._session.document
        return sorted(document.pads, key=lambda pad: (-(pad.slot // 4), pad.slot % 4)) if document else []

    def lane(self, pad_id: int) -> QRectF:
        """Return where a pad's lane is, without its header; empty if it has none."""
        pads = self.pads()
        height = self._lane_height(len(pads))
        for index, pad in enumerate(pads):
            if pad.id == pad_id:
                return QRectF(self._axis.left, RULER + ORIGINAL + index * height, self._axis.width, height)
        return QRectF()

    def pin(self, hit: Hit) -> QPointF:
        """Return where the head of a hit's pin is."""
        document, lane = self._session.document, self.lane(hit.pad_id)
        if document is None:
            return QPointF()
        x = self._axis.x(float(document.beat_map.samples_at(hit.at_beats)))
        return QPointF(x, self._velocity_y(lane, hit.velocity))

    def step_near(self, at_beats: float) -> float:
        """Return the step of the grid nearest to a time; the time itself where there is no grid."""
        document = self._session.document
        if document is None or self.grid_beats < 0.0:
            return at_beats
        step = self.step_at(at_beats)
        nearest = round(at_beats / step) * step
        return float(np.clip(nearest, 0.0, document.loop.beats - step))

    def step_at(self, at_beats: float) -> float:
        """Return the length of a step in beats at a time."""
        if self.grid_beats > 0.0:
            return self.grid_beats
        beat = int(np.clip(at_beats + 0.1, 0, len(self._divisions) - 1))
        return 1.0 / float(self._divisions[beat])

    def _lane_height(self, count: int) -> float:
        room = self.height() - RULER - ORIGINAL - 8.0
        return float(np.clip(room / max(1, count), MIN_LANE, MAX_LANE))

    def _velocity_y(self, lane: QRectF, velocity: int) -> float:
        foot, top = lane.bottom() - 9.0, lane.top() + 10.0
        return foot - (foot - top) * (0.12 + 0.88 * velocity / 127.0)

    def _document_changed(self, document: Document) -> None:
        times = [hit.at_beats for hit in document.pattern.hits]
        self._divisions = beat_divisions(times, document.loop.beats, compound=document.loop.meter.compound)
        first, last = self.limits()
        if not first <= self._axis.start < self._axis.end <= last:
            self.show_all()
        self.redraw()

    def paint_over(self, painter: QPainter, document: Document) -> None:
        """Draw the rectangle of a selection being made."""
        if self._band is not None:
            painter.setPen(QPen(theme().colour("signal"), 1.0))
            painter.setBrush(theme().colour("signal", 0.12))
            painter.drawRect(self._band)

    def playhead_bottom(self) -> float:
        """Return how far down the playhead reaches: to the last lane."""
        return self._bottom()

    def _bottom(self) -> float:
        pads = self.pads()
        return RULER + ORIGINAL + len(pads) * self._lane_height(len(pads))

    def paint_still(self, painter: QPainter, document: Document, ratio: float) -> None:
        """Draw lanes, grid, the original and the pins."""
        painter.fillRect(QRectF(0, RULER, self.width(), ORIGINAL), theme().colour("raised", 0.55))
        for pad in self.pads():
            self._paint_lane(painter, pad)
        self._paint_grid(painter, document)
        paint_beats(painter, document, self._axis, RULER, self._bottom())
        self._paint_original(painter, document, ratio)
        painter.setClipRect(QRectF(self._axis.left - 9.0, 0.0, self._axis.width + 18.0, float(self.height())))
        selected = self._session.selection.hit_ids
        for hit in document.pattern.hits:
            if 0.0 <= hit.at_beats < document.loop.beats:
                self._paint_pin(painter, document, hit, hit.id in selected)

    def _paint_grid(self, painter: QPainter, document: Document) -> None:
        painter.setPen(QPen(theme().colour("faint_line", 0.6), 1.0))
        top, bottom = RULER + ORIGINAL, self._bottom()
        for beat in range(document.loop.beats):
            step = self.step_at(beat + 0.01)
            if self.grid_beats < 0.0 or step * self._axis.width * document.loop.bars < 2.0:
                continue
            for index in range(1, round(1.0 / step) if step < 1.0 else 1):
                x = self._axis.x(float(document.beat_map.samples_at(beat + index * step)))
                if self._axis.left <= x <= self._axis.left + self._axis.width:
                    painter.drawLine(QPointF(x, top), QPointF(x, bottom))

    def _paint_original(self, painter: QPainter, document: Document, ratio: float) -> None:
        summary, axis = self._session.summary, self._axis
        assert summary is not None
        gain = 1.0 / max(float(abs(summary.levels[-1]).max()), 0.05)
        pixmap = wave_pixmap(summary, axis.start, axis.end, round(axis.width), ORIGINAL - 8, theme().colour("paper", 0.75),
                             ratio=ratio, gain=gain)
        painter.drawPixmap(QPointF(axis.left, RULER + 4.0), pixmap)
        painter.setPen(QPen(theme().colour("good", 0.8), 1.0))
        for piece in document.slices():
            x = axis.x(piece.start_sample)
            if axis.left <= x <= axis.left + axis.width:
                painter.drawLine(QPointF(x, RULER + ORIGINAL - 6.0), QPointF(x, RULER + ORIGINAL - 1.0))
        painter.setFont(theme().font(15, weight=600))
        painter.setPen(theme().colour("paper"))
        painter.drawText(QRectF(14, RULER + 16, HEADER - 20, 20), Qt.AlignmentFlag.AlignLeft, "original")
        painter.setFont(theme().font(13, weight=400))
        painter.setPen(theme().colour("dim"))
        painter.drawText(QRectF(14, RULER + 36, HEADER - 20, 20), Qt.AlignmentFlag.AlignLeft, "lined up by beat")

    def _paint_lane(self, painter: QPainter, pad: Pad) -> None:
        lane = self.lane(pad.id)
        if pad.id == self._session.selection.pad_id:
            painter.fillRect(QRectF(0, lane.top(), self.width(), lane.height()), theme().colour("raised", 0.7))
        painter.setPen(QPen(theme().colour("line"), 1.0))
        painter.drawLine(QPointF(0, lane.bottom()), QPointF(self.width(), lane.bottom()))
        middle = lane.center().y()
        draw_head(painter, pad.drum, 24.0, middle, 15.0, theme().drum(pad.drum))
        roomy = lane.height() >= 46.0
        painter.setFont(theme().font(16, weight=600))
        painter.setPen(theme().colour("paper"))
        name = painter.fontMetrics().elidedText(pad.name, Qt.TextElideMode.ElideRight, HEADER - 52)
        painter.drawText(QRectF(44, middle - (21 if roomy else 11), HEADER - 48, 22), Qt.AlignmentFlag.AlignVCenter, name)
        if roomy:
            painter.setFont(theme().font(13, weight=400))
            painter.setPen(theme().colour("dim"))
            text = f"{pad.note} · {note_name(pad.note)}" + ("" if pad.layers else " · no sound")
            painter.drawText(QRectF(44, middle + 1, HEADER - 48, 18), Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_pin(self, painter: QPainter, document: Document, hit: Hit, selected: bool) -> None:
        head = self.pin(hit)
        if not self._axis.left - 12.0 <= head.x() <= self._axis.left + self._axis.width + 2.0:
            return
        pad = document.pad(hit.pad_id)
        lane = self.lane(hit.pad_id)
        colour = theme().colour("signal") if selected else theme().drum(pad.drum)
        foot = lane.bottom() - 9.0
        size = 8.0 + 5.0 * hit.velocity / 127.0
        painter.setPen(QPen(colour, 2.0))
        painter.drawLine(QPointF(head.x(), head.y() + size * 0.4), QPointF(head.x(), foot))
        draw_head(painter, pad.drum, head.x(), head.y(), size, colour)
        off_ms = offset_beats(hit, self._divisions) * 60_000.0 / document.bpm
        x_off = float(np.clip(off_ms * OFFSET_POINTS_PER_MS, -MOST_OFFSET, MOST_OFFSET))
        if abs(x_off) >= 1.0:
            painter.setPen(QPen(colour, 2.0))
            painter.drawLine(QPointF(head.x(), foot + 4.0), QPointF(head.x() + x_off, foot + 4.0))

    def hit_near(self, x: float, y: float) -> Hit | None:
        """Return the hit whose pin is under a point."""
        document = self._session.document
        if document is None:
            return None
        best, found = PIN_GRAB, None
        for hit in document.pattern.hits:
            head, lane = self.pin(hit), self.lane(hit.pad_id)
            if lane.top() <= y <= lane.bottom() and abs(head.x() - x) < best and y >= head.y() - PIN_GRAB:
                best, found = abs(head.x() - x), hit
        return found

    def _pad_at(self, y: float) -> Pad | None:
        return next((pad for pad in self.pads() if self.lane(pad.id).top() <= y < self.lane(pad.id).bottom()), None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        document = self._session.document
        if document is None:
            return
        x, y = event.position().x(), event.position().y()
        hit = self.hit_near(x, y) if x >= self._axis.left - PIN_GRAB else None
        if event.button() == Qt.MouseButton.RightButton:
            if hit is not None:
                self._delete(hit)
            return
        if y < RULER + ORIGINAL and x >= self._axis.left:
            self.sought.emit(document.beat_map.beat_at(self._axis.sample(x)))
            return
        pad = self._pad_at(y)
        if pad is None:
            return
        if x < self._axis.left - PIN_GRAB:
            self._session.select(pad_id=pad.id, hit_ids=frozenset(h.id for h in document.pattern.hits if h.pad_id == pad.id))
            self.struck.emit(pad.id, usual_velocity(document, pad.id))
            return
        self._session.select(pad_id=pad.id)
        beat = document.beat_map.beat_at(self._axis.sample(x))
        if hit is None:
            self._gesture = _Gesture("draw", x, y, pad_id=pad.id, beat=beat)
            return
        more = bool(event.modifiers() & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier))
        chosen = self._session.selection.hit_ids
        if more:
            chosen = chosen ^ {hit.id}
        elif hit.id not in chosen:
            chosen = frozenset({hit.id})
        self._session.select(hit_ids=chosen)
        self.struck.emit(hit.pad_id, hit.velocity)
        self._gesture = _Gesture("press", x, y, chosen, hit.pad_id, hit.at_beats)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        gesture = self._gesture
        document = self._session.document
        if gesture is None or document is None:
            return
        x, y = event.position().x(), event.position().y()
        across, up = x - gesture.x, gesture.y - y
        if gesture.kind in ("draw", "press") and max(abs(across), abs(up)) < DRAG_POINTS:
            return
        if gesture.kind == "draw":
            gesture.kind = "band"
        elif gesture.kind == "press":
            gesture.kind = "move" if abs(across) >= abs(up) else "velocity"
        if gesture.kind == "band":
            self._band = QRectF(QPointF(gesture.x, gesture.y), QPointF(x, y)).normalized()
            self.update()
        elif gesture.kind == "move":
            beat = document.beat_map.beat_at(self._axis.sample(x)) - document.beat_map.beat_at(self._axis.sample(gesture.x))
            free = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier) or self.grid_beats < 0.0
            step = self.step_at(gesture.beat)
            gesture.by_beats = beat if free else round(beat / step) * step
            self._session.preview(lambda d: move_hits(d, gesture.hits, gesture.by_beats))
        elif gesture.kind == "velocity":
            gesture.by_velocity = round(up * VELOCITY_PER_POINT)
            self._session.preview(lambda d: change_velocity(d, gesture.hits, gesture.by_velocity))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        gesture, self._gesture = self._gesture, None
        band, self._band = self._band, None
        if gesture is None:
            return
        if gesture.kind == "draw":
            self._draw(gesture.pad_id, gesture.beat)
        elif gesture.kind == "band" and band is not None:
            self._select_in(band)
        elif gesture.kind == "move":
            self._session.edit(_counted("move", gesture.hits), lambda d: move_hits(d, gesture.hits, gesture.by_beats))
        elif gesture.kind == "velocity":
            self._session.edit(_counted("set velocity of", gesture.hits),
                               lambda d: change_velocity(d, gesture.hits, gesture.by_velocity))
        self.update()

    def _draw(self, pad_id: int, beat: float) -> None:
        document = self._session.document
        if document is None:
            return
        at, new_id = self.step_near(beat), document.next_id
        if self._session.edit("draw hit", lambda d: add_hit(d, pad_id, at)):
            self._session.select(hit_ids=frozenset({new_id}))
            self.struck.emit(pad_id, usual_velocity(document, pad_id))

    def _delete(self, hit: Hit) -> None:
        self._session.edit("take out hit", lambda d: delete_hits(d, [hit.id]))

    def _select_in(self, band: QRectF) -> None:
        document = self._session.document
        if document is not None:
            found = (hit.id for hit in document.pattern.hits if band.contains(self.pin(hit)))
            self._session.select(hit_ids=frozenset(found))


def _counted(verb: str, hits: frozenset[int]) -> str:
    return f"{verb} hit" if len(hits) == 1 else f"{verb} {len(hits)} hits"
