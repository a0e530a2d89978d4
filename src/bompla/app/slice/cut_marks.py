"""The cuts drawn over the sound: lines, flags and dots, merged where they fall on one pixel."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPixmap

from bompla.app.theme import theme
from bompla.app.ui.raster import dots_pixmap, lines_image
from bompla.app.ui.time_axis import TimeAxis
from bompla.model.document import Cut, Slice

FLAG_HEIGHT, FLAG_WIDTH = 14, 16
FLAG_RISE = 12.0
DOT_SIZE = 5.6
DOT_REACH = 3.0
LOCK_OVER = 3.0
"""How far the bar of a locked cut stands over its flag."""


@dataclass(frozen=True)
class Marked:
    """What is drawn in another way: the leading and other selected cuts, those in doubt, and those dimmed."""

    lead: int
    chosen: frozenset[int]
    doubted: frozenset[int]
    dimmed: frozenset[int]


class CutMarks:
    """Slices as arrays, made once for a document, so that thousands are drawn as quickly as a few."""

    def __init__(self, slices: tuple[Slice, ...]) -> None:
        self.slices = slices
        self.starts = np.array([s.cut.at_sample for s in slices], dtype=float)
        self.ends = np.array([s.end_sample for s in slices], dtype=float)
        self.attacks = np.array([s.cut.attack_sample for s in slices], dtype=float)
        self.strengths = np.array([s.cut.strength for s in slices], dtype=float)
        self.ids = np.array([s.cut.id for s in slices], dtype=np.int64)
        self.left_out = np.array([s.cut.left_out for s in slices], dtype=bool)

    def part(self, first: int, last: int) -> CutMarks:
        """Return the marks of some slices that follow each other."""
        made = CutMarks.__new__(CutMarks)
        made.slices = self.slices[first:last]
        for name in ("starts", "ends", "attacks", "strengths", "ids", "left_out"):
            setattr(made, name, getattr(self, name)[first:last])
        return made

    def near(self, axis: TimeAxis, x: float, reach: float) -> Cut | None:
        """Return the cut nearest to a place across, None where none is within reach."""
        if not self.slices:
            return None
        distance = np.abs(axis.left + (self.starts - axis.start) / axis.samples_per_point - x)
        index = int(distance.argmin())
        return self.slices[index].cut if distance[index] <= reach else None

    def paint(self, painter: QPainter, axis: TimeAxis, sound: QRectF, strength: QRectF, marked: Marked) -> None:
        """Draw those that are in view."""
        first = max(0, int(np.searchsorted(self.starts, axis.start)) - 1)
        last = int(np.searchsorted(self.starts, axis.start + (axis.width + 1.0) * axis.samples_per_point)) + 1
        if first or last < len(self.slices):
            self.part(first, last).paint(painter, axis, sound, strength, marked)
            return
        xs = axis.left + (self.starts - axis.start) / axis.samples_per_point
        right = axis.left + axis.width
        chosen, lead = _among(self.ids, marked.chosen), self.ids == marked.lead
        dimmed = self.left_out | _among(self.ids, marked.dimmed)
        doubted = _among(self.ids, marked.doubted)
        visible = (xs >= axis.left - 1.0) & (xs <= right + 1.0)
        pixel = np.floor(xs).astype(np.int64)
        apart = np.concatenate([[True], np.diff(pixel) != 0]) if xs.size else np.zeros(0, bool)
        shown = visible & (apart | lead)
        self._areas(painter, axis, sound, chosen | lead, dimmed)
        picked = chosen | lead
        needed = doubted & ~picked
        plain = ~(picked | needed)
        roles = {"dim": dimmed & plain, "good": ~dimmed & plain, "signal": needed, "paper": picked}
        self._lines(painter, axis, sound, xs, {role: shown & which for role, which in roles.items()})
        if strength.height() >= 3.0:
            self._dots(painter, axis, strength, shown, np.select(list(roles.values()), range(len(roles))), list(roles))
        self._flags(painter, sound.top() - FLAG_RISE, xs, shown, {"signal": needed, "dim": dimmed & plain, "paper": picked}, lead)

    def _areas(self, painter: QPainter, axis: TimeAxis, sound: QRectF, chosen: NDArray[np.bool_], dimmed: NDArray[np.bool_]) -> None:
        """Shade stretches of slices that are chosen or dimmed, those side by side as one."""
        for which, colour in ((chosen, theme().colour("paper", 0.13)), (dimmed, theme().colour("ground", 0.72))):
            edges = np.flatnonzero(np.diff(np.concatenate([[False], which, [False]]).astype(np.int8)))
            for first, last in zip(edges[::2], edges[1::2], strict=True):
                x0 = max(axis.left, axis.x(self.starts[first]))
                x1 = min(axis.left + axis.width, axis.x(self.ends[last - 1]))
                if x1 > x0:
                    painter.fillRect(QRectF(x0, sound.top(), x1 - x0, sound.height()), colour)

    def _lines(
        self, painter: QPainter, axis: TimeAxis, sound: QRectF, xs: NDArray[np.float64], roles: dict[str, NDArray[np.bool_]]
    ) -> None:
        """Draw the cuts as upright lines, those that need you over the others."""
        width = round(axis.width) + 1
        places = np.concatenate([xs[which] for which in roles.values()]) - axis.left
        colours = np.concatenate([np.full(int(which.sum()), theme().colour(role).rgba(), np.uint32) for role, which in roles.items()])
        area = QRectF(axis.left, sound.top() - FLAG_RISE, width, sound.height() + FLAG_RISE)
        painter.drawImage(area, lines_image(places, width, colours))

    def _dots(
        self, painter: QPainter, axis: TimeAxis, row: QRectF, which: NDArray[np.bool_], kinds: NDArray[np.int_], roles: list[str]
    ) -> None:
        """Draw how strong the attacks are, each in its role's colour; cuts without one sit on the floor."""
        if not which.any():
            return
        xs = (self.attacks[which] - axis.start) / axis.samples_per_point
        ys = row.height() * (1.0 - self.strengths[which])
        dots = dots_pixmap(xs, ys, width=round(axis.width) + 1, height=round(row.height()) + 1, size=DOT_SIZE,
                           colours=[theme().colour(role) for role in roles], kinds=kinds[which].astype(np.int8))
        painter.drawPixmap(QPointF(axis.left - DOT_REACH, row.top() - DOT_REACH), dots)

    def _flags(
        self, painter: QPainter, y: float, xs: NDArray[np.float64], shown: NDArray[np.bool_], roles: dict[str, NDArray[np.bool_]],
        lead: NDArray[np.bool_],
    ) -> None:
        device = painter.device()
        ratio = device.devicePixelRatioF() if device is not None else 1.0
        last = -100.0
        for index in np.flatnonzero(shown).tolist():
            x = float(xs[index])
            if x - last < FLAG_WIDTH and not lead[index]:
                continue
            last = x
            role = next((name for name, which in roles.items() if which[index]), "good")
            piece = self.slices[index]
            flag = _flag(piece.number, piece.cut.locked, theme().colour(role).rgba(), ratio)
            painter.drawPixmap(QPointF(x - LOCK_OVER, y - LOCK_OVER), flag)


