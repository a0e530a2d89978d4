"""The window's side of the engine: what plays as a value, its sounds in the pool, and the audio process that plays it."""

from __future__ import annotations

import json
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bompla.engine.bounce import click_sounds, event_list
from bompla.engine.choice import SoundChoice
from bompla.engine.commands import Op
from bompla.engine.layout import CAPTURE_FRAMES, MOST_CHANNELS, PREVIEW_PAD, SLICE_PAD, ZONE, Bus, DeviceKind, SharedMemory, sends_of
from bompla.engine.midi_out import CLOCKS_PER_BEAT
from bompla.engine.playing import Listed, Playing
from bompla.engine.pool import Place, Pool
from bompla.engine.process import AudioProcess, Played
from bompla.engine.span import AHEAD_BEATS, Span, span_of
from bompla.render.events import AnyKey, Baked, PlayedNote, SoundKey

STALE_S = 1.0
STATE_TRIES = 20
START_S = 15.0
MAX_RESTARTS = 3
FIRST_WAIT_S, LONGEST_WAIT_S = 5.0, 120.0
"""After so many starts in a row it waits before the next, each time twice as long."""


@dataclass(frozen=True)
class EngineState:
    """What the audio process last said of itself; frames are counted over all processes of this engine."""

    ready: bool = False
    kind: DeviceKind = DeviceKind.NONE
    device: str = ""
    message: str = ""
    sample_rate: int = 48_000
    block_frames: int = 0
    channels: int = 2
    latency_s: float = 0.0
    playing: bool = False
    position: int = 0
    voices: int = 0
    peak: float = 0.0
    underruns: int = 0
    worst_s: float = 0.0
    rendered_frames: int = 0
    last_note: int = 0
    """The MIDI note that came in last, in the lowest seven bits, under how many there were."""


@dataclass(frozen=True, eq=False)
class _Loop:
    """The loop that plays: how long it and a beat of it are, and where its hits begin."""

    total_frames: int = 0
    beat_frames: float = 1.0
    hit_frames: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))


