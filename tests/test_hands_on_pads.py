"""One hand on several pads, numbers that are typed, notes of second drums, and what the strip and the tray say of slices."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.app.kit.layer_strip import LayerCell
from bompla.app.kit.pad_grid import beside_in_words
from bompla.audio.clip import Clip
from bompla.model.document import Document
from bompla.model.drums import drum_of_note
from bompla.model.kit_edits import LEVEL, add_layer, copy_pad, notes_by_drum, set_pad_drum, set_shape
from bompla.model.params import Param
from bompla.model.reshape import change_in_words, levelled, reshaped
from bompla.model.shape import PLAIN, SHAPE_PARAMS, Shape

LEFT, CTRL, SHIFT, NONE = (Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier,
                           Qt.KeyboardModifier.NoModifier)


@given(key=st.sampled_from([*SHAPE_PARAMS, "level_db"]), share=st.floats(0.0, 1.0))
def test_what_a_bar_says_can_be_typed(key: str, share: float) -> None:
    param: Param = LEVEL if key == "level_db" else SHAPE_PARAMS[key]
    value = param.low + share * (param.high - param.low)
    words = param.in_words(value)
    back = param.parsed(words)
    assert back is not None
    assert param.in_words(back) == words
    assert param.parsed("loud") is None


@pytest.mark.parametrize(("key", "text", "value"), [
    ("attack_ms", "8", 8.0), ("attack_ms", "0.2 s", 200.0), ("clean", "100 %", 1.0), ("cutoff_hz", "2.5k", 2_500.0), ("tune", "-3", -3.0),
    ("pan", "20 left", -0.2), ("tune", "99", 24.0), ("pan", "centre", 0.0), ("sustain", "−5", 0.0),
])
def test_numbers_are_taken_as_people_type_them(key: str, text: str, value: float) -> None:
    assert SHAPE_PARAMS[key].parsed(text) == pytest.approx(value)


def test_several_pads_move_together_and_keep_their_differences(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    first, second, third = document.pads[:3]
    document = set_shape(set_shape(document, first.id, Shape(tune=1.0, cutoff_hz=1_000.0)), second.id, Shape(tune=5.0, cutoff_hz=500.0))
    moved = reshaped(document, first.id, Shape(tune=3.0, cutoff_hz=2_000.0, filter="low"), (first.id, second.id))
    assert [moved.pad(one.id).shape.tune for one in (first, second)] == [3.0, 7.0]
    assert [moved.pad(one.id).shape.cutoff_hz for one in (first, second)] == [2_000.0, 1_000.0]
    assert moved.pad(second.id).shape.filter == "low"
    assert moved.pad(third.id) == document.pad(third.id)
    louder = levelled(moved, first.id, 3.0, (first.id, second.id))
    assert [louder.pad(one.id).level_db for one in (first, second, third)] == [3.0, 3.0, 0.0]
    assert change_in_words(PLAIN, Shape(end_ms=20.0), [second]) == f"trim {second.name.lower()}"
    assert change_in_words(PLAIN, Shape(tune=2.0), [first, second]) == "tune 2 pads"
    assert change_in_words(PLAIN, Shape(tune=2.0, pan=0.5), [first]) == f"shape {first.name.lower()}"


def test_a_second_drum_gets_a_note_of_its_own_drum(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    for drum in ("kick", "snare"):
        pad = next(p for p in document.pads if p.drum == drum)
        document = copy_pad(document, pad.id, max(p.slot for p in document.pads) + 1)
        twin = max(document.pads, key=lambda p: p.id)
        assert drum_of_note(twin.note) == drum
        document = copy_pad(document, pad.id, max(p.slot for p in document.pads) + 1)
        third = max(document.pads, key=lambda p: p.id)
        assert drum_of_note(third.note) == "perc", "no other drum's note is taken"
    notes = [pad.note for pad in notes_by_drum(document).pads]
    assert len(set(notes)) == len(notes)
    assert {drum_of_note(p.note) for p in notes_by_drum(document).pads if p.drum == "snare"} <= {"snare", "perc"}
    assert set_pad_drum(document, document.pads[0].id, "rim").pads[0].note == 37


def test_pads_are_chosen_and_changed_together_in_the_window(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to_stage("kit")
    kit, panel = window.kit, window.kit.panel
    first, second = session.store.document.pads[:2]
    session.shown.select(pad_id=first.id)
    QTest.mouseClick(kit.grid, LEFT, CTRL, kit.grid.cell(second.slot).center().toPoint())
    assert set(session.shown.selection.pad_ids) == {first.id, second.id}
    assert panel.reach.text() == "changes move 2 pads"
    bar = panel.level
    QTest.mouseDClick(bar, LEFT, NONE, QPoint(5, 5))
    QTest.keyClicks(bar.field, "-6")
    QTest.keyClick(bar.field, Qt.Key.Key_Return)
    assert [session.store.document.pad(one.id).level_db for one in (first, second)] == [-6.0, -6.0]
    assert session.store.history.undo_label == "level 2 pads"
    QTest.keyClick(bar, Qt.Key.Key_9)
    QTest.keyClick(bar.field, Qt.Key.Key_Escape)
    assert session.store.document.pad(first.id).level_db == -6.0, "Escape leaves it"
    tune = panel.bars["tune"]
    QTest.mousePress(tune, LEFT, SHIFT, QPoint(tune.width() // 2, 10))
    for step in range(1, 9):
        QTest.mouseMove(tune, QPoint(tune.width() // 2 + step * tune.width() // 20, 10))
    assert abs(tune.amount) <= 24.0
    QTest.mouseRelease(tune, LEFT, NONE, QPoint(tune.width() // 2, 10))
    session.store.undo()
    panel.all.click()
    assert len(session.shown.selection.pad_ids) == len(session.store.document.pads)
    QTest.keyClick(kit.grid, Qt.Key.Key_A, CTRL)
    assert session.shown.selection.pad_ids == (first.id,)
    QTest.keyClick(kit.grid, Qt.Key.Key_K, CTRL | SHIFT)
    assert kit.kits.isVisible()
    kit.kits.close()
    panel.bars["tune"].chosen.emit(2.0)
    QTest.keyClick(kit.grid, Qt.Key.Key_C, CTRL)
    session.shown.select(pad_id=second.id)
    entries = {action.text(): action for action in kit.pad_menu().actions()}
    entries["Paste shape"].trigger()
    assert session.store.document.pad(second.id).shape == session.store.document.pad(first.id).shape


def test_one_slice_is_used_for_all_velocities_and_taken_off_by_a_key(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to_stage("kit")
    snare = next(p for p in session.store.document.pads if p.drum == "snare")
    soft = min((c for c in session.store.document.cuts if any(h.drum == "snare" and h.sure for h in c.heard)),
               key=lambda c: min(h.velocity for h in c.heard if h.drum == "snare"))
    session.store.edit("add", lambda d: add_layer(d, snare.id, soft.id))
    session.shown.select(pad_id=snare.id)
    assert len(session.store.document.pad(snare.id).layers) == 2
    cells = window.kit.panel.findChildren(LayerCell)
    words = [beside_in_words(c, "snare") for c in session.store.document.cuts
             if c.at_sample in {layer.at_sample for layer in session.store.document.pad(snare.id).layers}]
    assert all(any(said in cell.accessibleName() for cell in cells) for said in words)
    QTest.keyClick(cells[0], Qt.Key.Key_Delete)
    assert len(session.store.document.pad(snare.id).layers) == 1
    session.store.undo()
    layer = session.store.document.pad(snare.id).layers[0]
    window.kit.panel.strip.use_alone(snare.id, layer)
    assert session.store.document.pad(snare.id).layers == (replace(layer, up_to=127),)
    ordered = [(c.heard[0].drum, beside_in_words(c, c.heard[0].drum) != "alone") for c in window.kit.tray.cuts if c.heard]
    for drum in {drum for drum, _ in ordered}:
        own = [beside for one, beside in ordered if one == drum]
        assert own == sorted(own) or sum(own) in (0, len(own)), "the clean ones come first"
