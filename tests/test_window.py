"""The real window, driven as a producer would: mouse, keys, files."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pretty_midi
import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractSlider,
    QAbstractSpinBox,
    QComboBox,
    QFileDialog,
    QLineEdit,
    QListWidget,
    QMessageBox,
    QScrollBar,
    QWidget,
)

from bompla.app.commands import BY_KEY, COMMANDS
from bompla.app.kit.pad_grid import SLICE_MIME
from bompla.app.messages import MessageHub
from bompla.app.theme import DAY, NIGHT, theme
from bompla.demo import loop_paths
from bompla.formats.project import open_project
from bompla.model.cut_edits import add_cut, set_threshold
from bompla.model.detected_pattern import pattern_of
from bompla.model.pattern_edits import delete_hits
from conftest import captured, hit_of, settle

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier


def at(x: float, y: float) -> QPoint:
    return QPoint(round(x), round(y))


def drag(widget: QWidget, start: QPoint, end: QPoint, modifier: Qt.KeyboardModifier = NONE) -> None:
    """Press, move in steps, and let go."""
    from PyQt6.QtCore import QEvent
    from PyQt6.QtGui import QMouseEvent
    from PyQt6.QtWidgets import QApplication

    QTest.mousePress(widget, LEFT, modifier, start)
    for step in range(1, 6):
        point = QPointF(start + (end - start) * (step / 5))
        there = QPointF(widget.mapToGlobal(point.toPoint()))
        moved = QMouseEvent(QEvent.Type.MouseMove, point, there, Qt.MouseButton.NoButton, LEFT, modifier)
        QApplication.sendEvent(widget, moved)
    QTest.mouseRelease(widget, LEFT, modifier, end)


def strength(sound: np.ndarray) -> float:
    return float(np.abs(sound).max(initial=0.0))


def loudest_after(qtbot: Any, window: Any, act: Any, frames: int = 12_000) -> float:
    """Return the peak of what the device plays after an action."""
    engine = window.playback.engine
    start = engine.state.rendered_frames
    qtbot.waitUntil(lambda: engine.state.rendered_frames > start + 2_400 and engine.state.voices == 0)
    start = engine.state.rendered_frames
    act()
    qtbot.waitUntil(lambda: engine.state.rendered_frames > start + frames)
    return strength(captured(engine, since_frame=start))


def test_from_a_loop_to_a_midi_file(window: Any, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Open a demo loop, cut by hand, rename a pad, move a pin, undo on the way, listen, and write MIDI."""
    session = window.session
    shelf = window.bring_in.shelf
    qtbot.waitUntil(lambda: any(path.stem == "quay break" for path in shelf.model.shown))
    shelf.list.choose(next(path for path in shelf.model.shown if path.stem == "quay break"))
    shelf.list.setFocus()
    QTest.keyClick(shelf.list, Qt.Key.Key_Return)
    assert session.work.work is not None
    assert window.messages.progress.isVisible()
    settle(qtbot, window)
    document = session.store.document
    assert document.bpm == pytest.approx(96.02, rel=0.005)
    assert window.bring_in.loop.facts.get("tempo").startswith("96.")
    assert not session.project.dirty

    window.go_to(1)
    view = window.slice.view
    piece = document.slices()[2]
    middle = (piece.start_sample + piece.end_sample) // 2
    QTest.mouseDClick(view, LEFT, Qt.KeyboardModifier.AltModifier, at(view.axis.x(middle), view.row("sound").center().y()))
    assert len(session.store.document.slices()) == len(document.slices()) + 1
    assert pattern_of(session.store.document) == pattern_of(document)
    settle(qtbot, window)
    assert not session.store.document.cut(session.shown.selection.cut_id).heard, "a piece of a tail is no drum"
    assert session.store.history.undo_label == "add cut"

    window.go_to(2)
    kick = next(pad for pad in session.store.document.pads if pad.drum == "kick")
    cell = window.kit.grid.cell(kick.slot)
    peak = loudest_after(qtbot, window, lambda: QTest.mouseClick(window.kit.grid, LEFT, NONE, at(cell.center().x(), cell.top() + 6)))
    assert peak > 0.1
    window.kit.panel.name.setFocus()
    window.kit.panel.name.setText("Harbour kick")
    QTest.keyClick(window.kit.panel.name, Qt.Key.Key_Return)
    assert session.store.document.pad(kick.id).name == "Harbour kick"

    window.go_to(3)
    lanes = window.groove.lanes
    hit = next(h for h in pattern_of(session.store.document).hits if h.pad_id == kick.id and h.at_beats > 3)
    pin = lanes.pin(hit)
    step = lanes.axis.width / session.store.document.loop.length_beats / 4
    drag(lanes, at(pin.x(), pin.y()), at(pin.x() + 2 * step, pin.y() + 1))
    assert hit_of(session.store.document, hit.id).at_beats == pytest.approx(hit.at_beats + 0.5)
    assert session.store.history.undo_label == "move hit"
    window.top_bar.undo.click()
    assert hit_of(session.store.document, hit.id) == hit
    assert window.top_bar.redo.text() == "Redo: move hit"
    window.top_bar.redo.click()
    settle(qtbot, window)

    window.listening.blend.setValue(100)
    heard = loudest_after(qtbot, window, window.listening.play.click, 24_000)
    assert heard > 0.1
    assert window.listening.play.text() == "Stop"
    qtbot.waitUntil(lambda: window.listening.position.text() != "1.1.00")
    window.listening.play.click()

    window.go_to_stage("send-out")
    target = tmp_path / "quay break"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    QTest.keyClick(window, Qt.Key.Key_M, Qt.KeyboardModifier.ControlModifier)
    midi = pretty_midi.PrettyMIDI(str(target.with_suffix(".mid")))
    notes = [note for track in midi.instruments for note in track.notes]
    assert len(notes) == len(pattern_of(session.store.document).hits)
    starts = [note.start for track in midi.instruments if track.name == "Harbour kick" for note in track.notes]
    assert min(abs(s - (hit.at_beats + 0.5) * 60 / session.store.document.bpm) for s in starts) < 0.001
    assert window.send_out.state_line(session.store.document) == "MIDI pattern"


