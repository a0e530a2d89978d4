"""Doubts: slices that deserve a look, each with its reason in words and what would mend it."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial

import numpy as np

from bompla.analysis.review.unsure import Unsure, other_way, unsure_of
from bompla.audio.clip import Clip
from bompla.errors import EditError
from bompla.model.cut_edits import CLEAR_OF_TAILS_DB, add_cut, delete_cuts, keep_doubt, set_heard, set_left_out
from bompla.model.document import Attack, Cut, Document, Slice
from bompla.units import gain_to_db, ms_to_samples, samples_to_ms

CLOSE_MS = 45.0
"""Two cuts nearer than this are a flam or a double trigger."""

SOFTER_BY = 10
"""So much softer than its main stroke the grace note of a flam is, of 127, for there to be no doubt."""

MISSED_SHARE = 0.45
"""How strong, against the threshold, an attack inside a slice must be to be thought missed."""

SURELY_A_HIT = 0.5
"""It must stand `CLEAR_OF_TAILS_DB` above what rings, unless it is so strong that it is a hit whatever rings."""

MISSED_AFTER_MS = CLOSE_MS + 3.0
"""A second hit nearer than this would only be too close; a mend must not make the next doubt."""

SILENT_DB, QUIET_DB = -66.0, -40.0
"""Peaks against full scale, and against the loop's loudest sample."""

FULL_SCALE, FLAT_SAMPLES = 0.985, 4
"""So many samples in a row at full scale are clipped."""

OFF_SHARE = 0.3
"""How far from both the sixteenths and the triplets, as a share of a sixteenth, a hit is off the grid."""

KINDS = ("silent", "two hits", "too close", "unsure", "too quiet", "off the grid")
"""The kinds of doubt, the one that would change most first."""

IN_COMMON = {"silent": "silent", "two hits": "two hits in one", "too close": "too close: flams?", "too quiet": "very quiet",
             "off the grid": "off the grid"}
"""What doubts of a kind are called together; of drums in doubt the reason is the same."""

SURELY_HEARD = 0.8
"""A slice whose drum is this sure is neither too quiet nor off the grid: it is played like that."""


@dataclass(frozen=True)
class Mend:
    """What may be done about a doubt, and the edit that does it, to this slice or to `all_alike`.

    `words` name the edit where the label alone would not say what it did.
    """

    label: str
    edit: Callable[[Document], Document]
    words: str = ""
    all_alike: bool = False


@dataclass(frozen=True)
class Doubt:
    """A reason to look at a slice: its cut, one of `KINDS`, the reason in words, and mends, the likeliest first and to keep it last.

    Doubts that are `alike` may be kept together.
    """

    cut_id: int
    kind: str
    reason: str
    mends: tuple[Mend, ...]
    alike: str | Unsure


def doubts_of(document: Document, clip: Clip) -> tuple[Doubt, ...]:
    """Return the doubts about the loop's slices in order of time, without those that were kept or left out.

    A slice has one doubt at a time, the worst it gives reason for.
    """
    slices = document.slices()
    if not slices:
        return ()
    level = np.abs(clip.mono)
    peaks = np.array([float(level[s.start_sample : s.end_sample].max(initial=0.0)) for s in slices])
    loudest = max(float(peaks.max()), 1e-9)
    missed = _missed(document, slices)
    unsure = _unsure_in(slices)
    found = []
    for index, piece in enumerate(slices):
        cut = piece.cut
        if cut.left_out:
            continue
        after = slices[index + 1] if index + 1 < len(slices) else None
        for kind in KINDS:
            if kind not in cut.kept and (doubt := _doubt(kind, document, piece, after, peaks[index], loudest, missed, unsure)):
                found.append(doubt)
                break
    return tuple(found)


@dataclass(frozen=True)
class Question:
    """Doubts that are alike, in order of time: looked at together, and answered one by one or all at once."""

    doubts: tuple[Doubt, ...]

    @property
    def first(self) -> Doubt:
        """The doubt that stands for the others."""
        return self.doubts[0]

    @property
    def reason(self) -> str:
        """The reason in words; of several what they have in common."""
        if len(self.doubts) == 1 or self.first.kind == "unsure":
            return self.first.reason
        return IN_COMMON[self.first.kind]

    @property
    def mends(self) -> tuple[Mend, ...]:
        """The mends of the first doubt by itself."""
        return tuple(mend for mend in self.first.mends if not mend.all_alike)

    def mend_all(self, mend: Mend) -> Mend:
        """Return a mend of the first doubt for all of them, as one edit."""
        every = next((other for other in self.first.mends if other.all_alike), None)
        if every is not None and mend == self.first.mends[0]:
            return every
        edits = [(doubt.cut_id, other.edit) for doubt in self.doubts for other in doubt.mends if other.label == mend.label]
        return Mend(mend.label, partial(_each, edits=edits), f"{mend.words or mend.label}, {len(edits)} slices", all_alike=True)


