"""What the pictures of sound share: a stretch of time, a drawing that is kept, a playhead, zoom and scroll."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.gesture import GestureWidget
from bompla.app.ui.time_axis import MIN_SAMPLES, TimeAxis
from bompla.model.document import Document
from bompla.model.drums import Meter
from bompla.model.loop import whole_beats

RULER = 24
SCROLL_SHARE = 0.1
TEXT_WIDTH = 64
"""How far a number on the ruler may reach into what stands beside it."""


class SoundPicture(GestureWidget):
    """A picture over time. All that stands still is drawn once, what lies over it once a change; a frame is a blit and the playhead.

    The wheel zooms about the pointer, with Shift it scrolls.
    """

    view_changed = pyqtSignal()
    """Another stretch is shown, or another sound."""

    left_margin, right_margin = 0, 8
    playhead_role = "signal"
    slides = False
    """Whether all that `paint_still` draws is placed by the axis, so that a scroll can keep it."""

    def __init__(self, session: Session, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._axis = TimeAxis(0.0, 1.0, self.left_margin, 100.0)
        self._still: QPixmap | None = None
        self._over: QPixmap | None = None
        self._spare: QPixmap | None = None
        self._playhead = -1.0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        session.project.sound_changed.connect(self.show_all)
        theme().changed.connect(self.redraw)

    @property
    def axis(self) -> TimeAxis:
        """What stretch of sound is shown where."""
        return self._axis

    def limits(self) -> tuple[float, float]:
        """Return the first and last sample that can be shown: the loop's."""
        document = self._session.store.document
        return (float(document.loop.start_sample), float(document.loop.end_sample)) if document else (0.0, 1.0)

    def paint_still(self, painter: QPainter, document: Document, ratio: float) -> None:
        """Draw what stands still, at a pixel ratio."""

    def paint_over(self, painter: QPainter, document: Document) -> None:
        """Draw what changes while a gesture goes on; kept until `redraw_over`."""

    def paint_live(self, painter: QPainter, document: Document) -> None:
        """Draw what changes as it plays; quick, as every frame draws it."""

    def playhead_bottom(self) -> float:
        """Return how far down the playhead reaches."""
        return float(self.height())

    def show_all(self) -> None:
        """Show everything there is."""
        first, last = self.limits()
        self._axis = TimeAxis(first, last, self.left_margin, self._room())
        self.redraw()

    def show_span(self, first: float, last: float) -> None:
        """Show a stretch of samples, held inside what there is and no shorter than can be drawn."""
        low, high = self.limits()
        span = min(max(MIN_SAMPLES, last - first), high - low)
        before = self._axis
        self._axis = replace(self._axis, start=first, end=first + span).kept_inside(low, high)
        if self._axis != before:
            self.redraw()

    def zoom(self, factor: float) -> None:
        """Zoom about the middle; a factor under 1 shows less, larger."""
        self._zoom(factor, self._axis.left + self._axis.width / 2.0)

    def scroll_by(self, by_samples: float) -> None:
        """Move along by so much sound, in whole points, so that what is drawn already can be kept."""
        before = self._axis
        points = round(by_samples / before.samples_per_point) or (1 if by_samples > 0 else -1)
        self._axis = before.moved(points * before.samples_per_point, *self.limits())
        moved = (self._axis.start - before.start) / before.samples_per_point
        if abs(moved - round(moved)) < 1e-3 and abs(moved) < 0.8 * before.width and self._slide(round(moved)):
            self.redraw_over()
            self.view_changed.emit()
        else:
            self.redraw()

    def set_playhead(self, at_sample: float) -> None:
        """Move the playhead; only the strips that changed are drawn."""
        before, self._playhead = self._axis.x(self._playhead), at_sample
        for x in (before, self._axis.x(at_sample)):
            if self._axis.left - 4.0 <= x <= self.width():
                self.update(int(x) - 3, 0, 7, self.height())

    def redraw(self, _changed: object = None) -> None:
        """Draw everything anew."""
        self._still = None
        self.redraw_over()
        self.view_changed.emit()

    def redraw_over(self, _changed: object = None) -> None:
        """Draw anew what lies over the still picture."""
        self._spare, self._over = self._over or self._spare, None
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document = self._session.store.document
        if document is None or self._session.project.summary is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._still is None:
            self._still = self._painted(document)
        if self._over is None:
            self._over = self._painted_over(document, self._still)
        painter.drawPixmap(0, 0, self._over)
        self.paint_live(painter, document)
        x = self._axis.x(self._playhead)
        if self._axis.left <= x <= self._axis.left + self._axis.width:
            painter.setPen(QPen(theme().colour(self.playhead_role), 2.0))
            painter.drawLine(QPointF(x, RULER), QPointF(x, self.playhead_bottom()))

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802  # Qt's name
        self._axis = replace(self._axis, width=self._room())
        self.redraw()

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        turn = event.angleDelta()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or abs(turn.x()) > abs(turn.y()):
            by = (turn.x() or turn.y()) / 120.0
            self.scroll_by(-SCROLL_SHARE * by * (self._axis.end - self._axis.start))
        else:
            self._zoom(0.8 ** (turn.y() / 120.0), event.position().x())
        event.accept()

    def _zoom(self, factor: float, about_x: float) -> None:
        self._axis = self._axis.zoomed(factor, about_x, *self.limits())
        self.redraw()

    def _slide(self, points: int) -> bool:
        """Move the still picture by so many points and draw only what comes into view; False where that cannot be."""
        document, still, axis = self._session.store.document, self._still, self._axis
        if not self.slides or still is None or document is None or self.devicePixelRatioF() != 1.0:
            return False
        left, right = round(axis.left), round(axis.left + axis.width)
        still.scroll(-points, 0, left, 0, right - left, still.height())
        first, last = (right - points - TEXT_WIDTH, right) if points > 0 else (left, left - points + TEXT_WIDTH)
        first, last = max(left, first), min(right, last)
        self._axis = TimeAxis(axis.sample(first), axis.sample(last), first, last - first)
        painter = QPainter(still)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setClipRect(first, 0, last - first, still.height())
        painter.fillRect(first, 0, last - first, still.height(), theme().colour("panel"))
        self.paint_still(painter, document, 1.0)
        painter.end()
        self._axis = axis
        return True

    def _room(self) -> float:
        return float(max(1, self.width() - self.left_margin - self.right_margin))

    def _painted_over(self, document: Document, still: QPixmap) -> QPixmap:
        pixmap, self._spare = self._spare, None  # memory that is there already costs no page faults
        if pixmap is None or pixmap.size() != still.size():
            pixmap = QPixmap(still.size())
        pixmap.setDevicePixelRatio(still.devicePixelRatio())
        painter = QPainter(pixmap)
        painter.drawPixmap(0, 0, still)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.paint_over(painter, document)
        painter.end()
        return pixmap

    def _painted(self, document: Document) -> QPixmap:
        ratio = self.devicePixelRatioF()
        pixmap = QPixmap(round(self.width() * ratio), round(self.height() * ratio))
        pixmap.setDevicePixelRatio(ratio)
        pixmap.fill(theme().colour("panel"))
        painter = QPainter(pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.paint_still(painter, document, ratio)
        painter.end()
        return pixmap


def paint_beats(painter: QPainter, document: Document, axis: TimeAxis, top: float, bottom: float, beats: float = 0.0,
                meter: Meter | None = None) -> None:
    """Draw the bar and beat lines in view over a picture, of the loop or of so many beats of a meter, with their numbers above."""
    meter = meter or document.loop.meter
    beat_map = document.beat_map
    length = beats or document.loop.length_beats
    width = (axis.x(beat_map.sample_at(1.0)) - axis.x(beat_map.sample_at(0.0))) or 1.0
    per_bar = meter.beats_per_bar
    every = next((n for n in (1, per_bar, 4 * per_bar, 16 * per_bar) if n * width >= 30.0), 64 * per_bar)
    first = max(0, int(beat_map.beat_at(axis.start) / every) * every)
    last = min(whole_beats(length), int(beat_map.beat_at(axis.end)) + every)
    shown = np.arange(first, last + 1, every)
    for beat, at in zip(shown.tolist(), beat_map.samples_at(shown.astype(float)).tolist(), strict=True):
        x = axis.x(at)
        if not axis.left - 1.0 <= x <= axis.left + axis.width + 1.0:
            continue
        bar, within = divmod(beat, per_bar)
        painter.setPen(QPen(theme().colour("line" if within == 0 else "faint_line"), 1.0))
        painter.drawLine(QPointF(x, top), QPointF(x, bottom))
        if beat < length:
            painter.setFont(theme().font(14, weight=600 if within == 0 else 400))
            painter.setPen(theme().colour("paper" if within == 0 else "dim"))
            text = f"{bar + 1}" if within == 0 else f"{bar + 1}.{within + 1}"
            painter.drawText(QRectF(x + 2.0, top - 21.0, 60.0, 18.0), Qt.AlignmentFlag.AlignLeft, text)
