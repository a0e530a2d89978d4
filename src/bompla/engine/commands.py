"""What the window asks of the mixer: one table of commands with the fields of each, one packer, one reader."""

from __future__ import annotations

from enum import IntEnum

import numpy as np
from numpy.typing import NDArray


class Op(IntEnum):
    """What a command asks of the mixer."""

    PLAY = 1
    STOP = 2
    SEEK = 3
    LOOPING = 4
    SPAN = 5
    ORIGINAL = 6
    EVENTS = 7
    BALANCE = 8
    CLICK = 9
    STRIKE = 10
    ZONES = 11
    MIDI = 12
    COLOUR = 13
    LET_GO = 14
    TOUCH = 15
    TICK = 16


_PLACE: list[tuple[str, str]] = [("offset", "<i8"), ("length", "<i8")]
_LIST: list[tuple[str, str]] = [("offset", "<i8"), ("count", "<i8")]

_TABLE: dict[Op, list[tuple[str, str]]] = {
    Op.PLAY: [("delay", "<i8")],
    Op.STOP: [],
    Op.SEEK: [("frame", "<i8")],
    Op.LOOPING: [("on", "<i4")],
    Op.SPAN: [("start", "<i8"), ("length", "<i8"), ("not_struck", "<i8")],
    Op.ORIGINAL: _PLACE,
    Op.EVENTS: _LIST,
    Op.BALANCE: [("original", "<f8"), ("rebuilt", "<f8")],
    Op.CLICK: [("on", "<i4")],
    Op.STRIKE: [*_PLACE, ("pad", "<i8"), ("choke", "<i4"), ("velocity", "<i4"), ("gain", "<f4"), ("release", "<i4"), ("sends", "<u4")],
    Op.ZONES: _LIST,
    Op.MIDI: [("at_frame", "<i8"), ("size", "<i4"), ("content", "<u8")],
    Op.COLOUR: _PLACE,
    Op.LET_GO: [("pad", "<i8")],
    Op.TOUCH: [("exponent", "<f8")],
    Op.TICK: [("frames", "<f8")],
}
FIELDS: dict[Op, np.dtype[np.void]] = {op: np.dtype(fields) for op, fields in _TABLE.items()}
"""The fields of each command. Places, lengths and delays are in frames of the pool or of what plays, gains linear; `not_struck` are the
last frames of a span in which nothing is struck; of MIDI bytes so many count."""

PAYLOAD_BYTES = 48
COMMAND = np.dtype([("serial", "<u8"), ("op", "<u4"), ("spare", "<u4"), ("payload", "u1", PAYLOAD_BYTES)])
"""A command, 64 bytes, whatever it asks."""

assert all(fields.itemsize <= PAYLOAD_BYTES for fields in FIELDS.values())


def command(op: Op, *, serial: int = 0, **values: float | bytes) -> NDArray[np.void]:
    """Return one command record; a field that is not named is 0. Raises ValueError for a field that the command does not have."""
    record = np.zeros(1, COMMAND)
    record["serial"], record["op"] = serial, int(op)
    fields = FIELDS[op]
    if values:
        payload = record["payload"][0][: fields.itemsize].view(fields)
        for name, value in values.items():
            payload[name] = int.from_bytes(value, "little") if isinstance(value, bytes) else value
    made: NDArray[np.void] = record[0]
    return made


def values_of(record: NDArray[np.void]) -> NDArray[np.void]:
    """Return the values of a command by field."""
    fields = FIELDS[Op(int(record["op"]))]
    read: NDArray[np.void] = np.frombuffer(record["payload"].tobytes(), fields, 1)[0] if fields.itemsize else np.zeros(1, fields)[0]
    return read
