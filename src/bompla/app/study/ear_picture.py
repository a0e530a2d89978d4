"""Lanes under the waveform, empty at first: hits are placed where they are heard."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen

from bompla.app.project.session import Session
from bompla.app.sound_picture import RULER, SoundPicture, paint_beats
from bompla.app.theme import theme
from bompla.app.ui.noteheads import draw_head
from bompla.app.ui.raster import wave_pixmap
from bompla.groove.by_ear import step_of
from bompla.model.detected_pattern import detected_pattern, pattern_of
from bompla.model.document import Document, Hit, Pad
from bompla.model.pattern_edits import add_hit, delete_hits, usual_velocity
from bompla.model.wording import bar_and_beat

WAVE_SHARE = 0.34
HEADER = 96
NEAR = 7.0


class EarPicture(SoundPicture):
    """A click in a lane places a hit on the nearest step, with Alt just there; a click on a hit takes it away.

    By keys: the arrows move a cursor from step to step and lane to lane, Return places or takes away. `struck` carries a pad to be heard,
    `sought` a sample on the ruler.
    """

    left_margin = HEADER
    struck = pyqtSignal(int)
    sought = pyqtSignal(float)

    def __init__(self, session: Session) -> None:
        super().__init__(session, "By ear: a lane for each pad")
        self._cursor = (0.0, 0)
        self.setMinimumSize(440, 260)
        session.store.document_changed.connect(self.redraw)
        self.setToolTip("Click where you hear a hit; click it again to take it away (arrows, Return)")

    def lanes(self, document: Document) -> list[Pad]:
        """Return the pads that the loop plays, from the highest down: which drums there are is no secret."""
        used = {hit.pad_id for hit in (*detected_pattern(document).hits, *pattern_of(document).hits)}
        return [pad for pad in sorted(document.pads, key=lambda pad: -pad.slot) if pad.id in used]

    def place(self, document: Document, pad_id: int, at_beats: float) -> QPointF:
        """Return where a hit of a pad is drawn."""
        row = [pad.id for pad in self.lanes(document)].index(pad_id)
        x = self._axis.x(float(document.beat_map.sample_at(at_beats)))
        return QPointF(x, self._lane(document, row).center().y())

    def paint_still(self, painter: QPainter, document: Document, ratio: float) -> None:
        """Draw the original's waveform above, and the lanes."""
        axis, summary, top = self._axis, self._session.project.summary, self._wave_bottom()
        if summary is not None:
            wave = wave_pixmap(summary, axis.start, axis.end, round(axis.width), round(top - RULER), theme().colour("paper", 0.8),
                               ratio=ratio)
            painter.drawPixmap(QPointF(axis.left, RULER), wave)
        paint_beats(painter, document, axis, RULER, float(self.height()))
        painter.setFont(theme().font(14, weight=500))
        for row, pad in enumerate(self.lanes(document)):
            area = self._lane(document, row)
            painter.fillRect(QRectF(axis.left, area.center().y(), axis.width, 1.0), theme().colour("line"))
            draw_head(painter, pad.drum, 12.0, area.center().y(), 10.0, theme().drum(pad.drum))
            painter.setPen(theme().colour("paper"))
            name = painter.fontMetrics().elidedText(pad.name, Qt.TextElideMode.ElideRight, HEADER - 34)
            painter.drawText(QRectF(26.0, area.top(), HEADER - 30.0, area.height()), Qt.AlignmentFlag.AlignVCenter, name)

    def paint_over(self, painter: QPainter, document: Document) -> None:
        """Draw what was placed, and the cursor of the keys."""
        lanes = self.lanes(document)
        rows = {pad.id: pad for pad in lanes}
        for hit in pattern_of(document).hits:
            if hit.pad_id in rows:
                at = self.place(document, hit.pad_id, hit.at_beats)
                if at.x() >= self._axis.left - 4.0:
                    draw_head(painter, rows[hit.pad_id].drum, at.x(), at.y(), 12.0, theme().drum(rows[hit.pad_id].drum))
        if self.hasFocus() and lanes:
            at = self.place(document, lanes[min(self._cursor[1], len(lanes) - 1)].id, self._cursor[0])
            painter.setPen(QPen(theme().colour("paper"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(at.x() - 8.0, at.y() - 10.0, 16.0, 20.0))

    def press(self, event: QMouseEvent) -> object:
        """Place a hit, take one away, hear a pad by its name, or seek on the ruler and the waveform."""
        document = self._session.store.document
        if document is None:
            return None
        x, y = event.position().x(), event.position().y()
        if y < self._wave_bottom():
            self.sought.emit(self._axis.sample(max(self._axis.left, x)))
            return None
        lanes = self.lanes(document)
        row = next((n for n in range(len(lanes)) if self._lane(document, n).contains(QPointF(1.0, y))), -1)
        if row < 0:
            return None
        if x < self._axis.left - NEAR:
            self.struck.emit(lanes[row].id)
            return None
        hit = next((h for h in pattern_of(document).hits
                    if h.pad_id == lanes[row].id and abs(self.place(document, h.pad_id, h.at_beats).x() - x) <= NEAR), None)
        at_beats = float(document.beat_map.beat_at(self._axis.sample(x)))
        if not event.modifiers() & Qt.KeyboardModifier.AltModifier:
            at_beats = step_of(document, at_beats)
        self._cursor = (at_beats, row)
        self._toggle(document, lanes[row], at_beats, hit)
        return None

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        document = self._session.store.document
        lanes = self.lanes(document) if document is not None else []
        if document is None or not lanes or event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier:
            super().keyPressEvent(event)
            return
        at, row = self._cursor
        row = min(row, len(lanes) - 1)
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            by = 0.25 if key == Qt.Key.Key_Right else -0.25
            moved = step_of(document, max(0.0, at + by))
            if moved == at:
                moved = step_of(document, max(0.0, at + 1.5 * by))
            self._move_cursor(document, moved, row)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._move_cursor(document, at, max(0, min(len(lanes) - 1, row + (1 if key == Qt.Key.Key_Down else -1))))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            hit = next((h for h in pattern_of(document).hits if h.pad_id == lanes[row].id and abs(h.at_beats - at) < 1e-3), None)
            self._toggle(document, lanes[row], at, hit)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.redraw_over()

    def focusOutEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.redraw_over()

    def _move_cursor(self, document: Document, at_beats: float, row: int) -> None:
        self._cursor = (at_beats, row)
        pad = self.lanes(document)[row]
        there = any(h.pad_id == pad.id and abs(h.at_beats - at_beats) < 1e-3 for h in pattern_of(document).hits)
        self.setAccessibleDescription(f"{pad.name}, {bar_and_beat(at_beats, document.loop.meter)}, {'a hit' if there else 'nothing'}")
        self.redraw_over()

    def _toggle(self, document: Document, pad: Pad, at_beats: float, hit: Hit | None) -> None:
        if hit is not None:
            self._session.store.edit(f"take away {pad.name.lower()}", lambda d: delete_hits(d, [hit.id]))
            return
        if self._session.store.edit(f"place {pad.name.lower()}", lambda d: add_hit(d, pad.id, at_beats, usual_velocity(d, pad.id))):
            self.struck.emit(pad.id)

    def _wave_bottom(self) -> float:
        return RULER + WAVE_SHARE * (self.height() - RULER)

    def _lane(self, document: Document, row: int) -> QRectF:
        top, count = self._wave_bottom() + 6.0, max(1, len(self.lanes(document)))
        tall = (self.height() - top - 4.0) / count
        return QRectF(0.0, top + row * tall, float(self.width()), tall)
