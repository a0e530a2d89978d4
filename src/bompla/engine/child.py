"""The audio process: `python -m bompla.engine.child CONTROL POOL CAPTURE RATE BLOCK DEVICE MIDI CHANNELS MIDI_OUT MIDI_CHANNEL`.

It imports NumPy and, if it is to play aloud, sounddevice; no Qt and no SciPy. It ends when its
standard input closes, which happens when the window's process ends, however that came about.
"""

from __future__ import annotations

import contextlib
import gc
import json
import os
import sys
import time

import numpy as np
from numpy.typing import NDArray

from bompla.engine.ceiling import Ceiling
from bompla.engine.colour import Rack
from bompla.engine.devices import SIMULATED_NAME, SimulatedDevice, SystemDevice
from bompla.engine.layout import POOL_FRAMES, Capture, Control, SharedMemory
from bompla.engine.midi_out import NOTE_ON, SIMULATED_PORT, STOP, OutPort, Sender, output_names
from bompla.engine.midi_port import MidiPort, port_names
from bompla.engine.mixer import MixerState, apply, play_midi, render
from bompla.engine.voices import MAX_BLOCK_FRAMES
from bompla.errors import EngineError

LOST_S, EVENED = 0.05, 0.05
"""A block this far from where it was expected starts the count of time afresh; otherwise it moves it by such a share."""


