"""The Groove stage driven as a producer would: ghost pins, writers, feel, variations, lanes that are not heard."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import Any

import mido
import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent, QEnterEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QFileDialog

from bompla.app.groove.cards import VARIATION_MIME
from bompla.errors import EditError
from bompla.export.data import midi_options
from bompla.export.request import parts_of
from bompla.formats.midi import MidiOptions, midi_bytes, written_hits
from bompla.groove.feel import PLAIN_LAYER, felt_pattern
from bompla.groove.order import order_passages, wander_passages
from bompla.groove.writers import WRITERS
from bompla.model.checks import check_document
from bompla.model.cut_edits import set_left_out, set_meter
from bompla.model.detected_pattern import pattern_beats, pattern_meter, pattern_of
from bompla.model.document import OrderStep
from bompla.model.order_edits import set_order
from bompla.model.pattern_edits import delete_hits
from bompla.model.variation_edits import add_variation, delete_variation, duplicate_variation, move_variation, set_bars, set_pattern_meter
from conftest import captured, hit_of, settle

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier
CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def groove(demo_window: Any) -> Any:
    """The window at the Groove stage with the snare's lane chosen."""
    demo_window.go_to(3)
    snare = next(p for p in demo_window.session.store.document.pads if p.drum == "snare")
    demo_window.session.shown.select(pad_id=snare.id)
    demo_window.snare = snare
    return demo_window


def test_a_wrong_hit_is_mended_by_its_ghost_pin(groove: Any) -> None:
    session, lanes = groove.session, groove.groove.lanes
    before = session.store.document
    assert lanes._session.shown.missing() == ()
    hit = next(h for h in pattern_of(before).hits if h.pad_id == groove.snare.id and h.at_beats > 4)
    QTest.mouseClick(lanes, Qt.MouseButton.RightButton, NONE, lanes.pin(hit).toPoint())
    assert [(g[0], round(g[1], 2)) for g in lanes._session.shown.missing()] == [(hit.pad_id, round(hit.at_beats, 2))]
    QTest.mouseClick(lanes, LEFT, NONE, lanes.pin(hit).toPoint() + QPoint(1, 4))
    back = [h for h in pattern_of(session.store.document).hits if h.pad_id == hit.pad_id]
    assert any(abs(h.at_beats - hit.at_beats) < 1e-6 and h.velocity == hit.velocity for h in back)
    assert lanes._session.shown.missing() == ()
    gone = [h.id for h in pattern_of(session.store.document).hits if h.pad_id == groove.snare.id]
    session.store.edit("take out", lambda d: delete_hits(d, gone))
    assert len(lanes._session.shown.missing()) == len(gone)
    lanes.setFocus()
    QTest.keyClick(lanes, Qt.Key.Key_H, CTRL)
    assert len([h for h in pattern_of(session.store.document).hits if h.pad_id == groove.snare.id]) == len(gone)
    groove.groove.missing_hits.trigger()
    session.store.edit("take out", lambda d: delete_hits(d, [h.id for h in pattern_of(d).hits]))
    assert lanes._session.shown.missing() == ()


def test_each_writer_is_seen_written_and_undone(groove: Any, qtbot: Any) -> None:
    for key in sorted(WRITERS):
        write_and_undo(groove, key)
        settle(qtbot, groove)


def write_and_undo(groove: Any, key: str) -> None:
    session, panel = groove.session, groove.groove.writer
    before = session.store.document
    panel.show_writer(key)
    assert panel.open_view.isVisible()
    panel.where.setCurrentIndex(2)
    panel.where.activated.emit(2)
    preview = session.store.document
    assert session.store.history.document == before, "what is shown is not done yet"
    bar = panel._choices.itemAt(0).widget()
    bar.setFocus()
    QTest.keyClick(bar, Qt.Key.Key_Right)
    QTest.keyClick(bar, Qt.Key.Key_Right)
    panel.write()
    after = session.store.document
    assert session.store.history.undo_label == f"write {WRITERS[key].label.lower()}" or after == before
    if key not in ("ghosts", "shuffle"):
        assert pattern_of(preview) != pattern_of(before)
        assert pattern_of(after) != pattern_of(before)
    session.store.undo()
    assert session.store.document == before
    panel.show_writer(key)
    panel.cancel()
    assert session.store.document == before


