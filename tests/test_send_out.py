"""Send out, as its user works it: rows, options, folders that are taken, cancelling, dragging."""

from __future__ import annotations

import json
import resource
from pathlib import Path
from typing import Any

import pytest
import soundfile
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QGuiApplication, QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QMessageBox, QPushButton, QWidget

from bompla.app import drag_out
from bompla.app.drag_out import DragHandle, files_of
from bompla.export.table import EXPORTS
from bompla.model.pattern_edits import add_hit
from conftest import settle

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


@pytest.fixture
def sending(demo_window: Any, tmp_path: Path, qtbot: Any) -> Any:
    """The window at Send out, writing below the test's folder."""
    demo_window.session.outgoing.set_folder(tmp_path / "out")
    demo_window.session.outgoing.set_folder(tmp_path / "dragged", dragged=True)
    demo_window.go_to_stage("send-out")
    settle(qtbot, demo_window)
    return demo_window


@pytest.fixture
def dragged(monkeypatch: pytest.MonkeyPatch) -> list[list[Path]]:
    """What was dragged out; a real drag needs a desktop."""
    seen: list[list[Path]] = []
    monkeypatch.setattr(drag_out, "drag_files", lambda _source, paths: seen.append(list(paths)))
    return seen


def drag_by(handle: DragHandle, qtbot: Any, window: Any) -> None:
    """Press a handle, move, and wait as a user does who sees the drag begin."""
    middle = QPointF(handle.rect().center())
    for kind, place, buttons in ((QEvent.Type.MouseButtonPress, middle, LEFT), (QEvent.Type.MouseMove, middle + QPointF(30, 0), LEFT)):
        event = QMouseEvent(kind, place, QPointF(handle.mapToGlobal(place.toPoint())), LEFT, buttons, NONE)
        handle.mousePressEvent(event) if kind == QEvent.Type.MouseButtonPress else handle.mouseMoveEvent(event)
    settle(qtbot, window)


def test_everything_goes_into_one_folder(sending: Any, qtbot: Any, tmp_path: Path) -> None:
    stage, outgoing = sending.send_out, sending.session.outgoing
    assert stage.state_line(sending.session.store.document) == "not yet"
    stage.everything.click()
    assert stage.cancel.isVisible()
    assert not stage.write.isEnabled()
    settle(qtbot, sending)
    folder = tmp_path / "out" / "Night Ferry"
    kinds = {entry["kind"] for entry in json.loads((folder / "manifest.json").read_text())["files"]}
    assert kinds == {one.kind for one in EXPORTS.values()}
    assert sending.messages.mend.text() == "Show in folder"
    assert "sent" in stage.state_line(sending.session.store.document)
    assert stage.written_line.text() == "Written: Night Ferry"
    assert not stage.progress.isVisible()
    assert outgoing.last_is_so
    pad = sending.session.store.document.pads[0]
    sending.session.store.edit("draw hit", lambda d: add_hit(d, pad.id, 0.77))
    assert stage.state_line(sending.session.store.document) == "changed since"
    assert not stage.written_line.isVisible()


def test_only_what_is_ticked_is_written_and_a_taken_name_is_asked_about(
    sending: Any, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    stage = sending.send_out
    for key, row in stage.rows.items():
        row.chosen.setChecked(key in ("midi", "tab"))
    assert stage.write.text() == "Write the 2 ticked"
    stage.write.click()
    settle(qtbot, sending)
    folder = tmp_path / "out" / "Night Ferry"
    assert sorted(path.name for path in folder.iterdir()) == ["Night Ferry A tab.txt", "Night Ferry A.mid", "manifest.json"]
    (folder / "mine").write_text("kept")

    def answer(words: str) -> None:
        def clicked(box: QMessageBox) -> int:
            next(one for one in box.findChildren(QPushButton) if words in one.text()).click()
            return 0
        monkeypatch.setattr(QMessageBox, "exec", clicked)

    answer("Cancel")
    stage.write.click()
    settle(qtbot, sending)
    assert [path.name for path in (tmp_path / "out").iterdir()] == ["Night Ferry"]
    answer("Keep both")
    stage.write.click()
    settle(qtbot, sending)
    assert sorted(path.name for path in (tmp_path / "out").iterdir()) == ["Night Ferry", "Night Ferry 2"]
    assert (folder / "mine").exists()
    answer("Replace")
    stage.write.click()
    settle(qtbot, sending)
    assert not (folder / "mine").exists()


def test_cancelled_in_the_middle_nothing_is_left(sending: Any, qtbot: Any, tmp_path: Path) -> None:
    stage = sending.send_out
    stage.everything.click()
    qtbot.waitUntil(lambda: stage.progress.value() > 5)
    stage.cancel.click()
    assert "Cancelled" in sending.messages.text.text()
    settle(qtbot, sending)
    qtbot.waitUntil(lambda: not any((tmp_path / "out").iterdir()))
    assert stage.everything.isEnabled()
    assert stage.state_line(sending.session.store.document) == "not yet"


def test_a_full_disk_and_a_folder_that_may_not_be_written_are_told_in_words(sending: Any, qtbot: Any, tmp_path: Path) -> None:
    stage = sending.send_out
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, before[1]))
    try:
        stage.write.click()
        settle(qtbot, sending)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
    assert "Could not write" in sending.messages.text.text()
    assert "Nothing was left" in sending.messages.text.text()
    assert list((tmp_path / "out").iterdir()) == []
    in_the_way = tmp_path / "file"
    in_the_way.write_text("a file")
    sending.session.outgoing.set_folder(in_the_way)
    stage.write.click()
    settle(qtbot, sending)
    assert "Could not write" in sending.messages.text.text()
    assert in_the_way.read_text() == "a file"


