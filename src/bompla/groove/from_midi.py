"""A variation from the notes of a MIDI file."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from bompla.groove.pad_table import pad_for_note, with_silent_pads
from bompla.model.document import Document, Hit
from bompla.model.drums import Meter
from bompla.model.variation_edits import MOST_PATTERN_BARS, add_variation_hits, meters_for
from bompla.model.wording import counted
from bompla.units import note_name

Notes = Iterable[tuple[float, int, int]]
"""Struck notes as (beat, MIDI note, velocity)."""


def variation_from_notes(document: Document, notes: Notes, *, beats: int, meter: Meter, name: str) -> tuple[Document, str]:
    """Return the document with a variation of these notes, shown, and a sentence about those that no pad of the kit fits, if any.

    Notes find their pad by the kit's notes, then by drum, then by what stands in for it; what is left over goes to new, empty pads, so
    that nothing is dropped. Raises EditError where there are too many variations.
    """
    notes = list(notes)
    found = {note: pad_for_note(document.pads, note) for note in {note for _, note, _ in notes}}
    homeless = Counter(note for _, note, _ in notes if found[note] is None)
    document, silent = with_silent_pads(document, homeless)
    places = {note: place or ((silent[note], 0.0) if note in silent else None) for note, place in found.items()}
    hits = [Hit(0, place[0].id, max(0.0, at_beats), velocity, pitch=place[1]) for at_beats, note, velocity in notes
            if (place := places[note]) is not None]
    own_meter = meter.name if meter.name != document.loop.meter_name and meter.name in meters_for(document) else ""
    per_bar = meter.beats_per_bar if own_meter else document.loop.meter.beats_per_bar
    bars = max(1, min(MOST_PATTERN_BARS, -(-beats // per_bar)))
    bars = 0 if not own_meter and bars == document.loop.bars else bars
    made = add_variation_hits(document, hits, name[:40], bars=bars, meter_name=own_meter)
    if not homeless:
        return made, ""
    named = ", ".join(f"{note} ({note_name(note)})" for note, _ in homeless.most_common(4))
    return made, (f"{counted(sum(homeless.values()), 'note')} fit no pad and are on {counted(len(silent), 'new, empty pad')}: {named}. "
                  "Put a sound there, or drag the hits to another lane.")