class Engine:
    """Plays a baked loop in a process of its own. Nothing here blocks the caller."""

    def __init__(self, choice: SoundChoice = SoundChoice(), *, sample_rate: int = 48_000) -> None:  # noqa: B008  # an immutable value
        """Prepare an engine for what was chosen; it plays to 2 channels where the device has fewer than were asked for."""
        self.sample_rate = sample_rate
        self.chosen = choice
        self.capture = SharedMemory.make("bompla-capture", CAPTURE_FRAMES * MOST_CHANNELS * 4)
        self.pool = Pool("bompla-pool")
        self.process = AudioProcess(self.pool.memory, self.capture, sample_rate)
        self._clicks = tuple(self.pool.put(sound) for sound in click_sounds(sample_rate))
        self._sounds: dict[AnyKey, tuple[NDArray[np.float32], Place]] = {}
        self._original: NDArray[np.float32] | None = None
        self._colour = b""
        self._loop = _Loop()
        self._span = (0.0, 1.0)
        self._playing = Playing()
        self._beat = (0, 0.0)
        self._started_at = 0.0
        self._restarts = 0
        self._again_at = 0.0
        self._position = 0
        self._shut = False

    def start(self) -> None:
        """Start the audio process; it is ready a moment later, see `state`. Raises EngineError where it cannot be started."""
        if self.process.start(self.chosen):
            self._begun()

    def close(self) -> None:
        """End the audio process; nothing is waited for."""
        self.process.end()

    def shut(self) -> None:
        """End the audio process and let go of all memory; the engine cannot be started again."""
        self.process.wait()
        if not self._shut:
            self._shut = True
            self.pool.close()
            self.capture.close()

    @property
    def state(self) -> EngineState:
        """What the audio process last said; nothing of it is ready where none lives."""
        control = self.process.control
        if control is None or not self.process.alive:
            return EngineState(sample_rate=self.sample_rate, rendered_frames=self.process.frames_before, position=self._position)
        s = control.state[0].copy()
        for _ in range(STATE_TRIES):  # a record of one block, not half of the next
            if s["told"] % 2 == 0 and s["told"] == control.state[0]["told"]:
                break
            s = control.state[0].copy()
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
            position=max(int(s["position"]), round(self._span[0] * self._loop.total_frames)),  # a turn begins a little ahead of its bar
            voices=int(s["voices"]),
            peak=float(s["peak"]),
            underruns=int(s["underruns"]),
            worst_s=float(s["worst_s"]),
            rendered_frames=self.process.frames_before + int(s["rendered_frames"]),
            last_note=int(s["last_note"]),
        )

    def watch(self) -> str:
        """Bring the audio process back if it has died or stands still; return a sentence if so.

        To be called a few times a second.
        """
        now = time.monotonic()
        if self.process.waits:
            if self.process.start_waiting():
                self._begun()
            return ""
        self.process.reap()
        if not self.process.started and 0.0 < self._again_at <= now:
            return self._restart()
        if not self.process.started:
            return ""
        self.process.flush()
        rendered = self.process.rendered
        if rendered != self._beat[0]:
            self._beat = (rendered, now)
            self._position = self.state.position
            if now - self._started_at > 10.0:
                self._restarts = 0
        patience = STALE_S if self.state.ready else START_S
        if self.process.alive and now - self._beat[1] < patience:
            self._settle()
            return ""
        return self._restart()

    def _restart(self) -> str:
        self.process.end(kill=True)
        self._restarts += self._again_at == 0.0  # a start after a wait is no new failure
        if self._restarts > MAX_RESTARTS and self._again_at == 0.0:
            wait_s = min(LONGEST_WAIT_S, FIRST_WAIT_S * 2 ** (self._restarts - MAX_RESTARTS - 1))
            self._again_at = time.monotonic() + wait_s
            return f"The sound engine keeps stopping; it is tried again in {wait_s:.0f} s. Another output device may help."
        self._again_at = 0.0
        self.start()
        return "The sound engine stopped and was started again."

    def _begun(self) -> None:
        """Tell a process that has just been started all that plays, and where it was."""
        self._beat = (0, time.monotonic())
        self._started_at = time.monotonic()
        for op, values in self._playing.wishes(None):
            self.process.send(op, **values)
        self.process.send(Op.SEEK, frame=self._position)
        if self._playing.playing:
            self.process.send(Op.PLAY)

    def _use(self, **what: Any) -> None:
        """Let something else play from the next block on; what is not named stays."""
        before, self._playing = self._playing, replace(self._playing, **what)
        for op, values in self._playing.wishes(before):
            self.process.send(op, **values)

    def show(self, baked: Baked) -> None:
        """Play this loop from the next block on; what is sounding rings out."""
        gone = [self._sounds.pop(key)[1] for key in list(self._sounds) if baked.sounds.get(key) is not self._sounds[key][0]]
        for key, sound in baked.sounds.items():
            if key not in self._sounds:
                self._sounds[key] = (sound, self.pool.put(sound))
        before, original = self._playing, self._playing.original
        if self._original is not baked.original or original is None:
            self._original, original = baked.original, self.pool.put(baked.original)
        places = {key: place for key, (_, place) in self._sounds.items()}
        events = event_list(baked, places, (self._clicks[0], self._clicks[1]))
        hits = np.sort(events["at_frame"][events["bus"] != Bus.CLICK])
        self._loop = _Loop(baked.total_frames, baked.total_frames / max(1, baked.beats), hits)
        listed = Listed(self.pool.put_bytes(events.tobytes()), len(events))
        self._use(original=original, span=self._span_frames(), events=listed, tick_frames=self._tick_frames())
        self.set_colour(baked.colour)
        gone += [before.events.place] if before.events is not None else []
        gone += [before.original] if before.original is not None and before.original != original else []
        self._give_back(*gone)

    def use(self, choice: SoundChoice) -> None:
        """Play to another device, in other blocks, or to and from other MIDI ports: the audio process is started again."""
        self._position = self.state.position
        self.chosen = choice
        self.process.end()
        self._restarts, self._again_at = 0, 0.0
        self._use(tick_frames=self._tick_frames())
        self.start()

    def set_zones(self, zones: Iterable[PlayedNote]) -> None:
        """Tell what MIDI notes play; notes whose sound is not there yet are left out."""
        rows = []
        for zone in zones:
            known = self._sounds.get(zone.sound)
            if known is not None:
                sends = sends_of(zone.room, zone.echo, kick=zone.kick, output=zone.output)
                rows.append((zone.note, zone.up_to, zone.pad, zone.choke, zone.pitch, known[1].length, zone.velocity, known[1].offset,
                             zone.gain, zone.most, sends, zone.release_frames))
        old = self._playing.zones
        self._use(zones=Listed(self.pool.put_bytes(np.array(rows, dtype=ZONE).tobytes()), len(rows)))
        if old is not None:
            self._give_back(old.place)

    def set_colour(self, wanted: Mapping[str, object]) -> None:
        """Colour the kit from the next block on; `wanted` is what `Rack.set` takes."""
        content = json.dumps(wanted).encode()
        if content != self._colour:
            self._colour, old = content, self._playing.colour
            self._use(colour=Listed(self.pool.put_bytes(content), len(content)))
            if old is not None:
                self._give_back(old.place)

    def set_touch(self, exponent: float) -> None:
        """Choose how MIDI velocities are taken: 1 as they come, less for a light hand, more for a heavy one, 0 all hard."""
        self._use(touch=exponent)

    def let_go(self, pad: int) -> None:
        """Let the sounds of a pad that are held end."""
        self.process.send(Op.LET_GO, pad=pad)

    def midi(self, content: bytes, at_frame: int = 0) -> None:
        """Play MIDI bytes as if they came from a port, at once or at a frame of the engine's count."""
        for start in range(0, len(content), 8):
            part = content[start : start + 8]
            self.process.send(Op.MIDI, content=part, size=len(part), at_frame=max(0, at_frame - self.process.frames_before))

    def left(self) -> list[tuple[float, bytes]]:
        """Return the MIDI messages that left since the last call, each with when, on the clock of `time.perf_counter`."""
        return self.process.control.read_left() if self.process.control is not None else []

    def played(self) -> list[Played]:
        """Return the pads struck since the last call, as (frame, position, pad, velocity, playing, pitch)."""
        control, before = self.process.control, self.process.frames_before
        return [(frame + before, *rest) for frame, *rest in control.read_played()] if control is not None else []  # type: ignore[misc]

    def play(self, delay_frames: int = 0) -> None:
        """Play from where it stands, so many frames from now."""
        self._use(playing=True)
        self.process.send(Op.PLAY, delay=delay_frames)

    def stop(self) -> None:
        """Stop where it stands."""
        self._use(playing=False)
        self.process.send(Op.STOP)

    def seek(self, frame: int) -> None:
        """Go to a frame of the loop."""
        self._position = frame
        self.process.send(Op.SEEK, frame=frame)

    def set_span(self, start_share: float, end_share: float) -> None:
        """Play only a part of the loop, from one share of its length to another.

        Hits that are a little ahead of where it starts belong to it, and those ahead of where it ends do not: it is moved by as much.
        """
        self._span = (max(0.0, start_share), min(1.0, end_share))
        if self._playing.original is not None:
            self._use(span=self._span_frames())

    def set_looping(self, looping: bool) -> None:
        """Choose whether the loop begins again at its end."""
        self._use(looping=looping)

    def set_click(self, on: bool) -> None:
        """Choose whether the beats are clicked."""
        self._use(click=on)

    def set_balance(self, original: float, rebuilt: float) -> None:
        """Set the gains of original and rebuilt."""
        self._use(balance=(original, rebuilt))

    def strike(
        self, key: SoundKey, *, pad: int, choke: int, gain: float, velocity: int = 100, sends: int = 0, release: int = 0,
        told: bool = True,
    ) -> bool:
        """Play one pad sound at once; False where the engine does not have it yet. One that is not `told` is not kept as played."""
        known = self._sounds.get(key)
        if known is None:
            return False
        self.process.send(Op.STRIKE, offset=known[1].offset, length=known[1].length, pad=pad, choke=choke, gain=gain,
                          velocity=velocity if told else 0, release=release, sends=sends)
        return True

    def audition(self, start_frame: int, frames: int) -> None:
        """Play a stretch of the original at once, beside whatever plays."""
        place = self._playing.original
        if place is None:
            return
        start = max(0, min(start_frame, place.length))
        length = max(0, min(frames, place.length - start))
        self.process.send(Op.STRIKE, offset=place.offset + start, length=length, pad=SLICE_PAD, gain=1.0)

    def preview(self, sound: NDArray[np.float32]) -> None:
        """Play a sound of shape (frames, 2) at the engine's rate at once; a preview before it ends."""
        place = self.pool.put(sound)
        self.process.send(Op.STRIKE, offset=place.offset, length=len(sound), pad=PREVIEW_PAD, gain=1.0)
        self._give_back(place)

    def stop_preview(self) -> None:
        """End the preview."""
        self.process.send(Op.STRIKE, pad=PREVIEW_PAD)

    def _span_frames(self) -> Span:
        loop = self._loop
        start, end = (round(share * loop.total_frames) for share in self._span)
        return span_of(loop.hit_frames, start, end, loop.total_frames, within=round(AHEAD_BEATS * loop.beat_frames))

    def _tick_frames(self) -> float:
        """Return how long a 24th of a beat is, where that is to be told to others."""
        return self._loop.beat_frames / CLOCKS_PER_BEAT if self.chosen.midi_output and self.chosen.midi_clock else 0.0

    def _give_back(self, *places: Place) -> None:
        """A voice may still sound from them, so they rest for their own length and a little more."""
        serial, rendered = self.process.serial, self.process.rendered
        for place in places:
            self.pool.give_back(place, serial=serial, at_frame=rendered + place.length + self.sample_rate)
        self._settle()

    def _settle(self) -> None:
        if not self.process.started:  # nobody plays from it any more
            self.pool.settle(served=self.process.serial, rendered=1 << 62)
        else:
            self.pool.settle(served=self.process.served, rendered=self.process.rendered)
