"""Cue points, labels, loop points and notes in a WAV file.

As in "Multimedia Programming Interface and Data Specifications 1.0" (IBM and Microsoft, 1991): `cue `, `LIST` of type `adtl` with `labl`,
`LIST` of type `INFO`; and `smpl` as in "New Multimedia Data Types and Data Techniques" (Microsoft, 1994).
"""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from bompla.errors import ExportError

NO_NOTE = 60
_HEAD = 12
"""RIFF, its size, WAVE."""


class CuePoint(NamedTuple):
    """A place in a sound, in frames, and what it is called."""

    at_frame: int
    label: str


def with_chunks(
    wav: bytes, *, sample_rate: int, cues: Sequence[CuePoint] = (), loop: tuple[int, int] | None = None, note: int = NO_NOTE,
    info: Mapping[str, str] | None = None,
) -> bytes:
    """Return a WAV file with these chunks after its own; raises ExportError for what is no WAV file.

    `loop` is its first and its last frame, both played; `info` has texts by their four letters, such as `INAM`.
    """
    if wav[:4] != b"RIFF" or wav[8:_HEAD] != b"WAVE":
        raise ExportError("Cue points can only be added to a WAV file.")
    body = wav[_HEAD:]
    body += b"\0" * (len(body) % 2)
    if cues:
        points = [struct.pack("<II4sIII", n, cue.at_frame, b"data", 0, 0, cue.at_frame) for n, cue in enumerate(cues, 1)]
        body += _chunk(b"cue ", struct.pack("<I", len(points)) + b"".join(points))
        labels = [_chunk(b"labl", struct.pack("<I", n) + _text(cue.label)) for n, cue in enumerate(cues, 1)]
        body += _chunk(b"LIST", b"adtl" + b"".join(labels))
    if loop is not None:
        period_ns = round(1e9 / sample_rate)
        header = struct.pack("<9I", 0, 0, period_ns, note, 0, 0, 0, 1, 0)
        body += _chunk(b"smpl", header + struct.pack("<6I", 1, 0, loop[0], loop[1], 0, 0))
    if info:
        body += _chunk(b"LIST", b"INFO" + b"".join(_chunk(key.encode("ascii"), _text(text)) for key, text in info.items()))
    return b"RIFF" + struct.pack("<I", 4 + len(body)) + b"WAVE" + body


def _text(words: str) -> bytes:
    return words.encode("utf-8") + b"\0"


def _chunk(name: bytes, content: bytes) -> bytes:
    return name + struct.pack("<I", len(content)) + content + b"\0" * (len(content) % 2)
