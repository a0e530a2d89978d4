"""Edits of the kit: functions from document to document."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from itertools import pairwise

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.document import PADS_PER_PAGE, Borrowed, Cut, Document, Heard, Layer, Pad
from bompla.model.drums import DRUMS, drum_of_note
from bompla.model.params import Param
from bompla.model.shape import KIT_TAILS, PLAIN, Shape, clamped

MIN_LEVEL_DB, MAX_LEVEL_DB = -48.0, 12.0
LEVEL = Param("level_db", "Level", "dB", MIN_LEVEL_DB, MAX_LEVEL_DB, "How loud the pad is")
UNHEARD_VELOCITY = 100
FIRST_SPARE_NOTE = 60
"""From here up, notes are looked for that no drum has."""

TURN_VELOCITY = 10
"""Slices whose velocities are nearer than this are equals, and take turns."""


def rename_pad(document: Document, pad_id: int, name: str) -> Document:
    """Give a pad a name; an empty one brings back its drum's label."""
    pad = document.pad(pad_id)
    return changed_pad(document, replace(pad, name=name.strip()[:40] or DRUMS[pad.drum].label))


def set_pad_drum(document: Document, pad_id: int, drum: str) -> Document:
    """Give a pad another drum, and with it the drum's note, and its label unless it has its own name."""
    if drum not in DRUMS:
        raise EditError(f"There is no drum called {drum}.")
    pad = document.pad(pad_id)
    own_name = pad.name != DRUMS[pad.drum].label
    name = pad.name if own_name else DRUMS[drum].label
    return changed_pad(document, _at_note(replace(pad, drum=drum, name=name), DRUMS[drum].note))


def set_pad_note(document: Document, pad_id: int, note: int) -> Document:
    """Give a pad another MIDI note, 0 to 127."""
    if not 0 <= note <= 127:
        raise EditError("A MIDI note is a number from 0 to 127.")
    return changed_pad(document, _at_note(document.pad(pad_id), note))


def set_pad_level(document: Document, pad_id: int, level_db: float) -> Document:
    """Set a pad's level in dB, clamped to -48 to 12."""
    level_db = max(MIN_LEVEL_DB, min(MAX_LEVEL_DB, level_db))
    return changed_pad(document, replace(document.pad(pad_id), level_db=level_db))


def set_shape(document: Document, pad_id: int, shape: Shape) -> Document:
    """Give a pad another shape, every value in its range."""
    pad = document.pad(pad_id)
    shape = clamped(shape)
    return document if shape == pad.shape else changed_pad(document, replace(pad, shape=shape))


def set_kit_tail(document: Document, tail: str) -> Document:
    """Choose how slices go on past their end, on all pads that leave it to the kit."""
    if tail not in KIT_TAILS:
        raise EditError("The kit's slices can end, ring on, or go back and forth.")
    return replace(document, tail=tail)


def copy_pad(document: Document, pad_id: int, slot: int) -> Document:
    """Copy a pad, with its sound and shape, to a free slot, with the next free note."""
    pad = document.pad(pad_id)
    if any(p.slot == slot for p in document.pads):
        raise EditError("There is a pad at that place; clear it first.")
    note = free_note(document, pad.note, pad.drum)
    new = replace(_at_note(pad, note), id=document.next_id, slot=slot, name=f"{pad.name} 2"[:40])
    return replace(document, pads=tuple(sorted([*document.pads, new], key=lambda p: p.slot)), next_id=document.next_id + 1)


def put_on_slot(document: Document, slot: int, cut_id: int) -> Document:
    """Put a slice on the pad at a slot, in place of what it plays; an empty slot gets a new pad."""
    if not 0 <= slot < 8 * PADS_PER_PAGE:
        raise EditError("There is no pad at that place.")
    cut = document.cut(cut_id)
    drum = cut.heard[0].drum if cut.heard else "perc"
    return _put_layer(document, slot, layer_of(cut), drum, cut.name)


def put_borrowed(document: Document, slot: int, sound: Borrowed, heard: Heard, *, attack_sample: int, more: bool = False) -> Document:
    """Put a sound from another file on the pad at a slot, in place of what it plays or with `more` beside it.

    What it is `heard` as says how hard it was played, and which drum an empty slot becomes.
    """
    if not 0 <= slot < 8 * PADS_PER_PAGE:
        raise EditError("There is no pad at that place.")
    layer = Layer(0, attack_sample, heard.velocity, 127, sound.content_hash)
    if all(one.content_hash != sound.content_hash for one in document.borrowed):
        document = replace(document, borrowed=(*document.borrowed, sound))
    pad = next((p for p in document.pads if p.slot == slot), None)
    if pad is not None and more:
        return _with_layer(document, pad.id, layer)
    return _put_layer(document, slot, layer, heard.drum, sound.name)