@pytest.mark.parametrize("key", ["midi", "loop", "slice", "sfz", "score-svg", "feel"])
def test_a_row_is_dragged_out_as_files_that_are_there(
    sending: Any, qtbot: Any, dragged: list[list[Path]], key: str, tmp_path: Path
) -> None:
    drag_by(sending.send_out.rows[key].handle, qtbot, sending)
    assert len(dragged) == 1
    assert all(path.exists() and path.parent == tmp_path / "dragged" for path in dragged[0])
    assert [url.toLocalFile() for url in files_of(dragged[0]).urls()] == [str(path) for path in dragged[0]]
    drag_by(sending.send_out.rows[key].handle, qtbot, sending)
    assert not {*dragged[0]} & {*dragged[1]}, "what was dragged before stays where it lies"


def test_a_handle_let_go_too_soon_says_where_its_files_are_and_a_click_copies(
    sending: Any, qtbot: Any, dragged: list[list[Path]], tmp_path: Path
) -> None:
    handle = sending.send_out.rows["midi"].handle
    middle = handle.rect().center()
    QTest.mousePress(handle, LEFT, NONE, middle)
    far = QPointF(middle) + QPointF(40, 0)
    handle.mouseMoveEvent(QMouseEvent(QEvent.Type.MouseMove, far, far, LEFT, LEFT, NONE))
    QTest.mouseRelease(handle, LEFT, NONE, middle + QPoint(40, 0))
    settle(qtbot, sending)
    assert dragged == []
    assert "ready in" in sending.messages.text.text()
    handle.click()
    settle(qtbot, sending)
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    copied = clipboard.mimeData()
    assert copied is not None
    assert [Path(url.toLocalFile()).parent for url in copied.urls()] == [tmp_path / "dragged"]


def handle_in(widget: QWidget, name: str) -> DragHandle:
    return next(one for one in widget.findChildren(DragHandle) if name in one.accessibleName())


def test_a_slice_a_pad_a_variation_and_the_loop_are_dragged_from_where_they_are(
    sending: Any, qtbot: Any, dragged: list[list[Path]]
) -> None:
    document = sending.session.store.document
    piece = document.slices()[2]
    sending.go_to(1)
    sending.session.shown.select(cut_id=piece.cut.id)
    drag_by(handle_in(sending.slice, "slice"), qtbot, sending)
    inside = list(dragged[0][0].iterdir())
    assert [path.name[:2] for path in inside] == ["03"]
    assert soundfile.info(inside[0]).frames == piece.end_sample - piece.start_sample
    sending.go_to(2)
    snare = next(pad for pad in document.pads if pad.drum == "snare")
    sending.session.shown.select(pad_id=snare.id)
    drag_by(handle_in(sending.kit, "pad's hits"), qtbot, sending)
    assert len(list(dragged[1][0].iterdir())) == len(snare.layers)
    sending.go_to(3)
    drag_by(handle_in(sending.groove, "variation"), qtbot, sending)
    assert dragged[2][0].suffix == ".mid"
    sending.go_to(0)
    drag_by(handle_in(sending.bring_in, "the loop"), qtbot, sending)
    assert soundfile.info(dragged[3][0]).frames == document.loop.frames


def test_what_a_format_cannot_hold_is_said_on_its_row(sending: Any) -> None:
    stage, session = sending.send_out, sending.session
    from msgspec.structs import replace

    def bent(document: Any) -> Any:
        pattern = document.variations[0]
        hits = tuple(replace(hit, pitch=2.0 if n < 3 else 0.0, gain_db=0.0) for n, hit in enumerate(pattern.hits))
        return replace(document, variations=(replace(pattern, hits=hits),))

    session.store.edit("bend", bent)
    assert stage.rows["midi"].lost.text() == "a MIDI note cannot hold pitch of 3 hits"
    assert "pitch of 3 hits" in stage.rows["score-pdf"].lost.text()
    stage.options.controls["pitch_as_notes"].setChecked(True)
    assert not stage.rows["midi"].lost.isVisible()
    stage.pick("loop")
    box = stage.options.controls["format"]
    box.setCurrentIndex(box.findData("flac"))
    box.activated.emit(box.currentIndex())
    assert "no cue points" in stage.rows["loop"].lost.text()
    bits = stage.options.controls["bits"]
    bits.setCurrentIndex(bits.findData(32))
    bits.activated.emit(bits.currentIndex())
    assert "FLAC holds" in sending.messages.text.text()
    assert session.outgoing.options.bits == 24
    assert bits.currentData() == 24, "the box shows what is so"


