"""What sounds underneath a slice, and where in the loop its drums sound by themselves: what a pad is cleaned by."""

from __future__ import annotations

from collections import Counter

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.params import MOST_STRIKES
from bompla.model.document import Cut, Document, Layer, Pad, Slice
from bompla.model.memo import LastMade
from bompla.model.strike_levels import decoded
from bompla.units import velocity_to_db

UNDERNEATH = 0.3
"""How sure a drum must be to be taken away from underneath."""

MARGIN_DB = 3.0
FEWEST, LEAST_QUANTILE = 3, 0.2
"""How many slices must have a drum to know how loud it is at most, and which of them, in order of loudness, tells."""

Piece = tuple[int, int]
"""From an attack up to where the next slice begins, in samples of the source."""

Alone = tuple[tuple[str, tuple[Piece, ...]], ...]
Most = tuple[tuple[str, tuple[float, ...]], ...]


def underneath(cut: Cut, drum: str) -> tuple[str, ...]:
    """Return the drums that are heard in a slice beside one."""
    return tuple(h.drum for h in cut.heard if h.drum != drum and h.confidence >= UNDERNEATH)


def underneath_layer(document: Document, pad: Pad, layer: Layer) -> tuple[str, ...]:
    """Return the drums beside the pad's own in a slice that it plays; none in a sound from another file."""
    cut = None if layer.of else next((one for one in document.cuts if one.at_sample == layer.at_sample), None)
    return underneath(cut, pad.drum) if cut else ()


def underneath_pad(document: Document, pad: Pad) -> dict[str, int]:
    """Return the drums underneath the slices of a pad, what most have first, and how many slices of the loop have each to itself."""
    counts = Counter(drum for layer in pad.layers for drum in underneath_layer(document, pad, layer))
    found = _all_alone(document)
    return {drum: len(found.get(drum, ())) for drum, _ in counts.most_common()}


def alone(document: Document, drums: tuple[str, ...]) -> Alone:
    """Return for each of these drums the slices of the loop that it has to itself, the clearest first; what was left out does not count."""
    found = _all_alone(document)
    return tuple((drum, found[drum][:MOST_STRIKES]) for drum in drums if drum in found)


def most_of(document: Document, cut: Cut, drums: tuple[str, ...]) -> Most:
    """Return for drums of a slice the largest share of its power that each can have, by stretch of time and band, row after row.

    A drum is no louder, band by band, than in the slices that have least there of all those in which it is heard, for how hard it is
    struck. Drums of which nothing is known are left out, and nothing is said where each has slices to itself, which tell more.
    """
    if all(drum in _all_alone(document) for drum in drums):
        return ()
    levels = decoded(cut.levels)
    if np.isnan(levels).all():
        return ()
    made = []
    for drum in drums:
        here = next((h.velocity for h in cut.heard if h.drum == drum), 0)
        known = _least(document, drum)
        if here and known is not None:
            share = known * 10.0 ** (0.1 * (velocity_to_db(here) + MARGIN_DB)) / np.maximum(levels, 1e-9)
            made.append((drum, tuple(np.round(np.clip(np.nan_to_num(share, nan=1.0), 0.0, 1.0), 3).ravel().tolist())))
    return tuple(made)


def _least(document: Document, drum: str) -> NDArray[np.float64] | None:
    """Return the power that a drum has at most, were it struck at full velocity; None where too few slices have it."""
    found = _LEAST.get((document.cuts,), dict)
    if drum not in found:
        measured = [cut for cut in document.cuts if cut.levels and not cut.left_out]
        having = [(cut, h.velocity) for cut in measured for h in cut.heard if h.drum == drum and h.sure]
        powers = [decoded(cut.levels) * 10.0 ** (-0.1 * velocity_to_db(velocity)) for cut, velocity in having]
        enough = len(powers) >= FEWEST
        found[drum] = np.nanquantile(np.array(powers), LEAST_QUANTILE, axis=0) if enough else None
    return found[drum]


def _all_alone(document: Document) -> dict[str, tuple[Piece, ...]]:
    """Return all of them for every drum; of the last few documents they are kept, as every hit of a cleaned pad asks for them."""
    slices = document.slices()
    return _ALONE.get((slices,), lambda: _found_alone(slices))


def _found_alone(slices: tuple[Slice, ...]) -> dict[str, tuple[Piece, ...]]:
    found: dict[str, list[Slice]] = {}
    for one in sorted(slices, key=_clearness, reverse=True):
        for drum in (h.drum for h in one.cut.heard if h.sure and not one.cut.left_out and not underneath(one.cut, h.drum)):
            found.setdefault(drum, []).append(one)
    return {drum: tuple((one.cut.attack_sample, one.end_sample) for one in own) for drum, own in found.items()}


def _clearness(one: Slice) -> tuple[float, int]:
    return one.cut.clear_db, one.end_sample - one.cut.attack_sample


_ALONE: LastMade[dict[str, tuple[Piece, ...]]] = LastMade()
_LEAST: LastMade[dict[str, NDArray[np.float64] | None]] = LastMade()
