"""Bringing sounds in: the shelf, the loop on the file, its seam, tempo and drums, and several sounds in one project."""

from __future__ import annotations

import os
import shutil
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from bompla.analysis.loop.passages import bars_of
from bompla.analysis.tempo.drift import drift_of
from bompla.app.bring_in.shelf_list import ShelfFilter
from bompla.app.bring_in.tap import Taps
from bompla.app.preferences import preferences
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.demo import loop_paths
from bompla.errors import EditError
from bompla.formats.project import open_project
from bompla.model.cut_edits import downbeat_here, set_bars, set_meter, set_seam_fade, set_tempo, slide_loop, take_bars
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Attack, Document, Source
from bompla.model.loop import Loop
from bompla.render.mix import mixed
from bompla.render.stretch import stretched
from bompla.shelf.index import ShelfEntry, ShelfIndex, content_key, files_under
from bompla.shelf.scan import looked_at
from conftest import captured, captured_sound, settle

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier
ALT = Qt.KeyboardModifier.AltModifier


def mix_of(clip: Clip, *, before_s: float, after_s: float) -> Clip:
    """Return a loop inside a recording with a bass under all of it, and nothing but the bass before and after."""
    rate = clip.sample_rate
    sound = np.concatenate([np.zeros((round(before_s * rate), 2)), clip.stereo, np.zeros((round(after_s * rate), 2))])
    t = np.arange(len(sound)) / rate
    bass = sum(0.05 / k * np.sin(2 * np.pi * 110.0 * k * t) for k in range(1, 5))
    return Clip((0.7 * sound + bass[:, np.newaxis]).astype(np.float32), rate)


def test_a_mix_is_brought_in_trimmed_settled_and_taken_back(window: Any, qtbot: Any, tmp_path: Path) -> None:
    """From an unknown file to a loop by hand: proposal, handles, nudges, downbeat, tempo, seam, drums; all undone."""
    loop_clip = read_clip(loop_paths()[0])
    path = tmp_path / "night mix.wav"
    made = mix_of(loop_clip, before_s=1.31, after_s=1.7)
    soundfile.write(path, made.samples, made.sample_rate, subtype="FLOAT")
    session, stage = window.session, window.bring_in
    window.open_path(path)
    settle(qtbot, window)
    qtbot.waitUntil(lambda: stage.loop._proposals != ())
    first = session.store.document
    assert first.bpm == pytest.approx(96.02, rel=0.01) or first.bpm == pytest.approx(48.01, rel=0.01)

    suggested = stage.loop._proposals
    two = next(p.loop for p in suggested if p.loop.bars == 2)
    stage.loop.proposed.click(next(loop for loop in stage.loop.proposed.keys if loop == two))
    assert session.store.document.loop == two
    settle(qtbot, window)
    assert stage.loop._proposals == suggested, "they keep their names and order while they are tried"
    overview = stage.overview
    x0 = overview.axis.x(two.start_sample)
    y = overview.height() // 3
    QTest.mousePress(overview, LEFT, ALT, QPoint(round(x0), y))
    QTest.mouseMove(overview, QPoint(round(x0) + 20, y))
    QTest.mouseRelease(overview, LEFT, ALT, QPoint(round(x0) + 20, y))

    overview.setFocus()
    for key, modifier, change in ((Qt.Key.Key_Right, ALT | Qt.KeyboardModifier.ShiftModifier, 1), (Qt.Key.Key_Left, ALT, -44)):
        before = session.store.document.loop.start_sample
        QTest.keyClick(overview, key, modifier)
        assert session.store.document.loop.start_sample - before == pytest.approx(change, abs=1)
    bars = session.store.document.loop.bars
    stage.loop.slide(1, whole_bars=False)
    assert session.store.document.loop.bars == bars
    stage.loop.bars_are.setValue(4)
    assert session.store.document.loop.bars == 4
    stage.loop.meter.setCurrentIndex(stage.loop.meter.findData("3/4"))
    stage.loop.meter.activated.emit(stage.loop.meter.currentIndex())
    assert session.store.document.loop.meter_name == "3/4"
    stage.fade.setCurrentIndex(stage.fade.findData(10))
    stage.fade.activated.emit(stage.fade.currentIndex())
    assert session.store.document.loop.fade_ms == 10.0

    mix = session.store.document
    stage.loop.heard.click("rest")
    settle(qtbot, window)
    assert window.playback.baking.listened.drums_share == -1.0, "it is heard as soon as it is made"
    stage.loop.heard.click("drums")
    settle(qtbot, window)
    assert window.playback.baking.listened.drums_share == 1.0
    stage.loop.use_drums.click()
    settle(qtbot, window)
    assert len(session.project.sounds) == 2
    assert session.store.document.source.name.endswith("drums only")
    assert session.store.document.attacks == mix.attacks, "what was heard comes from the mix"
    assert session.store.document.loop == mix.loop
    assert window.playback.baking.listened.drums_share == 0.0
    session.project.switch(0)
    assert session.store.document.source.name == "night mix.wav"
    while session.store.history.done:
        session.store.undo()
    assert session.store.document == first
    while session.store.history.undone:
        session.store.redo()
    assert session.store.document.loop.fade_ms == 10.0


