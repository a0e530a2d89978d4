"""The pattern that is shown, and the detected one: what the cuts stand for, always there and never edited."""

from __future__ import annotations

from collections.abc import Iterable

from bompla.model.document import Cut, Document, Heard, Hit, Variation
from bompla.model.drums import Meter
from bompla.model.loop import whole_bars
from bompla.model.memo import LastMade

NAME, FIRST_NAME = "Detected", "main"
"""What the detected pattern is called, and the first variation, which begins as a copy of it."""

EARLIEST_BEATS = -0.5
"""So far ahead of a pattern's first beat a hit may lie: it belongs to that beat, played early, and is heard at the end of each turn."""

_PATTERNS: LastMade[Variation] = LastMade()
_INSIDE: LastMade[tuple[Hit, ...]] = LastMade(6)


def played(cut: Cut) -> tuple[Heard, ...]:
    """Return the drums of a cut that are sure enough to play."""
    return tuple(h for h in cut.heard if h.sure)


def detected_hits(document: Document, cuts: Iterable[Cut]) -> list[tuple[int, float, int]]:
    """Return the hits that cuts stand for, as (pad id, beats, velocity), one for each drum heard.

    A drum with no pad is left out, and so is a slice that was left out.
    """
    pads = {pad.drum: pad.id for pad in reversed(document.pads)}
    start, end = document.loop.start_sample, document.loop.end_sample
    inside = [cut for cut in cuts if not cut.left_out and start <= cut.at_sample < end]
    beats = document.beat_map.beats_at([cut.attack_sample for cut in inside]).tolist()
    placed = zip(inside, beats, strict=True)
    return [(pads[h.drum], max(0.0, beat), h.velocity) for cut, beat in placed for h in played(cut) if h.drum in pads]


def detected_pattern(document: Document) -> Variation:
    """Return what was detected as a variation without a letter, whose hits have ids below zero."""

    def made() -> Variation:
        hits = sorted(detected_hits(document, document.cuts), key=lambda hit: (hit[1], hit[0]))
        return Variation("", NAME, tuple(Hit(-n, *hit) for n, hit in enumerate(hits, 1)))

    return _PATTERNS.get((document.cuts, document.pads, document.loop), made)


def pattern_of(document: Document) -> Variation:
    """Return the variation that is shown and played; the detected one where `shown` is below 0."""
    if document.shown < 0:
        return detected_pattern(document)
    if not document.variations:
        return Variation("A", FIRST_NAME)
    return document.variations[min(document.shown, len(document.variations) - 1)]


def pattern_meter(document: Document) -> Meter:
    """Return the meter of the shown variation."""
    return document.meter_of(pattern_of(document))


def pattern_beats(document: Document) -> float:
    """Return the length of the shown variation in beats."""
    return document.beats_of(pattern_of(document))


def pattern_bars(document: Document) -> int:
    """Return how many bars of its meter the shown variation reaches into, at least one."""
    return whole_bars(pattern_beats(document), pattern_meter(document))


def is_inside(at_beats: float, beats: float) -> bool:
    """Whether a time in beats belongs to a pattern of so many beats, up to half a beat ahead of its first."""
    return EARLIEST_BEATS <= at_beats < beats


def hits_inside(document: Document) -> tuple[Hit, ...]:
    """Return the hits of the shown variation that lie inside it."""
    pattern = pattern_of(document)

    def inside() -> tuple[Hit, ...]:
        beats = pattern_beats(document)
        return tuple(hit for hit in pattern.hits if EARLIEST_BEATS <= hit.at_beats < beats)

    return _INSIDE.get((pattern, document.loop), inside)
