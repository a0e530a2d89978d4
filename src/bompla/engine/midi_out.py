"""MIDI output: messages that leave at their time, to a port of the system or to one that only keeps them."""

from __future__ import annotations

import contextlib
import heapq
import os
import threading
import time
from collections.abc import Callable, Iterator
from typing import Any

SIMULATED_PORT = "simulated MIDI output"
START, CONTINUE, STOP, CLOCK, SONG_POSITION = 0xFA, 0xFB, 0xFC, 0xF8, 0xF2
NOTE_ON, NOTE_OFF = 0x90, 0x80
CLOCKS_PER_BEAT = 24
CLOCKS_PER_SIXTEENTH = 6

Send = Callable[[bytes], None]
Told = Callable[[float, bytes], None]


class OutPort:
    """A MIDI output of the system."""

    def __init__(self, name: str) -> None:
        """Open the port called `name`; raises OSError where there is none, or MIDI cannot be used here."""
        for made in _outputs():
            index = next((n for n, known in enumerate(made.get_ports()) if known == name), None)
            if index is not None:
                try:
                    made.open_port(index)
                except Exception as error:
                    raise OSError(f"the MIDI output {name} cannot be opened") from error
                self._port: Any = made
                return
        raise OSError(f"there is no MIDI output called {name}")

    def send(self, message: bytes) -> None:
        """Send a message at once; one that cannot be sent is dropped."""
        with contextlib.suppress(Exception):
            self._port.send_message(list(message))

    def close(self) -> None:
        """Close the port."""
        with contextlib.suppress(Exception):
            self._port.close_port()


def output_names() -> list[str]:
    """Return the names of the MIDI outputs there are, none where MIDI cannot be used."""
    return [str(name) for made in _outputs() for name in made.get_ports()]


class Sender:
    """Sends messages when they are due, on a thread that sleeps between them.

    A note is sent with its end; whatever still sounds is ended by `release`. `told` hears of each message as it leaves, with the time on
    the clock of `time.perf_counter`.
    """

    def __init__(self, send: Send, told: Told) -> None:
        self._send, self._told = send, told
        self._due: list[tuple[float, int, bytes]] = []
        self._count = 0
        self._sounding: dict[tuple[int, int], int] = {}
        self._changed = threading.Condition()
        self._ended = False
        self._thread = threading.Thread(target=self._run, name="midi-out", daemon=True)
        self._thread.start()

    def at(self, when_s: float, message: bytes) -> None:
        """Send a message at a time of `time.perf_counter`; of equal times the first to come goes first."""
        with self._changed:
            self._count += 1
            heapq.heappush(self._due, (when_s, self._count, message))
            self._changed.notify()

    def note(self, when_s: float, channel: int, note: int, velocity: int, length_s: float) -> None:
        """Send a note and its end; `channel` from 0 to 15."""
        self.at(when_s, bytes((NOTE_ON | channel, note, velocity)))
        self.at(when_s + length_s, bytes((NOTE_OFF | channel, note, 0)))

    def release(self, when_s: float) -> None:
        """Drop the notes that are still to come, and end those that sound, at a time."""
        with self._changed:
            self._due = [entry for entry in self._due if entry[2][0] & 0xF0 not in (NOTE_ON, NOTE_OFF)]
            for (channel, note), count in self._sounding.items():
                for _ in range(count):
                    self._count += 1
                    self._due.append((when_s, self._count, bytes((NOTE_OFF | channel, note, 0))))
            heapq.heapify(self._due)
            self._changed.notify()

    def close(self) -> None:
        """End what sounds, and the thread."""
        with self._changed:
            self._ended = True
            self._changed.notify()
        self._thread.join(1.0)
        for (channel, note), count in self._sounding.items():
            for _ in range(count):
                self._send(bytes((NOTE_OFF | channel, note, 0)))

    def _run(self) -> None:
        while True:
            with self._changed:
                if self._ended:
                    return
                now = time.perf_counter()
                if not self._due or self._due[0][0] > now:
                    self._changed.wait(self._due[0][0] - now if self._due else None)
                    continue
                message = heapq.heappop(self._due)[2]
                self._keep(message)
            self._send(message)
            self._told(time.perf_counter(), message)

    def _keep(self, message: bytes) -> None:
        kind, channel = message[0] & 0xF0, message[0] & 0x0F
        if kind == NOTE_ON:
            self._sounding[channel, message[1]] = self._sounding.get((channel, message[1]), 0) + 1
        elif kind == NOTE_OFF and (channel, message[1]) in self._sounding:
            left = self._sounding.pop((channel, message[1])) - 1
            if left > 0:
                self._sounding[channel, message[1]] = left


def _outputs() -> Iterator[Any]:
    """Yield an output for each of the system's ways to MIDI that works."""
    os.environ.setdefault("JACK_NO_START_SERVER", "1")
    try:
        import rtmidi
    except ImportError:
        return
    for api in rtmidi.get_compiled_api():
        try:
            yield rtmidi.MidiOut(api, name="Bompla")
        except Exception:  # noqa: BLE001, S112  # the library raises several kinds where the system has no sequencer
            continue
