"""Edits of cuts, slices and the loop: functions from document to document."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.document import Attack, Cut, Document, Heard, Hit, Loop, Pad, TempoReading
from bompla.model.drums import DRUMS
from bompla.units import ms_to_samples

SAME_ATTACK_MS = 15.0


def add_cut(document: Document, at_sample: int, *, attack_sample: int | None = None) -> Document:
    """Cut by hand at a sample; its hits are offered, and the pattern stays as it is.

    Raises EditError outside the loop and where another cut is too near.
    """
    loop = document.loop
    if not loop.start_sample <= at_sample < loop.end_sample:
        raise EditError("A cut must lie inside the loop.")
    if any(abs(cut.at_sample - at_sample) < document.min_cut_frames for cut in document.cuts):
        raise EditError("There is a cut already at this place.")
    attack = at_sample if attack_sample is None else max(at_sample, attack_sample)
    cut = Cut(document.next_id, at_sample, attack, 1.0, "hand", held=True)
    return replace(
        document,
        cuts=_sorted([*document.cuts, cut]),
        offers=(*document.offers, cut.id),
        next_id=document.next_id + 1,
    )


def move_cut(document: Document, cut_id: int, at_sample: int) -> Document:
    """Move a cut, no further than its neighbours; it is held from now on, and pads follow it."""
    cut = document.cut(cut_id)
    index = document.cuts.index(cut)
    near = document.min_cut_frames
    low = document.cuts[index - 1].at_sample + near if index else 0
    after = index + 1
    high = document.cuts[after].at_sample - near if after < len(document.cuts) else document.source.frames - 1
    at_sample = max(low, min(at_sample, high))
    if not low <= high or at_sample == cut.at_sample:
        return document
    keeps_attack = at_sample <= cut.attack_sample <= at_sample + ms_to_samples(20.0, document.source.sample_rate)
    attack = cut.attack_sample if keeps_attack else at_sample
    moved = replace(cut, at_sample=at_sample, attack_sample=attack, held=True)
    pads = tuple(_following(pad, cut, moved) for pad in document.pads)
    return replace(document, cuts=_sorted(moved if c is cut else c for c in document.cuts), pads=pads)


def delete_cuts(document: Document, cut_ids: Iterable[int]) -> Document:
    """Take cuts out; each slice joins the one before it, and the pattern keeps its hits."""
    gone = set(cut_ids)
    return replace(
        document,
        cuts=tuple(cut for cut in document.cuts if cut.id not in gone),
        offers=tuple(cut_id for cut_id in document.offers if cut_id not in gone),
    )


def set_threshold(document: Document, threshold: float) -> Document:
    """Cut at every attack at least this strong; hand and held cuts stay, and so do the pattern's hits."""
    threshold = max(0.0, min(1.0, threshold))
    return recut(replace(document, threshold=threshold))


def recut(document: Document) -> Document:
    """Make the heard cuts of the loop anew from its attacks, the threshold, and what is held."""
    loop, near = document.loop, document.min_cut_frames
    kept = [cut for cut in document.cuts if cut.held or cut.origin != "heard"]
    known = {cut.attack_sample: cut for cut in document.cuts if cut not in kept}
    taken = [time for cut in kept for time in (cut.at_sample, cut.attack_sample)]
    next_id = document.next_id
    cuts, new_ids = list(kept), []
    last = -near
    for attack in document.attacks:
        inside = loop.start_sample <= attack.at_sample and attack.cut_sample < loop.end_sample
        if not inside or attack.strength < document.threshold or attack.at_sample - last < near:
            continue
        if any(abs(attack.at_sample - time) < near for time in taken):
            continue
        last = attack.at_sample
        cut = known.get(attack.at_sample)
        if cut is None:
            at = max(loop.start_sample, attack.cut_sample)
            cut = Cut(next_id, at, attack.at_sample, attack.strength, "heard", heard=attack.heard, clear_db=attack.clear_db)
            new_ids.append(next_id)
            next_id += 1
        cuts.append(cut)
    cuts, next_id = _with_first(cuts, document, next_id)
    ids = {cut.id for cut in cuts}
    offers = [i for i in document.offers if i in ids] + _unplayed(document, cuts, new_ids)
    return replace(document, cuts=_sorted(cuts), offers=tuple(offers), next_id=next_id)


