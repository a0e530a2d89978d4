"""The list of the shelf: a row for each file, sorted and filtered, quick with thousands."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QAbstractListModel, QMimeData, QModelIndex, QRectF, QSize, Qt, QTimer, QUrl, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter
from PyQt6.QtWidgets import QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from bompla.app.theme import theme
from bompla.app.ui.raster import level_pixmap
from bompla.model.wording import counted
from bompla.shelf.index import ShelfEntry

ROW_HEIGHT = 62
TOLD_EVERY_MS = 120
NEAR_SHARE = 0.06
"""A tempo, its half or its double is near another within 6 %."""

SORTS = (
    ("newest", "newest first"), ("name", "name"), ("bpm", "tempo"), ("bars", "bars"), ("duration_s", "length"),
    ("hits_per_bar", "hits per bar"), ("swing", "swing"),
)


@dataclass(frozen=True)
class ShelfFilter:
    """What of the shelf is shown: words in the name, a range of tempo, and a tempo to be near to (0 for any)."""

    words: str = ""
    low_bpm: float = 0.0
    high_bpm: float = 0.0
    near_bpm: float = 0.0

    def lets(self, path: Path, entry: ShelfEntry | None) -> bool:
        """Whether a file is shown; one that was not looked at yet is, unless its name or a tempo speaks against it."""
        name = str(path).lower()
        if not all(word in name for word in self.words.lower().split()):
            return False
        if self.low_bpm <= 0.0 and self.high_bpm <= 0.0 and self.near_bpm <= 0.0:
            return True
        if entry is None or entry.bpm <= 0.0:
            return False
        if (self.low_bpm > 0.0 and entry.bpm < self.low_bpm) or (self.high_bpm > 0.0 and entry.bpm > self.high_bpm):
            return False
        ratios = [entry.bpm * factor / self.near_bpm for factor in (0.5, 1.0, 2.0)] if self.near_bpm > 0.0 else [1.0]
        return any(abs(ratio - 1.0) <= NEAR_SHARE for ratio in ratios)


class ShelfModel(QAbstractListModel):
    """The files of the shelf in the order shown. New entries are told a few times a second, all at once."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._order: dict[Path, int] = {}
        self.entries: dict[Path, ShelfEntry] = {}
        self.shown: list[Path] = []
        self._sort = SORTS[0][0]
        self._filter = ShelfFilter()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(TOLD_EVERY_MS)
        self._timer.timeout.connect(self._arrange)

    def set_files(self, paths: list[Path]) -> None:
        """Show other files, in this order until they are sorted."""
        self._order = {path: n for n, path in enumerate(paths)}
        self.entries = {path: entry for path, entry in self.entries.items() if path in self._order}
        self._arrange()

    def set_entry(self, path: Path, entry: ShelfEntry) -> None:
        """Show what is known of a file."""
        if path in self._order:
            self.entries[path] = entry
            if not self._timer.isActive():
                self._timer.start()

    def arrange(self, sort: str, wanted: ShelfFilter) -> None:
        """Sort and filter."""
        self._sort, self._filter = sort, wanted
        self._arrange()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008, N802  # Qt's name and default
        return 0 if parent.isValid() else len(self.shown)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not 0 <= index.row() < len(self.shown):
            return None
        path = self.shown[index.row()]
        entry = self.entries.get(path)
        if role == Qt.ItemDataRole.DisplayRole:
            return path.stem
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{path}\n{entry.problem}" if entry and entry.problem else str(path)
        if role == Qt.ItemDataRole.AccessibleTextRole:
            return f"{path.stem}, {facts_of(entry)}"
        return None

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        return super().flags(index) | Qt.ItemFlag.ItemIsDragEnabled

    def mimeTypes(self) -> list[str]:  # noqa: N802  # Qt's name
        return ["text/uri-list"]

    def mimeData(self, indexes: Iterable[QModelIndex]) -> QMimeData:  # noqa: N802  # Qt's name
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(self.shown[index.row()])) for index in indexes])
        return data

    def _arrange(self) -> None:
        self.layoutAboutToBeChanged.emit()
        kept = self.persistentIndexList()
        chosen = [self.shown[index.row()] if index.row() < len(self.shown) else None for index in kept]
        shown = [path for path in self._order if self._filter.lets(path, self.entries.get(path))]
        self.shown = sorted(shown, key=self._key)
        places = {path: n for n, path in enumerate(self.shown)}
        for index, path in zip(kept, chosen, strict=True):
            row = places.get(path, -1) if path is not None else -1
            self.changePersistentIndex(index, self.index(row) if row >= 0 else QModelIndex())
        self.layoutChanged.emit()

    def _key(self, path: Path) -> tuple[Any, ...]:
        if self._sort == "newest":
            return (self._order[path],)
        if self._sort == "name":
            return (path.stem.lower(), str(path))
        entry = self.entries.get(path)
        value = float(getattr(entry, self._sort)) if entry is not None else 0.0
        return (value <= 0.0, value, path.stem.lower())


