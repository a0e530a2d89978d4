"""The Groove stage driven as a producer would: ghost pins, writers, feel, variations, lanes that are not heard."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog

from bompla.groove.feel import PLAIN_LAYER, felt_pattern
from bompla.groove.writers import WRITERS
from bompla.model.pattern_edits import delete_hits
from conftest import settle

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier
CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def groove(demo_window: Any) -> Any:
    """The window at the Groove stage with the snare's lane chosen."""
    demo_window.go_to(3)
    snare = next(p for p in demo_window.session.document.pads if p.drum == "snare")
    demo_window.session.select(pad_id=snare.id)
    demo_window.snare = snare
    return demo_window


def test_a_wrong_hit_is_mended_by_its_ghost_pin(groove: Any) -> None:
    session, lanes = groove.session, groove.groove.lanes
    before = session.document
    assert lanes.ghosts() == ()
    hit = next(h for h in before.pattern.hits if h.pad_id == groove.snare.id and h.at_beats > 4)
    QTest.mouseClick(lanes, Qt.MouseButton.RightButton, NONE, lanes.pin(hit).toPoint())
    assert [(g[0], round(g[1], 2)) for g in lanes.ghosts()] == [(hit.pad_id, round(hit.at_beats, 2))]
    QTest.mouseClick(lanes, LEFT, NONE, lanes.pin(hit).toPoint() + QPoint(1, 4))
    back = [h for h in session.document.pattern.hits if h.pad_id == hit.pad_id]
    assert any(abs(h.at_beats - hit.at_beats) < 1e-6 and h.velocity == hit.velocity for h in back)
    assert lanes.ghosts() == ()
    gone = [h.id for h in session.document.pattern.hits if h.pad_id == groove.snare.id]
    session.edit("take out", lambda d: delete_hits(d, gone))
    assert len(lanes.ghosts()) == len(gone)
    lanes.setFocus()
    QTest.keyClick(lanes, Qt.Key.Key_H, CTRL)
    assert len([h for h in session.document.pattern.hits if h.pad_id == groove.snare.id]) == len(gone)
    groove.groove.ghosts.click()
    session.edit("take out", lambda d: delete_hits(d, [h.id for h in d.pattern.hits]))
    assert lanes.ghosts() == ()


def test_each_writer_is_seen_written_and_undone(groove: Any, qtbot: Any) -> None:
    for key in sorted(WRITERS):
        write_and_undo(groove, key)
        settle(qtbot, groove)


def write_and_undo(groove: Any, key: str) -> None:
    session, panel = groove.session, groove.groove.writer
    before = session.document
    panel.show_writer(key)
    assert panel.open_view.isVisible()
    panel.where.setCurrentIndex(2)
    panel.where.activated.emit(2)
    preview = session.document
    assert session.history.document == before, "what is shown is not done yet"
    bar = panel._choices.itemAt(0).widget()
    bar.setFocus()
    QTest.keyClick(bar, Qt.Key.Key_Right)
    QTest.keyClick(bar, Qt.Key.Key_Right)
    panel.write()
    after = session.document
    assert session.history.undo_label == f"write {WRITERS[key].label.lower()}" or after == before
    if key not in ("ghosts", "shuffle"):
        assert preview.pattern != before.pattern
        assert after.pattern != before.pattern
    session.undo()
    assert session.document == before
    panel.show_writer(key)
    panel.cancel()
    assert session.document == before


