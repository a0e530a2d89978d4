"""Slicing: ways to cut, doubts and their mends, several slices at once, and what the picture shows."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.analysis.review.doubts import KINDS, alike, clipped_places, doubts_of
from bompla.analysis.spectrogram import spectrogram
from bompla.app.slice.cut_rows import GROUPS, Rows
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.demo import loop_paths
from bompla.model.cut_edits import (
    add_cut,
    correct_all,
    delete_cuts,
    lock_cuts,
    move_cut,
    nudge_cuts,
    rename_slice,
    set_cutting,
    set_heard,
    set_left_out,
    set_threshold,
    set_underneath,
)
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Cutting, Document
from bompla.model.history import History
from bompla.render.levels import fade_out_ms
from conftest import captured_sound, settle

LEFT = Qt.MouseButton.LeftButton
NONE, CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.AltModifier
)


def press(widget: Any, key: Qt.Key, modifier: Qt.KeyboardModifier = NONE) -> None:
    widget.setFocus()
    QTest.keyClick(widget, key, modifier)


def test_a_rough_loop_is_mended_by_its_doubts_alone(window: Any, qtbot: Any) -> None:
    """Flams, clipped hits and, with the line drawn up, missed ones: keys go through them until nothing is left to check."""
    session, stage = window.session, window.slice
    session.openings.open(next(path for path in loop_paths() if path.stem == "rough dub"))
    settle(qtbot, window)
    window.go_to(1)
    half = float(np.median([attack.strength for attack in session.store.document.attacks]))  # the line where half of the hits are missed
    session.store.edit("set threshold", lambda d: set_threshold(d, half))
    settle(qtbot, window)
    pattern, first = pattern_of(session.store.document), session.store.document
    kinds = {doubt.kind for doubt in session.review.found}
    assert {"two hits"} <= kinds <= set(KINDS)
    assert "The recording itself is clipped" in stage.doubts.file_line.text()
    session.openings.open(next(path for path in loop_paths() if path.stem == "quay break"), add=True)
    settle(qtbot, window)
    session.project.switch(0)
    settle(qtbot, window)
    session.project.remove(1)
    settle(qtbot, window)
    assert {doubt.kind for doubt in session.review.found} == kinds, "they stay as another sound comes and goes"
    assert stage.state_line(session.store.document).endswith("to check")
    assert stage.needs_you()
    assert "to check" in stage.doubts.heading.text()
    missed = [doubt.cut_id for doubt in session.review.found if doubt.kind == "two hits"]
    assert len(session.review.questions) < len(session.review.found), "what is alike is asked once"
    assert stage.state_line(session.store.document).endswith(f" {len(session.review.questions)} to check")
    session.shown.select(cut_id=missed[0])
    press(stage.view, Qt.Key.Key_F5, SHIFT)
    settle(qtbot, window)
    assert len(session.store.document.slices()) == len(first.slices()) + len(missed)
    session.store.undo()
    settle(qtbot, window)
    assert session.store.document == first, "to mend all is one step"
    session.shown.select(cut_id=0)
    mended = 0
    while session.review.found:
        assert mended < 60
        before = len(session.store.document.slices())
        doubt = stage.doubts._ahead()[0].first
        press(stage.view, Qt.Key.Key_F5 if doubt.kind in ("two hits", "too close") else Qt.Key.Key_F7)
        settle(qtbot, window)
        after = len(session.store.document.slices())
        assert after - before == {"two hits": 1, "too close": -1}.get(doubt.kind, 0)
        mended += 1
    assert mended >= len(missed) > 2
    assert stage.doubts.heading.text() == "Nothing to check"
    assert not stage.needs_you()
    assert pattern_of(session.store.document) == pattern, "mending never writes over the pattern"
    for _ in range(mended):
        session.store.undo()
    assert session.store.document == first
    for _ in range(mended):
        session.store.redo()
    settle(qtbot, window)
    assert not session.review.found, "what was kept is remembered"


def test_each_kind_of_doubt_is_found(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    unsure = doubts_of(document, clip)
    assert [(doubt.kind, doubt.reason) for doubt in unsure] == [("unsure", "maybe closed hat underneath, 34 %")]
    document = unsure[0].mends[-1].edit(document)
    assert doubts_of(document, clip) == ()
    first, second, third = (s.cut for s in document.slices()[:3])
    close = add_cut(document, second.at_sample + round(0.03 * clip.sample_rate))
    found = doubts_of(close, clip)
    assert [(d.cut_id, d.kind) for d in found] == [(second.id, "too close")]
    assert doubts_of(found[0].mends[0].edit(close), clip) == ()
    assert doubts_of(found[0].mends[-1].edit(close), clip) == ()
    new = close.next_id - 1
    main = replace(second.heard[0], confidence=0.95, velocity=110)
    for soft, hard, doubted in ((60, 110, False), (110, 60, True), (105, 110, True)):
        grace, stroke = ((replace(main, velocity=velocity),) for velocity in (soft, hard))
        flam = set_heard(set_heard(close, second.id, grace), new, stroke)
        assert [d.kind for d in doubts_of(flam, clip)] == ["too close"] * doubted, "a soft stroke ahead of a hard one is a flam"
    joined = delete_cuts(document, [second.id])
    two = doubts_of(joined, clip)
    assert [(d.cut_id, d.kind) for d in two] == [(first.id, "two hits")]
    mended = two[0].mends[0].edit(joined)
    assert [s.start_sample for s in mended.slices()] == [s.start_sample for s in document.slices()]
    sound = clip.samples.copy()
    piece = document.slices()[2]
    sound[piece.start_sample : piece.end_sample] = 0.0
    assert (third.id, "silent") in [(d.cut_id, d.kind) for d in doubts_of(document, Clip(sound, clip.sample_rate))]
    sound[piece.start_sample + 100 : piece.end_sample] = clip.samples[piece.start_sample + 100 : piece.end_sample] * 0.002
    quiet = replace(document, cuts=tuple(replace(c, heard=()) if c.id == third.id else c for c in document.cuts))
    assert (third.id, "too quiet") in [(d.cut_id, d.kind) for d in doubts_of(quiet, Clip(sound, clip.sample_rate))]
    sound[piece.start_sample + 500 : piece.start_sample + 520] = 1.0
    assert clipped_places(document, Clip(sound, clip.sample_rate)) == 1
    late = add_cut(document, document.beat_map.sample_at(2.115))
    new = next(c for c in late.cuts if c.origin == "hand")
    assert [d.kind for d in doubts_of(late, clip) if d.cut_id == new.id] == ["off the grid"]
    assert doubts_of(set_left_out(late, [new.id], True), clip) == ()
    starts = [piece.start_sample for piece in close.slices()]
    assert 1000.0 * min(np.diff(starts)) / close.source.sample_rate == pytest.approx(30.0, abs=0.1)


def test_even_steps_pull_to_attacks_and_mix_with_hits(demo: tuple[Document, Clip]) -> None:
    document = add_cut(demo[0], demo[0].beat_map.sample_at(1.1))
    hand = next(c for c in document.cuts if c.origin == "hand")
    even = set_cutting(document, Cutting(hits=False, even=True, even_beats=0.5))
    assert len(even.slices()) == 32 + 1
    assert hand in even.cuts
    starts = np.array([s.start_sample for s in even.slices() if s.cut.origin == "even"])
    wanted = [demo[0].beat_map.sample_at(0.5 * n) for n in range(32)]
    assert np.abs(starts - np.array(wanted)).max() == 0
    pulled = set_cutting(document, Cutting(hits=False, even=True, even_beats=0.5, pull_ms=25.0))
    at_attacks = {a.at_sample for a in document.attacks}
    assert sum(s.cut.attack_sample in at_attacks for s in pulled.slices()) > 20
    both = set_cutting(document, Cutting(hits=True, even=True, even_beats=0.25))
    assert len(both.slices()) >= max(64, len(document.slices()))
    marks = set_cutting(document, Cutting(hits=False, even=False))
    assert [s.cut.id for s in marks.slices()][1:] == [hand.id]
    assert set_cutting(marks, document.cutting).slices()[-1].start_sample == document.slices()[-1].start_sample
    apart = set_cutting(document, Cutting(min_distance_ms=250.0))
    gaps = np.diff([s.start_sample for s in apart.slices() if s.cut.origin != "hand"])
    assert gaps.min() >= 0.25 * document.source.sample_rate - 1
    kicks = set_cutting(document, Cutting(high=0.0, mid=0.0))
    assert 4 < len(kicks.slices()) < len(document.slices())
    assert all(s.cut.heard[0].drum == "kick" or len(s.cut.heard) > 1 for s in kicks.slices() if s.cut.origin == "detected")
    for changed in (even, pulled, both, marks, apart, kicks):
        assert pattern_of(changed) == pattern_of(document)


EDITS = {
    "even": lambda d, a, b: set_cutting(d, replace(d.cutting, even=a > 0.5, even_beats=(0.25, 1 / 3, 0.5, 1.0)[int(3.9 * b)])),
    "hits": lambda d, a, _: set_cutting(d, replace(d.cutting, hits=a > 0.3)),
    "pull": lambda d, a, _: set_cutting(d, replace(d.cutting, pull_ms=60.0 * a)),
    "apart": lambda d, a, _: set_cutting(d, replace(d.cutting, min_distance_ms=1.0 + 200.0 * a)),
    "weigh": lambda d, a, b: set_cutting(d, replace(d.cutting, low=2 * a, high=2 * b)),
    "threshold": lambda d, a, _: set_threshold(d, a),
    "hold": lambda d, a, b: lock_cuts(d, [d.cuts[int(a * (len(d.cuts) - 1))].id], b > 0.5),
    "move": lambda d, a, b: move_cut(d, d.cuts[int(a * (len(d.cuts) - 1))].id, int(b * d.source.frames)),
    "nudge": lambda d, a, b: nudge_cuts(d, [c.id for c in d.cuts[: int(8 * a)]], int(400 * (b - 0.5))),
    "delete": lambda d, a, _: delete_cuts(d, [d.cuts[1 + int(a * (len(d.cuts) - 2))].id] if len(d.cuts) > 2 else []),
}


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.sampled_from(sorted(EDITS)), st.floats(0.0, 1.0), st.floats(0.0, 1.0)), min_size=1, max_size=8))
def test_any_edits_keep_the_slices_whole_and_come_undone(demo: tuple[Document, Clip], edits: list[tuple[str, float, float]]) -> None:
    history = History(demo[0])
    for name, a, b in edits:
        history = history.after(EDITS[name](history.document, a, b), name)
        document = history.document
        times = [c.at_sample for c in document.cuts]
        assert times == sorted(set(times))
        slices = document.slices()
        assert slices[-1].end_sample == document.loop.end_sample
        assert all(a.end_sample == b.start_sample for a, b in pairwise(slices))
        if document.cutting.hits or document.cutting.even:
            assert slices[0].start_sample <= document.loop.start_sample + document.min_cut_frames or slices[0].cut.locked
        free = [s.start_sample for s in slices if not s.cut.locked and s.cut.origin != "hand"]
        assert all(d >= document.min_cut_frames for d in np.diff(free[1:]))
        assert pattern_of(document) == pattern_of(demo[0])
    while history.done:
        history, _ = history.undo()
    assert history.document == demo[0]


def test_several_slices_are_chosen_held_called_and_joined_at_once(demo_window: Any) -> None:
    session, stage = demo_window.session, demo_window.slice
    demo_window.go_to(1)
    view, slices = stage.view, session.store.document.slices()

    def click(index: int, modifier: Qt.KeyboardModifier = NONE) -> None:
        piece = slices[index]
        x = view.axis.x((piece.start_sample + piece.end_sample) / 2)
        QTest.mouseClick(view, LEFT, modifier, QPoint(round(x), round(view.row("low").center().y())))

    click(3)
    click(6, SHIFT)
    assert set(session.shown.selection.cut_ids) == {s.cut.id for s in slices[3:7]}
    click(9, CTRL)
    assert len(session.shown.selection.cut_ids) == 5
    press(view, Qt.Key.Key_H, CTRL)
    assert sum(c.locked for c in session.store.document.cuts) == 5
    assert "4 more" in stage.panel.heading.text()
    press(view, Qt.Key.Key_K, ALT)
    assert session.store.history.undo_label == "set drum to kick in 5 slices"
    assert all(session.store.document.cut(i).heard[0].drum == "kick" for i in session.shown.selection.cut_ids)
    press(view, Qt.Key.Key_Delete)
    assert len(session.store.document.slices()) == len(slices) - 5
    for _ in range(3):
        session.store.undo()
    assert session.store.document.slices() == slices
    click(0)
    stage.panel.alike.click()
    ids = alike(session.store.document, slices[0].cut.id)
    assert set(session.shown.selection.cut_ids) == set(ids)
    assert {session.store.document.cut(i).heard[0].drum for i in ids} == {"kick"}
    press(view, Qt.Key.Key_A, CTRL)
    assert len(session.shown.selection.cut_ids) == len(slices)
    press(view, Qt.Key.Key_Right, ALT | SHIFT)
    moved = [s.start_sample for s in session.store.document.slices()]
    assert [b - a.start_sample for a, b in zip(slices[1:], moved[1:], strict=True)] == [1] * (len(slices) - 1)
    assert pattern_of(session.store.document) == pattern_of(demo_window.session.store.document)


def test_what_sounds_underneath_is_corrected(demo: tuple[Document, Clip]) -> None:
    cut = demo[0].slices()[0].cut
    more = set_underneath(demo[0], cut.id, "crash", True).cut(cut.id)
    assert [h.drum for h in more.heard[:2]] == [cut.heard[0].drum, "crash"]
    assert more.heard[1].confidence == 1.0
    fewer = set_underneath(demo[0], cut.id, cut.heard[1].drum, False).cut(cut.id)
    assert cut.heard[1].drum not in {h.drum for h in fewer.heard}
    assert correct_all(demo[0], [cut.id], "perc").cut(cut.id).heard[0].drum == "perc"


def test_slices_are_played_by_the_pad_keys_and_single_hits_are_stepped_through(demo_window: Any, qtbot: Any) -> None:
    session, stage = demo_window.session, demo_window.slice
    demo_window.go_to(1)
    slices = session.store.document.slices()
    stage.keys_play.click()
    press(stage.view, Qt.Key.Key_X)
    assert session.shown.selection.cut_id == slices[1].cut.id
    session.shown.select(cut_id=slices[20].cut.id)
    press(stage.view, Qt.Key.Key_Z)
    assert session.shown.selection.cut_id == slices[16].cut.id
    stage.keys_play.click()
    press(stage.view, Qt.Key.Key_X)
    assert session.shown.selection.cut_id == slices[16].cut.id, "the pads have their keys back"
    stage.singles.click()
    session.shown.select(cut_id=slices[0].cut.id)
    press(stage.view, Qt.Key.Key_Right)
    chosen = session.store.document.cut(session.shown.selection.cut_id)
    assert sum(h.sure for h in chosen.heard) == 1
    for key, modifier in ((Qt.Key.Key_Return, NONE), (Qt.Key.Key_Return, SHIFT), (Qt.Key.Key_Return, ALT)):
        engine = demo_window.playback.engine
        qtbot.waitUntil(lambda engine=engine: engine.state.voices == 0)
        start = engine.state.rendered_frames
        press(stage.view, key, modifier)
        assert len(captured_sound(qtbot, engine, since_frame=start, frames=500, level=0.01))


def test_a_slice_is_cut_between_at_its_inner_attack(demo_window: Any, qtbot: Any) -> None:
    session, stage = demo_window.session, demo_window.slice
    demo_window.go_to(1)
    before = session.store.document
    session.store.edit("join", lambda d: delete_cuts(d, [before.slices()[4].cut.id]))
    session.shown.select(cut_id=before.slices()[3].cut.id)
    press(stage.view, Qt.Key.Key_Return, CTRL | SHIFT)
    assert abs(session.store.document.slices()[4].cut.attack_sample - before.slices()[4].cut.attack_sample) < 3
    settle(qtbot, demo_window)


def test_rows_are_hidden_shown_and_resized(demo_window: Any, qtbot: Any) -> None:
    stage = demo_window.slice
    demo_window.go_to(1)
    view = stage.view
    assert view.row("spectrogram").height() == 0.0
    stage.bar.shown["spectrogram"].click()
    settle(qtbot, demo_window)
    assert demo_window.session.project.sound.spectrogram is not None
    assert view.row("spectrogram").height() > 60.0
    stage.bar.shown["ribbons"].click()
    assert view.row("low").height() == 0.0
    stage.bar.channels.click()
    assert not view.grab().isNull()
    high = view.row("sound").height()
    bound = view.rows.bounds(view.row("sound").top(), view.height() - 10.0)[0]
    QTest.mousePress(view, LEFT, NONE, QPoint(20, round(bound)))
    QTest.mouseMove(view, QPoint(20, round(bound) + 40))
    QTest.mouseRelease(view, LEFT, NONE, QPoint(20, round(bound) + 40))
    assert view.row("sound").height() == pytest.approx(high + 40.0, abs=4.0)


@given(st.sets(st.sampled_from(GROUPS[1:])), st.lists(st.tuples(st.integers(0, 2), st.floats(0.0, 500.0)), max_size=5))
def test_rows_fill_their_room_without_overlap(hidden: set[str], moves: list[tuple[int, float]]) -> None:
    rows = Rows()
    rows.hidden = set(hidden)
    for bound, y in moves:
        if bound < len(rows.bounds(40.0, 600.0)):
            rows.move_bound(bound, y, 40.0, 600.0)
    places = [rows.place(name, 40.0, 600.0) for name in GROUPS if rows.shown(name)]
    assert places[0][0] == pytest.approx(40.0)
    assert places[-1][0] + places[-1][1] == pytest.approx(600.0)
    assert all(height > 15.0 for _, height in places)
    assert all(a[0] + a[1] <= b[0] for a, b in pairwise(places))


@pytest.mark.parametrize("scale", ["mel", "linear"])
@pytest.mark.parametrize("hz", [90.0, 1_000.0, 9_000.0])
def test_the_spectrogram_shows_a_tone_at_its_pitch(scale: Any, hz: float) -> None:
    rate = 44_100
    t = np.arange(rate) / rate
    clip = Clip((0.5 * np.sin(2 * np.pi * hz * t)).astype(np.float32)[:, np.newaxis], rate)
    made = spectrogram(clip, scale)
    assert made.levels.shape[1] == made.edges_hz.size - 1
    assert made.levels.shape[0] == pytest.approx(1.0 / made.step_s, abs=2)
    loudest = int(made.levels[made.levels.shape[0] // 2].argmax())
    assert abs(loudest + 0.5 - made.row_of(hz)) < 1.6


def test_slices_end_exactly_and_fade_only_where_they_would_click() -> None:
    sound = np.zeros((4_000, 1), np.float32)
    sound[:2_000] = 0.3
    clip = Clip(sound, 44_100)
    assert fade_out_ms(clip, 0, 1_990) > 0.0
    assert fade_out_ms(clip, 0, 3_000) == 0.0


def test_the_demo_loop_for_doubts_is_rough() -> None:
    clip = read_clip(next(path for path in loop_paths() if path.stem == "rough dub"))
    assert int((np.abs(clip.samples) > 0.999).sum()) > 8


def test_names_and_what_is_left_out_stay_with_their_time_however_it_is_cut(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    cut, other = document.cuts[5], document.cuts[9]
    marked = set_left_out(rename_slice(document, cut.id, "the one"), [other.id], True)
    even = set_cutting(marked, Cutting(hits=False, even=True, even_beats=1.0))
    back = set_cutting(even, document.cutting)
    assert {c.attack_sample: c.name for c in back.cuts if c.name} == {cut.attack_sample: "the one"}
    assert [c.attack_sample for c in back.cuts if c.left_out] == [other.attack_sample]
    assert back.set_aside == ()
    high = set_threshold(set_threshold(marked, 1.0), marked.threshold)
    assert [(c.attack_sample, c.name, c.left_out) for c in high.cuts] == [(c.attack_sample, c.name, c.left_out) for c in marked.cuts]
    both = set_cutting(document, Cutting(hits=True, even=True, even_beats=0.25))
    gaps = np.diff([c.at_sample for c in both.cuts]) / document.source.sample_rate
    assert gaps.min() > 0.012, "a step next to a hit is that hit"


def test_undo_brings_back_what_was_selected_and_the_slice_that_sounds_is_marked(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(1)
    document = session.store.document
    first, second = document.cuts[4], document.cuts[7]
    session.shown.select(cut_id=first.id)
    session.store.edit("delete", lambda d: delete_cuts(d, [first.id]))
    session.shown.select(cut_id=second.id)
    session.store.undo()
    assert session.shown.selection.cut_id == first.id
    session.store.redo()
    assert session.shown.selection.cut_id == second.id
    piece = session.store.document.slices()[3]
    window.slice.view.set_playhead(piece.start_sample + 50.0)
    assert window.slice.view._sounding == (piece.start_sample, piece.end_sample)
    assert not window.slice.view.grab().isNull()