class _RowPainter(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:  # noqa: N802  # Qt's name
        return QSize(100, ROW_HEIGHT)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        model = index.model()
        if painter is None or not isinstance(model, ShelfModel) or not 0 <= index.row() < len(model.shown):
            return
        path = model.shown[index.row()]
        entry = model.entries.get(path)
        area = QRectF(option.rect)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        if chosen:
            painter.fillRect(area, theme().colour("raised"))
            painter.fillRect(QRectF(area.left(), area.top(), 3.0, area.height()), theme().colour("paper"))
        painter.fillRect(QRectF(area.left(), area.bottom(), area.width(), 1.0), theme().colour("faint_line"))
        inner = area.adjusted(10.0, 5.0, -10.0, -4.0)
        painter.setFont(theme().font(15, weight=600 if chosen else 500))
        painter.setPen(theme().colour("paper"))
        tempo = f"{entry.bpm:.1f}" if entry and entry.bpm > 0.0 and not entry.problem else ""
        room = inner.width() - painter.fontMetrics().horizontalAdvance(tempo) - 8.0
        name = painter.fontMetrics().elidedText(path.stem, Qt.TextElideMode.ElideRight, int(room))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, name)
        painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, tempo)
        painter.setFont(theme().font(13, weight=400))
        trouble = entry is not None and bool(entry.problem)
        painter.setPen(theme().colour("signal" if trouble else "dim"))
        words = painter.fontMetrics().elidedText(facts_of(entry), Qt.TextElideMode.ElideRight, int(inner.width()))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, words)
        if entry is not None and entry.wave:
            levels = np.frombuffer(entry.wave, np.uint8).astype(np.float32) / 255.0
            colour = theme().colour("paper", 1.0 if chosen else 0.7)
            wave = level_pixmap(levels, 0.0, float(levels.size), round(inner.width()), 16, colour, mirrored=True)
            painter.drawPixmap(inner.topLeft().toPoint().x(), round(inner.top() + 19.0), wave)


class ShelfView(QListView):
    """The rows. A click or the arrows go to a row and `heard` carries it; Return or a double click opens it by `opened`."""

    heard = pyqtSignal(object)
    opened = pyqtSignal(object)

    def __init__(self, model: ShelfModel) -> None:
        super().__init__()
        self.shelf = model
        self.setModel(model)
        self.setItemDelegate(_RowPainter(self))
        self.setUniformItemSizes(True)
        self.setDragEnabled(True)
        self.setDragDropMode(QListView.DragDropMode.DragOnly)
        self.setAccessibleName("Loops of the shelf")
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.clicked.connect(self._hear)
        self.doubleClicked.connect(self._open)
        self.setToolTip("Click to hear a loop, double click or Return to open it")

    def current_path(self) -> Path | None:
        """Return the file of the row that is selected."""
        row = self.currentIndex().row()
        return self.shelf.shown[row] if 0 <= row < len(self.shelf.shown) else None

    def choose(self, path: Path) -> None:
        """Select the row of a file, if it is shown."""
        if path in self.shelf.shown:
            self.setCurrentIndex(self.shelf.index(self.shelf.shown.index(path)))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        before = self.current_path()
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._open(self.currentIndex())
            return
        if event.key() == Qt.Key.Key_Space or (event.text() and event.text().isalnum()):
            event.ignore()  # playing and the pads keep their keys
            return
        super().keyPressEvent(event)
        after = self.current_path()
        if after is not None and after != before:
            self.heard.emit(after)

    def _hear(self, _index: QModelIndex) -> None:
        path = self.current_path()
        if path is not None:
            self.heard.emit(path)

    def _open(self, _index: QModelIndex) -> None:
        path = self.current_path()
        if path is not None:
            self.opened.emit(path)


def facts_of(entry: ShelfEntry | None) -> str:
    """Return what is known of a file in a line."""
    if entry is None:
        return "not analysed yet"
    if entry.problem:
        return entry.problem
    bars = counted(entry.bars, "bar")
    meter = "" if entry.meter == "4/4" else f" of {entry.meter}"
    swing = f" · swing {entry.swing:.0f} %" if entry.swing >= 53.0 else ""
    return f"{bars}{meter} · {entry.duration_s:.1f} s · {entry.hits_per_bar:.0f} hits per bar{swing}"