def test_a_feel_is_heard_shown_and_written_in(groove: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    session, panel, lanes = groove.session, groove.groove.feel, groove.groove.lanes
    before = session.document
    bar = panel.bars["swing"]
    panel.of.setCurrentIndex(1)
    panel.of.activated.emit(1)
    QTest.mousePress(bar, LEFT, NONE, QPoint(10, 12))
    QTest.mouseMove(bar, QPoint(bar.width() // 2, 12))
    QTest.mouseRelease(bar, LEFT, NONE, QPoint(bar.width() // 2, 12))
    layer = session.document.pattern.layer
    assert layer.swing == pytest.approx(62.5, abs=1.0)
    assert session.document.pattern.hits == before.pattern.hits, "the layer leaves the hits alone"
    moved = [h for h in lanes.hits() if abs(h.at_beats - before.hit(h.id).at_beats) > 0.02]
    assert moved
    at = lanes.pin(moved[0]).x()
    assert abs(at - lanes.pin(before.hit(moved[0].id)).x()) > 0.5
    panel.bars["ahead"].setFocus()
    QTest.keyClick(panel.bars["ahead"], Qt.Key.Key_Right)
    assert dict(session.document.pattern.layer.ahead_ms)[groove.snare.id] > 0.0
    heard = felt_pattern(session.document)
    lanes.setFocus()
    QTest.keyClick(lanes, Qt.Key.Key_W, CTRL)
    assert session.document.pattern.hits == heard
    assert session.document.pattern.layer == PLAIN_LAYER
    path = tmp_path / "mine.feel.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    panel.keep()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    while session.history.done:
        session.undo()
    panel.open_feel()
    index = panel.feels.findText("mine")
    panel.feels.setCurrentIndex(index)
    panel.feels.activated.emit(index)
    assert session.document.pattern.layer.feel.name == "mine"
    assert panel.bars["timing"].isVisible()
    QTest.mouseDClick(panel.bars["force"], LEFT)
    assert session.document.pattern.layer.force == 0.0
    panel.plain()
    assert session.document.pattern.layer == PLAIN_LAYER


def test_variations_are_made_shown_heard_and_dragged(groove: Any, qtbot: Any) -> None:
    session, stage = groove.session, groove.groove
    before = session.document
    for n in (0, 2, 4):
        stage.new_menu().actions()[n].trigger()
    assert [v.name for v in session.document.variations] == ["as heard", "from A", "empty", "back beat"]
    assert stage.state_line(session.document).startswith("D")
    card = stage.cards.card(2).center().toPoint()
    QTest.mouseClick(stage.cards, LEFT, NONE, card)
    assert session.document.pattern.name == "empty"
    assert session.history.undo_label == "variation back beat", "showing a variation is no step of undo"
    settle(qtbot, groove)
    assert groove.playback._baked.events == ()
    stage.name.setFocus()
    stage.name.setText("nothing at all")
    QTest.keyClick(stage.name, Qt.Key.Key_Return)
    assert session.document.pattern.name == "nothing at all"
    first, last = stage.cards.card(2).center().toPoint(), stage.cards.card(0).center().toPoint()
    QTest.mousePress(stage.cards, LEFT, NONE, first)
    for step in range(1, 5):
        QTest.mouseMove(stage.cards, first + (last - first) * step / 4)
    QTest.mouseRelease(stage.cards, LEFT, NONE, last)
    assert [v.letter for v in session.document.variations] == ["C", "A", "B", "D"]
    stage.new_menu().actions()[1].trigger()
    heard = {(h.pad_id, round(h.at_beats, 3)) for h in session.document.pattern.hits}
    assert heard == {(h.pad_id, round(h.at_beats, 3)) for h in before.pattern.hits}
    stage._take_out_variation()
    assert len(session.document.variations) == 4
    while session.history.done:
        session.undo()
    assert replace(session.document, shown=0) == before


def test_a_variation_changes_what_is_heard_at_its_hit(groove: Any, qtbot: Any) -> None:
    """One kick on beat 3 of the first bar: silence before it, sound from its very sample on."""
    from bompla.model.variation_edits import add_variation

    session, playback = groove.session, groove.playback
    kick = next(p for p in session.document.pads if p.drum == "kick")
    session.edit("one", lambda d: add_variation(d, [(kick.id, 2.0, 110)], "one"))
    groove.listening.blend.setValue(100)
    settle(qtbot, groove)
    event = playback._baked.events[0]
    playback.seek(session.document.loop.start_sample)
    qtbot.waitUntil(lambda: playback.engine.state.position == 0)
    start = playback.engine.state.rendered_frames
    playback.play()
    qtbot.waitUntil(lambda: playback.engine.state.position > event.at_frame + 9_000)
    state = playback.engine.state
    sound = np.abs(playback.engine.captured(since_frame=start)).max(axis=1)[: state.rendered_frames - start]
    playback.stop()
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
    assert all(e.pad_id != groove.snare.id for e in playback._baked.events)
    QTest.mouseClick(lanes, LEFT, NONE, QPoint(round(lanes.axis.left) - 60, y))
    QTest.mouseClick(lanes, LEFT, NONE, QPoint(round(lanes.axis.left) - 25, y))
    settle(qtbot, groove)
    assert {e.pad_id for e in playback._baked.events} == {groove.snare.id}
    QTest.mouseClick(lanes, LEFT, NONE, QPoint(round(lanes.axis.left) - 25, y))
    settle(qtbot, groove)
    assert len({e.pad_id for e in playback._baked.events}) > 3


def test_what_no_drummer_could_play_is_said(groove: Any) -> None:
    session, stage = groove.session, groove.groove
    session.edit("take out", lambda d: delete_hits(d, [h.id for h in d.pattern.hits if h.at_beats > 13.9]))
    assert "playable" in stage.playable.text()
    from bompla.model.pattern_edits import add_played

    pads = [p.id for p in session.document.pads if p.drum != "kick"]
    session.edit("all at once", lambda d: add_played(d, [(p, 5.0, 100, 0.0) for p in pads]))
    assert "three hands at 2.2" in stage.playable.text(), "snare, closed and open hat"
    assert stage.tidy.isVisible()
    stage.tidy.click()
    assert not stage.tidy.isVisible()
