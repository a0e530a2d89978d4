"""One hand on several pads: shapes and levels moved together, by what is changed on one of them; differences stay."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import fields, replace

from bompla.errors import EditError
from bompla.model.document import Document, Layer, Pad
from bompla.model.kit_edits import LEVEL, changed_pad, set_pad_level, set_shape
from bompla.model.shape import OUTPUTS, SHAPE_PARAMS, Shape
from bompla.model.wording import counted

_WORDS = (
    (("start_ms", "end_ms"), "trim"), (("fade_in_ms", "fade_out_ms"), "fade"), (("tune",), "tune"), (("pan",), "pan"),
    (("clean",), "clean"),
    (("attack_ms", "hold_ms", "decay_ms", "sustain"), "envelope of"), (("filter", "cutoff_hz", "resonance"), "filter"),
    (("gated", "release_ms"), "release of"), (("room",), "room of"), (("echo",), "echo of"), (("direction",), "direction of"),
    (("tail",), "tail of"), (("choke",), "choke of"), (("output",), "output of"),
)
"""What a change is called, by the values that it changes."""


def change_in_words(before: Shape, after: Shape, pads: Iterable[Pad]) -> str:
    """Return what a change of shape is called, with whom it reaches: "trim snare", "tune 5 pads"."""
    keys = {one.name for one in fields(Shape) if getattr(before, one.name) != getattr(after, one.name)}
    said = [words for names, words in _WORDS if keys & set(names)]
    if keys == {"output"}:
        said = [f"output {OUTPUTS[after.output]} of"]
    return f"{said[0] if len(said) == 1 else 'shape'} {in_words(pads)}"


def in_words(pads: Iterable[Pad]) -> str:
    """Return pads in words: the name of one, or how many."""
    chosen = list(pads)
    return chosen[0].name.lower() if len(chosen) == 1 else counted(len(chosen), "pad")


def reshaped(document: Document, pad_id: int, shape: Shape, pad_ids: Iterable[int] = ()) -> Document:
    """Give a pad a shape, and move others by as much: numbers by their difference or ratio, choices to the same.

    Each stays in its range; what is not changed on the one stays as it is on the others.
    """
    before = document.pad(pad_id).shape
    names = [one.name for one in fields(Shape) if getattr(before, one.name) != getattr(shape, one.name)]
    document = set_shape(document, pad_id, shape)
    for other in set(pad_ids) - {pad_id}:
        own = document.pad(other).shape
        document = set_shape(document, other, replace(own, **{name: _moved(name, before, shape, own) for name in names}))
    return document


def _moved(name: str, before: Shape, after: Shape, own: Shape) -> object:
    param = SHAPE_PARAMS.get(name)
    if param is None:
        return getattr(after, name)
    was, now, value = (float(getattr(one, name)) for one in (before, after, own))
    return value * now / was if param.by_ratio else value + now - was


def levelled(document: Document, pad_id: int, level_db: float, pad_ids: Iterable[int] = ()) -> Document:
    """Give a pad a level in dB, and move others by as many dB, each in its range."""
    by_db = LEVEL.clamped(level_db) - document.pad(pad_id).level_db
    document = set_pad_level(document, pad_id, level_db)
    for other in set(pad_ids) - {pad_id}:
        document = set_pad_level(document, other, document.pad(other).level_db + by_db)
    return document


def with_shape(document: Document, pad_ids: Iterable[int], shape: Shape) -> Document:
    """Give pads one and the same shape."""
    for pad_id in pad_ids:
        document = set_shape(document, pad_id, shape)
    return document


def only_layer(document: Document, pad_id: int, layer: Layer) -> Document:
    """Let one slice of a pad answer to all velocities, and take the others off; raises EditError where it is not on the pad."""
    pad = document.pad(pad_id)
    if layer not in pad.layers:
        raise EditError("That slice is not on this pad.")
    return changed_pad(document, replace(pad, layers=(replace(layer, up_to=127),)))
