"""From what was heard to a kit and a pattern."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import pairwise

from msgspec.structs import replace

from bompla.model.cut_edits import recut
from bompla.model.document import PAD_COLUMNS, PADS_PER_PAGE, Cut, Document, Heard, Hit, Layer, Pad, Variation
from bompla.model.drums import DRUMS, Drum, Family
from bompla.model.heard_loop import HeardLoop
from bompla.model.kit_edits import layer_of

PLAYED_CONFIDENCE = 0.5
MAX_LAYERS = 4
LAYER_GAP = 10
"""Two velocities further apart than this sound different enough for layers of their own."""

CLEAR_ENOUGH_DB = 30.0

ROWS = (Family.DRUMS, Family.SNARES, Family.HATS, Family.CYMBALS)
"""The rows of a page of pads from the lowest up; extras stand where there is room."""


def document_from(heard: HeardLoop, title: str) -> Document:
    """Return the project of a freshly analysed sound: cut, its kit made, its pattern as heard."""
    document = recut(
        Document(
            title=title,
            source=heard.source,
            loop=heard.loop,
            readings=heard.readings,
            tempo_confidence=heard.tempo_confidence,
            attacks=heard.attacks,
            threshold=heard.threshold,
        )
    )
    pads, next_id = made_kit(document.cuts, document.next_id)
    document = replace(document, pads=pads, next_id=next_id, offers=())
    hits = []
    for pad_id, at_beats, velocity in heard_hits(document, document.cuts):
        hits.append(Hit(next_id, pad_id, at_beats, velocity))
        next_id += 1
    ordered = tuple(sorted(hits, key=lambda hit: (hit.at_beats, hit.pad_id, hit.id)))
    return replace(document, variations=(Variation("A", "as heard", ordered),), next_id=next_id)


def played(cut: Cut) -> tuple[Heard, ...]:
    """Return the drums of a cut that are sure enough to play."""
    return tuple(h for h in cut.heard if h.confidence >= PLAYED_CONFIDENCE)


def heard_hits(document: Document, cuts: Iterable[Cut]) -> list[tuple[int, float, int]]:
    """Return the hits that cuts stand for, as (pad id, beats, velocity), one for each drum heard.

    A drum with no pad is left out, and so is a slice that was left out.
    """
    pads = {pad.drum: pad.id for pad in reversed(document.pads)}
    beat_map = document.beat_map
    hits = []
    for cut in cuts:
        if cut.left_out or not document.loop.start_sample <= cut.at_sample < document.loop.end_sample:
            continue
        beat = max(0.0, beat_map.beat_at(cut.attack_sample))
        hits += [(pads[h.drum], beat, h.velocity) for h in played(cut) if h.drum in pads]
    return hits


def offered_hits(document: Document) -> list[tuple[int, float, int]]:
    """Return the hits of the cuts that the pattern has not been given yet."""
    offered = set(document.offers)
    return heard_hits(document, [cut for cut in document.cuts if cut.id in offered])


def made_kit(cuts: Iterable[Cut], next_id: int) -> tuple[tuple[Pad, ...], int]:
    """Return a kit with a pad for each drum heard, and the next free id.

    Alike hits are grouped by drum, then by velocity at the widest gaps; in each group the
    cleanest slice, with least underneath it, speaks for the rest.
    """
    groups: dict[str, list[tuple[Cut, Heard]]] = {}
    for cut in cuts:
        if cut.left_out:
            continue
        for heard in played(cut):
            groups.setdefault(heard.drum, []).append((cut, heard))
    pads: list[Pad] = []
    taken: set[int] = set()
    for drum in DRUMS.values():
        if drum.key not in groups:
            continue
        slot = _free_slot(drum, taken)
        taken.add(slot)
        layers = _layers(groups[drum.key])
        pads.append(Pad(next_id, slot, drum.key, drum.label, drum.note, 0.0, layers))
        next_id += 1
    return tuple(sorted(pads, key=lambda pad: pad.slot)), next_id


def tray(document: Document) -> tuple[Cut, ...]:
    """Return the cuts whose slices are on no pad."""
    used = {layer.at_sample for pad in document.pads for layer in pad.layers}
    return tuple(c.cut for c in document.slices() if c.start_sample not in used and not c.cut.left_out)


def _free_slot(drum: Drum, taken: set[int]) -> int:
    row = ROWS.index(drum.family) if drum.family in ROWS else 2
    own = range(row * PAD_COLUMNS, (row + 1) * PAD_COLUMNS)
    return next(int(slot) for slot in (*own, *range(8 * PADS_PER_PAGE)) if slot not in taken)


def _layers(group: list[tuple[Cut, Heard]]) -> tuple[Layer, ...]:
    group = sorted(group, key=lambda item: item[1].velocity)
    gaps = [
        (b[1].velocity - a[1].velocity, index)
        for index, (a, b) in enumerate(pairwise(group), 1)
    ]
    wide = sorted((gap for gap in gaps if gap[0] >= LAYER_GAP), reverse=True)[: MAX_LAYERS - 1]
    bounds = [0, *sorted(index for _, index in wide), len(group)]
    layers = []
    for start, end in pairwise(bounds):
        cut, heard = max(group[start:end], key=_cleanness)
        last = end == len(group)
        up_to = 127 if last else (group[end - 1][1].velocity + group[end][1].velocity) // 2
        layers.append(layer_of(cut, velocity=heard.velocity, up_to=up_to))
    return tuple(layers)


def _cleanness(item: tuple[Cut, Heard]) -> tuple[float, float, float]:
    """Order by how little is heard underneath, then by how clearly it rises above what rings on, then by how sure it is."""
    cut, heard = item
    others = sum(h.confidence for h in cut.heard if h.drum != heard.drum)
    return (-round(others, 1), min(CLEAR_ENOUGH_DB, cut.clear_db), heard.confidence)