def _each(document: Document, edits: list[tuple[int, Callable[[Document], Document]]]) -> Document:
    """Return the document after edits of slices; those of slices that an earlier one took away are left out."""
    for cut_id, edit in edits:
        if any(cut.id == cut_id for cut in document.cuts):
            document = edit(document)
    return document


def questions_of(doubts: Iterable[Doubt]) -> tuple[Question, ...]:
    """Return doubts with those that are alike together, those that would change most first, then in order of time."""
    groups: dict[str | Unsure, list[Doubt]] = {}
    for doubt in doubts:
        groups.setdefault(doubt.alike, []).append(doubt)
    return tuple(Question(tuple(group)) for group in sorted(groups.values(), key=lambda group: KINDS.index(group[0].kind)))


def _unsure_in(slices: tuple[Slice, ...]) -> dict[Unsure, tuple[int, ...]]:
    """Return the doubts about drums, each with the cuts of all slices that are in it."""
    found: dict[Unsure, tuple[int, ...]] = {}
    for piece in slices:
        if not piece.cut.left_out and (unsure := unsure_of(piece.cut)):
            found[unsure] = (*found.get(unsure, ()), piece.cut.id)
    return found


def _unsure_doubt(cut: Cut, known: dict[Unsure, tuple[int, ...]]) -> Doubt | None:
    unsure = unsure_of(cut)
    if unsure is None:
        return None
    same = known[unsure]
    ways = ((cut.id,), same) if len(same) > 1 else ((cut.id,),)
    mends = (
        Mend(unsure.mend(len(ids)), partial(other_way, cut_ids=ids, unsure=unsure), unsure.words(len(ids)), len(ids) > 1)
        for ids in ways
    )
    keep = Mend("keep", lambda d: keep_doubt(d, cut.id, unsure.kept_as))
    return Doubt(cut.id, "unsure", unsure.reason, (*mends, keep), unsure)


def _doubt(
    kind: str, document: Document, piece: Slice, after: Slice | None, peak: float, loudest: float, missed: dict[int, Attack],
    unsure: dict[Unsure, tuple[int, ...]],
) -> Doubt | None:
    cut = piece.cut
    rate = document.source.sample_rate
    join = () if piece.number == 1 else (Mend("join to previous", lambda d: delete_cuts(d, [cut.id])),)
    out = Mend("leave out", lambda d: set_left_out(d, [cut.id], True))
    keep = Mend("keep", lambda d: keep_doubt(d, cut.id, kind))

    def made(reason: str, *mends: Mend) -> Doubt:
        return Doubt(cut.id, kind, reason, (*mends, keep), kind)

    if kind == "silent" and gain_to_db(peak) < SILENT_DB:
        return made("silent", *join, out)
    if kind == "two hits" and cut.id in missed and document.cutting.hits:  # who cuts by hand or by steps alone has chosen so
        attack = missed[cut.id]
        late_ms = samples_to_ms(attack.at_sample - cut.attack_sample, rate)
        return made(f"two hits in one, the other {late_ms:.0f} ms in", Mend("split", partial(_cut_at_attack, attack=attack)))
    if kind == "too close" and after is not None:
        gap_ms = samples_to_ms(after.cut.attack_sample - cut.attack_sample, rate)
        if gap_ms < CLOSE_MS and "too close" not in after.cut.kept and not _is_flam(cut, after.cut):
            next_id = after.cut.id
            return made(f"too close, {gap_ms:.0f} ms: a flam?", Mend("join to next", lambda d: delete_cuts(d, [next_id])))
    if kind == "unsure":
        return _unsure_doubt(cut, unsure)
    if cut.heard and cut.heard[0].confidence >= SURELY_HEARD:
        return None
    right = Mend("it is a hit", lambda d: keep_doubt(d, cut.id, kind), "keep")  # the first key never loses a hit
    if kind == "too quiet" and gain_to_db(peak / loudest) < QUIET_DB:
        return made(f"very quiet, {gain_to_db(peak / loudest):.0f} dB", right, *join, out)
    if kind == "off the grid" and cut.origin != "even":
        off_ms = _off_grid_ms(document, cut.attack_sample)
        if off_ms is not None:
            return made(f"{abs(off_ms):.0f} ms {'behind' if off_ms > 0 else 'ahead of'} the grid", right, out, *join)
    return None


