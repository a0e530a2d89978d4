"""What sounds underneath a slice, and where in the loop its drums sound by themselves: what a pad is cleaned by."""

from __future__ import annotations

from collections import Counter

from bompla.model.document import Cut, Document, Layer, Pad, Slice

UNDERNEATH = 0.3
"""How sure a drum must be to be taken away from underneath."""

MOST_ALONE = 8

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
    slices = [one.cut for one in document.slices() if not one.cut.left_out]
    return {drum: sum(_has_to_itself(cut, drum) for cut in slices) for drum, _ in counts.most_common()}


def alone(document: Document, drums: tuple[str, ...]) -> Alone:
    """Return for each of these drums the slices of the loop that it has to itself, the clearest first; what was left out does not count."""
    slices = [one for one in document.slices() if not one.cut.left_out]
    found = [(drum, sorted((one for one in slices if _has_to_itself(one.cut, drum)), key=_clearness, reverse=True)) for drum in drums]
    return tuple((drum, tuple((one.cut.attack_sample, one.end_sample) for one in own[:MOST_ALONE])) for drum, own in found if own)


def _has_to_itself(cut: Cut, drum: str) -> bool:
    return any(h.drum == drum and h.sure for h in cut.heard) and not underneath(cut, drum)


def _clearness(one: Slice) -> tuple[float, int]:
    return one.cut.clear_db, one.end_sample - one.cut.attack_sample