def _put_layer(document: Document, slot: int, layer: Layer, drum: str, name: str) -> Document:
    pad = next((p for p in document.pads if p.slot == slot), None)
    if pad is not None:  # what was set for the loop's own slice is not meant for a sound from a file
        return changed_pad(document, replace(pad, layers=(layer,), shape=PLAIN if layer.of and not pad.sound_edited else pad.shape))
    note = free_note(document, DRUMS[drum].note, drum)
    new = Pad(document.next_id, slot, drum, name[:40] or DRUMS[drum].label, note, 0.0, (layer,), edited=True, sound_edited=True)
    pads = tuple(sorted([*document.pads, new], key=lambda p: p.slot))
    return replace(document, pads=pads, next_id=document.next_id + 1)


def free_note(document: Document, note: int, drum: str = "") -> int:
    """Return a MIDI note that no pad has: this one, another of its drum's, or the next that is no other drum's."""
    return _free_note({pad.note for pad in document.pads}, note, drum)


def _free_note(taken: Collection[int], note: int, drum: str = "") -> int:
    own = DRUMS[drum].other_notes if drum in DRUMS else ()
    others = (*range(FIRST_SPARE_NOTE, 128), *range(FIRST_SPARE_NOTE - 1, -1, -1))
    spare = sorted((n for n in others if drum_of_note(n) == "perc" and n != DRUMS["perc"].note), key=lambda n: n < FIRST_SPARE_NOTE)
    return next((n for n in (note, *own, *(spare if drum else range(note, 128)), *others) if n not in taken), note)


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
    return changed_pad(document, replace(document.pad(pad_id), layers=()))


def remove_pad(document: Document, pad_id: int) -> Document:
    """Remove a pad with its hits from the kit, from every variation, and from what refers to it."""
    document.pad(pad_id)
    pads = tuple(replace(p, stacked=0) if p.stacked == pad_id else p for p in document.pads if p.id != pad_id)
    variations = tuple(
        replace(v, hits=tuple(hit for hit in v.hits if hit.pad_id != pad_id),
                layer=replace(v.layer, lanes=tuple(lane for lane in v.layer.lanes if lane != pad_id),
                              ahead_ms=tuple(one for one in v.layer.ahead_ms if one[0] != pad_id)))
        for v in document.variations)
    return replace(document, pads=pads, variations=variations)


def set_layer_range(document: Document, pad_id: int, layer: Layer, up_to: int) -> Document:
    """Let a layer, and those that take turns with it, answer to velocities up to another; the hardest always reaches 127.

    Raises EditError where that would leave another layer nothing.
    """
    pad = document.pad(pad_id)
    heights = sorted({one.up_to for one in pad.layers})
    if layer not in pad.layers or layer.up_to == heights[-1]:
        raise EditError("The hardest layer of a pad always answers up to 127.")
    place = heights.index(layer.up_to)
    low, high = (heights[place - 1] if place else 0) + 1, heights[place + 1] - 1
    if not low <= up_to <= high:
        raise EditError(f"This layer can answer up to {low} to {high}, between its neighbours.")
    layers = tuple(replace(one, up_to=up_to) if one.up_to == layer.up_to else one for one in pad.layers)
    return changed_pad(document, replace(pad, layers=layers))


def take_off(document: Document, pad_id: int, layer: Layer) -> Document:
    """Take one slice off a pad; the next harder one answers to its velocities, or else the next softer."""
    pad = document.pad(pad_id)
    left = tuple(one for one in pad.layers if one != layer)
    if left and layer.up_to == 127 and all(one.up_to < 127 for one in left):
        highest = left[-1].up_to
        left = tuple(replace(one, up_to=127) if one.up_to == highest else one for one in left)
    return changed_pad(document, replace(pad, layers=left))


def add_layer(document: Document, pad_id: int, cut_id: int) -> Document:
    """Put one more slice on a pad, to take turns with those of its loudness or to answer to velocities of its own."""
    return _with_layer(document, pad_id, layer_of(document.cut(cut_id)))


