"""The magnifier at the cursor: the samples around a place, while it is dragged."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from bompla.app.theme import theme
from bompla.audio.clip import Clip

WIDTH, HEIGHT = 190.0, 96.0
REACH_MS = 3.0
BESIDE = 16.0


def paint_magnifier(painter: QPainter, clip: Clip, at_sample: int, place: QPointF, inside: QRectF) -> None:
    """Draw the sound 3 ms about a sample beside a place, on whichever side there is room."""
    reach = round(REACH_MS * clip.sample_rate / 1000.0)
    right = place.x() + BESIDE + WIDTH <= inside.right()
    left = place.x() + BESIDE if right else place.x() - BESIDE - WIDTH
    box = QRectF(left, inside.top() + 8.0, WIDTH, HEIGHT)
    painter.setPen(QPen(theme().colour("line"), 1.0))
    painter.setBrush(theme().colour("sunk"))
    painter.drawRect(box)
    first, last = max(0, at_sample - reach), min(clip.frames, at_sample + reach + 1)
    sound = clip.mono[first:last]
    if sound.size < 2:
        return
    scale = 0.42 * HEIGHT / max(float(np.abs(sound).max()), 1e-4)
    xs = box.left() + (np.arange(first, last) - (at_sample - reach)) / (2.0 * reach) * WIDTH
    points = [QPointF(float(x), box.center().y() - scale * float(v)) for x, v in zip(xs, sound, strict=True)]
    painter.setPen(QPen(theme().colour("faint_line"), 1.0))
    painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
    painter.setPen(QPen(theme().colour("paper"), 1.2))
    painter.drawPolyline(QPolygonF(points))
    painter.setPen(QPen(theme().colour("paper"), 1.4))
    painter.drawLine(QPointF(box.center().x(), box.top()), QPointF(box.center().x(), box.bottom()))
    painter.setFont(theme().font(12))
    painter.setPen(theme().colour("dim"))
    text = f"{1000.0 * at_sample / clip.sample_rate:.2f} ms"
    painter.drawText(box.adjusted(6.0, 2.0, -6.0, -2.0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, text)
