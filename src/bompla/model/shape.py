"""How a pad shapes its sound: the values, and the tables of them from which checks, files and controls derive."""

from __future__ import annotations

import msgspec

from bompla.model.params import Param, table

FILTERS = {"none": "open", "low": "low-pass", "high": "high-pass", "band": "band-pass", "notch": "notch"}
"""Kinds of filter by key, as they are called."""

DIRECTIONS = {"forward": "forward", "reverse": "reverse", "both": "forward and back"}
TAILS = {"kit": "as the kit", "end": "end", "ring": "ring on", "both": "back and forth"}
"""How a sound goes on past its slice's end, by key; the first leaves it to the kit."""

KIT_TAILS = {key: words for key, words in TAILS.items() if key != "kit"}

OUTPUTS = ("1–2", "3–4", "5–6", "7–8")
"""The pairs of a device's outputs; the first is the one that everything else plays to."""

SLICES_SET = 5
CHOKE_SETS = {-1: "as the drum", 0: "none", 1: "hats", 2: "set 2", 3: "set 3", 4: "set 4", SLICES_SET: "slices"}
"""The set whose pads silence each other: -1 for that of the drum, 0 for none; of slices each ends where the next begins."""

SHAPE_PARAMS = table((
    Param("start_ms", "Start", "ms", 0.0, 2_000.0, "How much is cut off at the start"),
    Param("end_ms", "End", "ms", 0.0, 4_000.0, "How much is cut off at the end"),
    Param("fade_in_ms", "Fade in", "ms", 0.0, 1_000.0, "How long it fades in"),
    Param("fade_out_ms", "Fade out", "ms", 0.0, 4_000.0, "How long it fades out"),
    Param("attack_ms", "Attack", "ms", 0.0, 500.0, "How long it takes to be there"),
    Param("hold_ms", "Hold", "ms", 0.0, 2_000.0, "How long it stays as loud as it is"),
    Param("decay_ms", "Decay", "ms", 0.0, 4_000.0, "How long it takes to fall; 0 does not let it fall"),
    Param("sustain", "Sustain", "share", 0.0, 1.0, "How loud it stays after it has fallen", default=1.0),
    Param("cutoff_hz", "Cutoff", "Hz", 30.0, 18_000.0, "Where the filter begins", default=2_000.0, by_ratio=True),
    Param("resonance", "Resonance", "", 0.3, 12.0, "How much the filter rings", default=0.7, by_ratio=True),
    Param("tune", "Tune", "st", -24.0, 24.0, "Higher or lower, in semitones, as a faster or slower tape", step=0.5),
    Param("pan", "Pan", "", -1.0, 1.0, "Left to right"),
    Param("clean", "Clean", "share", 0.0, 1.0, "How much of what sounds underneath is taken away"),
    Param("release_ms", "Release", "ms", 2.0, 2_000.0, "How long a gated pad takes to end once it is let go", default=60.0, by_ratio=True),
    Param("room", "Room", "share", 0.0, 1.0, "How much of it goes into the room of the colour, beside what all pads send"),
    Param("echo", "Echo", "share", 0.0, 1.0, "How much of it goes into the echo of the colour, beside what all pads send"),
))


class Shape(msgspec.Struct, frozen=True):
    """What is done to a pad's slices before they sound; the defaults leave them as they are.

    `start_ms` and `end_ms` are cut off at either end, `fade_in_ms` and `fade_out_ms` fade what is left.
    The envelope rises over `attack_ms`, holds over `hold_ms`, falls over `decay_ms` to `sustain`.
    `tune` is in semitones. `clean` is how much of what sounds underneath is taken away. A `gated` pad
    sounds as long as it is held down, and ends over `release_ms`; `room` and `echo` are its shares of the colour's. `output` is the pair
    of the device that it goes out at, counted from 0; past the first it leaves beside the colour.
    """

    start_ms: float = 0.0
    end_ms: float = 0.0
    fade_in_ms: float = 0.0
    fade_out_ms: float = 0.0
    attack_ms: float = 0.0
    hold_ms: float = 0.0
    decay_ms: float = 0.0
    sustain: float = SHAPE_PARAMS["sustain"].default
    filter: str = "none"
    cutoff_hz: float = SHAPE_PARAMS["cutoff_hz"].default
    resonance: float = SHAPE_PARAMS["resonance"].default
    tune: float = 0.0
    pan: float = 0.0
    clean: float = 0.0
    direction: str = "forward"
    tail: str = "kit"
    choke: int = -1
    gated: bool = False
    release_ms: float = SHAPE_PARAMS["release_ms"].default
    room: float = 0.0
    echo: float = 0.0
    output: int = 0


PLAIN = Shape()


def sounding(shape: Shape) -> Shape:
    """Return what of a shape is baked into the sound; the rest is done while it plays."""
    return msgspec.structs.replace(shape, gated=PLAIN.gated, release_ms=PLAIN.release_ms, room=PLAIN.room, echo=PLAIN.echo,
                                  output=PLAIN.output, choke=PLAIN.choke)


def clamped(shape: Shape) -> Shape:
    """Return a shape with every value in its range, and every choice one that there is."""
    return msgspec.structs.replace(
        shape,
        **{key: param.clamped(getattr(shape, key)) for key, param in SHAPE_PARAMS.items()},
        filter=shape.filter if shape.filter in FILTERS else PLAIN.filter,
        direction=shape.direction if shape.direction in DIRECTIONS else PLAIN.direction,
        tail=shape.tail if shape.tail in TAILS else PLAIN.tail,
        choke=shape.choke if shape.choke in CHOKE_SETS else PLAIN.choke,
        output=shape.output if 0 <= shape.output < len(OUTPUTS) else PLAIN.output,
    )
