"""The pictures of the Bring in stage: the whole file with the loop on it, and the seam."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.session import Session
from bompla.app.theme import theme
from bompla.app.widgets.picture import RULER, SoundPicture
from bompla.app.widgets.raster import wave_pixmap
from bompla.model.cut_edits import attack_near, set_loop
from bompla.model.document import Document, Loop
from bompla.units import samples_to_ms, samples_to_s

GRAB = 6.0
SNAP_POINTS = 8.0
SEAM_MS = 40.0


class Overview(SoundPicture):
    """Shows the whole file. The loop's handles are dragged, its end by whole bars; inside, the loop slides."""

    sought = pyqtSignal(float)

    left_margin, right_margin = 10, 10
    playhead_role = "paper"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "The whole file and the loop on it", parent)
        self._grip = ""
        self._from = 0.0
        self._before: Loop | None = None
        self._wanted: Loop | None = None
        self.setMouseTracking(True)
        self.setMinimumHeight(170)
        session.document_changed.connect(self.redraw)

    def limits(self) -> tuple[float, float]:
        """Return the first and last sample that can be shown: the whole file's."""
        document = self._session.document
        return (0.0, float(document.source.frames)) if document else (0.0, 1.0)

    def paint_still(self, painter: QPainter, document: Document, ratio: float) -> None:
        """Draw the file, and the loop with its handles."""
        axis, summary = self._axis, self._session.summary
        assert summary is not None
        loop = document.loop
        self._paint_times(painter, document.source.sample_rate)
        height = self.height() - RULER - 6
        gain = 1.0 / max(float(abs(summary.levels[-1]).max()), 0.05)
        x0, x1 = axis.x(loop.start_sample), axis.x(loop.end_sample)
        painter.fillRect(QRectF(x0, RULER, x1 - x0, self.height() - RULER), theme().colour("signal", 0.16))
        for role, left, right in (("dim", axis.left, x0), ("paper", x0, x1), ("dim", x1, axis.left + axis.width)):
            colour = theme().colour(role, 0.65 if role == "dim" else 1.0)
            wave = wave_pixmap(summary, axis.start, axis.end, round(axis.width), height, colour, ratio=ratio, gain=gain)
            painter.save()
            painter.setClipRect(QRectF(left, 0, max(0.0, right - left), self.height()))
            painter.drawPixmap(QPointF(axis.left, RULER + 3.0), wave)
            painter.restore()
        painter.setPen(QPen(theme().colour("signal"), 2.0))
        for x in (x0, x1):
            painter.drawLine(QPointF(x, RULER - 4), QPointF(x, self.height()))
            painter.fillRect(QRectF(x - 4.0, RULER - 6.0, 8.0, 8.0), theme().colour("signal"))

    def _paint_times(self, painter: QPainter, rate: int) -> None:
        span_s = (self._axis.end - self._axis.start) / rate
        step = next((s for s in (0.1, 0.25, 0.5, 1, 2, 5, 10, 30, 60, 300, 600) if s / span_s * self._axis.width >= 62.0), 1800)
        painter.setFont(theme().font(14, weight=400))
        index = int(self._axis.start / rate / step)
        while (at := index * step) * rate <= self._axis.end:
            x = self._axis.x(at * rate)
            painter.setPen(QPen(theme().colour("faint_line"), 1.0))
            painter.drawLine(QPointF(x, RULER), QPointF(x, self.height()))
            painter.setPen(theme().colour("dim"))
            painter.drawText(QPointF(x + 3.0, 17.0), clock(at, step < 1))
            index += 1

    def _grip_at(self, x: float) -> str:
        document = self._session.document
        if document is None:
            return ""
        x0, x1 = self._axis.x(document.loop.start_sample), self._axis.x(document.loop.end_sample)
        if min(abs(x - x0), abs(x - x1)) <= GRAB:
            return "start" if abs(x - x0) < abs(x - x1) else "end"
        return "loop" if x0 < x < x1 else ""

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        document = self._session.document
        if document is None or event.button() != Qt.MouseButton.LeftButton:
            return
        x = event.position().x()
        if event.position().y() < RULER - 6:
            self.sought.emit(self._axis.sample(x))
            return
        self._grip, self._from = self._grip_at(x), x
        self._before, self._wanted = document.loop, None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        x = event.position().x()
        if not self._grip or self._before is None:
            grip = self._grip_at(x)
            shapes = {"": Qt.CursorShape.ArrowCursor, "loop": Qt.CursorShape.OpenHandCursor}
            self.setCursor(shapes.get(grip, Qt.CursorShape.SizeHorCursor))
            return
        if abs(x - self._from) < 3.0 and self._wanted is None:
            return
        free = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        wanted = self._dragged(self._before, x, free)
        if wanted is not None:
            self._wanted = wanted
            self._session.preview(lambda document: set_loop(document, wanted))

    def _dragged(self, loop: Loop, x: float, free: bool) -> Loop | None:
        """Return the loop that a drag stands for: the end keeps whole bars, unless Alt frees it."""
        document = self._session.document
        if document is None:
            return None
        frames = document.source.frames
        by = (x - self._from) * self._axis.samples_per_point
        bar = loop.frames / loop.bars
        if self._grip == "end":
            if free:
                end = round(loop.end_sample + by)
                bars = loop.bars
            else:
                most = int((frames - loop.start_sample) / bar + 1e-6)
                bars = max(1, min(round((loop.frames + by) / bar), max(1, most)))
                end = round(loop.start_sample + bars * bar)
            end = min(end, frames)
            return Loop(loop.start_sample, end, bars, loop.meter_name) if end > loop.start_sample + 64 else None
        start = loop.start_sample + by
        if not free:
            near = attack_near(document.attacks, round(start), round(SNAP_POINTS * self._axis.samples_per_point))
            start = near.cut_sample if near else start
        if self._grip == "loop":
            start = max(0.0, min(start, frames - loop.frames))
            return Loop(round(start), round(start) + loop.frames, loop.bars, loop.meter_name)
        start = max(0.0, start)
        return Loop(round(start), loop.end_sample, loop.bars, loop.meter_name) if start < loop.end_sample - 64 else None

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        wanted, grip = self._wanted, self._grip
        self._grip, self._wanted, self._before = "", None, None
        if wanted is not None:
            label = {"start": "move loop start", "end": "move loop end"}.get(grip, "slide loop")
            self._session.edit(label, lambda document: set_loop(document, wanted))