def test_names_folders_and_options_are_kept(sending: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    stage, outgoing = sending.send_out, sending.session.outgoing
    stage.name.setText("{loop} {tempo}bpm")
    stage.name.editingFinished.emit()
    assert stage.name_line.text() == "Night Ferry 96.02bpm.mid"
    stage.name.setText("{what}")
    stage.name.editingFinished.emit()
    assert "Names can have" in sending.messages.text.text()
    assert stage.name.text() == "{loop} {tempo}bpm"
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path / "elsewhere"))
    stage.choose_folder()
    assert outgoing.folder == tmp_path / "elsewhere"
    from bompla.app.project.outgoing import _kept_options

    assert _kept_options() == outgoing.options


def test_a_midi_file_becomes_a_variation_and_what_has_no_pad_is_told(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    import mido

    from bompla.formats.midi import midi_bytes
    from bompla.model.detected_pattern import pattern_of

    session = demo_window.session
    before = session.store.document
    path = tmp_path / "sent before.mid"
    path.write_bytes(midi_bytes(before))
    demo_window.open_path(path)
    settle(qtbot, demo_window)
    made = session.store.document
    assert len(made.variations) == len(before.variations) + 1
    assert pattern_of(made).name == "sent before"
    for one, other in zip(pattern_of(made).hits, pattern_of(before).hits, strict=True):
        assert one.at_beats == pytest.approx(other.at_beats, abs=0.001)
        assert (one.pad_id, one.velocity) == (other.pad_id, other.velocity)
    assert demo_window.pages.currentWidget() is demo_window.groove
    session.store.undo()
    assert session.store.document == before
    file = mido.MidiFile(path)
    track = mido.MidiTrack([mido.Message("note_on", channel=9, note=3, velocity=90, time=0),
                            mido.Message("note_on", channel=9, note=35, velocity=90, time=480)])
    file.tracks[:] = [track]
    file.save(path)
    demo_window.open_path(path)
    settle(qtbot, demo_window)
    assert "1 note fit no pad" in demo_window.messages.text.text()
    hits = pattern_of(session.store.document).hits
    drums = [session.store.document.pad(hit.pad_id).drum for hit in hits]
    assert drums == ["perc", "kick"], "a note of General MIDI percussion finds its drum, and none is dropped"
    broken = tmp_path / "broken.mid"
    broken.write_bytes(b"MThd nothing")
    demo_window.open_path(broken)
    settle(qtbot, demo_window)
    assert "no MIDI file" in demo_window.messages.text.text()


def test_all_loops_that_the_shelf_shows_are_sent_out_at_once(sending: Any, qtbot: Any, tmp_path: Path) -> None:
    for key, row in sending.send_out.rows.items():
        row.chosen.setChecked(key == "midi")
    sending.go_to(0)
    shelf = sending.bring_in.shelf
    qtbot.waitUntil(lambda: len(shelf.model.shown) > 3)
    shelf.words.setText("quay")
    assert len(shelf.model.shown) == 1
    shelf.send_all.click()
    assert shelf.send_all.text() == "Stop sending"
    qtbot.waitUntil(lambda: not shelf.sending.busy)
    assert [path.name for path in (tmp_path / "out").iterdir()] == ["quay break"]
    assert "1 loop is in" in sending.messages.text.text()
    shelf.send_all.click()
    qtbot.waitUntil(lambda: not shelf.sending.busy)
    assert "already" in sending.messages.text.text(), "nothing is written over"


def test_what_the_user_is_told_moves_nothing_and_notes_go_by_themselves(demo_window: Any) -> None:
    window = demo_window
    window.go_to_stage("groove")
    before = [(one.geometry().getRect(), one.mapTo(window, QPoint(0, 0))) for one in (window.pages, window.groove.picture())]
    window.session.hub.trouble("Something could not be written; choose another folder.")
    QTest.qWait(1)
    assert [(one.geometry().getRect(), one.mapTo(window, QPoint(0, 0))) for one in (window.pages, window.groove.picture())] == before
    strip = window.messages
    bottom = window.pages.mapTo(window, QPoint(0, window.pages.height())).y()
    assert strip.mapTo(window, QPoint(0, strip.height())).y() == bottom, "it lies over the bottom edge"
    assert not strip._fades.isActive(), "what went wrong stays"
    window.session.hub.note("Saved.")
    assert strip._fades.isActive()
    strip._fades.timeout.emit()
    assert not strip.isVisible()
    strip._fades.stop()