def set_loop(document: Document, loop: Loop) -> Document:
    """Choose another region, bar count or meter; hits stay with the sound they belong to."""
    frames = document.source.frames
    if not 0 <= loop.start_sample < loop.end_sample <= frames:
        raise EditError("The loop must lie inside the sound and have a length.")
    if loop == document.loop:
        return document
    changed = replace(document, loop=loop)
    before, after = document.beat_map, changed.beat_map
    variations = tuple(
        replace(v, hits=tuple(_retimed(h, after.beat_at(float(before.samples_at(h.at_beats)))) for h in v.hits))
        for v in document.variations
    )
    return recut(replace(changed, variations=variations))


def choose_reading(document: Document, reading: TempoReading) -> Document:
    """Read the same region as another number of bars or in another meter."""
    loop = document.loop
    return set_loop(document, Loop(loop.start_sample, loop.end_sample, reading.bars, reading.meter))


def rename_slice(document: Document, cut_id: int, name: str) -> Document:
    """Give a slice a name of its own; an empty one brings back the name of its drum."""
    return _with_cut(document, replace(document.cut(cut_id), name=name.strip()[:60]))


def set_left_out(document: Document, cut_ids: Iterable[int], left_out: bool) -> Document:
    """Leave slices out of kit making and of what is written, or take them in again."""
    chosen = set(cut_ids)
    cuts = tuple(replace(c, left_out=left_out) if c.id in chosen else c for c in document.cuts)
    return replace(document, cuts=cuts)


def correct_heard(document: Document, cut_id: int, drum: str) -> Document:
    """Say which drum leads in a slice, by hand: it takes the place of the drum heard first."""
    if drum not in DRUMS:
        raise EditError(f"There is no drum called {drum}.")
    cut = document.cut(cut_id)
    velocity = cut.heard[0].velocity if cut.heard else 100
    rest = tuple(h for h in cut.heard[1:] if h.drum != drum)
    return _with_cut(document, replace(cut, heard=(Heard(drum, 1.0, velocity), *rest), held=True))


def set_heard(document: Document, cut_id: int, heard: tuple[Heard, ...]) -> Document:
    """Enter what the analysis heard at a cut; a cut that is gone by now changes nothing."""
    if all(cut.id != cut_id for cut in document.cuts):
        return document
    return _with_cut(document, replace(document.cut(cut_id), heard=heard))


def _with_cut(document: Document, cut: Cut) -> Document:
    return replace(document, cuts=tuple(cut if c.id == cut.id else c for c in document.cuts))


def _sorted(cuts: Iterable[Cut]) -> tuple[Cut, ...]:
    return tuple(sorted(cuts, key=lambda cut: cut.at_sample))


def _following(pad: Pad, cut: Cut, moved: Cut) -> Pad:
    layers = tuple(
        replace(layer, at_sample=moved.at_sample, attack_sample=moved.attack_sample)
        if layer.at_sample == cut.at_sample
        else layer
        for layer in pad.layers
    )
    return pad if layers == pad.layers else replace(pad, layers=layers)


def _with_first(cuts: list[Cut], document: Document, next_id: int) -> tuple[list[Cut], int]:
    """Make sure that a slice begins where the loop does, so that slices tile it."""
    start, near = document.loop.start_sample, document.min_cut_frames
    for index, cut in enumerate(cuts):
        if start <= cut.at_sample < start + near:
            if cut.origin == "heard" and not cut.held:
                cuts[index] = replace(cut, at_sample=start)
            return cuts, next_id
    first = Cut(next_id, start, start, 0.0, "even")
    return [first, *(c for c in cuts if c.at_sample != start)], next_id + 1


def _unplayed(document: Document, cuts: list[Cut], new_ids: list[int]) -> list[int]:
    """Return those new cuts that hold a drum the pattern has no hit for at that time."""
    if not document.variations:
        return []
    near = ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    beat_map = document.beat_map
    times = [beat_map.sample_at(hit.at_beats) for hit in document.pattern.hits]
    by_id = {cut.id: cut for cut in cuts}
    return [
        i for i in new_ids if by_id[i].heard and all(abs(by_id[i].attack_sample - t) > near for t in times)
    ]


def _retimed(hit: Hit, at_beats: float) -> Hit:
    return replace(hit, at_beats=round(at_beats, 9))


def attack_near(attacks: Iterable[Attack], at_sample: int, within_samples: int) -> Attack | None:
    """Return the attack nearest to a sample within a distance, None where there is none."""
    near = [attack for attack in attacks if abs(attack.at_sample - at_sample) <= within_samples]
    return min(near, key=lambda attack: abs(attack.at_sample - at_sample), default=None)