class SeamView(QWidget):
    """Shows how the loop's end meets its start: the last and the first 40 ms side by side."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setAccessibleName("Seam: the end meets the start")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        session.document_changed.connect(lambda _: self.update())
        theme().changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document, summary = self._session.document, self._session.summary
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme().colour("sunk"))
        if document is None or summary is None:
            return
        loop = document.loop
        frames = SEAM_MS / 1000.0 * document.source.sample_rate
        half = self.width() / 2.0
        gain = 1.0 / max(float(abs(summary.levels[-1]).max()), 0.05)
        for left, start in ((0.0, loop.end_sample - frames), (half, float(loop.start_sample))):
            pixmap = wave_pixmap(summary, start, start + frames, round(half), self.height() - 40, theme().colour("paper"),
                                 ratio=self.devicePixelRatioF(), gain=gain)
            painter.drawPixmap(QPointF(left, 30.0), pixmap)
        painter.setPen(QPen(theme().colour("signal"), 2.0))
        painter.drawLine(QPointF(half, 8.0), QPointF(half, self.height() - 8.0))
        painter.setFont(theme().font(14, weight=400))
        painter.setPen(theme().colour("dim"))
        painter.drawText(QPointF(12.0, 20.0), "last 40 ms")
        painter.drawText(QRectF(half, 6.0, half - 12.0, 20.0), Qt.AlignmentFlag.AlignRight, "first 40 ms")


def seam_words(document: Document) -> tuple[str, bool]:
    """Return how well the loop starts and ends, in words, and whether it is well."""
    rate = document.source.sample_rate
    loop = document.loop
    near = attack_near([a for a in document.attacks if a.strength >= document.threshold], loop.start_sample, round(0.06 * rate))
    if near is None:
        return "starts without an attack", False
    early_ms = samples_to_ms(near.at_sample - loop.start_sample, rate)
    if abs(early_ms) <= 2.0:
        return f"starts on its attack ({early_ms:+.1f} ms)", True
    where = "before" if early_ms > 0 else "after"
    return f"starts {abs(early_ms):.0f} ms {where} its attack", False


def clock(seconds: float, fine: bool = True) -> str:
    """Return a time as minutes and seconds, with milliseconds if `fine`."""
    minutes, rest = divmod(seconds, 60.0)
    return f"{int(minutes)}:{rest:06.3f}" if fine else f"{int(minutes)}:{int(rest):02d}"


def clock_of(sample: int, rate: int) -> str:
    """Return a place in a sound as minutes, seconds and milliseconds."""
    return clock(samples_to_s(sample, rate))
