"""Long walks through the window: commands and clicks in any order, layouts at every size, and everything taken back."""

from __future__ import annotations

import random
from itertools import combinations
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QAction, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractSlider,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QScrollBar,
    QWidget,
)

from bompla.app.commands import COMMANDS
from bompla.app.theme import DAY, NIGHT, theme
from bompla.app.ui.number_box import NumberBox
from bompla.app.ui.value_bar import ValueBar
from bompla.demo import loop_paths
from bompla.model.checks import check_document
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from conftest import settle

LEFT, RIGHT = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton
MODIFIERS = (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier,
             Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier)
ASKING = {"open", "add_sound", "save", "save_as", "write_midi", "settings", "keys", "help", "light", "pad_file", "play", "record",
          "capture", "undo", "redo", "next_sound"}
"""Commands that ask for a file, open a window, or take back."""


def as_edited(document: Document) -> Document:
    """A document apart from what is only shown."""
    return replace(document, shown=0)


def actions_of(stage: Any) -> list[QAction]:
    labels = {command.label for command in COMMANDS if command.key not in ASKING}
    return [action for action in stage.picture().actions() if action.text() in labels]


def checked(window: Any, what: str) -> None:
    """After each step the document holds together and is drawn."""
    document = window.session.store.document
    try:
        check_document(document)
    except Exception as error:
        raise AssertionError(f"after {what}: {error}") from error
    assert document.slices(), what
    assert 0.0 <= document.bpm < 1_000.0
    assert [s.end_sample for s in document.slices()][-1] == document.loop.end_sample, what


@pytest.mark.parametrize("stage", [0, 1, 2, 3])
def test_any_commands_leave_a_sound_document_and_come_undone(demo_window: Any, qtbot: Any, stage: int) -> None:
    """Commands of a stage in any order, between clicks, drags and turns of the wheel anywhere on its picture."""
    window, session = demo_window, demo_window.session
    window.go_to(stage)
    before = as_edited(session.store.document)
    rng = random.Random(stage)
    actions = actions_of(window.stages[stage])
    picture = window.stages[stage].picture()
    assert len(actions) >= 2
    for n in range(90):
        kind = rng.random()
        spot = QPoint(rng.randrange(max(1, picture.width())), rng.randrange(max(1, picture.height())))
        keys = rng.choice(MODIFIERS)
        if kind < 0.55:
            action = rng.choice(actions)
            what = action.text()
            action.trigger()
        elif kind < 0.7:
            what = f"click {n} at {spot.x()}, {spot.y()}"
            QTest.mouseClick(picture, rng.choice((LEFT, LEFT, RIGHT)), keys, spot)
        elif kind < 0.75:
            what = f"double click at {spot.x()}, {spot.y()}"
            QTest.mouseDClick(picture, LEFT, keys, spot)
        elif kind < 0.9 and stage != 2:
            to = QPoint(rng.randrange(picture.width()), rng.randrange(picture.height()))
            what = f"drag from {spot.x()}, {spot.y()} to {to.x()}, {to.y()}"
            QTest.mousePress(picture, LEFT, keys, spot)
            for part in (0.3, 0.6, 1.0):
                QTest.mouseMove(picture, spot + (to - spot) * part)
            QTest.mouseRelease(picture, LEFT, keys, to)
        else:
            what = "wheel"
            turn = QPoint(0, rng.choice((-240, -120, 120, 240)))
            QApplication.sendEvent(picture, QWheelEvent(
                QPointF(spot), picture.mapToGlobal(QPointF(spot)), QPoint(), turn, Qt.MouseButton.NoButton, keys,
                Qt.ScrollPhase.NoScrollPhase, False))
        checked(window, what)
        if rng.random() < 0.15:
            session.store.undo()
            checked(window, f"undo after {what}")
        if rng.random() < 0.1:
            session.store.redo()
    picture.grab()
    settle(qtbot, window)
    assert session.store.history.done, "such a walk edits something"
    after = session.store.document
    steps = len(session.store.history.done)
    session.store.go_back(steps)
    back = session.store.document
    if stage == 1:  # what a new hand cut is heard as comes later, and is no step of its own
        assert [c.at_sample for c in back.cuts] == [c.at_sample for c in before.cuts]
        assert as_edited(back).variations == before.variations
    else:
        assert as_edited(back) == before
    session.store.go_back(-steps)
    assert as_edited(session.store.document) == as_edited(after)
    while session.store.history.done:
        session.store.undo()
    settle(qtbot, window)


