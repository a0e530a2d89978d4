"""What is selected, as a value: always among what there is, and what is shown."""

from __future__ import annotations

from dataclasses import dataclass

from bompla.model.detected_pattern import hits_inside
from bompla.model.document import Document
from bompla.model.memo import LastMade


@dataclass(frozen=True)
class Selection:
    """What is selected: cuts and pads, each with one that leads, and hits, by id."""

    cut_id: int = 0
    more_cuts: frozenset[int] = frozenset()
    pad_id: int = 0
    hit_ids: frozenset[int] = frozenset()
    more_pads: frozenset[int] = frozenset()

    @property
    def cut_ids(self) -> tuple[int, ...]:
        """All selected cuts, the leading one first."""
        return (self.cut_id, *sorted(self.more_cuts - {self.cut_id}))

    @property
    def pad_ids(self) -> tuple[int, ...]:
        """All selected pads, the leading one first."""
        return (self.pad_id, *sorted(self.more_pads - {self.pad_id}))


NOTHING = Selection()
"""Nothing selected."""

_FIRST: LastMade[Selection] = LastMade()
_KNOWN: LastMade[tuple[frozenset[int], frozenset[int], frozenset[int]]] = LastMade()


def first_selection(document: Document) -> Selection:
    """Return what is selected at first: the first slice and the first pad."""

    def made() -> Selection:
        slices = document.slices()
        return Selection(cut_id=slices[0].cut.id if slices else 0, pad_id=document.pads[0].id if document.pads else 0)

    return _FIRST.get((document.cuts, document.loop, document.pads), made)


def within(selection: Selection, document: Document) -> Selection:
    """Return of a selection what is there: slices of the loop, pads, and hits of the shown pattern that lie inside it.

    Where the leading slice or the pad is gone the first one is selected instead.
    """

    def known() -> tuple[frozenset[int], frozenset[int], frozenset[int]]:
        cuts = frozenset(piece.cut.id for piece in document.slices())
        return cuts, frozenset(pad.id for pad in document.pads), frozenset(hit.id for hit in hits_inside(document))

    cuts, pads, hits = _KNOWN.get((document.cuts, document.loop, document.pads, document.variations, document.shown), known)
    first = first_selection(document)
    more = selection.more_cuts & cuts
    cut_id = selection.cut_id if selection.cut_id in cuts or not selection.cut_id else min(more, default=first.cut_id)
    pad_id = selection.pad_id if selection.pad_id in pads or not selection.pad_id else first.pad_id
    known_already = (cut_id, more, pad_id) == (selection.cut_id, selection.more_cuts, selection.pad_id)
    if known_already and selection.hit_ids <= hits and selection.more_pads <= pads:
        return selection
    return Selection(cut_id, more, pad_id, selection.hit_ids & hits, selection.more_pads & pads)