def _with_layer(document: Document, pad_id: int, layer: Layer) -> Document:
    pad = document.pad(pad_id)
    if any((one.of, one.at_sample) == (layer.of, layer.at_sample) for one in pad.layers):
        raise EditError("That is on this pad already.")
    groups: dict[int, list[Layer]] = {}
    for one in pad.layers:
        groups.setdefault(one.up_to, []).append(one)
    near = next((group for group in groups.values() if abs(group[0].velocity - layer.velocity) < TURN_VELOCITY), None)
    if near is not None:
        near.append(layer)
    else:
        groups[-1] = [layer]
    ordered = sorted(groups.values(), key=lambda group: group[0].velocity)
    bounds = [(max(a.velocity for a in low) + min(b.velocity for b in high)) // 2 for low, high in pairwise(ordered)]
    heights = [*bounds, 127]
    layers = tuple(replace(one, up_to=up_to) for group, up_to in zip(ordered, heights, strict=True) for one in group)
    return changed_pad(document, replace(pad, layers=layers))


def layer_of(cut: Cut, *, velocity: int | None = None, up_to: int = 127) -> Layer:
    """Return the layer that plays a cut's slice."""
    return Layer(cut.at_sample, cut.attack_sample, loudest_velocity(cut) if velocity is None else velocity, up_to)


def loudest_velocity(cut: Cut) -> int:
    """Return how hard the loudest drum of a cut is struck, of those that are sure where any is."""
    own = [h.velocity for h in cut.heard if h.sure] or [h.velocity for h in cut.heard]
    return max(own, default=UNHEARD_VELOCITY)


def changed_pad(document: Document, pad: Pad) -> Document:
    """Return the document with a pad as it was changed by hand."""
    before = document.pad(pad.id)
    pad = replace(pad, edited=True, sound_edited=before.sound_edited or _sound(pad) != _sound(before))
    return replace(document, pads=tuple(pad if p.id == pad.id else p for p in document.pads))


def _sound(pad: Pad) -> tuple[object, ...]:
    """Return what of a pad makes its sound, but for where it is sent."""
    return pad.layers, pad.level_db, replace(pad.shape, room=PLAIN.room, echo=PLAIN.echo, output=PLAIN.output)


def set_stacked(document: Document, pad_id: int, other_id: int) -> Document:
    """Let another pad sound with a pad; 0 for none. Raises EditError for the pad itself."""
    if other_id == pad_id:
        raise EditError("A pad cannot sound with itself; choose another one.")
    if other_id:
        document.pad(other_id)
    return changed_pad(document, replace(document.pad(pad_id), stacked=other_id))


def set_keys(document: Document, pad_id: int, low: int, high: int) -> Document:
    """Let the notes from `low` to `high` play a pad at their pitch; (0, 0) leaves only its own note."""
    pad = document.pad(pad_id)
    if (low, high) != (0, 0) and not 0 <= low <= pad.note <= high <= 127:
        raise EditError("The range must hold the pad's own note, and lie between 0 and 127.")
    return changed_pad(document, replace(pad, keys=(low, high)))


def notes_by_drum(document: Document) -> Document:
    """Give every pad its drum's General MIDI percussion note; a drum's second pad gets the next free one."""
    return _with_notes(document, [DRUMS[pad.drum].note for pad in document.pads], by_drum=True)


def notes_in_order(document: Document, first: int = 36) -> Document:
    """Give the pads notes upwards from `first`, in the order of their places."""
    return _with_notes(document, [min(127, first + n) for n in range(len(document.pads))])


def notes_from_list(document: Document, notes: Mapping[str, int]) -> Document:
    """Give pads the notes that a list has for their names, or else for their drums; the others keep theirs."""
    listed = [notes.get(pad.name, notes.get(pad.drum)) for pad in document.pads]
    taken = {note for note in listed if note is not None}
    free = iter(n for n in range(127, -1, -1) if n not in taken and n not in {pad.note for pad in document.pads})
    kept = [next(free) if note is None and pad.note in taken else pad.note for pad, note in zip(document.pads, listed, strict=True)]
    return _with_notes(document, [known if note is None else note for note, known in zip(listed, kept, strict=True)])


def _at_note(pad: Pad, note: int) -> Pad:
    """Return a pad at another note; the keys that play it move along, or are given up where they would leave the range of notes."""
    low, high = (key + note - pad.note for key in pad.keys)
    fits = pad.keys != (0, 0) and low >= 0 and high <= 127
    return replace(pad, note=note, keys=(low, high) if fits else (0, 0))


def _with_notes(document: Document, wanted: Iterable[int], *, by_drum: bool = False) -> Document:
    taken: set[int] = set()
    pads = []
    for pad, note in zip(document.pads, wanted, strict=True):
        if not 0 <= note <= 127:
            raise EditError("A MIDI note is a number from 0 to 127.")
        free = _free_note(taken, note, pad.drum if by_drum else "")
        taken.add(free)
        pads.append(pad if pad.note == free else replace(_at_note(pad, free), edited=True))
    return replace(document, pads=tuple(pads))