def cramped(window: QWidget) -> list[str]:
    """What is visible and does not fit: columns wider than where they scroll, words wider than their control."""
    found = []
    for area in window.findChildren(QScrollArea):
        inside = area.widget()
        narrow = area.horizontalScrollBarPolicy() == Qt.ScrollBarPolicy.ScrollBarAlwaysOff
        if area.isVisible() and inside is not None and narrow and inside.minimumSizeHint().width() > area.viewport().width():
            found.append(f"{inside.accessibleName() or type(inside).__name__}: {inside.minimumSizeHint().width()} in "
                         f"{area.viewport().width()}")
    for control in window.findChildren(QPushButton):
        if control.isVisible() and control.text() and control.width() < control.sizeHint().width() - 2:
            found.append(f"button {control.text()}: {control.sizeHint().width()} in {control.width()}")
    for area in window.findChildren(QScrollArea):
        right = area.mapTo(window, area.rect().topRight()).x()
        if area.isVisible() and right > window.width():
            found.append(f"a column ends {right - window.width()} px right of the window")
    for holder in window.findChildren(QWidget):
        row = [child for child in holder.children() if isinstance(child, QPushButton | QLabel | QComboBox | ValueBar) and child.isVisible()]
        for one, other in combinations(row, 2):
            both = one.geometry().intersected(other.geometry())
            if both.width() > 1 and both.height() > 1:
                found.append(f"{one.accessibleName() or one.text()} over {other.accessibleName() or other.text()}")
    for words in window.findChildren(QLabel):
        wide = words.fontMetrics().horizontalAdvance(words.text())
        if words.isVisible() and words.text() and not words.wordWrap() and words.width() + 1 < wide:
            found.append(f"label {words.text()}: {wide} in {words.width()}")
    return found


def test_every_stage_fits_its_window(demo_window: Any) -> None:
    for size in ((1024, 700), (1280, 800), (1920, 1080)):
        demo_window.resize(*size)
        fits(demo_window, size)


def fits(window: Any, size: tuple[int, int]) -> None:
    """Every stage, and each of its panels, has the room it needs."""
    for index, stage in enumerate(window.stages):
        window.go_to(index)
        QTest.qWait(1)
        assert (window.width(), window.height()) == size, f"{stage.key} makes the window grow"
        assert cramped(window) == [], (stage.key, size)
    window.go_to(2)
    for view in ("more", "colour", "pad"):
        window.kit.view.click(view)
        QTest.qWait(1)
        assert cramped(window) == [], view
    window.go_to(3)
    for sequence in ("order", "wander", "variation"):
        window.groove.order.sequence.click(sequence)
        QTest.qWait(1)
        assert cramped(window) == [], sequence


