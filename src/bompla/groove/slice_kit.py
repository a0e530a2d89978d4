"""One pad per slice: the loop as it is, cut up."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable

from msgspec.structs import replace

from bompla.model.beatmap import BeatMap
from bompla.model.detected_pattern import played
from bompla.model.document import PADS_PER_PAGE, SAME_ATTACK_MS, Document, Hit, Pad, Slice, Variation
from bompla.model.drums import DRUMS
from bompla.model.kit_edits import layer_of
from bompla.model.moments import UNLABELLED
from bompla.model.shape import PLAIN, SLICES_SET
from bompla.units import ms_to_samples

FIRST_NOTE = 36
FOLLOWS_LOOP = 0.8
"""A variation follows the loop where it plays so large a share of the slices that have drums."""

STEPS_PER_BEAT = 48
"""Hits of a slice nearer than such a step are one."""


def kit_of_slices(document: Document) -> Document:
    """Put every slice on a pad of its own, in order, from note 36 up; each hit goes to the pad of the slice it falls in.

    Each slice ends where the next begins. Slices in which no drum was sure get a hit in every variation that follows the loop.
    """
    slices = [s for s in document.slices() if not s.cut.left_out][: 8 * PADS_PER_PAGE]
    if not slices:
        return document
    pads = tuple(_pad(document.next_id + place, place, piece) for place, piece in enumerate(slices))
    starts = [piece.cut.attack_sample for piece in slices]
    near = ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    silent = [place for place, piece in enumerate(slices) if not played(piece.cut)]
    next_id, variations = document.next_id + len(pads), []
    for variation in document.variations:
        moved = _moved(variation, pads, starts, document.beat_map, near)
        if follows_loop(document, variation):
            moved = _with_silent(moved, [(pads[place], starts[place]) for place in silent], document.beat_map, next_id)
        variations.append(moved)
        next_id += len(silent)
    return replace(document, pads=pads, variations=tuple(variations), next_id=next_id)


def without_drum(document: Document) -> tuple[Slice, ...]:
    """Return the slices in which no drum is sure, but for those left out."""
    return tuple(piece for piece in document.slices() if not piece.cut.left_out and not played(piece.cut))


def follows_loop(document: Document, variation: Variation) -> bool:
    """Whether a variation plays nearly all of the loop's slices that have drums."""
    slices = [piece for piece in document.slices() if not piece.cut.left_out]
    starts = [piece.cut.attack_sample for piece in slices]
    near = ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    places = document.beat_map.samples_at([hit.at_beats for hit in variation.hits])
    struck = {bisect_right(starts, place + near) - 1 for place in places.tolist()}
    wanted = [place for place, piece in enumerate(slices) if played(piece.cut)]
    return len(struck.intersection(wanted)) >= FOLLOWS_LOOP * len(wanted)


def _pad(pad_id: int, place: int, piece: Slice) -> Pad:
    cut = piece.cut
    drum = cut.heard[0].drum if cut.heard else "perc"
    name = cut.name or f"{piece.number} {DRUMS[drum].label.lower()}"
    return Pad(pad_id, place, drum, name, min(127, FIRST_NOTE + place), 0.0, (layer_of(cut),), replace(PLAIN, choke=SLICES_SET),
               sound_edited=True)


def _moved(variation: Variation, pads: tuple[Pad, ...], starts: list[int], beat_map: BeatMap, near: int) -> Variation:
    """Return a variation whose hits are on the pads of their slices; of several in one slice and place the hardest stays."""
    hits: dict[tuple[int, int], Hit] = {}
    for hit in variation.hits:
        place = max(0, bisect_right(starts, beat_map.sample_at(hit.at_beats) + near) - 1)
        key = (place, round(hit.at_beats * STEPS_PER_BEAT))
        if key not in hits or hits[key].velocity < hit.velocity:
            hits[key] = replace(hit, pad_id=pads[place].id, gain_db=0.0, moment=UNLABELLED)
    return replace(variation, hits=_ordered(hits.values()))


def _with_silent(variation: Variation, silent: list[tuple[Pad, int]], beat_map: BeatMap, first_id: int) -> Variation:
    """Return a variation with a hit for each of these pads at its attack, where it has none."""
    struck = {hit.pad_id for hit in variation.hits}
    missing = [(pad, at_sample) for pad, at_sample in silent if pad.id not in struck]
    beats = beat_map.beats_at([at_sample for _, at_sample in missing]).tolist()
    new = [Hit(first_id + n, pad.id, max(0.0, at_beats), pad.layers[0].velocity)
           for n, ((pad, _), at_beats) in enumerate(zip(missing, beats, strict=True))]
    return replace(variation, hits=_ordered((*variation.hits, *new)))


def _ordered(hits: Iterable[Hit]) -> tuple[Hit, ...]:
    return tuple(sorted(hits, key=lambda h: (h.at_beats, h.pad_id, h.id)))
