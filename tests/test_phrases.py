"""Edits of many hits, values drawn, orders and wandering: as functions, in the engine, and through the window."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from bompla.audio.clip import Clip
from bompla.demo import loop_paths
from bompla.engine.bounce import bounce_rebuilt
from bompla.errors import EditError
from bompla.formats.midi import MidiOptions, midi_bytes
from bompla.groove.feel import feel_of
from bompla.groove.order import bounced, order_passages, passage_hits, total_beats, wander_passages
from bompla.groove.takes import Strike
from bompla.model.checks import check_document
from bompla.model.detected_pattern import hits_inside, pattern_beats, pattern_of
from bompla.model.document import Document, Hit, OrderStep, Wander, WanderRule
from bompla.model.order_edits import set_order, set_wander, with_rule
from bompla.model.pattern_edits import delete_hits, move_hits, with_hits
from bompla.model.phrase_edits import (
    VALUES,
    at_double_time,
    at_half_time,
    bars_around,
    by_loudness,
    copied,
    merged,
    pasted,
    quantised_by,
    repeated_to_end,
    reversed_in,
    rotated,
    same_step,
    set_values,
    thinned,
    with_empty_bars,
    without_bars,
)
from bompla.model.variation_edits import duplicate_variation, set_bars, show_variation
from bompla.render.bake import bake
from bompla.render.events import BakeRequest
from conftest import captured, hit_of, settle

RATE = 48_000
NONE = Qt.KeyboardModifier.NoModifier
LEFT = Qt.MouseButton.LeftButton


def times(document: Document) -> list[tuple[int, float]]:
    return sorted((hit.id, round(hit.at_beats, 6)) for hit in pattern_of(document).hits)


@settings(max_examples=40, deadline=None)
@given(bar=st.integers(0, 3), bars=st.integers(1, 4), steps=st.integers(-40, 40), one_lane=st.booleans())
def test_turning_round_and_moving_along_undo_themselves(
    demo: tuple[Document, Clip], bar: int, bars: int, steps: int, one_lane: bool
) -> None:
    document = demo[0]
    stretch = (4.0 * bar, 4.0 * min(4, bar + bars))
    pads = [document.pads[0].id] if one_lane else None
    backwards = reversed_in(document, stretch, pads)
    along = rotated(document, stretch, pads, by_beats=0.25 * steps)
    for changed in (backwards, along):
        check_document(changed)
        assert len(pattern_of(changed).hits) == len(pattern_of(document).hits)
        outside = [h for h in pattern_of(document).hits if not stretch[0] <= h.at_beats < stretch[1]]
        assert all(h in pattern_of(changed).hits for h in outside)
    assert times(reversed_in(backwards, stretch, pads)) == times(document)
    assert times(rotated(along, stretch, pads, by_beats=-0.25 * steps)) == times(document)


@settings(max_examples=40, deadline=None)
@given(ahead=st.floats(0.001, 0.5), quantise=st.floats(0.0, 1.0))
def test_a_first_beat_played_early_goes_with_its_bar_and_is_never_lost(demo: tuple[Document, Clip], ahead: float, quantise: float) -> None:
    first = pattern_of(demo[0]).hits[0]
    document = move_hits(demo[0], [first.id], -ahead - first.at_beats, early=True)
    assert pattern_of(document).hits[0].at_beats == pytest.approx(-ahead, abs=1e-6)
    assert bars_around(document, [first.id]) == (0.0, 4.0)
    count = len(hits_inside(document))
    for changed in (
        reversed_in(document, (0.0, 4.0)), rotated(document, (0.0, 4.0)), quantised_by(document, [first.id], lambda _: 0.25, quantise),
        set_values(document, "offset", {first.id: -ahead * 100.0}, lambda _: 0.25), merged(document, near_beats=0.0),
    ):
        check_document(changed)
        assert len(hits_inside(changed)) == count
    for changed in (at_half_time(document, (0.0, 4.0)), at_double_time(document, (0.0, 4.0)), repeated_to_end(document, [first.id])):
        assert any(hit.id == first.id for hit in hits_inside(changed))
    assert all(hit.id != first.id for hit in pattern_of(without_bars(document, (0.0, 4.0))).hits), "it leaves with its bar"
    assert hit_of(with_empty_bars(document, (0.0, 4.0)), first.id).at_beats == pytest.approx(4.0 - ahead, abs=1e-6)


def test_half_and_double_time_copies_and_repeats(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    kick = next(p for p in document.pads if p.drum == "kick").id
    first_bar = [h for h in pattern_of(document).hits if h.at_beats < 4.0 and h.pad_id == kick]
    twice = at_double_time(document, (0.0, 4.0), [kick])
    kicks = [h.at_beats for h in pattern_of(twice).hits if h.pad_id == kick and h.at_beats < 4.0]
    assert kicks == pytest.approx(sorted(h.at_beats / 2.0 + n for h in first_bar for n in (0.0, 2.0)))
    back = at_half_time(twice, (0.0, 4.0), [kick])
    again = [h.at_beats for h in pattern_of(back).hits if h.pad_id == kick and h.at_beats < 4.0]
    assert again == pytest.approx([h.at_beats for h in first_bar])
    hits, start, length = copied(document, {h.id for h in first_bar})
    assert (start, length) == (0.0, 4.0)
    grown, ids = pasted(document, hits, 8.0)
    check_document(grown)
    assert [round(h.at_beats - 8.0, 6) for h in pattern_of(grown).hits if h.id in ids] == [round(h.at_beats, 6) for h in first_bar]
    assert len(pasted(document, hits, 14.0)[1]) < len(hits), "what would lie past the end is left out"
    over = repeated_to_end(document, {h.id for h in first_bar})
    for bar in range(1, 4):
        here = [h.at_beats - 4.0 * bar for h in pattern_of(over).hits if h.pad_id == kick and 4.0 * bar <= h.at_beats < 4.0 * bar + 4.0]
        assert here == pytest.approx([h.at_beats for h in first_bar])
    assert bars_around(document, [first_bar[0].id]) == (0.0, 4.0)
    assert bars_around(document, []) == (0.0, 16.0)


def test_bars_taken_out_and_put_in_thinning_joining_and_choosing(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    shorter = without_bars(document, (4.0, 8.0))
    check_document(shorter)
    assert pattern_beats(shorter) == 12
    second = [h for h in pattern_of(document).hits if 8.0 <= h.at_beats < 12.0]
    assert {h.id for h in pattern_of(shorter).hits if 4.0 <= h.at_beats < 8.0} == {h.id for h in second}
    longer = with_empty_bars(shorter, (4.0, 8.0))
    assert pattern_beats(longer) == 16
    with pytest.raises(EditError, match="at least one bar"):
        without_bars(document, (0.0, 16.0))
    assert times(longer) == times(delete_hits(document, [h.id for h in pattern_of(document).hits if 4.0 <= h.at_beats < 8.0]))
    hat = next(p for p in document.pads if p.drum == "hat_closed").id
    hats = [h for h in pattern_of(document).hits if h.pad_id == hat]
    thin = thinned(document, {h.id for h in hats})
    assert sum(h.pad_id == hat for h in pattern_of(thin).hits) == (len(hats) + 1) // 2
    twins = (replace(h, id=9_000 + n, at_beats=h.at_beats + 0.01) for n, h in enumerate(hats))
    doubled = with_hits(document, [*pattern_of(document).hits, *twins])
    assert len(pattern_of(merged(doubled)).hits) == len(pattern_of(document).hits)
    on_beat = same_step(document, {hats[0].id}, every=1.0, step=0.25)
    assert {h.id for h in hats if round(h.at_beats * 4) % 4 == 0} == on_beat
    soft = by_loudness(document, {hats[0].id}, softer=True)
    assert soft == {h.id for h in hats if h.velocity <= hats[0].velocity}


@settings(max_examples=40, deadline=None)
@given(what=st.sampled_from(VALUES), value=st.floats(-500.0, 500.0), amount=st.floats(0.0, 1.0), step=st.sampled_from((0.2, 0.25, 1 / 3)))
def test_values_are_held_to_their_ranges_and_quantising_goes_by_amount(
    demo: tuple[Document, Clip], what: str, value: float, amount: float, step: float
) -> None:
    document = demo[0]
    ids = [h.id for h in pattern_of(document).hits][::3]
    changed = set_values(document, what, dict.fromkeys(ids, value), lambda _: step)
    check_document(changed)
    assert all(0.0 <= h.chance <= 1.0 and -24.0 <= h.pitch <= 24.0 and 0.0 <= h.length_beats <= 8.0 for h in pattern_of(changed).hits)
    moved = {h.id: h for h in pattern_of(quantised_by(document, ids, lambda _: step, amount)).hits}
    for hit in pattern_of(document).hits:
        nearest = min(round(hit.at_beats / step) * step, pattern_beats(document) - step)
        wanted = hit.at_beats + amount * (nearest - hit.at_beats) if hit.id in ids else hit.at_beats
        assert moved[hit.id].at_beats == pytest.approx(wanted, abs=1e-6)
    with pytest.raises(EditError):
        set_values(document, "colour", {}, lambda _: step)


def three_variations(document: Document) -> Document:
    """Return a document with A main, B without kicks, C with only kicks, A shown."""
    kick = next(p for p in document.pads if p.drum == "kick").id
    for keep in (False, True):
        document = duplicate_variation(show_variation(document, 0))
        document = delete_hits(document, [h.id for h in pattern_of(document).hits if (h.pad_id == kick) != keep])
    return show_variation(document, 0)


def test_an_order_plays_prints_and_is_written_as_midi(demo: tuple[Document, Clip]) -> None:
    document = three_variations(demo[0])
    document = set_order(document, (OrderStep("A", 2), OrderStep("B"), OrderStep("gone"), OrderStep("C", 99)))
    assert document.order[-1].repeats == 16
    document = set_order(document, (OrderStep("A", 2), OrderStep("B"), OrderStep("C")))
    passages = order_passages(document)
    assert [p.index for p in passages] == [0, 0, 1, 2]
    assert total_beats(passages) == 64.0
    hits = passage_hits(document, passages)
    assert len(hits) == sum(len(document.variations[n].hits) for n in (0, 0, 1, 2))
    long = bounced(document, passages, "long")
    check_document(long)
    assert pattern_beats(long) == 64
    assert [(h.pad_id, round(h.at_beats, 6)) for h in pattern_of(long).hits] == [(h.pad_id, round(h.at_beats, 6)) for h in hits]
    in_order = bounce_rebuilt(bake(BakeRequest(document, demo[1], RATE, passages=passages)))
    as_one = bounce_rebuilt(bake(BakeRequest(long, demo[1], RATE)))
    assert in_order.frames == as_one.frames == 4 * bake(BakeRequest(document, demo[1], RATE)).frames
    assert np.abs(in_order.samples - as_one.samples).max() < 1e-6
    one = midi_bytes(document, MidiOptions(letters=("A", "A", "B", "C")))
    assert len(midi_bytes(long)) == pytest.approx(len(one), rel=0.05)
    with pytest.raises(EditError, match="bars"):
        bounced(set_order(document, tuple(OrderStep("A", 16) for _ in range(5))), order_passages(
            set_order(document, tuple(OrderStep("A", 16) for _ in range(5)))), "too long")


@settings(max_examples=40, deadline=None)
@given(seed=st.integers(0, 999), bars=st.integers(1, 32), chance=st.floats(0.0, 1.0), after=st.sampled_from((1.0, 2.0, 4.0, 16.0)))
def test_wandering_keeps_its_place_and_its_seed(demo: tuple[Document, Clip], seed: int, bars: int, chance: float, after: float) -> None:
    document = three_variations(demo[0])
    wander = with_rule(Wander(seed, bars), WanderRule("A", chance, after, ("C",)))
    document = set_wander(document, wander)
    passages = wander_passages(document)
    assert passages == wander_passages(document)
    assert total_beats(passages) == pytest.approx(4.0 * bars)
    assert passages[0].index == 0
    for before, now in pairwise(passages):
        assert now.start == pytest.approx(before.start + before.length)
        assert now.position == pytest.approx(now.start % 16.0)
        assert before.index != 0 or now.index == 2, "A hands over to C only"
    if chance == 0.0:
        assert len(passages) == 1
    for hit in passage_hits(document, passages):
        own = next(p for p in passages if p.start <= hit.at_beats < p.start + p.length)
        assert any(abs(h.at_beats - hit.at_beats % 16.0) < 1e-6 and h.pad_id == hit.pad_id for h in document.variations[own.index].hits)
    if bars <= 16:
        assert len(pattern_of(bounced(document, passages, "run")).hits) == len(passage_hits(document, passages))


def test_a_pattern_longer_than_the_loop_has_the_original_under_it_again(demo: tuple[Document, Clip]) -> None:
    document = set_bars(demo[0], 6)
    assert pattern_beats(document) == 24
    late = with_hits(document, [*pattern_of(document).hits, Hit(document.next_id, document.pads[0].id, 20.0, 100)])
    baked = bake(BakeRequest(late, demo[1], RATE))
    assert baked.total_frames == round(1.5 * baked.frames)
    assert max(event.at_frame for event in baked.events) > baked.frames
    assert pattern_of(set_bars(document, 4)).bars == 0
    with pytest.raises(EditError):
        set_bars(document, 999)


@pytest.fixture
def groove(demo_window: Any) -> Any:
    demo_window.go_to(3)
    return demo_window


def test_the_order_is_heard_to_change_at_its_sample(groove: Any, qtbot: Any) -> None:
    """C has only kicks, B none: in the recording of the device the kicks are where C is, to the sample."""
    window, session, playback = groove, groove.session, groove.playback
    session.store.edit("three", three_variations)
    session.store.edit("under the ceiling", lambda d: replace(d, tail="end", pads=tuple(replace(pad, level_db=-9.0) for pad in d.pads)))
    panel = window.groove.order
    panel.sequence.click("order")
    for index in (1, 2):
        window.groove.show_variation(index)
        panel.add.click()
    assert [step.letter for step in session.store.document.order] == ["B", "C"]
    qtbot.waitUntil(lambda: not playback.busy and playback.baking.baked.beats == 32)
    engine = playback.engine
    playback.balance.set_equal_loudness(False)
    playback.balance.set_blend(1.0)
    qtbot.waitUntil(lambda: not playback.busy)
    baked = playback.baking.baked
    whole = bounce_rebuilt(baked, passes=1).samples
    edge = baked.frames
    playback.transport.seek(session.store.document.loop.start_sample + (edge - 9_000) / (RATE / session.store.document.source.sample_rate))
    from_frame = engine.state.rendered_frames
    playback.transport.play()
    qtbot.waitUntil(lambda: engine.state.position > edge + 12_000 and engine.state.rendered_frames > from_frame)
    state_position = engine.state.position
    recorded = captured(engine, since_frame=from_frame)
    playback.transport.stop()
    first_kick = min(e.at_frame for e in baked.events if e.at_frame >= edge - 200)
    part = whole[first_kick + 50 : first_kick + 3_000, 0]
    found = np.correlate(recorded[:, 0], part, "valid")
    energy = np.sqrt(np.convolve(np.square(recorded[:, 0]), np.ones(part.size), "valid") * np.square(part).sum()) + 1e-9
    assert (found / energy).max() > 0.95
    assert state_position > edge
    panel.order.setFocus()
    QTest.keyClick(panel.order, Qt.Key.Key_Up)
    assert sum(step.repeats for step in session.store.document.order) == 3
    QTest.keyClick(panel.order, Qt.Key.Key_Delete)
    assert len(session.store.document.order) == 1


def test_wandering_is_bounced_and_sent_out_through_the_window(groove: Any, qtbot: Any) -> None:
    window, session = groove, groove.session
    session.store.edit("three", three_variations)
    panel = window.groove.order
    panel.sequence.click("wander")
    panel.run_bars.setValue(8)
    seed = session.store.document.wander.seed
    panel.again.click()
    assert session.store.document.wander.seed == seed + 1
    wanted = passage_hits(session.store.document, wander_passages(session.store.document))
    panel.bounce.click()
    assert pattern_beats(session.store.document) == 32
    assert len(pattern_of(session.store.document).hits) == len(wanted)
    assert len(midi_bytes(session.store.document)) > 200
    qtbot.waitUntil(lambda: not window.playback.busy and window.playback.baking.baked.beats == 32)
    window.groove.lanes.grab()
    for _ in range(4):
        session.store.undo()
    assert len(session.store.document.variations) == 1


def test_values_are_drawn_across_the_chosen_lane(groove: Any) -> None:
    session, strip = groove.session, groove.groove.detail
    hat = next(p for p in session.store.document.pads if p.drum == "hat_closed")
    session.shown.select(pad_id=hat.id, hit_ids=frozenset())
    before = session.store.document
    hits = strip.hits()
    for what, way in (("velocity", "line"), ("chance", "hand"), ("pitch", "curve"), ("length", "chance"), ("offset", "line")):
        groove.groove.details.click(what)
        groove.groove.ways.click(way)
        start = QPointF(strip.x_of(hits[0]), strip.y_of(strip.value_of(20.0)))
        end = QPointF(strip.x_of(hits[8]), 70.0)
        QTest.mousePress(strip, LEFT, NONE, start.toPoint())
        QTest.mouseMove(strip, end.toPoint())
        QTest.mouseRelease(strip, LEFT, NONE, end.toPoint())
        now = {h.id: h for h in pattern_of(session.store.document).hits}
        values = [strip.value(session.store.document, now[h.id]) for h in hits[:9]]
        if way != "chance":
            assert all(a >= b - 0.6 for a, b in pairwise(values)), (what, values)
        assert values != [strip.value(before, h) for h in hits[:9]]
        assert values[0] == pytest.approx(strip.value_of(20.0), abs=4.0) or way == "chance"
        session.store.undo()
        assert session.store.document == before


def test_hits_are_brushed_erased_dragged_to_another_lane_copied_and_turned_round(groove: Any) -> None:
    session, stage, lanes = groove.session, groove.groove, groove.groove.lanes
    document = session.store.document
    snare = next(p for p in document.pads if p.drum == "snare")
    session.store.edit("empty", lambda d: delete_hits(d, [h.id for h in pattern_of(d).hits if h.pad_id == snare.id]))
    stage.missing_hits.trigger()
    stage.grids.click(0.5)

    def at(beat: float, pad_id: int, share: float = 0.5) -> QPoint:
        lane = lanes.lane(pad_id)
        return QPoint(round(lanes.axis.x(float(document.beat_map.samples_at(beat)))), round(lane.top() + share * lane.height()))

    QTest.mousePress(lanes, LEFT, Qt.KeyboardModifier.ControlModifier, at(1.05, snare.id))
    for beat in (1.6, 2.2, 2.9):
        QTest.mouseMove(lanes, at(beat, snare.id))
    QTest.mouseRelease(lanes, LEFT, Qt.KeyboardModifier.ControlModifier, at(2.9, snare.id))
    brushed = [h for h in pattern_of(session.store.document).hits if h.pad_id == snare.id]
    assert [h.at_beats for h in brushed] == pytest.approx([1.0, 1.5, 2.0, 2.5])
    QTest.mousePress(lanes, Qt.MouseButton.RightButton, NONE, at(2.0, snare.id, 0.8))
    QTest.mouseMove(lanes, at(2.5, snare.id, 0.8))
    QTest.mouseRelease(lanes, Qt.MouseButton.RightButton, NONE, at(2.5, snare.id, 0.8))
    left = [h for h in pattern_of(session.store.document).hits if h.pad_id == snare.id]
    assert [h.at_beats for h in left] == pytest.approx([1.0, 1.5])
    session.shown.select(pad_id=snare.id, hit_ids=frozenset(h.id for h in left))
    selected = stage.selected
    selected.again()
    assert [h.at_beats for h in pattern_of(session.store.document).hits if h.pad_id == snare.id] == pytest.approx([1.0, 1.5, 2.0, 2.5])
    selected.copy()
    groove.playback.transport.seek(float(document.beat_map.samples_at(8.0)))
    session.store.undo()
    selected.choose_lane()
    assert len(session.shown.selection.hit_ids) == 2
    selected.velocity.setValue(64)
    selected.offset.setValue(12.0)
    typed = [h for h in pattern_of(session.store.document).hits if h.pad_id == snare.id]
    assert [h.velocity for h in typed] == [64, 64]
    assert [h.at_beats for h in typed] == pytest.approx([1.0 + 0.012 * document.bpm / 60, 1.5 + 0.012 * document.bpm / 60], abs=1e-4)
    selected._preview_grid(0.5)
    selected._onto_grid(0.5)
    halfway = [h.at_beats for h in pattern_of(session.store.document).hits if h.pad_id == snare.id]
    assert halfway == pytest.approx([1.0 + 0.006 * document.bpm / 60, 1.5 + 0.006 * document.bpm / 60], abs=1e-4)
    count = len(pattern_of(session.store.document).hits)
    for name in ("Reverse these bars", "Rotate these bars by a step", "Half time", "Double time"):
        next(b for b in selected.findChildren(QPushButton) if b.accessibleName() == name).click()
    next(a for a in selected._change_menu().actions() if a.text().startswith("Delete every second")).trigger()
    assert len(pattern_of(session.store.document).hits) > 0
    while session.store.history.undo_label != "empty":
        session.store.undo()
    assert count
    kick = next(p for p in document.pads if p.drum == "kick")
    first = next(h for h in pattern_of(session.store.document).hits if h.pad_id == kick.id)
    pin = lanes.pin(first).toPoint()
    QTest.mousePress(lanes, LEFT, NONE, pin)
    QTest.mouseMove(lanes, QPoint(pin.x() + 12, pin.y()))
    QTest.mouseMove(lanes, at(0.5, snare.id))
    QTest.mouseRelease(lanes, LEFT, NONE, at(0.5, snare.id))
    moved = next(h for h in pattern_of(session.store.document).hits if h.id == first.id)
    assert moved.pad_id == snare.id
    assert moved.at_beats == pytest.approx(0.5, abs=0.01)


def test_any_step_can_be_gone_back_to(groove: Any) -> None:
    session, top = groove.session, groove.top_bar
    states = [session.store.document]
    for index in range(4):
        session.store.edit(f"step {index}", lambda d, index=index: delete_hits(d, [pattern_of(d).hits[index].id]))
        states.append(session.store.document)
    entries = {action.text(): action for action in top.steps_menu().actions()}
    assert list(entries) == ["step 3", "step 2", "step 1", "step 0", "as opened"]
    entries["step 0"].trigger()
    assert session.store.document == states[1]
    entries = {action.text(): action for action in top.steps_menu().actions()}
    assert list(entries)[:3] == ["redo: step 3", "redo: step 2", "redo: step 1"]
    entries["redo: step 2"].trigger()
    assert session.store.document == states[3]
    next(a for a in top.steps_menu().actions() if a.text() == "as opened").trigger()
    assert session.store.document == states[0]


def test_feels_are_taken_from_midi_and_loops_and_compared(groove: Any, qtbot: Any, tmp_path: Any) -> None:
    session, panel = groove.session, groove.groove.feel
    document = session.store.document
    path = tmp_path / "own.mid"
    path.write_bytes(midi_bytes(document))
    panel.take_from(path)
    settle(qtbot, groove)
    mine = next(feel for feel in panel._feels if feel.name == "own")
    assert mine.late == pytest.approx(feel_of(document, "").late, abs=0.002)
    panel.compare.click()
    panel.plots.grab()
    place = panel._feels.index(mine)
    QTest.mouseClick(panel.plots, LEFT, NONE, QPoint(40, place * 46 + 20))
    assert pattern_of(session.store.document).layer.feel == mine
    late = panel.plots.step_place(place, max(range(16), key=lambda n: mine.late[n])).x()
    width = (panel.plots.width() - 12.0) / 16
    step = max(range(16), key=lambda n: mine.late[n])
    assert (late > 6.0 + (step + 0.5) * width) == (mine.late[step] > 0.0)
    loop = next(one for one in loop_paths() if one.stem != "quay break")
    before = session.store.document
    panel.take_from(loop)
    qtbot.waitUntil(lambda: any(feel.name == loop.stem for feel in panel._feels))
    assert session.store.document == before
    broken = tmp_path / "broken.mid"
    broken.write_bytes(b"MThd nothing")
    said: list[str] = []
    session.hub.posted.connect(lambda message: said.append(message.text))
    for bad, words in ((broken, "no MIDI file"), (tmp_path / "gone.mid", "is not there")):
        panel.take_from(bad)
        settle(qtbot, groove)
        assert words in said[-1]


def test_lanes_have_their_level_and_what_is_played_is_drawn_to_the_grid_by_amount(groove: Any) -> None:
    session, lanes, playback = groove.session, groove.groove.lanes, groove.playback
    snare = next(p for p in session.store.document.pads if p.drum == "snare")
    bar = lanes.level_bar(snare)
    middle = QPoint(round(bar.left() + 0.5 * bar.width()), round(bar.center().y()))
    QTest.mousePress(lanes, LEFT, NONE, QPoint(round(bar.right() - 2), round(bar.center().y())))
    QTest.mouseMove(lanes, middle)
    QTest.mouseRelease(lanes, LEFT, NONE, middle)
    assert session.store.document.pad(snare.id).level_db == pytest.approx(-18.0, abs=0.7)
    session.store.undo()
    beat_s = 60.0 / session.store.document.bpm
    strikes = [Strike(n * beat_s, n + 0.06, snare.id, 90) for n in range(4)]
    QTest.mouseClick(groove.kit.quantise, LEFT, NONE, groove.kit.quantise.rect().center())
    amount = playback.recorder.input_quantise
    assert amount == pytest.approx(0.5, abs=0.05), "the bar on the kit's stage says how much"
    playback.recorder.late_s = 0.0
    before = {h.id for h in pattern_of(session.store.document).hits}
    playback.recorder.put_in(strikes, "record")
    added = [h.at_beats for h in pattern_of(session.store.document).hits if h.id not in before]
    assert added == pytest.approx([n + 0.06 * (1.0 - amount) for n in range(4)], abs=1e-4)
    groove.groove.note.setText("softer, from the second bar on")
    groove.groove.variations.note_down()
    assert pattern_of(session.store.document).note == "softer, from the second bar on"


def test_of_the_original_only_the_lanes_band_is_heard(groove: Any, qtbot: Any) -> None:
    session, playback = groove.session, groove.playback
    qtbot.waitUntil(lambda: not playback.busy)
    whole = playback.baking.baked.original
    kick = next(p for p in session.store.document.pads if p.drum == "kick")
    session.shown.select(pad_id=kick.id)
    groove.groove.band.trigger()
    qtbot.waitUntil(lambda: not playback.busy and playback.baking.baked.original is not whole)
    low = playback.baking.baked.original
    spectrum = np.abs(np.fft.rfft(low[:, 0]))
    hz = np.fft.rfftfreq(len(low), 1.0 / RATE)
    assert np.square(spectrum[hz > 400.0]).sum() < 1e-3 * np.square(spectrum[hz < 160.0]).sum()
    assert low.shape == whole.shape
    lag = np.argmax(np.correlate(whole[20_000:60_000, 0], low[20_100:59_900, 0], "valid")) - 100
    assert abs(int(lag)) <= 40, "nothing is late"
    groove.groove.band.trigger()
    qtbot.waitUntil(lambda: not playback.busy and np.array_equal(playback.baking.baked.original, whole))