def test_the_threshold_line_cuts_more_and_fewer_and_the_hand_cut_stays(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(1)
    view = window.slice.view
    piece = session.store.document.slices()[4]
    session.store.edit("add cut", lambda d: add_cut(d, (piece.start_sample + piece.end_sample) // 2))
    by_hand = session.store.document.next_id - 1
    before = session.store.document
    row = view.row("strength")
    line = at(row.center().x(), view.threshold_y())
    drag(view, line, at(row.center().x(), row.top() + row.height() * 0.2))
    fewer = session.store.document
    assert len(fewer.slices()) < len(before.slices())
    assert fewer.cut(by_hand)
    assert session.store.history.undo_label == "set threshold"
    drag(view, at(row.center().x(), view.threshold_y()), at(row.center().x(), row.bottom() - 2))
    assert len(session.store.document.slices()) > len(before.slices())
    assert session.store.document.cut(by_hand)
    assert pattern_of(session.store.document) == pattern_of(before)
    session.store.undo()
    assert session.store.document == fewer
    session.store.undo()
    assert session.store.document == before


def test_cuts_are_dragged_stepped_through_named_and_taken_out(demo_window: Any, qtbot: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(1)
    view, first = window.slice.view, session.store.document
    piece = first.slices()[5]
    y = view.row("sound").center().y()
    x = view.axis.x(piece.start_sample)
    drag(view, at(x, y), at(x + 6, y), Qt.KeyboardModifier.AltModifier)
    moved = session.store.document.cut(piece.cut.id)
    assert moved.at_sample == pytest.approx(view.axis.sample(round(x + 6)), abs=2 * view.axis.samples_per_point)
    assert moved.locked
    view.setFocus()
    assert loudest_after(qtbot, window, lambda: QTest.keyClick(view, Qt.Key.Key_Right)) > 0.001
    assert window.slice.chosen().number == 7
    QTest.keyClick(view, Qt.Key.Key_Left)
    assert window.slice.chosen().cut.id == piece.cut.id
    QTest.keyClick(view, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    assert session.store.document.cut(piece.cut.id).at_sample == moved.at_sample + 44
    window.slice.panel.name.setFocus()
    window.slice.panel.name.setText("creak")
    QTest.keyClick(window.slice.panel.name, Qt.Key.Key_Return)
    box = window.slice.panel.drum
    box.activated.emit(box.findData("tom_low"))
    cut = session.store.document.cut(piece.cut.id)
    assert (cut.name, cut.heard[0].drum) == ("creak", "tom_low")
    window.slice.panel.leave.click()
    assert session.store.document.cut(piece.cut.id).left_out
    QTest.keyClick(view, Qt.Key.Key_Delete)
    assert all(c.id != piece.cut.id for c in session.store.document.cuts)
    steps = len(session.store.history.done)
    assert [s.label for s in session.store.history.done][-3:] == ["set drum to low tom", "leave slice out", "join slices"]
    for _ in range(steps):
        QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.store.document == first


def test_new_cuts_offer_their_hits(demo_window: Any) -> None:
    """A snare taken out of the pattern with its cut is offered again when the cut comes back, and not before."""
    window, session = demo_window, demo_window.session
    window.go_to(1)
    usual = session.store.document.threshold
    session.store.edit("set threshold", lambda d: set_threshold(d, 0.8))
    gone = [h for h in pattern_of(session.store.document).hits if all(
        abs(c.attack_sample - session.store.document.beat_map.sample_at(h.at_beats)) > 1_000 for c in session.store.document.cuts)]
    assert gone
    session.store.edit("take out", lambda d: delete_hits(d, [hit.id for hit in gone]))
    count = len(pattern_of(session.store.document).hits)
    assert not window.slice.offer_add.isVisible()
    session.store.edit("set threshold", lambda d: set_threshold(d, usual))
    assert window.slice.offer_add.isVisible()
    assert window.slice.offer_line.text().startswith(str(len(gone)))
    assert len(pattern_of(session.store.document).hits) == count
    window.slice.offer_add.click()
    assert len(pattern_of(session.store.document).hits) == count + len(gone)
    assert not window.slice.offer_add.isVisible()
    session.store.undo()
    window.slice.offer_drop.click()
    assert not window.slice.offer_add.isVisible()
    assert len(pattern_of(session.store.document).hits) == count


def test_pads_sound_by_key_and_take_names_notes_drums_and_slices(demo_window: Any, qtbot: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(2)
    pad = session.store.document.pads[0]
    assert loudest_after(qtbot, window, lambda: QTest.keyClick(window.kit.grid, Qt.Key.Key_Z)) > 0.05
    assert window.kit.grid._lit or session.shown.selection.pad_id == pad.id
    assert loudest_after(qtbot, window, lambda: QTest.keyClick(window.kit.grid, Qt.Key.Key_P)) == 0.0
    window.kit.panel.note.setValue(61)
    window.kit.panel.drum.activated.emit(window.kit.panel.drum.findData("tom_mid"))
    changed = session.store.document.pad(pad.id)
    assert (changed.drum, changed.note, changed.name) == ("tom_mid", 47, "Mid tom")
    assert window.kit.panel.note.value() == 47
    cut = window.kit.tray.cuts[0]
    window.kit.grid.drop(SLICE_MIME, cut.id, 11)
    placed = next(p for p in session.store.document.pads if p.slot == 11)
    assert placed.layers[0].at_sample == cut.at_sample
    assert cut.id not in {c.id for c in window.kit.tray.cuts}
    settle(qtbot, window)
    assert loudest_after(qtbot, window, lambda: QTest.keyClick(window.kit.grid, Qt.Key.Key_R)) > 0.0005
    QTest.keyClick(window.kit.grid, Qt.Key.Key_Delete)
    assert session.store.document.pad(placed.id).layers == ()
    labels = [step.label for step in session.store.history.done]
    assert labels == ["set note", "make pad mid tom", "put slice on pad", "clear pad"]


def test_pins_are_drawn_made_harder_selected_and_taken_out(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(3)
    lanes, document = window.groove.lanes, session.store.document
    snare = next(p for p in document.pads if p.drum == "snare")
    lane = lanes.lane(snare.id)
    x = lanes.axis.x(document.beat_map.sample_at(2.52))
    QTest.mouseClick(lanes, LEFT, NONE, at(x, lane.top() + 8))
    drawn = hit_of(session.store.document, next(iter(session.shown.selection.hit_ids)))
    assert drawn.at_beats == 2.5
    heard = [h.velocity for c in document.cuts for h in c.heard if h.drum == "snare" and h.sure]
    assert drawn.velocity == pytest.approx(np.median([v for v in heard if v > 65]), abs=1), "as its accents are"
    pin = lanes.pin(drawn)
    drag(lanes, at(pin.x(), pin.y()), at(pin.x(), pin.y() + 20))
    assert hit_of(session.store.document, drawn.id).velocity == drawn.velocity - 20
    assert session.store.history.undo_label == "set velocity of hit"
    assert lanes.pin(hit_of(session.store.document, drawn.id)).y() > pin.y()
    QTest.keyClick(lanes, Qt.Key.Key_Up)
    QTest.keyClick(lanes, Qt.Key.Key_Right)
    assert hit_of(session.store.document, drawn.id).at_beats == pytest.approx(2.75)
    drag(lanes, at(lanes.axis.left + 3, lane.top() + 1), at(lanes.axis.left + lanes.axis.width * 0.5, lane.bottom() - 1))
    chosen = session.shown.selection.hit_ids
    # One on the first beat lies left of where the drag began.
    of_snare = [h for h in pattern_of(session.store.document).hits if h.pad_id == snare.id]
    assert chosen == {h.id for h in of_snare if 0.0 < h.at_beats < document.loop.length_beats * 0.5}
    QTest.keyClick(lanes, Qt.Key.Key_G, Qt.KeyboardModifier.ControlModifier)
    assert all((hit_of(session.store.document, i).at_beats * 4) % 1 == pytest.approx(0, abs=1e-9) for i in chosen)
    QTest.keyClick(lanes, Qt.Key.Key_Delete)
    assert not chosen & {h.id for h in pattern_of(session.store.document).hits}
    hit = pattern_of(session.store.document).hits[0]
    pin = lanes.pin(hit)
    QTest.mouseClick(lanes, Qt.MouseButton.RightButton, NONE, at(pin.x(), pin.y()))
    assert all(h.id != hit.id for h in pattern_of(session.store.document).hits)
    while session.store.history.undo_label:
        session.store.undo()
    assert session.store.document == document


def test_the_loop_is_slid_and_its_end_keeps_whole_bars(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(0)
    overview, loop = window.bring_in.overview, session.store.document.loop
    y = overview.height() // 2
    end = at(overview.axis.x(loop.end_sample), y)
    drag(overview, end, at(overview.axis.x(loop.start_sample + loop.frames * 0.55), y))
    cut = session.store.document.loop
    assert (cut.bars, cut.end_sample) == (2, pytest.approx(loop.frames // 2, abs=2))
    assert session.store.document.bpm == pytest.approx(96.02, rel=1e-3)
    inside = at(overview.axis.x(loop.frames * 0.25), y)
    drag(overview, inside, at(overview.axis.x(loop.frames * 0.5), y))
    slid = session.store.document.loop
    assert slid.frames == cut.frames
    assert slid.start_sample > loop.frames * 0.2
    window.bring_in.loop.readings.click(window.bring_in.loop.readings.keys[-1])
    assert session.store.document.loop.bars in (1, 4)
    window.bring_in.loop.double.click()
    window.bring_in.loop.half.click()
    while session.store.history.undo_label:
        session.store.undo()
    assert session.store.document.loop == loop


def test_the_playhead_follows_and_the_rebuilt_is_as_loud_as_the_original(demo_window: Any, qtbot: Any) -> None:
    window, playback, engine = demo_window, demo_window.playback, demo_window.playback.engine

    def level(blend: int) -> float:
        window.listening.blend.setValue(blend)
        playback.transport.seek(0)
        start = engine.state.rendered_frames
        qtbot.waitUntil(lambda: engine.state.rendered_frames > start + 60_000)
        return float(np.sqrt((captured(engine, since_frame=start + 12_000)[:48_000] ** 2).mean()))

    window.go_to(1)
    QTest.keyClick(window, Qt.Key.Key_Space)
    assert playback.transport.playing
    levels = {blend: level(blend) for blend in (0, 100, 50)}
    assert 20 * abs(np.log10(levels[100] / levels[0])) < 3.0
    assert 20 * abs(np.log10(levels[50] / levels[0])) < 3.0
    head = window.slice.view._playhead
    qtbot.waitUntil(lambda: window.slice.view._playhead > head)
    window.listening.loop.click()
    playback.transport.seek(window.session.store.document.loop.end_sample - 8_000)
    qtbot.waitUntil(lambda: not playback.transport.playing)
    assert window.listening.play.text() == "Play"


@pytest.mark.parametrize(("name", "content", "words"), [
    ("empty.wav", b"", "empty"), ("letter.wav", b"dear reader " * 99, "cannot be read"), ("gone.flac", None, "no file"),
    ("half.bompla", b"PK\x03\x04", "not a Bompla project"),
])
def test_a_bad_file_is_told_and_nothing_is_lost(
    demo_window: Any, qtbot: Any, tmp_path: Path, name: str, content: bytes | None, words: str
) -> None:
    before = demo_window.session.store.document
    path = tmp_path / name
    if content is not None:
        path.write_bytes(content)
    demo_window.open_path(path)
    settle(qtbot, demo_window)
    assert words in demo_window.messages.text.text()
    assert demo_window.messages.isVisible()
    assert demo_window.session.store.document is before


def test_opening_can_be_cancelled(demo_window: Any, qtbot: Any) -> None:
    before = demo_window.session.store.document
    demo_window.open_path(loop_paths()[3])
    qtbot.waitUntil(lambda: demo_window.session.requests.analysis.busy)
    demo_window.messages.cancel.click()
    assert demo_window.session.work.work is None
    settle(qtbot, demo_window)
    assert demo_window.session.store.document is before
    demo_window.open_path(loop_paths()[4])
    settle(qtbot, demo_window)
    assert demo_window.session.store.document.source.name == loop_paths()[4].name


def test_a_project_is_saved_dropped_in_again_and_asked_about(
    demo_window: Any, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, session = demo_window, demo_window.session
    path = tmp_path / "mine"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    window.bring_in.loop.double.click()
    assert session.project.dirty
    assert window.top_bar.saved.text() == "not saved"
    assert "*" in window.windowTitle()
    asked: list[int] = []
    monkeypatch.setattr(QMessageBox, "exec", lambda _: asked.append(1) or QMessageBox.StandardButton.Cancel)
    window.open_path(loop_paths()[1])
    assert asked
    assert session.work.work is None
    window.save()
    settle(qtbot, window)
    assert not session.project.dirty
    saved = path.with_suffix(".bompla")
    assert open_project(saved).sources[0][0] == session.store.document
    session.store.undo()
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(saved))])
    monkeypatch.setattr(QMessageBox, "exec", lambda _: QMessageBox.StandardButton.Discard)
    drop = QDropEvent(QPointF(300, 300), Qt.DropAction.CopyAction, data, LEFT, NONE)
    window.dropEvent(drop)
    settle(qtbot, window)
    assert session.project.path == saved
    assert session.store.document.loop.bars == 8


def test_every_control_has_a_name_and_every_command_a_key(demo_window: Any) -> None:
    window = demo_window
    kinds = (QAbstractButton, QAbstractSlider, QComboBox, QAbstractSpinBox, QListWidget)
    reached = 0
    for index, stage in enumerate(window.stages):
        window.go_to(index)
        for widget in window.findChildren(QWidget):
            plain = not isinstance(widget, QScrollBar) and not widget.objectName().startswith("qt_")
            if widget.isVisible() and isinstance(widget, kinds) and plain:
                assert widget.accessibleName() or getattr(widget, "text", str)(), f"{stage.key}: {widget}"
                reached += 1
            if isinstance(widget, QLineEdit) and widget.isVisible() and not isinstance(widget.parent(), QAbstractSpinBox):
                assert widget.accessibleName()
    assert reached > 80
    window.show_keys()
    sheet = window.keys_sheet
    texts: set[str] = set()
    for place in sheet.places:
        sheet.pages.click(place)
        texts |= {label.text() for label in sheet.findChildren(QWidget) if hasattr(label, "text")}
    assert {command.label for command in COMMANDS} <= texts
    sheet.words.setText("cut playhead")
    assert [keys for _, keys, _ in sheet.entries()] == ["Ctrl+Return"]
    sheet.words.setText("no such thing")
    assert sheet.entries() == []
    for where in ("Everywhere", "Bring in", "Slice", "Kit", "Groove"):
        keys = [c.shortcut for c in COMMANDS if c.where in (where, "Everywhere")]
        assert len(keys) == len(set(keys))
    window.keys_sheet.close()
    actions = {a.text() for w in (window, *(stage.picture() for stage in window.stages)) for a in w.actions()}
    assert {c.label for c in BY_KEY.values() if c.key != "play"} <= actions


def brightness(image: QImage, x: float, y: float) -> float:
    return image.pixelColor(round(x), round(y)).lightnessF()


@pytest.mark.parametrize("palette", [NIGHT, DAY], ids=["night", "day"])
def test_pictures_show_what_is_meant_in_both_lights(demo_window: Any, palette: Any) -> None:
    """A pin's head is where its hit is, a cut's line where its cut is, text stands out of its ground."""
    window, document = demo_window, demo_window.session.store.document
    theme().use(palette)
    try:
        window.go_to(3)
        lanes = window.groove.lanes
        image = lanes.grab().toImage()
        kick = next(p for p in document.pads if p.drum == "kick")
        for hit in [h for h in pattern_of(document).hits if h.pad_id == kick.id][1:5]:
            pin, colour = lanes.pin(hit), theme().drum("kick")
            seen = image.pixelColor(round(pin.x()), round(pin.y()))
            assert max(abs(seen.red() - colour.red()), abs(seen.green() - colour.green()), abs(seen.blue() - colour.blue())) < 40
        window.go_to(1)
        view = window.slice.view
        image = view.grab().toImage()
        row = view.row("sound")
        for piece in document.slices()[4:9]:
            line = brightness(image, view.axis.x(piece.start_sample), row.top() - 8)
            beside = brightness(image, view.axis.x(piece.start_sample) - 3, row.top() - 13)
            assert abs(line - beside) > 0.15
        kick = next(p for p in document.slices() if p.cut.heard[0].drum == "kick" and p.number > 10)
        low = view.row("low")
        x = view.axis.x(kick.cut.attack_sample)
        assert brightness(image, x + 4, low.center().y() - 7) != pytest.approx(brightness(image, x - 3, low.center().y() - 7), abs=0.1)
        for text, ground in (("paper", "panel"), ("dim", "panel"), ("dim", "raised"), ("on_signal", "signal"), ("ground", "good")):
            assert contrast(getattr(palette, text), getattr(palette, ground)) >= 4.5, (text, ground)
    finally:
        theme().use(NIGHT)


def contrast(one: str, two: str) -> float:
    """The contrast ratio of two colours, as the Web Content Accessibility Guidelines define it."""

    def luminance(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    light, dark = sorted((luminance(one), luminance(two)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


def test_messages_are_kept_until_a_window_listens() -> None:
    hub = MessageHub()
    hub.note("early")
    hub.trouble("worse")
    assert [m.text for m in hub.listen()] == ["early", "worse"]
    hub.note("late")
    assert hub.kept == []


def test_zooming_keeps_the_place_and_goes_down_to_samples(demo_window: Any) -> None:
    demo_window.go_to(1)
    view = demo_window.slice.view
    whole = view.axis
    middle = view.axis.sample(whole.left + whole.width / 2)
    for _ in range(60):
        view.zoom(0.6)
    assert view.axis.end - view.axis.start == pytest.approx(64.0)
    assert view.axis.start < middle < view.axis.end
    assert view.grab().toImage().width() == view.width()
    view.show_all()
    assert (view.axis.start, view.axis.end) == (whole.start, whole.end)
