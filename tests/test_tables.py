"""Slices, pads and hits as tables: one selection with the pictures, sorted by value, edited by keys, each edit one undo step."""

from __future__ import annotations

from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractItemView, QLineEdit

from bompla.model.detected_pattern import hits_inside


def opened(window: Any, stage: str) -> Any:
    window.go_to_stage(stage)
    QTest.keyClick(window, Qt.Key.Key_F3)
    assert window.table.isVisible()
    QTest.qWait(1)
    return window.table


def column(view: Any, n: int) -> list[str]:
    model = view.table.model()
    return [model.index(row, n).data() for row in range(model.rowCount())]


def typed(view: Any, row: int, n: int, text: str) -> None:
    """Edit a cell as it is done by hand: F2, the text, Return."""
    table = view.table
    table.setCurrentIndex(table.model().index(row, n))
    QTest.keyClick(table, Qt.Key.Key_F2)
    assert table.state() == QAbstractItemView.State.EditingState
    field = table.findChild(QLineEdit)
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)
    QTest.qWait(1)  # the toolkit commits in its next turn


@pytest.mark.parametrize(("stage", "rows", "first"), [
    ("slice", 45, ["1", "1.1.00"]),
    ("kit", 5, ["1", "Kick"]),
    ("groove", 69, ["1.1.00", "Kick"]),
])
def test_each_stage_with_pieces_has_them_as_a_table(demo_window: Any, stage: str, rows: int, first: list[str]) -> None:
    view = opened(demo_window, stage)
    assert view.table.model().rowCount() == rows
    assert [column(view, n)[0] for n in (0, 1)] == first


def test_a_selection_is_the_same_in_picture_and_table(demo_window: Any) -> None:
    session = demo_window.session
    view = opened(demo_window, "groove")
    document = session.store.document
    third, ninth = sorted(hits_inside(document), key=lambda hit: hit.at_beats)[2:9:6]
    view.table.selectRow(4)
    assert len(session.shown.selection.hit_ids) == 1
    session.shown.select(hit_ids=frozenset({third.id, ninth.id}))
    chosen = {view.model.rows[view.sorted.mapToSource(one).row()].id for one in view.table.selectionModel().selectedRows()}
    assert chosen == {third.id, ninth.id}
    QTest.keyClick(view.table, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert session.shown.selection.hit_ids == {hit.id for hit in hits_inside(document)}


def test_it_sorts_by_value_and_edits_are_undone_with_all_others(demo_window: Any) -> None:
    store = demo_window.session.store
    view = opened(demo_window, "groove")
    view.table.sortByColumn(2, Qt.SortOrder.DescendingOrder)
    heard = [int(text) for text in column(view, 2)]
    assert heard == sorted(heard, reverse=True)
    before = store.document
    loudest = view.model.rows[view.sorted.mapToSource(view.sorted.index(0, 0)).row()].id
    typed(view, 0, 2, "3")
    changed = {hit.id: hit.velocity for hit in hits_inside(store.document)}
    assert changed[loudest] == 3
    assert sum(changed[hit.id] != hit.velocity for hit in hits_inside(before)) == 1
    assert column(view, 2)[-1] == "3"
    store.undo()
    assert store.document == before
    assert [int(text) for text in column(view, 2)] == heard


def test_a_value_that_cannot_be_is_refused_with_a_sentence(demo_window: Any) -> None:
    store, said = demo_window.session.store, []
    demo_window.session.hub.posted.connect(lambda message: said.append(message.text))
    view = opened(demo_window, "kit")
    before = store.document
    typed(view, 0, 4, "loud")
    typed(view, 0, 3, "200")
    assert store.document == before
    assert said == ["A level is a number from -48 to 12.", "A note is from 0 to 127; 200 is not."]
    typed(view, 0, 1, "Thump")
    assert store.document.pads[0].name == "Thump"


def test_a_place_is_typed_as_it_is_read(demo_window: Any) -> None:
    store = demo_window.session.store
    view = opened(demo_window, "groove")
    hit = view.model.rows[view.sorted.mapToSource(view.sorted.index(5, 0)).row()]
    typed(view, 5, 0, "3.2.50")
    moved = next(one for one in hits_inside(store.document) if one.id == hit.id)
    assert moved.at_beats == pytest.approx(9.5)
    assert "3.2.50" in column(view, 0)
