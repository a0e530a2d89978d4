"""Edits of the pattern: functions from document to document."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from itertools import pairwise
from statistics import median

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.detected_pattern import EARLIEST_BEATS, is_inside, pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document, Hit, Variation
from bompla.units import clamped_velocity

DEFAULT_VELOCITY = 100
SAME_BEATS = 1.0 / 32.0
TWO_LEVELS = 20
"""A drum whose velocities leave so wide a gap is played at two levels, ghosts and accents."""


def usual_velocity(document: Document, pad_id: int) -> int:
    """Return the velocity that a drawn hit gets: the middle of what the original plays on this pad, or of its accents."""
    pad = document.pad(pad_id)
    heard = sorted(h.velocity for cut in document.cuts for h in cut.heard if h.drum == pad.drum and h.sure)
    if not heard:
        return DEFAULT_VELOCITY
    gap, at = max(((b - a, n) for n, (a, b) in enumerate(pairwise(heard), 1)), default=(0, 0))
    return round(median(heard[at:] if gap >= TWO_LEVELS else heard))


def add_hit(document: Document, pad_id: int, at_beats: float, velocity: int | None = None) -> Document:
    """Draw a hit; without a velocity it gets the one that this drum has in the original.

    Raises EditError outside the loop, which begins up to half a beat early, and where the pad already has a hit at that time.
    """
    document.pad(pad_id)
    if not is_inside(at_beats, pattern_beats(document)):
        raise EditError("A hit must lie inside the loop.")
    if any(h.pad_id == pad_id and abs(h.at_beats - at_beats) < 1e-4 for h in pattern_of(document).hits):
        raise EditError("This pad already has a hit there.")
    chosen = usual_velocity(document, pad_id) if velocity is None else velocity
    hit = Hit(document.next_id, pad_id, float(at_beats), clamped_velocity(chosen))
    return replace(with_hits(document, [*pattern_of(document).hits, hit]), next_id=document.next_id + 1)


def add_played(document: Document, hits: Sequence[tuple[int, float, int, float]], *, replacing: bool = False) -> Document:
    """Add hits that were played, as (pad id, beat, velocity, pitch), or put them in place of what those pads had in the bars played.

    A hit nearer than a 32nd of a beat to one of the same pad takes its place.
    """
    known = {pad.id for pad in document.pads}
    hits = [hit for hit in hits if hit[0] in known and is_inside(hit[1], pattern_beats(document))]
    struck = {hit[0] for hit in hits}
    bar = pattern_meter(document).beats_per_bar
    first, last = (int(max(0.0, end((hit[1] for hit in hits), default=0.0)) // bar) for end in (min, max))
    times = {pad_id: [hit[1] for hit in hits if hit[0] == pad_id] for pad_id in struck}

    def stays(hit: Hit) -> bool:
        if hit.pad_id not in struck:
            return True
        if replacing and first <= int(max(0.0, hit.at_beats) // bar) <= last:
            return False
        return all(abs(hit.at_beats - beat) >= SAME_BEATS for beat in times[hit.pad_id])

    made = [Hit(document.next_id + n, pad_id, float(beat), clamped_velocity(velocity), pitch)
            for n, (pad_id, beat, velocity, pitch) in enumerate(hits)]
    kept = [hit for hit in pattern_of(document).hits if stays(hit)]
    return replace(with_hits(document, [*kept, *made]), next_id=document.next_id + len(made))


def delete_hits(document: Document, hit_ids: Iterable[int]) -> Document:
    """Take hits out of the pattern."""
    gone = set(hit_ids)
    return with_hits(document, [hit for hit in pattern_of(document).hits if hit.id not in gone])


def move_hits(
    document: Document, hit_ids: Iterable[int], by_beats: float, pad_id: int | None = None, *, early: bool = False
) -> Document:
    """Move hits in time, all by the same amount and none out of the loop, and to another pad if given.

    With `early` they may come to lie ahead of the first beat, up to half a beat.
    """
    chosen = set(hit_ids)
    times = [hit.at_beats for hit in pattern_of(document).hits if hit.id in chosen]
    if not times:
        return document
    last = pattern_beats(document) - 1e-6
    first = EARLIEST_BEATS if early else min(0.0, *times)
    by_beats = max(first - min(times), min(by_beats, last - max(times)))
    return _changed(
        document,
        chosen,
        lambda hit: replace(
            hit, at_beats=hit.at_beats + by_beats, pad_id=hit.pad_id if pad_id is None else pad_id
        ),
    )


def change_velocity(document: Document, hit_ids: Iterable[int], by: int) -> Document:
    """Make hits harder or softer, each by the same amount within 1 to 127."""
    return _changed(document, set(hit_ids), lambda hit: replace(hit, velocity=clamped_velocity(hit.velocity + by)))


def set_velocity(document: Document, hit_ids: Iterable[int], velocity: int) -> Document:
    """Give hits one velocity, from 1 to 127."""
    return _changed(document, set(hit_ids), lambda hit: replace(hit, velocity=clamped_velocity(velocity)))


def take_offers(document: Document, hits: Iterable[tuple[int, float, int]], gone: Collection[int] = ()) -> Document:
    """Add offered hits, as (pad id, beats, velocity), to the pattern, take out those that are `gone`, by id, and close the offer."""
    new, next_id = [], document.next_id
    for pad_id, at_beats, velocity in hits:
        new.append(Hit(next_id, pad_id, at_beats, clamped_velocity(velocity)))
        next_id += 1
    grown = with_hits(document, [*(hit for hit in pattern_of(document).hits if hit.id not in gone), *new])
    return drop_offers(replace(grown, next_id=next_id))


def drop_offers(document: Document) -> Document:
    """Leave the pattern as it is and close the offer."""
    return replace(document, offers=(), cuts=tuple(replace(cut, before=()) if cut.before else cut for cut in document.cuts))


def _changed(document: Document, chosen: set[int], change: Callable[[Hit], Hit]) -> Document:
    return with_hits(document, [change(h) if h.id in chosen else h for h in pattern_of(document).hits])


def with_hits(document: Document, hits: Iterable[Hit]) -> Document:
    """Return the document with these hits in its shown variation, in order of time."""
    ordered = tuple(sorted(hits, key=lambda hit: (hit.at_beats, hit.pad_id, hit.id)))
    return with_pattern(document, replace(pattern_of(document), hits=ordered))


def with_pattern(document: Document, pattern: Variation) -> Document:
    """Return the document with another variation in the place of the shown one; raises EditError where that is the detected one."""
    if document.shown < 0:
        raise EditError("The detected pattern cannot be changed. Duplicate it, and change the copy.")
    if not document.variations:
        return replace(document, variations=(pattern,), shown=0)
    variations = (pattern if n == document.shown else v for n, v in enumerate(document.variations))
    return replace(document, variations=tuple(variations))