def _is_flam(grace: Cut, main: Cut) -> bool:
    """Whether two close cuts are surely a flam: one drum struck softly, then harder. What is struck twice by mistake is softer after."""
    if not grace.heard or not main.heard:
        return False
    soft, hard = grace.heard[0], main.heard[0]
    sure = min(soft.confidence, hard.confidence) >= SURELY_HEARD
    return sure and soft.drum == hard.drum and soft.velocity <= hard.velocity - SOFTER_BY


def _missed(document: Document, slices: tuple[Slice, ...]) -> dict[int, Attack]:
    """Return for cuts whose slice seems to hold a second hit the strongest attack that has no cut."""
    rate = document.source.sample_rate
    least = MISSED_SHARE * document.threshold
    apart, near = ms_to_samples(MISSED_AFTER_MS, rate), document.min_cut_frames
    cuts = sorted(place for s in slices for place in (s.cut.attack_sample, s.start_sample))
    starts = [s.start_sample for s in slices]
    found: dict[int, Attack] = {}
    for attack in document.attacks:
        if attack.strength < least or (attack.strength < SURELY_A_HIT and attack.clear_db < CLEAR_OF_TAILS_DB):
            continue
        index = bisect_left(starts, attack.at_sample + 1) - 1
        if index < 0 or attack.at_sample >= slices[index].end_sample:
            continue
        piece = slices[index]
        place = bisect_left(cuts, attack.at_sample - near)
        if place < len(cuts) and cuts[place] < attack.at_sample + near:
            continue
        if attack.at_sample - piece.cut.attack_sample < apart or piece.end_sample - attack.at_sample < apart:
            continue
        best = found.get(piece.cut.id)
        if best is None or attack.strength > best.strength:
            found[piece.cut.id] = attack
    return found


def _cut_at_attack(document: Document, attack: Attack) -> Document:
    new_id = document.next_id
    try:
        changed = add_cut(document, attack.cut_sample, attack_sample=attack.at_sample)
    except EditError:
        return document
    return set_heard(changed, new_id, attack.heard)


def clipped_places(document: Document, clip: Clip) -> int:
    """Return in how many slices of the loop the recording is clipped: that is a matter of the file, and no slice can be mended of it."""
    start, end = document.loop.start_sample, document.loop.end_sample
    flat = (np.abs(clip.samples[start:end]) >= FULL_SCALE).any(axis=1)
    if not flat.any():
        return 0
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flat, [False]]).astype(np.int8)))
    places = start + edges[::2][edges[1::2] - edges[::2] >= FLAT_SAMPLES]
    starts = np.array([piece.start_sample for piece in document.slices()])
    return int(np.unique(np.searchsorted(starts, places, side="right")).size) if starts.size else 0


def _off_grid_ms(document: Document, at_sample: int) -> float | None:
    """Return how far an attack is from the nearest step, where that is far from straight and triplet steps both."""
    beats = document.beat_map.beat_at(at_sample)
    grids = (6, 4) if document.loop.meter.compound else (4, 3)
    offsets = [beats - round(beats * steps) / steps for steps in grids]
    nearest = min(offsets, key=abs)
    if abs(nearest) * 4.0 < OFF_SHARE:
        return None
    return float(60_000.0 / document.bpm * offsets[0])


def alike(document: Document, cut_id: int) -> tuple[int, ...]:
    """Return the cuts whose slices sound most like one: led by the same drum, and the same drums underneath or none.

    The one itself comes first, then by likeness of how hard they are struck.
    """
    cut = document.cut(cut_id)
    if not cut.heard:
        return (cut_id,)
    lead = cut.heard[0]
    under = {h.drum for h in cut.heard[1:] if h.sure}
    found = [
        (abs(c.heard[0].velocity - lead.velocity), s.number, c.id)
        for s in document.slices()
        if (c := s.cut).heard and c.id != cut_id and c.heard[0].drum == lead.drum
        and {h.drum for h in c.heard[1:] if h.sure} == under
    ]
    return (cut_id, *(i for _, _, i in sorted(found)))