def test_writers_offer_what_is_selected_and_what_plays_first(groove: Any) -> None:
    session, panel, lanes = groove.session, groove.groove.writer, groove.groove.lanes
    hits = [h for h in pattern_of(session.store.document).hits if h.pad_id == groove.snare.id][:2]
    session.shown.select(pad_id=groove.snare.id, hit_ids=frozenset())
    groove.playback.baking.loop_bars(1, 2)
    panel.show_writer("roll")
    assert (panel.where.currentText(), panel.where.currentData()) == ("the bars that play", (4.0, 12.0))
    panel.cancel()
    session.shown.select(hit_ids=frozenset(h.id for h in hits))
    panel.show_writer("roll")
    start, end = panel.where.currentData()
    assert panel.where.currentText() == "the selected hits"
    assert start == pytest.approx(hits[0].at_beats, abs=0.15)
    assert end == pytest.approx(hits[1].at_beats + 0.25, abs=0.3)
    known = {h.id for h in pattern_of(session.store.history.document).hits}
    assert lanes._written() == known
    assert {h.id for h in lanes.hits()} - known, "what would be written is shown, and told apart"
    assert {h.id for h in lanes._about_to_go()} == known - {h.id for h in lanes.hits()}
    panel.cancel()
    assert lanes._written() is None


def test_a_shadow_offers_every_lane_but_its_own_whichever_is_chosen(groove: Any) -> None:
    session, panel = groove.session, groove.groove.writer
    pads = session.store.document.pads
    kick = next(pad for pad in pads if pad.drum == "kick")
    panel.show_writer("shadow")
    box = next(one for one in panel.findChildren(QComboBox) if one.toolTip() == "What it follows")
    others = {f"follow {pad.name}" for pad in pads if pad.id != groove.snare.id}
    assert {box.itemText(n) for n in range(box.count())} == {"follow the original", *others}
    index = box.findText(f"follow {kick.name}")
    box.setCurrentIndex(index)
    box.activated.emit(index)
    after_kick = session.store.document
    hat = next(pad for pad in pads if pad.drum == "hat_closed")
    session.shown.select(pad_id=hat.id)
    assert box.currentText() == f"follow {kick.name}", "what was chosen stays"
    assert box.findText(f"follow {hat.name}") < 0
    assert session.store.document != after_kick, "the other lane is written into now"
    session.shown.select(pad_id=kick.id)
    assert box.currentText() == "follow the original", "a lane cannot follow itself"
    panel.cancel()


def test_a_long_pattern_comes_up_fitted_and_is_scrolled_by_its_picture_in_small(groove: Any) -> None:
    stage, session = groove.groove, groove.session
    lanes, whole = stage.lanes, stage.whole
    session.store.edit("longer", lambda d: set_bars(d, 64))
    low, high = lanes.limits()
    assert (lanes.axis.start, lanes.axis.end) == (low, high), "all of it is in view"
    lanes.zoom(0.013)
    lanes.show_span(lanes.axis.start + 9_000.0, lanes.axis.end + 9_000.0)  # begins within a beat
    names = lanes.grab().copy(2, 60, round(lanes.axis.left) - 14, 180).toImage()
    lanes.show_all()
    assert lanes.grab().copy(2, 60, round(lanes.axis.left) - 14, 180).toImage() == names, "zoomed, no line runs over the names"
    lanes.zoom(0.1)
    span = lanes.axis.end - lanes.axis.start
    part = whole.part()
    assert abs(whole.x_of(lanes.axis.start) - part.left()) < 12.0
    QTest.mousePress(whole, LEFT, NONE, part.center().toPoint())
    QTest.mouseMove(whole, part.center().toPoint() + QPoint(150, 0))
    moved = lanes.axis.start
    QTest.mouseRelease(whole, LEFT, NONE, part.center().toPoint() + QPoint(150, 0))
    assert moved - (low + high - span) / 2.0 == pytest.approx(150.0 * (high - low) / lanes.axis.width, rel=0.03)
    assert lanes.axis.end - lanes.axis.start == pytest.approx(span)
    QTest.mousePress(whole, LEFT, NONE, whole.part().center().toPoint())
    QTest.mouseMove(whole, whole.part().center().toPoint() - QPoint(90, 0))
    QTest.keyClick(groove, Qt.Key.Key_Escape)
    assert lanes.axis.start == pytest.approx(moved, abs=2.0), "Escape shows what was in view"
    QTest.mouseRelease(whole, LEFT, NONE, QPoint(10, 10))
    end = QPoint(round(whole.part().right()), 12)
    QTest.mousePress(whole, LEFT, NONE, end)
    QTest.mouseMove(whole, end + QPoint(40, 0))
    QTest.mouseRelease(whole, LEFT, NONE, end + QPoint(40, 0))
    assert lanes.axis.end - lanes.axis.start > 1.3 * span, "its end zooms"
    QTest.mouseDClick(whole, LEFT, NONE, QPoint(round(whole.x_of(low)) + 3, 12))
    assert (lanes.axis.start, lanes.axis.end) == (low, high)
    session.store.undo()
    assert (lanes.axis.start, lanes.axis.end) == lanes.limits()


