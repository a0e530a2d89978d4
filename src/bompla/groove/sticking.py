"""Hands and feet: which hand of a right-handed drummer plays each stroke, and how quick hands and feet have to be.

Every stroke costs what is hard about it: how soon its hand comes again, how far it has come from its last drum and in what time, and what
drummers do by habit (the right hand keeps time and plays the beat, ghosts are the left's). The cheapest way through the loop, which goes
round, is found by dynamic programming with a beam, as it is for the fingers of a keyboard player (Parncutt, Sloboda, Clarke, Raekallio and
Desain, 1997).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import groupby, permutations

from bompla.model.drums import DRUMS, Family

RIGHT, LEFT = "R", "L"
HANDS = (RIGHT, LEFT)
PLACES_M = {key: drum.place_m for key, drum in DRUMS.items() if drum.place_m is not None}

TOGETHER_S = 0.020
EASY_S = 0.14
"""So soon a hand comes again without haste; twice as soon costs four times as much."""

EASY_M_S = 2.5
BEAM = 48
_HABIT, _CROSSED = 0.12, 0.25
_NEVER = 1e6


@dataclass(frozen=True)
class Stroke:
    """A stroke of a hand: its hit, drum and time, whether it is a ghost, and whether it is on a beat."""

    hit_id: int
    drum: str
    at_s: float
    ghost: bool = False
    on_beat: bool = False


@dataclass(frozen=True)
class _Way:
    """A way to play up to here: what it cost, and each hand's last drum and time, right and left."""

    cost: float
    last: tuple[tuple[str, float] | None, tuple[str, float] | None]
    before: _Way | None = None
    hands: tuple[tuple[int, str], ...] = ()


def sticking(strokes: Sequence[Stroke], loop_s: float) -> dict[int, str]:
    """Return `RIGHT` or `LEFT` for each stroke's hit, for a loop so long; of more than two strokes at once, the rest have none."""
    ordered = sorted((stroke for stroke in strokes if stroke.drum in PLACES_M), key=lambda stroke: stroke.at_s)
    groups = [list(own) for _, own in groupby(ordered, key=_together())]
    ways = [_Way(0.0, (None, None))]
    for turn in range(2):  # the second time round comes from the end of the first
        for group in groups:
            at_s = group[0].at_s + turn * loop_s
            ways = sorted((made for way in ways for made in _ways(way, group, at_s)), key=lambda way: way.cost)
            kept: dict[object, _Way] = {}
            for way in ways:
                kept.setdefault(way.last, way)
            ways = list(kept.values())[:BEAM]
    hands: dict[int, str] = {}
    best: _Way | None = ways[0]
    for _ in groups:
        if best is not None:
            hands |= dict(best.hands)
            best = best.before
    return hands


class _together:  # noqa: N801  # a key for groupby, which remembers where its group began
    def __init__(self) -> None:
        self._began = -1e9

    def __call__(self, stroke: Stroke) -> float:
        if stroke.at_s - self._began > TOGETHER_S:
            self._began = stroke.at_s
        return self._began


def _ways(way: _Way, group: Sequence[Stroke], at_s: float) -> Iterator[_Way]:
    """Yield the ways to play what is struck together."""
    struck = group[:2]
    for hands in permutations((0, 1), len(struck)):
        last = list(way.last)
        cost = way.cost
        for hand, stroke in zip(hands, struck, strict=True):
            cost += _cost(stroke, hand, way.last[hand], at_s)
            last[hand] = (stroke.drum, at_s)
        if len(struck) == 2:
            right, left = (struck[hands.index(hand)].drum for hand in (0, 1))
            crossed = PLACES_M[right] < PLACES_M[left] - 0.01
            cost += _CROSSED * crossed * (DRUMS[right].family is not Family.HATS)
        yield _Way(cost, (last[0], last[1]), way, tuple((stroke.hit_id, HANDS[hand]) for hand, stroke in zip(hands, struck, strict=True)))


def _cost(stroke: Stroke, hand: int, last: tuple[str, float] | None, at_s: float) -> float:
    habit = 0.0
    if DRUMS[stroke.drum].family in (Family.HATS, Family.CYMBALS):
        habit += _HABIT * (hand == 1)
    elif stroke.ghost:
        habit += _HABIT * (hand == 0)
    elif stroke.drum.startswith("tom") and stroke.on_beat:
        habit += 0.5 * _HABIT * (hand == 1)
    if last is None:
        return habit
    since = at_s - last[1]
    if since < TOGETHER_S:
        return _NEVER
    soon = max(0.0, (EASY_S / since) ** 2 - 0.8)
    far = (abs(PLACES_M[stroke.drum] - PLACES_M[last[0]]) / since / EASY_M_S) ** 2
    return habit + soon + far
