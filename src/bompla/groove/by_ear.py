"""By ear: a groove written down by listening, its own variation, and how much of it is right so far."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.groove.grid import Grid
from bompla.model.detected_pattern import detected_pattern, pattern_of
from bompla.model.document import Document, EarRound, Hit
from bompla.model.pattern_edits import add_hit
from bompla.model.variation_edits import add_variation_hits

NAME = "by ear"
NEAR_S, LONGEST_S = 0.035, 0.08
"""A hit is right within half a step of the grid, but no less and no more than these."""


@dataclass(frozen=True)
class LaneCount:
    """How a lane stands: hits that are right, too many, and still missing."""

    pad_id: int
    right: int
    extra: int
    missing: int


def begin(document: Document) -> Document:
    """Return the document with an empty variation to be filled by ear, shown; one that was begun and is not over is shown again."""
    for index, one in enumerate(document.variations):
        if any(r.letter == one.letter and not r.answered for r in document.by_ear):
            return replace(document, shown=index)
    made = add_variation_hits(document, (), NAME)
    letter = pattern_of(made).letter
    kept = tuple(one for one in made.by_ear if one.letter != letter)  # a letter may have been another round's before
    return replace(made, by_ear=(*kept, EarRound(letter)))


def round_of(document: Document) -> EarRound | None:
    """Return the round of the shown variation, None where it is no such one."""
    letter = pattern_of(document).letter
    return next((one for one in document.by_ear if letter and one.letter == letter), None)


def with_round(document: Document, made: EarRound) -> Document:
    """Return the document with a round as it is now."""
    return replace(document, by_ear=tuple(made if one.letter == made.letter else one for one in document.by_ear))


def lane_counts(document: Document) -> tuple[LaneCount, ...]:
    """Return how each lane of the shown variation stands against what is heard in the loop; lanes without any hit are left out."""
    counts = []
    for pad in document.pads:
        wanted, placed = _lane(detected_pattern(document).hits, pad.id), _lane(pattern_of(document).hits, pad.id)
        pairs = _pairs(document, wanted, placed)
        if wanted or placed:
            counts.append(LaneCount(pad.id, len(pairs), len(placed) - len(pairs), len(wanted) - len(pairs)))
    return tuple(counts)


def missing_by_ear(document: Document) -> list[Hit]:
    """Return the hits that are still missing, the hardest first."""
    lacking: list[Hit] = []
    for pad in document.pads:
        wanted, placed = _lane(detected_pattern(document).hits, pad.id), _lane(pattern_of(document).hits, pad.id)
        found = {id(one) for one, _ in _pairs(document, wanted, placed)}
        lacking += [hit for hit in wanted if id(hit) not in found]
    return sorted(lacking, key=lambda hit: (-hit.velocity, hit.at_beats))


def hinted(document: Document) -> Document:
    """Return the document with one more hit of those that are missing, and the hint counted; raises EditError where none is."""
    lacking, running = missing_by_ear(document), round_of(document)
    if not lacking or running is None:
        raise EditError("Nothing is missing any more.")
    made = add_hit(document, lacking[0].pad_id, lacking[0].at_beats, lacking[0].velocity)
    return with_round(made, replace(running, hints=running.hints + 1))


def answered(document: Document) -> Document:
    """Return the document with all that was missing, and the round over: what was found by ear is kept with it."""
    running = round_of(document)
    if running is None:
        raise EditError("Begin by ear first.")
    counts = lane_counts(document)
    right, extra = sum(one.right for one in counts), sum(one.extra for one in counts)
    lacking = missing_by_ear(document)
    for hit in lacking:
        document = add_hit(document, hit.pad_id, hit.at_beats, hit.velocity)
    found = max(0, right - running.hints)
    return with_round(document, replace(running, answered=True, right=found, extra=extra, of=right + len(lacking)))


def step_of(document: Document, at_beats: float) -> float:
    """Return the step of the original's own grid nearest to a time: where a hit that is placed there goes."""
    return Grid.of(replace(document, shown=-1)).step_near(at_beats)


def in_words(one: EarRound) -> str:
    """Return in words how a round went."""
    minutes, seconds = divmod(round(one.seconds), 60)
    hints = "no hints" if not one.hints else f"{one.hints} hint{'s' if one.hints > 1 else ''}"
    return f"{one.right} of {one.of} by ear, {one.extra} too many, {hints}, in {minutes}:{seconds:02d}"


def _lane(hits: Sequence[Hit], pad_id: int) -> list[Hit]:
    return sorted((hit for hit in hits if hit.pad_id == pad_id), key=lambda hit: hit.at_beats)


def _pairs(document: Document, wanted: list[Hit], placed: list[Hit]) -> list[tuple[Hit, Hit]]:
    """Return hits matched in order of time: with one reach for all, the first that fits is as good as any."""
    beat_s = 60.0 / document.bpm
    near = max(NEAR_S, min(LONGEST_S, 0.125 * beat_s)) / beat_s
    pairs, a, b = [], 0, 0
    while a < len(wanted) and b < len(placed):
        apart = placed[b].at_beats - wanted[a].at_beats
        if abs(apart) <= near:
            pairs.append((wanted[a], placed[b]))
            a, b = a + 1, b + 1
        elif apart < 0.0:
            b += 1
        else:
            a += 1
    return pairs
