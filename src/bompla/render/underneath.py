"""What sounds underneath a slice, and where in the loop its drums sound by themselves: what a pad is cleaned by."""

from __future__ import annotations

from collections import Counter

from bompla.analysis.params import MOST_STRIKES
from bompla.model.document import Cut, Document, Layer, Pad, Slice
from bompla.model.memo import LastMade

UNDERNEATH = 0.3
"""How sure a drum must be to be taken away from underneath."""

Stretch = tuple[int, int]
"""From an attack up to where the next slice begins, in samples of the source."""

Alone = tuple[tuple[str, tuple[Stretch, ...]], ...]


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


def _all_alone(document: Document) -> dict[str, tuple[Stretch, ...]]:
    """Return all of them for every drum; of the last few documents they are kept, as every hit of a cleaned pad asks for them."""
    slices = document.slices()
    return _ALONE.get((slices,), lambda: _found_alone(slices))


def _found_alone(slices: tuple[Slice, ...]) -> dict[str, tuple[Stretch, ...]]:
    found: dict[str, list[Slice]] = {}
    for one in sorted(slices, key=_clearness, reverse=True):
        for drum in (h.drum for h in one.cut.heard if h.sure and not one.cut.left_out and not underneath(one.cut, h.drum)):
            found.setdefault(drum, []).append(one)
    return {drum: tuple((one.cut.attack_sample, one.end_sample) for one in own) for drum, own in found.items()}


def _clearness(one: Slice) -> tuple[float, int]:
    return one.cut.clear_db, one.end_sample - one.cut.attack_sample


_ALONE: LastMade[dict[str, tuple[Stretch, ...]]] = LastMade()
