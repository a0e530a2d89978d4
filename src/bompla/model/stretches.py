"""Stretches of a recording, each of one tempo, and the loops that are proposed in them."""

from __future__ import annotations

import msgspec

from bompla.model.loop import Loop


class Stretch(msgspec.Struct, frozen=True):
    """A part of a recording with a tempo and a meter of its own; how sure its tempo is, from 0 to 1."""

    start_sample: int
    end_sample: int
    bpm: float
    meter_name: str
    confidence: float


class Proposed(msgspec.Struct, frozen=True):
    """Whole bars of a stretch that are worth looping, and how clear their drums are, from 0 to 1."""

    loop: Loop
    clarity: float
