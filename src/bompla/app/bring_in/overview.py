"""The whole file with the loop on it, and how clear its drums are bar by bar."""

from __future__ import annotations

from dataclasses import dataclass

from msgspec.structs import replace
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from bompla.analysis.loop.passages import Bars, Proposal
from bompla.analysis.tempo.drift import Drift
from bompla.app.bring_in.proposal_row import BOX, GAP, Box, boxes_of, paint_boxes, same_place
from bompla.app.project.session import Session
from bompla.app.sound_picture import RULER, SoundPicture
from bompla.app.theme import theme
from bompla.app.ui.raster import wave_pixmap
from bompla.app.ui.time_axis import TimeAxis
from bompla.model.cut_edits import attack_near, move_ends
from bompla.model.document import Document
from bompla.model.loop import Loop
from bompla.model.wording import in_bars
from bompla.render.seam import zero_crossing
from bompla.units import samples_to_s

GRAB, HEAD = 6.0, 8.0
"""How near a handle can be taken hold of inside the loop, and how wide its head is, outside."""

SNAP_POINTS = 8.0
CLARITY_HEIGHT, CLARITY_LABEL = 40.0, 18.0
SNAPS = (("attack", "attacks"), ("beat", "beats"), ("zero", "zero crossings"), ("nothing", "nothing"))
"""What the loop's handles snap to."""

STEPS_S = (0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 30, 60, 300, 600, 1800)
"""How far apart times on the ruler may be."""

STRETCH, REST_DB = 17.0, -30.0
"""How tall the band of stretches is, and by how much softer than the loudest a rest between them is."""

LEAST_REST_S = 1.0
"""From which length on what lies between stretches is named."""

TOOLS = 215
"""How much of the ruler's end the zoom buttons take."""

TWO_ROWS = 210
"""From which height on suggested loops have two rows."""

CLEAR = 0.35
"""Bars at least this clear are drawn as worth taking."""


@dataclass
class _Drag:
    grip: str
    x: float
    before: Loop
    wanted: Loop | None = None


