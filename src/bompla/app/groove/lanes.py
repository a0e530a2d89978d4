"""The picture of the Groove stage, to be worked on: hits drawn, brushed, dragged, selected and deleted."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from bompla.app.groove.lane_picture import HEADER, ORIGINAL, PIN_GRAB, LanePicture
from bompla.app.project.session import Session
from bompla.app.sound_picture import RULER
from bompla.app.theme import theme
from bompla.model.detected_pattern import EARLIEST_BEATS, pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document, Hit, Pad
from bompla.model.kit_edits import MAX_LEVEL_DB, MIN_LEVEL_DB, set_pad_level
from bompla.model.pattern_edits import add_hit, add_played, change_velocity, delete_hits, move_hits, usual_velocity
from bompla.model.wording import counted, of_hits, position

DRAG_POINTS = 4.0
VELOCITY_PER_POINT = 1.0
FLAM_S, FLAM_SHARE = 0.028, 0.55
"""How far ahead of its hit the soft stroke of a flam is drawn, and how hard."""

HEAD_GRAB = 9.0
"""So near its head a pin is dragged up and down for velocity; elsewhere it goes from lane to lane."""

LEVEL_WIDTH, LEVEL_SNAP_DB = 56.0, 1.0

GRIDS: tuple[tuple[float, str], ...] = (
    (0.0, "auto"), (1.0, "1/4"), (0.5, "1/8"), (0.25, "1/16"), (0.125, "1/32"), (0.0625, "1/64"), (-1.0, "none"),
)
"""Steps in beats, as they are called in a simple meter; `auto` takes each beat's own grid."""

TUPLETS: tuple[tuple[float, str], ...] = ((1.0, "straight"), (2.0 / 3.0, "triplet"), (4.0 / 5.0, "quintuplet"))
"""What a step is drawn together by."""


@dataclass
class _Gesture:
    kind: str
    x: float
    y: float
    hits: frozenset[int] = frozenset()
    pad_id: int = 0
    beat: float = 0.0
    by_beats: float = 0.0
    free: bool = False
    by_velocity: int = 0
    to_pad: int | None = None
    level_db: float | None = None
    steps: set[float] = field(default_factory=set)
    gone: set[int] = field(default_factory=set)
    hit_id: int = 0
    on_head: bool = False


