"""Mends of a difference: the pattern as it is, made like what it is compared with."""

from __future__ import annotations

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.groove.compare import Difference
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.pattern_edits import add_hit, delete_hits, with_hits


def mended(document: Document, difference: Difference) -> Document:
    """Return the document with the shown pattern like the original in one place.

    A missing hit is drawn, one too many is taken out, one that is moved, louder or softer is put back. Raises EditError where the drum has
    no pad, or the hit is gone.
    """
    one, other = difference.one, difference.other
    if difference.kind == "missing" and one is not None:
        pad = next((pad for pad in document.pads if pad.drum == one.drum), None)
        if pad is None:
            raise EditError(f"No pad plays the {one.drum.replace('_', ' ')}; put a slice on one first.")
        return add_hit(document, pad.id, one.at_beats, one.velocity)
    if other is None:
        raise EditError("There is nothing to mend here.")
    if difference.kind == "extra":
        return delete_hits(document, [other.hit_id])
    if one is None:
        raise EditError("There is nothing to mend here.")
    pad_id = next((pad.id for pad in document.pads if pad.drum == one.drum), 0)
    hits = []
    for hit in pattern_of(document).hits:
        if hit.id != other.hit_id:
            hits.append(hit)
        elif difference.kind == "moved":
            hits.append(replace(hit, at_beats=hit.at_beats + one.at_beats - other.at_beats))
        elif difference.kind == "other drum" and pad_id:
            hits.append(replace(hit, pad_id=pad_id, velocity=one.velocity))
        else:
            hits.append(replace(hit, velocity=one.velocity))
    return with_hits(document, hits)
