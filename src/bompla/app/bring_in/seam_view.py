"""The seam: the loop's last and first sound side by side, to be zoomed to its samples and dragged on either side."""

from __future__ import annotations

from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.gesture import GestureWidget
from bompla.app.ui.raster import wave_pixmap
from bompla.audio.clip import Clip
from bompla.audio.summary import WaveSummary
from bompla.model.cut_edits import move_ends
from bompla.model.document import Document
from bompla.model.loop import Loop
from bompla.render.seam import seamless

SEAM_MS = 40.0
LEAST_MS, MOST_MS = 0.6, 400.0
DOTS_BELOW_MS = 4.0
TOP, BOTTOM = 30.0, 10.0


class SeamView(GestureWidget):
    """Shows so many milliseconds before the loop's end and after its start.

    Dragging the left side moves the end, dragging the right side the start; the wheel zooms.
    """

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.shown_ms = SEAM_MS
        self.setAccessibleName("Seam: where the end meets the start")
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        session.store.document_changed.connect(lambda _: self.update())
        theme().changed.connect(self.update)

    @property
    def samples_per_point(self) -> float:
        """How much sound a point across stands for."""
        clip = self._session.project.clip
        return self.shown_ms / 1000.0 * (clip.sample_rate if clip else 44_100) / max(1.0, self.width() / 2.0)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document, clip = self._session.store.document, self._session.project.clip
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme().colour("sunk"))
        if document is None or clip is None:
            return
        half = self.width() / 2.0
        frames = max(4, round(self.shown_ms / 1000.0 * clip.sample_rate))
        for left, part in ((0.0, _ending(clip, document.loop, frames)), (half, _beginning(clip, document.loop, frames))):
            area = QRectF(left, TOP, half, self.height() - TOP - BOTTOM)
            if self.shown_ms <= DOTS_BELOW_MS:
                self._paint_samples(painter, part, area, frames)
            else:
                summary = WaveSummary.of(part)
                gain = 1.0 / max(float(abs(seam_peak(clip, document))), 0.05)
                pixmap = wave_pixmap(summary, part.frames - frames if left == 0.0 else 0.0, part.frames if left == 0.0 else float(frames),
                                     round(half), round(area.height()), theme().colour("paper"), ratio=self.devicePixelRatioF(), gain=gain)
                painter.drawPixmap(area.topLeft(), pixmap)
        painter.setPen(QPen(theme().colour("paper"), 2.0))
        painter.drawLine(QPointF(half, 8.0), QPointF(half, self.height() - 8.0))
        painter.setFont(theme().font(14, weight=400))
        painter.setPen(theme().colour("dim"))
        text = f"{self.shown_ms:.0f} ms" if self.shown_ms >= 2.0 else f"{self.shown_ms:.1f} ms"
        painter.drawText(QPointF(12.0, 20.0), f"last {text}")
        painter.drawText(QRectF(half, 6.0, half - 12.0, 20.0), Qt.AlignmentFlag.AlignRight, f"first {text}")

    def _paint_samples(self, painter: QPainter, part: Clip, area: QRectF, frames: int) -> None:
        """Draw each sample as a dot on a line."""
        ending = area.left() == 0.0
        sound = part.mono[-frames:] if ending else part.mono[:frames]
        scale = 0.45 * area.height() / max(float(abs(sound).max(initial=0.0)), 0.02)
        step = area.width() / frames
        first = area.right() - step * len(sound) if ending else area.left()
        points = [QPointF(first + n * step, area.center().y() - scale * float(v)) for n, v in enumerate(sound)]
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme().colour("dim"), 1.0))
        painter.drawPolyline(QPolygonF(points))
        if step >= 4.0:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme().colour("paper"))
            for point in points:
                painter.drawEllipse(point, 2.2, 2.2)

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        self.zoom(0.8 ** (event.angleDelta().y() / 120.0))
        event.accept()

    def zoom(self, factor: float) -> None:
        """Show more or less of the sound; a factor under 1 shows less, larger."""
        self.shown_ms = max(LEAST_MS, min(MOST_MS, self.shown_ms * factor))
        self.update()

    def press(self, event: QMouseEvent) -> tuple[str, float, Loop] | None:
        """Begin to drag a side; the gesture is which, where it was taken hold of, and the loop before."""
        document = self._session.store.document
        if document is None or event.button() != Qt.MouseButton.LeftButton:
            return None
        x = event.position().x()
        return "end" if x < self.width() / 2.0 else "start", x, document.loop

    def drag(self, gesture: tuple[str, float, Loop], event: QMouseEvent) -> None:
        """Let the sound follow the pointer."""
        wanted = self._wanted(gesture, event.position().x())
        if wanted is not None:
            self._session.store.preview(lambda document: move_ends(document, wanted.start_sample, wanted.end_sample))

    def commit(self, gesture: tuple[str, float, Loop], event: QMouseEvent) -> None:
        """Keep the loop."""
        wanted = self._wanted(gesture, event.position().x())
        if wanted is not None:
            self._session.store.edit(f"move loop {gesture[0]} at the seam",
                                     lambda document: move_ends(document, wanted.start_sample, wanted.end_sample))
        else:
            self._session.store.drop_preview()

    def cancel(self, gesture: tuple[str, float, Loop]) -> None:
        """Show the loop as it was."""
        self._session.store.drop_preview()

    def _wanted(self, gesture: tuple[str, float, Loop], x: float) -> Loop | None:
        """Return the loop that the drag stands for: the sound follows the pointer."""
        document, (side, start_x, loop) = self._session.store.document, gesture
        if document is None or abs(x - start_x) < 1.0:
            return None
        by = -round((x - start_x) * self.samples_per_point)
        if side == "end":
            end = max(loop.start_sample + 64, min(document.source.frames, loop.end_sample + by))
            return replace(loop, end_sample=end)
        return replace(loop, start_sample=max(0, min(loop.end_sample - 64, loop.start_sample + by)))


def seam_peak(clip: Clip, document: Document) -> float:
    """Return the loudest sample of the loop."""
    part = clip.samples[document.loop.start_sample : document.loop.end_sample]
    return max(float(part.max(initial=0.0)), -float(part.min(initial=0.0)))


def _ending(clip: Clip, loop: Loop, frames: int) -> Clip:
    """Return the last samples of the loop as they sound, with the blend."""
    if loop.fade_ms > 0.0:
        return Clip(seamless(clip, loop)[-min(frames, loop.frames) :], clip.sample_rate)
    return clip.part(max(loop.start_sample, loop.end_sample - frames), loop.end_sample)


def _beginning(clip: Clip, loop: Loop, frames: int) -> Clip:
    return clip.part(loop.start_sample, min(loop.end_sample, loop.start_sample + frames))
