"""Boxes in which numbers are typed say what holds, and keys reach the stage from them."""

from __future__ import annotations

from typing import Any

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from bompla.app.ui.number_box import NumberBox
from bompla.model.detected_pattern import pattern_of


@pytest.fixture
def loop_panel(demo_window: Any, qtbot: Any) -> Any:
    demo_window.go_to(0)
    demo_window.activateWindow()
    qtbot.waitUntil(demo_window.isActiveWindow)
    return demo_window.bring_in.loop


def type_in(box: NumberBox, text: str) -> None:
    QTest.mouseClick(box, Qt.MouseButton.LeftButton)
    box.selectAll()
    QTest.keyClicks(box, text)


@pytest.mark.parametrize("text", ["97,5", "97.5"])
def test_a_typed_tempo_holds_on_return_with_a_comma_or_a_point(loop_panel: Any, demo_window: Any, text: str) -> None:
    store, steps = demo_window.session.store, []
    store.document_changed.connect(steps.append)
    type_in(loop_panel.bpm, text)
    assert not steps, "nothing changes while a number is typed"
    QTest.keyClick(loop_panel.bpm, Qt.Key.Key_Return)
    assert store.document.bpm == pytest.approx(97.5, abs=0.01)
    assert len(steps) == 1
    assert QApplication.focusWidget() is demo_window.bring_in.picture()


def test_a_box_follows_what_changes_and_never_brings_an_old_number_back(loop_panel: Any, demo_window: Any) -> None:
    store = demo_window.session.store
    QTest.mouseClick(loop_panel.bpm, Qt.MouseButton.LeftButton)
    before = store.document
    other = next(key for key in loop_panel.readings.keys if abs(key.bpm - before.bpm) > 5.0)
    type_in(loop_panel.bars_are, "6")
    loop_panel.readings.click(other)
    read = store.document
    assert read.bpm == pytest.approx(other.bpm, abs=0.01)
    assert loop_panel.bars_are.value() == read.loop.bars
    assert loop_panel.bpm.value() == pytest.approx(read.bpm, abs=0.006)
    demo_window.bring_in.picture().setFocus()
    assert store.document is read, "what was begun before another change is gone"
    type_in(loop_panel.bpm, "88")
    QTest.keyClick(loop_panel.bpm, Qt.Key.Key_Escape)
    assert store.document is read
    assert loop_panel.bpm.value() == pytest.approx(read.bpm, abs=0.006)
    type_in(loop_panel.bpm, "88")
    demo_window.bring_in.picture().setFocus()
    assert store.document.bpm == pytest.approx(88.0, abs=0.01), "what was typed holds on leaving the box"


def test_keys_that_write_no_number_are_the_windows(loop_panel: Any, demo_window: Any, qtbot: Any) -> None:
    store, transport = demo_window.session.store, demo_window.playback.transport
    before = store.document.bpm
    type_in(loop_panel.bpm, "90")
    QTest.keyClick(loop_panel.bpm, Qt.Key.Key_Return)
    QTest.mouseClick(loop_panel.bpm, Qt.MouseButton.LeftButton)
    QTest.keyClick(loop_panel.bpm, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert store.document.bpm == pytest.approx(before, abs=0.01)
    QTest.keyClick(loop_panel.bpm, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: transport.playing)
    QTest.keyClick(loop_panel.bpm, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: not transport.playing)
    demo_window.go_to_stage("groove")
    groove = demo_window.groove
    groove.picture().setFocus()
    QTest.keyClick(groove.picture(), Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    selected = demo_window.session.shown.selection.hit_ids
    assert selected
    type_in(groove.selected.velocity, str(round(groove.selected.velocity.value())))
    QTest.keyClick(groove.selected.velocity, Qt.Key.Key_Return)
    pattern = pattern_of(store.document)
    assert len({hit.velocity for hit in pattern.hits if hit.id in selected}) == 1, "all take it, also where the first has it already"


def test_a_stages_keys_work_from_a_button_of_it(demo_window: Any, qtbot: Any) -> None:
    demo_window.go_to_stage("groove")
    demo_window.activateWindow()
    qtbot.waitUntil(demo_window.isActiveWindow)
    button = demo_window.groove.order.add
    button.setEnabled(True)
    button.setFocus()
    assert not demo_window.session.shown.selection.hit_ids
    QTest.keyClick(button, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert demo_window.session.shown.selection.hit_ids


def test_a_stage_plays_what_it_is_about_until_the_user_chooses(demo_window: Any) -> None:
    listening, balance = demo_window.listening, demo_window.playback.balance
    heard = []
    for key in ("bring-in", "slice", "kit", "groove", "study"):
        demo_window.go_to_stage(key)
        heard.append((balance.blend, listening.original.isChecked(), listening.rebuilt.isChecked()))
    assert heard == [(0.0, True, False), (0.0, True, False), (1.0, False, True), (1.0, False, True), (0.5, False, False)]
    QTest.mouseClick(listening.original, Qt.MouseButton.LeftButton)
    demo_window.go_to_stage("groove")
    assert (balance.blend, listening.original.isChecked()) == (0.0, True), "what the user chose stays"
    QTest.mouseClick(listening.original, Qt.MouseButton.LeftButton)
    assert listening.original.isChecked(), "one of the two stays where it is"
    QTest.mouseClick(listening.rebuilt, Qt.MouseButton.LeftButton)
    assert (balance.blend, listening.original.isChecked(), listening.rebuilt.isChecked()) == (1.0, False, True)


def test_the_wheel_over_a_box_that_is_not_edited_changes_nothing(loop_panel: Any, demo_window: Any) -> None:
    before = demo_window.session.store.document
    for box in (loop_panel.bpm, loop_panel.bars_are):
        middle = QPointF(box.rect().center())
        turn = QWheelEvent(middle, QPointF(box.mapToGlobal(box.rect().center())), QPoint(0, 0), QPoint(0, 120), Qt.MouseButton.NoButton,
                           Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)
        QApplication.sendEvent(box, turn)
    assert demo_window.session.store.document is before


def test_a_number_that_is_refused_is_not_shown(loop_panel: Any, demo_window: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    store = demo_window.session.store
    before = store.document
    tried: list[str] = []
    monkeypatch.setattr(store, "edit", lambda label, _: tried.append(label))
    type_in(loop_panel.bpm, "88")
    QTest.keyClick(loop_panel.bpm, Qt.Key.Key_Return)
    assert tried == ["set tempo 88.00 BPM"]
    assert loop_panel.bpm.value() == pytest.approx(before.bpm, abs=0.006)
