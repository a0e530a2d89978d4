"""The lanes as a picture: where pads, steps and pins are, and how they are drawn."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen, QWheelEvent
from PyQt6.QtWidgets import QWidget

from bompla.app.project.session import Session
from bompla.app.sound_picture import RULER, SoundPicture, paint_beats
from bompla.app.theme import theme
from bompla.app.ui.noteheads import draw_head
from bompla.app.ui.raster import dots_pixmap, lines_image, wave_pixmap
from bompla.groove.feel import felt_pattern
from bompla.groove.grid import offset_beats
from bompla.groove.missing import MissingHit
from bompla.model.detected_pattern import EARLIEST_BEATS, pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document, Hit, Pad
from bompla.model.drums import DRUMS, Family
from bompla.model.kit_edits import MAX_LEVEL_DB, MIN_LEVEL_DB
from bompla.model.memo import LastMade
from bompla.model.moments import BY_PADS, untouched
from bompla.units import note_name

HEADER, ORIGINAL = 196, 66
MIN_LANE, MAX_LANE = 30, 100
OFFSET_POINTS_PER_MS, MOST_OFFSET = 0.6, 9.0
PIN_GRAB = 9.0
SILENCED = 0.3
"""What is not to be heard is drawn so faintly."""

SIMPLER_PINS = 500
"""With more pins than this in view they are drawn without their heads' shapes."""

SIMPLE_DOT = 4.6


