"""The pictures on which a pad is shaped: its sound with start, end and fades, its loudness over time, its filter."""

from __future__ import annotations

import numpy as np
from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.gesture import GestureWidget
from bompla.app.ui.raster import wave_pixmap
from bompla.model.document import Layer, Pad
from bompla.model.shape import PLAIN, SHAPE_PARAMS, Shape, clamped
from bompla.render.shaping import response

GRIP, REACH = 7.0, 12.0
SHOWN_MS = 900.0
LOW_HZ, HIGH_HZ = 30.0, 18_000.0
TOP_DB, FLOOR_DB = 18.0, -42.0


class ShapePicture(GestureWidget):
    """What the three pictures share: grips that are dragged, each drag one edit.

    `moved` carries the shape while a grip is dragged, `chosen` when it is let go, `dropped` tells that a drag was given up; a double
    click on a grip brings its values back.
    """

    moved = pyqtSignal(object)
    chosen = pyqtSignal(object)
    dropped = pyqtSignal()

    def __init__(self, name: str, height: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(height)
        self.setAccessibleName(name)
        self.shape = PLAIN
        theme().changed.connect(self.update)
        self.setMouseTracking(True)

    def grips(self) -> dict[str, QPointF]:
        """Return where the grips are."""
        return {}

    def dragged(self, grip: str, x: float, y: float) -> Shape:
        """Return the shape that a grip at a place stands for."""
        raise NotImplementedError

    def reset(self, grip: str) -> Shape:
        """Return the shape with a grip's values as they were at first."""
        raise NotImplementedError

    def show_shape(self, shape: Shape) -> None:
        """Show a shape."""
        if shape != self.shape and self.gesture is None:
            self.shape = shape
            self.update()

    def grip_at(self, x: float, y: float) -> str:
        """Return the grip near a place, "" for none."""
        near = [((p.x() - x) ** 2 + (p.y() - y) ** 2, name) for name, p in self.grips().items()]
        distance, name = min(near, default=(1e9, ""))
        return name if distance <= REACH**2 else ""

    def paint_grips(self, painter: QPainter) -> None:
        """Draw the grips."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().colour("paper"))
        for point in self.grips().values():
            painter.drawRect(QRectF(point.x() - GRIP / 2, point.y() - GRIP / 2, GRIP, GRIP))
        if self.gesture is not None:
            self._paint_numbers(painter, self.gesture[0], self.gesture[1])

    def _paint_numbers(self, painter: QPainter, grip: str, before: Shape) -> None:
        """Say beside the grip that is dragged what it stands for."""
        point = self.grips().get(grip)
        changed = [p for p in SHAPE_PARAMS.values() if getattr(self.shape, p.key) != getattr(before, p.key)]
        if point is None or not changed:
            return
        text = ", ".join(f"{p.label.lower()} {p.in_words(float(getattr(self.shape, p.key)))}" for p in changed[:2])
        painter.setFont(theme().font(13, weight=600))
        wide = painter.fontMetrics().horizontalAdvance(text) + 10.0
        left = min(max(2.0, point.x() + 8.0), self.width() - wide - 2.0)
        box = QRectF(left, 2.0 if point.y() > 24.0 else self.height() - 20.0, wide, 18.0)
        painter.setBrush(theme().colour("paper"))
        painter.drawRoundedRect(box, 2.0, 2.0)
        painter.setPen(theme().colour("ground"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def press(self, event: QMouseEvent) -> tuple[str, Shape] | None:
        """Begin to drag a grip; the gesture is the grip with the shape before."""
        grip = self.grip_at(event.position().x(), event.position().y())
        return (grip, self.shape) if grip and event.button() == Qt.MouseButton.LeftButton else None

    def drag(self, gesture: tuple[str, Shape], event: QMouseEvent) -> None:
        """Let the grip follow the pointer."""
        self.shape = clamped(self.dragged(gesture[0], event.position().x(), event.position().y()))
        self.moved.emit(self.shape)
        self.update()

    def commit(self, gesture: tuple[str, Shape], event: QMouseEvent) -> None:
        """Keep the shape."""
        self.chosen.emit(self.shape)

    def cancel(self, gesture: tuple[str, Shape]) -> None:
        """Take the shape that it had before."""
        self.shape = gesture[1]
        self.dropped.emit()

    def hover(self, event: QMouseEvent) -> None:
        """Show what can be dragged."""
        over = self.grip_at(event.position().x(), event.position().y())
        self.setCursor(Qt.CursorShape.SizeAllCursor if over else Qt.CursorShape.ArrowCursor)

    def double_click(self, event: QMouseEvent) -> None:
        """Bring a grip's values back."""
        grip = self.grip_at(event.position().x(), event.position().y())
        if grip:
            self.shape = self.reset(grip)
            self.chosen.emit(self.shape)


class TrimView(ShapePicture):
    """A slice with its start, its end and its fades; start and end snap to where the sound crosses zero."""

    def __init__(self, session: Session) -> None:
        super().__init__("Start, end and fades of the pad's sound", 88)
        self._session = session
        self._layer = Layer(0, 0, 100, 127)
        self._span = (0, 1)
        self._drum = "perc"

    def show_pad(self, pad: Pad, layer: Layer, span: tuple[int, int]) -> None:
        """Show a stretch of the sound that a pad's layer is a part of."""
        self._layer, self._span, self._drum = layer, span, pad.drum
        self.show_shape(pad.shape)
        self.update()

    @property
    def length_ms(self) -> float:
        """The length of the slice."""
        clip = self._session.project.sound_of(self._layer)
        return 1000.0 * (self._span[1] - self._span[0]) / clip.sample_rate if clip else 1.0

    def _x(self, ms: float) -> float:
        return 6.0 + ms / max(1e-6, self.length_ms) * (self.width() - 12.0)

    def _ms(self, x: float) -> float:
        return (x - 6.0) / max(1.0, self.width() - 12.0) * self.length_ms

    def grips(self) -> dict[str, QPointF]:
        s, length = self.shape, self.length_ms
        return {
            "start": QPointF(self._x(s.start_ms), self.height() - 6.0), "end": QPointF(self._x(length - s.end_ms), self.height() - 6.0),
            "fade in": QPointF(self._x(s.start_ms + s.fade_in_ms), 7.0),
            "fade out": QPointF(self._x(length - s.end_ms - s.fade_out_ms), 7.0),
        }

    def dragged(self, grip: str, x: float, y: float) -> Shape:
        s, length, at = self.shape, self.length_ms, max(0.0, min(self.length_ms, self._ms(x)))
        if grip == "start":
            return replace(s, start_ms=self._crossing(min(at, length - s.end_ms - 2.0)))
        if grip == "end":
            return replace(s, end_ms=length - self._crossing(max(at, s.start_ms + 2.0)))
        if grip == "fade in":
            return replace(s, fade_in_ms=max(0.0, at - s.start_ms))
        return replace(s, fade_out_ms=max(0.0, length - s.end_ms - at))

    def reset(self, grip: str) -> Shape:
        key = {"start": "start_ms", "end": "end_ms", "fade in": "fade_in_ms", "fade out": "fade_out_ms"}[grip]
        return replace(self.shape, **{key: 0.0})

    def _crossing(self, ms: float) -> float:
        """Return the place nearest to one at which the sound crosses zero, within 2 ms."""
        clip = self._session.project.sound_of(self._layer)
        if clip is None or ms <= 0.5 or ms >= self.length_ms - 0.5:
            return max(0.0, ms) if 0.5 < ms < self.length_ms - 0.5 else (0.0 if ms <= 0.5 else self.length_ms)
        at = self._span[0] + round(ms * clip.sample_rate / 1000.0)
        first = max(self._span[0], at - clip.sample_rate // 500)
        sound = clip.mono[first : at + clip.sample_rate // 500]
        places = np.flatnonzero(np.diff(np.signbit(sound))) + first
        if places.size:
            at = int(places[np.abs(places - at).argmin()])
        return 1000.0 * (at - self._span[0]) / clip.sample_rate

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme().colour("sunk"))
        summary = self._session.project.summary_of(self._layer)
        if summary is None:
            return
        peak = float(abs(summary.columns(*self._span, 64)).max())
        wave = wave_pixmap(summary, *self._span, self.width() - 12, self.height() - 14, theme().drum(self._drum),
                           ratio=self.devicePixelRatioF(), gain=min(12.0, 1.0 / max(peak, 1e-3)))
        painter.drawPixmap(6, 7, wave)
        s, length = self.shape, self.length_ms
        for left, right in ((0.0, s.start_ms), (length - s.end_ms, length)):
            if right > left:
                painter.fillRect(QRectF(self._x(left), 0.0, self._x(right) - self._x(left), self.height()), theme().colour("ground", 0.75))
        points = self.grips()
        painter.setPen(QPen(theme().colour("paper"), 1.5))
        painter.drawPolyline(QPolygonF([points["start"], points["fade in"], points["fade out"], points["end"]]))
        self.paint_grips(painter)


class EnvelopeView(ShapePicture):
    """Loudness over time: how it rises, holds, falls and stays."""

    def __init__(self) -> None:
        super().__init__("Loudness over time", 62)

    def _x(self, ms: float) -> float:
        return 8.0 + float((max(0.0, ms) / SHOWN_MS) ** 0.5) * (self.width() - 16.0)

    def _ms(self, x: float) -> float:
        return (max(0.0, x - 8.0) / max(1.0, self.width() - 16.0)) ** 2 * SHOWN_MS

    def _y(self, gain: float) -> float:
        return 8.0 + (1.0 - gain) * (self.height() - 16.0)

    def grips(self) -> dict[str, QPointF]:
        s = self.shape
        fall = s.decay_ms if s.decay_ms > 0.0 else 200.0
        return {
            "attack": QPointF(self._x(s.attack_ms), self._y(1.0)), "hold": QPointF(self._x(s.attack_ms + s.hold_ms), self._y(1.0)),
            "decay": QPointF(self._x(s.attack_ms + s.hold_ms + fall), self._y(s.sustain)),
        }

    def dragged(self, grip: str, x: float, y: float) -> Shape:
        s, at = self.shape, self._ms(x)
        if grip == "attack":
            return replace(s, attack_ms=at)
        if grip == "hold":
            return replace(s, hold_ms=max(0.0, at - s.attack_ms))
        sustain = 1.0 - (y - 8.0) / max(1.0, self.height() - 16.0)
        return replace(s, decay_ms=max(1.0, at - s.attack_ms - s.hold_ms), sustain=sustain)

    def reset(self, grip: str) -> Shape:
        if grip == "attack":
            return replace(self.shape, attack_ms=0.0)
        if grip == "hold":
            return replace(self.shape, hold_ms=0.0)
        return replace(self.shape, decay_ms=0.0, sustain=1.0)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme().colour("sunk"))
        s, points = self.shape, self.grips()
        start = s.attack_ms + s.hold_ms
        fall = s.decay_ms if s.decay_ms > 0.0 else 200.0
        steps = np.linspace(0.0, 1.0, 24)
        bend = (np.exp(-4.0 * steps) - np.exp(-4.0)) / (1.0 - np.exp(-4.0))
        curve = [QPointF(self._x(start + fall * float(t)), self._y(s.sustain + (1.0 - s.sustain) * float(b)))
                 for t, b in zip(steps, bend, strict=True)]
        line = [QPointF(8.0, self._y(0.0 if s.attack_ms > 0.0 else 1.0)), points["attack"], points["hold"], *curve,
                QPointF(self.width() - 8.0, self._y(s.sustain))]
        painter.setPen(QPen(theme().colour("paper"), 1.6))
        painter.drawPolyline(QPolygonF(line))
        self.paint_grips(painter)


class FilterView(ShapePicture):
    """The filter's curve over pitch; its point is dragged along for the cutoff, up for the resonance."""

    def __init__(self) -> None:
        super().__init__("Filter", 62)

    def _x(self, hz: float) -> float:
        return float(6.0 + np.log(hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ) * (self.width() - 12.0))

    def _y(self, level_db: float) -> float:
        share = (TOP_DB - max(FLOOR_DB, min(TOP_DB, level_db))) / (TOP_DB - FLOOR_DB)
        return 4.0 + share * (self.height() - 8.0)

    def grips(self) -> dict[str, QPointF]:
        if self.shape.filter == "none":
            return {}
        return {"cutoff": QPointF(self._x(self.shape.cutoff_hz), self._y(20.0 * float(np.log10(self.shape.resonance))))}

    def dragged(self, grip: str, x: float, y: float) -> Shape:
        share = (x - 6.0) / max(1.0, self.width() - 12.0)
        level_db = TOP_DB - (y - 4.0) / max(1.0, self.height() - 8.0) * (TOP_DB - FLOOR_DB)
        return replace(self.shape, cutoff_hz=float(LOW_HZ * (HIGH_HZ / LOW_HZ) ** share), resonance=float(10.0 ** (level_db / 20.0)))

    def reset(self, grip: str) -> Shape:
        return replace(self.shape, cutoff_hz=SHAPE_PARAMS["cutoff_hz"].default, resonance=SHAPE_PARAMS["resonance"].default)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme().colour("sunk"))
        hz = LOW_HZ * (HIGH_HZ / LOW_HZ) ** np.linspace(0.0, 1.0, 120)
        level = 20.0 * np.log10(np.abs(response(self.shape, hz, 48_000)) + 1e-6)
        points = [QPointF(self._x(float(f)), self._y(float(v))) for f, v in zip(hz, level, strict=True)]
        painter.setPen(QPen(theme().colour("faint_line"), 1.0))
        painter.drawLine(QPointF(6.0, self._y(0.0)), QPointF(self.width() - 6.0, self._y(0.0)))
        painter.setPen(QPen(theme().colour("paper" if self.shape.filter != "none" else "dim"), 1.6))
        painter.drawPolyline(QPolygonF(points))
        self.paint_grips(painter)
