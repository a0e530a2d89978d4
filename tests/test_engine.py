"""The mixer as a function, the rings it speaks through, and the process it lives in."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bompla.audio.clip import Clip
from bompla.audio.loudness import loudness_db
from bompla.engine.bounce import bounce_rebuilt, click_sounds, event_list, matching_gain
from bompla.engine.choice import SoundChoice
from bompla.engine.colour import Rack
from bompla.engine.commands import FIELDS, Op, command
from bompla.engine.devices import SIMULATED_NAME
from bompla.engine.host import Engine
from bompla.engine.layout import (
    CAPTURE_FRAMES,
    CONTROL_BYTES,
    EVENT,
    MOST_CHANNELS,
    Bus,
    Capture,
    Control,
    DeviceKind,
    SharedMemory,
    sends_of,
)
from bompla.engine.mixer import MAX_VOICES, MixerState, apply, render
from bompla.engine.pool import Place, PoolPlan
from bompla.engine.span import span_of
from bompla.engine.voices import CHOKE_FADE_FRAMES
from bompla.errors import EngineError
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.variation_edits import set_untouched
from bompla.render.bake import bake
from bompla.render.events import Baked, BakeRequest, SoundKey
from conftest import captured, free_frames, process_id

RATE = 48_000


def state_with(events: list[tuple[int, int, int, int, int, int, float]], frames: int = 9_600, *, sends: int = 0) -> MixerState:
    """Return a mixer that loops `frames` of a ramp, with events as (frame, offset, length, pad, choke, bus, gain)."""
    pool = np.zeros((40_000, 2), np.float32)
    pool[:frames, 0] = np.linspace(0.0, 0.3, frames)
    pool[20_000:30_000] = 0.2
    state = MixerState(pool)
    state.events = np.array([(*event, sends, 0, 0, n) for n, event in enumerate(events)], EVENT)
    state.event_times = state.events["at_frame"].copy()
    apply(state, command(Op.ORIGINAL, offset=0, length=frames))
    apply(state, command(Op.SPAN, start=0, length=frames))
    return state


def rendered(state: MixerState, sizes: list[int]) -> np.ndarray:
    return np.concatenate([np.zeros((0, 2), np.float32), *(render(state, size).copy() for size in sizes)])


@settings(max_examples=60)
@given(st.data())
def test_some_bars_that_come_round_have_each_of_their_hits_once_a_turn(data: st.DataObject) -> None:
    """Hits are played early and late, in any bars of four; one a little ahead of a line belongs to the bar that it begins."""
    bar, within = 2_400, 60
    first = data.draw(st.integers(0, 3))
    count = data.draw(st.integers(1, 4 - first))
    drawn = st.tuples(st.integers(0, 3), st.integers(0, 15), st.integers(-50, 50))
    places = data.draw(st.lists(drawn, min_size=1, max_size=24, unique=True))
    hits = sorted({bar * n + 150 * step + off for n, step, off in places if 0 <= bar * n + 150 * step + off < 4 * bar - within})
    span = span_of(np.array(hits), first * bar, (first + count) * bar, 4 * bar, within=within)
    assert span.length == count * bar, "the bars are as long as they are"
    state = state_with([(at, 20_000, 40, -1, 0, 0, 1.0) for at in hits], frames=4 * bar)
    apply(state, command(Op.BALANCE, original=0.0, rebuilt=1.0))
    apply(state, command(Op.LOOPING, on=1))
    apply(state, command(Op.SPAN, start=span.start, length=span.length, not_struck=float(span.not_struck)))
    apply(state, command(Op.PLAY))
    turns = rendered(state, [480] * (2 * span.length // 480))[:, 0]  # by the second one the gains have come to rest
    expected = np.zeros(span.length)
    for at in hits:
        if first * bar - within <= at < (first + count) * bar - within:
            expected[(at - span.start + np.arange(40)) % span.length] += 0.2
    assert turns[span.length :] == pytest.approx(expected, abs=1e-5)


EVERY_TREATMENT = [
    ("tone", {"low_db": 3.0, "mid_db": -4.0, "high_db": 6.0}), ("squeeze", {"amount": 0.6, "release_ms": 50.0, "kick_share": 0.3}),
    ("drive", {"drive_db": 9.0}), ("grit", {"bits": 9.0, "rate_hz": 12_000.0}), ("wobble", {"depth_cents": 12.0, "speed_hz": 3.0}),
    ("room", {"size": 0.4, "damp": 0.5, "level": 0.3}), ("echo", {"beats": 0.75, "again": 0.4, "level": 0.2}),
    ("ceiling", {"ceiling_db": -3.0, "release_ms": 60.0}),
]

EVENTS = [
    (0, 20_000, 4_000, 1, 0, 0, 1.0),
    (500, 20_000, 9_000, 2, 1, 0, 0.5),
    (3_001, 20_000, 800, 3, 1, 0, 0.7),
    (9_000, 20_000, 3_000, 1, 0, 1, 0.9),
]


@settings(max_examples=40, deadline=None)
@given(sizes=st.lists(st.integers(1, 1_500), min_size=1, max_size=40), click=st.booleans(), stop_after=st.integers(0, 30),
       colour=st.booleans())
def test_the_sound_does_not_depend_on_the_blocks(sizes: list[int], click: bool, stop_after: int, colour: bool) -> None:
    def play(parts: list[list[int]]) -> np.ndarray:
        state = state_with(EVENTS, sends=sends_of(0.5, 0.3, kick=True))
        if colour:
            state.pattern.rack = Rack(RATE)
            state.pattern.rack.set({"on": True, "dry": 0.2, "beat_s": 0.05, "chain": EVERY_TREATMENT})
        apply(state, command(Op.CLICK, on=click))
        apply(state, command(Op.PLAY))
        apply(state, command(Op.BALANCE, original=0.6, rebuilt=0.8))
        first = rendered(state, parts[0])
        apply(state, command(Op.STOP))
        return np.concatenate([first, rendered(state, parts[1])])

    before, after = sizes[:stop_after], [*sizes[stop_after:], 64]
    whole = play([[n for n in (sum(before) // 7_000) * [7_000] + [sum(before) % 7_000] if n], [sum(after) % 8_000 or 1]])
    parted = play([before, after])
    length = min(len(whole), len(parted))
    assert np.allclose(whole[:length], parted[:length], atol=2e-6 if colour else 0.0, rtol=0.0)
    assert np.abs(parted).max() <= 1.0


@settings(max_examples=40, deadline=None)
@given(orders=st.lists(st.tuples(st.sampled_from(list(Op)), st.integers(0, 9_000), st.integers(1, 900)), max_size=40))
def test_any_commands_end_in_exact_silence(orders: list[tuple[Op, int, int]]) -> None:
    state = state_with(EVENTS)
    for op, number, frames in orders:
        if op not in (Op.COLOUR, Op.EVENTS, Op.ORIGINAL, Op.SPAN):
            values = {"offset": 20_000 + number if op is Op.STRIKE else number, "length": 900, "pad": number % 5, "gain": 0.4, "release": 0,
                      "velocity": number % 2, "on": number % 2, "original": 0.4, "rebuilt": 0.6, "frame": number, "delay": number,
                      "frames": 0.4, "exponent": 0.4, "content": number, "size": 3, "at_frame": number % 2}
            apply(state, command(op, **{name: value for name, value in values.items() if name in (FIELDS[op].names or ())}))
        assert np.abs(render(state, frames)).max() <= 1.0
        assert len(state.voices) <= 2 * MAX_VOICES + 8
    apply(state, command(Op.STOP))
    rendered(state, [8_000, 8_000])
    assert state.voices == []
    assert not render(state, 1_000).any()


def test_hits_begin_at_their_sample_and_closed_hats_choke_open_ones() -> None:
    state = state_with([(100, 20_000, 5_000, 1, 1, int(Bus.PATTERN), 1.0), (1_000, 20_000, 300, 2, 1, int(Bus.PATTERN), 0.5)])
    state.original_gain.target, state.rebuilt_gain.target = 0.0, 1.0
    apply(state, command(Op.PLAY))
    sound = render(state, 3_000)[:, 1].copy()
    assert not sound[:100].any()
    assert sound[100:1_000] == pytest.approx(0.2)
    assert sound[1_000] == pytest.approx(0.2 + 0.1, abs=1e-6)
    assert sound[1_000 + CHOKE_FADE_FRAMES : 1_300] == pytest.approx(0.1)
    assert not sound[1_300:].any()
    assert np.abs(np.diff(sound[1_001:1_299])).max() < 0.002


def test_the_oldest_voice_gives_way() -> None:
    state = state_with([])
    for number in range(MAX_VOICES + 10):
        apply(state, command(Op.STRIKE, offset=20_000, length=9_000, pad=number, gain=0.001))
    render(state, 512)
    assert len(state.voices) == MAX_VOICES


def test_commands_pass_the_ring_in_order_and_a_full_ring_says_so() -> None:
    memory = SharedMemory.make("test", CONTROL_BYTES)
    writer, reader = Control(memory), Control(SharedMemory.attach(memory.descriptor))
    assert reader.receive() is None
    serial = 0
    for burst in (3, 1_024, 700, 1):
        for _ in range(burst):
            serial += 1
            assert writer.send(command(Op.SEEK, serial=serial, frame=serial))
        received = reader.receive()
        assert received is not None
        assert list(received["serial"]) == list(range(serial - burst + 1, serial + 1))
    for _ in range(1_024):
        assert writer.send(command(Op.STOP))
    assert not writer.send(command(Op.STOP))
    memory.close()


@settings(max_examples=60)
@given(orders=st.lists(st.tuples(st.booleans(), st.integers(1, 300), st.integers(0, 500)), max_size=50))
def test_places_in_the_pool_never_overlap(orders: list[tuple[bool, int, int]]) -> None:
    plan, held, now = PoolPlan(1_000), [], 0
    for take, length, wait in orders:
        now += wait
        plan.settle(served=now, rendered=now)
        if take:
            try:
                place = plan.take(length)
            except EngineError:
                continue
            assert 0 <= place.offset <= 1_000 - place.length
            assert all(place.offset >= p.offset + p.length or p.offset >= place.offset + place.length for p in held)
            held.append(place)
        elif held:
            plan.give_back(held.pop(0), serial=now, at_frame=now)
    for place in held:
        plan.give_back(place, serial=0, at_frame=0)
    plan.settle(served=10**9, rendered=10**9)
    assert plan.take(1_000) == Place(0, 1_000)


@pytest.fixture(scope="module")
def baked(demo: tuple[Document, Clip]) -> Baked:
    return bake(BakeRequest(*demo, RATE))


def test_rebuilt_and_original_are_equally_loud_when_matched(baked: Baked) -> None:
    rebuilt = bounce_rebuilt(baked, gain=matching_gain(baked))
    assert loudness_db(rebuilt) == pytest.approx(loudness_db(Clip(baked.original, RATE)), abs=0.4)


def test_the_rebuilt_groove_sounds_like_the_original(baked: Baked) -> None:
    """Band by band and moment by moment, in dB over the moments that are not quiet."""
    from bompla.analysis.hearing.spectrum import spectrum_of

    pair = [spectrum_of(Clip(sound, RATE)) for sound in (baked.original, bounce_rebuilt(baked).samples)]
    levels = [10 * np.log10(s.power + 1e-5) for s in pair if s is not None]
    assert np.abs(levels[0] - levels[1]).mean() < 4.0


def test_sounds_begin_and_end_without_a_step(baked: Baked) -> None:
    pads = [sound for key, sound in baked.sounds.items() if isinstance(key, SoundKey)]
    for sound in (*pads, *click_sounds(RATE)):
        assert np.abs(sound[0]).max() < 0.02
        assert np.abs(sound[-1]).max() < 1e-3


def test_baking_again_keeps_what_has_not_changed(demo: tuple[Document, Clip]) -> None:
    from bompla.model.kit_edits import set_pad_level

    document, clip = set_untouched(demo[0], "pads"), demo[1]
    first = bake(BakeRequest(document, clip, RATE))
    second = bake(BakeRequest(set_pad_level(document, document.pads[0].id, -6.0), clip, RATE, before=first))
    assert second.original is first.original
    assert all(second.sounds[key] is sound for key, sound in first.sounds.items())
    quieter = [e.gain for e in second.events if e.pad_id == document.pads[0].id]
    assert quieter == pytest.approx([e.gain * 10**-0.3 for e in first.events if e.pad_id == document.pads[0].id])


def wait_for(true: Callable[[], bool], seconds: float = 15.0) -> None:
    """Wait for another process, which has no signal to wait for."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "waited in vain"
        time.sleep(0.005)


