"""Variations one after another: an order set by hand, or one that wanders by chance, as one long pattern."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace

from bompla.errors import EditError
from bompla.groove.feel import felt
from bompla.model.detected_pattern import is_inside, pattern_of
from bompla.model.document import Document, Hit, OrderStep, Variation, WanderRule
from bompla.model.moments import BY_PADS, UNLABELLED, labelled
from bompla.model.order_edits import SHORTEST_STAY_BEATS
from bompla.model.variation_edits import MOST_PATTERN_BARS, add_variation_hits


@dataclass(frozen=True)
class Passage:
    """A stretch of the timeline in which one variation plays, from a place in it on; all in beats."""

    index: int
    start: float
    position: float
    length: float


def order_passages(document: Document) -> tuple[Passage, ...]:
    """Return the order as passages; steps whose variation is gone are left out. An empty order plays the shown variation."""
    places = {variation.letter: n for n, variation in enumerate(document.variations)}
    steps = [step for step in document.order if step.letter in places] or [OrderStep(_begins_with(document), 1)]
    made: list[Passage] = []
    at = 0.0
    for step in steps:
        index = places[step.letter]
        beats = float(document.beats_of(document.variations[index]))
        for _ in range(step.repeats):
            made.append(Passage(index, at, 0.0, beats))
            at += beats
    return tuple(made)


def _begins_with(document: Document) -> str:
    """Return the letter of the shown variation, or of the first where that is what was heard."""
    return pattern_of(document).letter or (document.variations[0].letter if document.variations else "")


def rule_for(document: Document, letter: str) -> WanderRule:
    """Return how a variation hands over: as was chosen, or else half of the time after a bar, to any other."""
    usual = WanderRule(letter, 0.5, float(document.loop.meter.beats_per_bar))
    return next((rule for rule in document.wander.rules if rule.letter == letter), usual)


def wander_passages(document: Document) -> tuple[Passage, ...]:
    """Return a run by chance: the same seed wanders the same way.

    Each variation is left, after it has played as long as its rule says, with the rule's chance, for
    one of those that the rule names; the place in the bar is kept.
    """
    places = {variation.letter: n for n, variation in enumerate(document.variations)}
    rng = np.random.default_rng(document.wander.seed)
    total = float(document.wander.bars * document.loop.meter.beats_per_bar)
    letter = _begins_with(document)
    made: list[Passage] = []
    at = 0.0
    while at < total - 1e-9 and letter in places:
        rule = rule_for(document, letter)
        length = min(max(SHORTEST_STAY_BEATS, rule.after_beats), total - at)
        index = places[letter]
        position = at % document.beats_of(document.variations[index])
        if made and made[-1].index == index:
            last = made.pop()
            made.append(Passage(index, last.start, last.position, last.length + length))
        else:
            made.append(Passage(index, at, position, length))
        at += length
        others = [one for one in (rule.to or tuple(places)) if one in places and one != letter]
        leaves = rng.random() < rule.chance
        chosen = rng.integers(max(1, len(others)))
        if leaves and others:
            letter = others[int(chosen)]
    return tuple(made)


def total_beats(passages: tuple[Passage, ...]) -> float:
    """Return how long passages are together."""
    return passages[-1].start + passages[-1].length if passages else 0.0


def passage_hits(document: Document, passages: tuple[Passage, ...]) -> list[Hit]:
    """Return what passages play, as they are felt, as hits of one long pattern in order of time."""
    sounded: dict[int, list[Hit]] = {}
    for index in {passage.index for passage in passages}:
        variation = document.variations[index]
        beats = document.beats_of(variation)
        own = labelled(document, variation)
        if variation.untouched == BY_PADS:
            own = tuple(replace(hit, moment=UNLABELLED) for hit in own)
        hits = felt(own, variation.layer, beats=beats, bpm=document.bpm, meter=document.meter_of(variation))
        sounded[index] = [hit for hit in hits if is_inside(hit.at_beats, beats)]
    made = []
    for passage in passages:
        beats = document.beats_of(document.variations[passage.index])
        turns = int(np.ceil((passage.position + passage.length) / beats))
        for turn in range(turns):
            for hit in sounded[passage.index]:
                begins = turn * beats - passage.position
                if -1e-9 <= begins + max(0.0, hit.at_beats) < passage.length - 1e-9:
                    made.append(replace(hit, at_beats=passage.start + max(begins, 0.0) + hit.at_beats + min(begins, 0.0)))
    return sorted(made, key=lambda hit: (hit.at_beats, hit.pad_id, hit.id))


def bounced(document: Document, passages: tuple[Passage, ...], name: str) -> Document:
    """Return the document with a new, long variation that plays what the passages do, shown, and free to be edited.

    Raises EditError where it would be longer than 256 bars.
    """
    per_bar = document.loop.meter.beats_per_bar
    bars = int(np.ceil(total_beats(passages) / per_bar - 1e-9))
    if bars > MOST_PATTERN_BARS:
        raise EditError(f"That is {bars} bars; a pattern has up to {MOST_PATTERN_BARS}. Remove some repeats.")
    return add_variation_hits(document, passage_hits(document, passages), name, bars=bars)


def variation_at(document: Document, passages: tuple[Passage, ...], beat: float) -> Variation | None:
    """Return the variation that plays at a beat of the timeline."""
    found = next((p for p in passages if p.start <= beat < p.start + p.length), None)
    return document.variations[found.index] if found is not None and found.index < len(document.variations) else None
