"""SoundFont 2.04 files: one kit as one preset of the percussion bank.

As in "SoundFont technical specification, version 2.04" (E-mu Systems, 2006): RIFF `sfbk` with `INFO`, `sdta` (24 bits as `smpl` and
`sm24`) and `pdta`.
"""

from __future__ import annotations

import math
import struct
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from bompla.errors import ExportError

PERCUSSION_BANK = 128
GAP_FRAMES = 46
"""So many frames of silence follow each sample."""

MOST_FRAMES = 1 << 28
_RIGHT, _LEFT, _MONO = 2, 4, 1
_VELOCITY_TO_LEVEL, _VELOCITY_TO_FILTER = 0x0502, 0x0102


class Generator(IntEnum):
    """The parameters of a zone that are used here."""

    CUTOFF = 8
    RESONANCE = 9
    PAN = 17
    ATTACK = 34
    HOLD = 35
    DECAY = 36
    SUSTAIN = 37
    RELEASE = 38
    INSTRUMENT = 41
    KEYS = 43
    VELOCITIES = 44
    LEVEL = 48
    FIXED_VELOCITY = 47
    TUNE_SEMITONES = 51
    TUNE_CENTS = 52
    SAMPLE = 53
    EXCLUSIVE = 57
    ROOT = 58


@dataclass(frozen=True, eq=False)
class FontSample:
    """A sample: its name, and sound of shape (frames,) or (frames, 2) within -1 to 1."""

    name: str
    sound: NDArray[np.float64]


@dataclass(frozen=True)
class FontZone:
    """A zone: which sample it plays, for which notes and velocities, its root note, and further generators by number."""

    sample: int
    notes: tuple[int, int]
    velocities: tuple[int, int]
    root: int
    generators: dict[Generator, int] = field(default_factory=dict)


@dataclass(frozen=True)
class FontInstrument:
    """Zones under one name: a pad."""

    name: str
    zones: tuple[FontZone, ...]


def timecents(seconds: float) -> int:
    """Return a time as its format wants it, from a millisecond to a hundred seconds."""
    return round(max(-12_000.0, min(8_000.0, 1_200.0 * math.log2(max(seconds, 1e-4)))))


def cutoff_cents(hz: float) -> int:
    """Return a frequency in cents above 8.176 Hz, 20 Hz to 20 kHz."""
    return round(max(1_500.0, min(13_500.0, 1_200.0 * math.log2(max(hz, 20.0) / 8.176))))


def soundfont(title: str, samples: Sequence[FontSample], instruments: Sequence[FontInstrument], *, sample_rate: int) -> bytes:
    """Return a font of one preset; raises ExportError where it would be too large for its format."""
    if sum(len(one.sound) for one in samples) > MOST_FRAMES:
        raise ExportError("This kit is too large for a SoundFont; send it out as SFZ instead.")
    data, headers, places = _samples(samples, sample_rate)
    info = b"".join((_chunk(b"ifil", struct.pack("<HH", 2, 4)), _chunk(b"isng", b"EMU8000\0"), _chunk(b"INAM", _ended(_name(title, 250))),
                     _chunk(b"ISFT", b"Bompla\0\0")))
    high = (data >> 8).astype("<i2").tobytes()
    low = (data & 0xFF).astype(np.uint8).tobytes()
    sound = _chunk(b"smpl", high) + _chunk(b"sm24", low)
    lists = _list(b"INFO", info) + _list(b"sdta", sound) + _list(b"pdta", _hydra(title, instruments, places, headers))
    return b"RIFF" + struct.pack("<I", 4 + len(lists)) + b"sfbk" + lists


def _samples(samples: Sequence[FontSample], sample_rate: int) -> tuple[NDArray[np.int32], list[bytes], list[tuple[int, ...]]]:
    """Return all sound as 24-bit numbers, the sample headers, and for each sample the numbers of its channels."""
    parts: list[NDArray[np.int32]] = []
    headers: list[bytes] = []
    places: list[tuple[int, ...]] = []
    at = 0
    for one in samples:
        channels = np.atleast_2d(one.sound.T)
        first = len(headers)
        for channel, sound in enumerate(channels):
            numbers = np.clip(np.round(sound * float((1 << 23) - 1)), -(1 << 23), (1 << 23) - 1).astype(np.int32)
            parts += [numbers, np.zeros(GAP_FRAMES, np.int32)]
            kind = _MONO if len(channels) == 1 else (_LEFT, _RIGHT)[channel]
            link = 0 if kind == _MONO else first + 1 - channel
            name = _name(one.name, 19 if kind == _MONO else 18) + (b"" if kind == _MONO else b"LR"[channel : channel + 1])
            headers.append(struct.pack("<20sIIIIIBbHH", name, at, at + len(numbers), at, at + len(numbers), sample_rate, 60, 0, link, kind))
            at += len(numbers) + GAP_FRAMES
        places.append(tuple(range(first, len(headers))))
    headers.append(struct.pack("<20sIIIIIBbHH", b"EOS", 0, 0, 0, 0, 0, 0, 0, 0, 0))
    return np.concatenate(parts) if parts else np.zeros(0, np.int32), headers, places


