"""Sounds from other files on pads, and pads that go out at outputs of their own."""

from __future__ import annotations

from dataclasses import replace as changed
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent

from bompla.audio.clip import Clip
from bompla.audio.files import encode_clip
from bompla.audio.oneshot import LONGEST_S, one_shot
from bompla.engine.commands import Op, command
from bompla.engine.layout import sends_of
from bompla.engine.mixer import MixerState, apply, render
from bompla.errors import EditError, ProjectError, SoundFileError
from bompla.formats.project import Project, project_bytes, read_project
from bompla.groove.rebuild import tray
from bompla.model.document import Borrowed, Document, Heard
from bompla.model.kit_edits import add_layer, put_borrowed, put_on_slot
from bompla.model.shape import OUTPUTS, Shape, clamped
from bompla.render.bake import bake
from bompla.render.events import BakeRequest, SoundKey
from bompla.render.levels import level_as_the_kit
from conftest import captured, captured_sound, settle

RATE = 48_000


def tone_file(path: Path, *, rate: int = 44_100, hz: float = 220.0, lead_s: float = 0.3) -> Path:
    """A short tone after some silence."""
    t = np.arange(round(0.25 * rate)) / rate
    tone = 0.6 * np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.06)
    sound = np.concatenate([np.zeros(round(lead_s * rate)), tone, np.zeros(rate // 2)]).astype(np.float32)
    path.write_bytes(encode_clip(Clip(sound, rate), container="WAV", subtype="PCM_16"))
    return path


@given(lead=st.integers(0, 30_000), tail=st.integers(0, 30_000), level=st.floats(0.001, 1.0), channels=st.integers(1, 3))
def test_a_one_shot_is_the_sound_without_its_silence(lead: int, tail: int, level: float, channels: int) -> None:
    burst = level * np.hanning(2_000)[1:-1].astype(np.float32)
    sound = np.concatenate([np.zeros(lead), burst, np.zeros(tail)]).astype(np.float32)
    clip, attack = one_shot(Clip(np.repeat(sound[:, None], channels, axis=1), RATE), RATE, "burst.wav")
    assert clip.channels == channels
    assert 1_900 < clip.frames <= 2_000 + 96
    assert np.abs(clip.samples).max() == pytest.approx(level, rel=1e-3)
    assert np.abs(clip.samples[attack]).max() >= 0.007 * level
    assert attack <= 96


def test_a_one_shot_is_held_to_its_length_and_silence_is_refused() -> None:
    long, _ = one_shot(Clip(np.full(20 * 8_000, 0.1, np.float32), 8_000), 8_000, "long.wav")
    assert long.frames == LONGEST_S * 8_000
    with pytest.raises(SoundFileError, match=r"quiet\.wav is silent"):
        one_shot(Clip(np.zeros(100, np.float32), RATE), RATE, "quiet.wav")


def borrowed_kick(document: Document) -> tuple[Document, Clip]:
    """The demo with a short sound of another file on its first pad."""
    rate = document.source.sample_rate
    clip = Clip(0.5 * np.exp(-np.arange(9_000) / 900.0).astype(np.float32), rate)
    sound = Borrowed("thump", clip.content_hash, clip.frames)
    return put_borrowed(document, document.pads[0].slot, sound, Heard("kick", 0.9, 90), attack_sample=12), clip


def test_a_borrowed_sound_plays_on_its_pad_and_slices_stay_what_they_are(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    made, thump = borrowed_kick(document)
    pad = made.pads[0]
    assert pad.edited
    assert made.layer_bounds(pad.layers[0]) == (0, 9_000)
    assert len(tray(made)) >= len(tray(document)), "its slices are free again"
    baked = bake(BakeRequest(made, clip, RATE, borrowed={thump.content_hash: thump}))
    sound = next(sound for key, sound in baked.sounds.items() if isinstance(key, SoundKey) and key.of)
    assert len(sound) == round(9_000 * RATE / clip.sample_rate)
    assert np.abs(sound).max() > 0.4
    silent = bake(BakeRequest(made, clip, RATE))
    assert max(np.abs(sound).max() for key, sound in silent.sounds.items() if isinstance(key, SoundKey) and key.of) == 0.0
    assert abs(level_as_the_kit(made, clip, pad, {thump.content_hash: thump})) < 40.0
    with pytest.raises(EditError, match="already"):
        put_borrowed(made, pad.slot, made.borrowed[0], Heard("kick", 0.9, 90), attack_sample=12, more=True)
    mixed = add_layer(made, pad.id, document.cuts[3].id)
    assert {layer.of for layer in mixed.pad(pad.id).layers} == {"", thump.content_hash}
    free = max(p.slot for p in document.pads) + 1
    new = put_borrowed(document, free, made.borrowed[0], Heard("clap", 0.7, 80), attack_sample=0)
    assert next((p.drum, p.name) for p in new.pads if p.slot == free) == ("clap", "thump")
    assert put_on_slot(new, free, document.cuts[0].id).pads[-1].layers[0].of == ""


def test_a_project_keeps_what_its_pads_borrow(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    made, thump = borrowed_kick(document)
    project = Project(((made, clip),), 0, {thump.content_hash: thump, "unused": clip})
    content = project_bytes(project)
    again = read_project(content, "band.bompla")
    assert again.sources[0][0] == made
    assert set(again.borrowed) == {thump.content_hash}
    assert np.abs(again.borrowed[thump.content_hash].samples - thump.samples).max() < 2**-23
    assert project_bytes(changed(project, borrowed={thump.content_hash: thump})) == content
    replaced = put_on_slot(made, made.pads[0].slot, document.cuts[0].id)
    smaller = read_project(project_bytes(changed(project, sources=((replaced, clip),))), "band.bompla")
    assert (smaller.borrowed, smaller.sources[0][0].borrowed) == ({}, ()), "what no pad plays is not kept"
    longer = replace(made, borrowed=(replace(made.borrowed[0], frames=77),))
    with pytest.raises(ProjectError, match="thump"):
        read_project(project_bytes(changed(project, sources=((longer, clip),))), "band.bompla")
    lost = replace(made, borrowed=())
    with pytest.raises(ProjectError, match="not there"):
        read_project(project_bytes(changed(project, sources=((lost, clip),))), "band.bompla")


def drop_files(widget: Any, paths: list[Path], at: QPoint, keys: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    buttons = Qt.MouseButton.LeftButton
    enter = QDragEnterEvent(at, Qt.DropAction.CopyAction, data, buttons, keys)
    widget.dragEnterEvent(enter)
    assert enter.isAccepted()
    widget.dropEvent(QDropEvent(QPointF(at), Qt.DropAction.CopyAction, data, buttons, keys, QEvent.Type.Drop))


def test_files_are_dropped_on_pads_heard_saved_and_taken_back(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    window, session, playback = demo_window, demo_window.session, demo_window.playback
    window.go_to(2)
    before = session.store.document
    kick = next(p for p in before.pads if p.drum == "kick")
    grid = window.kit.grid
    drop_files(grid, [tone_file(tmp_path / "thud.wav")], grid.cell(kick.slot).center().toPoint())
    qtbot.waitUntil(lambda: session.store.document.borrowed != ())
    settle(qtbot, window)
    pad = session.store.document.pad(kick.id)
    assert [layer.of for layer in pad.layers] == [session.store.document.borrowed[0].content_hash]
    assert session.shown.selection.pad_id == kick.id
    assert not window.kit.panel.grab().isNull()
    engine = playback.engine
    start = engine.state.rendered_frames
    assert playback.pads.strike(kick.id, 127)
    heard = captured_sound(qtbot, engine, since_frame=start, frames=12_000)[:, 0]
    spectrum = np.abs(np.fft.rfft(heard, 48_000))
    assert int(np.argmax(spectrum)) == pytest.approx(220, abs=12), "the tone of the file is heard"

    path = tmp_path / "band.bompla"
    session.project.save(path)
    qtbot.waitUntil(lambda: not session.project.dirty)
    session.store.undo()
    assert session.store.document.pads == before.pads
    session.store.redo()
    saved = session.store.document
    window.open_path(path)
    qtbot.waitUntil(lambda: session.project.path == path)
    settle(qtbot, window)
    assert session.store.document.pads == saved.pads
    assert session.project.sound_of(session.store.document.pad(kick.id).layers[0]).frames == session.store.document.borrowed[0].frames

    (tmp_path / "empty.wav").write_bytes(b"")
    session.requests.borrow(tmp_path / "empty.wav", kick.slot)
    qtbot.waitUntil(lambda: "empty (0 bytes)" in window.messages.text.text())
    assert session.store.document.pads == saved.pads


def test_a_row_of_the_shelf_is_dragged_over_the_path_onto_a_pad(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    window = demo_window
    window.go_to(0)
    shelf = window.bring_in.shelf
    path = tone_file(tmp_path / "thud.wav")
    shelf.model.set_files([path])
    data = shelf.model.mimeData([shelf.model.index(0)])
    assert [url.toLocalFile() for url in data.urls()] == [str(path)]
    assert shelf.model.flags(shelf.model.index(0)) & Qt.ItemFlag.ItemIsDragEnabled
    over = window.path.buttons[2]
    over.dragEnterEvent(QDragEnterEvent(QPoint(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                                        Qt.KeyboardModifier.NoModifier))
    qtbot.waitUntil(lambda: window.pages.currentWidget() is window.kit)
    over.dragLeaveEvent(None)


def test_pads_go_out_at_outputs_of_their_own() -> None:
    pool = np.zeros((4_000, 2), np.float32)
    pool[:1_000] = 0.1
    for pairs in (1, 4):
        state = MixerState(pool, pairs=pairs)
        for number in range(4):
            sends = sends_of(0.0, 0.0, kick=False, output=number)
            apply(state, command(Op.STRIKE, offset=0, length=1_000, pad=number, gain=1.0 + number, sends=sends))
        out = render(state, 600)
        assert out.shape == (600, 2 * pairs)
        if pairs == 1:
            assert out[300] == pytest.approx(1.0), "where there are no others all of it goes to the first"
        else:
            assert out[300, 0::2] == pytest.approx([0.1, 0.2, 0.3, 0.4])
    assert clamped(Shape(output=9)).output == 0


def test_outputs_are_chosen_for_a_pad_and_a_device_and_heard(demo_window: Any, qtbot: Any) -> None:
    window, session, playback = demo_window, demo_window.session, demo_window.playback
    window.go_to(2)
    snare = next(p for p in session.store.document.pads if p.drum == "snare")
    session.shown.select(pad_id=snare.id)
    more = window.kit.more
    more.output.setCurrentIndex(2)
    more.output.activated.emit(2)
    assert session.store.document.pad(snare.id).shape.output == 2
    assert OUTPUTS[2] in session.store.history.undo_label
    window.show_settings()
    qtbot.waitUntil(lambda: window.settings.looked)
    dialog = window.settings.sound
    dialog.channels.setCurrentIndex(dialog.channels.findData(6))
    dialog.channels.activated.emit(0)
    engine = playback.engine
    qtbot.waitUntil(lambda: engine.state.ready and engine.state.channels == 6)
    qtbot.waitUntil(lambda: "6 outputs" in dialog.now.text())
    window.settings.close()
    settle(qtbot, window)
    start = engine.state.rendered_frames
    assert playback.pads.strike(snare.id, 127)
    qtbot.waitUntil(lambda: engine.state.rendered_frames > start + 9_000)
    first, own = (np.abs(captured(engine, since_frame=start, pair=pair)).max() for pair in (0, 2))
    assert first == 0.0
    assert own > 0.1
    session.store.undo()
    assert session.store.document.pad(snare.id).shape.output == 0
