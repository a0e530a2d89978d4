"""The picture of the Slice stage: sound, energy ribbons and attack strength, with the cuts to be dragged."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from bompla.app.session import Session
from bompla.app.theme import theme
from bompla.app.widgets.picture import RULER, SoundPicture
from bompla.app.widgets.raster import level_pixmap, wave_pixmap
from bompla.app.widgets.timeaxis import TimeAxis
from bompla.audio.summary import WaveSummary
from bompla.model.cut_edits import attack_near, move_cut, set_threshold
from bompla.model.document import Cut, Document, Loop
from bompla.units import ms_to_samples

LABEL_WIDTH = 74
FLAG_HEIGHT, FLAG_WIDTH = 14, 16
GRAB = 5.0
SNAP_POINTS = 9.0
RIBBONS = (("high", 2, "hats"), ("mid", 1, "snares"), ("low", 0, "drums"))


@dataclass
class _Drag:
    kind: str
    cut_id: int = 0
    value: float = 0.0


class CutView(SoundPicture):
    """Shows the loop and its cuts.

    A click chooses and plays a slice, a double click cuts; cuts and the threshold are dragged;
    the wheel zooms about the pointer, with Shift it scrolls. `sliced` carries the id of a cut
    whose slice was clicked, `sought` a sample chosen on the ruler.
    """

    sliced = pyqtSignal(int)
    sought = pyqtSignal(float)

    left_margin = LABEL_WIDTH

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Sound and its cuts", parent)
        self._drag: _Drag | None = None
        self._hover_y = -1.0
        self._drawn_loop: Loop | None = None
        self.setMouseTracking(True)
        self.setMinimumSize(420, 320)
        session.document_changed.connect(self._document_changed)
        session.selection_changed.connect(self.update)
        session.pictures_changed.connect(self.redraw)

    def row(self, name: str) -> QRectF:
        """Return where a row is: `sound`, `high`, `mid`, `low` or `strength`."""
        left, width = self._axis.left, self._axis.width
        body = self.height() - RULER - 16.0
        sound = 0.42 * body
        ribbon = 0.095 * body
        if name == "sound":
            return QRectF(left, RULER + 14.0, width, sound - 14.0)
        top = RULER + sound + 0.03 * body
        for index, (ribbon_name, _, _) in enumerate(RIBBONS):
            if name == ribbon_name:
                return QRectF(left, top + index * (ribbon + 4.0), width, ribbon)
        top += 3.0 * (ribbon + 4.0) + 0.02 * body
        return QRectF(left, top, width, self.height() - top - 12.0)

    def threshold_y(self) -> float:
        """Return where the threshold line is."""
        row, document = self.row("strength"), self._session.document
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
        self.update()

    def paint_over(self, painter: QPainter, document: Document) -> None:
        """Draw cuts and threshold."""
        self._paint_cuts(painter, document)
        self._paint_threshold(painter, document)

    def paint_still(self, painter: QPainter, document: Document, ratio: float) -> None:
        """Draw everything that does not change while cuts are dragged and sound plays."""
        self._drawn_loop = document.loop
        paint_beats(painter, document, self._axis, RULER, self.height() - 12.0)
        axis, summary = self._axis, self._session.summary
        row = self.row("sound")
        assert summary is not None
        wave = wave_pixmap(summary, axis.start, axis.end, round(axis.width), round(row.height()), theme().colour("paper"),
                           ratio=ratio, gain=_gain(summary))
        painter.drawPixmap(row.topLeft(), wave)
        self._label(painter, "sound", row, "dim")
        self._paint_pictures(painter, document, ratio)

    def _paint_pictures(self, painter: QPainter, document: Document, ratio: float) -> None:
        pictures = self._session.pictures
        for name, index, role in RIBBONS:
            row = self.row(name)
            self._label(painter, name, row, role)
            if pictures is not None:
                first, last = self._points(document, pictures.bands_step_s)
                ribbon = level_pixmap(pictures.bands[index], first, last, round(row.width()), round(row.height()),
                                      theme().colour(role), ratio=ratio, mirrored=True)
                painter.drawPixmap(row.topLeft(), ribbon)
        row = self.row("strength")
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

    def _paint_cuts(self, painter: QPainter, document: Document) -> None:
        sound, strength = self.row("sound"), self.row("strength")
        axis, chosen = self._axis, self._session.selection.cut_id
        painter.setFont(theme().font(12, weight=600))
        last_x, last_flag = -10.0, -100.0
        for piece in document.slices():
            cut = piece.cut
            x = axis.x(cut.at_sample)
            selected = cut.id == chosen
            if x > axis.left + axis.width + 1 or (x < axis.left - 1 and not selected):
                continue
            if x - last_x < 1.0 and not selected:
                continue
            last_x = x
            colour = theme().colour("signal" if selected else "good")
            if selected:
                end = min(axis.x(piece.end_sample), axis.left + axis.width)
                painter.fillRect(QRectF(max(x, axis.left), sound.top(), end - max(x, axis.left), sound.height()),
                                 theme().colour("signal", 0.16))
            if x < axis.left - 1:
                continue
            painter.setPen(QPen(colour, 1.4 if selected else 1.0))
            painter.drawLine(QPointF(x, sound.top() - 12.0), QPointF(x, sound.bottom()))
            if x - last_flag >= FLAG_WIDTH or selected:
                last_flag = x
                self._flag(painter, x, sound.top() - 12.0, piece.number, cut, colour)
            dot = strength.bottom() - cut.strength * strength.height()
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            if cut.origin == "heard":
                painter.drawEllipse(QPointF(axis.x(cut.attack_sample), dot), 2.8, 2.8)
            else:
                painter.drawRect(QRectF(x - 2.5, strength.bottom() - 5.0, 5.0, 5.0))

    def _flag(self, painter: QPainter, x: float, y: float, number: int, cut: Cut, colour: QColor) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        width = FLAG_WIDTH if number < 100 else FLAG_WIDTH + 6
        shape = [QPointF(x, y), QPointF(x + width, y), QPointF(x + width, y + FLAG_HEIGHT), QPointF(x, y + FLAG_HEIGHT)]
        painter.drawPolygon(QPolygonF(shape))
        if cut.held:
            painter.drawRect(QRectF(x - 2.0, y - 3.0, width + 2.0, 2.0))
        painter.setPen(theme().colour("ground"))
        painter.drawText(QRectF(x, y, width, FLAG_HEIGHT), Qt.AlignmentFlag.AlignCenter, str(number))

    def _paint_threshold(self, painter: QPainter, document: Document) -> None:
        row, y = self.row("strength"), self.threshold_y()
        painter.setPen(QPen(theme().colour("signal"), 2.0))
        painter.drawLine(QPointF(row.left(), y), QPointF(row.right(), y))
        near = abs(self._hover_y - y) <= GRAB or (self._drag is not None and self._drag.kind == "threshold")
        text = f"drag: {len(document.slices())} slices at this height"
        painter.setFont(theme().font(14, weight=600))
        width = painter.fontMetrics().horizontalAdvance(text) + 18.0
        box = QRectF(row.right() - width - 8.0, y - 24.0, width, 20.0)
        if near:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme().colour("signal"))
            painter.drawRoundedRect(box, 2.0, 2.0)
            painter.setPen(theme().colour("on_signal"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _cut_near(self, x: float) -> Cut | None:
        document = self._session.document
        if document is None:
            return None
        near = [(abs(self._axis.x(p.cut.at_sample) - x), p.cut) for p in document.slices()]
        distance, cut = min(near, key=lambda item: item[0], default=(GRAB + 1.0, None))
        return cut if distance <= GRAB else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        document = self._session.document
        x, y = event.position().x(), event.position().y()
        if document is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if abs(y - self.threshold_y()) <= GRAB and x >= self._axis.left:
            self._drag = _Drag("threshold", value=document.threshold)
        elif y < RULER:
            self.sought.emit(max(0.0, self._axis.sample(x)))
        elif self.row("sound").top() - 14.0 <= y <= self.row("sound").bottom() and (cut := self._cut_near(x)):
            self._session.select(cut_id=cut.id)
            self._drag = _Drag("cut", cut.id, float(cut.at_sample))
        else:
            piece = document.slice_at(round(self._axis.sample(x)))
            if piece is not None and x >= self._axis.left:
                self._session.select(cut_id=piece.cut.id)
                self.sliced.emit(piece.cut.id)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        x, y = event.position().x(), event.position().y()
        if event.button() == Qt.MouseButton.LeftButton and RULER <= y < self.row("strength").top() and x >= self._axis.left:
            self._session.cut_at(round(self._axis.sample(x)), snap=not _free(event))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        x, y = event.position().x(), event.position().y()
        self._hover_y = y
        drag = self._drag
        if drag is None:
            over_line = abs(y - self.threshold_y()) <= GRAB
            over_cut = self.row("sound").top() - 14.0 <= y <= self.row("sound").bottom() and self._cut_near(x)
            shape = Qt.CursorShape.SizeVerCursor if over_line else Qt.CursorShape.SizeHorCursor
            self.setCursor(shape if over_line or over_cut else Qt.CursorShape.ArrowCursor)
            self.update()
        elif drag.kind == "threshold":
            row = self.row("strength")
            drag.value = min(1.0, max(0.0, (row.bottom() - y) / row.height()))
            self._session.preview(lambda document: set_threshold(document, drag.value))
        else:
            drag.value = self._dragged_to(x, _free(event))
            self._session.preview(lambda document: move_cut(document, drag.cut_id, round(drag.value)))

    def _dragged_to(self, x: float, free: bool) -> float:
        document = self._session.document
        at = self._axis.sample(x)
        if document is None or free:
            return at
        near = attack_near(document.attacks, round(at), round(SNAP_POINTS * self._axis.samples_per_point))
        return float(near.cut_sample) if near else at

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        drag, self._drag = self._drag, None
        if drag is None:
            return
        if drag.kind == "threshold":
            self._session.edit("set threshold", lambda document: set_threshold(document, drag.value))
        else:
            self._session.edit("move cut", lambda document: move_cut(document, drag.cut_id, round(drag.value)))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        if event.key() == Qt.Key.Key_Escape and self._drag is not None:
            self._drag = None
            self._session.drop_preview()
        else:
            super().keyPressEvent(event)


def paint_beats(painter: QPainter, document: Document, axis: TimeAxis, top: float, bottom: float) -> None:
    """Draw bar and beat lines over a picture, with their numbers above."""
    meter = document.loop.meter
    beat_map = document.beat_map
    beats = document.loop.beats
    width = (axis.x(beat_map.sample_at(1.0)) - axis.x(beat_map.sample_at(0.0))) or 1.0
    every = next((n for n in (1, meter.beats_per_bar, 4 * meter.beats_per_bar) if n * width >= 30.0), 16 * meter.beats_per_bar)
    for beat in range(0, beats + 1, every):
        x = axis.x(beat_map.sample_at(float(beat)))
        if not axis.left - 1.0 <= x <= axis.left + axis.width + 1.0:
            continue
        bar, within = divmod(beat, meter.beats_per_bar)
        painter.setPen(QPen(theme().colour("line" if within == 0 else "faint_line"), 1.0))
        painter.drawLine(QPointF(x, top), QPointF(x, bottom))
        if beat < beats:
            painter.setFont(theme().font(14, weight=600 if within == 0 else 400))
            painter.setPen(theme().colour("paper" if within == 0 else "dim"))
            text = f"{bar + 1}" if within == 0 else f"{bar + 1}.{within + 1}"
            painter.drawText(QRectF(x + 2.0, top - 21.0, 60.0, 18.0), Qt.AlignmentFlag.AlignLeft, text)


def nudge_samples(session: Session, ms: float) -> int:
    """Return a step in milliseconds as samples of the session's sound."""
    return ms_to_samples(ms, session.clip.sample_rate) if session.clip else 0


def _free(event: QMouseEvent) -> bool:
    return bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)


def _gain(summary: WaveSummary) -> float:
    peak = float(abs(summary.levels[-1]).max()) if summary.levels else 1.0
    return 1.0 / max(peak, 0.05)