class LanePicture(SoundPicture):
    """Draws the pattern under the original sound. `redrawn` tells that the picture shows another stretch or pattern."""

    redrawn = pyqtSignal()

    left_margin, right_margin = HEADER, 10

    def __init__(self, session: Session, name: str, parent: QWidget | None = None) -> None:
        super().__init__(session, name, parent)
        self._felt: LastMade[tuple[Hit, ...]] = LastMade(1)
        self._lanes: LastMade[list[Pad]] = LastMade(1)
        self._places: LastMade[dict[int, QRectF]] = LastMade(2)
        self._limits = (0.0, 1.0)
        session.shown.changed.connect(self.redraw)

    def limits(self) -> tuple[float, float]:
        """Return the first and last sample that can be shown: as far as the pattern goes, though the original repeats.

        Where hits are ahead of the first beat, it begins a little before it.
        """
        document = self._session.store.document
        if document is None:
            return 0.0, 1.0
        earliest = min((hit.at_beats for hit in self.hits()), default=0.0)
        first = np.floor(8.0 * max(EARLIEST_BEATS, earliest)) / 8.0 if earliest < 0.0 else 0.0
        start, end = document.beat_map.samples_at([first, float(pattern_beats(document))]).tolist()
        return (float(document.loop.start_sample) if first == 0.0 else start), end

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        if event.position().x() < HEADER:
            event.ignore()  # over the names the wheel goes up and down the lanes
        else:
            super().wheelEvent(event)

    def redraw(self, _changed: object = None) -> None:
        """Draw everything anew."""
        super().redraw()
        self.redrawn.emit()

    def pads(self) -> list[Pad]:
        """Return the pads in the order of their lanes, from the top."""
        document, view = self._session.store.document, self._session.shown
        if document is None:
            return []
        missing, chosen = view.missing(), view.selection.pad_id

        def made() -> list[Pad]:
            used = {hit.pad_id for hit in pattern_of(document).hits} | {hit.pad_id for hit in missing} | {chosen}
            shown = (pad for pad in document.pads if not view.folded or pad.id in used)
            return sorted(shown, key=lambda pad: (-(pad.slot // 4), pad.slot % 4))

        return self._lanes.get((document.pads, pattern_of(document).hits, missing, view.folded, chosen), made)

    def hits(self) -> tuple[Hit, ...]:
        """Return the hits as they are felt, where they are drawn."""
        document = self._session.store.document
        return self._felt.get((document,), lambda: felt_pattern(document)) if document is not None else ()

    def missing_near(self, x: float, y: float) -> MissingHit | None:
        """Return the missing hit whose faint pin is under a point."""
        document = self._session.store.document
        if document is None:
            return None
        for missing in self._session.shown.missing():
            lane = self.lane(missing.pad_id)
            at = self._axis.x(float(document.beat_map.samples_at(missing.at_beats)))
            head = self._velocity_y(lane, missing.velocity)
            if lane.top() <= y <= lane.bottom() and abs(at - x) < PIN_GRAB and abs(head - y) <= PIN_GRAB:  # its stem may be drawn over
                return missing
        return None

    def lane(self, pad_id: int) -> QRectF:
        """Return where a pad's lane is, without its header; empty if it has none."""
        pads, axis = self.pads(), self._axis  # which is another at every resize

        def made() -> dict[int, QRectF]:
            height = self._lane_height(len(pads))
            return {pad.id: QRectF(axis.left, RULER + ORIGINAL + index * height, axis.width, height) for index, pad in enumerate(pads)}

        return QRectF(self._places.get((pads, axis), made).get(pad_id, QRectF()))

    def level_bar(self, pad: Pad) -> QRectF:
        """Return where a lane's level is dragged, empty in a low lane."""
        lane = self.lane(pad.id)
        if lane.height() < 46.0:
            return QRectF()
        return QRectF(HEADER - 66.0, lane.center().y() + 15.0, 56.0, 4.0)

    def pin(self, hit: Hit) -> QPointF:
        """Return where the head of a hit's pin is."""
        document, lane = self._session.store.document, self.lane(hit.pad_id)
        if document is None:
            return QPointF()
        x = self._axis.x(float(document.beat_map.samples_at(hit.at_beats)))
        return QPointF(x, self._velocity_y(lane, hit.velocity))

    def _lane_height(self, count: int) -> float:
        room = self.height() - RULER - ORIGINAL - 8.0
        return float(np.clip(room / max(1, count), MIN_LANE, MAX_LANE))

    def _velocity_y(self, lane: QRectF, velocity: int) -> float:
        foot, top = lane.bottom() - 9.0, lane.top() + 10.0
        return foot - (foot - top) * (0.12 + 0.88 * velocity / 127.0)

    def _document_changed(self, document: Document) -> None:
        self.setMinimumHeight(RULER + ORIGINAL + max(3, len(self.pads())) * MIN_LANE + 10)
        first, last = self.limits()
        before, self._limits = self._limits, (first, last)
        whole = self._axis.start <= before[0] and self._axis.end >= before[1]
        if (whole and before != (first, last)) or not first <= self._axis.start < self._axis.end <= last:
            self.show_all()  # where all was shown, all of a longer pattern is
        self.redraw()

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
        paint_beats(painter, document, self._axis, RULER, self._bottom(), pattern_beats(document), pattern_meter(document))
        self._paint_original(painter, document, ratio)
        painter.setClipRect(QRectF(self._axis.left - 9.0, 0.0, self._axis.width + 18.0, float(self.height())))
        selected = self._session.shown.selection.hit_ids
        first, last = (document.beat_map.beat_at(at) for at in (self._axis.start, self._axis.end))
        first, last = max(EARLIEST_BEATS, first - 0.2), min(last, pattern_beats(document) - 1e-9)
        seen = [hit for hit in self.hits() if first <= hit.at_beats <= last]
        missing = [one for one in self._session.shown.missing() if first <= one.at_beats <= last]
        lanes = {pad.id: self.lane(pad.id) for pad in self.pads()}
        if len(seen) + len(missing) <= SIMPLER_PINS:
            self._paint_threads(painter)
        else:
            kinds = [2 if hit.id in selected else 1 for hit in seen]
            self._paint_simply(painter, document, [*missing, *((h.pad_id, h.at_beats, h.velocity) for h in seen)],
                               np.array([0] * len(missing) + kinds, dtype=np.int8), lanes)
            return
        for one in missing:
            if one.pad_id in lanes:
                self._paint_missing(painter, document, one)
        silenced, written, gone = self._session.shown.silenced, self._written(), self._about_to_go()
        for hit in gone:
            if hit.pad_id in lanes and first <= hit.at_beats <= last:
                self._paint_gone(painter, hit)
        at = document.beat_map.samples_at([hit.at_beats for hit in seen])
        xs = self._axis.left + (at - self._axis.start) / self._axis.samples_per_point
        for hit, x in zip(seen, xs.tolist(), strict=True):
            if hit.pad_id in lanes:
                painter.setOpacity(SILENCED if hit.pad_id in silenced else 1.0)
                head = QPointF(x, self._velocity_y(lanes[hit.pad_id], hit.velocity))
                self._paint_pin(painter, document, hit, head, hit.id in selected, draft=written is not None and hit.id not in written)
        painter.setOpacity(1.0)

    def threads(self) -> list[QLineF]:
        """Return the threads on which untouched moments hang from the original: down to the lowest hit of each, at its time."""
        document = self._session.store.document
        if document is None or pattern_of(document).untouched == BY_PADS:
            return []
        moments = untouched(document, self.hits(), self._session.shown.silenced)
        xs = document.beat_map.samples_at([one.at_beats for one in moments]) if moments else np.zeros(0)
        xs = self._axis.left + (xs - self._axis.start) / self._axis.samples_per_point
        made = []
        for moment, x in zip(moments, xs.tolist(), strict=True):
            feet = [self.lane(hit.pad_id).bottom() - 9.0 for hit in moment.hits if not self.lane(hit.pad_id).isEmpty()]
            if feet and self._axis.left <= x <= self._axis.left + self._axis.width:
                made.append(QLineF(x, RULER + ORIGINAL - 12.0, x, max(feet)))
        return made

    def _paint_threads(self, painter: QPainter) -> None:
        """Draw what hangs on the original, quietly, with a knot where it begins."""
        threads = self.threads()
        painter.setPen(QPen(theme().colour("paper", 0.2), 1.0))
        if threads:
            painter.drawLines(*threads)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().colour("paper", 0.75))
        for thread in threads:
            painter.drawEllipse(thread.p1(), 2.2, 2.2)

    def _written(self) -> frozenset[int] | None:
        """Return the ids of the hits that are written, while others are only shown; None where nothing is being tried."""
        history = self._session.store.history
        if history is None or not self._session.store.previewing:
            return None
        return frozenset(hit.id for hit in pattern_of(history.document).hits)

    def _about_to_go(self) -> tuple[Hit, ...]:
        """Return the hits that what is being tried would delete."""
        history = self._session.store.history
        if history is None or not self._session.store.previewing:
            return ()
        kept = {hit.id for hit in self.hits()}
        return tuple(hit for hit in felt_pattern(history.document) if hit.id not in kept)

    def _paint_simply(
        self, painter: QPainter, document: Document, hits: list[tuple[int, float, int]], kinds: NDArray[np.int8], lanes: dict[int, QRectF]
    ) -> None:
        """Draw thousands of pins in one go, a stem and a dot each, as high as they are hard.

        Hits are (pad id, beat, velocity); their kinds are 0 for a missing one, 1 for a plain one, 2 for one that is selected.
        """
        if not hits:
            return
        pads, beats, velocities = (np.array(column) for column in zip(*hits, strict=True))
        xs = (document.beat_map.samples_at(beats) - self._axis.start) / self._axis.samples_per_point
        families = {family: n for n, family in enumerate(Family)}
        colours = [*(theme().family(family, 0.34) for family in families), *(theme().family(family) for family in families),
                   theme().colour("paper")]
        ys, shade = np.full(xs.size, -1.0), np.zeros(xs.size, dtype=np.int8)
        width, top = round(self._axis.width) + 1, RULER + ORIGINAL
        for pad in self.pads():
            lane, which = lanes[pad.id], pads == pad.id
            foot, high = lane.bottom() - 9.0, lane.top() + 10.0
            ys[which] = foot - (foot - high) * (0.12 + 0.88 * velocities[which] / 127.0) - top
            family = families[DRUMS[pad.drum].family]
            shade[which] = np.choose(kinds[which], (family, len(families) + family, 2 * len(families)))
            stems = np.full(int(which.sum()), theme().drum(pad.drum, 0.4).rgba(), np.uint32)
            painter.drawImage(QRectF(self._axis.left, foot - 6.0, width, 6.0), lines_image(xs[which], width, stems))
        dots = dots_pixmap(xs, ys, width=width, height=round(self._bottom() - top), size=SIMPLE_DOT, colours=colours, kinds=shade)
        painter.drawPixmap(QPointF(self._axis.left - 3.0, top - 3.0), dots)

    def grid_times(self) -> NDArray[np.float64]:
        """Return the steps of the grid in view, in beats."""
        document = self._session.store.document
        if document is None:
            return np.zeros(0)
        first = max(0.0, np.floor(document.beat_map.beat_at(self._axis.start)))
        last = min(float(pattern_beats(document)), np.ceil(document.beat_map.beat_at(self._axis.end)))
        return self._session.shown.grid.steps_between(first, last)

    def _paint_grid(self, painter: QPainter, document: Document) -> None:
        xs = self._axis.left + (document.beat_map.samples_at(self.grid_times()) - self._axis.start) / self._axis.samples_per_point
        if xs.size < 2 or float(np.diff(xs).min()) < 4.0:
            return
        xs = xs[(xs >= self._axis.left) & (xs <= self._axis.left + self._axis.width)]
        top, bottom = RULER + ORIGINAL, self._bottom()
        painter.setPen(QPen(theme().colour("faint_line", 0.6), 1.0))
        _lines(painter, xs.tolist(), top, bottom)

    def _paint_original(self, painter: QPainter, document: Document, ratio: float) -> None:
        summary, axis = self._session.project.summary, self._axis
        assert summary is not None
        gain = summary.gain
        start, length = document.loop.start_sample, document.loop.frames
        for turn in range(int((axis.start - start) // length), int((axis.end - 1.0 - start) // length) + 1):
            shift = turn * length  # a pattern longer than the loop has it under it again and again
            first, last = max(axis.start, start + shift), min(axis.end, start + shift + length)
            left, right = round(axis.x(first)), round(axis.x(last))
            if right > left:
                pixmap = wave_pixmap(summary, first - shift, last - shift, right - left, ORIGINAL - 8, theme().colour("paper", 0.75),
                                     ratio=ratio, gain=gain)
                painter.drawPixmap(QPointF(left, RULER + 4.0), pixmap)
        painter.setPen(QPen(theme().colour("good", 0.8), 1.0))
        starts = np.array([piece.start_sample for piece in document.slices()], dtype=float)
        xs = axis.left + (starts - axis.start) / axis.samples_per_point
        pixels = np.unique(np.floor(xs[(xs >= axis.left) & (xs <= axis.left + axis.width)]))
        _lines(painter, pixels.tolist(), RULER + ORIGINAL - 6.0, RULER + ORIGINAL - 1.0)
        painter.setFont(theme().font(15, weight=600))
        painter.setPen(theme().colour("paper"))
        painter.drawText(QRectF(14, RULER + 16, HEADER - 20, 20), Qt.AlignmentFlag.AlignLeft, "original")
        painter.setFont(theme().font(13, weight=400))
        painter.setPen(theme().colour("dim"))
        painter.drawText(QRectF(14, RULER + 36, HEADER - 20, 20), Qt.AlignmentFlag.AlignLeft, "aligned by beat")

    def _paint_lane(self, painter: QPainter, pad: Pad) -> None:
        lane = self.lane(pad.id)
        if pad.id == self._session.shown.selection.pad_id:
            painter.fillRect(QRectF(0, lane.top(), self.width(), lane.height()), theme().colour("raised", 0.7))
        painter.setPen(QPen(theme().colour("line"), 1.0))
        painter.drawLine(QPointF(0, lane.bottom()), QPointF(self.width(), lane.bottom()))
        middle = lane.center().y()
        silent = pad.id in self._session.shown.silenced
        draw_head(painter, pad.drum, 24.0, middle, 15.0, theme().drum(pad.drum, SILENCED if silent else 1.0))
        painter.setFont(theme().font(13))
        view = self._session.shown
        for text, left, on in (("mute", HEADER - 66, pad.id in view.muted), ("solo", HEADER - 36, pad.id in view.soloed)):
            painter.setPen(theme().colour("paper" if on else "dim", 1.0 if on else 0.75))
            painter.drawText(QRectF(left, middle - 9, 30, 18), Qt.AlignmentFlag.AlignVCenter, text)
        bar = self.level_bar(pad)
        if not bar.isEmpty():
            share = (pad.level_db - MIN_LEVEL_DB) / (MAX_LEVEL_DB - MIN_LEVEL_DB)
            painter.fillRect(bar, theme().colour("line"))
            painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * share, bar.height()), theme().colour("dim"))
        roomy = lane.height() >= 46.0
        painter.setFont(theme().font(16, weight=600))
        painter.setPen(theme().colour("dim" if silent else "paper"))
        name = painter.fontMetrics().elidedText(pad.name, Qt.TextElideMode.ElideRight, HEADER - 112)
        painter.drawText(QRectF(44, middle - (21 if roomy else 11), HEADER - 48, 22), Qt.AlignmentFlag.AlignVCenter, name)
        if roomy:
            painter.setFont(theme().font(13, weight=400))
            painter.setPen(theme().colour("dim"))
            text = f"{pad.note} · {note_name(pad.note)}" + ("" if pad.layers else " · no sound")
            painter.drawText(QRectF(44, middle + 1, HEADER - 48, 18), Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_gone(self, painter: QPainter, hit: Hit) -> None:
        """Draw a hit that would be deleted: its foot, struck through."""
        lane, x = self.lane(hit.pad_id), self.pin(hit).x()
        painter.setPen(QPen(theme().colour("dim"), 1.2))
        foot = lane.bottom() - 9.0
        painter.drawLine(QPointF(x - 4.0, foot - 4.0), QPointF(x + 4.0, foot + 4.0))
        painter.drawLine(QPointF(x - 4.0, foot + 4.0), QPointF(x + 4.0, foot - 4.0))

    def _paint_pin(self, painter: QPainter, document: Document, hit: Hit, head: QPointF, selected: bool, *, draft: bool = False) -> None:
        """Draw a hit with its head at a place; one that is not written yet stands on a broken stem, in a ring."""
        if not self._axis.left - 12.0 <= head.x() <= self._axis.left + self._axis.width + 2.0:
            return
        pad = document.pad(hit.pad_id)
        lane = self.lane(hit.pad_id)
        colour = theme().colour("paper") if selected else theme().drum(pad.drum, 0.4 + 0.6 * hit.chance)
        foot = lane.bottom() - 9.0
        size = 8.0 + 5.0 * hit.velocity / 127.0
        painter.setPen(QPen(colour, 1.6, Qt.PenStyle.DotLine) if draft else QPen(colour, 2.0))
        painter.drawLine(QPointF(head.x(), head.y() + size * 0.4), QPointF(head.x(), foot))
        draw_head(painter, pad.drum, head.x(), head.y(), size * (0.75 if draft else 1.0), colour)
        if draft:
            painter.setPen(QPen(colour, 1.0, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(head, size * 0.5 + 4.0, size * 0.5 + 4.0)
        if selected:
            painter.setPen(QPen(colour, 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(head, size * 0.5 + 5.0, size * 0.5 + 5.0)
        if hit.length_beats > 0.0:
            end = self._axis.x(float(document.beat_map.samples_at(hit.at_beats + hit.length_beats)))
            painter.setPen(QPen(colour, 1.0))
            painter.drawLine(QPointF(head.x(), foot), QPointF(end, foot))
        off_ms = offset_beats(hit, self._session.shown.grid.divisions) * 60_000.0 / document.bpm
        x_off = float(np.clip(off_ms * OFFSET_POINTS_PER_MS, -MOST_OFFSET, MOST_OFFSET))
        if abs(x_off) >= 1.0:
            painter.setPen(QPen(colour, 2.0))
            painter.drawLine(QPointF(head.x(), foot + 4.0), QPointF(head.x() + x_off, foot + 4.0))

    def _paint_missing(self, painter: QPainter, document: Document, missing: MissingHit) -> None:
        pad_id, beat, velocity = missing
        pad, lane = document.pad(pad_id), self.lane(pad_id)
        x, y = self._axis.x(float(document.beat_map.samples_at(beat))), self._velocity_y(lane, velocity)
        colour = theme().drum(pad.drum, 0.34)
        painter.setPen(QPen(colour, 1.2, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, y), QPointF(x, lane.bottom() - 9.0))
        draw_head(painter, pad.drum, x, y, 9.0, colour)

    def hit_near(self, x: float, y: float) -> Hit | None:
        """Return the hit whose pin is under a point."""
        document = self._session.store.document
        if document is None:
            return None
        best, found = PIN_GRAB, None
        for hit in self.hits():
            head, lane = self.pin(hit), self.lane(hit.pad_id)
            if lane.top() <= y <= lane.bottom() and abs(head.x() - x) < best and y >= head.y() - PIN_GRAB:
                best, found = abs(head.x() - x), hit
        return found

    def _pad_at(self, y: float) -> Pad | None:
        return next((pad for pad in self.pads() if self.lane(pad.id).top() <= y < self.lane(pad.id).bottom()), None)


def _lines(painter: QPainter, xs: list[float], top: float, bottom: float) -> None:
    if xs:
        painter.drawLines(*(QLineF(x, top, x, bottom) for x in xs))
