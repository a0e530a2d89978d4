"""A pattern taken from another sound: its hits on the pads of this one, by drum, so that the groove plays on this kit."""

from __future__ import annotations

from collections import Counter

from msgspec.structs import replace

from bompla.groove.pad_table import pad_for, with_silent_pads
from bompla.model.document import Document, FeelLayer, Variation
from bompla.model.moments import UNLABELLED
from bompla.model.variation_edits import add_variation_hits, meters_for
from bompla.model.wording import counted


def with_groove_of(document: Document, other: Document, variation: Variation) -> tuple[Document, str]:
    """Return the document with another's variation as one of its own, shown, and a sentence about hits that no pad fits, if any.

    Hits find their pad by drum, then by what stands in for it, then by note; what is left over goes to new, empty pads.
    """
    pads = {pad.id: pad for pad in other.pads}
    places = {pad.id: pad_for(document.pads, pad.drum, pad.note) for pad in other.pads}
    homeless = Counter(pads[hit.pad_id].note for hit in variation.hits if places[hit.pad_id] is None)
    document, silent = with_silent_pads(document, homeless)
    hits = []
    for hit in variation.hits:
        pad = places[hit.pad_id] or silent.get(pads[hit.pad_id].note)
        if pad is not None:
            hits.append(replace(hit, pad_id=pad.id, moment=UNLABELLED, gain_db=0.0))
    meter = other.meter_of(variation)
    own_meter = meter.name if meter.name != document.loop.meter_name and meter.name in meters_for(document) else ""
    bars = max(1, round(other.beats_of(variation) / (meter.beats_per_bar if own_meter else document.loop.meter.beats_per_bar)))
    layer = replace(variation.layer, ahead_ms=(), lanes=()) if variation.layer != FeelLayer() else FeelLayer()
    name = f"{variation.letter or variation.name.lower()} of {other.title}"[:40]
    made = add_variation_hits(document, hits, name, layer=layer, bars=bars, meter_name=own_meter)
    if not homeless:
        return made, ""
    return made, (f"{counted(sum(homeless.values()), 'hit')} of {counted(len(homeless), 'drum')} fit no pad and are on new, empty ones; "
                  "put a sound there, or drag the hits to another lane.")
