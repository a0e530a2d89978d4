"""Edits of the kit: functions from document to document."""

from __future__ import annotations

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.document import PADS_PER_PAGE, Cut, Document, Layer, Pad
from bompla.model.drums import DRUMS

MIN_LEVEL_DB, MAX_LEVEL_DB = -48.0, 12.0


def rename_pad(document: Document, pad_id: int, name: str) -> Document:
    """Give a pad a name; an empty one brings back its drum's label."""
    pad = document.pad(pad_id)
    return _with_pad(document, replace(pad, name=name.strip()[:40] or DRUMS[pad.drum].label))


def set_pad_drum(document: Document, pad_id: int, drum: str) -> Document:
    """Give a pad another drum, and with it the drum's note, and its label unless it has its own name."""
    if drum not in DRUMS:
        raise EditError(f"There is no drum called {drum}.")
    pad = document.pad(pad_id)
    own_name = pad.name != DRUMS[pad.drum].label
    name = pad.name if own_name else DRUMS[drum].label
    return _with_pad(document, replace(pad, drum=drum, name=name, note=DRUMS[drum].note))


def set_pad_note(document: Document, pad_id: int, note: int) -> Document:
    """Give a pad another MIDI note, 0 to 127."""
    if not 0 <= note <= 127:
        raise EditError("A MIDI note is a number from 0 to 127.")
    return _with_pad(document, replace(document.pad(pad_id), note=note))


def set_pad_level(document: Document, pad_id: int, level_db: float) -> Document:
    """Set a pad's level in dB, held to the range from -48 to 12."""
    level_db = max(MIN_LEVEL_DB, min(MAX_LEVEL_DB, level_db))
    return _with_pad(document, replace(document.pad(pad_id), level_db=level_db))


def put_on_slot(document: Document, slot: int, cut_id: int) -> Document:
    """Put a slice on the pad at a slot, in place of what it plays; an empty slot gets a new pad."""
    if not 0 <= slot < 8 * PADS_PER_PAGE:
        raise EditError("There is no pad at that place.")
    cut = document.cut(cut_id)
    layer = layer_of(cut)
    pad = next((p for p in document.pads if p.slot == slot), None)
    if pad is not None:
        return _with_pad(document, replace(pad, layers=(layer,)))
    drum = cut.heard[0].drum if cut.heard else "perc"
    new = Pad(document.next_id, slot, drum, cut.name or DRUMS[drum].label, DRUMS[drum].note, 0.0, (layer,))
    pads = tuple(sorted([*document.pads, new], key=lambda p: p.slot))
    return replace(document, pads=pads, next_id=document.next_id + 1)


def move_pad(document: Document, pad_id: int, slot: int) -> Document:
    """Move a pad to a slot; a pad that is there takes the free place."""
    if not 0 <= slot < 8 * PADS_PER_PAGE:
        raise EditError("There is no pad at that place.")
    pad = document.pad(pad_id)
    places = {pad_id: slot}
    other = next((p for p in document.pads if p.slot == slot), None)
    if other is not None:
        places[other.id] = pad.slot
    pads = (replace(p, slot=places.get(p.id, p.slot)) for p in document.pads)
    return replace(document, pads=tuple(sorted(pads, key=lambda p: p.slot)))


def clear_pad(document: Document, pad_id: int) -> Document:
    """Take the slices off a pad; its hits stay in the pattern and are silent until it has sound again."""
    return _with_pad(document, replace(document.pad(pad_id), layers=()))


def layer_of(cut: Cut, *, velocity: int | None = None, up_to: int = 127) -> Layer:
    """Return the layer that plays a cut's slice."""
    own = cut.heard[0].velocity if cut.heard else 100
    return Layer(cut.at_sample, cut.attack_sample, own if velocity is None else velocity, up_to)


def _with_pad(document: Document, pad: Pad) -> Document:
    return replace(document, pads=tuple(pad if p.id == pad.id else p for p in document.pads))