@lru_cache(maxsize=4_096)
def _flag(number: int, locked: bool, rgba: int, ratio: float) -> QPixmap:
    """Return a slice's number on its flag, under a bar where its cut is locked."""
    width = FLAG_WIDTH if number < 100 else FLAG_WIDTH + 6 * (len(str(number)) - 2)
    made = QPixmap(round((width + LOCK_OVER) * ratio), round((FLAG_HEIGHT + LOCK_OVER) * ratio))
    made.setDevicePixelRatio(ratio)
    made.fill(Qt.GlobalColor.transparent)
    painter = QPainter(made)
    area = QRectF(LOCK_OVER, LOCK_OVER, width, FLAG_HEIGHT)
    painter.fillRect(area, QColor.fromRgba(rgba))
    if locked:
        painter.fillRect(QRectF(LOCK_OVER - 2.0, 0.0, width + 2.0, 2.0), QColor.fromRgba(rgba))
    painter.setFont(theme().font(12, weight=600))
    painter.setPen(theme().colour("ground"))
    painter.drawText(area, Qt.AlignmentFlag.AlignCenter, str(number))
    painter.end()
    return made


def _among(ids: NDArray[np.int64], wanted: frozenset[int]) -> NDArray[np.bool_]:
    return np.isin(ids, list(wanted)) if wanted else np.zeros(ids.size, bool)
