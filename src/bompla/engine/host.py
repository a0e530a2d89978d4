"""The window's side of the engine: starts the audio process, speaks to it, brings it back."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bompla.engine.bounce import click_sounds, event_list
from bompla.engine.choice import SoundChoice
from bompla.engine.layout import (
    CAPTURE_FRAMES,
    CONTROL_BYTES,
    MOST_CHANNELS,
    PADS_END,
    POOL_FRAMES,
    ZONE,
    Bus,
    Capture,
    Control,
    DeviceKind,
    Op,
    SharedMemory,
    sends_of,
)
from bompla.engine.midi_out import CLOCKS_PER_BEAT
from bompla.engine.mixer import command
from bompla.engine.pool import Place, PoolPlan
from bompla.engine.span import AHEAD_BEATS, span_of
from bompla.errors import EngineError
from bompla.render.events import Baked, PlayedNote, SoundKey

STALE_S = 1.0
STATE_TRIES = 20
START_S = 15.0
MAX_RESTARTS = 3
FIRST_WAIT_S, LONGEST_WAIT_S = 5.0, 120.0
"""After so many starts in a row it waits before the next, each time twice as long."""

SLICE_PAD, PREVIEW_PAD = 30_000, 30_001
"""Numbers of pads that are none: a slice and a sound that are listened to, so that the next one ends them."""



@dataclass(frozen=True)
class EngineState:
    """What the audio process last said of itself."""

    ready: bool
    kind: DeviceKind
    device: str
    message: str
    sample_rate: int
    block_frames: int
    channels: int
    latency_s: float
    playing: bool
    position: int
    voices: int
    peak: float
    underruns: int
    worst_s: float
    rendered_frames: int
    last_note: int
    """The MIDI note that came in last, in the lowest seven bits, under how many there were."""


class Engine:
    """Plays a baked loop in a process of its own. Nothing here blocks the caller."""

    def __init__(self, choice: SoundChoice = SoundChoice(), *, sample_rate: int = 48_000) -> None:  # noqa: B008  # an immutable value
        """Prepare an engine for what was chosen; it plays to 2 channels where the device has fewer than were asked for."""
        self.sample_rate = sample_rate
        self.chosen = choice
        self._zones: Place | None = None
        self._zone_count = 0
        self._colour = b""
        self._touch = 1.0
        self._process: subprocess.Popen[bytes] | None = None
        self._pool = SharedMemory.make("bompla-pool", POOL_FRAMES * 8)
        self._pool_frames = np.frombuffer(self._pool.memory, "<f4", POOL_FRAMES * 2).reshape(POOL_FRAMES, 2)
        self._capture_memory = SharedMemory.make("bompla-capture", CAPTURE_FRAMES * MOST_CHANNELS * 4)
        self._control_memory: SharedMemory | None = None
        self._control: Control | None = None
        self._plan = PoolPlan()
        self._clicks = tuple(self._put(sound) for sound in click_sounds(sample_rate))
        self._sounds: dict[SoundKey, tuple[NDArray[np.float32], Place]] = {}
        self._original: tuple[NDArray[np.float32], Place] | None = None
        self._events: Place | None = None
        self._event_count = 0
        self._serial = 0
        self._balance = (1.0, 0.0)
        self._click = False
        self._looping = True
        self._span = (0.0, 1.0)
        self._beat_frames = 1.0
        self._hit_frames = np.zeros(0, np.int64)
        self._total_frames = 0
        self._tick_frames = 0.0
        self._playing = False
        self._beat = (0, 0.0)
        self._started_at = 0.0
        self._restarts = 0
        self._again_at = 0.0
        self._last_position = 0
        self._shut = False

    def start(self) -> None:
        """Start the audio process; it is ready a moment later, see `state`."""
        self._control_memory = SharedMemory.make("bompla-control", CONTROL_BYTES)
        self._control = Control(self._control_memory)
        descriptors = (self._control_memory.descriptor, self._pool.descriptor, self._capture_memory.descriptor)
        arguments = [*map(str, descriptors), str(self.sample_rate), str(self.chosen.block_frames), self.chosen.device,
                     self.chosen.midi_input, str(self.chosen.channels), self.chosen.midi_output, str(self.chosen.midi_channel)]
        environment = dict(os.environ, OMP_NUM_THREADS="1", OPENBLAS_NUM_THREADS="1")
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-P", "-m", "bompla.engine.child", *arguments],
                stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                pass_fds=descriptors, env=environment,
            )
        except OSError as error:
            raise EngineError("The sound engine could not be started; there will be no sound.") from error
        self._beat = (0, time.monotonic())
        self._started_at = time.monotonic()
        self._send(Op.TOUCH, x=self._touch)

    def close(self) -> None:
        """End the audio process."""
        process, self._process = self._process, None
        if process is not None:
            with contextlib.suppress(OSError):
                if process.stdin is not None:
                    process.stdin.close()
            try:
                process.wait(2.0)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        if self._control_memory is not None:
            self._control_memory.close()
            self._control_memory = None

    def shut(self) -> None:
        """End the audio process and let go of all memory; the engine cannot be started again."""
        self.close()
        if not self._shut:
            self._shut = True
            self._pool.close()
            self._capture_memory.close()

    @property
    def process_id(self) -> int:
        """The audio process, 0 where none runs."""
        return self._process.pid if self._process else 0

    @property
    def state(self) -> EngineState:
        """What the audio process last said."""
        if self._control is None:
            return EngineState(False, DeviceKind.NONE, "", "", self.sample_rate, 0, 2, 0.0, False, 0, 0, 0.0, 0, 0.0, 0, 0)
        s = self._control.state[0].copy()
        for _ in range(STATE_TRIES):  # a record of one block, not half of the next
            if s["told"] % 2 == 0 and s["told"] == self._control.state[0]["told"]:
                break
            s = self._control.state[0].copy()
        return EngineState(
            ready=bool(s["ready"]),
            kind=DeviceKind(int(s["kind"])),
            device=bytes(s["device"]).decode(errors="replace"),
            message=bytes(s["message"]).decode(errors="replace"),
            sample_rate=int(s["sample_rate"]) or self.sample_rate,
            block_frames=int(s["block_frames"]),
            channels=int(s["channels"]),
            latency_s=float(s["latency_s"]),
            playing=bool(s["playing"]),
            position=max(int(s["position"]), round(self._span[0] * self._total_frames)),  # a turn begins a little ahead of its first bar
            voices=int(s["voices"]),
            peak=float(s["peak"]),
            underruns=int(s["underruns"]),
            worst_s=float(s["worst_s"]),
            rendered_frames=int(s["rendered_frames"]),
            last_note=int(s["last_note"]),
        )

    def watch(self) -> str:
        """Bring the audio process back if it has died or stands still; return a sentence if so.

        To be called a few times a second.
        """
        now = time.monotonic()
        if self._process is None and 0.0 < self._again_at <= now:
            return self._restart()
        if self._process is None or self._control is None:
            return ""
        rendered = int(self._control.state["rendered_frames"][0])
        if rendered != self._beat[0]:
            self._beat = (rendered, now)
            self._last_position = int(self._control.state["position"][0])
            if now - self._started_at > 10.0:
                self._restarts = 0
        dead = self._process.poll() is not None
        patience = STALE_S if self.state.ready else START_S
        if not dead and now - self._beat[1] < patience:
            self._settle()
            return ""
        return self._restart()

    def _restart(self) -> str:
        if self._process is not None:
            self._process.kill()
        self.close()
        self._restarts += self._again_at == 0.0  # a start after a wait is no new failure
        if self._restarts > MAX_RESTARTS and self._again_at == 0.0:
            wait_s = min(LONGEST_WAIT_S, FIRST_WAIT_S * 2 ** (self._restarts - MAX_RESTARTS - 1))
            self._again_at = time.monotonic() + wait_s
            return f"The sound engine keeps stopping; it is tried again in {wait_s:.0f} s. Another output device may help."
        self._again_at = 0.0
        self.start()
        self._send_all()
        return "The sound engine stopped and was started again."

    def _send_all(self) -> None:
        position = self._last_position
        self._send(Op.LOOPING, flag=int(self._looping))
        self._send(Op.CLICK, flag=int(self._click))
        self._send(Op.BALANCE, x=self._balance[0], y=self._balance[1])
        if self._original is not None and self._events is not None:
            place = self._original[1]
            self._send(Op.ORIGINAL, offset=place.offset, length=place.length)
            self._send_span()
            self._send(Op.EVENTS, offset=self._events.offset, length=self._event_count)
            self._send_tick()
            self._send(Op.SEEK, offset=position)
        if self._zones is not None:
            self._send(Op.ZONES, offset=self._zones.offset, length=self._zone_count)
        self._send_colour()
        if self._playing:
            self._send(Op.PLAY)

    def show(self, baked: Baked) -> None:
        """Play this loop from the next block on; what is sounding rings out."""
        gone = [self._sounds.pop(key) for key in list(self._sounds) if self._changed(key, baked)]
        for key, sound in baked.sounds.items():
            if key not in self._sounds:
                self._sounds[key] = (sound, self._put(sound))
        old_original, old_events = self._original, self._events
        if old_original is None or old_original[0] is not baked.original:
            self._original = (baked.original, self._put(baked.original))
        original = self._original
        assert original is not None
        places = {key: place for key, (_, place) in self._sounds.items()}
        events = event_list(baked, places, (self._clicks[0], self._clicks[1]))
        self._events = self._put_bytes(events.tobytes())
        self._event_count = len(events)
        self._hit_frames = np.sort(events["at_frame"][events["bus"] != Bus.CLICK])
        if original is not old_original:
            self._send(Op.ORIGINAL, offset=original[1].offset, length=original[1].length)
        self._total_frames, self._beat_frames = baked.total_frames, baked.total_frames / max(1, baked.beats)
        self._send_span()
        if (tick_frames := baked.total_frames / max(1, baked.beats) / CLOCKS_PER_BEAT) != self._tick_frames:
            self._tick_frames = tick_frames
            self._send_tick()
        self._send(Op.EVENTS, offset=self._events.offset, length=self._event_count)
        self.set_colour(baked.colour)
        for _, place in gone:
            self._give_back(place)
        if old_events is not None:
            self._give_back(old_events)
        if old_original is not None and old_original is not original:
            self._give_back(old_original[1])

    def use(self, choice: SoundChoice) -> None:
        """Play to another device, in other blocks, or to and from other MIDI ports: the audio process is started again."""
        self.chosen = choice
        position = self.state.position
        self.close()
        self._restarts, self._again_at = 0, 0.0
        self._last_position = position
        self.start()
        self._send_all()

    def set_zones(self, zones: Iterable[PlayedNote]) -> None:
        """Tell what MIDI notes play; notes whose sound is not there yet are left out."""
        rows = []
        for zone in zones:
            known = self._sounds.get(zone.sound)
            if known is not None:
                sends = sends_of(zone.room, zone.echo, kick=zone.kick, output=zone.output)
                rows.append((zone.note, zone.up_to, zone.pad % PADS_END, zone.choke, 0, known[1].length, zone.velocity, known[1].offset,
                             zone.gain, sends, zone.release_frames, zone.pitch))
        made = np.array(rows, dtype=ZONE)
        old = self._zones
        self._zones = self._put_bytes(made.tobytes() or bytes(8))
        self._zone_count = len(rows)
        self._send(Op.ZONES, offset=self._zones.offset, length=self._zone_count)
        if old is not None:
            self._give_back(old)

    def set_colour(self, wanted: Mapping[str, object]) -> None:
        """Colour the kit from the next block on; `wanted` is what `Rack.set` takes."""
        content = json.dumps(wanted).encode()
        if content == self._colour:
            return
        self._colour = content
        self._send_colour()

    def _send_colour(self) -> None:
        if self._colour:
            place = self._put_bytes(self._colour)
            self._send(Op.COLOUR, offset=place.offset, length=len(self._colour))
            self._give_back(place)

    def set_touch(self, exponent: float) -> None:
        """Choose how MIDI velocities are taken: 1 as they come, less for a light hand, more for a heavy one, 0 all hard."""
        self._touch = exponent
        self._send(Op.TOUCH, x=exponent)

    def let_go(self, pad: int) -> None:
        """Let the sounds of a pad that are held end."""
        self._send(Op.LET_GO, pad=pad)

    def midi(self, content: bytes, at_frame: int = 0) -> None:
        """Play MIDI bytes as if they came from a port, at once or at a frame of the engine's count."""
        for start in range(0, len(content), 8):
            part = content[start : start + 8]
            self._send(Op.MIDI, offset=int.from_bytes(part.ljust(8, b"\0"), "little", signed=True), length=len(part), x=float(at_frame))

    def left(self) -> list[tuple[float, bytes]]:
        """Return the MIDI messages that left since the last call, each with when, on the clock of `time.perf_counter`."""
        return self._control.read_left() if self._control is not None else []

    def played(self) -> list[tuple[int, int, int, int, int, int]]:
        """Return the pads struck since the last call, as (frame, position, pad, velocity, playing, pitch)."""
        return self._control.read_played() if self._control is not None else []

    def play(self, delay_frames: int = 0) -> None:
        """Play from where it stands, so many frames from now."""
        self._playing = True
        self._send(Op.PLAY, offset=delay_frames)

    def stop(self) -> None:
        """Stop where it stands."""
        self._playing = False
        self._send(Op.STOP)

    def seek(self, frame: int) -> None:
        """Go to a frame of the loop."""
        self._last_position = frame
        self._send(Op.SEEK, offset=frame)

    def set_span(self, start_share: float, end_share: float) -> None:
        """Play only a part of the loop, from one share of its length to another.

        Hits that are a little ahead of where it starts belong to it, and those ahead of where it ends do not: it is moved by as much.
        """
        self._span = (max(0.0, start_share), min(1.0, end_share))
        self._send_span()

    def _send_span(self) -> None:
        if self._original is not None:
            length = self._total_frames
            start, end = round(self._span[0] * length), round(self._span[1] * length)
            span = span_of(self._hit_frames, start, end, length, within=round(AHEAD_BEATS * self._beat_frames))
            self._send(Op.SPAN, offset=span.start, length=span.length, x=float(span.not_struck))

    def _send_tick(self) -> None:
        """Say how long a 24th of a beat is, where that is to be told to others."""
        self._send(Op.TICK, x=self._tick_frames if self.chosen.midi_output and self.chosen.midi_clock else 0.0)

    def set_looping(self, looping: bool) -> None:
        """Choose whether the loop begins again at its end."""
        self._looping = looping
        self._send(Op.LOOPING, flag=int(looping))

    def set_click(self, on: bool) -> None:
        """Choose whether the beats are clicked."""
        self._click = on
        self._send(Op.CLICK, flag=int(on))

    def set_balance(self, original: float, rebuilt: float) -> None:
        """Set the gains of original and rebuilt."""
        self._balance = (original, rebuilt)
        self._send(Op.BALANCE, x=original, y=rebuilt)

    def strike(
        self, key: SoundKey, *, pad: int, choke: int, gain: float, velocity: int = 100, sends: int = 0, release: int = 0,
        told: bool = True,
    ) -> bool:
        """Play one pad sound at once; False where the engine does not have it yet. One that is not `told` is not kept as played."""
        known = self._sounds.get(key)
        if known is None:
            return False
        self._send(Op.STRIKE, offset=known[1].offset, length=known[1].length, pad=pad, choke=choke, x=gain, flag=velocity if told else 0,
                   y=release, sends=sends)
        return True

    def audition(self, start_frame: int, frames: int) -> None:
        """Play a stretch of the original at once, beside whatever plays."""
        if self._original is None:
            return
        place = self._original[1]
        start = max(0, min(start_frame, place.length))
        length = max(0, min(frames, place.length - start))
        self._send(Op.STRIKE, offset=place.offset + start, length=length, pad=SLICE_PAD, choke=0, x=1.0)

    def preview(self, sound: NDArray[np.float32]) -> None:
        """Play a sound of shape (frames, 2) at the engine's rate at once; a preview before it ends."""
        place = self._put(sound)
        self._send(Op.STRIKE, offset=place.offset, length=len(sound), pad=PREVIEW_PAD, choke=0, x=1.0)
        self._give_back(place)

    def stop_preview(self) -> None:
        """End the preview."""
        self._send(Op.STRIKE, offset=0, length=0, pad=PREVIEW_PAD, choke=0, x=0.0)

    def silence(self) -> None:
        """Fade out everything that sounds."""
        self._send(Op.SILENCE)

    def captured(self, *, since_frame: int, pair: int = 0) -> NDArray[np.float32]:
        """Return what the simulated device has played to a pair of outputs from a rendered frame on, shape (frames, 2)."""
        return Capture(self._capture_memory).read(since_frame, self.state.rendered_frames, pair)

    def _changed(self, key: SoundKey, baked: Baked) -> bool:
        return key not in baked.sounds or baked.sounds[key] is not self._sounds[key][0]

    def _put_bytes(self, content: bytes) -> Place:
        padded = content.ljust(-(-len(content) // 8) * 8, b"\0")
        return self._put(np.frombuffer(padded, "<f4").reshape(-1, 2))

    def _put(self, sound: NDArray[np.float32]) -> Place:
        place = self._plan.take(len(sound))
        self._pool_frames[place.offset : place.offset + len(sound)] = sound
        return place

    def _give_back(self, place: Place) -> None:
        """A voice may still sound from it, so it rests for its own length and a little more."""
        rendered = int(self._control.state["rendered_frames"][0]) if self._control is not None else 0
        self._plan.give_back(place, serial=self._serial, at_frame=rendered + place.length + self.sample_rate)
        self._settle()

    def _settle(self) -> None:
        if self._process is None:  # nobody plays from it any more
            self._plan.settle(served=self._serial, rendered=1 << 62)
        elif self._control is not None:
            state = self._control.state
            self._plan.settle(served=int(state["served"][0]), rendered=int(state["rendered_frames"][0]))

    def _send(self, op: Op, *, pad: int = -1, choke: int = 0, flag: int = 0, offset: int = 0, length: int = 0,
              x: float = 0.0, y: float = 0.0, sends: int = 0) -> None:
        if self._control is None:
            return
        self._serial += 1
        self._control.send(
            command(op, serial=self._serial, pad=pad, choke=choke, flag=flag, offset=offset, length=length, x=x, y=y,
                    sends=sends)
        )
