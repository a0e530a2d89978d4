"""MIDI input: bytes to notes, and the ports they come from. The practice pads send through the same parser."""

from __future__ import annotations

import contextlib
import os
import time
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

NOTE_OFF, NOTE_ON, KEY_PRESSURE, CHANNEL_PRESSURE = 0x80, 0x90, 0xA0, 0xD0
EVERY_NOTE = -1
_DATA_BYTES = {0x80: 2, 0x90: 2, 0xA0: 2, 0xB0: 2, 0xC0: 1, 0xD0: 1, 0xE0: 2, 0xF1: 1, 0xF2: 2, 0xF3: 1}
_SYSEX, _SYSEX_END, _REAL_TIME = 0xF0, 0xF7, 0xF8


@dataclass
class MidiParser:
    """Turns a stream of MIDI bytes, cut anywhere, into notes (MIDI 1.0: running status, real-time bytes, exclusive messages).

    `pressures` are what was pressed meanwhile, as (note, pressure), `EVERY_NOTE` for the whole channel; who reads them clears them.
    """

    _status: int = 0
    _data: list[int] = field(default_factory=list)
    pressures: list[tuple[int, int]] = field(default_factory=list)

    def feed(self, content: bytes) -> list[tuple[int, int]]:
        """Take bytes; return the notes struck in them as (note, velocity), velocity 0 for one let go."""
        notes = []
        for byte in content:
            if byte >= _REAL_TIME:
                continue
            if byte & 0x80:
                self._status, self._data = (0 if byte == _SYSEX_END else byte), []
                continue
            if self._status in (0, _SYSEX):
                continue
            self._data.append(byte)
            kind = self._status if self._status >= 0xF0 else self._status & 0xF0
            if len(self._data) >= _DATA_BYTES.get(kind, 1):
                data, self._data = self._data, []
                if kind == NOTE_ON:
                    notes.append((data[0], data[1]))
                elif kind == NOTE_OFF:
                    notes.append((data[0], 0))
                elif kind == KEY_PRESSURE:
                    self.pressures.append((data[0], data[1]))
                elif kind == CHANNEL_PRESSURE:
                    self.pressures.append((EVERY_NOTE, data[0]))
                if self._status >= 0xF0:
                    self._status = 0
        return notes


class MidiPort:
    """A MIDI input of the system, read without waiting."""

    def __init__(self, name: str) -> None:
        """Open the port called `name`; raises OSError where there is none, or MIDI cannot be used here."""
        self._came: deque[tuple[float, bytes]] = deque()
        for made in _inputs():
            index = next((n for n, known in enumerate(made.get_ports()) if known == name), None)
            if index is not None:
                try:
                    made.open_port(index)
                    made.set_callback(self._take)
                except Exception as error:
                    raise OSError(f"the MIDI input {name} cannot be opened") from error
                self._port: Any = made
                break
        else:
            raise OSError(f"there is no MIDI input called {name}")
        self.name = name

    def _take(self, event: tuple[list[int], float], _data: object = None) -> None:
        self._came.append((time.perf_counter(), bytes(event[0])))

    def read(self) -> list[tuple[float, bytes]]:
        """Return the messages that have come since, at once, each with when it came on the clock of `time.perf_counter`."""
        messages = []
        while self._came:
            messages.append(self._came.popleft())
        return messages

    def close(self) -> None:
        """Close the port."""
        with contextlib.suppress(Exception):
            self._port.close_port()


def port_names() -> list[str]:
    """Return the names of the MIDI inputs there are, none where MIDI cannot be used."""
    return [str(name) for made in _inputs() for name in made.get_ports()]


def _inputs() -> Iterator[Any]:
    """Yield an input for each of the system's ways to MIDI that works: its sequencer, and JACK where that runs."""
    os.environ.setdefault("JACK_NO_START_SERVER", "1")
    try:
        import rtmidi
    except ImportError:
        return
    for api in rtmidi.get_compiled_api():
        try:
            yield rtmidi.MidiIn(api, name="Bompla")
        except Exception:  # noqa: BLE001, S112  # the library raises several kinds where the system has no sequencer
            continue
