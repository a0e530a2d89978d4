"""Which pad plays what: drums and notes find their pad by drum, then by what is nearest to it, then by note."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from msgspec.structs import replace

from bompla.groove.rebuild import free_slot
from bompla.model.document import PADS_PER_PAGE, Document, Hit, Pad, Variation
from bompla.model.drums import DRUMS, NEAREST, like_note
from bompla.model.kit_edits import free_note
from bompla.units import note_name

MOST_PADS = 8 * PADS_PER_PAGE


def pad_for(pads: Sequence[Pad], drum: str, note: int) -> Pad | None:
    """Return the pad of a kit that a drum finds: its own, of several the one of its note; one that stands in; one of its note; or none."""
    for wanted in (drum, *NEAREST.get(drum, ())):
        own = [pad for pad in pads if pad.drum == wanted]
        if own:
            return next((pad for pad in own if pad.note == note), own[0])
    return next((pad for pad in pads if pad.note == note), None)


def pad_for_note(pads: Sequence[Pad], note: int) -> tuple[Pad, float] | None:
    """Return the pad that a MIDI note plays, and how many semitones off its own; None where no pad fits.

    A pad's own note comes first, then a range of keys that has it, then the drum that the note is in General MIDI percussion.
    """
    for pad in pads:
        if pad.note == note:
            return pad, 0.0
    for pad in pads:
        if pad.keys != (0, 0) and pad.keys[0] <= note <= pad.keys[1]:
            return pad, float(note - pad.note)
    drum = like_note(note)
    found = pad_for(pads, drum, note) if drum else None
    return (found, 0.0) if found is not None else None


def with_silent_pads(document: Document, notes: Iterable[int]) -> tuple[Document, dict[int, Pad]]:
    """Return the document with an empty pad for each note that has none, so that nothing is dropped, and those pads by note.

    Where all places are taken, the notes that are left share the last pad that was made, or else the kit's last.
    """
    made: dict[int, Pad] = {}
    for note in sorted(set(notes)):
        drum = like_note(note) or "perc"
        taken = {pad.slot for pad in document.pads}
        if len(taken) >= MOST_PADS:
            made[note] = next(reversed(made.values()), document.pads[-1])
            continue
        own = free_note(document, note)
        name = f"note {note} {note_name(note)}"
        pad = Pad(document.next_id, free_slot(DRUMS[drum], taken), drum, name, own, edited=True, sound_edited=True)
        pads = tuple(sorted((*document.pads, pad), key=lambda one: one.slot))
        document = replace(document, pads=pads, next_id=pad.id + 1)
        made[note] = pad
    return document, made


class Swap(NamedTuple):
    """A kit put under a groove: the document, and what found no drum of its own: pads that stand in, and pads that stayed, in words."""

    document: Document
    stands_in: tuple[str, ...]
    stayed: tuple[str, ...]


def with_pads(document: Document, kit: Sequence[Pad]) -> Swap:
    """Put a kit in place of the document's pads, and every hit of every variation on a pad of it; none is lost.

    What no pad of the kit can play stays on its own pad, which stays with it.
    """
    played = {hit.pad_id for variation in document.variations for hit in variation.hits}
    places: dict[int, Pad] = {}
    kept: list[Pad] = []
    stands_in = []
    for pad in document.pads:
        found = pad_for(kit, pad.drum, pad.note)
        if found is not None:
            places[pad.id] = found
            if found.drum != pad.drum and pad.id in played:
                stands_in.append(f"{pad.name} on {found.name}")
        elif pad.id in played:
            kept.append(pad)
    made = document_with(document, [*kit, *_moved_aside(kept, kit)])
    variations = tuple(_on_pads(variation, {old: pad.id for old, pad in places.items()}) for variation in document.variations)
    return Swap(replace(made, variations=variations), tuple(stands_in), tuple(pad.name for pad in kept))


def document_with(document: Document, pads: Iterable[Pad]) -> Document:
    """Return the document with these pads, in order of their places."""
    ordered = tuple(sorted(pads, key=lambda pad: pad.slot))
    known = {pad.id for pad in ordered}
    ordered = tuple(pad if pad.stacked in known or not pad.stacked else replace(pad, stacked=0) for pad in ordered)
    return replace(document, pads=ordered, next_id=max([document.next_id, *(pad.id + 1 for pad in ordered)]))


def _moved_aside(kept: list[Pad], kit: Sequence[Pad]) -> list[Pad]:
    """Return pads that stay, at places and notes that the kit leaves free."""
    slots, notes = {pad.slot for pad in kit}, {pad.note for pad in kit}
    made = []
    for pad in kept:
        slot = pad.slot if pad.slot not in slots else free_slot(DRUMS[pad.drum], slots)
        note = pad.note if pad.note not in notes else next((n for n in range(127, -1, -1) if n not in notes), pad.note)
        slots.add(slot)
        notes.add(note)
        made.append(replace(pad, slot=slot, note=note, keys=(0, 0) if note != pad.note else pad.keys))
    return made


def _on_pads(variation: Variation, places: dict[int, int]) -> Variation:
    hits = tuple(_on(hit, places) for hit in variation.hits)
    layer = variation.layer
    ahead = {places.get(pad_id, pad_id): ms for pad_id, ms in layer.ahead_ms}
    lanes = tuple(dict.fromkeys(places.get(pad_id, pad_id) for pad_id in layer.lanes))
    ordered = tuple(sorted(hits, key=lambda hit: (hit.at_beats, hit.pad_id, hit.id)))
    return replace(variation, hits=ordered, layer=replace(layer, ahead_ms=tuple(ahead.items()), lanes=lanes))


def _on(hit: Hit, places: dict[int, int]) -> Hit:
    return replace(hit, pad_id=places.get(hit.pad_id, hit.pad_id))