class LaneView(LanePicture):
    """Shows the pattern under the original sound.

    A click in a lane draws a hit, with Alt just there, a drag there selects, with Ctrl it brushes hits along the grid; pins are
    dragged along for time and to another lane, by their head up and down for velocity, with Alt off the grid. A
    right click deletes a hit, a right drag all that it passes, a click on a faint pin adds that missing hit.
    `struck` carries a pad id and a velocity to be heard, `sought` a beat chosen on the ruler, `spanned` two beats that were dragged
    over there: the range that loops, none for a double click.
    """

    struck = pyqtSignal(int, int)
    sought = pyqtSignal(float)
    spanned = pyqtSignal(float, float)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Pattern: a lane for each pad", parent)
        self._band: QRectF | None = None
        self._cursor = 0.0
        self.setMinimumSize(440, 220)
        session.store.document_changed.connect(self._document_changed)
        session.shown.selection_changed.connect(self.redraw)

    def _switch_at(self, pad: Pad, x: float, y: float) -> str:
        lane = self.lane(pad.id)
        if abs(y - lane.center().y()) > 12.0:
            return ""
        return "mute" if HEADER - 66 <= x < HEADER - 36 else "solo" if HEADER - 36 <= x < HEADER - 6 else ""

    def move_cursor(self, steps: int, lanes: int = 0) -> None:
        """Move the cursor of the keys by steps of the grid, and from lane to lane; its place is told to a screen reader."""
        document, pads = self._session.store.document, self.pads()
        if document is None or not pads:
            return
        grid, chosen = self._session.shown.grid, self._session.shown.selection.pad_id
        row = next((n for n, pad in enumerate(pads) if pad.id == chosen), 0)
        pad = pads[max(0, min(len(pads) - 1, row + lanes))]
        moved = grid.step_near(max(0.0, self._cursor + steps * grid.step_at(self._cursor)))
        self._cursor = max(0.0, min(moved, pattern_beats(document) - grid.step_at(moved)))
        self._session.shown.select(pad_id=pad.id)
        self._tell_cursor(document, pad)
        self.redraw_over()

    def draw_at_cursor(self) -> None:
        """Draw a hit at the cursor of the keys, or select the one that is there."""
        document = self._session.store.document
        pad_id = self._session.shown.selection.pad_id
        if document is None or all(pad.id != pad_id for pad in self.pads()):
            return
        near = 0.5 * self._session.shown.grid.step_at(self._cursor)
        there = min((h for h in pattern_of(document).hits if h.pad_id == pad_id and abs(h.at_beats - self._cursor) < near),
                    key=lambda h: abs(h.at_beats - self._cursor), default=None)
        if there is None:
            self._draw(pad_id, self._cursor)
        else:
            self._session.shown.select(hit_ids=frozenset({there.id}))
            self.struck.emit(there.pad_id, there.velocity)
        if (now := self._session.store.document) is not None:
            self._tell_cursor(now, now.pad(pad_id))

    def _tell_cursor(self, document: Document, pad: Pad) -> None:
        near = 0.5 * self._session.shown.grid.step_at(self._cursor)
        there = next((h for h in pattern_of(document).hits if h.pad_id == pad.id and abs(h.at_beats - self._cursor) < near), None)
        what = f"a hit of velocity {there.velocity}" if there is not None else "nothing"
        self.setAccessibleDescription(f"{pad.name} at {position(self._cursor, pattern_meter(document))}: {what}")

    def focusInEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.redraw_over()

    def focusOutEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.redraw_over()

    def paint_over(self, painter: QPainter, document: Document) -> None:
        """Draw the rectangle of a selection being made, and the cursor of the keys."""
        lane = self.lane(self._session.shown.selection.pad_id)
        if self.hasFocus() and not self._session.shown.selection.hit_ids and not lane.isEmpty():
            x = self._axis.x(float(document.beat_map.sample_at(self._cursor)))
            if self._axis.left - 1.0 <= x <= self._axis.left + self._axis.width:
                painter.setPen(QPen(theme().colour("focus"), 1.5))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(QRectF(x - 6.0, lane.top() + 3.0, 12.0, lane.height() - 6.0))
        if self._band is not None:
            painter.setPen(QPen(theme().colour("paper"), 1.0))
            painter.setBrush(theme().colour("paper", 0.12))
            painter.drawRect(self._band)

    def press(self, event: QMouseEvent) -> _Gesture | None:
        """Begin what a press stands for: to erase, seek, draw, brush or select, or to move what is pressed."""
        document = self._session.store.document
        if document is None:
            return None
        x, y = event.position().x(), event.position().y()
        hit = self.hit_near(x, y) if x >= self._axis.left - PIN_GRAB else None
        if event.button() == Qt.MouseButton.RightButton:
            return _Gesture("erase", x, y, gone={hit.id} if hit is not None else set())
        if y < RULER + ORIGINAL and x >= self._axis.left:
            beat = float(document.beat_map.beat_at(self._axis.sample(x)))
            self.sought.emit(beat)
            return _Gesture("span", x, y, beat=beat) if y < RULER else None
        pad = self._pad_at(y)
        if pad is not None and x < self._axis.left - PIN_GRAB:
            return self._press_name(document, pad, x, y)
        return self._press_lane(document, pad, hit, event) if pad is not None else None

    def _press_lane(self, document: Document, pad: Pad, hit: Hit | None, event: QMouseEvent) -> _Gesture | None:
        """Press on a hit, on a missing one, which is taken back, or where there is none."""
        x, y = event.position().x(), event.position().y()
        missing = self.missing_near(x, y) if hit is None else None
        if missing is not None:
            self._session.store.edit("add missing hit", lambda d: add_hit(d, *missing))
            self.struck.emit(missing.pad_id, missing.velocity)
            return None
        self._session.shown.select(pad_id=pad.id)
        if hit is not None:
            return self._press_hit(hit, event)
        beat = document.beat_map.beat_at(self._axis.sample(x))
        if not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            return _Gesture("draw", x, y, pad_id=pad.id, beat=beat)
        brush = _Gesture("brush", x, y, pad_id=pad.id, beat=beat)
        self._brush(document, brush, x)
        return brush

    def _press_hit(self, hit: Hit, event: QMouseEvent) -> _Gesture:
        """Select a hit, alone or with those that are selected, and hear it."""
        more = bool(event.modifiers() & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier))
        chosen = self._session.shown.selection.hit_ids
        if more:
            chosen = chosen ^ {hit.id}
        elif hit.id not in chosen:
            chosen = frozenset({hit.id})
        self._session.shown.select(hit_ids=chosen)
        self.struck.emit(hit.pad_id, hit.velocity)
        x, y = event.position().x(), event.position().y()
        head = self.pin(hit)
        return _Gesture("press", x, y, chosen, hit.pad_id, hit.at_beats, hit_id=0 if more else hit.id,
                        on_head=abs(head.x() - x) <= HEAD_GRAB and abs(head.y() - y) <= HEAD_GRAB)

    def _press_name(self, document: Document, pad: Pad, x: float, y: float) -> _Gesture | None:
        """A press on a lane's level, mute or solo, or on its name, which chooses the lane."""
        if self.level_bar(pad).adjusted(-3.0, -6.0, 3.0, 6.0).contains(QPointF(x, y)):
            self._session.shown.select(pad_id=pad.id)
            return _Gesture("level", x, y, pad_id=pad.id)
        if which := self._switch_at(pad, x, y):
            (self._session.shown.toggle_mute if which == "mute" else self._session.shown.toggle_solo)(pad.id)
            return None
        self._session.shown.select(pad_id=pad.id, hit_ids=frozenset(h.id for h in pattern_of(document).hits if h.pad_id == pad.id))
        self.struck.emit(pad.id, usual_velocity(document, pad.id))
        return None

    def drag(self, gesture: _Gesture, event: QMouseEvent) -> None:
        """Show what the gesture has come to; it is settled by its first few points what it becomes."""
        document = self._session.store.document
        if document is None:
            return
        x, y = event.position().x(), event.position().y()
        across, up = x - gesture.x, gesture.y - y
        if gesture.kind in ("draw", "press"):
            if max(abs(across), abs(up)) < DRAG_POINTS:
                return
            steep = gesture.on_head and abs(up) > abs(across)
            gesture.kind = "band" if gesture.kind == "draw" else "velocity" if steep else "move"
        if gesture.kind == "band":
            self._band = QRectF(QPointF(gesture.x, gesture.y), QPointF(x, y)).normalized()
            self.redraw_over()
        elif gesture.kind == "brush":
            self._brush(document, gesture, x)
        elif gesture.kind == "erase" and (over := self.hit_near(x, y)) is not None:
            gesture.gone.add(over.id)
        elif gesture.kind == "level":
            self._drag_level(document, gesture, x)
        elif gesture.kind == "move":
            self._drag_hits(document, gesture, x, y, free=bool(event.modifiers() & Qt.KeyboardModifier.AltModifier))
        elif gesture.kind == "span":
            gesture.by_beats = float(document.beat_map.beat_at(self._axis.sample(x))) - gesture.beat
            self._band = QRectF(min(gesture.x, x), 0.0, abs(across), RULER) if abs(across) > DRAG_POINTS else None
            self.redraw_over()
        elif gesture.kind == "velocity":
            gesture.by_velocity = round(up * VELOCITY_PER_POINT)
        if (change := self._change(gesture)) is not None:
            self._session.store.preview(change[1])

    def _drag_hits(self, document: Document, gesture: _Gesture, x: float, y: float, *, free: bool) -> None:
        beat = document.beat_map.beat_at(self._axis.sample(x)) - document.beat_map.beat_at(self._axis.sample(gesture.x))
        grid = self._session.shown.grid
        step = grid.step_at(gesture.beat)
        gesture.free = free or grid.step_beats < 0.0
        gesture.by_beats = beat if gesture.free else round(beat / step) * step
        over_pad = self._pad_at(y)
        one_lane = len({hit.pad_id for hit in pattern_of(document).hits if hit.id in gesture.hits}) == 1
        gesture.to_pad = over_pad.id if over_pad is not None and one_lane else None

    def _drag_level(self, document: Document, gesture: _Gesture, x: float) -> None:
        share = (x - self.level_bar(document.pad(gesture.pad_id)).left()) / LEVEL_WIDTH
        level_db = MIN_LEVEL_DB + max(0.0, min(1.0, share)) * (MAX_LEVEL_DB - MIN_LEVEL_DB)
        gesture.level_db = 0.0 if abs(level_db) < LEVEL_SNAP_DB else level_db

    def commit(self, gesture: _Gesture, event: QMouseEvent) -> None:
        """Do what the gesture stands for, as one step."""
        band, self._band = self._band, None
        if gesture.kind == "draw":
            self._draw(gesture.pad_id, gesture.beat, free=bool(event.modifiers() & Qt.KeyboardModifier.AltModifier))
        elif gesture.kind == "press" and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self._draw_flam(gesture.pad_id, gesture.beat)
        elif gesture.kind == "press" and gesture.hit_id:
            self._session.shown.select(hit_ids=frozenset({gesture.hit_id}))
        elif gesture.kind == "span":
            if band is not None:
                self.spanned.emit(*sorted((gesture.beat, gesture.beat + gesture.by_beats)))
        elif gesture.kind == "band" and band is not None:
            self._select_in(band)
        elif (change := self._change(gesture)) is not None:
            self._session.store.edit(*change)
        self.redraw_over()

    def cancel(self, gesture: _Gesture) -> None:
        """Show the pattern as it was."""
        self._band = None
        self._session.store.drop_preview()
        self.redraw_over()

    def _change(self, gesture: _Gesture) -> tuple[str, Callable[[Document], Document]] | None:
        """Return what a gesture changes in the document, with its name; None where that is nothing."""
        if gesture.kind == "brush":
            hits = self._brushed(gesture)
            return f"brush {counted(len(hits), 'hit')}", lambda d: add_played(d, hits)
        if gesture.kind == "level" and gesture.level_db is not None:
            level_db = gesture.level_db
            return f"set level to {level_db:+.1f} dB", lambda d: set_pad_level(d, gesture.pad_id, level_db)
        if gesture.kind == "erase" and gesture.gone:
            return of_hits("delete", len(gesture.gone)), lambda d: delete_hits(d, gesture.gone)
        if gesture.kind == "move":
            return of_hits("move", len(gesture.hits)), lambda d: move_hits(
                d, gesture.hits, gesture.by_beats, gesture.to_pad, early=gesture.free)
        if gesture.kind == "velocity":
            return of_hits("set velocity of", len(gesture.hits)), lambda d: change_velocity(d, gesture.hits, gesture.by_velocity)
        return None

    def double_click(self, event: QMouseEvent) -> None:
        """Loop all of it again, after a double click on the ruler."""
        if event.position().y() < RULER:
            self.spanned.emit(0.0, 0.0)

    def _draw(self, pad_id: int, beat: float, *, free: bool = False) -> None:
        """Draw a hit on the nearest step, or just there: a flam is two hits nearer than any step."""
        document = self._session.store.document
        if document is None:
            return
        at, new_id = max(EARLIEST_BEATS, beat) if free else self._session.shown.grid.step_near(beat), document.next_id
        if self._session.store.edit("draw hit", lambda d: add_hit(d, pad_id, at)):
            self._session.shown.select(hit_ids=frozenset({new_id}))
            self.struck.emit(pad_id, usual_velocity(document, pad_id))

    def _draw_flam(self, pad_id: int, beat: float) -> None:
        """Draw the soft stroke of a flam just ahead of a hit."""
        document = self._session.store.document
        if document is None:
            return
        ahead = max(EARLIEST_BEATS, beat - FLAM_S * document.bpm / 60.0)
        velocity = round(FLAM_SHARE * usual_velocity(document, pad_id))
        self._session.store.edit("draw flam", lambda d: add_hit(d, pad_id, ahead, velocity))

    def _brush(self, document: Document, gesture: _Gesture, x: float) -> None:
        """Put hits on the steps that the pointer has passed."""
        beat = document.beat_map.beat_at(self._axis.sample(x))
        step = self._session.shown.grid.step_at(beat)
        first, last = sorted((gesture.beat, beat))
        steps = np.arange(np.floor(first / step + 1e-6), np.floor(last / step + 1e-6) + 1) * step
        gesture.steps |= {round(float(at), 6) for at in steps if 0.0 <= at < pattern_beats(document)}
        gesture.beat = beat
        self._session.store.preview(lambda d: add_played(d, self._brushed(gesture)))

    def _brushed(self, gesture: _Gesture) -> list[tuple[int, float, int, float]]:
        document = self._session.store.document
        velocity = usual_velocity(document, gesture.pad_id) if document is not None else 100
        return [(gesture.pad_id, at, velocity, 0.0) for at in sorted(gesture.steps)]

    def _select_in(self, band: QRectF) -> None:
        document = self._session.store.document
        if document is not None:
            found = (hit.id for hit in self.hits() if band.contains(self.pin(hit)))
            self._session.shown.select(hit_ids=frozenset(found))
