"""Edits of variations: functions from document to document."""

from __future__ import annotations

from collections.abc import Iterable
from string import ascii_uppercase
from typing import Literal

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.detected_pattern import pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document, FeelLayer, Hit, Variation
from bompla.model.drums import METERS
from bompla.model.pattern_edits import with_pattern
from bompla.units import clamped_velocity

MOST_VARIATIONS = len(ascii_uppercase)
MOST_PATTERN_BARS = 256


def add_variation(document: Document, hits: Iterable[tuple[int, float, int]], name: str, layer: FeelLayer | None = None) -> Document:
    """Add a variation with hits as (pad id, beat, velocity), and show it; raises EditError where there are too many."""
    made = [Hit(0, pad_id, beat, clamped_velocity(velocity)) for pad_id, beat, velocity in hits]
    return add_variation_hits(document, made, name, layer=layer)


def add_variation_hits(
    document: Document, hits: Iterable[Hit], name: str, *, like: Variation | None = None, layer: FeelLayer | None = None, bars: int = 0,
    meter_name: str = ""
) -> Document:
    """Add a variation with copies of hits, of so many bars of a meter or else like another; raises EditError where there are too many."""
    used = {v.letter for v in document.variations}
    letter = next((one for one in ascii_uppercase if one not in used), "")
    if not letter:
        raise EditError(f"A loop has up to {MOST_VARIATIONS} variations; delete one first.")
    made = [replace(hit, id=document.next_id + n) for n, hit in enumerate(hits)]
    ordered = tuple(sorted(made, key=lambda hit: (hit.at_beats, hit.pad_id, hit.id)))
    new = Variation(letter, name, ordered, layer or FeelLayer(), bars=bars, meter_name=meter_name)
    if like is not None:
        new = replace(like, letter=letter, name=name, hits=ordered, note="")
    return replace(
        document, variations=(*document.variations, new), shown=len(document.variations), next_id=document.next_id + len(made)
    )


def duplicate_variation(document: Document) -> Document:
    """Add a copy of the shown variation, and show it."""
    shown = pattern_of(document)
    name = f"from {shown.letter or shown.name.lower()}"
    return add_variation_hits(document, shown.hits, name, like=shown)


def set_bars(document: Document, bars: int) -> Document:
    """Give the shown variation bars of its own, 1 to 256, or the loop's with 0; hits past its end are kept."""
    if not 0 <= bars <= MOST_PATTERN_BARS:
        raise EditError(f"A pattern has 1 to {MOST_PATTERN_BARS} bars.")
    bars = 0 if bars == document.loop.bars and pattern_meter(document) == document.loop.meter else bars
    return with_pattern(document, replace(pattern_of(document), bars=bars))


def meters_for(document: Document) -> tuple[str, ...]:
    """Return the meters that a variation can have: those whose beat is the loop's."""
    beat = document.loop.meter
    return tuple(m.name for m in METERS.values() if (m.beat_quarters, m.compound) == (beat.beat_quarters, beat.compound))


def set_pattern_meter(document: Document, meter_name: str) -> Document:
    """Give the shown variation a meter of its own, and as many whole bars of it as come nearest; raises EditError for another beat."""
    if meter_name not in meters_for(document):
        raise EditError(f"A variation of this loop can be in {', '.join(meters_for(document))}; {meter_name} has another beat.")
    bars = max(1, min(MOST_PATTERN_BARS, round(pattern_beats(document) / METERS[meter_name].beats_per_bar)))
    own = "" if meter_name == document.loop.meter_name else meter_name
    kept = 0 if not own and bars == document.loop.bars else bars
    return with_pattern(document, replace(pattern_of(document), meter_name=own, bars=kept))


def show_variation(document: Document, index: int) -> Document:
    """Show another variation, or with -1 the detected pattern."""
    if not -1 <= index < len(document.variations):
        raise EditError("That variation is no longer there.")
    return document if index == document.shown else replace(document, shown=index)


def delete_variation(document: Document, index: int) -> Document:
    """Delete a variation, and take it out of the order; the last one stays, and so does the detected pattern."""
    if index < 0:
        raise EditError("The detected pattern cannot be deleted.")
    if len(document.variations) < 2:
        raise EditError("The last variation cannot be deleted.")
    letter = document.variations[index].letter
    left = tuple(v for n, v in enumerate(document.variations) if n != index)
    shown = min(document.shown - (index < document.shown), len(left) - 1)
    order = tuple(step for step in document.order if step.letter != letter)
    rules = tuple(replace(rule, to=tuple(to for to in rule.to if to != letter)) for rule in document.wander.rules if rule.letter != letter)
    return replace(document, variations=left, shown=max(0, shown), order=order, wander=replace(document.wander, rules=rules),
                   by_ear=tuple(one for one in document.by_ear if one.letter != letter))


def move_variation(document: Document, index: int, to: int) -> Document:
    """Move a variation to another place in the row."""
    row = list(document.variations)
    letter = pattern_of(document).letter
    row.insert(max(0, min(to, len(row) - 1)), row.pop(index))
    return replace(document, variations=tuple(row), shown=next((n for n, v in enumerate(row) if v.letter == letter), -1))


def rename_variation(document: Document, name: str) -> Document:
    """Name the shown variation."""
    return with_pattern(document, replace(pattern_of(document), name=name.strip()[:40]))


def note_down(document: Document, note: str) -> Document:
    """Note down what differs in the shown variation."""
    return with_pattern(document, replace(pattern_of(document), note=note.strip()[:400]))


def set_untouched(document: Document, what: Literal["loop", "pads"]) -> Document:
    """Choose what untouched moments of the shown variation play: the loop itself, or the pads."""
    shown = pattern_of(document)
    return document if what == shown.untouched else with_pattern(document, replace(shown, untouched=what))


def set_layer(document: Document, layer: FeelLayer) -> Document:
    """Feel the shown variation in another way."""
    return document if layer == pattern_of(document).layer else with_pattern(document, replace(pattern_of(document), layer=layer))
