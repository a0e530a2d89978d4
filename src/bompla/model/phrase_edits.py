"""Edits of many hits at once, and ways to choose them: functions from document to document, or to ids.

A stretch is a pair of beats, start and end; hits outside it stay.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import numpy as np
from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.detected_pattern import EARLIEST_BEATS, is_inside, pattern_bars, pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document, Hit
from bompla.model.params import Param
from bompla.model.pattern_edits import SAME_BEATS, with_hits
from bompla.model.variation_edits import set_bars
from bompla.units import clamped_velocity

Beats = tuple[float, float]
AMOUNT = Param("amount", "Quantise by", "share", 0.0, 1.0, "How far hits move to their step, shown while it is dragged", default=1.0)
MOST_LENGTH_BEATS, MOST_PITCH = 8.0, 24.0
VALUES = ("offset", "velocity", "length", "pitch", "chance", "gain")
"""What of a hit can be drawn: offset in ms from its step, velocity, length in beats, pitch in semitones, chance from 0 to 1, gain in dB."""

LEAST_GAIN_DB, MOST_GAIN_DB = -24.0, 12.0


def bars_around(document: Document, hit_ids: Iterable[int]) -> Beats:
    """Return the whole bars that hits lie in; all of the pattern for none."""
    chosen = set(hit_ids)
    times = [hit.at_beats for hit in pattern_of(document).hits if hit.id in chosen and is_inside(hit.at_beats, pattern_beats(document))]
    per_bar = pattern_meter(document).beats_per_bar
    if not times:
        return 0.0, float(pattern_beats(document))
    early = SAME_BEATS  # a hit a little ahead of a bar belongs to it
    first, last = (int(max(0.0, at + early) // per_bar) for at in (min(times), max(times)))
    return float(first * per_bar), float(min((last + 1) * per_bar, pattern_beats(document)))


def in_stretch(document: Document, stretch: Beats, pad_ids: Iterable[int] | None = None) -> list[Hit]:
    """Return the hits of a stretch, of some pads or of all."""
    pads = None if pad_ids is None else set(pad_ids)
    return [h for h in pattern_of(document).hits if stretch[0] <= max(0.0, h.at_beats) < stretch[1] and (pads is None or h.pad_id in pads)]


def same_step(document: Document, hit_ids: Iterable[int], *, every: float, step: float) -> frozenset[int]:
    """Return the hits of the same pads that lie on the same step of every so many beats."""
    chosen = [hit for hit in pattern_of(document).hits if hit.id in set(hit_ids)]
    steps = round(every / step)
    wanted = {(hit.pad_id, round(hit.at_beats / step) % steps) for hit in chosen}
    return frozenset(h.id for h in pattern_of(document).hits if (h.pad_id, round(h.at_beats / step) % steps) in wanted)


def by_loudness(document: Document, hit_ids: Iterable[int], *, softer: bool) -> frozenset[int]:
    """Return the hits of the same pads that are no louder, or no softer, than the chosen ones."""
    chosen = [hit for hit in pattern_of(document).hits if hit.id in set(hit_ids)]
    pads = {hit.pad_id for hit in chosen}
    bound = max((h.velocity for h in chosen), default=0) if softer else min((h.velocity for h in chosen), default=128)
    return frozenset(
        h.id for h in pattern_of(document).hits if h.pad_id in pads and (h.velocity <= bound if softer else h.velocity >= bound)
    )


def copied(document: Document, hit_ids: Iterable[int]) -> tuple[tuple[Hit, ...], float, float]:
    """Return hits with their times counted from where they begin, that beat, and how many beats they are long.

    What is longer than half a bar is taken to be whole bars, what is shorter whole beats.
    """
    chosen = set(hit_ids)
    hits = [hit for hit in pattern_of(document).hits if hit.id in chosen]
    if not hits:
        return (), 0.0, 0.0
    start = float(int(hits[0].at_beats + SAME_BEATS))
    end = float(np.floor(hits[-1].at_beats + SAME_BEATS) + 1.0)
    if end - start > pattern_meter(document).beats_per_bar / 2:
        start, end = bars_around(document, chosen)
    return tuple(replace(hit, at_beats=hit.at_beats - start) for hit in hits), start, end - start


def pasted(document: Document, hits: Sequence[Hit], at_beats: float) -> tuple[Document, frozenset[int]]:
    """Put copied hits at a beat, in place of hits of the same pads at the same times; return the document and their ids.

    Those that would lie outside the pattern are left out.
    """
    known = {pad.id for pad in document.pads}
    placed = [replace(hit, at_beats=round(at_beats + hit.at_beats, 9)) for hit in hits if hit.pad_id in known]
    placed = [hit for hit in placed if is_inside(hit.at_beats, pattern_beats(document))]
    made = [replace(hit, id=document.next_id + n) for n, hit in enumerate(placed)]
    times = {hit.pad_id: [other.at_beats for other in made if other.pad_id == hit.pad_id] for hit in made}
    kept = [h for h in pattern_of(document).hits if all(abs(h.at_beats - t) >= SAME_BEATS for t in times.get(h.pad_id, ()))]
    grown = replace(with_hits(document, [*kept, *made]), next_id=document.next_id + len(made))
    return grown, frozenset(hit.id for hit in made)


def repeated_to_end(document: Document, hit_ids: Iterable[int]) -> Document:
    """Repeat the bars that hits lie in, of their pads, to the end of the pattern, in place of what was there."""
    chosen = set(hit_ids)
    start, end = bars_around(document, chosen)
    pads = {hit.pad_id for hit in pattern_of(document).hits if hit.id in chosen} or {pad.id for pad in document.pads}
    part = in_stretch(document, (start, end), pads)
    left = [h for h in pattern_of(document).hits if h.pad_id not in pads or not end <= h.at_beats < pattern_beats(document)]
    made, next_id, at = [], document.next_id, end
    while at < pattern_beats(document):
        for hit in part:
            beat = at + hit.at_beats - start
            if beat < pattern_beats(document):
                made.append(replace(hit, id=next_id, at_beats=beat))
                next_id += 1
        at += end - start
    return replace(with_hits(document, [*left, *made]), next_id=next_id)


def reversed_in(document: Document, stretch: Beats, pad_ids: Iterable[int] | None = None, *, step: float = 0.25) -> Document:
    """Play a stretch backwards, its last step first; done twice it is as it was."""
    start, end = stretch
    length = end - start
    return _timed(document, stretch, pad_ids, lambda at: start + (length - step - (at - start)) % length)


def rotated(document: Document, stretch: Beats, pad_ids: Iterable[int] | None = None, *, by_beats: float = 0.25) -> Document:
    """Move the hits of a stretch along, those past its end coming in again at its start; back by as much undoes it."""
    start, end = stretch
    return _timed(document, stretch, pad_ids, lambda at: start + (at - start + by_beats) % (end - start))


def at_half_time(document: Document, stretch: Beats, pad_ids: Iterable[int] | None = None) -> Document:
    """Play a stretch half as fast: its first half fills it."""
    start, end = stretch
    hits = in_stretch(document, stretch, pad_ids)
    gone = {hit.id for hit in hits if hit.at_beats - start >= (end - start) / 2.0}
    moved = _timed(document, stretch, pad_ids, lambda at: max(EARLIEST_BEATS, start + 2.0 * (at - start)), leave=gone)
    return with_hits(moved, [hit for hit in pattern_of(moved).hits if hit.id not in gone])


def at_double_time(document: Document, stretch: Beats, pad_ids: Iterable[int] | None = None) -> Document:
    """Play a stretch twice as fast, and so twice."""
    start, end = stretch
    hits = in_stretch(document, stretch, pad_ids)
    moved = _timed(document, stretch, pad_ids, lambda at: start + (at - start) / 2.0)
    half = (end - start) / 2.0
    again = [replace(hit, id=document.next_id + n, at_beats=start + half + (hit.at_beats - start) / 2.0) for n, hit in enumerate(hits)]
    return replace(with_hits(moved, [*pattern_of(moved).hits, *again]), next_id=document.next_id + len(again))


def thinned(document: Document, hit_ids: Iterable[int]) -> Document:
    """Take every second of the chosen hits of each pad out, the softer of each pair."""
    chosen = set(hit_ids)
    gone: set[int] = set()
    for pad in document.pads:
        hits = [hit for hit in pattern_of(document).hits if hit.id in chosen and hit.pad_id == pad.id]
        for first, second in zip(hits[::2], hits[1::2], strict=False):
            gone.add(second.id if second.velocity <= first.velocity else first.id)
    return with_hits(document, [hit for hit in pattern_of(document).hits if hit.id not in gone])


def merged(document: Document, *, near_beats: float = SAME_BEATS) -> Document:
    """Make one of hits of a pad that lie nearer than so many beats: the harder one stays."""
    kept: list[Hit] = []
    last: dict[int, int] = {}
    for hit in pattern_of(document).hits:
        before = last.get(hit.pad_id)
        if before is not None and hit.at_beats - kept[before].at_beats < near_beats:
            if hit.velocity > kept[before].velocity:
                kept[before] = replace(kept[before], velocity=hit.velocity)
            continue
        last[hit.pad_id] = len(kept)
        kept.append(hit)
    return with_hits(document, kept)


def without_bars(document: Document, stretch: Beats) -> Document:
    """Cut bars out: what comes later moves up, and the pattern is so much shorter; raises EditError where nothing would be left."""
    start, end = stretch
    if end - start >= pattern_beats(document):
        raise EditError("A pattern has at least one bar; select hits of fewer bars.")
    left = [h for h in pattern_of(document).hits if not start <= max(0.0, h.at_beats) < end]
    moved = with_hits(document, [replace(h, at_beats=h.at_beats - (end - start)) if h.at_beats >= end else h for h in left])
    return _longer_by(moved, start - end)


def with_first_bars(document: Document, bars: int) -> Document:
    """Return the document with no more of the shown pattern than its first bars: what a small picture shows."""
    shown = pattern_of(document)
    if bars >= pattern_bars(document):
        return document
    beats = bars * pattern_meter(document).beats_per_bar
    kept = replace(shown, bars=bars, hits=tuple(hit for hit in shown.hits if hit.at_beats < beats))
    return replace(document, variations=(kept,), shown=0)


def with_empty_bars(document: Document, stretch: Beats) -> Document:
    """Put empty bars in before a stretch, as long as it: what comes later moves on, and the pattern is so much longer."""
    start, end = stretch
    later = end - start
    moved = [replace(h, at_beats=h.at_beats + later) if max(0.0, h.at_beats) >= start else h for h in pattern_of(document).hits]
    return _longer_by(with_hits(document, moved), later)


def _longer_by(document: Document, beats: float) -> Document:
    per_bar = pattern_meter(document).beats_per_bar
    return set_bars(document, round((pattern_beats(document) + beats) / per_bar))


def quantised_by(document: Document, hit_ids: Iterable[int], step_of: Callable[[float], float], amount: float) -> Document:
    """Move hits towards their nearest step, by an amount from 0, not at all, to 1; `step_of` gives the step in beats at a beat."""
    chosen = set(hit_ids)

    def pulled(hit: Hit) -> Hit:
        step = step_of(hit.at_beats)
        nearest = min(round(hit.at_beats / step) * step, pattern_beats(document) - step)
        nearest = nearest if nearest >= EARLIEST_BEATS else 0.0
        return replace(hit, at_beats=round(hit.at_beats + max(0.0, min(1.0, amount)) * (nearest - hit.at_beats), 9))

    return with_hits(document, [pulled(h) if h.id in chosen else h for h in pattern_of(document).hits])


def set_values(document: Document, what: str, values: dict[int, float], step_of: Callable[[float], float]) -> Document:
    """Give hits, by id, values of one kind of `VALUES`, each in its range.

    Raises EditError for a kind that there is not.
    """
    beat_ms = 60_000.0 / document.bpm

    def changed(hit: Hit, value: float) -> Hit:
        if what == "velocity":
            return replace(hit, velocity=clamped_velocity(value))
        if what == "length":
            return replace(hit, length_beats=round(max(0.0, min(MOST_LENGTH_BEATS, value)), 4))
        if what == "pitch":
            return replace(hit, pitch=round(max(-MOST_PITCH, min(MOST_PITCH, value)) * 2.0) / 2.0)
        if what == "chance":
            return replace(hit, chance=round(max(0.0, min(1.0, value)), 3))
        if what == "gain":
            return replace(hit, gain_db=round(max(LEAST_GAIN_DB, min(MOST_GAIN_DB, value)), 1))
        step = step_of(hit.at_beats)
        at = round(hit.at_beats / step) * step + value / beat_ms
        return replace(hit, at_beats=round(max(EARLIEST_BEATS, min(pattern_beats(document) - 1e-6, at)), 9))

    if what not in VALUES:
        raise EditError(f"A hit has no {what}.")
    return with_hits(document, [changed(h, values[h.id]) if h.id in values else h for h in pattern_of(document).hits])


def _timed(
    document: Document, stretch: Beats, pad_ids: Iterable[int] | None, place: Callable[[float], float], leave: Iterable[int] = ()
) -> Document:
    ids = {hit.id for hit in in_stretch(document, stretch, pad_ids)} - set(leave)
    return with_hits(document, [replace(h, at_beats=round(place(h.at_beats), 9)) if h.id in ids else h for h in pattern_of(document).hits])