def _hydra(title: str, instruments: Sequence[FontInstrument], places: Sequence[tuple[int, ...]], headers: Sequence[bytes]) -> bytes:
    """Return presets, instruments and samples as the nine chunks that name each other by number."""
    preset_bags: list[tuple[int, int]] = []
    preset_generators: list[bytes] = []
    for number in range(len(instruments)):
        preset_bags.append((len(preset_generators), 0))
        preset_generators.append(struct.pack("<HH", Generator.INSTRUMENT, number))
    preset_bags.append((len(preset_generators), 0))
    heads: list[bytes] = []
    bags: list[tuple[int, int]] = []
    generators: list[bytes] = []
    modulators: list[bytes] = []
    for instrument in instruments:
        heads.append(struct.pack("<20sH", _name(instrument.name, 19), len(bags)))
        for zone in instrument.zones:
            for side, number in enumerate(places[zone.sample]):
                bags.append((len(generators), len(modulators)))
                generators += _generators(zone, number, side, len(places[zone.sample]))
                modulators.append(struct.pack("<HHhHH", _VELOCITY_TO_LEVEL, Generator.LEVEL, 960, 0, 0))
                modulators.append(struct.pack("<HHhHH", _VELOCITY_TO_FILTER, Generator.CUTOFF, 0, 0, 0))
    heads.append(struct.pack("<20sH", b"EOI", len(bags)))
    bags.append((len(generators), len(modulators)))
    nothing, no_modulator = struct.pack("<HH", 0, 0), struct.pack("<HHhHH", 0, 0, 0, 0, 0)
    preset = struct.pack("<20sHHHIII", _name(title, 19), 0, PERCUSSION_BANK, 0, 0, 0, 0)
    last_preset = struct.pack("<20sHHHIII", b"EOP", 0, 0, len(instruments), 0, 0, 0)
    return b"".join((
        _chunk(b"phdr", preset + last_preset), _chunk(b"pbag", b"".join(struct.pack("<HH", *bag) for bag in preset_bags)),
        _chunk(b"pmod", no_modulator), _chunk(b"pgen", b"".join(preset_generators) + nothing),
        _chunk(b"inst", b"".join(heads)), _chunk(b"ibag", b"".join(struct.pack("<HH", *bag) for bag in bags)),
        _chunk(b"imod", b"".join(modulators) + no_modulator), _chunk(b"igen", b"".join(generators) + nothing),
        _chunk(b"shdr", b"".join(headers)),
    ))


def _generators(zone: FontZone, sample: int, side: int, sides: int) -> list[bytes]:
    """Return the generators of one channel of a zone: ranges first, the sample last, as the format has it."""
    made = [struct.pack("<HBB", Generator.KEYS, *zone.notes), struct.pack("<HBB", Generator.VELOCITIES, *zone.velocities)]
    own = dict(zone.generators)
    if sides == 2:
        own[Generator.PAN] = (-500, 500)[side]
    made += [struct.pack("<Hh", number, value) for number, value in sorted(own.items())]
    made.append(struct.pack("<Hh", Generator.ROOT, zone.root))
    made.append(struct.pack("<HH", Generator.SAMPLE, sample))
    return made


def _ended(text: bytes) -> bytes:
    """Return text with one or two zeros behind it, so that it is even: the format wants it so."""
    return text + b"\0" * (2 - len(text) % 2)


def _name(words: str, most: int) -> bytes:
    return words.encode("ascii", "replace")[:most]


def _list(kind: bytes, content: bytes) -> bytes:
    return _chunk(b"LIST", kind + content)


def _chunk(name: bytes, content: bytes) -> bytes:
    return name + struct.pack("<I", len(content)) + content + b"\0" * (len(content) % 2)
