"""The suggested loops as boxes under the waveform: where each begins and ends, and how many bars it has."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from bompla.analysis.loop.passages import Proposal
from bompla.app.theme import theme
from bompla.app.ui.time_axis import TimeAxis
from bompla.model.loop import Loop
from bompla.model.wording import counted

BOX, GAP = 20.0, 4.0
"""How tall a box is, and how far apart boxes are."""

LEAST, NUMBER, WORDS = 9.0, 16.0, 48.0
"""How wide a box is at least, and from which width on it says its number of bars, and that they are bars."""


@dataclass(frozen=True)
class Box:
    """Where a suggested loop is drawn, and which of them it is."""

    area: QRectF
    index: int


def boxes_of(proposals: Sequence[Proposal], axis: TimeAxis, top: float, rows: int) -> list[Box]:
    """Return boxes for the best of the proposals in view, in so many rows from a height on: none covers another, better ones are first."""
    found: list[Box] = []
    edges: list[list[float]] = [[] for _ in range(rows)]  # where the boxes of each row begin and end, in order
    for index, proposal in enumerate(proposals):
        x0, x1 = axis.x(proposal.loop.start_sample), axis.x(proposal.loop.end_sample)
        if x1 < axis.left or x0 > axis.left + axis.width:
            continue
        left, right = max(x0, axis.left - 2.0), min(max(x1, x0 + LEAST), axis.left + axis.width + 2.0)
        for row, taken in enumerate(edges):
            place = bisect_right(taken, left)
            if place % 2 == 0 and (place == len(taken) or taken[place] >= right):
                taken[place:place] = [left, right]
                found.append(Box(QRectF(left, top + row * (BOX + GAP), max(LEAST, right - left - 1.0), BOX), index))
                break
    return found


def same_place(one: Loop, other: Loop, rate: int) -> bool:
    """Return whether two loops are the same bars, to 10 ms."""
    return one.bars == other.bars and abs(one.start_sample - other.start_sample) < rate // 100



def paint_boxes(painter: QPainter, boxes: Sequence[Box], proposals: Sequence[Proposal], *, current: int, marked: int) -> None:
    """Draw boxes: the loop itself filled, the one under the pointer or heard raised."""
    painter.setFont(theme().font(13, weight=500))
    for box in boxes:
        chosen, lit = box.index == current, box.index == marked
        painter.setBrush(theme().colour("paper" if chosen else "raised" if lit else "sunk"))
        painter.setPen(QPen(theme().colour("paper" if chosen or lit else "edge"), 1.2))
        painter.drawRoundedRect(box.area.adjusted(0.6, 0.6, -0.6, -0.6), 3.0, 3.0)
        if box.area.width() < NUMBER:
            continue
        bars = proposals[box.index].loop.whole_bars
        painter.setPen(theme().colour("ground" if chosen else "paper"))
        painter.drawText(box.area, Qt.AlignmentFlag.AlignCenter, counted(bars, "bar") if box.area.width() >= WORDS else str(bars))
