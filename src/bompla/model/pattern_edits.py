"""Edits of the pattern: functions from document to document."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from statistics import median

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.document import Document, Hit, Variation

DEFAULT_VELOCITY = 100


def usual_velocity(document: Document, pad_id: int) -> int:
    """Return the velocity that a drawn hit gets: the middle of what the original plays on this pad."""
    pad = document.pad(pad_id)
    heard = [h.velocity for cut in document.cuts for h in cut.heard if h.drum == pad.drum and h.confidence >= 0.5]
    return round(median(heard)) if heard else DEFAULT_VELOCITY


def add_hit(document: Document, pad_id: int, at_beats: float, velocity: int | None = None) -> Document:
    """Draw a hit; without a velocity it gets the one that this drum has in the original.

    Raises EditError outside the loop, and where the pad already has a hit at that time.
    """
    document.pad(pad_id)
    if not 0.0 <= at_beats < document.loop.beats:
        raise EditError("A hit must lie inside the loop.")
    if any(h.pad_id == pad_id and abs(h.at_beats - at_beats) < 1e-4 for h in document.pattern.hits):
        raise EditError("This pad already has a hit there.")
    chosen = usual_velocity(document, pad_id) if velocity is None else velocity
    hit = Hit(document.next_id, pad_id, float(at_beats), _held(chosen))
    return replace(_with_hits(document, [*document.pattern.hits, hit]), next_id=document.next_id + 1)


def delete_hits(document: Document, hit_ids: Iterable[int]) -> Document:
    """Take hits out of the pattern."""
    gone = set(hit_ids)
    return _with_hits(document, [hit for hit in document.pattern.hits if hit.id not in gone])


def move_hits(document: Document, hit_ids: Iterable[int], by_beats: float, pad_id: int | None = None) -> Document:
    """Move hits in time, all by the same amount and none out of the loop, and to another pad if given."""
    chosen = set(hit_ids)
    times = [hit.at_beats for hit in document.pattern.hits if hit.id in chosen]
    if not times:
        return document
    last = document.loop.beats - 1e-6
    by_beats = max(-min(times), min(by_beats, last - max(times)))
    return _changed(
        document,
        chosen,
        lambda hit: replace(
            hit, at_beats=hit.at_beats + by_beats, pad_id=hit.pad_id if pad_id is None else pad_id
        ),
    )


def change_velocity(document: Document, hit_ids: Iterable[int], by: int) -> Document:
    """Make hits harder or softer, each by the same amount within 1 to 127."""
    return _changed(document, set(hit_ids), lambda hit: replace(hit, velocity=_held(hit.velocity + by)))


def set_velocity(document: Document, hit_ids: Iterable[int], velocity: int) -> Document:
    """Give hits one velocity, held to 1 to 127."""
    return _changed(document, set(hit_ids), lambda hit: replace(hit, velocity=_held(velocity)))


def quantise_hits(document: Document, hit_ids: Iterable[int], step_beats: float) -> Document:
    """Move hits to the nearest step; one at the very end goes to the step before it."""
    if step_beats <= 0.0:
        raise EditError("A grid step needs a length.")

    def onto_grid(hit: Hit) -> Hit:
        step = round(hit.at_beats / step_beats)
        if step * step_beats >= document.loop.beats - 1e-9:
            step -= 1
        return replace(hit, at_beats=step * step_beats)

    return _changed(document, set(hit_ids), onto_grid)


def take_offers(document: Document, hits: Iterable[tuple[int, float, int]]) -> Document:
    """Add offered hits, as (pad id, beats, velocity), to the pattern, and close the offer."""
    new, next_id = [], document.next_id
    for pad_id, at_beats, velocity in hits:
        new.append(Hit(next_id, pad_id, at_beats, _held(velocity)))
        next_id += 1
    grown = _with_hits(document, [*document.pattern.hits, *new])
    return replace(grown, offers=(), next_id=next_id)


def drop_offers(document: Document) -> Document:
    """Leave the pattern as it is and close the offer."""
    return replace(document, offers=())


def _held(velocity: int) -> int:
    return max(1, min(127, velocity))


def _changed(document: Document, chosen: set[int], change: Callable[[Hit], Hit]) -> Document:
    return _with_hits(document, [change(h) if h.id in chosen else h for h in document.pattern.hits])


def _with_hits(document: Document, hits: Iterable[Hit]) -> Document:
    """Return the document with these hits in its shown variation, in order of time."""
    ordered = tuple(sorted(hits, key=lambda hit: (hit.at_beats, hit.pad_id, hit.id)))
    shown = replace(document.pattern, hits=ordered)
    variations: tuple[Variation, ...] = (shown, *document.variations[1:])
    return replace(document, variations=variations)
