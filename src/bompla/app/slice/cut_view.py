"""The picture of the Slice stage: sound, energy ribbons, spectrogram and attack strength, with the cuts to be dragged."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from bompla.analysis.review.doubts import Doubt
from bompla.app.project.session import Session
from bompla.app.slice.cut_marks import CutMarks, Marked
from bompla.app.slice.cut_rows import GAP, RIBBONS, Rows
from bompla.app.slice.magnifier import paint_magnifier
from bompla.app.sound_picture import RULER, SoundPicture, paint_beats
from bompla.app.theme import theme
from bompla.app.ui.raster import heat_pixmap, level_pixmap, wave_pixmap
from bompla.audio.clip import Clip
from bompla.audio.summary import WaveSummary
from bompla.model.cut_edits import attack_near, move_cut, set_threshold
from bompla.model.document import Cut, Document
from bompla.model.drums import BANDS_HZ, DRUMS
from bompla.model.loop import Loop
from bompla.model.wording import counted, position
from bompla.units import ms_to_samples

LABEL_WIDTH = 74
GRAB = 5.0
SNAP_POINTS = 9.0
SPECTROGRAM_FLOOR_DB = 110.0


@dataclass
class _Drag:
    kind: str
    cut_id: int = 0
    value: float = 0.0
    x: float = 0.0
    shares: dict[str, float] = field(default_factory=dict)


class CutView(SoundPicture):
    """Shows the loop and its cuts.

    A click chooses and plays a slice, with Ctrl or Shift it chooses more of them; a double click
    cuts; cuts, the threshold and the bounds of the rows are dragged; the wheel zooms about the
    pointer, with Shift it scrolls. `sliced` carries the id of a cut whose slice was clicked,
    `sought` a sample chosen on the ruler.
    """

    sliced = pyqtSignal(int)
    sought = pyqtSignal(float)

    left_margin = LABEL_WIDTH
    slides = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Sound and cuts", parent)
        self._sounding = (0, 0)
        self._hover_y = -1.0
        self._drawn_loop: Loop | None = None
        self.rows = Rows()
        self.range_db = 70.0
        self.every_channel = False
        self._dimmed: frozenset[int] = frozenset()
        self._marks: CutMarks | None = None
        self._doubted: tuple[tuple[Doubt, ...], frozenset[int]] = ((), frozenset())
        self._over_line = False
        self._channels: tuple[Clip, tuple[WaveSummary, ...]] | None = None
        self.setMouseTracking(True)
        self.setMinimumSize(420, 320)
        session.store.document_changed.connect(self._document_changed)
        session.shown.selection_changed.connect(self.redraw_over)
        session.shown.selection_changed.connect(lambda _: self.tell())
        session.requests.pictures_changed.connect(self.redraw)
        session.review.changed.connect(self.redraw_over)

    def row(self, name: str) -> QRectF:
        """Return where a row is: `sound`, `high`, `mid`, `low`, `spectrogram` or `strength`; empty where it is hidden."""
        top, height = self.rows.place(name, RULER + 14.0, self.height() - 10.0)
        return QRectF(self._axis.left, top, self._axis.width, height)

    def show_rows(self, name: str, shown: bool) -> None:
        """Show or hide the `ribbons`, the `spectrogram` or the `strength`."""
        self.rows.show(name, shown)
        self.redraw()

    def set_every_channel(self, on: bool) -> None:
        """Draw each channel by itself, or all in one."""
        self.every_channel = on
        self.redraw()

    def set_range(self, range_db: float) -> None:
        """Choose how far below the loudest the spectrogram reaches."""
        self.range_db = range_db
        self.redraw()

    def set_dimmed(self, cut_ids: frozenset[int]) -> None:
        """Draw these slices dimmed."""
        if cut_ids != self._dimmed:
            self._dimmed = cut_ids
            self.redraw_over()

    def threshold_y(self) -> float:
        """Return where the threshold line is."""
        row, document = self.row("strength"), self._session.store.document
        share = document.threshold if document else 0.0
        return row.bottom() - share * row.height()

    def playhead_bottom(self) -> float:
        """Return how far down the playhead reaches."""
        return self.height() - 8.0

    def _document_changed(self, document: Document) -> None:
        """Draw the cuts anew; beats and sound only where the loop is another one."""
        if document.loop != self._drawn_loop:
            first, last = self.limits()
            if not first <= self._axis.start < self._axis.end <= last:
                self.show_all()
            self.redraw()
        self.redraw_over()
        self.tell()

    def tell(self) -> None:
        """Say which slice is selected to who does not see it."""
        document = self._session.store.document
        pieces = document.slices() if document is not None else ()
        piece = next((one for one in pieces if one.cut.id == self._session.shown.selection.cut_id), None)
        if document is None or piece is None:
            self.setAccessibleDescription("no slice selected")
            return
        drums = ", ".join(DRUMS[heard.drum].label.lower() for heard in piece.cut.heard if heard.sure) or "no drum"
        at = position(document.beat_map.beat_at(piece.cut.attack_sample), document.loop.meter)
        state = "".join(f", {word}" for word, on in (("locked", piece.cut.locked), ("left out", piece.cut.left_out)) if on)
        self.setAccessibleDescription(f"slice {piece.number} of {len(pieces)} at {at}: {piece.cut.name or drums}{state}")

    def set_playhead(self, at_sample: float) -> None:
        """Move the playhead, and mark the slice that it is in."""
        super().set_playhead(at_sample)
        document = self._session.store.document
        piece = document.slice_at(int(at_sample)) if document is not None else None
        span = (piece.start_sample, piece.end_sample) if piece is not None else (0, 0)
        if span != self._sounding:
            self._sounding = span
            self.update(0, 0, self.width(), RULER + 4)

    def paint_live(self, painter: QPainter, document: Document) -> None:
        """Mark the slice that sounds."""
        start, end = (max(self._axis.left, min(self._axis.left + self._axis.width, self._axis.x(at))) for at in self._sounding)
        if end > start:
            painter.fillRect(QRectF(start, RULER - 4.0, end - start, 3.0), theme().colour(self.playhead_role))

    def paint_over(self, painter: QPainter, document: Document) -> None:
        """Draw cuts, threshold and magnifier."""
        self._paint_cuts(painter, document)
        if self.rows.shown("strength"):
            self._paint_threshold(painter, document)
        drag = self.gesture
        if drag is not None and drag.kind == "cut":
            cut = next((c for c in document.cuts if c.id == drag.cut_id), None)
            if cut is not None and self._session.project.clip is not None:
                sound = self.row("sound")
                place = QPointF(self._axis.x(cut.at_sample), sound.center().y())
                paint_magnifier(painter, self._session.project.clip, cut.at_sample, place, sound)

    def paint_still(self, painter: QPainter, document: Document, ratio: float) -> None:
        """Draw everything that does not change while cuts are dragged and sound plays."""
        self._drawn_loop = document.loop
        paint_beats(painter, document, self._axis, RULER, self.height() - 12.0)
        self._paint_sound(painter, ratio)
        self._paint_ribbons(painter, document, ratio)
        self._paint_spectrogram(painter, document, ratio)
        self._paint_strength(painter, document, ratio)
        painter.setPen(QPen(theme().colour("faint_line"), 1.0))
        for y in self.rows.bounds(RULER + 14.0, self.height() - 10.0):
            painter.drawLine(QPointF(10.0, y), QPointF(LABEL_WIDTH - 9.0, y))

    def _paint_sound(self, painter: QPainter, ratio: float) -> None:
        axis, row, summary = self._axis, self.row("sound"), self._session.project.summary
        assert summary is not None
        parts = self._channel_summaries() if self.every_channel else (summary,)
        height = row.height() / len(parts)
        for index, part in enumerate(parts):
            wave = wave_pixmap(part, axis.start, axis.end, round(axis.width), round(height), theme().colour("paper"),
                               ratio=ratio, gain=_gain(summary))
            painter.drawPixmap(QPointF(row.left(), row.top() + index * height), wave)
        self._label(painter, "sound", row, "dim")

    def _channel_summaries(self) -> tuple[WaveSummary, ...]:
        clip = self._session.project.clip
        assert clip is not None
        if self._channels is None or self._channels[0] is not clip:
            each = (Clip(clip.samples[:, n : n + 1], clip.sample_rate) for n in range(min(clip.channels, 8)))
            self._channels = (clip, tuple(WaveSummary.of(part) for part in each))
        return self._channels[1]

    def _paint_ribbons(self, painter: QPainter, document: Document, ratio: float) -> None:
        pictures = self._session.project.pictures
        for name, index, role in RIBBONS:
            row = self.row(name)
            if row.height() < 3.0:
                continue
            self._label(painter, name, row, role)
            if pictures is not None:
                first, last = self._points(document, pictures.bands_step_s)
                ribbon = level_pixmap(pictures.bands[index], first, last, round(row.width()), round(row.height()),
                                      theme().colour(role), ratio=ratio, mirrored=True)
                painter.drawPixmap(row.topLeft(), ribbon)

    def _paint_spectrogram(self, painter: QPainter, document: Document, ratio: float) -> None:
        row = self.row("spectrogram")
        sound = self._session.project.sound
        if row.height() < 3.0:
            return
        self._label(painter, "spectrum", row, "dim")
        made = sound.spectrogram if sound else None
        if made is None:
            painter.setPen(theme().colour("dim"))
            painter.drawText(row, Qt.AlignmentFlag.AlignCenter, "being made")
            return
        first, last = self._points(document, made.step_s)
        lowest = 255.0 * (1.0 - self.range_db / SPECTROGRAM_FLOOR_DB)
        index = np.clip((np.arange(256) - lowest) * 255.0 / (255.0 - lowest), 0, 255).astype(np.uint8)
        ramp = theme().ramp()[index]
        painter.drawPixmap(row.topLeft(), heat_pixmap(made.levels, first, last, round(row.width()), round(row.height()), ramp, ratio=ratio))
        painter.setFont(theme().font(12))
        for (name, _, role), (low, _) in zip(RIBBONS[:2], reversed(list(BANDS_HZ.values())[1:]), strict=True):
            y = row.bottom() - made.row_of(low) / (made.edges_hz.size - 1) * row.height()
            painter.setPen(QPen(theme().colour(role), 1.0, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(row.left(), y), QPointF(row.right(), y))
            pitch = f"{low / 1000.0:g} kHz" if low >= 1000.0 else f"{low:g} Hz"
            text = f"{name}, from {pitch}"
            plate = QRectF(row.left() + 4.0, y - 19.0, painter.fontMetrics().horizontalAdvance(text) + 10.0, 17.0)
            painter.fillRect(plate, theme().colour("ground", 0.85))  # to be read over loud sound
            painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, text)

    def _paint_strength(self, painter: QPainter, document: Document, ratio: float) -> None:
        pictures, row = self._session.project.pictures, self.row("strength")
        if row.height() < 3.0:
            return
        self._label(painter, "attack\nstrength", row, "dim")
        if pictures is not None:
            first, last = self._points(document, pictures.curve_step_s)
            curve = level_pixmap(pictures.curve, first, last, round(row.width()), round(row.height()),
                                 theme().colour("hats", 0.42), ratio=ratio)
            painter.drawPixmap(row.topLeft(), curve)

    def _points(self, document: Document, step_s: float) -> tuple[float, float]:
        step = step_s * document.source.sample_rate
        return self._axis.start / step, self._axis.end / step

    def _label(self, painter: QPainter, text: str, row: QRectF, role: str) -> None:
        painter.setFont(theme().font(14))
        painter.setPen(theme().colour(role))
        area = QRectF(0.0, row.top(), LABEL_WIDTH - 9.0, row.height())
        painter.drawText(area, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)

    def _marks_of(self, document: Document) -> CutMarks:
        slices = document.slices()
        if self._marks is None or self._marks.slices is not slices:
            self._marks = CutMarks(slices)
        return self._marks

    def _paint_cuts(self, painter: QPainter, document: Document) -> None:
        selection = self._session.shown.selection
        doubts = self._session.review.found
        if self._doubted[0] is not doubts:
            self._doubted = (doubts, frozenset(doubt.cut_id for doubt in doubts))
        marked = Marked(selection.cut_id, selection.more_cuts, self._doubted[1], self._dimmed)
        self._marks_of(document).paint(painter, self._axis, self.row("sound"), self.row("strength"), marked)

    def _paint_threshold(self, painter: QPainter, document: Document) -> None:
        row, y = self.row("strength"), self.threshold_y()
        painter.setPen(QPen(theme().colour("paper"), 1.6))
        painter.drawLine(QPointF(row.left(), y), QPointF(row.right(), y))
        near = abs(self._hover_y - y) <= GRAB or (self.gesture is not None and self.gesture.kind == "threshold")
        text = f"drag: {counted(len(document.slices()), 'slice')} at this threshold"
        painter.setFont(theme().font(14, weight=600))
        width = painter.fontMetrics().horizontalAdvance(text) + 18.0
        box = QRectF(row.right() - width - 8.0, y - 24.0, width, 20.0)
        if near:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme().colour("paper"))
            painter.drawRoundedRect(box, 2.0, 2.0)
            painter.setPen(theme().colour("ground"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _cut_near(self, x: float) -> Cut | None:
        document = self._session.store.document
        if document is None:
            return None
        return self._marks_of(document).near(self._axis, x, GRAB)

    def _bound_at(self, x: float, y: float) -> int:
        """Return which bound of the rows is at a place beside the pictures, -1 for none."""
        if x >= LABEL_WIDTH:
            return -1
        bounds = self.rows.bounds(RULER + 14.0, self.height() - 10.0)
        return next((n for n, bound in enumerate(bounds) if abs(bound - y) <= GAP), -1)

    def press(self, event: QMouseEvent) -> _Drag | None:
        """Take hold of a bound, the threshold or a cut; seek on the ruler; choose a slice."""
        document = self._session.store.document
        x, y = event.position().x(), event.position().y()
        if document is None or event.button() != Qt.MouseButton.LeftButton:
            return None
        bound = self._bound_at(x, y)
        if bound >= 0:
            return _Drag("rows", bound, shares=dict(self.rows.shares))
        if self.rows.shown("strength") and abs(y - self.threshold_y()) <= GRAB and x >= self._axis.left:
            return _Drag("threshold", value=document.threshold)
        if y < RULER:
            self.sought.emit(max(0.0, self._axis.sample(x)))
        elif self._over_sound(y) and (cut := self._cut_near(x)):
            self._session.shown.select(cut_id=cut.id)
            return _Drag("cut", cut.id, float(cut.at_sample), x)
        elif x >= self._axis.left:
            self._choose(document, round(self._axis.sample(x)), event.modifiers())
        return None

    def _choose(self, document: Document, at_sample: int, modifiers: Qt.KeyboardModifier) -> None:
        piece = document.slice_at(at_sample)
        if piece is None:
            return
        selection = self._session.shown.selection
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            self._session.shown.select(cut_id=piece.cut.id, more_cuts=frozenset(selection.cut_ids) ^ {piece.cut.id})
        elif modifiers & Qt.KeyboardModifier.ShiftModifier:
            ids = [s.cut.id for s in document.slices()]
            first = ids.index(selection.cut_id) if selection.cut_id in ids else 0
            low, high = sorted((first, piece.number - 1))
            self._session.shown.select(cut_id=selection.cut_id, more_cuts=frozenset(ids[low : high + 1]))
        else:
            self._session.shown.select(cut_id=piece.cut.id)
            self.sliced.emit(piece.cut.id)

    def _over_sound(self, y: float) -> bool:
        row = self.row("sound")
        return row.top() - 14.0 <= y <= row.bottom()

    def double_click(self, event: QMouseEvent) -> None:
        """Cut there."""
        x, y = event.position().x(), event.position().y()
        row = self.row("strength")
        last = row.top() if row.height() > 0.0 else float(self.height())
        if event.button() == Qt.MouseButton.LeftButton and RULER <= y < last and x >= self._axis.left:
            self._session.requests.cut_at(round(self._axis.sample(x)), snap=not _free(event))

    def hover(self, event: QMouseEvent) -> None:
        """Show what can be dragged."""
        x, y = event.position().x(), event.position().y()
        self._hover_y = y
        over_line = self._bound_at(x, y) >= 0 or (self.rows.shown("strength") and abs(y - self.threshold_y()) <= GRAB)
        over_cut = self._over_sound(y) and self._cut_near(x)
        shape = Qt.CursorShape.SizeVerCursor if over_line else Qt.CursorShape.SizeHorCursor
        self.setCursor(shape if over_line or over_cut else Qt.CursorShape.ArrowCursor)
        near = abs(y - self.threshold_y()) <= GRAB
        if near != self._over_line:
            self._over_line = near
            self.redraw_over()

    def drag(self, gesture: _Drag, event: QMouseEvent) -> None:
        """Show where a bound, the threshold or a cut has come to."""
        x, y = event.position().x(), event.position().y()
        self._hover_y = y
        if gesture.kind == "rows":
            self.rows.move_bound(gesture.cut_id, y, RULER + 14.0, self.height() - 10.0)
            self.redraw()
        elif gesture.kind == "threshold":
            row = self.row("strength")
            gesture.value = min(1.0, max(0.0, (row.bottom() - y) / row.height()))
            self._session.store.preview(lambda document: set_threshold(document, gesture.value))
        else:
            gesture.value = self._dragged_to(x, _free(event))
            self._session.store.preview(lambda document: move_cut(document, gesture.cut_id, round(gesture.value)))

    def cancel(self, gesture: _Drag) -> None:
        """Show bounds and cuts as they were."""
        if gesture.kind == "rows":
            self.rows.shares = dict(gesture.shares)
            self.redraw()
        else:
            self._session.store.drop_preview()
            self.redraw_over()

    def _dragged_to(self, x: float, free: bool) -> float:
        document = self._session.store.document
        at = self._axis.sample(x)
        if document is None or free:
            return at
        near = attack_near(document.attacks, round(at), round(SNAP_POINTS * self._axis.samples_per_point))
        return float(near.cut_sample) if near else at

    def commit(self, gesture: _Drag, event: QMouseEvent) -> None:
        """Keep the threshold, or the place of a cut."""
        if gesture.kind == "threshold":
            self._session.store.edit("set threshold", lambda document: set_threshold(document, gesture.value))
        elif gesture.kind == "cut":
            self._session.store.edit("move cut", lambda document: move_cut(document, gesture.cut_id, round(gesture.value)))
        self.redraw_over()


def nudge_samples(session: Session, ms: float) -> int:
    """Return a step in milliseconds as samples of the session's sound."""
    return ms_to_samples(ms, session.project.clip.sample_rate) if session.project.clip else 0


def _free(event: QMouseEvent) -> bool:
    return bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)


def _gain(summary: WaveSummary) -> float:
    peak = float(abs(summary.levels[-1]).max()) if summary.levels else 1.0
    return 1.0 / max(peak, 0.05)
