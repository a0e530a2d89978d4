"""Whether a document contradicts itself: what a file that is read has to pass."""

from __future__ import annotations

from math import isfinite

from bompla.errors import EditError
from bompla.model.colour import set_colour
from bompla.model.document import MAX_CUT_DISTANCE_MS, Document, Variation
from bompla.model.drums import DRUMS, METERS
from bompla.model.limits import check_ranges
from bompla.model.order_edits import set_order, set_wander
from bompla.model.phrase_edits import LEAST_GAIN_DB, MOST_GAIN_DB, MOST_LENGTH_BEATS, MOST_PITCH
from bompla.model.shape import KIT_TAILS, clamped
from bompla.model.variation_edits import MOST_PATTERN_BARS


def check_document(document: Document) -> None:
    """Raise EditError with a sentence where a document has a number out of its range, or contradicts itself."""
    check_ranges(document)
    for variation in document.variations:
        feel = variation.layer.feel
        if feel is not None and (not feel.late or len(feel.late) != len(feel.accent)):
            raise EditError(f"The feel {feel.name} has no steps.")
    cutting = document.cutting
    if not (cutting.even_beats > 0.0 and 1.0 <= cutting.min_distance_ms <= MAX_CUT_DISTANCE_MS and cutting.pull_ms >= 0.0):
        raise EditError("Even steps and the smallest distance of cuts need a length.")
    loop, frames = document.loop, document.source.frames
    if not 0 <= loop.start_sample < loop.end_sample <= frames:
        raise EditError("The loop must lie inside the sound and have a length.")
    if loop.length_beats <= 0.0 or loop.meter_name not in METERS:
        raise EditError("The loop needs a length in beats and a known meter.")
    if document.tail not in KIT_TAILS:
        raise EditError("The kit's tails must be one of those that there are.")
    times = [cut.at_sample for cut in document.cuts]
    if times != sorted(set(times)):
        raise EditError("Cuts must be in order, each at a time of its own.")
    pad_ids = _check_pads(document)
    _check_variations(document, pad_ids)
    if set_colour(document, document.colour).colour != document.colour:
        raise EditError("The colour has values out of their range.")
    if set_wander(document, document.wander).wander != document.wander or set_order(document, document.order).order != document.order:
        raise EditError("The order has repeats, or the wander stays, out of their range.")


def _check_pads(document: Document) -> set[int]:
    """Return the ids of the pads, each checked."""
    pad_ids = {pad.id for pad in document.pads}
    borrowed = {sound.content_hash for sound in document.borrowed}
    if len(borrowed) != len(document.borrowed) or any(sound.frames < 1 for sound in document.borrowed):
        raise EditError("Each sound from another file is there once, and has a length.")
    if len(pad_ids) != len(document.pads) or len({pad.slot for pad in document.pads}) != len(pad_ids):
        raise EditError("Each pad needs a place of its own.")
    for pad in document.pads:
        if pad.drum not in DRUMS or not 0 <= pad.note <= 127:
            raise EditError(f"The pad {pad.name} has no usable drum or note.")
        if pad.shape != clamped(pad.shape):
            raise EditError(f"The pad {pad.name} has a shape out of its range.")
        if any(layer.of and layer.of not in borrowed for layer in pad.layers):
            raise EditError(f"The pad {pad.name} plays a sound that is not there.")
        if pad.keys != (0, 0) and not 0 <= pad.keys[0] <= pad.note <= pad.keys[1] <= 127:
            raise EditError(f"The keys that play the pad {pad.name} must hold its own note.")
    return pad_ids


def _check_variations(document: Document, pad_ids: set[int]) -> None:
    letters = [variation.letter for variation in document.variations]
    if len(set(letters)) != len(letters) or not -1 <= document.shown < max(1, len(letters)) or "" in letters:
        raise EditError("Each variation needs a letter of its own, and one of them is shown.")
    for variation in document.variations:
        if variation.meter_name and variation.meter_name not in METERS:
            raise EditError(f"There is no meter called {variation.meter_name}.")
        if not 0 <= variation.bars <= MOST_PATTERN_BARS:
            raise EditError(f"A pattern has 1 to {MOST_PATTERN_BARS} bars.")
        _check_hits(variation, pad_ids)
    hits = [hit.id for variation in document.variations for hit in variation.hits]
    ids = [*(cut.id for cut in document.cuts), *(pad.id for pad in document.pads), *hits]
    if len(set(ids)) != len(ids) or any(item >= document.next_id for item in ids):
        raise EditError("Every cut, pad and hit needs an id of its own.")


def _check_hits(variation: Variation, pad_ids: set[int]) -> None:
    beats = [hit.at_beats for hit in variation.hits]
    if beats != sorted(beats):
        raise EditError("Hits must be in order of time.")
    for hit in variation.hits:
        if hit.pad_id not in pad_ids or not 1 <= hit.velocity <= 127 or not isfinite(hit.at_beats):
            raise EditError("A hit needs a pad, a time and a velocity from 1 to 127.")
        if not LEAST_GAIN_DB <= hit.gain_db <= MOST_GAIN_DB:
            raise EditError("A hit's gain is out of its range.")
        if not (abs(hit.pitch) <= MOST_PITCH and 0.0 <= hit.length_beats <= MOST_LENGTH_BEATS and 0.0 <= hit.chance <= 1.0):
            raise EditError("A hit's pitch, length or chance is out of its range.")
