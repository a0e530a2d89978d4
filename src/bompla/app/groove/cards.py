"""The variations as cards with mini maps of their hits."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.controls import start_drag
from bompla.app.ui.gesture import GestureWidget
from bompla.app.ui.pattern_map import pattern_map
from bompla.model.detected_pattern import detected_pattern, pattern_of
from bompla.model.document import Document, Variation

WIDTH, LEAST_WIDTH, HEIGHT, GAP = 142.0, 92.0, 58.0, 8.0
HEARD_WIDTH = 92.0
VARIATION_MIME = "application/x-bompla-variation"
NOWHERE = -2
PULL_OUT = 26.0
EDGE = 24.0
"""How wide the marks are that say that cards are out of sight."""

"""How far a card is pulled out of the row, in points, before it is dragged elsewhere."""


class VariationCards(GestureWidget):
    """A row of cards. A click shows one, a drag moves it along the row or out of it; Left and Right go from card to card.

    The first card is the detected pattern, at place -1: it stays where and as it is. `chosen` carries the place of
    a card, `moved` its place and the one it was dragged to.
    """

    chosen = pyqtSignal(int)
    moved = pyqtSignal(int, int)
    renaming = pyqtSignal(int)
    menu_wanted = pyqtSignal(int, QPoint)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._drag_x: float | None = None
        self._scrolled = 0.0
        self._playing = ""
        self._maps: dict[str, tuple[tuple[Any, ...], QPixmap]] = {}
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Variations")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setToolTip("Click to show a variation, double click to name it, right click for its length and meter; drag it along the "
                        "row, or down into the order. The first is the detected pattern, which never changes")
        session.store.document_changed.connect(lambda _: self._changed())
        theme().changed.connect(self.update)

    def sizeHint(self) -> QSize:  # noqa: N802  # Qt's name
        return QSize(420, round(HEIGHT))

    def card(self, index: int) -> QRectF:
        """Return where a card is; they share the room where there are many, and scroll where a name could not be read any more."""
        document = self._session.store.document
        if index < 0:
            return QRectF(0.0, 0.0, HEARD_WIDTH, HEIGHT - 1.0)
        count = len(document.variations) if document else 1
        room = self.width() - HEARD_WIDTH - 2.0 * GAP
        width = max(LEAST_WIDTH, min(WIDTH, (room - GAP * (count - 1)) / max(1, count)))
        return QRectF(HEARD_WIDTH + 2.0 * GAP + index * (width + GAP) - self._scrolled, 0.0, width, HEIGHT - 1.0)

    def _scroll_to(self, x: float) -> None:
        """Scroll the cards, no further than they go."""
        document = self._session.store.document
        count = len(document.variations) if document else 1
        self._scrolled = 0.0
        last = self.card(count - 1).right()
        self._scrolled = max(0.0, min(x, last - self.width()))
        self.update()

    def _show_shown(self) -> None:
        """Scroll so that the card that is shown is seen."""
        document = self._session.store.document
        if document is None or document.shown < 0 or not self.isVisible():
            return  # its width is not known before it is laid out
        card = self.card(document.shown)
        left = HEARD_WIDTH + 2.0 * GAP + (EDGE if document.shown > 0 else 0.0)
        right = self.width() - (EDGE if document.shown < len(document.variations) - 1 else 0.0)
        if self.card(len(document.variations) - 1).right() <= self.width() and not self._scrolled:
            return
        if card.right() > right:
            self._scroll_to(self._scrolled + card.right() - right)
        elif card.left() < left:
            self._scroll_to(self._scrolled + card.left() - left)
        elif self._scrolled:
            self._scroll_to(self._scrolled)

    def resizeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._scrolled = 0.0
        self._show_shown()

    def showEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._show_shown()

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        turn = event.angleDelta()
        self._scroll_to(self._scrolled - 0.6 * (turn.y() or turn.x()))

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:  # noqa: N802  # Qt's name
        """Open the menu of a card: by a right click on it, or by its key for the one that is shown."""
        document = self._session.store.document
        if event is None or document is None:
            return
        by_key = event.reason() == QContextMenuEvent.Reason.Keyboard
        index = document.shown if by_key else self._index_at(QPointF(event.pos()))
        if index == NOWHERE:
            return
        if index != document.shown:
            self.chosen.emit(index)
        self.menu_wanted.emit(index, self.mapToGlobal(self.card(index).bottomLeft().toPoint()) if by_key else event.globalPos())

    def double_click(self, event: QMouseEvent) -> None:
        """Edit the name of a card in place."""
        index = self._index_at(event.position())
        if index >= 0:
            self.chosen.emit(index)
            self.renaming.emit(index)

    def show_playing(self, letter: str) -> None:
        """Mark the variation that plays, where it is not the one shown."""
        if letter != self._playing:
            self._playing = letter
            self.update()

    def _changed(self) -> None:
        document = self._session.store.document
        if document is not None:
            self.setAccessibleDescription(f"{pattern_of(document).letter} {pattern_of(document).name} of {len(document.variations)}")
        self._show_shown()
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document = self._session.store.document
        if document is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_card(painter, document, detected_pattern(document), self.card(-1), document.shown < 0)
        painter.setClipRect(QRectF(HEARD_WIDTH + GAP, 0.0, self.width() - HEARD_WIDTH - GAP, HEIGHT))
        for index, variation in enumerate(document.variations):
            card = self.card(index)
            if self.gesture is not None and self._drag_x is not None and self.gesture[0] == index:
                card.translate(self._drag_x - self.gesture[1], 0.0)
            self._paint_card(painter, document, variation, card, index == document.shown)
        for back in (True, False):
            edge = self.edge(back)
            painter.fillRect(edge, theme().colour("ground", 0.86))
            painter.setPen(QPen(theme().colour("paper"), 2.0))
            tip = edge.center() + QPointF(-3.0 if back else 3.0, 0.0)
            if not edge.isEmpty():
                painter.drawPolyline(tip + QPointF(6.0 if back else -6.0, -7.0), tip, tip + QPointF(6.0 if back else -6.0, 7.0))

    def edge(self, back: bool) -> QRectF:
        """Return where a press scrolls back or on; empty where no card is out of sight there."""
        document = self._session.store.document
        count = len(document.variations) if document else 0
        left = HEARD_WIDTH + 2.0 * GAP
        if back:
            return QRectF(left - GAP, 0.0, EDGE, HEIGHT) if self._scrolled > 0.5 else QRectF()
        return QRectF(self.width() - EDGE, 0.0, EDGE, HEIGHT) if count and self.card(count - 1).right() > self.width() + 0.5 else QRectF()

    def _paint_card(self, painter: QPainter, document: Document, variation: Variation, card: QRectF, shown: bool) -> None:
        focused = shown and self.hasFocus()
        role, width = ("focus", 2.0) if focused else ("paper", 1.2) if shown else ("line", 1.0)
        painter.setPen(QPen(theme().colour(role), width))
        painter.setBrush(theme().colour("panel" if variation.letter else "sunk"))
        painter.drawRoundedRect(card.adjusted(1, 1, -1, -1), 3.0, 3.0)
        inner = card.adjusted(9.0, 5.0, -9.0, -7.0)
        painter.setFont(theme().font(15, weight=600))
        painter.setPen(theme().colour("paper"))
        if variation.letter and variation.letter == self._playing:
            painter.fillRect(QRectF(card.left() + 2.0, card.bottom() - 4.0, card.width() - 4.0, 3.0), theme().colour("signal"))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, variation.letter)
        painter.setFont(theme().font(14, weight=400))
        painter.setPen(theme().colour("dim"))
        name = painter.fontMetrics().elidedText(variation.name, Qt.TextElideMode.ElideRight, int(inner.width() - 16))
        left = 15.0 if variation.letter else 0.0
        painter.drawText(inner.adjusted(left, 0.5, 0.0, 0.0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, name)
        area = inner.adjusted(0.0, 23.0, 0.0, 0.0)
        painter.drawPixmap(area.topLeft(), self._map(document, variation, area))

    def _map(self, document: Document, variation: Variation, area: QRectF) -> QPixmap:
        """Return a variation's mini map, drawn once until it changes."""
        known = self._maps.get(variation.letter)
        wanted = (variation.hits, document.pads, round(area.width()), variation.bars, theme().palette)
        waits = known is not None and self._session.store.previewing and known[0][2:] == wanted[2:]
        if known is None or not (waits or all(a is b or a == b for a, b in zip(known[0], wanted, strict=True))):
            pixmap = pattern_map(document, variation, area.width(), area.height(), ratio=self.devicePixelRatioF())
            known = (wanted, pixmap)
            self._maps[variation.letter] = known
        return known[1]

    def _index_at(self, point: QPointF) -> int:
        document = self._session.store.document
        count = len(document.variations) if document else 0
        inside = point.x() <= HEARD_WIDTH or point.x() >= HEARD_WIDTH + 2.0 * GAP  # cards that are scrolled away lie under the first
        return next((n for n in range(-1, count) if inside and self.card(n).contains(point)), NOWHERE)

    def press(self, event: QMouseEvent) -> tuple[int, float, float] | None:
        """Show a card; the gesture is its place, and where it was taken hold of."""
        for back in (True, False):
            if self.edge(back).contains(event.position()):
                room = self.width() - HEARD_WIDTH - 2.0 * GAP
                self._scroll_to(self._scrolled + (-0.8 if back else 0.8) * room)
                return None
        index = self._index_at(event.position())
        if index == NOWHERE or event.button() != Qt.MouseButton.LeftButton:
            return None
        self.chosen.emit(index)
        return index, event.position().x(), event.position().y()

    def drag(self, gesture: tuple[int, float, float], event: QMouseEvent) -> None:
        """Move the card along, or, pulled far enough out of the row, drag it elsewhere."""
        index, x, y = gesture
        if index < 0:
            return
        document = self._session.store.document
        if document is not None and abs(event.position().y() - y) > PULL_OUT:
            letter = document.variations[index].letter
            self.end_gesture()
            self._drag_x = None
            self.update()
            start_drag(self, VARIATION_MIME, letter)
        elif self._drag_x is not None or abs(event.position().x() - x) > 8.0:
            self._drag_x = event.position().x()
            self.update()

    def commit(self, gesture: tuple[int, float, float], event: QMouseEvent) -> None:
        """Move the card to where it is let go."""
        dragged, self._drag_x = self._drag_x, None
        if dragged is not None:
            to = self._index_at(QPointF(max(1.0, event.position().x()), HEIGHT / 2.0))
            document = self._session.store.document
            to = max(0, to) if to != NOWHERE else (len(document.variations) - 1 if document else 0)
            if to != gesture[0]:
                self.moved.emit(gesture[0], to)
        self.update()

    def cancel(self, gesture: tuple[int, float, float]) -> None:
        """Leave the card where it was."""
        self._drag_x = None

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        document = self._session.store.document
        way = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if way is not None and document is not None:
            self.chosen.emit(max(-1, min(len(document.variations) - 1, document.shown + way)))
        else:
            super().keyPressEvent(event)
