"""A table of the slices, pads or hits of the stage, beside the window: one selection and one undo with the picture."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QItemSelection, QItemSelectionModel, QModelIndex, QSortFilterProxyModel, Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QAbstractItemView, QDialog, QTableView, QVBoxLayout, QWidget

from bompla.app.project.session import Session
from bompla.app.tables.listings import LISTINGS, Listing
from bompla.app.ui.controls import label
from bompla.model.document import Document
from bompla.model.wording import counted

ORDER_ROLE = Qt.ItemDataRole.UserRole + 1
_NO_INDEX = QModelIndex()


class RowsModel(QAbstractTableModel):
    """The rows of a listing in the document that is worked on."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.listing: Listing | None = None
        self.rows: Sequence[Any] = ()

    def show_listing(self, listing: Listing | None) -> None:
        """Show another listing, or the same one as it is now; the same rows with other values stay where they are, under an editor too."""
        document = self._session.store.document
        rows = tuple(listing.rows(document)) if listing is not None and document is not None else ()
        if listing is not None and listing is self.listing and rows:
            now = {listing.id_of(row): row for row in rows}
            before = [listing.id_of(row) for row in self.rows]
            if set(before) == set(now):
                self.rows = tuple(now[one] for one in before)
                self.dataChanged.emit(self.index(0, 0), self.index(len(before) - 1, len(listing.columns) - 1))
                return
        self.beginResetModel()
        self.listing, self.rows = listing, rows
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = _NO_INDEX) -> int:  # noqa: N802  # Qt's name
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: QModelIndex = _NO_INDEX) -> int:  # noqa: N802  # Qt's name
        return 0 if parent.isValid() or self.listing is None else len(self.listing.columns)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:  # noqa: N802  # Qt's name
        if role != Qt.ItemDataRole.DisplayRole or self.listing is None or orientation != Qt.Orientation.Horizontal:
            return None
        return self.listing.columns[section].heading

    def data(self, index: QModelIndex, role: int = 0) -> object:
        """Return what a cell reads, or what it sorts by."""
        document = self._session.store.document
        if document is None or self.listing is None or not index.isValid():
            return None
        column, row = self.listing.columns[index.column()], self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return column.text(document, row)
        return column.order(document, row) if role == ORDER_ROLE else None

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        """Return that a cell can be selected, and edited where its column says how."""
        flags = super().flags(index)
        if self.listing is not None and index.isValid() and self.listing.columns[index.column()].edit is not None:
            flags |= Qt.ItemFlag.ItemIsEditable
        return flags

    def setData(self, index: QModelIndex, value: object, role: int = 0) -> bool:  # noqa: N802  # Qt's name
        """Make what was typed an edit of the document."""
        if self.listing is None or role != Qt.ItemDataRole.EditRole:
            return False
        column, row = self.listing.columns[index.column()], self.rows[index.row()]
        change = column.edit
        if change is None or str(value) == self.data(index, Qt.ItemDataRole.DisplayRole):
            return False
        return self._session.store.edit(f"set {column.heading.partition(',')[0]}", lambda document: change(document, row, str(value)))


class Sorted(QSortFilterProxyModel):
    """The rows in the order of one column, by value and not by how it is written."""

    def lessThan(self, left: QModelIndex, right: QModelIndex) -> bool:  # noqa: N802  # Qt's name
        return bool(left.data(ORDER_ROLE) < right.data(ORDER_ROLE))


class TableWindow(QDialog):
    """The table of a stage: sorted by a click on a heading, edited by F2 or a double click; its selection is that of the pictures."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._busy = False
        self.resize(640, 520)
        column = QVBoxLayout(self)
        self.words = label("", "dim")
        column.addWidget(self.words)
        self.table = QTableView()
        self.model = RowsModel(session)
        self.sorted = Sorted()
        self.sorted.setSourceModel(self.model)
        self.table.setModel(self.sorted)
        self.table.setSortingEnabled(True)
        self.table.sortByColumn(0, Qt.SortOrder.AscendingOrder)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setAlternatingRowColors(False)
        if (numbers := self.table.verticalHeader()) is not None:
            numbers.hide()
        column.addWidget(self.table, 1)
        chosen = self.table.selectionModel()
        if chosen is not None:
            chosen.selectionChanged.connect(lambda *_: self._select())
        session.store.document_changed.connect(self._document_changed)
        session.shown.selection_changed.connect(lambda _: self._show_selection())

    def show_stage(self, key: str) -> None:
        """Show the table of a stage; a stage without one shows the hits."""
        listing = LISTINGS.get(key, LISTINGS["groove"])
        self.setWindowTitle(listing.title)
        self.table.setAccessibleName(listing.title)
        self._show(listing)
        self.table.resizeColumnsToContents()
        if (headings := self.table.horizontalHeader()) is not None:
            headings.setStretchLastSection(True)
            headings.setMinimumHeight(32)

    def _document_changed(self, _document: Document) -> None:
        if self.isVisible():
            self._show(self.model.listing)

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802  # Qt's name
        super().showEvent(event)
        self._show(self.model.listing)

    def _show(self, listing: Listing | None) -> None:
        at = self.table.currentIndex()
        place = (at.row(), at.column())
        self._busy = True
        self.model.show_listing(listing)
        if place[0] >= 0:
            self.table.setCurrentIndex(self.sorted.index(min(place[0], self.sorted.rowCount() - 1), place[1]))
        self._busy = False
        can_edit = [one.heading for one in listing.columns if one.edit is not None] if listing is not None else []
        self.words.setText(f"{counted(len(self.model.rows), 'row')} · F2 or a double click edits {', '.join(can_edit)}")
        self._show_selection()

    def _select(self) -> None:
        """Select in the pictures what is selected here."""
        listing, chosen = self.model.listing, self.table.selectionModel()
        if self._busy or listing is None or chosen is None:
            return
        current = self.sorted.mapToSource(self.table.currentIndex()).row()
        rows = sorted({self.sorted.mapToSource(index).row() for index in chosen.selectedRows()}, key=lambda row: row != current)
        self._busy = True
        listing.select(self._session, [listing.id_of(self.model.rows[row]) for row in rows])
        self._busy = False

    def _show_selection(self) -> None:
        """Select here what is selected in the pictures."""
        listing, chosen = self.model.listing, self.table.selectionModel()
        if self._busy or listing is None or chosen is None or not self.isVisible():
            return
        ids = listing.selected(self._session)
        wanted = QItemSelection()
        for row, one in enumerate(self.model.rows):
            if listing.id_of(one) in ids:
                index = self.sorted.mapFromSource(self.model.index(row, 0))
                wanted.select(index, index)
        self._busy = True
        flags = QItemSelectionModel.SelectionFlag
        chosen.select(wanted, flags.ClearAndSelect | flags.Rows)
        if not wanted.isEmpty():
            self.table.scrollTo(wanted.indexes()[0])
        self._busy = False