def test_the_shelf_lists_hears_sorts_filters_and_remembers(window: Any, qtbot: Any, tmp_path: Path) -> None:
    """A folder with a subfolder, a broken file and a text that calls itself sound; the second visit reads none of them."""
    (tmp_path / "sub").mkdir()
    paths = {path.stem: path for path in loop_paths()}
    for name, target in (("quay break", "sub/first.flac"), ("half-time pier", "second.flac")):
        shutil.copy(paths[name], tmp_path / target)
    (tmp_path / "notes.wav").write_text("this is a text")
    (tmp_path / "cover.jpg").write_bytes(b"no sound")
    shelf = window.bring_in.shelf
    done: list[bool] = []
    shelf.scanner.finished.connect(lambda: done.append(True))
    shelf.show_folder(tmp_path)
    qtbot.waitUntil(lambda: len(done) == 1 and not shelf.scanner.busy)
    shelf.sort.setCurrentIndex(shelf.sort.findData("bpm"))
    shelf.sort.activated.emit(0)
    assert [path.name for path in shelf.model.shown] == ["first.flac", "second.flac", "notes.wav"]
    entries = {path.name: entry for path, entry in shelf.model.entries.items()}
    assert entries["first.flac"].bpm == pytest.approx(96.02, rel=0.005)
    assert entries["second.flac"].bars == 4
    assert "cannot be read" in entries["notes.wav"].problem
    shelf.words.setText("SEC")
    assert [path.name for path in shelf.model.shown] == ["second.flac"]
    shelf.words.setText("")
    shelf.low.setValue(130)
    assert [path.name for path in shelf.model.shown] == ["second.flac"]
    shelf.low.setValue(0)

    engine = window.playback.engine
    start = engine.state.rendered_frames
    shelf.list.setFocus()
    shelf.list.choose(shelf.model.shown[0])
    QTest.keyClick(shelf.list, Qt.Key.Key_Down)
    settle(qtbot, window)
    assert len(captured_sound(qtbot, engine, since_frame=start, frames=500, level=0.1)), "the arrow lets it be heard"

    (tmp_path / "second.flac").write_bytes((tmp_path / "sub" / "first.flac").read_bytes())
    looked: list[str] = []
    shelf.scanner.looked_at.connect(lambda path, entry: looked.append(f"{path.name} {entry.bpm:.0f}"))
    asked: list[Path] = []
    shelf.scanner._workers[0].ask_scan = lambda path, **_: asked.append(path)
    shelf.scanner._workers[1:] = shelf.scanner._workers[:0]
    shelf.show_folder(tmp_path)
    qtbot.waitUntil(lambda: "first.flac 96" in looked)
    assert all(path.name in ("second.flac", "notes.wav") for path in asked), "only what changed is looked at again"
    shelf.scanner._workers.clear()