def test_the_light_is_changed_everywhere_at_once(demo_window: Any) -> None:
    window = demo_window
    try:
        for palette in (DAY, NIGHT):
            theme().use(palette)
            for index in range(len(window.stages)):
                window.go_to(index)
                image = window.grab().toImage()
                corner = image.pixelColor(window.width() - 3, window.height() // 2)
                assert (corner.lightnessF() > 0.5) == (palette is DAY), window.stages[index].key
    finally:
        theme().use(NIGHT)


def test_no_command_does_harm_without_a_project(window: Any) -> None:
    """Before anything is open every command is there, and none of them fails."""
    triggered = 0
    for holder in (window, *(stage.picture() for stage in window.stages)):
        for action in holder.actions():
            key = next((command.key for command in COMMANDS if command.label == action.text()), "play")
            if key not in ASKING or key in ("undo", "redo", "capture", "next_sound"):
                action.trigger()
                triggered += 1
    assert triggered > 80
    assert window.session.store.document is None
    assert not window.session.project.dirty


def test_each_sound_of_the_project_keeps_its_own_work(demo_window: Any, qtbot: Any) -> None:
    """Edits of one sound are not those of another; switching, taking out and bringing back lose nothing."""
    window, session = demo_window, demo_window.session
    session.store.edit("threshold", lambda d: replace(d, threshold=0.31))
    first = session.store.document
    session.openings.open(loop_paths()[1], add=True)
    qtbot.waitUntil(lambda: len(session.project.sounds) == 2)
    settle(qtbot, window)
    assert session.project.current == 1
    assert not session.store.history.done
    session.store.edit("threshold", lambda d: replace(d, threshold=0.77))
    second = session.store.document
    for _ in range(3):
        session.project.switch(0)
        assert session.store.document == first
        session.project.switch(1)
        assert session.store.document == second
    session.project.remove(1)
    assert session.store.document == first
    session.store.undo()
    session.project.restore()
    assert session.store.document == second
    session.project.switch(0)
    session.store.redo()
    assert session.store.document == first
    QApplication.sendEvent(window, QEvent(QEvent.Type.UpdateRequest))


def test_every_control_says_what_it_is_for(demo_window: Any) -> None:
    """A tooltip of its own, or of the box that it is a part of."""
    window = demo_window
    kinds = QAbstractButton | QComboBox | QLineEdit | QAbstractSlider
    silent = []
    for number, stage in enumerate(window.stages):
        window.go_to(number)
        for control in window.findChildren(QWidget):
            holder = control.parentWidget()
            told = control.toolTip() or (holder.toolTip() if isinstance(holder, NumberBox | QComboBox) else "")
            if isinstance(control, kinds) and not isinstance(control, QScrollBar) and control.isVisible() and not told:
                silent.append(f"{stage.key}: {type(control).__name__} {control.accessibleName()}")
    assert not silent, silent


def test_the_whole_job_is_done_with_the_keyboard_alone(window: Any, qtbot: Any, tmp_path: Path) -> None:
    """From the empty window to files in a folder: a demo loop, its doubt, a pad, a hit, what it is like, all of it written."""
    session = window.session
    window.session.outgoing.set_folder(tmp_path)

    def strike(key: Qt.Key, keys: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(QApplication.focusWidget() or window, key, keys)

    def tab_to(name: str) -> None:
        for _ in range(120):
            here = QApplication.focusWidget()
            if here is not None and (here.accessibleName() or getattr(here, "text", str)()).startswith(name):
                return
            strike(Qt.Key.Key_Tab)
        raise AssertionError(f"Tab never comes to {name}")

    window.activateWindow()
    tab_to("quay break")
    strike(Qt.Key.Key_Space)
    settle(qtbot, window)
    assert session.store.document.slices()
    strike(Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: "to check" in window.stages[1].state_line(session.store.document))
    before = window.stages[1].state_line(session.store.document)
    strike(Qt.Key.Key_F8)
    strike(Qt.Key.Key_F7)
    qtbot.waitUntil(lambda: window.stages[1].state_line(session.store.document) != before)
    strike(Qt.Key.Key_3, Qt.KeyboardModifier.ControlModifier)
    tab_to("Pads")
    pad = session.shown.selection.pad_id
    strike(Qt.Key.Key_Up)  # to the row above: the families stand in rows
    assert session.shown.selection.pad_id != pad
    strike(Qt.Key.Key_4, Qt.KeyboardModifier.ControlModifier)
    tab_to("Pattern")
    hits = len(pattern_of(session.store.document).hits)
    strike(Qt.Key.Key_Right)
    strike(Qt.Key.Key_Return)
    assert len(pattern_of(session.store.document).hits) in (hits, hits + 1)
    strike(Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.playback.transport.playing)
    strike(Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: not window.playback.transport.playing)
    strike(Qt.Key.Key_5, Qt.KeyboardModifier.ControlModifier)
    strike(Qt.Key.Key_6, Qt.KeyboardModifier.ControlModifier)
    tab_to("Everything into one folder")
    strike(Qt.Key.Key_Space)
    settle(qtbot, window)
    assert list(tmp_path.rglob("manifest.json"))
