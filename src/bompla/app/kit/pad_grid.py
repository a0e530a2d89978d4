"""The pads of the Kit stage, and the tray of slices that are on none."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QMimeData, QPoint, QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QDragEnterEvent, QDragMoveEvent, QDropEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.controls import start_drag
from bompla.app.ui.gesture import GestureWidget
from bompla.app.ui.noteheads import draw_head
from bompla.app.ui.raster import wave_pixmap
from bompla.groove.rebuild import ROWS, free_slot, tray
from bompla.model.document import PAD_COLUMNS, PADS_PER_PAGE, Cut, Document, Pad
from bompla.model.drums import DRUMS, FAMILY_LABELS
from bompla.model.kit_edits import add_layer, copy_pad, move_pad, put_on_slot
from bompla.model.pattern_edits import usual_velocity
from bompla.model.wording import counted
from bompla.units import note_name

PAD_KEYS = "ZXCVASDFQWER1234"
"""The computer keys of a page of pads, from the lower left."""

SLICE_MIME, PAD_MIME = "application/x-bompla-slice", "application/x-bompla-pad"
ROW_LABEL = 34
GAP = 9.0
STRUCK_FRAMES, FADE_MS = 8, 16
SOFTEST, HARDEST = 45, 127
ALONE_BELOW = 0.3
"""A drum less likely than this is not said to be in a slice."""


class PadGrid(GestureWidget):
    """Sixteen pads, a family to a row. A press plays a pad, harder the higher it is struck; pads and slices are dragged.

    With Ctrl a press selects a pad beside others. `struck` carries a pad id and a velocity, `let_go` a pad id, `menu_wanted` where the
    menu of the selected pad is to open, `files_dropped` several files, or a folder.
    """

    struck = pyqtSignal(int, int)
    let_go = pyqtSignal(int)
    menu_wanted = pyqtSignal(QPoint)
    files_dropped = pyqtSignal(list)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.page = 0
        self._target = -1
        self._lit: dict[int, int] = {}
        self._dragged_over = False
        self._fading = QTimer(self)
        self._fading.setInterval(FADE_MS)
        self._fading.timeout.connect(self.fade)
        self.setAcceptDrops(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Pads")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(420, 300)
        self._cursor = 0
        for told in (session.store.document_changed, session.shown.selection_changed):
            told.connect(lambda _: self._tell())
        theme().changed.connect(self.update)

    def _tell(self) -> None:
        """Follow the selected pad, and say what is at the cursor to who does not see it."""
        document = self._session.store.document
        here = self.pad_in(self._cursor)
        chosen = next((pad for pad in document.pads if pad.id == self._session.shown.selection.pad_id), None) if document else None
        if chosen is not None and here is not None:
            self._cursor, here = chosen.slot, chosen
        self.setAccessibleDescription(f"pad {self._cursor + 1}: {pad_in_words(here)}")
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        """Go from pad to pad by the arrows; Return plays one."""
        assert event is not None
        ways = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: PAD_COLUMNS, Qt.Key.Key_Down: -PAD_COLUMNS}
        pad = self.pad_in(self._cursor)
        if event.key() in ways and event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier):
            first = self.page * PADS_PER_PAGE
            self._cursor = first + (self._cursor % PADS_PER_PAGE + ways[Qt.Key(event.key())]) % PADS_PER_PAGE
            pad = self.pad_in(self._cursor)
            if pad is not None:
                self._session.shown.select(pad_id=pad.id)
            self._tell()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and pad is not None:
            document = self._session.store.document
            if document is not None:
                self.struck.emit(pad.id, usual_velocity(document, pad.id))
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._tell()

    def focusOutEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.update()

    def cell(self, slot: int) -> QRectF:
        """Return where the pad of a slot is."""
        row, column = divmod(slot % PADS_PER_PAGE, PAD_COLUMNS)
        width = (self.width() - ROW_LABEL - GAP * PAD_COLUMNS) / PAD_COLUMNS
        height = (self.height() - GAP * 3) / 4.0
        return QRectF(ROW_LABEL + column * (width + GAP), (3 - row) * (height + GAP), width, height)

    def pad_in(self, slot: int) -> Pad | None:
        """Return the pad at a slot."""
        document = self._session.store.document
        return next((pad for pad in document.pads if pad.slot == slot), None) if document else None

    def light(self, pad_id: int) -> None:
        """Show for a moment that a pad was struck."""
        self._lit[pad_id] = STRUCK_FRAMES
        self._fading.start()
        self.update()

    def fade(self) -> None:
        """Let lit pads go dark, a little each time."""
        self._lit = {pad: left - 1 for pad, left in self._lit.items() if left > 1}
        if not self._lit:
            self._fading.stop()
        self.update()

    def _by_family(self, document: Document | None) -> bool:
        """Whether each pad of the page stands in its family's row."""
        pads = [pad for pad in document.pads if pad.slot // PADS_PER_PAGE == self.page] if document is not None else []
        rows = {family: row for row, family in enumerate(ROWS)}
        return all(rows.get(DRUMS[pad.drum].family, pad.slot % PADS_PER_PAGE // PAD_COLUMNS) == pad.slot % PADS_PER_PAGE // PAD_COLUMNS
                   for pad in pads)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document = self._session.store.document
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for row, family in enumerate(ROWS if self._by_family(document) else ()):
            cell = self.cell(row * PAD_COLUMNS)
            painter.save()
            painter.translate(14.0, cell.center().y())
            painter.rotate(-90.0)
            painter.setFont(theme().font(15, weight=600))
            painter.setPen(theme().family(family))
            painter.drawText(QRectF(-60, -12, 120, 24), Qt.AlignmentFlag.AlignCenter, FAMILY_LABELS[family])
            painter.restore()
        for place in range(PADS_PER_PAGE):
            slot = self.page * PADS_PER_PAGE + place
            pad = self.pad_in(slot)
            if pad is None or document is None:
                self._paint_empty(painter, self.cell(slot), slot)
            else:
                self._paint_pad(painter, document, pad, slot)

    def _paint_empty(self, painter: QPainter, cell: QRectF, slot: int) -> None:
        aimed = slot == self._target or (slot == self._cursor and self.hasFocus())
        painter.setBrush(theme().colour("sunk"))
        painter.setPen(QPen(theme().colour("paper" if aimed else "faint_line"), 1.5 if aimed else 1.0))
        painter.drawRoundedRect(cell, 4.0, 4.0)
        if self._dragged_over:
            painter.setFont(theme().font(14, weight=400))
            painter.setPen(theme().colour("dim"))
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, "drop here")

    def _paint_pad(self, painter: QPainter, document: Document, pad: Pad, slot: int) -> None:
        cell = self.cell(slot)
        selection = self._session.shown.selection
        chosen = pad.id in selection.pad_ids
        lit = self._lit.get(pad.id, 0) / STRUCK_FRAMES
        colour = theme().drum(pad.drum)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().colour("raised"))
        painter.drawRoundedRect(cell, 4.0, 4.0)
        if lit:
            painter.setBrush(theme().drum(pad.drum, 0.35 * lit))
            painter.drawRoundedRect(cell, 4.0, 4.0)
        painter.setBrush(colour)
        painter.drawRect(QRectF(cell.left(), cell.top() + 1, 4.0, cell.height() - 2))
        marked = chosen or slot == self._target
        painter.setBrush(Qt.BrushStyle.NoBrush)
        leads = slot == self._target or pad.id == selection.pad_id
        painter.setPen(QPen(theme().colour("paper" if marked else "line"), 2.0 if marked and leads else 1.0))
        painter.drawRoundedRect(cell, 4.0, 4.0)
        self._paint_wave(painter, document, pad, cell)
        draw_head(painter, pad.drum, cell.left() + 21.0, cell.top() + 18.0, 12.0, colour)
        painter.setFont(theme().font(17, weight=600))
        painter.setPen(theme().colour("paper"))
        name = painter.fontMetrics().elidedText(pad.name, Qt.TextElideMode.ElideRight, int(cell.width() - 58))
        painter.drawText(QRectF(cell.left() + 34, cell.top() + 6, cell.width() - 56, 24), Qt.AlignmentFlag.AlignVCenter, name)
        painter.setFont(theme().font(14, weight=500))
        painter.setPen(theme().colour("dim"))
        painter.drawText(QRectF(cell.right() - 24, cell.top() + 6, 16, 24), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                         PAD_KEYS[slot % PADS_PER_PAGE])
        count = len(pad.layers)
        what = "sound" if any(layer.of for layer in pad.layers) else "slice"
        many = counted(count, what) + (f", {pad.shared_how}" if count > 1 and cell.width() > 150.0 else "")
        text = many if count else "no slice"
        painter.drawText(QRectF(cell.left() + 14, cell.bottom() - 23, cell.width() - 28, 18), Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_wave(self, painter: QPainter, document: Document, pad: Pad, cell: QRectF) -> None:
        summary = self._session.project.summary_of(pad.layers[-1]) if pad.layers else None
        if summary is None:
            return
        start, end = document.layer_bounds(pad.layers[-1])
        width, height = round(cell.width() - 28), round(cell.height() - 62)
        if width < 4 or height < 6:
            return
        peak = float(abs(summary.columns(start, end, 64)).max())
        pixmap = wave_pixmap(summary, start, end, width, height, theme().drum(pad.drum), ratio=self.devicePixelRatioF(),
                             gain=min(12.0, 1.0 / max(peak, 1e-3)))
        painter.drawPixmap(QPointF(cell.left() + 14.0, cell.top() + 34.0), pixmap)

    def _slot_at(self, point: QPointF) -> int:
        first = self.page * PADS_PER_PAGE
        return next((slot for slot in range(first, first + PADS_PER_PAGE) if self.cell(slot).contains(point)), -1)

    def press(self, event: QMouseEvent) -> tuple[QPointF, int] | None:
        """Strike a pad; the gesture is where, and which."""
        slot = self._slot_at(event.position())
        pad = self.pad_in(slot)
        if pad is None or event.button() != Qt.MouseButton.LeftButton:
            return None
        cell = self.cell(slot)
        height = (cell.bottom() - event.position().y()) / cell.height()
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._toggle(pad.id)
            return None
        self._session.shown.select(pad_id=pad.id)
        self.struck.emit(pad.id, round(SOFTEST + (HARDEST - SOFTEST) * height))
        return event.position(), pad.id

    def _toggle(self, pad_id: int) -> None:
        """Select a pad beside the others, or no more."""
        chosen = self._session.shown.selection
        more = (set(chosen.pad_ids) - {0}) ^ {pad_id}
        if more:
            leads = chosen.pad_id if chosen.pad_id in more else min(more)
            self._session.shown.select(pad_id=leads, more_pads=frozenset(more))

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:  # noqa: N802  # Qt's name
        """Open the menu of the pad under the pointer, or of the selected one."""
        assert event is not None
        by_key = event.reason() == QContextMenuEvent.Reason.Keyboard
        pad = self.pad_in(self._cursor if by_key else self._slot_at(QPointF(event.pos())))
        if pad is not None:
            if pad.id not in self._session.shown.selection.pad_ids:
                self._session.shown.select(pad_id=pad.id)
            self.menu_wanted.emit(event.globalPos())

    def drag(self, gesture: tuple[QPointF, int], event: QMouseEvent) -> None:
        """Drag the pad elsewhere, once it has moved far enough."""
        if (event.position() - gesture[0]).manhattanLength() >= 14.0:
            self.end_gesture()
            self.let_go.emit(gesture[1])
            start_drag(self, PAD_MIME, gesture[1])

    def commit(self, gesture: tuple[QPointF, int], event: QMouseEvent) -> None:
        """Let the pad go."""
        self.let_go.emit(gesture[1])

    def cancel(self, gesture: tuple[QPointF, int]) -> None:
        """Let the pad go."""
        self.let_go.emit(gesture[1])

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        data = event.mimeData()
        if data is not None and (data.hasFormat(SLICE_MIME) or data.hasFormat(PAD_MIME) or files_in(data)):
            event.acceptProposedAction()
            self._dragged_over = True
            self.update()

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        self._target = self._slot_at(event.position())
        event.setAccepted(self._target >= 0)
        self.update()

    def dragLeaveEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._target, self._dragged_over = -1, False
        self.update()

    def dropEvent(self, event: QDropEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        slot, self._target, self._dragged_over = self._slot_at(event.position()), -1, False
        data = event.mimeData()
        if data is not None and slot >= 0:
            for kind in (SLICE_MIME, PAD_MIME):
                if data.hasFormat(kind):
                    self.drop(kind, int(data.data(kind).data()), slot, more=bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
            files = files_in(data)
            if len(files) > 1 or any(path.is_dir() for path in files):
                self.files_dropped.emit(files)
            elif files:
                self._session.requests.borrow(files[0], slot, more=bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
            event.acceptProposedAction()
        self.update()

    def drop(self, kind: str, item: int, slot: int, *, more: bool = False) -> None:
        """Put a dragged slice on a slot, or move a dragged pad there; with `more` add the slice, or copy the pad."""
        pad = self.pad_in(slot)
        if kind == SLICE_MIME:
            if more and pad is not None:
                pad_id = pad.id
                self._session.store.edit("add slice to pad", lambda document: add_layer(document, pad_id, item))
            else:
                self._session.store.edit("put slice on pad", lambda document: put_on_slot(document, slot, item))
            pad = self.pad_in(slot)
            if pad is not None:
                self._session.shown.select(pad_id=pad.id)
        elif more:
            self._session.store.edit("copy pad", lambda document: copy_pad(document, item, slot))
        else:
            self._session.store.edit("move pad", lambda document: move_pad(document, item, slot))


class TrayView(GestureWidget):
    """The slices that are on no pad. A click plays one, a drag takes it to a pad; `heard` carries a cut id."""

    heard = pyqtSignal(int)
    TILE = QSize(84, 82)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._cuts: tuple[Cut, ...] = ()
        self.setAccessibleName("Unused slices")
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setFixedHeight(self.TILE.height() + 4)
        session.store.document_changed.connect(self._document_changed)
        session.shown.selection_changed.connect(lambda _: self.update())

    @property
    def cuts(self) -> tuple[Cut, ...]:
        """The cuts of the slices shown."""
        return self._cuts

    def tile(self, index: int) -> QRectF:
        """Return where a slice is."""
        return QRectF(index * (self.TILE.width() + 6.0), 0.0, self.TILE.width(), self.TILE.height())

    def showEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        if self._session.store.document is not None:
            self._document_changed(self._session.store.document)

    def _document_changed(self, document: Document) -> None:
        if not self.isVisible():
            return  # looked at when it is shown
        self._cuts = tuple(sorted(tray(document), key=_alike))
        self.setMinimumWidth(max(40, len(self._cuts) * (self.TILE.width() + 6)))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document, summary = self._session.store.document, self._session.project.summary
        if document is None or summary is None or event is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        numbers = {piece.cut.id: piece for piece in document.slices()}
        for index, cut in enumerate(self._cuts):
            tile = self.tile(index)
            piece = numbers.get(cut.id)
            if piece is None or not tile.intersects(QRectF(event.rect())):
                continue
            chosen = cut.id == self._session.shown.selection.cut_id
            painter.setPen(QPen(theme().colour("paper" if chosen else "faint_line"), 1.0))
            painter.setBrush(theme().colour("raised"))
            painter.drawRoundedRect(tile.adjusted(0.5, 0.5, -0.5, -0.5), 3.0, 3.0)
            drum = cut.heard[0].drum if cut.heard else "perc"
            painter.setFont(theme().font(13, weight=500))
            painter.setPen(theme().colour("dim"))
            words = cut.name or DRUMS[drum].label.lower()
            text = painter.fontMetrics().elidedText(f"{piece.number} · {words}", Qt.TextElideMode.ElideRight, int(tile.width() - 12))
            painter.drawText(tile.adjusted(7, 4, -5, 0), Qt.AlignmentFlag.AlignTop, text)
            pixmap = wave_pixmap(summary, piece.start_sample, piece.end_sample, int(tile.width() - 14), 32, theme().drum(drum, 0.9),
                                 ratio=self.devicePixelRatioF(), gain=1.6)
            painter.drawPixmap(QPointF(tile.left() + 7.0, tile.top() + 24.0), pixmap)
            painter.setFont(theme().font(12))
            beside = painter.fontMetrics().elidedText(beside_in_words(cut, drum), Qt.TextElideMode.ElideRight, int(tile.width() - 12))
            painter.drawText(tile.adjusted(7, 0, -5, -5), Qt.AlignmentFlag.AlignBottom, beside)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        """Go from slice to slice by the arrows and hear each; Return puts it on the first empty pad."""
        assert event is not None
        ids = [cut.id for cut in self._cuts]
        chosen = self._session.shown.selection.cut_id
        at = ids.index(chosen) if chosen in ids else -1
        by = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if by is not None and ids:
            cut = self._cuts[max(0, min(len(ids) - 1, at + by))]
            self._session.shown.select(cut_id=cut.id)
            self.heard.emit(cut.id)
            heard = DRUMS[cut.heard[0].drum].label.lower() if cut.heard else "no drum"
            self.setAccessibleDescription(f"{ids.index(cut.id) + 1} of {len(ids)}: {cut.name or heard}")
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and at >= 0:
            self._session.store.edit("put slice on pad", lambda document: put_on_slot(document, _first_free(document, chosen), chosen))
        else:
            super().keyPressEvent(event)

    def press(self, event: QMouseEvent) -> tuple[QPointF, int] | None:
        """Choose and play a slice; the gesture is where, and which."""
        for index, cut in enumerate(self._cuts):
            if self.tile(index).contains(event.position()):
                self._session.shown.select(cut_id=cut.id)
                self.heard.emit(cut.id)
                return event.position(), cut.id
        return None

    def drag(self, gesture: tuple[QPointF, int], event: QMouseEvent) -> None:
        """Drag the slice to a pad, once it has moved far enough."""
        if (event.position() - gesture[0]).manhattanLength() >= 8.0:
            self.end_gesture()
            start_drag(self, SLICE_MIME, gesture[1])


def _first_free(document: Document, cut_id: int) -> int:
    """Return the first empty slot in the row of a slice's drum, or after."""
    drum = next((cut.heard[0].drum for cut in document.cuts if cut.id == cut_id and cut.heard), "perc")
    return free_slot(DRUMS[drum], {pad.slot for pad in document.pads})


def pad_in_words(pad: Pad | None) -> str:
    """Return a pad in a few words."""
    if pad is None:
        return "empty"
    how = f", {pad.shared_how}" if len(pad.layers) > 1 else ""
    return f"{pad.name}, {note_name(pad.note)}, {counted(len(pad.layers), 'slice')}{how}"


def files_in(data: QMimeData) -> list[Path]:
    """Return the files that are dragged."""
    return [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]


def beside_in_words(cut: Cut, drum: str) -> str:
    """Return what else is heard in a slice of a drum: "alone", or "with closed hat"."""
    others = [DRUMS[h.drum].label.lower() for h in cut.heard if h.drum != drum and h.confidence >= ALONE_BELOW]
    return f"with {others[0]}" + (f" and {len(others) - 1} more" if len(others) > 1 else "") if others else "alone"


def _alike(cut: Cut) -> tuple[str, float, int]:
    """Order slices by what they are, the clean ones first, then from hard to soft."""
    if not cut.heard:
        return ("~", 0.0, 0)
    beside = sum(h.confidence for h in cut.heard[1:])
    return (cut.heard[0].drum, round(beside, 1), -cut.heard[0].velocity)
