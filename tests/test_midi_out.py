"""The pattern on the wire: which notes leave and when, with clock, start and stop, through the audio process's own timing."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
import pytest
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.engine.bounce import event_list
from bompla.engine.choice import SoundChoice
from bompla.engine.commands import Op, command
from bompla.engine.devices import SIMULATED_NAME
from bompla.engine.host import Engine
from bompla.engine.layout import EVENT
from bompla.engine.midi_out import CLOCK, CONTINUE, NOTE_OFF, NOTE_ON, SIMULATED_PORT, SONG_POSITION, START, STOP, Sender
from bompla.engine.mixer import MixerState, apply, render
from bompla.engine.pool import Place
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.pattern_edits import move_hits, with_hits
from bompla.render.bake import bake
from bompla.render.events import Baked, BakeRequest

RATE = 48_000


def mixer_of(baked: Baked) -> MixerState:
    places = {key: Place(0, 0) for key in baked.sounds}
    state = MixerState(np.zeros((16, 2), np.float32))
    state.events = event_list(baked, places, (Place(0, 0), Place(0, 0)))
    state.event_times = state.events["at_frame"].copy()
    apply(state, command(Op.SPAN, start=0, length=baked.total_frames))
    apply(state, command(Op.TICK, frames=baked.total_frames / baked.beats / 24.0))
    return state


def left(state: MixerState, sizes: list[int]) -> list[tuple[int, bytes, int]]:
    """Render so many blocks; return what leaves in them as (frame, message, length)."""
    found, at = [], 0
    for size in sizes:
        render(state, size)
        found += [(at + wait, message, length) for wait, message, length in state.leaving]
        state.leaving.clear()
        at += size
    return found


@pytest.fixture(scope="module")
def baked(demo: tuple[Document, Clip]) -> Baked:
    return bake(BakeRequest(demo[0], demo[1], RATE))


def test_every_hit_leaves_once_a_pass_as_its_pad_says(demo: tuple[Document, Clip], baked: Baked) -> None:
    document = demo[0]
    state = mixer_of(baked)
    apply(state, command(Op.PLAY))
    found = left(state, [256] * (2 * baked.total_frames // 256 + 1))
    notes = [(frame, message[1], message[2]) for frame, message, _ in found if message[0] == NOTE_ON and frame < baked.total_frames]
    pads = {pad.id: pad.note for pad in document.pads}
    beat = baked.total_frames / baked.beats
    wanted = sorted((round(hit.at_beats * beat), pads[hit.pad_id], hit.velocity) for hit in pattern_of(document).hits)
    assert sorted(notes) == wanted
    clocks = [frame for frame, message, _ in found if message[0] == CLOCK and frame < baked.total_frames]
    assert len(clocks) == 24 * baked.beats
    assert np.abs(np.diff(clocks) - beat / 24.0).max() <= 1.0
    assert found[0][1] == bytes((START,))
    assert found[0][0] == 0
    apply(state, command(Op.STOP))
    assert left(state, [4_096])[-1][1] == bytes((STOP,))


@pytest.mark.parametrize("seed", range(6))
def test_what_leaves_does_not_depend_on_the_blocks(baked: Baked, seed: int) -> None:
    sizes = np.random.default_rng(seed).integers(1, 3_000, 70).tolist()
    whole, parts = mixer_of(baked), mixer_of(baked)
    for state in (whole, parts):
        apply(state, command(Op.SEEK, frame=baked.total_frames - sum(sizes) // 2))
        apply(state, command(Op.PLAY, delay=777))
    one = left(whole, [8_192] * (sum(sizes) // 8_192) + [sum(sizes) % 8_192])
    assert sorted(left(parts, sizes)) == sorted(one)


def test_from_the_middle_it_says_where(baked: Baked) -> None:
    state = mixer_of(baked)
    apply(state, command(Op.SEEK, frame=round(baked.total_frames / baked.beats * 5)))
    apply(state, command(Op.PLAY))
    assert [message for _, message, _ in left(state, [64])][:2] == [bytes((SONG_POSITION, 20, 0)), bytes((CONTINUE,))]


def test_chance_leaves_a_hit_out_of_sound_and_midi_alike(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    doubtful = with_hits(document, [replace(hit, chance=0.5) for hit in pattern_of(document).hits])
    made = bake(BakeRequest(doubtful, clip, RATE))
    state = mixer_of(made)
    apply(state, command(Op.PLAY))
    numbers = {note.at_frame: note.number for note in made.notes}
    by_pass = []
    for _ in range(4):
        found = left(state, [made.total_frames // 64] * 64 + [made.total_frames % 64])
        by_pass.append({numbers[frame] for frame, message, _ in found if message[0] == NOTE_ON})
    assert all(0.25 < len(one) / len(set(numbers.values())) < 0.75 for one in by_pass)
    assert len({frozenset(one) for one in by_pass}) == 4
    assert "hit" in (EVENT.names or ())


@pytest.mark.parametrize("looping", [True, False])
def test_a_first_beat_played_early_begins_the_first_turn_and_ends_every_other(demo: tuple[Document, Clip], *, looping: bool) -> None:
    document, clip = demo
    early = min(pattern_of(document).hits, key=lambda hit: hit.at_beats)
    moved = move_hits(document, [early.id], -0.1, early=True)
    assert min(hit.at_beats for hit in pattern_of(moved).hits) == pytest.approx(early.at_beats - 0.1)
    made = bake(BakeRequest(moved, clip, RATE))
    state = mixer_of(made)
    apply(state, command(Op.LOOPING, on=int(looping)))
    apply(state, command(Op.PLAY))
    note = moved.pad(early.pad_id).note
    found = [frame for frame, message, _ in left(state, [500] * (2 * made.total_frames // 500)) if message[:2] == bytes((NOTE_ON, note))]
    ahead = round(made.total_frames + (early.at_beats - 0.1) * made.total_frames / made.beats)
    assert found[0] == 0, "the first beat is heard as soon as it plays"
    assert [frame for frame in found if abs(frame - ahead) <= 1] == ([ahead] if looping else [])
    assert not [frame for frame in found if abs(frame - made.total_frames) <= 1], "and not once more on the beat"
    apply(state, command(Op.STOP))
    left(state, [8_192])
    apply(state, command(Op.LOOPING, on=1))
    apply(state, command(Op.SPAN, start=0, length=made.total_frames // 2))
    apply(state, command(Op.SEEK, frame=0))
    apply(state, command(Op.PLAY))
    half = [frame for frame, message, _ in left(state, [500] * (made.total_frames // 500)) if message[:2] == bytes((NOTE_ON, note))]
    assert {0, made.total_frames // 2} <= set(half), "where the end of the pattern is not in what loops, each turn begins with it"


def test_a_sender_ends_what_it_began() -> None:
    sent: list[bytes] = []
    sender = Sender(sent.append, lambda _when, _message: None)
    now = time.perf_counter()
    sender.note(now, 9, 36, 100, 5.0)
    sender.note(now + 5.0, 9, 38, 100, 5.0)
    deadline = time.monotonic() + 5.0
    while not sent and time.monotonic() < deadline:
        time.sleep(0.005)
    sender.release(time.perf_counter())
    while len(sent) < 2 and time.monotonic() < deadline:
        time.sleep(0.005)
    sender.note(time.perf_counter(), 9, 42, 90, 50.0)
    while len(sent) < 3 and time.monotonic() < deadline:
        time.sleep(0.005)
    sender.close()
    assert sent == [bytes(one) for one in ((0x99, 36, 100), (0x89, 36, 0), (0x99, 42, 90), (0x89, 42, 0))]


def test_the_settings_send_the_pattern_out(demo_window: Any, qtbot: Any) -> None:
    window, engine = demo_window, demo_window.playback.engine
    window.show_settings()
    window.settings.topics.click("midi")
    qtbot.waitUntil(lambda: window.settings.looked)
    page = window.settings.midi
    page.output.setCurrentIndex(page.output.findData(SIMULATED_PORT))
    page.output.activated.emit(0)
    page.channel.setCurrentIndex(page.channel.findData(3))
    page.channel.activated.emit(0)
    qtbot.waitUntil(lambda: engine.state.ready and engine.chosen.midi_channel == 3)
    engine.left()
    heard: list[tuple[float, bytes]] = []

    def count(status: int) -> int:
        heard.extend(engine.left())
        return sum(message[0] == status for _, message in heard)

    window.playback.transport.play()
    qtbot.waitUntil(lambda: count(NOTE_ON | 2) > 4)
    window.playback.transport.stop()
    qtbot.waitUntil(lambda: count(STOP) == 1)
    kinds = [message[0] for _, message in heard]
    assert kinds[0] == START
    assert kinds.count(CLOCK) > 20
    assert kinds.count(NOTE_ON | 2) == kinds.count(NOTE_OFF | 2) > 4, "on the channel that was chosen, each ended"
    from bompla.app.preferences import preferences

    assert (preferences().value.midi_output, preferences().value.midi_channel) == (SIMULATED_PORT, 3)


def test_the_clock_is_even_and_a_port_that_is_gone_is_told(baked: Baked) -> None:
    engine = Engine(SoundChoice(device=SIMULATED_NAME, midi_output=SIMULATED_PORT), sample_rate=RATE)
    gone = Engine(SoundChoice(device=SIMULATED_NAME, midi_output="a port that nobody has"), sample_rate=RATE)
    try:
        for made in (engine, gone):
            made.start()
        deadline = time.monotonic() + 20.0
        while not (engine.state.ready and gone.state.ready) and time.monotonic() < deadline:
            time.sleep(0.01)
        assert "no MIDI output called a port that nobody has" in gone.state.message
        engine.show(baked)
        engine.play()
        tick_s = baked.total_frames / baked.beats / 24.0 / RATE
        uneven: list[float] = []
        for _ in range(8):  # the steadiest second counts: a busy machine holds all of it up
            time.sleep(1.0)
            ticks = np.array([when for when, message in engine.left() if message[0] == CLOCK])
            if len(ticks) > 0.5 / tick_s:
                late = ticks - ticks[0] - tick_s * np.arange(len(ticks))
                uneven.append(float(np.quantile(np.abs(late - np.median(late)), 0.8)))
                if uneven[-1] < 0.004:
                    break
    finally:
        engine.shut()
        gone.shut()
    assert min(uneven) < 0.012, uneven


@pytest.mark.usefixtures("jack")
def test_a_real_port_hears_the_pattern(baked: Baked) -> None:
    rtmidi = pytest.importorskip("rtmidi")
    if rtmidi.API_UNIX_JACK not in rtmidi.get_compiled_api():
        pytest.skip("needs MIDI through JACK")
    ear = rtmidi.MidiIn(rtmidi.API_UNIX_JACK, name="synth")
    ear.ignore_types(timing=False)
    ear.open_virtual_port("in")
    engine = Engine(SoundChoice(device=SIMULATED_NAME, midi_output="synth:in"), sample_rate=RATE)
    try:
        engine.start()
        deadline = time.monotonic() + 20.0
        while not engine.state.ready and time.monotonic() < deadline:
            time.sleep(0.01)
        assert "MIDI" not in engine.state.message, engine.state.message
        engine.show(baked)
        time.sleep(0.3)
        engine.play()
        heard: list[bytes] = []
        deadline = time.monotonic() + 20.0
        while sum(message[0] == CLOCK for message in heard) < 40 and time.monotonic() < deadline:
            while (event := ear.get_message()) is not None:
                heard.append(bytes(event[0]))
            time.sleep(0.02)
    finally:
        engine.shut()
        ear.close_port()
        ear.delete()
    kinds = [message[0] for message in heard]
    assert kinds.count(CLOCK) > 20
    assert {message[1] for message in heard if message[0] == NOTE_ON | 9} <= {note.note for note in baked.notes}
    assert kinds.count(NOTE_ON | 9) > 3