def test_the_index_survives_what_happens_to_it(tmp_path: Path) -> None:
    entry = ShelfEntry(bpm=99.0, bars=2)
    sound = tmp_path / "a.wav"
    sound.write_bytes(b"x" * 50)
    place = tmp_path / "cache" / "shelf.sqlite"
    index = ShelfIndex(place)
    index.keep([(sound, content_key(sound), entry, ()), (tmp_path / "gone.wav", "k", entry, ())])
    index.close()
    again = ShelfIndex(place)
    assert again.known([sound, tmp_path / "gone.wav"]) == {sound: entry}
    again.close()
    sound.write_bytes(b"y" * 51)
    place.write_bytes(b"this is no database" * 99)
    fresh = ShelfIndex(place)
    assert fresh.known([sound]) == {}
    fresh.close()
    held = ShelfIndex(tmp_path / "a.wav" / "below a file" / "x.sqlite")
    held.keep([(sound, "k2", entry, ())])
    assert held.known([sound]) == {sound: entry}
    held.close()


def test_swing_is_told_of_plain_beats_only() -> None:
    """In 6/8 the last third of a beat is where it should be; in a shuffle it swings."""
    entries = {path.stem: looked_at(path)[0] for path in loop_paths() if path.stem in ("lamplight shuffle", "slack tide 6-8")}
    assert entries["lamplight shuffle"].swing == pytest.approx(67.0, abs=2.0)
    assert (entries["slack tide 6-8"].meter, entries["slack tide 6-8"].swing) == ("6/8", 0.0)


def test_a_folder_is_walked_newest_first_and_hidden_things_are_left_out(tmp_path: Path) -> None:
    for n, name in enumerate(("b.wav", "a.flac", ".hidden.wav", "c.txt", "d.MP3")):
        (tmp_path / name).write_bytes(b"-")
        stamp = time.time() - 100 + n
        os.utime(tmp_path / name, (stamp, stamp))
    (tmp_path / ".git").mkdir()
    (tmp_path / ".git" / "e.wav").write_bytes(b"-")
    assert [path.name for path in files_under(tmp_path)] == ["d.MP3", "a.flac", "b.wav"]
    assert list(files_under(tmp_path / "nowhere")) == []
    assert "no sound" in looked_at(tmp_path / "gone.wav")[0].problem or "no file" in looked_at(tmp_path / "gone.wav")[0].problem


@pytest.mark.parametrize(
    ("wanted", "shown"),
    [
        (ShelfFilter(), True), (ShelfFilter(words="pier half"), True), (ShelfFilter(words="quay"), False),
        (ShelfFilter(low_bpm=139.0, high_bpm=141.0), True), (ShelfFilter(high_bpm=120.0), False),
        (ShelfFilter(near_bpm=71.0), True), (ShelfFilter(near_bpm=284.0), True), (ShelfFilter(near_bpm=100.0), False),
    ],
)
def test_the_shelf_is_filtered(wanted: ShelfFilter, shown: bool) -> None:
    assert wanted.lets(Path("/x/half-time pier.flac"), ShelfEntry(bpm=140.0)) is shown