class Overview(SoundPicture):
    """Shows the whole file. The loop's handles are dragged, its end by whole bars; inside, the loop slides."""

    sought = pyqtSignal(float)
    bar_chosen = pyqtSignal(int)
    picked = pyqtSignal(float)
    proposal_heard = pyqtSignal(int)
    proposal_taken = pyqtSignal(int)
    stretch_chosen = pyqtSignal(object)

    left_margin, right_margin = 10, 10
    playhead_role = "paper"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Whole file with the loop", parent)
        self.snap = SNAPS[0][0]
        self.locked = False
        self.picking = False
        """Whether the next click picks a place, which `picked` carries, -1 where Escape gave it up."""
        self.setMouseTracking(True)
        self.setMinimumHeight(170)
        self._bars: Bars | None = None
        self._tempo_line: Drift | None = None
        self._proposals: tuple[Proposal, ...] = ()
        self._boxes: list[Box] = []
        self._marked = -1
        session.store.document_changed.connect(self.redraw)
        session.store.document_changed.connect(self._tell)

    def _tell(self, document: Document) -> None:
        """Say where the loop is to who does not see it."""
        loop, rate = document.loop, document.source.sample_rate
        self.setAccessibleDescription(f"loop from {clock_of(loop.start_sample, rate)} to {clock_of(loop.end_sample, rate)}, "
                                      f"{in_bars(loop.length_beats, loop.meter)} of {loop.meter_name} at {document.bpm:.2f} BPM")

    def show_bars(self, bars: Bars | None, drift: Drift | None) -> None:
        """Show how clear the drums are in each bar, and the tempo where it drifts."""
        self._bars, self._tempo_line = bars, drift
        self.redraw()

    def show_proposals(self, proposals: tuple[Proposal, ...]) -> None:
        """Show loops that are worth taking, the best first, as boxes under the sound."""
        if proposals != self._proposals:
            self._proposals, self._marked = proposals, -1
            self.redraw()

    def mark_proposal(self, index: int) -> None:
        """Mark one of the suggested loops, or none at -1: the one under the pointer, or the one that is heard."""
        if index != self._marked:
            self._marked = index
            self.redraw_over()

    def bar_at(self, x: float, y: float) -> int:
        """Return the bar whose column is at a place, -1 for none."""
        bars = self._bars
        if bars is None or y < self.height() - CLARITY_HEIGHT:
            return -1
        at = self._axis.sample(x)
        index = int((bars.starts <= at).sum()) - 1
        return index if 0 <= index < len(bars.clarity) else -1

    def playhead_bottom(self) -> float:
        """Return how far down the playhead reaches: over the sound only."""
        return self._sound_bottom()

    def _sound_bottom(self) -> float:
        rows = self._rows()
        return self._clarity_top() - (rows * (BOX + GAP) + GAP if rows else 0.0)

    def _clarity_top(self) -> float:
        return self.height() - (CLARITY_HEIGHT + CLARITY_LABEL if self._bars is not None else 0.0)

    def _rows(self) -> int:
        """Return how many rows of suggested loops there are: none where the loop is all there is to suggest."""
        if len(self._proposals) < 2:
            return 0
        return 2 if self.height() >= TWO_ROWS else 1

    def limits(self) -> tuple[float, float]:
        """Return the first and last sample that can be shown: the whole file's."""
        document = self._session.store.document
        return (0.0, float(document.source.frames)) if document else (0.0, 1.0)

    def paint_still(self, painter: QPainter, document: Document, ratio: float) -> None:
        """Draw the file, and the loop with its handles."""
        axis, summary = self._axis, self._session.project.summary
        assert summary is not None
        loop = document.loop
        bottom = self._sound_bottom()
        paint_times(painter, axis, document.source.sample_rate, bottom, self.width() - TOOLS)
        height = round(bottom - RULER - 6)
        gain = summary.gain
        x0, x1 = axis.x(loop.start_sample), axis.x(loop.end_sample)
        shade = QRectF(x0, RULER, x1 - x0, bottom - RULER).intersected(QRectF(axis.left, 0.0, axis.width, bottom))
        painter.fillRect(shade, theme().colour("paper", 0.12))
        waves = {
            role: wave_pixmap(summary, axis.start, axis.end, round(axis.width), height, theme().colour(role, alpha), ratio=ratio, gain=gain)
            for role, alpha in (("dim", 0.65), ("paper", 1.0))
        }
        for role, left, right in (("dim", axis.left, x0), ("paper", x0, x1), ("dim", x1, axis.left + axis.width)):
            wave = waves[role]
            painter.save()
            painter.setClipRect(QRectF(left, 0, max(0.0, right - left), bottom))
            painter.drawPixmap(QPointF(axis.left, RULER + 3.0), wave)
            painter.restore()
        painter.setPen(QPen(theme().colour("paper"), 2.0))
        for x, left in ((x0, x0 - HEAD), (x1, x1)):  # heads point outward: apart even where the loop is a few points wide
            painter.drawLine(QPointF(x, RULER - 4), QPointF(x, bottom))
            painter.fillRect(QRectF(left, RULER - 6.0, HEAD, 8.0), theme().colour("paper"))

        if len(document.stretches) > 1:
            self._paint_stretches(painter, document)
        else:
            self._paint_drift(painter, bottom)
        self._boxes = boxes_of(self._proposals, axis, bottom + GAP, self._rows())
        self._paint_clarity(painter)

    def paint_over(self, painter: QPainter, document: Document) -> None:
        """Draw the suggested loops, of which one may be marked on the sound too."""
        rate = document.source.sample_rate
        current = next((n for n, one in enumerate(self._proposals) if same_place(one.loop, document.loop, rate)), -1)
        paint_boxes(painter, self._boxes, self._proposals, current=current, marked=self._marked)
        if 0 <= self._marked < len(self._proposals) and self._marked != current:
            loop = self._proposals[self._marked].loop
            x0, x1 = self._axis.x(loop.start_sample), self._axis.x(loop.end_sample)
            painter.setPen(QPen(theme().colour("paper"), 1.2, Qt.PenStyle.DashLine))
            painter.setBrush(theme().colour("paper", 0.08))
            painter.drawRect(QRectF(x0, RULER, x1 - x0, self._sound_bottom() - RULER))

    def _paint_clarity(self, painter: QPainter) -> None:
        bars = self._bars
        if bars is None:
            return
        top, axis = self.height() - CLARITY_HEIGHT, self._axis
        painter.setFont(theme().font(13, weight=400))
        painter.setPen(theme().colour("dim"))
        painter.drawText(QPointF(axis.left, top - 5.0), "drum clarity by bar")
        painter.setPen(Qt.PenStyle.NoPen)
        for index, clarity in enumerate(bars.clarity):
            x0, x1 = axis.x(float(bars.starts[index])), axis.x(float(bars.starts[index + 1]))
            if x1 < axis.left or x0 > axis.left + axis.width:
                continue
            x0, x1 = max(x0, axis.left), min(x1, axis.left + axis.width)
            height = max(1.0, float(clarity) * (CLARITY_HEIGHT - 3.0))
            gap = 1.0 if x1 - x0 > 4.0 else 0.0
            colour = theme().colour("good" if clarity >= CLEAR else "line")
            painter.fillRect(QRectF(x0 + gap, self.height() - height, max(0.5, x1 - x0 - 2.0 * gap), height), colour)

    def _paint_stretches(self, painter: QPainter, document: Document) -> None:
        """Draw the parts of a recording with their tempo, and a mark at each loop that is proposed in them."""
        axis = self._axis
        painter.setFont(theme().font(13, weight=500))
        for one in document.stretches:
            x0, x1 = max(axis.left, axis.x(one.start_sample)), min(axis.left + axis.width, axis.x(one.end_sample))
            if x1 - x0 < 2.0:
                continue
            own = one.start_sample <= document.loop.start_sample < one.end_sample
            band = QRectF(x0 + 1.0, RULER, x1 - x0 - 2.0, STRETCH)
            painter.fillRect(band, theme().colour("raised", 0.92))
            painter.fillRect(QRectF(band.left(), band.top(), band.width(), 2.0), theme().colour("paper" if own else "line"))
            painter.setPen(theme().colour("paper" if own else "dim"))
            meter = "" if one.meter_name == "4/4" else f", {one.meter_name}"
            ways = (f"{one.bpm:.1f} BPM{meter}", f"{one.bpm:.1f}", f"{one.bpm:.0f}")
            words = next((way for way in ways if painter.fontMetrics().horizontalAdvance(way) <= band.width() - 8.0), "")
            painter.drawText(band.adjusted(5.0, 1.0, 0.0, 0.0), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, words)
        self._paint_between(painter, document)

    def _paint_between(self, painter: QPainter, document: Document) -> None:
        """Say what lies between the stretches: a rest, or sound without drums that could be looped."""
        axis, summary, rate = self._axis, self._session.project.summary, document.source.sample_rate
        assert summary is not None
        edges = [0, *(at for one in document.stretches for at in (one.start_sample, one.end_sample)), document.source.frames]
        loudest = float(abs(summary.levels[-1]).max())
        painter.setFont(theme().font(13, weight=400))
        painter.setPen(theme().colour("dim"))
        for start, end in zip(edges[::2], edges[1::2], strict=True):
            x0, x1 = max(axis.left, axis.x(start)), min(axis.left + axis.width, axis.x(end))
            if end - start < LEAST_REST_S * rate or x1 <= x0:
                continue
            quiet = float(abs(summary.columns(start, end, 1)).max()) < loudest * 10.0 ** (REST_DB / 20.0)
            words = "rest" if quiet else "no drums"
            if painter.fontMetrics().horizontalAdvance(words) <= x1 - x0 - 6.0:
                painter.drawText(QRectF(x0, RULER + 1.0, x1 - x0, STRETCH), Qt.AlignmentFlag.AlignCenter, words)

    def best_of_stretch(self, x: float, y: float) -> Loop | None:
        """Return the best bars of the stretch whose name is at a place, None where there is none."""
        document = self._session.store.document
        if document is None or len(document.stretches) < 2 or not RULER <= y <= RULER + STRETCH:
            return None
        at = self._axis.sample(x)
        inside = next((one for one in document.stretches if one.start_sample <= at < one.end_sample), None)
        if inside is None:
            return None
        return next((one.loop for one in document.proposed if inside.start_sample <= one.loop.start_sample < inside.end_sample), None)

    def proposal_at(self, x: float, y: float) -> int:
        """Return which of the suggested loops has its box at a place, -1 for none."""
        return next((box.index for box in self._boxes if box.area.adjusted(-1.0, -GAP / 2.0, 1.0, GAP / 2.0).contains(x, y)), -1)

    def _paint_drift(self, painter: QPainter, bottom: float) -> None:
        """Draw the tempo over the file where it is not steady."""
        drift = self._tempo_line
        if drift is None or drift.steady or len(drift.bpm) < 2:
            return
        low, high = float(drift.bpm.min()), float(drift.bpm.max())
        top, height = RULER + 16.0, 0.3 * (bottom - RULER)
        xs = [self._axis.x(float(at)) for at in drift.samples]
        ys = [top + height * (high - float(bpm)) / max(high - low, 1e-6) for bpm in drift.bpm]
        painter.setPen(QPen(theme().colour("cymbals"), 1.6))
        painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in zip(xs, ys, strict=True)]))
        painter.setFont(theme().font(13))
        painter.drawText(QPointF(self._axis.left + 6.0, top - 3.0), f"tempo drifts from {low:.1f} to {high:.1f} BPM")

    def _grip_at(self, x: float) -> str:
        document = self._session.store.document
        if document is None:
            return ""
        x0, x1 = self._axis.x(document.loop.start_sample), self._axis.x(document.loop.end_sample)
        near_start, near_end = -HEAD - 1.0 <= x - x0 <= GRAB, -GRAB <= x - x1 <= HEAD + 1.0
        if near_start or near_end:
            return "start" if near_start and (not near_end or abs(x - x0) < abs(x - x1)) else "end"
        return "loop" if x0 < x < x1 else ""

    def press(self, event: QMouseEvent) -> _Drag | None:
        """Seek on the ruler, choose a bar, or take hold of the loop or one of its handles."""
        document = self._session.store.document
        if document is None or event.button() != Qt.MouseButton.LeftButton:
            return None
        x = event.position().x()
        if self.picking:
            self.picking = False
            self.picked.emit(self._axis.sample(x))
            return None
        if event.position().y() < RULER - 6:
            self.sought.emit(self._axis.sample(x))
            return None
        proposal = self.proposal_at(x, event.position().y())
        if proposal >= 0:
            self.proposal_heard.emit(proposal)
            return None
        best = self.best_of_stretch(x, event.position().y())
        if best is not None:
            self.stretch_chosen.emit(best)
            return None
        bar = self.bar_at(x, event.position().y())
        if bar >= 0:
            self.bar_chosen.emit(bar)
            return None
        grip = self._grip_at(x)
        return _Drag(grip, x, document.loop) if grip else None

    def hover(self, event: QMouseEvent) -> None:
        """Show what can be dragged."""
        proposal = -1 if self.picking else self.proposal_at(event.position().x(), event.position().y())
        self.mark_proposal(proposal)
        if proposal >= 0:
            self.setToolTip(self._proposal_tip(proposal))
            self.setCursor(Qt.CursorShape.PointingHandCursor)
            return
        self.setToolTip("Click the hit that is the downbeat" if self.picking else "")
        if self.picking:
            self.setCursor(Qt.CursorShape.CrossCursor)
            return
        shapes = {"": Qt.CursorShape.ArrowCursor, "loop": Qt.CursorShape.OpenHandCursor}
        self.setCursor(shapes.get(self._grip_at(event.position().x()), Qt.CursorShape.SizeHorCursor))

    def _proposal_tip(self, index: int) -> str:
        document, proposed = self._session.store.document, self._proposals[index]
        rate = document.source.sample_rate if document else 1
        bpm = 60.0 * proposed.loop.length_beats * rate / proposed.loop.frames
        return (f"{in_bars(proposed.loop.length_beats, proposed.loop.meter)} at {clock_of(proposed.loop.start_sample, rate)}, {bpm:.1f} BPM"
                f"{': ' if proposed.why else ''}{proposed.why}. A click plays it, a double click uses it.")

    def double_click(self, event: QMouseEvent) -> None:
        """Use the suggested loop that is clicked."""
        proposal = self.proposal_at(event.position().x(), event.position().y())
        if proposal >= 0:
            self.proposal_taken.emit(proposal)

    def leaveEvent(self, _event: QEvent | None) -> None:  # noqa: N802  # Qt's name
        self.mark_proposal(-1)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        if self.picking and event.key() == Qt.Key.Key_Escape:
            self.picking = False
            self.picked.emit(-1.0)
            return
        super().keyPressEvent(event)

    def drag(self, gesture: _Drag, event: QMouseEvent) -> None:
        """Show the loop that the drag stands for."""
        x = event.position().x()
        if abs(x - gesture.x) < 3.0 and gesture.wanted is None:
            return
        free = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        wanted = self._dragged(gesture, x, free)
        if wanted is not None:
            gesture.wanted = wanted
            self._session.store.preview(lambda document: move_ends(document, wanted.start_sample, wanted.end_sample))

    def commit(self, gesture: _Drag, event: QMouseEvent) -> None:
        """Keep the loop."""
        wanted = gesture.wanted
        if wanted is not None:
            label = {"start": "move loop start", "end": "move loop end"}.get(gesture.grip, "slide loop")
            self._session.store.edit(label, lambda document: move_ends(document, wanted.start_sample, wanted.end_sample))

    def cancel(self, gesture: _Drag) -> None:
        """Show the loop as it was."""
        self._session.store.drop_preview()

    def _dragged(self, gesture: _Drag, x: float, free: bool) -> Loop | None:
        """Return the loop that a drag stands for: the end keeps whole bars, unless Alt frees it."""
        document = self._session.store.document
        if document is None:
            return None
        loop, frames = gesture.before, document.source.frames
        by = (x - gesture.x) * self._axis.samples_per_point
        if self.locked and gesture.grip == "end":
            first = max(0, min(round(loop.start_sample + by), frames - loop.frames))
            return replace(loop, start_sample=first, end_sample=first + loop.frames)
        bar = document.beat_frames * loop.meter.beats_per_bar
        if gesture.grip == "end":
            if free or self.snap in ("zero", "nothing"):
                end = round(loop.end_sample + by)
                end = end if free else round(self._snapped(document, end))
            else:
                most = int((frames - loop.start_sample) / bar + 1e-6)
                bars = max(1, min(round((loop.frames + by) / bar), max(1, most)))
                end = round(loop.start_sample + bars * bar)
            end = min(end, frames)
            return replace(loop, end_sample=end) if end > loop.start_sample + 64 else None
        start = loop.start_sample + by
        if not free:
            start = self._snapped(document, start)
        if gesture.grip == "loop" or self.locked:
            start = max(0.0, min(start, frames - loop.frames))
            return replace(loop, start_sample=round(start), end_sample=round(start) + loop.frames)
        start = max(0.0, start)
        return replace(loop, start_sample=round(start)) if start < loop.end_sample - 64 else None

    def _snapped(self, document: Document, at: float) -> float:
        """Return a place drawn to what the handles snap to, if it is near."""
        reach = SNAP_POINTS * self._axis.samples_per_point
        if self.snap == "attack":
            near = attack_near(document.attacks, round(at), round(reach))
            return float(near.cut_sample) if near else at
        if self.snap == "beat":
            step = document.beat_map.sample_at(float(round(document.beat_map.beat_at(at))))
            return float(step) if abs(step - at) <= reach else at
        clip = self._session.project.clip
        if self.snap == "zero" and clip is not None:
            return float(zero_crossing(clip, round(at), round(0.01 * clip.sample_rate)))
        return at


