"""Playing by hand: MIDI bytes, the practice pads, recording, and taking back what was played."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.audio.clip import Clip
from bompla.engine import loopback
from bompla.engine.commands import Op, command
from bompla.engine.layout import ZONE
from bompla.engine.midi_port import MidiParser, MidiPort, port_names
from bompla.engine.mixer import MixerState, apply, play_midi, render
from bompla.groove.takes import KEPT_S, Strike, Takes, hits_from_strikes, latency_of
from bompla.model.checks import check_document
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.pattern_edits import add_played
from conftest import captured_sound, process_id, settle

RATE = 48_000
LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier

NOTES = st.lists(st.tuples(st.integers(0, 127), st.integers(0, 127)), min_size=1, max_size=12)


@given(NOTES, st.data())
def test_notes_come_through_however_the_bytes_are_cut(notes: list[tuple[int, int]], data: Any) -> None:
    """With running status, clock bytes between any two bytes, and cut anywhere."""
    content = bytearray([0x99])
    for note, velocity in notes:
        content += bytes([note, velocity])
    for _ in range(data.draw(st.integers(0, 5))):
        content.insert(data.draw(st.integers(0, len(content))), 0xF8)
    parser, found, at = MidiParser(), [], 0
    while at < len(content):
        step = data.draw(st.integers(1, 5))
        found += parser.feed(bytes(content[at : at + step]))
        at += step
    assert found == notes


def test_midi_byte_by_byte() -> None:
    parser = MidiParser()
    assert parser.feed(bytes([0x99, 38, 100])) == [(38, 100)]
    assert parser.feed(bytes([0x89, 38, 64])) == [(38, 0)]
    assert parser.feed(bytes([0xB9, 7, 100, 0xF0, 1, 2, 3, 0xF7, 36, 90])) == [], "after an exclusive message there is no running status"
    assert parser.feed(bytes([0xC9, 5, 0x99, 36])) == []
    assert parser.feed(bytes([99, 37, 98])) == [(36, 99), (37, 98)]
    assert parser.feed(bytes([0xF1, 3, 38, 1])) == []


def test_a_missing_port_is_told_in_words() -> None:
    assert isinstance(port_names(), list)
    with pytest.raises(OSError, match="MIDI"):
        MidiPort("a port that is not there")


def mixer_with_zones() -> MixerState:
    pool = np.zeros((400, 2), np.float32)
    pool[100:140], pool[150:190], pool[200:240] = 0.1, 0.2, 0.4
    zones = np.zeros(3, ZONE)
    zones[0] = (38, 60, 7, 0, 0, 40, 50.0, 100, 1.0, 2.0, 0, 0)
    zones[1] = (38, 127, 7, 0, 0, 40, 100.0, 150, 1.0, 2.0, 0, 0)
    zones[2] = (38, 127, 7, 0, 0, 40, 100.0, 200, 1.0, 2.0, 0, 0)
    pool[:18] = np.frombuffer(zones.tobytes(), "<f4").reshape(-1, 2)
    state = MixerState(pool)
    apply(state, command(Op.ZONES, offset=0, count=3))
    return state


def test_a_note_plays_the_layer_of_its_velocity_and_equals_take_turns() -> None:
    state = mixer_with_zones()
    peaks = []
    for velocity in (50, 100, 100, 50):
        play_midi(state, bytes([0x99, 38, velocity]))
        peaks.append(round(float(np.abs(render(state, 64)).max()), 4))
        render(state, 512)
    assert peaks == [pytest.approx(0.1), pytest.approx(0.4), pytest.approx(0.2), pytest.approx(0.1)]
    assert [(pad, v) for _, pad, v, _, _ in state.played] == [(7, 50), (7, 100), (7, 100), (7, 50)]
    for touch, wanted in ((0.0, 127), (2.0, round(127 * (100 / 127) ** 2)), (1.0, 100)):
        apply(state, command(Op.TOUCH, exponent=touch))
        play_midi(state, bytes([0x99, 38, 100]))
        assert state.played[-1][2] == wanted
    render(state, 512)
    render(state, 512)
    play_midi(state, bytes([0x99, 99, 100, 0x89, 38, 0]))
    assert float(np.abs(render(state, 64)).max()) == 0.0
    note = int.from_bytes(bytes([0x99, 38, 100]).ljust(8, b"\0"), "little")
    apply(state, command(Op.MIDI, at_frame=float(state.clock + 700), content=note, size=3))
    assert not render(state, 512).any(), "sent ahead, it waits for its frame"
    ahead = render(state, 512)[:, 0].copy()
    assert not ahead[:188].any()
    assert ahead[188] > 0.1
    render(state, 512)
    apply(state, command(Op.MIDI, content=note, size=3))
    assert float(np.abs(render(state, 64)).max()) > 0.1


def held_mixer() -> MixerState:
    """A mixer whose note 38 plays a long sound as long as it is held."""
    pool = np.zeros((60_000, 2), np.float32)
    zones = np.zeros(1, ZONE)
    zones[0] = (38, 127, 7, 0, 0, 40_000, 100.0, 1_000, 1.0, 2.0, 0, 2_400)
    pool[1_000:41_000] = 0.2
    pool[:6] = np.frombuffer(zones.tobytes(), "<f4").reshape(-1, 2)
    state = MixerState(pool)
    apply(state, command(Op.ZONES, offset=0, count=1))
    return state


@pytest.mark.parametrize("message", [[0xA9, 38], [0xD9]])
@given(pressure=st.integers(0, 127), sizes=st.lists(st.integers(1, 700), min_size=2, max_size=6))
def test_a_held_pad_swells_with_pressure_without_a_step(message: list[int], pressure: int, sizes: list[int]) -> None:
    state = held_mixer()
    play_midi(state, bytes([0x99, 38, 100]))
    render(state, 256)
    play_midi(state, bytes([*message, pressure]))
    sound = np.concatenate([render(state, size)[:, 0].copy() for size in (*sizes, 600)])
    assert sound[-1] == pytest.approx(0.2 * (0.25 + 1.5 * pressure / 127.0), rel=1e-3)
    assert np.abs(np.diff(sound)).max() < 0.001
    play_midi(state, bytes([0x89, 38, 0]))
    render(state, 2_400)
    assert not render(state, 500).any(), "let go, it ends all the same"
    play_midi(state, bytes([0xA9, 99, pressure]))
    assert not state.parser.pressures


@given(late_s=st.floats(0.0, 0.4), gain=st.floats(0.02, 1.0), noise=st.floats(0.0, 0.003), seed=st.integers(0, 99))
def test_lateness_is_found_in_what_comes_back(late_s: float, gain: float, noise: float, seed: int) -> None:
    sound = loopback.bursts(RATE)
    delay = round(late_s * RATE)
    heard = gain * np.concatenate([np.zeros(delay, np.float32), sound])[: len(sound)]
    heard += noise * np.random.default_rng(seed).standard_normal(len(heard))
    found = loopback.late_of(heard.astype(np.float32), RATE)
    assert found == pytest.approx(delay / RATE, abs=1.5 / RATE)


@pytest.mark.parametrize("level", [0.0, 0.1])
def test_what_never_came_back_has_no_lateness(level: float) -> None:
    rng = np.random.default_rng(3)
    assert loopback.late_of((level * rng.standard_normal(3 * RATE)).astype(np.float32), RATE) is None
    assert loopback.late_of(np.zeros(100, np.float32), RATE) is None


def test_playing_begins_after_the_count_in() -> None:
    state = MixerState(np.full((100, 2), 0.5, np.float32), original_frames=100)
    apply(state, command(Op.SPAN, start=0, length=100))
    state.transport.target = 1.0
    apply(state, command(Op.PLAY, delay=70))
    first = render(state, 50).copy()
    assert np.abs(first).max() == 0.0
    second = render(state, 50)
    assert np.abs(second[:20]).max() == 0.0
    assert state.position == 30


def test_what_was_played_along_lies_where_it_was_played_less_the_latency() -> None:
    strikes = [Strike(0.1 * n, 0.5 * n + 0.04, 3, 90 + n) for n in range(6)]
    hits = hits_from_strikes(strikes, bpm=120.0, beats=8, late_s=0.02)
    assert [(pad, round(beat, 4), v) for pad, beat, v, _ in hits] == [(3, 0.5 * n, 90 + n) for n in range(6)]
    early = hits_from_strikes([Strike(0.0, 0.01, 3, 90)], bpm=120.0, beats=8, late_s=0.02)
    assert early[0][1] == pytest.approx(-0.03), "just ahead of the first beat is that beat, early"
    twice = hits_from_strikes([Strike(0.0, 1.0, 3, 60), Strike(4.0, 1.001, 3, 70)], bpm=120.0, beats=8)
    assert [v for _, _, v, _ in twice] == [70]
    assert hits_from_strikes([], bpm=120.0, beats=8) == []


@given(st.integers(60, 180), st.floats(-0.02, 0.02))
def test_what_was_played_to_nothing_begins_at_the_first_beat_of_the_known_tempo(bpm: int, off_s: float) -> None:
    beat_s = 60.0 / bpm
    strikes = [Strike(50.0 + n * beat_s + (off_s if n else 0.0), None, 1, 100) for n in range(8)]
    hits = hits_from_strikes(strikes, bpm=float(bpm), beats=8)
    assert len(hits) == 8
    assert all(abs(beat - n) < 0.13 for n, (_, beat, _, _) in enumerate(hits))


def test_the_last_minutes_are_kept_by_phrases() -> None:
    takes = Takes()
    for n in range(5):
        takes.add(Strike(float(n), None, 1, 90))
    for n in range(4):
        takes.add(Strike(20.0 + n, None, 2, 90))
    takes.add(Strike(24.0, 3.0, 3, 90))
    assert [s.pad_id for s in takes.last_phrase()] == [3]
    takes.strikes.pop()
    assert [s.pad_id for s in takes.last_phrase()] == [2] * 4
    takes.add(Strike(24.0 + KEPT_S, None, 4, 90))
    assert takes.strikes[0].at_s >= 24.0 - 1.0


def test_latency_is_the_middle_of_what_follows_the_clicks() -> None:
    clicks = [0.6 * n for n in range(10)]
    assert latency_of([c + 0.03 for c in clicks], clicks) == pytest.approx(0.03)
    assert latency_of([c + 0.03 + 0.01 * (-1) ** n for n, c in enumerate(clicks)], clicks) == pytest.approx(0.03, abs=0.011)
    assert latency_of([0.1, 0.2], clicks) is None
    assert latency_of([], []) is None
    assert latency_of(list(np.linspace(0.0, 5.0, 37)), clicks) is None


def test_played_hits_are_added_or_replace(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    kick = next(p for p in document.pads if p.drum == "kick")
    old = [h for h in pattern_of(document).hits if h.pad_id == kick.id]
    added = add_played(document, [(kick.id, 1.5, 90, 0.0), (kick.id, old[0].at_beats + 0.01, 80, -2.0), (9_999, 1.0, 90, 0.0),
                                 (kick.id, 99.0, 90, 0.0)])
    check_document(added)
    now = [h for h in pattern_of(added).hits if h.pad_id == kick.id]
    assert len(now) == len(old) + 1
    assert old[0] not in now
    replaced = add_played(document, [(kick.id, 1.5, 90, 0.0)], replacing=True)
    later = [h.at_beats for h in old if h.at_beats >= 4.0]
    assert [h.at_beats for h in pattern_of(replaced).hits if h.pad_id == kick.id] == [1.5, *later], "in the bars that were played"
    assert [h for h in pattern_of(replaced).hits if h.pad_id != kick.id] == [h for h in pattern_of(document).hits if h.pad_id != kick.id]


def test_the_practice_pads_are_heard_recorded_and_taken_back(demo_window: Any, qtbot: Any) -> None:
    """By hand through MIDI bytes, then by the player that performs the pattern; without and with record pressed."""
    window, session, playback = demo_window, demo_window.session, demo_window.playback
    window.go_to(2)
    window.kit.show_practice_pads()
    practice = window.kit.practice
    snare = next(p for p in session.store.document.pads if p.drum == "snare")
    told: list[tuple[int, int]] = []
    playback.pads.struck.connect(lambda pad, velocity: told.append((pad, velocity)))
    engine = playback.engine
    start = engine.state.rendered_frames
    centre = practice.surface.cell(snare.slot).center().toPoint()
    QTest.mouseClick(practice.surface, LEFT, NONE, centre)
    qtbot.waitUntil(lambda: bool(told))
    assert told[0][0] == snare.id
    assert told[0][1] > 115, "struck in the middle, it is hard"
    assert len(captured_sound(qtbot, engine, since_frame=start, frames=500, level=0.1))
    QTest.mouseClick(practice.surface, LEFT, NONE, centre - QPoint(30, 30))
    qtbot.waitUntil(lambda: len(told) == 2)
    assert told[1][1] < told[0][1]

    sent: list[bytes] = []
    send, practice.surface._send = practice.surface._send, lambda content, _: sent.append(content)
    QTest.mousePress(practice.surface, LEFT, NONE, centre - QPoint(30, 30))
    QTest.mouseMove(practice.surface, centre - QPoint(10, 10))
    QTest.mouseMove(practice.surface, centre)
    QTest.mouseRelease(practice.surface, LEFT, NONE, centre)
    practice.surface._send = send
    assert [content[0] for content in sent] == [0x99, 0xA9, 0xA9, 0x89]
    assert sent[1][2] < sent[2][2], "nearer to the middle is harder"

    before = session.store.document
    playback.recorder.capture()
    assert session.store.history.undo_label.startswith("capture")
    assert pattern_of(session.store.document) != pattern_of(before)
    session.store.undo()
    playback.recorder.capture()
    assert "Nothing was played" in window.messages.text.text()

    playback.baking.set_speed(2.0)
    settle(qtbot, window)
    practice.loose.setValue(0)
    window.kit.count_in.click()
    window.kit.replacing.click()
    assert not playback.recorder.count_in
    window.kit.record.click()
    assert playback.recorder.recording
    practice.perform.click()
    qtbot.waitUntil(lambda: not practice.perform.isChecked())
    window.kit.record.click()
    playback.transport.stop()
    assert session.store.history.undo_label.startswith("record")
    recorded = pattern_of(session.store.document).hits
    assert len(recorded) == pytest.approx(len(pattern_of(before).hits), abs=4)
    beat_s = 60.0 / before.bpm / 2.0
    near = 0
    for hit in pattern_of(before).hits:
        near += any(h.pad_id == hit.pad_id and min(abs(h.at_beats - hit.at_beats), 16 - abs(h.at_beats - hit.at_beats)) * beat_s < 0.05
                    for h in recorded)
    assert near > 0.85 * len(pattern_of(before).hits)
    session.store.undo()
    assert session.store.document == before


def test_the_sound_is_chosen_and_started_again(demo_window: Any, qtbot: Any) -> None:
    window, playback = demo_window, demo_window.playback
    window.show_settings()
    qtbot.waitUntil(lambda: window.settings.looked)
    dialog = window.settings.sound
    assert dialog.output.findText("simulated device") >= 0
    dialog.block.setCurrentIndex(dialog.block.findData(512))
    dialog.block.activated.emit(0)
    qtbot.waitUntil(lambda: playback.engine.state.ready and playback.engine.state.block_frames == 512)
    qtbot.waitUntil(lambda: "512 frames" in dialog.now.text())
    kick = next(p for p in window.session.store.document.pads if p.drum == "kick")
    start = playback.engine.state.rendered_frames
    assert playback.pads.strike(kick.id, 110)
    assert len(captured_sound(qtbot, playback.engine, since_frame=start, frames=500, level=0.05)), "its sounds are still there"
    dialog.measure()
    qtbot.waitUntil(lambda: not dialog._timer.isActive())
    assert "could not be measured" in dialog.late.text()
    dialog.cable.click()
    qtbot.waitUntil(lambda: dialog._loopback is None)
    assert "cannot play and listen" in dialog.late.text() or "Nothing came back" in dialog.late.text()
    qtbot.waitUntil(lambda: playback.engine.state.ready)
    start = playback.engine.state.rendered_frames
    assert playback.pads.strike(kick.id, 110)
    assert len(captured_sound(qtbot, playback.engine, since_frame=start, frames=500, level=0.05)), "and the engine has the device again"
    dialog.cable.click()
    window.settings.close()
    assert dialog._loopback is None
    qtbot.waitUntil(lambda: playback.engine.state.ready)
    window.settings.show()
    dialog.cable.click()
    window.shut()
    assert not process_id(playback.engine), "closing in the middle of it starts nothing again"
