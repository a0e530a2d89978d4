"""A table of sounds: rows are chosen whole, and the one that is gone to is heard."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget


def heard_table(name: str, columns: Sequence[str], hear: Callable[[int], object]) -> QTableWidget:
    """Return an empty table whose first column takes the room that is left; `hear` is called with each row that is gone to."""
    table = QTableWidget(0, len(columns))
    table.setAccessibleName(name)
    table.setHorizontalHeaderLabels(list(columns))
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setShowGrid(False)
    table.setTabKeyNavigation(False)
    if (rows := table.verticalHeader()) is not None:
        rows.hide()
    if (header := table.horizontalHeader()) is not None:
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
    table.currentCellChanged.connect(lambda now, _c, before, _b: hear(now) if now != before else None)
    return table
