"""Moments: the hits that were detected in one cut. While they stand as they were made, the loop's own slice plays in their place."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Collection, Iterable, Sequence
from typing import NamedTuple

from msgspec.structs import replace

from bompla.model.detected_pattern import is_inside, played
from bompla.model.document import SAME_ATTACK_MS, Cut, Document, Hit, Pad, Slice, Variation
from bompla.model.memo import LastMade
from bompla.units import ms_to_samples, velocity_to_db

TOGETHER_DB = 1.5
"""Hits are louder or softer together where they differ by no more than this."""

UNLABELLED = -1
BY_LOOP, BY_PADS = "loop", "pads"
UNTOUCHED = {BY_LOOP: "the loop", BY_PADS: "the pads"}
"""What untouched moments of a variation play, by key."""


class Moment(NamedTuple):
    """An untouched moment: the slice that plays, where its attack falls in beats, how much louder than detected, the hits it stands for."""

    piece: Slice
    at_beats: float
    gain_db: float
    hits: tuple[Hit, ...]


class Bearing(NamedTuple):
    """A slice that moments are made of: where it was detected in beats, and how hard on which pad."""

    piece: Slice
    home_beats: float
    velocities: dict[int, int]


_BEARING: LastMade[dict[int, Bearing]] = LastMade(6)
_LABELLED: LastMade[tuple[Hit, ...]] = LastMade(8)
_UNTOUCHED: LastMade[tuple[Moment, ...]] = LastMade(4)


def bearing(document: Document) -> dict[int, Bearing]:
    """Return the slices that have hits of their own, by the sample of their attack; those that were left out have none."""

    def made() -> dict[int, Bearing]:
        found = {}
        pads = {pad.drum: pad.id for pad in reversed(document.pads) if not pad.remainder}
        remainder = next((pad.id for pad in document.pads if pad.remainder), 0)
        pieces = [piece for piece in document.slices()
                  if not piece.cut.left_out and piece.start_sample <= piece.cut.attack_sample < piece.end_sample]
        homes = document.beat_map.beats_at([piece.cut.attack_sample for piece in pieces]).tolist()
        for piece, home in zip(pieces, homes, strict=True):
            heard = played(piece.cut)
            velocities = {pads[h.drum]: h.velocity for h in heard if h.drum in pads} if heard else {remainder: 0} if remainder else {}
            if velocities and (not heard or all(h.drum in pads for h in heard)):
                found[piece.cut.attack_sample] = Bearing(piece, max(0.0, home), velocities)
        return found

    return _BEARING.get((document.cuts, document.pads, document.loop), made)


def moment_of(cut: Cut) -> int:
    """Return what the hits of a cut are labelled with: they belong together wherever they go."""
    return cut.attack_sample


def labelled(document: Document, variation: Variation) -> tuple[Hit, ...]:
    """Return a variation's hits, labelled: what lies just where a hit was detected as that one, what lost its cut by a nudge as its next.

    They are as they are where pads play them all.
    """

    def made() -> tuple[Hit, ...]:
        slices = bearing(document)
        if variation.untouched == BY_PADS or all(hit.moment in slices for hit in variation.hits):
            return variation.hits
        homes = {(pad_id, round(one.home_beats, 6)): moment for moment, one in slices.items() for pad_id in one.velocities}
        attacks, near = sorted(slices), ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)

        def label(hit: Hit) -> int:
            if hit.moment in slices:
                return hit.moment
            if hit.moment == UNLABELLED:
                return homes.get((hit.pad_id, round(hit.at_beats, 6)), UNLABELLED)
            return min(attacks[max(0, bisect_left(attacks, hit.moment - near)) : bisect_right(attacks, hit.moment + near)],
                       key=lambda attack: abs(attack - hit.moment), default=hit.moment)

        return tuple(hit if (found := label(hit)) == hit.moment else replace(hit, moment=found) for hit in variation.hits)

    return _LABELLED.get((variation, document.cuts, document.pads, document.loop), made)


def untouched(document: Document, hits: Sequence[Hit], silenced: Collection[int] = ()) -> tuple[Moment, ...]:
    """Return the moments that are untouched among hits as they are played, in order of time.

    All hits that a cut stands for are there, moved by one and the same time, louder or softer together; none is changed in pitch, length
    or chance, no other hit falls within the same attack, and their pads sound as they were made. A moment with a `silenced` pad is touched.
    """

    def made() -> tuple[Moment, ...]:
        slices = bearing(document)
        near = SAME_ATTACK_MS / 1000.0 * document.bpm / 60.0
        whole = {pad.id for pad in document.pads if _as_made(pad) and pad.id not in silenced}
        pads = {pad.id: pad for pad in document.pads}
        together: dict[tuple[int, float], list[Hit]] = {}
        for hit in hits:
            if hit.moment in slices:
                together.setdefault((hit.moment, round(hit.at_beats - slices[hit.moment].home_beats, 6)), []).append(hit)
        found = {key: one for key, group in together.items() if (one := _moment(slices[key[0]], group, whole, pads)) is not None}
        return tuple(sorted(_by_themselves(found, hits, near), key=lambda one: (one.at_beats, one.piece.number)))

    if silenced:
        return made()
    return _UNTOUCHED.get((hits, document.cuts, document.pads, document.loop), made)


def _moment(bears: Bearing, group: list[Hit], whole: Collection[int], pads: dict[int, Pad]) -> Moment | None:
    """Return the moment that hits of one cut and one displacement are, None where it was touched."""
    if sorted(hit.pad_id for hit in group) != sorted(bears.velocities) or any(hit.pad_id not in whole for hit in group):
        return None
    if any(hit.pitch or hit.length_beats or hit.chance < 1.0 for hit in group):
        return None
    if len({(pads[hit.pad_id].shape.room, pads[hit.pad_id].shape.echo, pads[hit.pad_id].shape.output) for hit in group}) > 1:
        return None
    gains = [hit.gain_db + velocity_to_db(hit.velocity) - velocity_to_db(bears.velocities[hit.pad_id] or hit.velocity) for hit in group]
    if max(gains) - min(gains) > TOGETHER_DB:
        return None
    return Moment(bears.piece, group[0].at_beats, sum(gains) / len(gains), tuple(group))


def _by_themselves(found: dict[tuple[int, float], Moment], hits: Iterable[Hit], near: float) -> list[Moment]:
    """Return the moments within whose attack nothing else falls: neither another hit nor a moment that came there from elsewhere."""
    members = {id(hit) for moment in found.values() for hit in moment.hits}
    others = sorted(hit.at_beats for hit in hits if id(hit) not in members)
    placed = sorted((moment.at_beats, moved) for (_, moved), moment in found.items())
    kept = []
    for (_, moved), moment in found.items():
        low, high = moment.at_beats - near, moment.at_beats + near
        first = bisect_left(others, low)
        crowded = first < len(others) and others[first] <= high
        start, end = bisect_left(placed, (low, float("-inf"))), bisect_right(placed, (high, float("inf")))
        if not crowded and all(abs(other - moved) < 1e-5 for _, other in placed[start:end]):
            kept.append(moment)
    return kept


def _as_made(pad: Pad) -> bool:
    """Whether a pad sounds as it was made; what it is called, where it stands and which note plays it do not matter."""
    return not pad.sound_edited and pad.stacked == 0 and pad.level_db == 0.0


def counted_moments(document: Document, hits: Sequence[Hit], beats: float) -> tuple[int, int]:
    """Return how many attacks of a pattern of so many beats are untouched moments, and how many there are."""
    near = SAME_ATTACK_MS / 1000.0 * document.bpm / 60.0
    times = sorted(hit.at_beats for hit in hits if is_inside(hit.at_beats, beats))
    attacks = sum(1 for n, at in enumerate(times) if n == 0 or at - times[n - 1] > near)
    own = len([one for one in untouched(document, hits) if is_inside(one.at_beats, beats)])
    return own, max(own, attacks)
