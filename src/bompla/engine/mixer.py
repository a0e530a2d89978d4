"""The mixer: everything that is heard, rendered block by block from its state alone.

`render` reads no clock, device or file, and its result does not depend on how the sound is
divided into blocks. The device callback, the simulated device, the bounce and the tests share it.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bompla.engine.commands import Op, values_of
from bompla.engine.layout import EARLY_FLAG, EVENT, KICK_FLAG, MOMENT_PAD, NO_PAD, OUTPUT_SHIFT, ZONE, Bus
from bompla.engine.midi_out import CLOCK, CLOCKS_PER_SIXTEENTH, CONTINUE, NOTE_ON, SONG_POSITION, START, STOP
from bompla.engine.midi_port import EVERY_NOTE, MidiParser
from bompla.engine.voices import CHOKE_FADE_FRAMES, MAX_BLOCK_FRAMES, NEVER, Block, Ramp, Strip, Voice

Values = NDArray[np.void]
"""Those of a command, by field."""

Ranges = list[tuple[int, list[NDArray[np.void]]]]

MAX_VOICES = 128
STEAL_FADE_FRAMES = 96
CUT_FADE_FRAMES = 192
SPAN_IN_FRAMES, SPAN_OUT_FRAMES = 24, 144
"""How the original fades where a part of it comes round."""

AHEAD_FRAMES = 960
"""So little ahead of where playing begins a hit is still heard."""

SOFTEST_PRESSURE, HARDEST_PRESSURE = 0.25, 1.75
"""Gains of a held pad at no and at full pressure; half of it leaves it as it was struck."""


@dataclass(eq=False)
class MixerState:
    """All that `render` knows. `pool` has shape (frames, 2); places in it are in frames."""

    pool: Block
    original_at: int = 0
    original_frames: int = 0
    events: NDArray[np.void] = field(default_factory=lambda: np.zeros(0, EVENT))
    event_times: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    span_start: int = 0
    span_end: int = 0
    span_hits_end: int = 0
    position: int = 0
    playing: bool = False
    begins: bool = False
    stopping: bool = False
    looping: bool = True
    click: bool = False
    voices: list[Voice] = field(default_factory=list)
    transport: Ramp = field(default_factory=lambda: Ramp(0.0))
    original_gain: Ramp = field(default_factory=lambda: Ramp(1.0))
    rebuilt_gain: Ramp = field(default_factory=lambda: Ramp(0.0))
    passes: int = 0
    last_note: int = 0
    touch: float = 1.0
    zones: dict[int, list[Ranges]] = field(default_factory=dict)
    turns: dict[int, int] = field(default_factory=dict)
    parser: MidiParser = field(default_factory=MidiParser)
    played: list[tuple[int, int, int, int, int]] = field(default_factory=list)
    clock: int = 0
    due: list[tuple[int, bytes]] = field(default_factory=list)
    delay: int = 0
    served: int = 0
    tick_frames: float = 0.0
    leaving: list[tuple[int, bytes, int]] = field(default_factory=list)
    announce: bool = False
    pairs: int = 1
    out: Block = field(init=False)
    direct: Block = field(init=False)
    pattern: Strip = field(default_factory=Strip)
    live: Strip = field(default_factory=Strip)

    def __post_init__(self) -> None:
        self.set_pairs(self.pairs)

    def set_pairs(self, pairs: int) -> None:
        """Play to so many pairs of outputs; what belongs to others goes to the first."""
        self.pairs = pairs
        self.out, self.direct = np.zeros((2, MAX_BLOCK_FRAMES, 2 * pairs), np.float32)


def apply(state: MixerState, record: NDArray[np.void]) -> None:
    """Carry out a command at the head of the next block."""
    HANDLERS[Op(int(record["op"]))](state, values_of(record))
    state.served = int(record["serial"])


def _strike(state: MixerState, wanted: Values) -> None:
    pad, length = int(wanted["pad"]), int(wanted["length"])
    voice = Voice(int(wanted["offset"]), length, float(wanted["gain"]), pad, int(wanted["choke"]), Bus.LIVE, 0, int(wanted["sends"]),
                  int(wanted["release"]))
    if pad < 0:  # a stretch of the loop, which ends where it is cut
        voice.fade_from, voice.fade_frames = max(0, length - CUT_FADE_FRAMES), CUT_FADE_FRAMES
    _start(state, voice)
    if pad >= 0 and wanted["velocity"] > 0:
        state.played.append((state.position, pad, int(wanted["velocity"]), int(state.playing), 0))


def _play(state: MixerState, wanted: Values) -> None:
    if not state.playing and state.span_end > state.span_start:
        state.playing = state.announce = state.begins = True
        state.delay = int(wanted["delay"])
    state.stopping = False
    state.transport.to(1.0)


def _stop(state: MixerState, _wanted: Values) -> None:
    state.stopping = state.playing
    state.transport.to(0.0)
    _fade_all(state, Bus.PATTERN, Bus.CLICK)


def _seek(state: MixerState, wanted: Values) -> None:
    state.position = max(state.span_start, min(int(wanted["frame"]), max(state.span_start, state.span_end - 1)))
    _fade_all(state, Bus.PATTERN, Bus.CLICK)
    state.begins = state.playing
    if state.playing and not state.announce:
        state.leaving.append((0, bytes((STOP,)), 0))
        state.announce = True


def _loop(state: MixerState, wanted: Values) -> None:
    state.looping = bool(wanted["on"])


def _span(state: MixerState, wanted: Values) -> None:
    state.span_start, state.span_end = int(wanted["start"]), int(wanted["start"]) + int(wanted["length"])
    state.span_hits_end = state.span_end - int(wanted["not_struck"])
    if not state.span_start <= state.position < max(state.span_end, state.span_start + 1):
        state.position = state.span_start


def _take_original(state: MixerState, wanted: Values) -> None:
    state.original_at, state.original_frames = int(wanted["offset"]), int(wanted["length"])


def _take_events(state: MixerState, wanted: Values) -> None:
    state.events = np.frombuffer(_bytes(state, wanted, EVENT.itemsize * int(wanted["count"])), EVENT)
    state.event_times = state.events["at_frame"].copy()


def _take_zones(state: MixerState, wanted: Values) -> None:
    state.zones = _zones_by_note(np.frombuffer(_bytes(state, wanted, ZONE.itemsize * int(wanted["count"])), ZONE))


def _balance(state: MixerState, wanted: Values) -> None:
    state.original_gain.to(float(wanted["original"]))
    state.rebuilt_gain.to(float(wanted["rebuilt"]))


def _click(state: MixerState, wanted: Values) -> None:
    state.click = bool(wanted["on"])


def _take_midi(state: MixerState, wanted: Values) -> None:
    content, at_frame = int(wanted["content"]).to_bytes(8, "little")[: int(wanted["size"])], int(wanted["at_frame"])
    if at_frame > state.clock:
        state.due.append((at_frame, content))
    else:
        play_midi(state, content)


def _colour(state: MixerState, wanted: Values) -> None:
    values = json.loads(_bytes(state, wanted, int(wanted["length"])))
    for strip in (state.pattern, state.live):
        if strip.rack is not None:
            strip.rack.set(values)


def _release(state: MixerState, wanted: Values) -> None:
    _let_go(state, int(wanted["pad"]))


def _touch(state: MixerState, wanted: Values) -> None:
    state.touch = float(wanted["exponent"])


def _tick(state: MixerState, wanted: Values) -> None:
    state.tick_frames = float(wanted["frames"])


HANDLERS: dict[Op, Callable[[MixerState, Values], None]] = {
    Op.PLAY: _play, Op.STOP: _stop, Op.SEEK: _seek, Op.LOOPING: _loop, Op.SPAN: _span, Op.ORIGINAL: _take_original,
    Op.EVENTS: _take_events, Op.BALANCE: _balance, Op.CLICK: _click, Op.STRIKE: _strike, Op.ZONES: _take_zones, Op.MIDI: _take_midi,
    Op.COLOUR: _colour, Op.LET_GO: _release, Op.TOUCH: _touch, Op.TICK: _tick,
}
"""What each command does."""


def _bytes(state: MixerState, place: Values, size: int) -> bytes:
    """Return bytes that were put into the pool."""
    offset = int(place["offset"])
    return np.ascontiguousarray(state.pool[offset : offset + -(-size // 8)]).tobytes()[:size]


def _let_go(state: MixerState, pad: int) -> None:
    """Let the sounds of a pad that are held end with their release; one-shots go on."""
    for voice in state.voices:
        if voice.pad == pad and voice.bus == Bus.LIVE and voice.release > 0:
            _fade(voice, 0, voice.release)


def _zones_by_note(zones: NDArray[np.void]) -> dict[int, list[Ranges]]:
    """Return for each note, pad by pad, its velocity ranges from soft to hard, each with the sounds that take turns in it."""
    found: dict[int, dict[int, dict[int, list[NDArray[np.void]]]]] = {}
    columns = (zones[name].tolist() for name in ("note", "pad", "up_to"))  # at once: hundreds of keys must not hold a block up
    for zone, note, pad, up_to in zip(zones, *columns, strict=True):
        found.setdefault(note, {}).setdefault(pad, {}).setdefault(up_to, []).append(zone)
    return {note: [sorted(ranges.items(), key=lambda item: item[0]) for ranges in pads.values()] for note, pads in found.items()}


def play_midi(state: MixerState, content: bytes, wait: int = 0) -> None:
    """Play the notes in MIDI bytes, so many frames into the next block, on the pads they belong to; a note of no pad is silent."""
    for note, struck in state.parser.feed(content):
        velocity = struck
        if struck > 0:
            state.last_note = (state.last_note // 128 + 1) * 128 + note
            velocity = max(1, min(127, round(127.0 * (struck / 127.0) ** state.touch)))
        for number, ranges in enumerate(state.zones.get(note, ())):
            if velocity <= 0:
                _let_go(state, int(ranges[0][1][0]["pad"]))
            else:
                _play_note(state, ranges, velocity, wait, told=number == 0)
    if state.parser.pressures:
        for note, pressure in state.parser.pressures:
            _press(state, note, SOFTEST_PRESSURE + (HARDEST_PRESSURE - SOFTEST_PRESSURE) * pressure / 127.0)
        state.parser.pressures.clear()


def _press(state: MixerState, note: int, gain: float) -> None:
    """Let the pads of a note that are held swell or fall with how hard they are pressed; one-shots go on as they are."""
    every = state.zones.values() if note == EVERY_NOTE else [state.zones.get(note, [])]
    pads = {int(ranges[0][1][0]["pad"]) for zones in every for ranges in zones}
    for voice in state.voices:
        if voice.pad in pads and voice.bus == Bus.LIVE and voice.release > 0:
            voice.swell = voice.swell or Ramp(1.0)
            voice.swell.to(gain)


def _play_note(state: MixerState, ranges: Ranges, velocity: int, wait: int, *, told: bool) -> None:
    same = next((zones for up_to, zones in ranges if velocity <= up_to), ranges[-1][1])
    pad = int(same[0]["pad"])
    turn = state.turns.get(pad, 0)
    state.turns[pad] = turn + 1
    zone = same[turn % len(same)]
    gain = float(zone["gain"]) * min(float(zone["most"]), (velocity / max(1.0, float(zone["velocity"]))) ** 2)
    _start(state, Voice(int(zone["offset"]), int(zone["length"]), gain, pad, int(zone["choke"]), Bus.LIVE, wait,
                        int(zone["sends"]), int(zone["release"])))
    if told:
        state.played.append((state.position + wait * int(state.playing), pad, velocity, int(state.playing), int(zone["pitch"])))


def render(state: MixerState, frames: int) -> Block:
    """Return the next frames, shape (frames, 2 for each pair of outputs), of any level; valid until the next call."""
    every, pattern, live = state.out[:frames], state.pattern, state.live
    out, direct = every[:, :2], state.direct[:frames, 2:]
    every[:] = 0.0
    direct[:] = 0.0
    pattern.clear(frames)
    live.clear(frames)
    if state.due:
        _play_due(state, frames)
    at = 0
    if state.playing and state.delay > 0:
        at = min(state.delay, frames)
        state.delay -= at
    while state.playing and at < frames:
        at += _advance(state, out, at, frames - at)
    sounding = {Bus.PATTERN: False, Bus.LIVE: False}
    for voice in state.voices:
        if voice.bus == Bus.PATTERN or (voice.bus == Bus.LIVE and voice.pad >= 0):
            sounding[Bus(voice.bus)] = True
            _mix(state, voice, pattern if voice.bus == Bus.PATTERN else live, frames)
        else:
            _mix(state, voice, None, frames)
    state.voices = [voice for voice in state.voices if voice.done < _end(voice)]
    gain = state.rebuilt_gain.next(frames)
    out += pattern.run(frames, sounding[Bus.PATTERN]) * gain
    out += live.run(frames, sounding[Bus.LIVE])
    if state.pairs > 1:
        every[:, 2:] += direct * gain
    state.clock += frames
    return every


def _play_due(state: MixerState, frames: int) -> None:
    """Play what was sent ahead for the coming block."""
    later = []
    for at_frame, content in state.due:
        if at_frame < state.clock + frames:
            play_midi(state, content, max(0, at_frame - state.clock))
        else:
            later.append((at_frame, content))
    state.due = later


def _advance(state: MixerState, out: Block, at: int, frames: int) -> int:
    """Play on to the end of the span or of the block, whichever comes first, and return how far."""
    count = min(frames, state.span_end - state.position)
    if state.stopping:
        count = min(count, state.transport.frames_left)
    if count > 0:
        _tell_clock(state, at, count)
        if state.begins:
            state.begins = False
            _play_early(state, at, 0)
            _play_just_ahead(state, at)
        until = state.position + count
        if until > state.span_hits_end and state.looping:  # what is ahead of the bar that does not follow
            until = max(state.position, state.span_hits_end)
        first, last = np.searchsorted(state.event_times, (state.position, until))
        whole = state.looping and state.span_start == 0
        for index in range(int(first), int(last)):
            event = state.events[index]
            if whole or not int(event["sends"]) & EARLY_FLAG:
                _play_event(state, event, at + int(event["at_frame"]) - state.position)
        _mix_original(state, out[at : at + count], count)
        state.position += count
    if state.stopping and state.transport.frames_left == 0:
        _end_playing(state, at + count)
    elif state.position >= state.span_end:
        state.position = state.span_start
        state.passes += 1
        if not state.looping:
            _end_playing(state, at + count)
            state.transport.to(0.0)
        else:
            _play_early(state, at + count, state.span_end)
    return count


def _play_early(state: MixerState, at: int, first_frame: int) -> None:
    """Play at once what is ahead of the first beat and lies from a frame on, where a turn begins with that beat."""
    if state.position == 0:
        later = state.events[np.searchsorted(state.event_times, first_frame) :]
        for event in later[(later["sends"] & EARLY_FLAG) > 0]:
            _play_event(state, event, at)


def _play_just_ahead(state: MixerState, at: int) -> None:
    """Play at once what begins a little ahead of where playing begins: it belongs there."""
    first, last = np.searchsorted(state.event_times, (state.position - AHEAD_FRAMES, state.position))
    for event in state.events[int(first) : int(last)]:
        if event["bus"] != Bus.CLICK and not int(event["sends"]) & EARLY_FLAG:
            _play_event(state, event, at)


def _play_event(state: MixerState, event: NDArray[np.void], wait: int) -> None:
    """Play a hit or a click, so many frames into the block, unless chance leaves it out; a note of the pattern leaves."""
    if state.stopping or (event["bus"] == Bus.CLICK and not state.click):
        return
    missed = int(event["sends"]) >> 24
    if missed and _drawn(state.passes, int(event["hit"])) < missed:
        return
    if event["bus"] == Bus.MIDI:
        state.leaving.append((wait, bytes((NOTE_ON, int(event["pad"]), int(event["gain"]))), int(event["length"])))
        return
    voice = Voice(int(event["offset"]), int(event["length"]), float(event["gain"]), int(event["pad"]),
                  int(event["choke"]), int(event["bus"]), wait, int(event["sends"]), int(event["release"]))
    if event["gate"] > 0:
        voice.fade_from, voice.fade_frames = int(event["gate"]), max(1, int(event["release"]))
    _start(state, voice)


def _end_playing(state: MixerState, at: int) -> None:
    state.playing = state.stopping = state.announce = False
    state.leaving.append((at, bytes((STOP,)), 0))


def _tell_clock(state: MixerState, at: int, count: int) -> None:
    """Tell who follows along that it starts, and each 24th of a beat that passes (MIDI 1.0, system real time)."""
    if state.tick_frames <= 0.0:
        state.announce = False
        return
    if state.announce:
        state.announce = False
        if state.position <= state.span_start:
            state.leaving.append((at, bytes((START,)), 0))
        else:
            sixteenth = min(16_383, int(state.position / (CLOCKS_PER_SIXTEENTH * state.tick_frames)))
            state.leaving.append((at, bytes((SONG_POSITION, sixteenth & 127, sixteenth >> 7)), 0))
            state.leaving.append((at, bytes((CONTINUE,)), 0))
    tick = int(np.ceil(state.position / state.tick_frames - 1e-9))
    while (frame := round(tick * state.tick_frames)) < state.position + count:
        state.leaving.append((at + max(0, frame - state.position), bytes((CLOCK,)), 0))
        tick += 1


def _drawn(passes: int, hit: int) -> int:
    """Return a number from 0 to 254 that is always the same for a hit in a pass (multiplicative hashing, Knuth 1973).

    Two rounds of shift and multiply at the end let every bit decide, so that passes in a row are no row of numbers.
    """
    mixed = (passes * 2_654_435_761 + (hit + 1) * 2_246_822_519) & 0xFFFFFFFF
    mixed = (mixed ^ mixed >> 16) * 2_146_121_005 & 0xFFFFFFFF
    mixed = (mixed ^ mixed >> 15) * 2_221_713_035 & 0xFFFFFFFF
    return (mixed ^ mixed >> 16) % 255


def _mix_original(state: MixerState, out: Block, count: int) -> None:
    gain = state.original_gain.next(count) * state.transport.next(count)
    gain = gain * edges if (edges := _span_edges(state, count)) is not None else gain
    length, done = state.original_frames, 0
    while done < count and length > 0:  # what plays may be longer than the original, which then repeats
        within = (state.position + done) % length
        known = min(count - done, length - within)
        part = state.pool[state.original_at + within : state.original_at + within + known]
        out[done : done + known] += part * (gain[done : done + known] if isinstance(gain, np.ndarray) else np.float32(gain))
        done += known


def _span_edges(state: MixerState, count: int) -> NDArray[np.float32] | None:
    """Return the fades where a part of the loop comes round, shape (frames, 1); nothing away from its edges, or where all plays."""
    into, left = state.position - state.span_start, state.span_end - state.position
    whole = state.span_end - state.span_start >= state.original_frames
    if whole or not state.looping or (into >= SPAN_IN_FRAMES and left - count >= SPAN_OUT_FRAMES):
        return None
    at = np.arange(count, dtype=np.float32)
    edges = np.minimum((into + at + 1.0) / SPAN_IN_FRAMES, (left - at) / SPAN_OUT_FRAMES)
    return np.asarray(np.clip(edges, 0.0, 1.0), np.float32)[:, np.newaxis]


def _start(state: MixerState, new: Voice) -> None:
    for voice in state.voices:
        same_pad = new.pad != NO_PAD and voice.pad == new.pad and voice.bus == new.bus
        same_set = new.choke > 0 and voice.choke == new.choke and voice.bus == new.bus
        if same_pad and new.pad == MOMENT_PAD:  # it comes in while the other goes: together they are the loop
            _fade(voice, new.wait, new.release)
        elif same_pad or same_set:
            _fade(voice, new.wait, CHOKE_FADE_FRAMES)
    if new.pad == MOMENT_PAD:
        new.choke = 0  # it ends what rings, as its drums would; nothing but the next moment ends all of it
    sounding = [voice for voice in state.voices if voice.fade_from == NEVER]
    if len(sounding) >= MAX_VOICES:
        _fade(sounding[0], new.wait, STEAL_FADE_FRAMES)
    state.voices.append(new)


def _fade(voice: Voice, at: int, frames: int) -> None:
    """Let a voice fade out from frame `at` of the coming block on."""
    begin = voice.done + max(0, at - voice.wait)
    if begin < voice.fade_from:
        voice.fade_from, voice.fade_frames = begin, frames


def _fade_all(state: MixerState, *buses: Bus) -> None:
    for voice in state.voices:
        if voice.bus in buses:
            _fade(voice, 0, CHOKE_FADE_FRAMES)


def _end(voice: Voice) -> int:
    return min(voice.length, voice.fade_from + voice.fade_frames)


def _mix(state: MixerState, voice: Voice, strip: Strip | None, frames: int) -> None:
    """Add a voice to its strip, or straight to what is heard."""
    count = min(frames - voice.wait, _end(voice) - voice.done)
    if count > 0:
        start = voice.offset + voice.done
        part = state.pool[start : start + count] * np.float32(voice.gain)
        if voice.swell is not None:
            part *= voice.swell.next(count)
        if voice.done + count > voice.fade_from:
            passed = np.arange(voice.done, voice.done + count) - voice.fade_from
            part *= np.clip(1.0 - passed / voice.fade_frames, 0.0, 1.0).astype(np.float32)[:, np.newaxis]
        where = slice(voice.wait, voice.wait + count)
        pair = voice.sends >> OUTPUT_SHIFT & 3
        if strip is None:
            state.out[where, :2] += part
        elif 0 < pair < state.pairs:
            target = state.direct if voice.bus == Bus.PATTERN else state.out
            target[where, 2 * pair : 2 * pair + 2] += part
        else:
            strip.sound[where] += part
            if strip.coloured and voice.sends:
                _send(strip, voice.sends, where, part)
        voice.done += count
    voice.wait = max(0, voice.wait - frames)


def _send(strip: Strip, sends: int, where: slice, part: Block) -> None:
    room, echo = sends & 255, sends >> 8 & 255
    if room:
        strip.room[where] += part * np.float32(room / 255.0)
    if echo:
        strip.echo[where] += part * np.float32(echo / 255.0)
    if sends & KICK_FLAG:
        strip.kick[where] += part