def test_several_sounds_live_in_one_project(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    """Each keeps its loop, cuts and undo; one is taken out and brought back; all is saved and opened."""
    session = demo_window.session
    session.store.edit("take 2 bars", lambda d: take_bars(d, 2))
    other = next(path for path in loop_paths() if path.stem == "gangway hats")
    session.openings.open(other, add=True)
    settle(qtbot, demo_window)
    assert [s.history.document.source.name for s in session.project.sounds] == ["quay break.flac", "gangway hats.flac"]
    assert session.store.document.bpm == pytest.approx(126.0, rel=0.005)
    assert session.store.history.undo_label == ""
    session.store.edit("these are 8 bars", lambda d: set_bars(d, 8))
    assert "2 of 2" in demo_window.top_bar.source.text()
    menu = demo_window.top_bar.sounds_menu()
    menu.actions()[0].trigger()
    assert session.store.document.loop.bars == 2
    session.store.undo()
    assert session.store.document.loop.bars == 4
    session.store.redo()
    demo_window.top_bar.sounds_menu().actions()[4].trigger()
    assert len(session.project.sounds) == 1
    assert session.project.dirty
    session.project.restore()
    assert [s.history.document.loop.bars for s in session.project.sounds] == [8, 2]
    path = tmp_path / "two.bompla"
    session.project.save(path)
    settle(qtbot, demo_window)
    assert not session.project.dirty
    assert [d.loop.bars for d, _ in open_project(path).sources] == [8, 2]
    session.openings.open(path)
    settle(qtbot, demo_window)
    assert len(session.project.sounds) == 2
    session.project.remove(0)
    session.project.remove(0)
    assert len(session.project.sounds) == 1, "the last one stays"
    session.project.sounds = []


def test_tapping_gives_a_tempo_and_its_spread() -> None:
    taps = Taps()
    told = [taps.tap(0.5 * n + 0.004 * (-1) ** n) for n in range(8)]
    assert told[1] is None
    assert told[-1] is not None
    assert told[-1][0] == pytest.approx(120.0, abs=0.5)
    assert 0.5 < told[-1][1] < 5.0
    assert taps.tap(60.0) is None, "after a pause the taps begin anew"


def test_a_tapped_tempo_reads_the_loop(demo_window: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    loop = demo_window.bring_in.loop
    times = iter(np.arange(8) * 60.0 / 191.0)
    monkeypatch.setattr("bompla.app.bring_in.loop_panel.time.monotonic", lambda: float(next(times)))
    for _ in range(5):
        loop.tap_now()
    assert demo_window.session.store.document.loop.bars == 8
    assert loop.tapped.text().startswith("191.0 BPM")


def test_loop_edits_hold_what_they_say(demo: tuple[Document, Clip]) -> None:
    document = take_bars(demo[0], 2)
    assert document.bpm == pytest.approx(demo[0].bpm, rel=1e-4)
    assert set_tempo(document, 100.0).bpm == pytest.approx(100.0, rel=1e-5)
    assert set_tempo(document, 100.0).loop.start_sample == document.loop.start_sample
    with pytest.raises(EditError, match="past the end"):
        set_tempo(demo[0], 60.0)
    with pytest.raises(EditError, match="between"):
        set_tempo(demo[0], 3.0)
    moved = slide_loop(document, 4.0)
    assert moved.loop.start_sample == pytest.approx(document.loop.frames / 2, abs=2)
    assert slide_loop(moved, 100.0).loop.end_sample == document.source.frames
    assert slide_loop(moved, -4.0).loop == document.loop
    third = demo[0].slices()[8].cut
    here = downbeat_here(demo[0], third.attack_sample + 400)
    assert here.loop.start_sample == third.at_sample
    assert here.loop.bars == 3
    with pytest.raises(EditError, match="less than one bar"):
        downbeat_here(demo[0], demo[0].source.frames - 100)
    assert set_meter(document, "3/4").loop.length_beats == document.loop.length_beats, "beat and ends stay, bars are counted anew"
    for edited in (set_tempo(document, 100.0), moved, here, set_meter(document, "6/8")):
        assert [h.id for h in pattern_of(edited).hits] == [h.id for h in pattern_of(document).hits], "no edit of the loop loses a hit"


def test_a_drifting_recording_is_followed() -> None:
    rate, rng, now = 44_100, np.random.default_rng(3), 0.0
    beats, tempos = [], []
    for n in range(160):
        beats.append(now)
        tempos.append(100.0 * (1.0 + 0.03 * np.sin(n / 25.0)))
        now += 60.0 / tempos[-1]
    times = sorted([b + rng.normal(0.0, 0.004) for b in beats] + [b + 0.3 for b in beats[::3]])
    attacks = tuple(Attack(max(0, round(t * rate)), max(0, round(t * rate)), 0.8) for t in times)
    document = Document("x", Source("x", "0", rate, 1, round(now * rate)), Loop.of_bars(attacks[0].at_sample, round(9.6 * rate), 4, "4/4"),
                        attacks=attacks, threshold=0.5)
    drift = drift_of(document)
    assert not drift.steady
    assert np.abs(drift.samples[: len(beats)] / rate - np.array(beats)).max() < 0.02
    assert drift.bpm[40] == pytest.approx(103.0, abs=0.8)
    starts = bars_of(document).starts
    assert np.abs(starts[:40] / rate - np.array(beats[::4])[: len(starts[:40])]).max() < 0.02
    steady = replace(document, attacks=tuple(Attack(n * 26_460, n * 26_460, 0.8) for n in range(100)),
                     loop=Loop.of_bars(0, 16 * 26_460, 4, "4/4"), source=replace(document.source, frames=100 * 26_460))
    assert drift_of(steady).steady


@pytest.mark.parametrize("share", [-1.0, -0.4, 0.0, 0.5, 1.0])
def test_a_balance_of_drums_and_rest(share: float) -> None:
    rng = np.random.default_rng(1)
    drums, rest = (rng.standard_normal((50, 2)).astype(np.float32) for _ in range(2))
    made = mixed(drums + rest, drums, share)
    expected = {-1.0: rest, 0.0: drums + rest, 1.0: drums}.get(share)
    if expected is not None:
        assert np.abs(made - expected).max() < 1e-5


@pytest.mark.parametrize("speed", [0.25, 0.7, 1.0, 1.6])
def test_stretched_sound_keeps_its_pitch_and_has_the_length_asked_for(speed: float) -> None:
    rate = 44_100
    t = np.arange(rate) / rate
    sound = np.stack([0.5 * np.sin(2 * np.pi * 440.0 * t)] * 2, axis=1).astype(np.float32)
    made = stretched(sound, rate, speed)
    assert made.shape == (round(rate / speed), 2)
    middle = made[len(made) // 3 : 2 * len(made) // 3, 0]
    spectrum = np.abs(np.fft.rfft(middle * np.hanning(len(middle))))
    assert np.argmax(spectrum) * rate / len(middle) == pytest.approx(440.0, abs=6.0)


def test_the_seam_is_dragged_and_heard(demo_window: Any, qtbot: Any) -> None:
    session, stage = demo_window.session, demo_window.bring_in
    session.store.edit("take 2 bars", lambda d: take_bars(d, 2))
    demo_window.go_to(0)
    seam, before = stage.seam, session.store.document.loop
    seam.zoom(0.05)
    per_point = seam.samples_per_point
    y = seam.height() // 2
    x = seam.width() // 4
    QTest.mousePress(seam, LEFT, NONE, QPoint(x, y))
    QTest.mouseMove(seam, QPoint(x + 10, y))
    QTest.mouseRelease(seam, LEFT, NONE, QPoint(x + 10, y))
    assert session.store.document.loop.end_sample == before.end_sample - round(10 * per_point)
    assert session.store.document.loop.start_sample == before.start_sample
    assert not seam.grab().isNull()
    seam.zoom(50.0)
    engine = demo_window.playback.engine
    start = engine.state.rendered_frames
    stage.hear_seam()
    settle(qtbot, demo_window)
    assert len(captured_sound(qtbot, engine, since_frame=start, frames=500, level=0.05))


def test_what_lies_outside_the_loop_can_be_heard_or_is_said_to_be_nothing(demo_window: Any, qtbot: Any) -> None:
    stage = demo_window.bring_in
    stage._hear_excess(True)
    assert "nothing before" in demo_window.messages.text.text()
    session = demo_window.session
    assert set_seam_fade(session.store.document, 999.0).loop.fade_ms == 200.0
    session.store.edit("take 2 bars", lambda d: take_bars(d, 2))
    engine = demo_window.playback.engine
    start = engine.state.rendered_frames
    stage._hear_excess(False)
    settle(qtbot, demo_window)
    assert len(captured_sound(qtbot, engine, since_frame=start, frames=500, level=0.05))


def test_with_nothing_open_there_is_one_invitation_and_the_rest_is_off(window: Any, qtbot: Any) -> None:
    bring_in = window.bring_in
    assert bring_in.invitation.isVisible()
    assert not window.listening.play.isEnabled()
    assert window.listening.tempo.text() == "– BPM"
    assert [made.isEnabled() for made in window.path.buttons] == [True, False, False, False, False, False]
    assert not window.path.hint.isVisible()
    demo = next(b for b in bring_in.invitation.findChildren(QPushButton) if b.text() == "quay break")
    QTest.mouseClick(demo, Qt.MouseButton.LeftButton)
    settle(qtbot, window)
    assert not bring_in.invitation.isVisible()
    assert window.listening.play.isEnabled()
    assert all(made.isEnabled() for made in window.path.buttons)
    assert window.path.hint.isVisible()
    tall = window.path.hint.height()
    preferences().set(theme="day")
    QTest.qWait(50)
    assert window.path.hint.height() == pytest.approx(tall, abs=2), "all of it is read by day, too"
    preferences().set(theme="night")
    QTest.mouseClick(window.path.hint, Qt.MouseButton.LeftButton)
    assert not window.path.hint.isVisible()
    window.go_to(1)
    assert window.path.hint.isVisible(), "each stage has its own"
    window.go_to(0)
    assert not window.path.hint.isVisible(), "put away for good"

    assert Path(preferences().value.recent_files[0]).stem == "quay break"
    assert next(a for a in window.top_bar.recent_menu().actions()).text().startswith("quay break")


def test_a_click_on_the_shelf_plays_and_opening_keeps_what_is_not_saved(demo_window: Any, qtbot: Any) -> None:
    window, session, shelf = demo_window, demo_window.session, demo_window.bring_in.shelf
    window.go_to(0)
    qtbot.waitUntil(lambda: shelf.model.rowCount() > 5 and not shelf.scanner.busy)
    path = next(p for p in shelf.model.shown if p.stem == "gangway hats")
    row = shelf.list.visualRect(shelf.model.index(shelf.model.shown.index(path)))
    shelf.list.scrollTo(shelf.model.index(shelf.model.shown.index(path)))
    row = shelf.list.visualRect(shelf.model.index(shelf.model.shown.index(path)))
    before = window.playback.engine.state.rendered_frames
    QTest.mouseClick(shelf.list.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, row.center())
    settle(qtbot, window)
    assert session.store.document.title == "Night Ferry", "a click opens nothing"
    qtbot.waitUntil(lambda: float(np.abs(captured(window.playback.engine, since_frame=before)).max()) > 0.02)
    session.store.edit("meter", lambda d: set_meter(d, "3/4"))
    settle(qtbot, window)
    assert shelf.list.current_path() == path, "what was chosen on the shelf stays chosen"
    said: list[str] = []
    session.hub.posted.connect(lambda message: said.append(message.text))
    QTest.mouseDClick(shelf.list.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, row.center())
    settle(qtbot, window)
    assert [sound.history.document.title for sound in session.project.sounds] == ["Night Ferry", "gangway hats"]
    assert any("stays in the project" in text for text in said)


def test_moving_the_loop_keeps_its_tempo_and_a_click_puts_the_downbeat(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(0)
    session.store.edit("shorter", lambda d: take_bars(d, 2))
    bpm, overview = session.store.document.bpm, window.bring_in.overview
    overview.setFocus()
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Left):
        QTest.keyClick(overview, key)
        assert session.store.document.bpm == pytest.approx(bpm, abs=1e-6)
    assert session.store.document.loop.start_sample > 0
    assert any(a.cut_sample == session.store.document.loop.start_sample for a in session.store.document.attacks)
    first = session.store.document.attacks[0]
    panel = window.bring_in.loop
    panel.downbeat_here.click()
    x = round(overview.axis.x(first.at_sample)) + 1
    QTest.mouseClick(overview, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(x, 90))
    assert session.store.document.loop.start_sample == first.cut_sample
    assert not panel.downbeat_here.isChecked()
    panel.downbeat_here.click()
    QTest.keyClick(overview, Qt.Key.Key_Escape)
    assert not overview.picking
