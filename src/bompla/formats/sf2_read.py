"""Reading SoundFont 2: presets, the zones of one with all that applies to them, and samples; compressed ones (sf3) too.

As in "SoundFont technical specification, version 2.04" (E-mu Systems, 2006). In sf3 a sample is a stream of Ogg Vorbis.
"""

from __future__ import annotations

import io
import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import IO, NamedTuple

import numpy as np
import soundfile
from numpy.typing import NDArray

from bompla.errors import KitError
from bompla.files import name_of, open_regular, reason_of
from bompla.formats.sf2 import Generator

MOST_BYTES = 2_000_000_000
MOST_RECORDS = 200_000
ROM, COMPRESSED = 0x8000, 0x10
_OFFSETS = {0: (0, 1), 4: (0, 32_768), 1: (1, 1), 12: (1, 32_768)}
"""Generators that move a sample's start or end, and by how many frames each step."""

_RANGES = (Generator.KEYS, Generator.VELOCITIES)
_ADDED = frozenset({8, 9, 17, 33, 34, 35, 36, 37, 38, 48, 51, 52, 56})
"""What a preset's zone adds to its instrument's."""

_NAME = "latin-1"


class Preset(NamedTuple):
    """A preset: its bank, its program, its name; `number` is its place in the file."""

    bank: int
    program: int
    name: str
    number: int


class SampleHead(NamedTuple):
    """A sample: its name, where it lies, its rate and root, and the one that is its other channel; `kind` as the format numbers it."""

    name: str
    start: int
    end: int
    rate: int
    root: int
    correction_cents: int
    link: int
    kind: int


@dataclass(frozen=True)
class ReadZone:
    """What plays a sample: notes and velocities from the lowest to the highest, and generators by number."""

    sample: int
    notes: tuple[int, int]
    velocities: tuple[int, int]
    values: dict[int, int] = field(default_factory=dict)

    def value(self, number: int, default: int) -> int:
        """Return a generator, or what it is where nothing is said."""
        return self.values.get(number, default)


