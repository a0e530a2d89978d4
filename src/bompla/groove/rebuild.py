"""From what was heard to a kit and a pattern."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable
from itertools import islice, takewhile
from typing import NamedTuple

from msgspec.structs import replace

from bompla.files import as_text
from bompla.groove.layers import pad_of
from bompla.model.analysis_result import AnalysisResult
from bompla.model.cut_edits import recut
from bompla.model.detected_pattern import FIRST_NAME, detected_hits, pattern_of, played
from bompla.model.document import PAD_COLUMNS, PADS_PER_PAGE, SAME_ATTACK_MS, Cut, Document, Heard, Hit, Pad, Variation
from bompla.model.drums import DRUMS, Drum, Family
from bompla.model.loop import Tempo
from bompla.model.memo import LastMade
from bompla.model.moments import moment_of
from bompla.model.wording import counted
from bompla.units import ms_to_samples, samples_to_ms

ROWS = (Family.DRUMS, Family.SNARES, Family.HATS, Family.CYMBALS)
"""The rows of a page of pads from the lowest up; extras stand where there is room."""


def document_from(heard: AnalysisResult, title: str) -> Document:
    """Return the project of a freshly analysed sound: cut, its kit made, its pattern as heard."""
    document = recut(
        Document(
            title=as_text(title),
            source=heard.source,
            loop=heard.loop,
            tempo=Tempo(heard.readings[0].bpm if heard.readings else 0.0),
            readings=heard.readings,
            tempo_confidence=heard.tempo_confidence,
            attacks=heard.attacks,
            threshold=heard.threshold,
            stretches=heard.stretches,
            proposed=heard.passages if len(heard.stretches) > 1 else (),
        )
    )
    return remade(document)


def remade(document: Document) -> Document:
    """Return the document with kit and pattern made from its slices, and nothing of what they were before."""
    pads, next_id = made_kit(document, document.next_id)
    document = replace(document, pads=pads, next_id=next_id, offers=(), shown=0)
    hits = []
    for cut in document.cuts:
        for pad_id, at_beats, velocity in detected_hits(document, [cut]):
            hits.append(Hit(next_id, pad_id, at_beats, velocity, moment=moment_of(cut)))
            next_id += 1
    ordered = tuple(sorted(hits, key=lambda hit: (hit.at_beats, hit.pad_id, hit.id)))
    return replace(document, variations=(Variation("A", FIRST_NAME, ordered),), next_id=next_id)


def following(before: Document, after: Document) -> Document:
    """Return an edited document whose kit and pattern nobody has touched: they are made anew where its loop reaches other strikes."""
    known = {cut.attack_sample for cut in before.cuts}
    return after if all(cut.attack_sample in known for cut in after.cuts) else remade(after)


class Offer(NamedTuple):
    """What new, corrected and left out cuts would change: `ready` is the document with the pads that are needed, then hits new and gone."""

    ready: Document
    new: tuple[tuple[int, float, int], ...] = ()
    gone: tuple[int, ...] = ()


_OFFERS: LastMade[Offer] = LastMade(2)


def offer_of(document: Document) -> Offer:
    """Return what is offered to the shown pattern; what was heard stays as it is. The last are kept, as every view asks for them."""
    if not document.offers or not pattern_of(document).letter:
        return Offer(document)
    return _OFFERS.get((document,), lambda: _made_offer(with_offered_pads(document)))


def _made_offer(ready: Document) -> Offer:
    return Offer(ready, tuple(offered_hits(ready)), tuple(gone_hits(ready)))


def offer_in_words(document: Document) -> tuple[str, str]:
    """Return in words what new and corrected cuts offer, empty where it is nothing, and what taking it is called."""
    offer = offer_of(document)
    new, gone, pads = len(offer.new), len(offer.gone), len(offer.ready.pads) - len(document.pads)
    words = [counted(new, "new hit")] if new else []
    words += [f"{gone} gone" if new else f"{counted(gone, 'hit')} gone"] if gone else []
    words += [counted(pads, "new pad")] if pads else []
    return ", ".join(words), f"{'Change' if gone else 'Add to'} {pattern_of(document).letter}"


def offered_hits(document: Document) -> list[tuple[int, float, int]]:
    """Return the hits of new and corrected cuts that the pattern lacks, as (pad id, beats, velocity)."""
    if not document.offers:
        return []
    placed, near = _placed(document), ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    offered = detected_hits(document, _offered_cuts(document))
    times = document.beat_map.samples_at([at_beats for _, at_beats, _ in offered])
    return [hit for hit, at_sample in zip(offered, times, strict=True) if not _within(placed.get(hit[0], []), at_sample, near)]


def gone_hits(document: Document) -> list[int]:
    """Return the ids of hits of the pattern whose drums were heard at a cut until it was corrected."""
    corrected = [cut for cut in _offered_cuts(document) if cut.before]
    if not corrected:
        return []
    placed, near = _placed(document), ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    found: list[int] = []
    for cut in corrected:
        gone = set(cut.before) - {h.drum for h in played(cut) if not cut.left_out}
        for pad in document.pads:
            if pad.drum in gone:
                found += _within(placed.get(pad.id, []), cut.attack_sample, near)
    return found


def with_offered_pads(document: Document) -> Document:
    """Return the document with a pad for each drum of new and corrected cuts that has none."""
    offered = {cut.id for cut in _offered_cuts(document)}
    inside = [piece.cut for piece in document.slices() if piece.cut.id in offered and not piece.cut.left_out]
    lacking = {h.drum for cut in inside for h in played(cut)} - {pad.drum for pad in document.pads}
    if not lacking:
        return document
    made, _ = made_kit(document, document.next_id)
    return _with_pads(document, document.pads, [new for new in made if new.drum in lacking])


def _offered_cuts(document: Document) -> list[Cut]:
    offered = set(document.offers)
    return [cut for cut in document.cuts if cut.id in offered]


def _placed(document: Document) -> dict[int, list[tuple[float, int]]]:
    """Return for each pad when its hits are, in samples and in order, with their ids."""
    hits = pattern_of(document).hits
    found: dict[int, list[tuple[float, int]]] = {}
    times = document.beat_map.samples_at([hit.at_beats for hit in hits]).tolist()
    for at_sample, hit in sorted(zip(times, hits, strict=True), key=lambda one: one[0]):
        found.setdefault(hit.pad_id, []).append((at_sample, hit.id))
    return found


def _within(placed: list[tuple[float, int]], at_sample: float, near: float) -> list[int]:
    first = bisect_left(placed, at_sample - near, key=lambda one: one[0])
    return [hit_id for _, hit_id in takewhile(lambda one: one[0] <= at_sample + near, islice(placed, first, None))]


def made_kit(document: Document, next_id: int) -> tuple[tuple[Pad, ...], int]:
    """Return a kit with a pad for each drum detected, and the next free id: each pad is its drum by itself, see `layers.pad_of`."""
    groups: dict[str, list[tuple[Cut, Heard]]] = {}
    lengths_ms: dict[int, float] = {}
    for piece in document.slices():
        lengths_ms[piece.cut.id] = samples_to_ms(piece.end_sample - piece.cut.attack_sample, document.source.sample_rate)
        for heard in played(piece.cut) if not piece.cut.left_out else ():
            groups.setdefault(heard.drum, []).append((piece.cut, heard))
    pads: list[Pad] = []
    taken: set[int] = set()
    for drum in DRUMS.values():
        if drum.key not in groups:
            continue
        slot = free_slot(drum, taken)
        taken.add(slot)
        made = pad_of(drum.key, groups[drum.key], lengths_ms)
        pads.append(Pad(next_id, slot, drum.key, drum.label, drum.note, 0.0, made.layers, made.shape, hardest=made.hardest))
        next_id += 1
    return tuple(sorted(pads, key=lambda pad: pad.slot)), next_id


def remade_kit(document: Document) -> Document:
    """Make the kit anew from the slices as they stand; pads changed by hand stay, and so do all hits."""
    made, _ = made_kit(document, document.next_id)
    kept = {pad.drum: pad for pad in reversed(document.pads)}
    pads = [pad for pad in document.pads if pad.edited or all(pad.drum != new.drum for new in made)]
    pads += [replace(old, layers=new.layers, shape=new.shape, hardest=new.hardest) for new in made
             if (old := kept.get(new.drum)) is not None and not old.edited]
    return _with_pads(document, pads, [new for new in made if new.drum not in kept])


def _with_pads(document: Document, pads: Iterable[Pad], made: Iterable[Pad]) -> Document:
    """Return the document with these pads and those made anew, where no pad is or was."""
    pads, next_id = list(pads), document.next_id
    taken = {pad.slot for pad in pads} | {pad.slot for pad in document.pads}
    for new in made:
        slot = free_slot(DRUMS[new.drum], taken)
        taken.add(slot)
        pads.append(replace(new, id=next_id, slot=slot))
        next_id += 1
    return replace(document, pads=tuple(sorted(pads, key=lambda pad: pad.slot)), next_id=next_id)


def tray(document: Document) -> tuple[Cut, ...]:
    """Return the cuts whose slices are on no pad."""
    used = {layer.at_sample for pad in document.pads for layer in pad.layers if not layer.of}
    return tuple(c.cut for c in document.slices() if c.start_sample not in used and not c.cut.left_out)


def free_slot(drum: Drum, taken: set[int]) -> int:
    """Return the first slot for a drum that is not taken: in its family's row, or anywhere."""
    row = ROWS.index(drum.family) if drum.family in ROWS else 2
    own = range(row * PAD_COLUMNS, (row + 1) * PAD_COLUMNS)
    return next(int(slot) for slot in (*own, *range(8 * PADS_PER_PAGE)) if slot not in taken)