def test_many_cards_scroll_and_say_so(groove: Any) -> None:
    session, cards = groove.session, groove.groove.cards
    for _ in range(13):
        session.store.edit("copy", duplicate_variation)
    assert cards.edge(True).isValid()
    assert not cards.edge(False).isValid(), "the last is in sight, as it is shown"
    for _ in range(6):
        QTest.mouseClick(cards, LEFT, NONE, cards.edge(True).center().toPoint() if cards.edge(True).isValid() else QPoint(-1, -1))
    assert not cards.edge(True).isValid()
    assert cards.edge(False).isValid()
    assert session.store.document.shown == 13, "scrolling shows no other"


def test_a_feel_is_heard_shown_and_written_in(groove: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    session, panel, lanes = groove.session, groove.groove.feel, groove.groove.lanes
    before = session.store.document
    bar = panel.bars["swing"]
    panel.of.setCurrentIndex(1)
    panel.of.activated.emit(1)
    QTest.mousePress(bar, LEFT, NONE, QPoint(10, 12))
    QTest.mouseMove(bar, QPoint(bar.width() // 2, 12))
    QTest.mouseRelease(bar, LEFT, NONE, QPoint(bar.width() // 2, 12))
    layer = pattern_of(session.store.document).layer
    assert layer.swing == pytest.approx(62.5, abs=1.0)
    assert pattern_of(session.store.document).hits == pattern_of(before).hits, "the layer leaves the hits alone"
    moved = [h for h in lanes.hits() if abs(h.at_beats - hit_of(before, h.id).at_beats) > 0.02]
    assert moved
    at = lanes.pin(moved[0]).x()
    assert abs(at - lanes.pin(hit_of(before, moved[0].id)).x()) > 0.5
    panel.bars["ahead"].setFocus()
    QTest.keyClick(panel.bars["ahead"], Qt.Key.Key_Right)
    assert dict(pattern_of(session.store.document).layer.ahead_ms)[groove.snare.id] > 0.0
    heard = felt_pattern(session.store.document)
    lanes.setFocus()
    QTest.keyClick(lanes, Qt.Key.Key_W, CTRL)
    assert pattern_of(session.store.document).hits == heard
    assert pattern_of(session.store.document).layer == PLAIN_LAYER
    path = tmp_path / "mine.feel.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    panel.keep()
    assert panel.feels.findText("mine") > 0, "it joins the list at once"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    while session.store.history.done:
        session.store.undo()
    panel.open_feel()
    index = panel.feels.findText("mine")
    panel.feels.setCurrentIndex(index)
    panel.feels.activated.emit(index)
    assert pattern_of(session.store.document).layer.feel.name == "mine"
    stage = groove.groove
    stage.parts.click("feel")
    assert panel.bars["timing"].isVisible()
    QTest.keyClick(panel.bars["force"], Qt.Key.Key_Delete)
    assert pattern_of(session.store.document).layer.force == 0.0
    felt = felt_pattern(session.store.document)
    panel.lane.click()
    assert pattern_of(session.store.document).layer.lanes == (groove.snare.id,)
    over_one = felt_pattern(session.store.document)
    plain = {h.id: h.at_beats for h in pattern_of(before).hits}
    assert {h.pad_id for h in over_one if abs(plain[h.id] - h.at_beats) > 1e-6} <= {groove.snare.id}
    assert {h.pad_id for h in felt if abs(plain[h.id] - h.at_beats) > 1e-6} - {groove.snare.id}, "over all, others move too"
    panel.lane.click()
    assert felt_pattern(session.store.document) == felt
    panel.plain()
    assert pattern_of(session.store.document).layer == PLAIN_LAYER


def test_variations_are_made_shown_heard_and_dragged(groove: Any, qtbot: Any) -> None:
    session, stage = groove.session, groove.groove
    before = session.store.document
    for n in (0, 1, 3):
        stage.new_menu().actions()[n].trigger()
    assert [v.name for v in session.store.document.variations] == ["main", "from A", "empty", "back beat"]
    assert stage.state_line(session.store.document).startswith("D")
    card = stage.cards.card(2).center().toPoint()
    QTest.mouseClick(stage.cards, LEFT, NONE, card)
    assert pattern_of(session.store.document).name == "empty"
    assert session.store.history.undo_label == "variation back beat", "showing a variation is no step of undo"
    settle(qtbot, groove)
    assert groove.playback.baking.baked.events == ()
    QTest.mouseDClick(stage.cards, LEFT, NONE, stage.cards.card(2).center().toPoint())
    stage.name.setText("nothing at all")
    QTest.keyClick(stage.name, Qt.Key.Key_Return)
    assert pattern_of(session.store.document).name == "nothing at all"
    first, last = stage.cards.card(2).center().toPoint(), stage.cards.card(0).center().toPoint()
    QTest.mousePress(stage.cards, LEFT, NONE, first)
    for step in range(1, 5):
        QTest.mouseMove(stage.cards, first + (last - first) * step / 4)
    QTest.mouseRelease(stage.cards, LEFT, NONE, last)
    assert [v.letter for v in session.store.document.variations] == ["C", "A", "B", "D"]
    assert pattern_of(session.store.document).name == "nothing at all"
    stage.cards.setFocus()
    QTest.keyClick(stage.cards, Qt.Key.Key_Right)
    assert pattern_of(session.store.document).name == "main"
    while session.store.history.done:
        session.store.undo()
    assert replace(session.store.document, shown=0) == before


def test_what_was_heard_is_shown_played_and_never_changed(groove: Any, qtbot: Any) -> None:
    """Its card stands first; drawing there is refused in words, a copy of it can be changed, and new cuts change what it shows."""
    session, stage = groove.session, groove.groove
    before = session.store.document
    session.store.edit("empty", lambda d: add_variation(d, [], "empty"))
    QTest.mouseClick(stage.cards, LEFT, NONE, stage.cards.card(-1).center().toPoint())
    document = session.store.document
    assert document.shown == -1
    assert not stage.name.isEnabled()
    assert not stage.take_out.isEnabled()
    menu = stage.variations.menu()
    assert [a.text() for a in menu.actions() if a.text() and not a.isEnabled()] == ["Rename", "Delete"]
    assert {(h.pad_id, round(h.at_beats, 3)) for h in pattern_of(document).hits} == {
        (h.pad_id, round(h.at_beats, 3)) for h in pattern_of(before).hits}
    settle(qtbot, groove)
    events = groove.playback.baking.baked.events
    assert sum(len(event.stands_for) or 1 for event in events) == len(pattern_of(document).hits)
    assert stage.session.shown.missing() == ()
    lane = stage.lanes.lane(groove.snare.id)
    taken = [h.at_beats for h in pattern_of(document).hits if h.pad_id == groove.snare.id]
    free = next(step / 4 for step in range(round(4 * document.loop.length_beats)) if all(abs(step / 4 - beat) > 0.2 for beat in taken))
    x = stage.lanes.axis.x(document.beat_map.sample_at(free))
    QTest.mouseClick(stage.lanes, LEFT, NONE, QPoint(round(x), round(lane.center().y())))
    assert "cannot be changed" in groove.messages.text.text()
    assert session.store.document.variations == document.variations
    assert written_hits(document, MidiOptions())
    check_document(document)
    assert order_passages(document)[0].index == 0
    assert wander_passages(document)[0].index == 0
    for change in (lambda d: delete_variation(d, d.shown), lambda d: set_pattern_meter(d, "3/4")):
        with pytest.raises(EditError):
            change(document)
    assert move_variation(document, 0, 1).shown == -1
    session.store.edit("copy variation", duplicate_variation)
    assert pattern_of(session.store.document).name == "from detected"
    assert len(pattern_of(session.store.document).hits) == len(pattern_of(document).hits)
    assert min(h.id for h in pattern_of(session.store.document).hits) > 0
    QTest.mouseClick(stage.cards, LEFT, NONE, stage.cards.card(-1).center().toPoint())
    cut = session.store.document.slices()[4].cut.id
    session.store.edit("leave out", lambda d: set_left_out(d, [cut], True))
    assert len(pattern_of(session.store.document).hits) < len(pattern_of(document).hits)


def test_a_card_is_dragged_into_the_order(groove: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    session, stage = groove.session, groove.groove
    session.store.edit("empty", lambda d: add_variation(d, [], "empty"))
    dragged: list[tuple[str, str]] = []
    monkeypatch.setattr("bompla.app.groove.cards.start_drag", lambda _, kind, item: dragged.append((kind, item)))
    middle = stage.cards.card(1).center().toPoint()
    QTest.mousePress(stage.cards, LEFT, NONE, middle)
    QTest.mouseMove(stage.cards, middle + QPoint(3, 40))
    QTest.mouseRelease(stage.cards, LEFT, NONE, middle + QPoint(3, 40))
    assert dragged == [(VARIATION_MIME, "B")]
    stage.order.sequence.click("order")
    row = stage.order.order
    for letter, x in (("B", 5), ("A", 2), ("B", 400)):
        data = QMimeData()
        data.setData(VARIATION_MIME, letter.encode())
        enter = QDragEnterEvent(QPoint(x, 10), Qt.DropAction.MoveAction, data, LEFT, NONE)
        row.dragEnterEvent(enter)
        assert enter.isAccepted()
        row.dragMoveEvent(QDragMoveEvent(QPoint(x, 10), Qt.DropAction.MoveAction, data, LEFT, NONE))
        row.grab()
        row.dropEvent(QDropEvent(QPointF(x, 10), Qt.DropAction.MoveAction, data, LEFT, NONE))
    assert [step.letter for step in session.store.document.order] == ["A", "B", "B"]
    groove.go_to_stage("send-out")
    assert session.outgoing.set_options(patterns="order")
    part = parts_of(session.store.document, "order")[0]
    assert midi_options(session.outgoing.request(), part).letters == ("A", "B", "B")
    assert sum(passage.length for passage in part.passages) == 48


@pytest.mark.parametrize(("meter", "bars"), [("3/4", 5), ("5/4", 3), ("4/4", 4)])
def test_a_variation_has_a_meter_of_its_own(groove: Any, qtbot: Any, meter: str, bars: int) -> None:
    """Its bars are counted, clicked and written in that meter; the loop and the other variations keep theirs."""
    session, stage = groove.session, groove.groove
    session.store.edit("copy variation", duplicate_variation)
    box = stage.order.meter
    assert [box.itemData(n) for n in range(box.count())] == ["4/4", "3/4", "5/4"]
    box.setCurrentIndex(box.findData(meter))
    box.activated.emit(box.currentIndex())
    document = session.store.document
    per_bar = int(meter[0])
    assert (pattern_meter(document).name, pattern_beats(document)) == (meter, bars * per_bar)
    assert document.beats_of(document.variations[0]) == 16
    assert stage.order.bars.value() == bars
    check_document(document)
    settle(qtbot, groove)
    baked = groove.playback.baking.baked
    assert (baked.beats, baked.beats_per_bar) == (bars * per_bar, per_bar)
    assert not stage.lanes.grab().isNull()
    file = mido.MidiFile(file=BytesIO(midi_bytes(document, MidiOptions())))
    assert [m.numerator for m in file.tracks[0] if m.type == "time_signature"] == [per_bar]
    both = mido.MidiFile(file=BytesIO(midi_bytes(document, MidiOptions(letters=("A", "B", "A")))))
    assert [m.numerator for m in both.tracks[0] if m.type == "time_signature"] == ([4] if per_bar == 4 else [4, per_bar, 4])
    with pytest.raises(EditError, match="another beat"):
        set_pattern_meter(document, "6/8")
    assert pattern_meter(set_meter(document, "6/8")).name == "6/8", "where the loop's beat is another, the loop's meter holds"


def test_a_variation_changes_what_is_heard_at_its_hit(groove: Any, qtbot: Any) -> None:
    """One kick on beat 3 of the first bar: silence before it, sound from its very sample on."""
    session, playback = groove.session, groove.playback
    kick = next(p for p in session.store.document.pads if p.drum == "kick")
    session.store.edit("one", lambda d: add_variation(d, [(kick.id, 2.0, 110)], "one"))
    groove.listening.blend.setValue(100)
    settle(qtbot, groove)
    event = playback.baking.baked.events[0]
    playback.transport.seek(session.store.document.loop.start_sample)
    qtbot.waitUntil(lambda: playback.engine.state.position == 0)
    start = playback.engine.state.rendered_frames
    playback.transport.play()
    qtbot.waitUntil(lambda: playback.engine.state.position > event.at_frame + 9_000)
    state = playback.engine.state
    sound = np.abs(captured(playback.engine, since_frame=start)).max(axis=1)[: state.rendered_frames - start]
    playback.transport.stop()
    sound[:2_000] = 0.0  # the original fades out in the first of it
    began = int(np.argmax(sound > 1e-3))
    assert sound[began:].max() > 0.05
    assert state.position - (len(sound) - began) == pytest.approx(event.at_frame, abs=600)


def test_lanes_are_muted_and_soloed(groove: Any, qtbot: Any) -> None:
    lanes, playback = groove.groove.lanes, groove.playback
    lane = lanes.lane(groove.snare.id)
    y = round(lane.center().y())
    QTest.mouseClick(lanes, LEFT, NONE, QPoint(round(lanes.axis.left) - 60, y))
    settle(qtbot, groove)
    assert all(e.pad_id != groove.snare.id for e in playback.baking.baked.events)
    QTest.mouseClick(lanes, LEFT, NONE, QPoint(round(lanes.axis.left) - 60, y))
    QTest.mouseClick(lanes, LEFT, NONE, QPoint(round(lanes.axis.left) - 25, y))
    settle(qtbot, groove)
    assert {e.pad_id for e in playback.baking.baked.events} == {groove.snare.id}
    QTest.mouseClick(lanes, LEFT, NONE, QPoint(round(lanes.axis.left) - 25, y))
    settle(qtbot, groove)
    assert len({e.pad_id for e in playback.baking.baked.events}) > 3


def test_what_no_drummer_could_play_is_said(groove: Any) -> None:
    session, stage = groove.session, groove.groove
    session.store.edit("take out", lambda d: delete_hits(d, [h.id for h in pattern_of(d).hits if h.at_beats > 13.9]))
    assert "playable" in stage.playable.text()
    from bompla.model.pattern_edits import add_played

    three = {"snare", "hat_closed", "hat_open"}
    pads = [p.id for p in session.store.document.pads if p.drum in three]
    session.store.edit("all at once", lambda d: add_played(d, [(p, 5.0, 100, 0.0) for p in pads]))
    assert "three hands at 2.2" in stage.playable.text()
    assert stage.tidy.isVisible()
    assert "delete" in stage.tidy.text()
    count = int(stage.tidy.text().split()[-1])
    QApplication.sendEvent(stage.tidy, QEnterEvent(QPointF(2, 2), QPointF(2, 2), QPointF(2, 2)))
    shown = session.shown.selection.hit_ids
    assert len(shown) == count, "what it will take out is selected"
    stage.tidy.click()
    assert not {h.id for h in pattern_of(session.store.document).hits} & shown
    assert not stage.tidy.isVisible()


def test_escape_clears_the_selection(groove: Any) -> None:
    session = groove.session
    session.shown.select(hit_ids=frozenset(hit.id for hit in pattern_of(session.store.document).hits[:3]))
    QTest.keyClick(groove.groove.picture(), Qt.Key.Key_Escape)
    assert session.shown.selection.hit_ids == frozenset()


def test_a_pin_is_dragged_by_its_head_for_velocity_and_elsewhere_from_lane_to_lane(groove: Any) -> None:
    session, lanes = groove.session, groove.groove.lanes
    hit = next(h for h in pattern_of(session.store.document).hits if h.pad_id == groove.snare.id and h.velocity > 90)
    head = lanes.pin(hit).toPoint()

    def drag(start: QPoint, to: QPoint) -> None:
        QTest.mousePress(lanes, LEFT, NONE, start)
        for step in range(1, 5):
            QTest.mouseMove(lanes, start + (to - start) * step / 4)
        QTest.mouseRelease(lanes, LEFT, NONE, to)

    drag(head, head + QPoint(0, 20))
    softer = next(h for h in pattern_of(session.store.document).hits if h.id == hit.id)
    assert softer.velocity < hit.velocity
    assert softer.pad_id == hit.pad_id
    session.store.undo()
    kick = next(p for p in session.store.document.pads if p.drum == "kick")
    stem = QPoint(head.x(), round(lanes.lane(hit.pad_id).bottom()) - 14)
    drag(stem, QPoint(stem.x(), round(lanes.lane(kick.id).center().y())))
    assert next(h for h in pattern_of(session.store.document).hits if h.id == hit.id).pad_id == kick.id
    session.store.undo()
    many = frozenset(h.id for h in pattern_of(session.store.document).hits)
    session.shown.select(hit_ids=many)
    QTest.mouseClick(lanes, LEFT, NONE, head)
    assert session.shown.selection.hit_ids == {hit.id}, "a click on one of many takes that one"


def test_flams_are_drawn_free_of_the_grid_and_held_arrows_are_one_step(groove: Any) -> None:
    session, lanes = groove.session, groove.groove.lanes
    hit = next(h for h in pattern_of(session.store.document).hits if h.pad_id == groove.snare.id)
    before = len(pattern_of(session.store.document).hits)
    head = lanes.pin(hit).toPoint()
    QTest.mouseClick(lanes, LEFT, Qt.KeyboardModifier.AltModifier, head)
    hits = pattern_of(session.store.document).hits
    assert len(hits) == before + 1
    flam = min((h for h in hits if h.pad_id == hit.pad_id and h.id != hit.id), key=lambda h: abs(h.at_beats - hit.at_beats))
    assert hit.at_beats - flam.at_beats == pytest.approx(0.028 * session.store.document.bpm / 60, abs=1e-6)
    assert flam.velocity < hit.velocity
    off = QPoint(head.x() + 17, round(lanes.lane(hit.pad_id).top()) + 12)
    QTest.mouseClick(lanes, LEFT, Qt.KeyboardModifier.AltModifier, off)
    where = float(session.store.document.beat_map.beat_at(lanes.axis.sample(off.x())))
    assert any(h.at_beats == pytest.approx(where, abs=0.02) for h in pattern_of(session.store.document).hits)
    session.shown.select(hit_ids=frozenset({flam.id}))
    steps = len(session.store.history.done)
    lanes.setFocus()
    for _ in range(4):
        QTest.keyClick(lanes, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    assert len(session.store.history.done) == steps + 1, "held arrows are one step of undo"
    session.store.undo()
    assert next(h for h in pattern_of(session.store.document).hits if h.id == flam.id).at_beats == pytest.approx(flam.at_beats)


def test_the_first_beat_is_nudged_ahead_seen_drawn_and_brought_back(groove: Any) -> None:
    session, lanes = groove.session, groove.groove.lanes
    kick = next(p for p in session.store.document.pads if p.drum == "kick")
    first = next(h for h in pattern_of(session.store.document).hits if h.pad_id == kick.id)
    session.shown.select(hit_ids=frozenset({first.id}), pad_id=kick.id)
    one = lanes.pin(first).x()
    lanes.setFocus()
    for _ in range(12):
        QTest.keyClick(lanes, Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
    ahead = hit_of(session.store.document, first.id)
    assert ahead.at_beats < -0.01
    assert lanes.axis.sample(lanes.pin(ahead).x()) < session.store.document.loop.start_sample
    assert lanes.pin(ahead).x() >= lanes.axis.left, "the picture begins ahead of the first beat"
    assert lanes.hit_near(lanes.pin(ahead).x(), lanes.pin(ahead).y()).id == first.id
    QTest.keyClick(lanes, Qt.Key.Key_Left)
    assert hit_of(session.store.document, first.id).at_beats == ahead.at_beats, "by whole steps nothing leaves the loop"
    QTest.keyClick(lanes, Qt.Key.Key_G, CTRL)
    assert hit_of(session.store.document, first.id).at_beats == pytest.approx(0.0, abs=1e-9), "its step is the first"
    assert lanes.pin(hit_of(session.store.document, first.id)).x() == pytest.approx(one)


def test_a_range_on_the_ruler_loops_and_a_deleted_variation_leaves_the_order(groove: Any) -> None:
    session, stage, baking = groove.session, groove.groove, groove.playback.baking
    document = session.store.document
    at = [round(stage.lanes.axis.x(float(document.beat_map.sample_at(beat)))) for beat in (4.2, 11.5)]
    QTest.mousePress(stage.lanes, LEFT, NONE, QPoint(at[0], 8))
    QTest.mouseMove(stage.lanes, QPoint((at[0] + at[1]) // 2, 8))
    QTest.mouseMove(stage.lanes, QPoint(at[1], 8))
    QTest.mouseRelease(stage.lanes, LEFT, NONE, QPoint(at[1], 8))
    assert baking.listened.bars == (1, 2)
    assert groove.listening.bars.currentText() == "bars 2 to 3"
    QTest.mouseDClick(stage.lanes, LEFT, NONE, QPoint(at[0], 8))
    assert baking.listened.bars == (0, 0)
    session.store.edit("copy", duplicate_variation)
    session.store.edit("order", lambda d: set_order(d, (OrderStep("A"), OrderStep("B"), OrderStep("A"))))
    stage.take_out.trigger()
    assert [step.letter for step in session.store.document.order] == ["A", "A"]
    assert "gone from the order" in groove.messages.text.text()
    for _ in range(13):
        session.store.edit("copy", duplicate_variation)
    shown = stage.cards.card(session.store.document.shown)
    assert shown.width() >= 90.0
    assert shown.right() <= stage.cards.width() + 1.0, "the card that is shown is in view"


def test_a_pin_is_drawn_moved_made_louder_and_deleted_by_keys_alone(groove: Any) -> None:
    session, lanes = groove.session, groove.groove.lanes
    lanes.setFocus()
    QTest.keyClick(lanes, Qt.Key.Key_Escape)
    before = {h.id for h in pattern_of(session.store.document).hits}
    crash = next(p for p in lanes.pads() if p.drum == "crash")
    for _ in range(6):
        QTest.keyClick(lanes, Qt.Key.Key_Up)
    assert session.shown.selection.pad_id == lanes.pads()[0].id
    for _ in range(3):
        QTest.keyClick(lanes, Qt.Key.Key_Right)
    assert lanes.accessibleDescription().endswith(": nothing")
    QTest.keyClick(lanes, Qt.Key.Key_Return)
    (made,) = [h for h in pattern_of(session.store.document).hits if h.id not in before]
    assert made.pad_id == lanes.pads()[0].id == crash.id
    assert made.at_beats == pytest.approx(0.75, abs=0.26)
    assert "a hit of velocity" in lanes.accessibleDescription()
    QTest.keyClick(lanes, Qt.Key.Key_Up)
    assert next(h for h in pattern_of(session.store.document).hits if h.id == made.id).velocity > made.velocity or made.velocity == 127
    QTest.keyClick(lanes, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert next(h for h in pattern_of(session.store.document).hits if h.id == made.id).pad_id == lanes.pads()[1].id
    QTest.keyClick(lanes, Qt.Key.Key_Delete)
    assert {h.id for h in pattern_of(session.store.document).hits} == before
    assert not lanes.grab().isNull()
