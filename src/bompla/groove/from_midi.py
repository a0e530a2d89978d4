"""A variation from the notes of a MIDI file."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from bompla.model.document import Document, Hit
from bompla.model.drums import DRUMS, Meter, drum_of_note
from bompla.model.variation_edits import MOST_PATTERN_BARS, add_variation_hits, meters_for
from bompla.model.wording import counted
from bompla.units import note_name

Notes = Iterable[tuple[float, int, int]]
"""Struck notes as (beat, MIDI note, velocity)."""


def pad_of_note(document: Document, note: int) -> tuple[int, float] | None:
    """Return the pad that a note plays and how many semitones off its own, None where no pad has it.

    A pad's own note comes first, then a range of keys that has it, then the drum that the note is in General MIDI percussion.
    """
    for pad in document.pads:
        if pad.note == note:
            return pad.id, 0.0
    for pad in document.pads:
        if pad.keys != (0, 0) and pad.keys[0] <= note <= pad.keys[1]:
            return pad.id, float(note - pad.note)
    drum = drum_of_note(note)
    if note not in (DRUMS[drum].note, *DRUMS[drum].other_notes):
        return None
    found = next((pad.id for pad in document.pads if pad.drum == drum), None)
    return (found, 0.0) if found is not None else None


def variation_from_notes(document: Document, notes: Notes, *, beats: int, meter: Meter, name: str) -> tuple[Document, str]:
    """Return the document with a variation of these notes, shown, and a sentence about what had no pad, empty where all had one.

    Raises EditError where there are too many variations.
    """
    hits, homeless = [], Counter[int]()
    for at_beats, note, velocity in notes:
        pad = pad_of_note(document, note)
        if pad is None:
            homeless[note] += 1
        else:
            hits.append(Hit(0, pad[0], max(0.0, at_beats), velocity, pitch=pad[1]))
    own_meter = meter.name if meter.name != document.loop.meter_name and meter.name in meters_for(document) else ""
    per_bar = meter.beats_per_bar if own_meter else document.loop.meter.beats_per_bar
    bars = max(1, min(MOST_PATTERN_BARS, -(-beats // per_bar)))
    bars = 0 if not own_meter and bars == document.loop.bars else bars
    made = add_variation_hits(document, hits, name[:40], bars=bars, meter_name=own_meter)
    if not homeless:
        return made, ""
    named = ", ".join(f"{note} ({note_name(note)})" for note, _ in homeless.most_common(4))
    lost = counted(sum(homeless.values()), "note")
    return made, f"{lost} had no pad and were left out: {named}. Give a pad that note, and open the file again."
