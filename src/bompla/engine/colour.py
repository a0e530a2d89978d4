"""The colour of the kit, live: a rack of treatments that a bus runs through, block by block.

What comes out does not depend on how the sound is divided into blocks. Filters, drive, bits, reverb,
delay and limiter are those of pedalboard; what listens to more than the sound itself, or follows a
clock of its own, is made here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

Block = NDArray[np.float32]

LONGEST_BLOCK = 8192
CHUNK = 64
"""The squeeze looks at levels by this many frames, and answers in the next."""

TAIL_S = 9.0
"""How long room and echo may ring on after the last sound."""

Values = Mapping[str, float]
ATTACK_MS = 4.0
SQUEEZE_RATIO = 6.0
WOBBLE_ROOM_S = 0.04


class Rack:
    """One bus through its treatments. Build it outside of the callback; `set` and `process` are quick."""

    def __init__(self, sample_rate: int) -> None:
        """Build every treatment, so that switching one on builds nothing; raises ImportError without pedalboard."""
        import pedalboard

        pb: Any = pedalboard

        self._rate = sample_rate
        bands = [pb.LowShelfFilter(200.0, 0.0, 0.7), pb.PeakFilter(1_000.0, 0.0, 0.6), pb.HighShelfFilter(5_000.0, 0.0, 0.7)]
        self._tone = pb.Pedalboard(bands)
        self._drive, self._bits = pb.Distortion(0.0), pb.Bitcrush(16.0)
        self._room = pb.Reverb(0.3, 0.5, wet_level=1.0, dry_level=0.0, width=1.0)
        self._echo = pb.Delay(0.3, 0.3, mix=1.0)
        self._limit = pb.Limiter(0.0, 100.0)
        self._squeeze, self._hold, self._wobble = _Squeeze(sample_rate), _Hold(), _Wobble(sample_rate)
        self._chain: list[tuple[str, Values]] = []
        self._dry = 0.0
        self.on = False
        quiet = np.zeros((2, LONGEST_BLOCK), np.float32)
        for part in (self._tone, self._drive, self._bits, self._room, self._echo, self._limit):
            part.process(quiet, sample_rate, reset=False)  # a longer block than any before would begin it anew
        self._known: dict[str, Callable[..., NDArray[np.float32]]] = {
            "tone": self._run_tone, "drive": self._run_drive, "squeeze": self._run_squeeze, "grit": self._run_grit,
            "wobble": self._run_wobble, "room": self._run_room, "echo": self._run_echo, "ceiling": self._run_ceiling,
        }

    def set(self, wanted: Mapping[str, Any]) -> None:
        """Take other values: `on`, `dry`, `beat_s`, and `chain` as a list of (kind, values by key), in order."""
        self._dry = float(wanted["dry"])
        self._chain = [(str(kind), dict(values)) for kind, values in wanted["chain"] if kind in self._known]
        self.on = bool(wanted["on"]) and (bool(self._chain) or self._dry > 0.0)
        values = dict(self._chain)
        if "tone" in values:
            for part, key in zip(self._tone, ("low_db", "mid_db", "high_db"), strict=True):
                part.gain_db = values["tone"][key]
        if "drive" in values:
            self._drive.drive_db = values["drive"]["drive_db"]
        if "grit" in values:
            self._bits.bit_depth = values["grit"]["bits"]
        if "room" in values:
            self._room.room_size, self._room.damping = values["room"]["size"], values["room"]["damp"]
        if "echo" in values:
            self._echo.delay_seconds = max(0.01, min(10.0, values["echo"]["beats"] * float(wanted["beat_s"])))
            self._echo.feedback = values["echo"]["again"]
        if "ceiling" in values:
            self._limit.threshold_db = values["ceiling"]["ceiling_db"]
            self._limit.release_ms = values["ceiling"]["release_ms"]

    @property
    def tail_frames(self) -> int:
        """How long it sounds on after its last input."""
        return round(TAIL_S * self._rate) if any(kind in ("room", "echo") for kind, _ in self._chain) else round(0.2 * self._rate)

    def process(self, sound: Block, kick: Block, room: Block, echo: Block) -> Block:
        """Return a block coloured; all have shape (frames, 2).

        `kick` is the part of `sound` that kicks make; `room` and `echo` are what pads send there by their own shares.
        """
        raw = np.ascontiguousarray(sound.T)
        made = raw
        for kind, values in self._chain:
            made = self._known[kind](made, values, raw, (kick, room, echo))
        if self._dry > 0.0:
            made = made * np.float32(1.0 - self._dry) + raw * np.float32(self._dry)
        return made.T

    def _run_tone(self, made: Block, _values: Values, _raw: Block, _extra: Sequence[Block]) -> Block:
        return self._played(self._tone, made)

    def _run_drive(self, made: Block, values: Values, _raw: Block, _extra: Sequence[Block]) -> Block:
        return self._played(self._drive, made) * np.float32(10.0 ** (-0.5 * values["drive_db"] / 20.0))

    def _run_squeeze(self, made: Block, values: Values, raw: Block, extra: Sequence[Block]) -> Block:
        return made * self._squeeze.gains(raw - extra[0].T * np.float32(1.0 - values["kick_share"]), values["amount"], values["release_ms"])

    def _run_grit(self, made: Block, values: Values, _raw: Block, _extra: Sequence[Block]) -> Block:
        return self._hold.run(self._played(self._bits, made), self._rate / values["rate_hz"])

    def _run_wobble(self, made: Block, values: Values, _raw: Block, _extra: Sequence[Block]) -> Block:
        return self._wobble.run(made, values["depth_cents"], values["speed_hz"])

    def _run_room(self, made: Block, values: Values, _raw: Block, extra: Sequence[Block]) -> Block:
        return made + self._played(self._room, made * np.float32(values["level"]) + extra[1].T)

    def _run_echo(self, made: Block, values: Values, _raw: Block, extra: Sequence[Block]) -> Block:
        return made + self._played(self._echo, made * np.float32(values["level"]) + extra[2].T)

    def _run_ceiling(self, made: Block, values: Values, _raw: Block, _extra: Sequence[Block]) -> Block:
        top = np.float32(10.0 ** (values["ceiling_db"] / 20.0))
        return np.clip(self._played(self._limit, made), -top, top)

    def _played(self, part: Any, sound: Block) -> Block:
        frames = sound.shape[1]
        # One or two frames look like two channels either way: they go in one at a time as columns.
        parts = [sound] if frames > 2 else [sound[:, n : n + 1] for n in range(frames)]
        made = [part.process(np.ascontiguousarray(one, np.float32), self._rate, LONGEST_BLOCK, reset=False) for one in parts]
        return made[0] if len(made) == 1 else np.concatenate(made, axis=1)


class _Squeeze:
    """A compressor that listens to another signal than the one it turns down, its gain known a chunk ahead.

    Level in dB, smoothed after the curve (Giannoulis, Massberg & Reiss 2012).
    """

    def __init__(self, sample_rate: int) -> None:
        self._rate = sample_rate
        self._filled, self._peak = 0, 0.0
        self._smooth_db, self._from, self._to = 0.0, 1.0, 1.0

    def gains(self, key: Block, amount: float, release_ms: float) -> Block:
        """Return the gain of each frame."""
        frames = key.shape[1]
        level = np.maximum(np.abs(key[0]), np.abs(key[1]))
        gains = np.empty(frames, np.float32)
        at = 0
        while at < frames:
            count = min(CHUNK - self._filled, frames - at)
            along = np.arange(self._filled, self._filled + count, dtype=np.float32) / np.float32(CHUNK)
            gains[at : at + count] = self._from + (self._to - self._from) * along
            self._peak = max(self._peak, float(level[at : at + count].max()))
            self._filled += count
            at += count
            if self._filled == CHUNK:
                self._answer(amount, release_ms)
        return gains

    def _answer(self, amount: float, release_ms: float) -> None:
        threshold = -4.0 - 26.0 * amount
        over = max(0.0, 20.0 * np.log10(max(self._peak, 1e-6)) - threshold)
        wanted = -over * (1.0 - 1.0 / SQUEEZE_RATIO)
        time_ms = ATTACK_MS if wanted < self._smooth_db else release_ms
        keep = float(np.exp(-CHUNK / (time_ms * self._rate / 1000.0)))
        self._smooth_db = wanted + keep * (self._smooth_db - wanted)
        makeup_db = -threshold * 0.45 * (1.0 - 1.0 / SQUEEZE_RATIO) * amount
        self._from, self._to = self._to, float(10.0 ** ((self._smooth_db + makeup_db) / 20.0))
        self._filled, self._peak = 0, 0.0


class _Hold:
    """Holds a sample until the next one of a lower rate is due."""

    def __init__(self) -> None:
        self._at, self._step = 0, -1
        self._last = np.zeros((2, 1), np.float32)

    def run(self, sound: Block, every: float) -> Block:
        """Return the sound with one sample of every so many frames."""
        frames = sound.shape[1]
        if every <= 1.0 or frames == 0:
            return sound
        steps = np.floor((self._at + np.arange(frames)) / every).astype(np.int64)
        fresh = np.diff(steps, prepend=self._step) != 0
        index = np.maximum.accumulate(np.where(fresh, np.arange(1, frames + 1), 0))
        made: Block = np.concatenate([self._last, sound], axis=1)[:, index]
        self._last, self._at, self._step = made[:, -1:].copy(), self._at + frames, int(steps[-1])
        return made


class _Wobble:
    """A delay that swings: the pitch wavers by its slope."""

    def __init__(self, sample_rate: int) -> None:
        self._rate = sample_rate
        self._room = round(WOBBLE_ROOM_S * sample_rate)
        self._past = np.zeros((2, 2 * self._room + 2), np.float32)
        self._phase = 0.0

    def run(self, sound: Block, cents: float, speed_hz: float) -> Block:
        """Return the sound with its pitch wavering by so many hundredths of a semitone."""
        frames = sound.shape[1]
        joined = np.concatenate([self._past, sound], axis=1)
        turn = 2.0 * np.pi * speed_hz / self._rate
        phase = self._phase + turn * np.arange(frames)
        depth = min(self._room - 2.0, (2.0 ** (cents / 1200.0) - 1.0) / turn)
        back = depth * (1.0 + np.sin(phase)) + 1.0
        place = self._past.shape[1] + np.arange(frames) - back
        low = np.floor(place).astype(np.int64)
        share = (place - low).astype(np.float32)
        self._phase = float((self._phase + turn * frames) % (2.0 * np.pi))
        self._past = joined[:, -self._past.shape[1] :].copy()
        made: Block = joined[:, low] * (np.float32(1.0) - share) + joined[:, low + 1] * share
        return made
