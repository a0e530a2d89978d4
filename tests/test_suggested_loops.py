"""Loops that are suggested, what follows the loop, its seam and the mends of it, and what is seen while a sound is analysed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.analysis.loop.passages import bars_of, proposals_of
from bompla.app.sound_picture import RULER
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.audio.resample import resampled
from bompla.demo import loop_paths
from bompla.model.cut_edits import move_ends, set_loop, set_meter, take_bars
from bompla.model.detected_pattern import hits_inside, pattern_of
from bompla.model.document import Document
from bompla.model.loop import Loop
from bompla.model.pattern_edits import delete_hits
from bompla.model.stretches import Proposed, Stretch
from bompla.render.seam import seam_mend, seam_of, seamless, zero_crossing
from conftest import captured_sound, settle

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier
ALT = Qt.KeyboardModifier.AltModifier


@pytest.mark.parametrize("late_ms", [-7.0, 0.0, 12.0])
def test_the_seam_tells_how_late_the_loop_comes_round(demo: tuple[Document, Clip], late_ms: float) -> None:
    """Two bars of four: the third bar's first hit follows the end, so that it can be told."""
    document, clip = demo
    two = take_bars(document, 2)
    after = next(a for a in document.attacks if abs(a.at_sample - two.loop.end_sample) < 2_000)
    end = after.at_sample + round(late_ms * clip.sample_rate / 1000.0)
    seam = seam_of(set_loop(document, replace(two.loop, end_sample=end)), clip)
    first = document.attacks[0].at_sample - two.loop.start_sample
    assert seam.error_ms == pytest.approx(late_ms + 1000.0 * first / clip.sample_rate, abs=0.6)
    assert ("late" in seam.words) == (late_ms > 5.0)
    moved = set_loop(document, replace(two.loop, start_sample=two.loop.start_sample + 400, end_sample=end))
    for _ in range(4):  # the start, the end, the step: one after the other, until there is nothing to tell
        mend = seam_mend(moved, clip, seam_of(moved, clip))
        if mend is None:
            break
        moved = set_loop(moved, mend.loop)
    assert mend is None
    mended = seam_of(moved, clip)
    assert abs(mended.early_ms or 0.0) < 2.0
    assert abs(mended.error_ms or 0.0) < 0.5
    assert not mended.steps


