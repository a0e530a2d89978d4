"""The pattern as it was heard: what the cuts stand for, always there and never edited."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable

from bompla.model.document import Cut, Document, Heard, Hit, Loop, Pad, Variation

NAME = "as heard"

_RECENT: deque[tuple[tuple[Cut, ...], tuple[Pad, ...], Loop, Variation]] = deque(maxlen=4)


def played(cut: Cut) -> tuple[Heard, ...]:
    """Return the drums of a cut that are sure enough to play."""
    return tuple(h for h in cut.heard if h.sure)


def heard_hits(document: Document, cuts: Iterable[Cut]) -> list[tuple[int, float, int]]:
    """Return the hits that cuts stand for, as (pad id, beats, velocity), one for each drum heard.

    A drum with no pad is left out, and so is a slice that was left out.
    """
    pads = {pad.drum: pad.id for pad in reversed(document.pads)}
    start, end = document.loop.start_sample, document.loop.end_sample
    inside = [cut for cut in cuts if not cut.left_out and start <= cut.at_sample < end]
    beats = document.beat_map.beats_at([cut.attack_sample for cut in inside]).tolist()
    placed = zip(inside, beats, strict=True)
    return [(pads[h.drum], max(0.0, beat), h.velocity) for cut, beat in placed for h in played(cut) if h.drum in pads]


def as_heard(document: Document) -> Variation:
    """Return what was heard as a variation without a letter, whose hits have ids below zero.

    The last few are kept, as every view asks for it.
    """
    for cuts, pads, loop, known in tuple(_RECENT):
        if cuts is document.cuts and pads is document.pads and loop is document.loop:
            return known
    hits = sorted(heard_hits(document, document.cuts), key=lambda hit: (hit[1], hit[0]))
    made = Variation("", NAME, tuple(Hit(-n, *hit) for n, hit in enumerate(hits, 1)))
    _RECENT.append((document.cuts, document.pads, document.loop, made))
    return made