def play_on(engine: Engine, frames: int) -> None:
    """Wait until the device has played so many frames more."""
    start = engine.state.rendered_frames
    wait_for(lambda: engine.state.rendered_frames > start + frames)


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(SoundChoice(device=SIMULATED_NAME))
    made.start()
    wait_for(lambda: made.state.ready)
    yield made
    made.shut()


def test_what_the_device_played_is_what_a_bounce_makes(engine: Engine, baked: Baked) -> None:
    engine.show(baked)
    engine.set_balance(0.0, 0.5)  # under the ceiling, below which nothing is changed
    start = engine.state.rendered_frames
    wait_for(lambda: engine.state.rendered_frames > start + 2_000)
    engine.play()
    wait_for(lambda: engine.state.position > RATE // 2)
    engine.stop()
    played = captured(engine, since_frame=start)
    expected = bounce_rebuilt(baked, gain=0.5).samples[: RATE // 3]
    first = int(np.flatnonzero(np.abs(played).max(axis=1) > 1e-4)[0])
    offset = int(np.flatnonzero(np.abs(expected).max(axis=1) > 1e-4)[0])
    assert np.array_equal(played[first - offset + 480 : first - offset + len(expected)], expected[480:])


def test_a_killed_audio_process_is_brought_back_where_it_was(engine: Engine, baked: Baked) -> None:
    engine.show(baked)
    engine.set_click(True)
    engine.play()
    wait_for(lambda: engine.state.position > 9_600)
    assert engine.watch() == ""
    before, old = engine.state.position, process_id(engine)
    os.kill(old, signal.SIGKILL)
    wait_for(lambda: engine.watch() != "")
    wait_for(lambda: engine.state.ready and engine.state.playing)
    assert process_id(engine) != old
    assert engine.state.position > before - RATE // 4
    assert engine.state.kind is DeviceKind.SIMULATED


def test_without_a_sound_device_a_sentence_says_so() -> None:
    made = Engine(SoundChoice(device="a device that nobody has"))
    made.start()
    wait_for(lambda: made.state.ready)
    assert made.state.kind is DeviceKind.SIMULATED
    assert "simulated device plays instead" in made.state.message
    made.shut()


def test_the_audio_process_imports_little_and_ends_with_its_parent() -> None:
    unwanted = "{'scipy', 'PyQt6', 'msgspec', 'mido', 'soxr'}"
    code = f"import bompla.engine.child, sys; print(sorted({{m.split('.')[0] for m in sys.modules}} & {unwanted}))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
    code = (
        "from bompla.engine.host import Engine; from bompla.engine.choice import SoundChoice; import time, os\n"
        "e = Engine(SoundChoice(device='simulated device')); e.start()\n"
        "while not e.state.ready: time.sleep(0.01)\n"
        "print(e.process.pid, flush=True); os._exit(1)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    child = int(done.stdout)
    wait_for(lambda: not Path(f"/proc/{child}").exists() or Path(f"/proc/{child}/stat").read_text().split()[2] == "Z", 5.0)


def test_the_capture_keeps_the_newest_frames() -> None:
    memory = SharedMemory.make("capture", CAPTURE_FRAMES * MOST_CHANNELS * 4)
    capture = Capture(memory)
    end = CAPTURE_FRAMES + 500
    for at in range(0, end, 1_000):
        frames = np.arange(at, min(at + 1_000, end), dtype=np.float32)
        capture.write(at, np.stack([frames, frames], axis=1))
    assert capture.read(end - 2_000, end)[:, 0] == pytest.approx(np.arange(end - 2_000, end))
    assert len(capture.read(0, end)) == CAPTURE_FRAMES
    memory.close()


def test_clicks_fall_on_beats_and_bars(baked: Baked) -> None:
    places = {key: Place(0, 1) for key in baked.sounds}
    events = event_list(baked, places, (Place(7, 1), Place(9, 1)))
    clicks = events[events["bus"] == Bus.CLICK]
    assert len(clicks) == baked.beats
    assert list(clicks["offset"][:5]) == [7, 9, 9, 9, 7]
    assert np.diff(clicks["at_frame"]) == pytest.approx(baked.frames / baked.beats, abs=1.0)


def test_an_edit_is_heard_without_stopping_and_old_sounds_are_let_go(engine: Engine, demo: tuple[Document, Clip]) -> None:
    from bompla.model.kit_edits import set_pad_level
    from bompla.model.pattern_edits import delete_hits

    document, clip = demo
    baked = bake(BakeRequest(document, clip, RATE))
    engine.show(baked)
    engine.set_balance(0.0, 1.0)
    engine.play()
    wait_for(lambda: engine.state.position > 4_800)
    free = free_frames(engine)
    silent = delete_hits(document, [hit.id for hit in pattern_of(document).hits])
    baked = bake(BakeRequest(silent, clip, RATE, before=baked))
    engine.show(baked)
    wait_for(lambda: engine.state.voices == 0)
    start = engine.state.rendered_frames
    wait_for(lambda: engine.state.rendered_frames > start + 9_600)
    assert not captured(engine, since_frame=start + 4_800).any()
    assert engine.state.playing
    for level in range(12):
        baked = bake(BakeRequest(set_pad_level(document, document.pads[0].id, -float(level)), clip, RATE, before=baked))
        engine.show(baked)
    first = engine.state.rendered_frames
    wait_for(lambda: engine.state.rendered_frames > first + 2 * RATE)
    engine.watch()
    assert free_frames(engine) >= free - 4_000


@pytest.mark.parametrize("looping", [True, False])
def test_at_the_end_it_goes_round_or_stops_at_the_start(engine: Engine, baked: Baked, looping: bool) -> None:
    engine.show(baked)
    engine.set_looping(looping)
    engine.seek(baked.frames - 4_000)
    engine.play()
    start = engine.state.rendered_frames
    wait_for(lambda: engine.state.rendered_frames > start + 12_000)
    assert engine.state.playing == looping
    assert engine.state.position < (20_000 if looping else 1)


def test_a_struck_pad_sounds_at_once_at_its_gain_and_beside_the_pattern(engine: Engine, baked: Baked) -> None:
    engine.show(baked)
    key = next(iter(baked.sounds))
    peaks = []
    for gain in (0.25, 0.5):
        wait_for(lambda: engine.state.voices == 0)
        play_on(engine, len(baked.sounds[key]) + 6_000)
        start = engine.state.rendered_frames
        assert engine.strike(key, pad=3, choke=0, gain=gain)
        play_on(engine, len(baked.sounds[key]) + 2_000)
        peaks.append(np.abs(captured(engine, since_frame=start)).max())
    assert peaks[1] == pytest.approx(2 * peaks[0], rel=1e-3)
    assert peaks[1] == pytest.approx(0.5 * np.abs(baked.sounds[key]).max(), rel=1e-3)
    assert not engine.strike((-1, -1), pad=3, choke=0, gain=1.0)


def test_state_is_told_from_the_first_block_on(engine: Engine) -> None:
    state = engine.state
    assert (state.kind, state.device) == (DeviceKind.SIMULATED, SIMULATED_NAME)
    assert state.sample_rate == RATE
    assert state.block_frames == 256
    assert state.latency_s == pytest.approx(256 / RATE)
    before = state.rendered_frames
    wait_for(lambda: engine.state.rendered_frames > before + RATE // 4)
    assert engine.state.underruns == 0
    assert engine.state.worst_s < 0.5


def test_an_engine_that_keeps_dying_is_tried_again_ever_more_slowly(monkeypatch: pytest.MonkeyPatch) -> None:
    """Three starts at once, then after 5 s, 10 s and so on up to two minutes; it never gives up."""
    now = [1_000.0]
    monkeypatch.setattr("bompla.engine.host.time.monotonic", lambda: now[0])
    engine = Engine(SoundChoice(device=SIMULATED_NAME))
    monkeypatch.setattr(engine, "start", lambda: None)
    waits = []
    for _ in range(12):
        said = engine._restart()  # it has died
        if "tried again in" in said:
            waits.append(float(said.split(" in ")[1].split(" s")[0]))
            now[0] += waits[-1] - 0.1
            assert engine.watch() == "", "not before its time"
            now[0] += 0.2
            assert "started again" in engine.watch()
    assert waits == [5.0, 10.0, 20.0, 40.0, 80.0, 120.0, 120.0, 120.0, 120.0]
    engine.close()


def test_commands_that_find_no_room_wait_their_turn() -> None:
    """Twelve hundred before the audio process is up: none is lost, and they are carried out in order."""
    engine = Engine(SoundChoice(device=SIMULATED_NAME))
    engine.start()
    try:
        for number in range(1_200):
            engine.process.send(Op.SEEK, frame=number)
        engine.seek(0)
        last = engine.process.serial
        wait_for(lambda: not engine.watch() and engine.process.served == last)
    finally:
        engine.shut()


def test_nothing_is_ready_where_no_process_lives_and_frames_go_on(engine: Engine) -> None:
    wait_for(lambda: engine.state.rendered_frames > RATE // 10)
    before = engine.state.rendered_frames
    engine.close()
    assert not engine.state.ready
    assert engine.state.rendered_frames > before, "what was played before a change of device lies before what comes after"
    began = time.monotonic()
    engine.use(SoundChoice(device=SIMULATED_NAME))
    assert time.monotonic() - began < 0.5, "nobody waits for the process that goes"
    wait_for(lambda: not engine.watch() and engine.state.ready)
    assert engine.state.rendered_frames > before + RATE // 2


def test_pads_have_any_number(baked: Baked) -> None:
    """Two pads whose numbers differ by what fits into a short number do not cut each other off."""
    hits = baked.events[:2]
    far = [replace(hit, pad_id=number, at_frame=at, stands_for=()) for hit, number, at in
           zip(hits, (5, 5 + (1 << 20)), (0, 100), strict=True)]
    places = {hit.sound: Place(0, 100) for hit in far}
    events = event_list(replace(baked, events=tuple(far)), places, (Place(0, 1), Place(0, 1)))
    assert set(events["pad"][events["bus"] == Bus.PATTERN].tolist()) == {5, 5 + (1 << 20)}