def paint_times(painter: QPainter, axis: TimeAxis, rate: int, bottom: float, words_to: float) -> None:
    """Draw the times in view on the ruler, with a line under each; words only left of a place."""
    span_s = (axis.end - axis.start) / rate
    step = next((s for s in STEPS_S if s / span_s * axis.width >= (62.0 if s >= 1 else 74.0)), STEPS_S[-1])
    painter.setFont(theme().font(14, weight=400))
    index = int(axis.start / rate / step)
    while (at := index * step) * rate <= axis.end:
        x = axis.x(at * rate)
        painter.setPen(QPen(theme().colour("faint_line"), 1.0))
        painter.drawLine(QPointF(x, RULER), QPointF(x, bottom))
        painter.setPen(theme().colour("dim"))
        if x < words_to:
            painter.drawText(QPointF(x + 3.0, 17.0), clock(at, step < 1))
        index += 1


def clock(seconds: float, fine: bool = True) -> str:
    """Return a time as minutes and seconds, with milliseconds if `fine`."""
    minutes, rest = divmod(seconds, 60.0)
    return f"{int(minutes)}:{rest:06.3f}" if fine else f"{int(minutes)}:{int(rest):02d}"


def clock_of(sample: int, rate: int) -> str:
    """Return a place in a sound as minutes, seconds and milliseconds."""
    return clock(samples_to_s(sample, rate))
