"""What plays, as one value: sent as far as it changed, and whole where the audio process has begun anew."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, fields
from typing import Any

from bompla.engine.commands import Op
from bompla.engine.pool import Place
from bompla.engine.span import Span

Wish = tuple[Op, dict[str, Any]]
"""A command to be sent, and its fields."""


@dataclass(frozen=True)
class Listed:
    """A list in the pool: where, and of how many rows."""

    place: Place
    count: int


@dataclass(frozen=True)
class Playing:
    """All that the audio process is told of what plays, apart from what is struck by hand.

    `balance` are the gains of original and rebuilt, `colour` is how many bytes of JSON lie at its place, `tick_frames` how long a 24th
    of a beat is, 0 where nobody follows along.
    """

    touch: float = 1.0
    looping: bool = True
    click: bool = False
    balance: tuple[float, float] = (1.0, 0.0)
    original: Place | None = None
    span: Span | None = None
    events: Listed | None = None
    tick_frames: float = 0.0
    zones: Listed | None = None
    colour: Listed | None = None
    playing: bool = False

    def wishes(self, before: Playing | None) -> Iterator[Wish]:
        """Yield what has to be sent for it to play, where something else did before; all of it, where nothing is known."""
        for field in fields(self):
            value = getattr(self, field.name)
            if before is None or value != getattr(before, field.name):
                yield from _WISHES[field.name](value)


def _of_place(op: Op, value: Place | None) -> Iterator[Wish]:
    if value is not None:
        yield op, {"offset": value.offset, "length": value.length}


def _of_list(op: Op, value: Listed | None) -> Iterator[Wish]:
    if value is not None:
        yield op, {"offset": value.place.offset, "count": value.count}


def _of_colour(value: Listed | None) -> Iterator[Wish]:
    if value is not None:
        yield Op.COLOUR, {"offset": value.place.offset, "length": value.count}


def _of_span(value: Span | None) -> Iterator[Wish]:
    if value is not None:
        yield Op.SPAN, {"start": value.start, "length": value.length, "not_struck": value.not_struck}


_WISHES: dict[str, Any] = {
    "touch": lambda value: [(Op.TOUCH, {"exponent": value})],
    "looping": lambda value: [(Op.LOOPING, {"on": value})],
    "click": lambda value: [(Op.CLICK, {"on": value})],
    "balance": lambda value: [(Op.BALANCE, {"original": value[0], "rebuilt": value[1]})],
    "original": lambda value: _of_place(Op.ORIGINAL, value),
    "span": _of_span,
    "events": lambda value: _of_list(Op.EVENTS, value),
    "tick_frames": lambda value: [(Op.TICK, {"frames": value})],
    "zones": lambda value: _of_list(Op.ZONES, value),
    "colour": _of_colour,
    "playing": lambda _value: (),  # begun and stopped by hand, from a place
}
"""What each field sends."""