class Player:
    """Fills blocks for a device: commands first, then sound, then what the window may know."""

    def __init__(self, control: Control, pool: NDArray[np.float32], capture: Capture, channels: int) -> None:
        self._control = control
        self._capture = capture
        self.keeps = False
        """Whether what is played is kept for who listens in: of the simulated device, it is."""
        self._state = MixerState(pool, pairs=channels // 2)
        self._ceiling = Ceiling(48_000)
        self._rendered = 0
        self._rate, self._last_began = 48_000, 0.0
        self.port: MidiPort | None = None
        self.sender: Sender | None = None
        self.midi_channel = 9
        self.latency_s = 0.0
        self._origin_s: float | None = None
        self._status = control.state

    def prepare(self, sample_rate: int) -> str:
        """Build what colours the kit, before anything sounds; return a sentence where that cannot be."""
        self._rate = sample_rate
        self._ceiling = Ceiling(sample_rate)
        try:
            self._state.pattern.rack, self._state.live.rack = Rack(sample_rate), Rack(sample_rate)
        except ImportError as error:
            return f"The kit cannot be coloured here ({error})."
        return ""

    def play_to(self, channels: int) -> None:
        """Play to so many channels, where a device has fewer than were asked for."""
        if channels != 2 * self._state.pairs:
            self._state.set_pairs(channels // 2)

    def begin(self) -> None:
        """Count frames from here on: what was rendered before was to warm up, and no device plays it."""
        self._rendered = self._state.clock = 0
        self._origin_s = None

    def fill(self, out: NDArray[np.float32]) -> None:
        """Fill a block of any length."""
        began = time.perf_counter()
        commands = self._control.receive()
        if commands is not None:
            for record in commands:
                apply(self._state, record)
        if self.port is not None:
            for came, message in self.port.read():
                # As far into this block as it came into the last: always as late, by a block, and even.
                wait = min(len(out) - 1, max(0, round((came - self._last_began) * self._rate)))
                play_midi(self._state, message, wait)
        self._last_began = began
        if self._state.played:
            self._control.tell_played([(self._rendered, *strike) for strike in self._state.played])
            self._state.played.clear()
        peak = 0.0
        for start in range(0, len(out), MAX_BLOCK_FRAMES):
            part = out[start : start + MAX_BLOCK_FRAMES]
            part[:] = render(self._state, len(part))
            peak = max(peak, self._ceiling.apply(part))
            if self._state.leaving:
                self._send_leaving(began, start)
        if self.sender is not None and not self._state.playing:
            self._heard_at(began)
        if self.keeps:
            self._capture.write(self._rendered, out)
        self._rendered += len(out)
        status = self._status
        status["told"] += 1
        status["position"] = self._state.position
        status["playing"] = self._state.playing
        status["voices"] = len(self._state.voices)
        status["peak"] = max(peak, float(status["peak"][0]) * 0.9)
        status["last_note"] = self._state.last_note
        status["served"] = self._state.served
        status["worst_s"] = max(float(status["worst_s"][0]), time.perf_counter() - began)
        status["rendered_frames"] = self._rendered
        status["told"] += 1

    def _heard_at(self, began: float) -> float:
        """Return when the first frame of this block is heard, evened over the blocks that a device asks for in bursts."""
        origin = began - self._rendered / self._rate
        if self._origin_s is None or abs(origin - self._origin_s) > LOST_S:
            self._origin_s = origin
        self._origin_s += (origin - self._origin_s) * EVENED
        return self._origin_s + self._rendered / self._rate + self.latency_s

    def _send_leaving(self, began: float, start: int) -> None:
        """Have what leaves as MIDI, in the part of this block from `start` on, sent at the moment at which its sound is heard."""
        heard = self._heard_at(began)
        leaving, sender = self._state.leaving, self.sender
        if sender is not None:
            for wait, message, length in leaving:
                when = heard + (start + wait) / self._rate
                if message[0] == NOTE_ON:
                    sender.note(when, self.midi_channel, message[1], message[2], length / self._rate)
                else:
                    if message[0] == STOP:
                        sender.release(when)
                    if self._state.tick_frames > 0.0:
                        sender.at(when, message)
        leaving.clear()

    def count_underrun(self) -> None:
        """Count a block that came too late."""
        self._status["underruns"] += 1


def open_device(
    player: Player, *, sample_rate: int, block_frames: int, name: str, channels: int
) -> tuple[SystemDevice | SimulatedDevice, str]:
    """Return the device that plays, and a sentence where it is not the one asked for."""
    message = ""
    if name != SIMULATED_NAME:
        try:
            device = SystemDevice(player.fill, sample_rate=sample_rate, block_frames=block_frames, name=name,
                                  channels=channels, on_channels=player.play_to, on_underrun=player.count_underrun)
        except EngineError as error:
            message = f"No sound device can be used ({error}); the simulated device plays instead."
        else:
            few = f"{device.name} has no {channels} outputs; every pad goes out at 1–2." if device.channels < channels else ""
            return device, few
    player.keeps = True
    return SimulatedDevice(player.fill, sample_rate=sample_rate, block_frames=block_frames, channels=channels), message


def _open_port(player: Player, name: str) -> str:
    """Open a MIDI input, and return a sentence where that cannot be done."""
    if not name:
        return ""
    try:
        player.port = MidiPort(name)
    except OSError as error:
        return f"No MIDI input can be used ({error}); the practice pads, keys and mouse still play."
    return ""


def _open_output(player: Player, control: Control, name: str) -> str:
    """Open a MIDI output, and return a sentence where that cannot be done."""
    if not name:
        return ""
    try:
        send = (lambda _message: None) if name == SIMULATED_PORT else OutPort(name).send
    except OSError as error:
        return f"No MIDI output can be used ({error}); choose another in the settings."
    player.sender = Sender(send, control.tell_left)
    return ""


def list_devices() -> None:
    """Print what can be played to and from, as JSON: `--list`."""
    found: dict[str, list[str]] = {"outputs": [], "inputs": port_names(), "midi_outputs": output_names()}
    with contextlib.suppress(Exception):
        import sounddevice

        found["outputs"] = [str(d["name"]) for d in sounddevice.query_devices() if d["max_output_channels"] >= 2]
    sys.stdout.write(json.dumps(found) + "\n")


def main(arguments: list[str]) -> None:
    """Play until standard input closes."""
    control_fd, pool_fd, capture_fd, sample_rate, block_frames = (int(text) for text in arguments[:5])
    control = Control(SharedMemory.attach(control_fd))
    pool_memory = SharedMemory.attach(pool_fd)
    pool: NDArray[np.float32] = np.frombuffer(pool_memory.memory, "<f4", POOL_FRAMES * 2).reshape(POOL_FRAMES, 2)
    with contextlib.suppress(OSError, AttributeError):
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
    channels = int(arguments[7]) if len(arguments) > 7 else 2
    player = Player(control, pool, Capture(SharedMemory.attach(capture_fd)), channels)
    message = player.prepare(sample_rate)
    midi_message = _open_port(player, arguments[6] if len(arguments) > 6 else "")
    if len(arguments) > 9:
        player.midi_channel = int(arguments[9]) - 1
        midi_message = f"{midi_message} {_open_output(player, control, arguments[8])}".strip()
    player.fill(np.zeros((block_frames, channels), np.float32))
    player.begin()
    gc.collect()
    gc.disable()
    device, device_message = open_device(player, sample_rate=sample_rate, block_frames=block_frames, name=arguments[5],
                                         channels=channels)
    message = f"{message} {device_message} {midi_message}".strip()
    player.latency_s = device.latency_s
    status = control.state
    status["kind"], status["sample_rate"], status["block_frames"] = int(device.kind), sample_rate, block_frames
    status["latency_s"], status["channels"] = device.latency_s, device.channels
    status["device"], status["message"] = device.name.encode()[:95], message.encode()[:279]
    status["worst_s"] = 0.0
    status["ready"] = 1
    with contextlib.suppress(KeyboardInterrupt):
        while sys.stdin.buffer.read(4096):
            pass
    device.close()
    if player.sender is not None:
        player.sender.close()


if __name__ == "__main__":
    if sys.argv[1:] == ["--list"]:
        list_devices()
    else:
        main(sys.argv[1:])