def test_a_seam_is_mended_by_a_button(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(0)
    stage, loop = window.bring_in, session.store.document.loop
    assert not stage.seam_mend.isVisible(), "nothing is told"
    session.store.edit("start late", lambda d: set_loop(d, replace(loop, start_sample=882)))
    assert stage.seam_mend.text() == "Start on the attack"
    QTest.keyClick(stage.overview, Qt.Key.Key_F5)
    assert session.store.document.loop.start_sample <= 2
    assert session.store.history.undo_label == "start on the attack"
    session.store.undo()
    session.store.undo()
    assert session.store.document.loop == loop


def test_a_blended_seam_has_no_step() -> None:
    rate = 44_100
    t = np.arange(2 * rate) / rate
    clip = Clip((0.5 * np.sin(2 * np.pi * 97.3 * t)).astype(np.float32)[:, np.newaxis], rate)
    loop = Loop.of_bars(10_000, 50_123, 1, "4/4")
    plain, soft = seamless(clip, loop), seamless(clip, replace(loop, fade_ms=20.0))
    usual = float(np.abs(np.diff(clip.samples[:, 0])).max())
    assert abs(float(plain[-1, 0] - plain[0, 0])) > 3 * usual
    assert abs(float(soft[-1, 0] - soft[0, 0])) < 2 * usual
    assert np.array_equal(plain[:-1000], soft[:-1000])
    assert abs(float(clip.mono[zero_crossing(clip, 20_000, 500)])) < usual


def test_clear_bars_and_proposals_leave_out_what_has_no_drums(demo_loops: Any) -> None:
    from bompla.analysis.analyse import analyse
    from bompla.groove.rebuild import document_from

    _, clip, truth = next(row for row in demo_loops if row[0] == "rehearsal tape")
    document = document_from(analyse(clip), "tape")
    bars = bars_of(document)
    inside = bars.starts[:-1] >= truth["region"]["start_s"] * clip.sample_rate - 500
    inside &= bars.starts[1:] <= truth["region"]["end_s"] * clip.sample_rate + 2000
    assert bars.clarity[inside].min() > 0.4 > bars.clarity[~inside].max(initial=0.0)
    proposals = proposals_of(document)
    assert {p.loop.bars for p in proposals} == {1, 2, 4}
    four = next(p.loop for p in proposals if p.loop.bars == 4)
    assert four.start_sample == pytest.approx(truth["region"]["start_s"] * clip.sample_rate, abs=300)


def test_a_suggested_loop_is_heard_and_used_on_the_picture(demo_window: Any, qtbot: Any) -> None:
    """Two stretches: a click on a box plays its bars, a double click uses them, and the bars shown are those of the loop's own stretch."""
    window, session = demo_window, demo_window.session
    window.go_to(0)
    document: Document = session.store.document
    frames, bar = document.source.frames, round(document.loop.bar_frames)
    border = 2 * bar
    proposed = (Proposed(Loop.of_bars(border, border + bar, 1, "4/4"), 0.8), Proposed(Loop.of_bars(0, bar, 1, "4/4"), 0.7))
    stretches = (Stretch(0, border, document.bpm, "4/4", 0.9), Stretch(border, frames, document.bpm * 1.3, "4/4", 0.9))
    session.store.edit("two stretches", lambda d: replace(d, stretches=stretches, proposed=proposed))
    overview = window.bring_in.overview
    settle(qtbot, window)
    overview.grab()
    x = overview._axis.x(border + bar / 2)
    y = overview._boxes[0].area.center().y()
    assert overview._boxes[0].area.left() == pytest.approx(overview._axis.x(border), abs=1.0), "a box is where its bars are"
    QTest.mouseMove(overview, QPoint(round(x), round(y)))
    assert overview.proposal_at(x, y) == 0
    assert all(words in overview.toolTip() for words in ("1 bar at", "very clear drums", "A click plays it"))
    window.playback.transport.toggle()
    start = window.playback.engine.state.rendered_frames
    QTest.mouseClick(overview, LEFT, NONE, QPoint(round(x), round(y)))
    assert session.store.document.loop == document.loop, "hearing it is not taking it"
    assert not window.playback.transport.playing, "and it is heard by itself"
    settle(qtbot, window)
    assert len(captured_sound(qtbot, window.playback.engine, since_frame=start, frames=500, level=0.1))
    QTest.mouseDClick(overview, LEFT, NONE, QPoint(round(x), round(y)))
    assert session.store.document.loop == proposed[0].loop
    session.store.undo()
    settle(qtbot, window)
    ctrl, shift = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
    QTest.keyClick(overview, Qt.Key.Key_P, ctrl)
    QTest.keyClick(overview, Qt.Key.Key_P, ctrl | shift)
    assert session.store.document.loop == proposed[1].loop
    session.store.undo()
    QTest.keyClick(overview, Qt.Key.Key_9, ctrl)
    assert overview.axis.x(0) < overview.axis.x(frames)
    session.store.edit("use the first", lambda d: set_loop(d, proposed[0].loop))
    starts = bars_of(session.store.document).starts
    assert starts[0] >= border - bar // 2, "bars of the other tempo are not shown"
    session.store.undo()
    assert session.store.document.loop == document.loop
    panel, near = window.bring_in.loop, round(0.02 * document.source.sample_rate)
    panel.half_bar.click()
    assert session.store.document.loop == document.loop, "there is no more sound than the loop"
    assert "not half a bar of sound left" in window.messages.text.text()
    session.store.edit("first bar", lambda d: set_loop(d, proposed[1].loop))
    panel.half_bar.click()
    moved = session.store.document
    assert moved.loop.start_sample == pytest.approx(bar / 2, abs=near)
    assert moved.loop.frames == bar
    assert [one.loop for one in moved.proposed] == [proposed[0].loop, moved.loop], "what is suggested at this tempo moves along"
    assert moved.bpm == pytest.approx(document.bpm, rel=1e-3)
    session.store.undo()
    assert session.store.document.proposed == proposed
    session.store.edit("in 3/4", lambda d: set_meter(d, "3/4"))
    assert not panel.half_bar.isEnabled(), "its half is not on a beat"


def test_kit_and_pattern_are_those_of_the_loop_until_they_are_touched(window: Any, qtbot: Any, tmp_path: Path) -> None:
    """A recording of two loops at two tempos: the other one's bars have its own drums, and an edited pattern stays what it is."""
    by_name = {path.stem: read_clip(path) for path in loop_paths()}
    first, second = by_name["quay break"], by_name["gangway hats"]
    rate = first.sample_rate
    other = Clip(np.asarray(resampled(second, rate).stereo), rate)
    sound = np.concatenate([np.tile(first.stereo, (3, 1)), np.zeros((rate, 2), np.float32), np.tile(other.stereo, (4, 1))])
    path = tmp_path / "two songs.wav"
    soundfile.write(path, sound, rate, subtype="FLOAT")
    session, stage = window.session, window.bring_in
    arrived: list[str] = []
    session.openings.arriving_changed.connect(
        lambda: arrived.append(session.openings.arriving.name if session.openings.arriving else "gone"))
    window.open_path(path)
    qtbot.waitUntil(lambda: arrived == ["two songs.wav"])
    assert stage.arriving.wave.isVisible(), "the waveform is there while it is analysed"
    start = window.playback.engine.state.rendered_frames
    wave = stage.arriving.wave
    QTest.mouseClick(wave, LEFT, NONE, QPoint(round(wave.axis.x(30.0 * rate)), wave.height() // 2))
    settle(qtbot, window)
    assert len(captured_sound(qtbot, window.playback.engine, since_frame=start, frames=500, level=0.1)), "and can be heard"
    assert arrived == ["two songs.wav", "gone"]
    qtbot.waitUntil(lambda: len(stage.loop._proposals) > 4)
    document = session.store.document
    other = next(one for one in document.stretches if not one.start_sample <= document.loop.start_sample < one.end_sample)
    at = stage.overview.axis.x((other.start_sample + other.end_sample) / 2)
    QTest.mouseClick(stage.overview, LEFT, NONE, QPoint(round(at), RULER + 8))
    assert other.start_sample <= session.store.document.loop.start_sample < other.end_sample, "a click on its name goes to its best bars"
    session.store.undo()
    document = session.store.document
    border = 3 * first.frames + rate // 2
    here, there = document.loop, next(p.loop for p in stage.loop._proposals if (p.loop.start_sample > border)
                                      != (document.loop.start_sample > border))

    def use(loop: Loop) -> None:
        index = next(n for n, p in enumerate(stage.loop._proposals) if p.loop == loop)
        stage.loop.use_proposal(index)
        settle(qtbot, window)

    use(there)
    moved = session.store.document
    struck = {(round(a.at_sample), h.drum) for a in moved.attacks for h in a.heard if h.sure}
    assert len(hits_inside(moved)) == len(pattern_of(moved).hits) > 4
    pads = {pad.id: pad.drum for pad in moved.pads}
    times = moved.beat_map.samples_at([hit.at_beats for hit in pattern_of(moved).hits])
    assert all(any(abs(at - t) < 0.002 * rate and drum == pads[hit.pad_id] for at, drum in struck)
               for t, hit in zip(times, pattern_of(moved).hits, strict=True)), "each hit is one that is heard there"
    assert not moved.offers
    selected = session.shown.selection
    assert selected.cut_id in {cut.id for cut in moved.cuts}
    assert selected.pad_id in pads
    seam = seam_of(moved, session.project.clip)
    assert (seam.early_ms, seam.error_ms) == (0.0, 0.0)
    session.store.undo()
    assert session.store.document == document
    session.store.edit("delete hit", lambda d: delete_hits(d, [pattern_of(d).hits[0].id]))
    edited = pattern_of(session.store.document)
    use(there)
    assert [hit.id for hit in pattern_of(session.store.document).hits] == [hit.id for hit in edited.hits], "what was edited stays"
    assert session.store.document.offers, "and what is heard there is offered"
    use(here)
    back = pattern_of(session.store.document).hits
    assert [hit.at_beats for hit in back] == pytest.approx([hit.at_beats for hit in edited.hits], abs=1e-6)


def test_what_arrives_can_be_given_up(window: Any, qtbot: Any) -> None:
    stage, openings = window.bring_in, window.session.openings
    window.open_path(loop_paths()[0])
    qtbot.waitUntil(lambda: openings.arriving is not None)
    assert not stage.invitation.isVisible()
    openings.cancel()
    assert stage.invitation.isVisible()
    assert openings.arriving is None
    settle(qtbot, window)
    assert window.session.store.document is None


def test_what_a_hand_sets_stays_set(demo_window: Any, qtbot: Any) -> None:
    """Ends, tempo, meter and taps: the beat stands, the bars are counted, and nothing is called sure that a hand has set."""
    window, session = demo_window, demo_window.session
    window.go_to(0)
    stage, panel = window.bring_in, window.bring_in.loop
    qtbot.waitUntil(lambda: bool(panel._proposals))
    offered = panel._proposals
    first = session.store.document
    bpm = first.bpm
    session.store.edit("end", lambda d: move_ends(d, d.loop.start_sample, d.loop.start_sample + round(2.5 * d.loop.bar_frames)))
    assert session.store.document.bpm == pytest.approx(bpm, abs=0.01)
    settle(qtbot, window)
    assert panel._proposals == offered, "what is suggested keeps its place, whatever the hand does"
    assert panel.to_line.isVisible()
    panel.to_line.click()
    assert session.store.document.loop.is_whole_bars
    assert not panel.to_line.isVisible()
    session.store.undo()
    session.store.undo()
    panel.bpm.typed.emit(bpm + 1.0)
    assert "set by you" in panel.facts.get("tempo")
    assert f"detected {first.readings[0].bpm:.2f}" in panel.facts.get("tempo")
    panel._type_tempo(390.0)
    assert session.openings.tempo_range[1] >= 390.0, "the range holds what a hand has set"
    while session.store.history.done:
        session.store.undo()
    panel.lock.click()
    view, loop = stage.overview, session.store.document.loop
    session.store.edit("shorter", lambda d: take_bars(d, 2))
    length = session.store.document.loop.frames
    x = view.axis.x(session.store.document.loop.end_sample)
    press_and_drag(view, x, x + 40.0)
    assert session.store.document.loop.frames == length
    assert session.store.document.loop.start_sample > loop.start_sample
    panel.tap_now()
    assert "keep going" in panel.tapped.text()
    panel._forget.timeout.emit()
    assert panel.tapped.text() == ""
    panel.tap_now()
    session.project.sound_changed.emit()
    assert panel.tapped.text() == "", "taps are of one sound"
    panel.downbeat_here.click()
    assert "Click the hit" in window.messages.text.text()
    panel.downbeat_here.click()


def press_and_drag(view: Any, from_x: float, to_x: float) -> None:
    y = view.height() // 2
    QTest.mousePress(view, LEFT, NONE, QPoint(round(from_x), y))
    for step in range(1, 9):
        QTest.mouseMove(view, QPoint(round(from_x + (to_x - from_x) * step / 8), y))
    QTest.mouseRelease(view, LEFT, NONE, QPoint(round(to_x), y))


def test_letters_typed_on_an_empty_window_are_no_taps(window: Any) -> None:
    window.bring_in.loop.tap_now()
    assert window.bring_in.loop.tapped.text() == ""
