"""The range of every number in a document, in one table: what comes from a file is checked against it before anything uses it."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import msgspec

from bompla.errors import EditError
from bompla.model.document import (
    Attack,
    Borrowed,
    Colour,
    Cut,
    Cutting,
    Document,
    EarRound,
    Feel,
    FeelLayer,
    Heard,
    Hit,
    Layer,
    OrderStep,
    Pad,
    Source,
    TempoReading,
    Treatment,
    Variation,
    Wander,
    WanderRule,
)
from bompla.model.loop import Loop, Tempo
from bompla.model.shape import Shape
from bompla.model.stretches import Proposed, Stretch

MOST_FRAMES = 1 << 40
MOST_ID = 1 << 50
MOST_BEATS = 100_000.0
MOST_BPM = 100_000.0
MOST_TEXT, MOST_ITEMS = 4_000, 200_000

Range = tuple[float, float]

_SAMPLE: Range = (0, MOST_FRAMES)
_SHARE: Range = (0.0, 1.0)
_VELOCITY: Range = (1, 127)
_ID: Range = (-MOST_ID, MOST_ID)

RANGES: dict[type, dict[str, Range]] = {
    Heard: {"confidence": _SHARE, "velocity": _VELOCITY, "late_ms": (-100.0, 100.0)},
    Cutting: {"even_beats": (1e-3, MOST_BEATS), "pull_ms": (0.0, 10_000.0), "min_distance_ms": (1.0, 500.0), "low": (0.0, 2.0),
              "mid": (0.0, 2.0), "high": (0.0, 2.0)},
    Attack: {"at_sample": _SAMPLE, "cut_sample": _SAMPLE, "strength": _SHARE, "clear_db": (-400.0, 400.0)},
    Cut: {"id": _ID, "at_sample": _SAMPLE, "attack_sample": _SAMPLE, "strength": _SHARE, "clear_db": (-400.0, 400.0)},
    Source: {"sample_rate": (1_000, 768_000), "channels": (1, 1_024), "frames": (1, MOST_FRAMES)},
    TempoReading: {"bpm": (1e-3, MOST_BPM), "bars": (1e-3, 100_000), "score": _SHARE},
    Loop: {"start_sample": _SAMPLE, "end_sample": _SAMPLE, "length_beats": (1e-3, MOST_BEATS), "fade_ms": (0.0, 10_000.0)},
    Tempo: {"bpm": (0.0, MOST_BPM)},
    Layer: {"at_sample": _SAMPLE, "attack_sample": _SAMPLE, "velocity": _VELOCITY, "up_to": (0, 127)},
    Borrowed: {"frames": (1, MOST_FRAMES)},
    Pad: {"id": _ID, "slot": (0, 127), "note": (0, 127), "level_db": (-120.0, 60.0), "stacked": _ID, "keys": (0, 127), "hardest": (0, 127)},
    Shape: {},
    Hit: {"id": _ID, "pad_id": _ID, "at_beats": (-MOST_BEATS, MOST_BEATS), "velocity": _VELOCITY, "pitch": (-96.0, 96.0),
          "length_beats": (0.0, MOST_BEATS), "chance": _SHARE, "gain_db": (-60.0, 60.0), "moment": (-1, MOST_FRAMES)},
    Feel: {"steps_per_beat": (1, 192), "late": (-4.0, 4.0), "accent": (0.0, 16.0)},
    FeelLayer: {"swing": (1.0, 99.0), "swing_beats": (1e-2, 16.0), "pull": _SHARE, "accent": (0.0, 4.0), "loose_ms": (0.0, 1_000.0),
                "seed": (0, 2**31), "ahead_ms": (-MOST_ID, MOST_ID), "timing": _SHARE, "force": _SHARE, "lanes": _ID},
    Variation: {"bars": (0, 256)},
    OrderStep: {"repeats": (1, 1_000)},
    WanderRule: {"chance": _SHARE, "after_beats": (1e-3, MOST_BEATS)},
    Wander: {"seed": (0, 2**31), "bars": (1, 256)},
    EarRound: {"seconds": (0.0, 1e8), "hints": (0, 100_000), "right": (0, 100_000), "extra": (0, 100_000), "of": (0, 100_000)},
    Treatment: {"values": (-1e6, 1e6)},
    Colour: {"tune": (-48.0, 48.0), "dry": _SHARE},
    Stretch: {"start_sample": _SAMPLE, "end_sample": _SAMPLE, "bpm": (1e-3, MOST_BPM), "confidence": _SHARE},
    Proposed: {"clarity": _SHARE},
    Document: {"tempo_confidence": _SHARE, "threshold": (0.0, 1.0), "offers": _ID, "shown": (-1, 1_000), "next_id": (0, MOST_ID)},
}
"""By kind of value and field. Shapes are checked by their own table of parameters."""


def check_ranges(value: msgspec.Struct) -> None:
    """Raise EditError with a sentence where a number of a value, or of one inside it, is out of its range, or a text or row too long."""
    for owner, name, found in _fields(value):
        if isinstance(found, str) and len(found) > MOST_TEXT:
            raise EditError(f"{_words(owner, name)} is too long to be right.")
        if isinstance(found, bool | bytes | str):
            continue
        ranges = RANGES[type(owner)]
        for number in _numbers(found):
            if name not in ranges:
                continue
            low, high = ranges[name]
            if not (math.isfinite(number) and low <= number <= high):
                raise EditError(f"{_words(owner, name)} is {number:.6g}, which cannot be right: it lies between {low:g} and {high:g}.")


def _fields(value: msgspec.Struct) -> Iterator[tuple[msgspec.Struct, str, Any]]:
    """Yield every field of a value and of all values inside it, with the value that has it."""
    for name in value.__struct_fields__:
        found = getattr(value, name)
        yield value, name, found
        for inner in found if isinstance(found, tuple) else (found,):
            if isinstance(inner, msgspec.Struct):
                yield from _fields(inner)


def _numbers(found: Any) -> Iterator[float]:
    if isinstance(found, int | float) and not isinstance(found, bool):
        yield float(found)
    elif isinstance(found, tuple):
        if len(found) > MOST_ITEMS:
            raise EditError("A row of values is too long to be right.")
        for inner in found:
            yield from _numbers(inner)
    elif isinstance(found, dict):
        for inner in found.values():
            yield from _numbers(inner)


def _words(owner: msgspec.Struct, name: str) -> str:
    return f"“{name.replace('_', ' ')}” of a {type(owner).__name__.lower()}"
