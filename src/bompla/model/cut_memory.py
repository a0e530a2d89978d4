"""What was said of a slice stays with its time: names and slices left out come back with a cut that was away."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from bompla.model.document import SAME_ATTACK_MS, Cut, Document
from bompla.units import ms_to_samples


def is_marked(cut: Cut) -> bool:
    """Whether something was said of a slice that has to be kept: a name, that it is left out, or a doubt that was settled."""
    return bool(cut.name or cut.left_out or cut.kept)


def remembering(document: Document, cuts: list[Cut], new_ids: Iterable[int]) -> tuple[list[Cut], tuple[Cut, ...]]:
    """Return cuts made anew with what was said of cuts at the same place before, and the marked ones that have no place now.

    `new_ids` are the cuts that were made anew. A mark goes to the nearest cut within `SAME_ATTACK_MS`.
    """
    ids, new = {cut.id for cut in cuts}, set(new_ids)
    away = [cut for cut in (*document.cuts, *document.set_aside) if is_marked(cut) and cut.id not in ids]
    if not away:
        return cuts, ()
    near = ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    left, found = list(away), []
    for made in cuts:
        cut = made
        best = min(left, key=lambda one: abs(one.attack_sample - cut.attack_sample), default=None) if cut.id in new else None
        if best is not None and abs(best.attack_sample - cut.attack_sample) <= near:
            left.remove(best)
            cut = replace(cut, name=best.name, left_out=best.left_out, kept=best.kept)
        found.append(cut)
    return found, tuple(left)
