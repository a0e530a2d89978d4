"""How a pad shapes its sound: the values, and the table of them from which checks and controls derive."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec

FILTERS = ("none", "low", "high", "band", "notch")
DIRECTIONS = ("forward", "reverse", "forward and back")
TAILS = ("as the kit", "none", "ring on", "back and forth")
OUTPUTS = ("1–2", "3–4", "5–6", "7–8")
"""The pairs of a device's outputs; the first is the one that everything else plays to."""

CHOKE_SETS = (-1, 0, 1, 2, 3, 4)
"""The set whose pads silence each other: -1 for that of the drum, 0 for none."""


class Shape(msgspec.Struct, frozen=True):
    """What is done to a pad's slices before they sound; the defaults leave them as they are.

    `start_ms` and `end_ms` are cut off at either end, `fade_in_ms` and `fade_out_ms` fade what is left.
    The envelope rises over `attack_ms`, holds over `hold_ms`, falls over `decay_ms` to `sustain`.
    `tune` is in semitones. `clean` is how much of what sounds underneath is taken away. A pad that is `held`
    sounds as long as it is held, and ends over `release_ms`; `room` and `echo` are its shares of the colour's. `output` is the pair
    of the device that it goes out at, counted from 0; past the first it leaves beside the colour.
    """

    start_ms: float = 0.0
    end_ms: float = 0.0
    fade_in_ms: float = 0.0
    fade_out_ms: float = 0.0
    attack_ms: float = 0.0
    hold_ms: float = 0.0
    decay_ms: float = 0.0
    sustain: float = 1.0
    filter: str = "none"
    cutoff_hz: float = 2_000.0
    resonance: float = 0.7
    tune: float = 0.0
    pan: float = 0.0
    clean: float = 0.0
    direction: str = "forward"
    tail: str = TAILS[0]
    choke: int = -1
    held: bool = False
    release_ms: float = 60.0
    room: float = 0.0
    echo: float = 0.0
    output: int = 0


PLAIN = Shape()


@dataclass(frozen=True)
class ShapeParam:
    """A number of a shape: its field, name, unit, range, and what it does; `even` steps by ratio, not by sum."""

    key: str
    label: str
    unit: str
    low: float
    high: float
    help: str
    by_ratio: bool = False

    @property
    def default(self) -> float:
        """The value that changes nothing."""
        return float(getattr(PLAIN, self.key, 0.0))


SHAPE_PARAMS: dict[str, ShapeParam] = {
    p.key: p
    for p in (
        ShapeParam("start_ms", "Start", "ms", 0.0, 2_000.0, "How much is cut off at the start"),
        ShapeParam("end_ms", "End", "ms", 0.0, 4_000.0, "How much is cut off at the end"),
        ShapeParam("fade_in_ms", "Fade in", "ms", 0.0, 1_000.0, "How long it fades in"),
        ShapeParam("fade_out_ms", "Fade out", "ms", 0.0, 4_000.0, "How long it fades out"),
        ShapeParam("attack_ms", "Attack", "ms", 0.0, 500.0, "How long it takes to be there"),
        ShapeParam("hold_ms", "Hold", "ms", 0.0, 2_000.0, "How long it stays as loud as it is"),
        ShapeParam("decay_ms", "Decay", "ms", 0.0, 4_000.0, "How long it takes to fall; 0 does not let it fall"),
        ShapeParam("sustain", "Sustain", "", 0.0, 1.0, "How loud it stays after it has fallen"),
        ShapeParam("cutoff_hz", "Cutoff", "Hz", 30.0, 18_000.0, "Where the filter begins", by_ratio=True),
        ShapeParam("resonance", "Resonance", "", 0.3, 12.0, "How much the filter rings", by_ratio=True),
        ShapeParam("tune", "Tune", "st", -24.0, 24.0, "Higher or lower, in semitones, as a faster or slower tape"),
        ShapeParam("pan", "Pan", "", -1.0, 1.0, "Left to right"),
        ShapeParam("release_ms", "Release", "ms", 2.0, 2_000.0, "How long a held pad takes to end once it is let go", by_ratio=True),
        ShapeParam("room", "Room", "", 0.0, 1.0, "How much of it goes into the room of the colour, beside what all pads send"),
        ShapeParam("echo", "Echo", "", 0.0, 1.0, "How much of it goes into the echo of the colour, beside what all pads send"),
        ShapeParam("clean", "Clean", "", 0.0, 1.0, "How much of what sounds underneath is taken away"),
    )
}


def sounding(shape: Shape) -> Shape:
    """Return what of a shape is baked into the sound; the rest is done while it plays."""
    return msgspec.structs.replace(shape, held=PLAIN.held, release_ms=PLAIN.release_ms, room=PLAIN.room, echo=PLAIN.echo,
                                  output=PLAIN.output)


def held(shape: Shape) -> Shape:
    """Return a shape with every value in its range, and every choice one that there is."""
    values = {key: round(max(p.low, min(p.high, float(getattr(shape, key)))), 4) for key, p in SHAPE_PARAMS.items()}
    return msgspec.structs.replace(
        shape,
        **values,
        filter=shape.filter if shape.filter in FILTERS else PLAIN.filter,
        direction=shape.direction if shape.direction in DIRECTIONS else PLAIN.direction,
        tail=shape.tail if shape.tail in TAILS else PLAIN.tail,
        choke=shape.choke if shape.choke in CHOKE_SETS else PLAIN.choke,
        output=shape.output if 0 <= shape.output < len(OUTPUTS) else PLAIN.output,
    )
