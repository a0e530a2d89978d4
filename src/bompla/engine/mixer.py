"""The mixer: everything that is heard, rendered block by block from its state alone.

`render` reads no clock, device or file, and its result does not depend on how the sound is
divided into blocks. The device callback, the simulated device, the bounce and the tests share it.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bompla.engine.layout import COMMAND, EVENT, Bus, Op

Block = NDArray[np.float32]

MAX_VOICES = 64
CHOKE_FADE_FRAMES = 240
STEAL_FADE_FRAMES = 96
GAIN_RAMP_FRAMES = 480
MAX_BLOCK_FRAMES = 8192
_NEVER = 1 << 62


class Ramp:
    """A gain that moves to its target in a straight line."""

    __slots__ = ("_from", "_left", "target")

    def __init__(self, value: float) -> None:
        self.target = value
        self._from = value
        self._left = 0

    @property
    def value(self) -> float:
        """The gain now."""
        return self.target + (self._from - self.target) * self._left / GAIN_RAMP_FRAMES

    @property
    def frames_left(self) -> int:
        """Frames until the target is reached."""
        return self._left

    def to(self, target: float) -> None:
        """Move to another gain from now on."""
        if target != self.target:
            self._from = self.value
            self.target = target
            self._left = GAIN_RAMP_FRAMES

    def next(self, frames: int) -> Block | float:
        """Return the gains of the next frames, shape (frames, 1), or one number if they are equal."""
        if self._left == 0:
            return self.target
        left = np.maximum(self._left - np.arange(frames), 0)
        gains = self.target + (self._from - self.target) * (left / GAIN_RAMP_FRAMES)
        self._left = max(0, self._left - frames)
        return gains.astype(np.float32)[:, np.newaxis]


@dataclass(slots=True)
class Voice:
    """A sound being played: its place in the pool, how far it is, and where it begins to fade."""

    offset: int
    length: int
    gain: float
    pad: int
    choke: int
    bus: int
    wait: int
    done: int = 0
    fade_from: int = _NEVER
    fade_frames: int = CHOKE_FADE_FRAMES


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
    position: int = 0
    playing: bool = False
    stopping: bool = False
    looping: bool = True
    click: bool = False
    voices: list[Voice] = field(default_factory=list)
    transport: Ramp = field(default_factory=lambda: Ramp(0.0))
    original_gain: Ramp = field(default_factory=lambda: Ramp(1.0))
    rebuilt_gain: Ramp = field(default_factory=lambda: Ramp(0.0))
    served: int = 0
    out: Block = field(default_factory=lambda: np.zeros((MAX_BLOCK_FRAMES, 2), np.float32))
    pattern: Block = field(default_factory=lambda: np.zeros((MAX_BLOCK_FRAMES, 2), np.float32))


def command(op: Op, *, serial: int = 0, pad: int = -1, choke: int = 0, flag: int = 0, offset: int = 0,
            length: int = 0, x: float = 0.0, y: float = 0.0) -> NDArray[np.void]:
    """Return one command record."""
    record = np.zeros(1, COMMAND)
    record[0] = (serial, int(op), pad, choke, flag, offset, length, x, y, 0)
    made: NDArray[np.void] = record[0]
    return made


def apply(state: MixerState, record: NDArray[np.void]) -> None:
    """Carry out a command at the head of the next block."""
    op = int(record["op"])
    offset, length = int(record["offset"]), int(record["length"])
    if op == Op.STRIKE:
        _start(state, offset, length, float(record["x"]), int(record["pad"]), int(record["choke"]), Bus.LIVE, 0)
    elif op == Op.PLAY:
        if not state.playing and state.span_end > state.span_start:
            state.playing = True
        state.stopping = False
        state.transport.to(1.0)
    elif op == Op.STOP:
        state.stopping = state.playing
        state.transport.to(0.0)
        _fade_all(state, Bus.PATTERN, Bus.CLICK)
    elif op == Op.SEEK:
        state.position = max(state.span_start, min(offset, max(state.span_start, state.span_end - 1)))
        _fade_all(state, Bus.PATTERN, Bus.CLICK)
    elif op == Op.EVENTS:
        raw = state.pool[offset : offset + length * (EVENT.itemsize // 8)]
        state.events = np.frombuffer(np.ascontiguousarray(raw).tobytes(), EVENT)
        state.event_times = state.events["at_frame"].copy()
    else:
        _set(state, op, record, offset, length)
    state.served = int(record["serial"])


def _set(state: MixerState, op: int, record: NDArray[np.void], offset: int, length: int) -> None:
    if op == Op.LOOPING:
        state.looping = bool(record["flag"])
    elif op == Op.SPAN:
        state.span_start, state.span_end = offset, offset + length
        if not state.span_start <= state.position < max(state.span_end, state.span_start + 1):
            state.position = state.span_start
    elif op == Op.ORIGINAL:
        state.original_at, state.original_frames = offset, length
    elif op == Op.BALANCE:
        state.original_gain.to(float(record["x"]))
        state.rebuilt_gain.to(float(record["y"]))
    elif op == Op.CLICK:
        state.click = bool(record["flag"])
    elif op == Op.SILENCE:
        _fade_all(state, Bus.PATTERN, Bus.CLICK, Bus.LIVE)


def render(state: MixerState, frames: int) -> Block:
    """Return the next frames, shape (frames, 2), from -1 to 1; valid until the next call."""
    out, pattern = state.out[:frames], state.pattern[:frames]
    out[:] = 0.0
    pattern[:] = 0.0
    at = 0
    while state.playing and at < frames:
        at += _advance(state, out, at, frames - at)
    for voice in state.voices:
        _mix(state, voice, pattern if voice.bus == Bus.PATTERN else out, frames)
    state.voices = [voice for voice in state.voices if voice.done < _end(voice)]
    pattern *= state.rebuilt_gain.next(frames)
    out += pattern
    np.clip(out, -1.0, 1.0, out=out)
    return out


def _advance(state: MixerState, out: Block, at: int, frames: int) -> int:
    """Play on to the end of the span or of the block, whichever comes first, and return how far."""
    count = min(frames, state.span_end - state.position)
    if state.stopping:
        count = min(count, state.transport.frames_left)
    if count > 0:
        first, last = np.searchsorted(state.event_times, (state.position, state.position + count))
        for index in range(int(first), int(last)):
            event = state.events[index]
            if event["bus"] == Bus.CLICK and not state.click:
                continue
            wait = at + int(event["at_frame"]) - state.position
            _start(state, int(event["offset"]), int(event["length"]), float(event["gain"]), int(event["pad"]),
                   int(event["choke"]), int(event["bus"]), wait)
        _mix_original(state, out[at : at + count], count)
        state.position += count
    if state.stopping and state.transport.frames_left == 0:
        state.playing = state.stopping = False
    elif state.position >= state.span_end:
        state.position = state.span_start
        if not state.looping:
            state.playing = state.stopping = False
            state.transport.to(0.0)
    return count


def _mix_original(state: MixerState, out: Block, count: int) -> None:
    gain = state.original_gain.next(count) * state.transport.next(count)
    known = min(count, state.original_frames - state.position)
    if known > 0:
        start = state.original_at + state.position
        part = state.pool[start : start + known]
        out[:known] += part * (gain[:known] if isinstance(gain, np.ndarray) else np.float32(gain))


def _start(state: MixerState, offset: int, length: int, gain: float, pad: int, choke: int, bus: int, wait: int) -> None:
    for voice in state.voices:
        same_pad = pad >= 0 and voice.pad == pad and voice.bus == bus
        same_set = choke > 0 and voice.choke == choke and voice.bus == bus
        if same_pad or same_set:
            _fade(voice, wait, CHOKE_FADE_FRAMES)
    sounding = [voice for voice in state.voices if voice.fade_from == _NEVER]
    if len(sounding) >= MAX_VOICES:
        _fade(sounding[0], wait, STEAL_FADE_FRAMES)
    state.voices.append(Voice(offset, length, gain, pad, choke, bus, wait))


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


def _mix(state: MixerState, voice: Voice, out: Block, frames: int) -> None:
    count = min(frames - voice.wait, _end(voice) - voice.done)
    if count > 0:
        start = voice.offset + voice.done
        part = state.pool[start : start + count] * np.float32(voice.gain)
        if voice.done + count > voice.fade_from:
            passed = np.arange(voice.done, voice.done + count) - voice.fade_from
            part *= np.clip(1.0 - passed / voice.fade_frames, 0.0, 1.0).astype(np.float32)[:, np.newaxis]
        out[voice.wait : voice.wait + count] += part
        voice.done += count
    voice.wait = max(0, voice.wait - frames)
