"""Noteheads of percussion notation as paths: each drum is told by shape as well as by colour."""

from __future__ import annotations

from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF, QTransform

from bompla.model.drums import DRUMS, Notehead

FILLED = {Notehead.OVAL, Notehead.OVAL_SLASHED, Notehead.SQUARE}


@lru_cache(maxsize=32)
def head_path(head: Notehead) -> QPainterPath:
    """Return a notehead about the origin, within one unit of it."""
    path = QPainterPath()
    if head in (Notehead.OVAL, Notehead.OVAL_SLASHED):
        path.addEllipse(QRectF(-1.0, -0.72, 2.0, 1.44))
        path = QTransform().rotate(-20.0).map(path)
        if head is Notehead.OVAL_SLASHED:
            path.addRect(QRectF(-1.35, 0.95, 2.7, 0.28))
    elif head in (Notehead.CROSS, Notehead.CROSS_CIRCLED, Notehead.CROSS_BELOW):
        reach = 0.6 if head is Notehead.CROSS_CIRCLED else 0.85
        for sign in (1.0, -1.0):
            path.moveTo(-reach, -reach * sign)
            path.lineTo(reach, reach * sign)
        if head is Notehead.CROSS_CIRCLED:
            path.addEllipse(QRectF(-1.0, -1.0, 2.0, 2.0))
        if head is Notehead.CROSS_BELOW:
            path.moveTo(-0.85, 1.25)
            path.lineTo(0.85, 1.25)
    elif head is Notehead.DIAMOND:
        path.addPolygon(QPolygonF([QPointF(0, -1), QPointF(0.9, 0), QPointF(0, 1), QPointF(-0.9, 0), QPointF(0, -1)]))
    elif head is Notehead.STAR:
        for x, y in ((1.0, 0.0), (0.5, 0.87), (0.5, -0.87)):
            path.moveTo(-x, -y)
            path.lineTo(x, y)
    elif head is Notehead.TRIANGLE:
        path.addPolygon(QPolygonF([QPointF(0, -0.9), QPointF(0.95, 0.8), QPointF(-0.95, 0.8), QPointF(0, -0.9)]))
    else:
        path.addRect(QRectF(-0.75, -0.75, 1.5, 1.5))
    return path


def draw_head(painter: QPainter, drum: str, x: float, y: float, size: float, colour: QColor) -> None:
    """Draw the notehead of a drum with its middle at a point, `size` pixels across."""
    head = DRUMS[drum].notehead
    scale = QTransform.fromTranslate(x, y).scale(size / 2.0, size / 2.0)
    path = scale.map(head_path(head))
    if head in FILLED:
        painter.fillPath(path, colour)
    else:
        pen = QPen(colour, max(1.3, size / 7.0))
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        painter.strokePath(path, pen)
