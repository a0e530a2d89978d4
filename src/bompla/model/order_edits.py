"""Edits of what plays after what: functions from document to document."""

from __future__ import annotations

from msgspec.structs import replace

from bompla.model.document import Document, OrderStep, Wander, WanderRule
from bompla.model.params import Param

SHORTEST_STAY_BEATS, LONGEST_STAY_BEATS = 1.0, 48.0
"""A stay is in beats, so that another meter leaves it as it is; the longest is four bars of the longest meter."""

CHANCE = Param("chance", "Hands over", "share", 0.0, 1.0, "How likely this variation hands over each time its stay is up", default=0.5)
MOST_STEPS, MOST_REPEATS, MOST_RUN_BARS = 64, 16, 64


def set_order(document: Document, steps: tuple[OrderStep, ...]) -> Document:
    """Set the order; repeats are clamped to their range."""
    return replace(document, order=tuple(replace(step, repeats=max(1, min(MOST_REPEATS, step.repeats))) for step in steps[:MOST_STEPS]))


def set_wander(document: Document, wander: Wander) -> Document:
    """Set how it wanders, every value in its range."""
    rules = tuple(
        replace(rule, chance=CHANCE.clamped(rule.chance),
                after_beats=max(SHORTEST_STAY_BEATS, min(LONGEST_STAY_BEATS, rule.after_beats)))
        for rule in wander.rules
    )
    return replace(document, wander=Wander(max(0, wander.seed), max(1, min(MOST_RUN_BARS, wander.bars)), rules))


def with_rule(wander: Wander, rule: WanderRule) -> Wander:
    """Return a wander with one variation's rule set."""
    return replace(wander, rules=(*(one for one in wander.rules if one.letter != rule.letter), rule))