class Font:
    """A font that lies in a file; what is asked of it is read when it is asked for.

    Raises KitError with a sentence for a file that cannot be read or is no SoundFont.
    """

    def __init__(self, path: Path) -> None:
        self.path, self.name = path, name_of(path)
        try:
            with open_regular(path) as stream:
                size = os.fstat(stream.fileno()).st_size
                if size > MOST_BYTES:
                    raise KitError(f"{self.name} is {size >> 20:,} MB; fonts of up to {MOST_BYTES >> 20:,} MB can be read.")
                self._chunks, self._places = self._read(stream, size)
        except OSError as error:
            raise KitError(f"Could not open {self.name}: {reason_of(error, reading=True)}.") from error
        except (struct.error, ValueError, IndexError) as error:
            raise KitError(f"{self.name} is no SoundFont, or it is damaged.") from error

    def _read(self, stream: IO[bytes], size: int) -> tuple[dict[bytes, bytes], dict[bytes, tuple[int, int]]]:
        head = stream.read(12)
        if head[:4] != b"RIFF" or head[8:12] != b"sfbk":
            raise KitError(f"{self.name} is no SoundFont.")
        chunks: dict[bytes, bytes] = {}
        places: dict[bytes, tuple[int, int]] = {}
        while len(outer := stream.read(8)) == 8:
            kind, length = struct.unpack("<4sI", outer)
            end = min(size, stream.tell() + length)
            if kind == b"LIST":
                stream.read(4)
                while stream.tell() + 8 <= end:
                    name, inner = struct.unpack("<4sI", stream.read(8))
                    at = stream.tell()
                    if name in (b"smpl", b"sm24"):
                        places[name] = (at, min(inner, size - at))
                    elif inner <= MOST_RECORDS * 46:
                        chunks[name] = stream.read(inner)
                    stream.seek(at + inner + inner % 2)
            stream.seek(end + length % 2)
        if b"shdr" not in chunks or b"smpl" not in places:
            raise KitError(f"{self.name} is no SoundFont, or it is damaged.")
        return chunks, places

    def _records(self, name: bytes, form: str) -> list[tuple[int, ...]]:
        content, each = self._chunks.get(name, b""), struct.calcsize(form)
        return list(struct.iter_unpack(form, content[: len(content) // each * each]))

    @cached_property
    def presets(self) -> tuple[Preset, ...]:
        """All presets, by bank and program."""
        heads = self._records(b"phdr", "<20sHHHIII")[:-1]
        made = [Preset(int(bank), int(program), _text(name), index) for index, (name, program, bank, *_) in enumerate(heads)]
        return tuple(sorted(made, key=lambda one: (one.bank, one.program)))

    @cached_property
    def samples(self) -> tuple[SampleHead, ...]:
        """The headers of all samples."""
        return tuple(SampleHead(_text(name), start, end, rate, root, cents, link, kind)
                     for name, start, end, _, _, rate, root, cents, link, kind in self._records(b"shdr", "<20sIIIIIBbHH")[:-1])

    def zones(self, preset: Preset) -> tuple[ReadZone, ...]:
        """Return the zones of a preset, with what its instruments and the preset itself say, but for those without a sample."""
        try:
            return tuple(self._zones(preset))
        except (IndexError, struct.error) as error:
            raise KitError(f"{self.name} is damaged: the preset {preset.name} names what is not there.") from error

    def _zones(self, preset: Preset) -> Iterator[ReadZone]:
        instruments = self._records(b"inst", "<20sH")
        heads = self._records(b"phdr", "<20sHHHIII")
        outer = self._bags(b"pbag", b"pgen", int(heads[preset.number][3]), int(heads[preset.number + 1][3]), Generator.INSTRUMENT)
        for over in outer:
            number = over.get(Generator.INSTRUMENT, -1)
            if not 0 <= number < len(instruments) - 1:
                continue
            for inner in self._bags(b"ibag", b"igen", int(instruments[number][1]), int(instruments[number + 1][1]), Generator.SAMPLE):
                sample = inner.get(Generator.SAMPLE, -1)
                if not 0 <= sample < len(self.samples) or self.samples[sample].kind & ROM:
                    continue
                values = {key: value for key, value in inner.items() if key not in _RANGES}
                for key in _ADDED & over.keys():
                    values[key] = values.get(key, _default(key)) + over[key]
                notes, velocities = (_both(inner.get(key), over.get(key)) for key in _RANGES)
                if notes[0] <= notes[1] and velocities[0] <= velocities[1]:
                    yield ReadZone(sample, notes, velocities, values)

    def _bags(self, bag: bytes, generators: bytes, first: int, last: int, ends: int) -> list[dict[int, int]]:
        """Return the zones between two numbers of a list, a first one that names nothing (`ends`) laid under the others."""
        bags, found = self._records(bag, "<HH"), self._records(generators, "<HH")
        made: list[dict[int, int]] = []
        under: dict[int, int] = {}
        for number in range(first, last):
            own = {int(key): int(value) if key in (*_RANGES, ends) else _signed(int(value))
                   for key, value in found[int(bags[number][0]) : int(bags[number + 1][0])]}
            if ends in own:
                made.append({**under, **own})
            elif number == first:
                under = own
        return made

    def sound(self, zone: ReadZone) -> tuple[NDArray[np.float32], int]:
        """Return the sound of a zone's sample, shape (frames,), and its rate; raises KitError where it is damaged."""
        head = self.samples[zone.sample]
        first, last = head.start, head.end
        if head.kind & COMPRESSED:
            return self._decoded(head)
        moved = [0, 0]
        for number, (side, step) in _OFFSETS.items():
            moved[side] += step * zone.value(number, 0)
        first, last = max(head.start, first + moved[0]), min(head.end, last + moved[1])
        place, length = self._places[b"smpl"]
        frames = max(0, min(last, length // 2) - first)
        high = np.frombuffer(self._bytes(place + 2 * first, 2 * frames), "<i2").astype(np.float32)
        if b"sm24" in self._places and self._places[b"sm24"][1] >= first + frames:
            low = np.frombuffer(self._bytes(self._places[b"sm24"][0] + first, frames), np.uint8).astype(np.float32)
            high = high + low[: len(high)] / np.float32(256.0)
        return high / np.float32(32_768.0), max(1, head.rate)

    def _decoded(self, head: SampleHead) -> tuple[NDArray[np.float32], int]:
        content = self._bytes(self._places[b"smpl"][0] + head.start, max(0, head.end - head.start))
        try:
            sound, rate = soundfile.read(io.BytesIO(content), dtype="float32", always_2d=True)
        except (soundfile.LibsndfileError, RuntimeError) as error:
            raise KitError(f"The sample {head.name} in {self.name} is damaged.") from error
        return sound[:, 0], int(rate)

    def _bytes(self, at: int, count: int) -> bytes:
        try:
            with open_regular(self.path) as stream:
                stream.seek(at)
                content = stream.read(count)
        except OSError as error:
            raise KitError(f"Could not read {self.name}: {reason_of(error, reading=True)}.") from error
        return content[: len(content) // 2 * 2] if count % 2 == 0 else content


def _text(name: object) -> str:
    assert isinstance(name, bytes)  # noqa: S101  # what "20s" unpacks to
    return name.split(b"\0")[0].decode(_NAME).strip()


def _signed(value: int) -> int:
    return value - 65_536 if value >= 32_768 else value


def _both(inner: int | None, outer: int | None) -> tuple[int, int]:
    """Return a range that both allow."""
    low, high = 0, 127
    for packed in (inner, outer):
        if packed is not None:
            low, high = max(low, packed & 0xFF), min(high, packed >> 8)
    return low, high


def _default(number: int) -> int:
    return {8: 13_500, 33: -12_000, 34: -12_000, 35: -12_000, 36: -12_000, 38: -12_000, 56: 100}.get(number, 0)
