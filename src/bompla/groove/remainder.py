"""The remainder: slices in which no drum is sure, on a pad of their own, so that a rebuilt loop is whole."""

from __future__ import annotations

import numpy as np
from msgspec.structs import replace

from bompla.groove.layers import pad_of
from bompla.groove.rebuild import free_slot
from bompla.groove.slice_kit import follows_loop, without_drum
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import SAME_ATTACK_MS, Document, Heard, Hit, Pad, Slice
from bompla.model.drums import DRUMS
from bompla.model.kit_edits import free_note
from bompla.model.moments import moment_of
from bompla.model.strike_levels import level_db
from bompla.units import MAX_VELOCITY, db_to_velocity, ms_to_samples, samples_to_ms

NAME = "Remainder"
DRUM = "perc"
"""What the remainder is taken for in MIDI and on the pads: percussion without a name."""


def remaining(document: Document) -> tuple[Slice, ...]:
    """Return the slices in which no drum is sure, that no pad plays and at which the shown pattern has no hit."""
    slices = without_drum(document)
    if not slices:
        return ()
    used = {layer.at_sample for pad in document.pads for layer in pad.layers if not layer.of}
    near = ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    struck = np.append(document.beat_map.samples_at([hit.at_beats for hit in pattern_of(document).hits]), np.inf)
    return tuple(one for one in slices if one.start_sample not in used and np.abs(struck - one.cut.attack_sample).min() > near)


def with_remainder(document: Document) -> Document:
    """Return the document with a pad for what remains and its hits in each variation that follows the loop; itself where nothing does.

    Each hit is as loud as its slice, against the loudest slice of the loop.
    """
    slices = remaining(document)
    if not slices:
        return document
    strikes = [Heard(DRUM, 1.0, velocity) for velocity in _velocities(document, slices)]
    drum = DRUMS[DRUM]
    pad_id = document.next_id
    slot, note = free_slot(drum, {pad.slot for pad in document.pads}), free_note(document, drum.note, drum.key)
    lengths_ms = {one.cut.id: samples_to_ms(one.end_sample - one.cut.attack_sample, document.source.sample_rate) for one in slices}
    layers = pad_of(DRUM, [(one.cut, strike) for one, strike in zip(slices, strikes, strict=True)], lengths_ms).layers
    pad = Pad(pad_id, slot, DRUM, NAME, note, 0.0, layers, edited=True, remainder=True)
    document = replace(document, pads=tuple(sorted((*document.pads, pad), key=lambda one: one.slot)), next_id=pad_id + 1)
    beats = document.beat_map.beats_at([one.cut.attack_sample for one in slices]).tolist()
    variations = []
    for variation in document.variations:
        new: tuple[Hit, ...] = ()
        if follows_loop(document, variation):
            first = document.next_id
            new = tuple(Hit(first + n, pad_id, max(0.0, at_beats), strike.velocity, moment=moment_of(one.cut))
                        for n, (one, at_beats, strike) in enumerate(zip(slices, beats, strikes, strict=True)))
            document = replace(document, next_id=first + len(new))
        variations.append(replace(variation, hits=tuple(sorted((*variation.hits, *new), key=lambda h: (h.at_beats, h.pad_id, h.id)))))
    return replace(document, variations=tuple(variations))


def _velocities(document: Document, slices: tuple[Slice, ...]) -> list[int]:
    """Return how hard each slice was struck by its measured level, against the loudest of the loop; by what was heard where none is."""
    levels = [level for cut in document.cuts if (level := level_db(cut.levels)) is not None]
    made = []
    for one in slices:
        level = level_db(one.cut.levels)
        heard = max((h.velocity for h in one.cut.heard), default=MAX_VELOCITY // 2)
        made.append(heard if level is None else db_to_velocity(level - max(levels)))
    return made
