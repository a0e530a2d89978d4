"""Which slices lend a pad its sound: the drum by itself, as nearly as the loop has it, carried over all velocities."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from bompla.model.document import Cut, Heard, Layer
from bompla.model.drums import DRUMS, Band, Family
from bompla.model.kit_edits import layer_of
from bompla.model.shape import PLAIN, Shape
from bompla.model.strike_levels import EDGES_HZ, decoded, level_db
from bompla.units import MAX_VELOCITY, db_to_velocity, velocity_to_db

MAX_LAYERS = 3
MAX_TURNS = 3
"""How many ranges of velocity a pad has at most, and how many equal slices take turns in one."""

LEAST_MS = 60.0
"""A slice shorter than this is no whole strike."""

OTHERS_COST_DB = 6.0
"""What another drum, sure to be there, costs a slice that leads."""

SOFT, SOFT_COUNTS = (Family.HATS, Family.EXTRAS), 0.35
"""A hat under a snare is little; a snare under a hat is nearly all of it."""

CLEAR_SHARE, CLEAR_ENOUGH_DB = 0.1, 30.0
UNKNOWN_COST_DB = 1.0
"""What a stretch of time costs in which nothing is known of a slice, since the next strike had begun."""

HARD_SHARE = 0.05
"""What a velocity more is worth: a hard strike has all of its drum's sound."""

SHORT_COST_DB = 40.0
LIKELY = 0.5
"""Slices in which a drum is less likely than this lend its pad no sound, as long as there are others."""

AS_CLEAN_DB, TURN_DB, TURN_VELOCITY = 0.6, 1.0, 8
"""What takes turns with a lead is as clean, as loud and as hard, to so much."""

RANGE_VELOCITY, RANGE_CLEAN_DB, RANGE_OTHERS = 24, 1.5, 0.15
"""A range of its own needs a slice so much softer or harder than the others', as clean, and with next to nothing else in it."""

CLEANED = frozenset({"kick", "tom_low", "tom_mid", "tom_high"})
"""Drums from whose pads what sounds underneath is taken, where no slice of the loop has them to themselves; it harms others."""

UNDER_FROM = 0.3
"""A drum less sure than this is not looked for underneath."""

HIGH_CUT_HZ = {"kick": 5_000.0}
"""Above this, what is left of the hats in a kick that is never alone is louder than its own."""

LOW_CUT_HZ = {Family.HATS: 500.0, Family.CYMBALS: 200.0, Family.SNARES: 90.0}
"""Below this nothing of a family sounds that is not another drum's."""


class StruckSlice(NamedTuple):
    """A slice in which the drum is heard: how hard, as heard and by its measured level, how clear and whole, and what else is in it."""

    cut: Cut
    velocity: int
    level_velocity: int
    clear_db: float
    others: Mapping[str, float]


class MadePad(NamedTuple):
    """What a pad is made of: its layers, its shape, and how hard its drum is struck at most in the loop."""

    layers: tuple[Layer, ...]
    shape: Shape
    hardest: int


def pad_of(drum: str, group: Sequence[tuple[Cut, Heard]], lengths_ms: Mapping[int, float]) -> MadePad:
    """Return what a drum's pad plays, from the slices in which it is heard; `lengths_ms` are how long slices are, by their cut.

    One slice leads, and answers to all velocities by its level: the one that is most the drum alone. What counts is what else is heard
    in it, how far its bands stand over the group's lower quartile at equal level in the drum's own band, how clear it begins, how much
    of it is known, and how hard it is. Slices as clean take turns with it; ranges of their own are for slices as clean that are much
    softer or harder. Where no slice has the drum to itself it is cleaned, if that is known to help it.
    """
    strikes = _strikes(drum, group)
    costs = _costs(drum, strikes, lengths_ms)
    lead = int(costs.argmin())
    leads = [lead, *_other_ranges(strikes, costs, lead)]
    leads.sort(key=lambda n: strikes[n].velocity)
    layers: list[Layer] = []
    for place, leading in enumerate(leads):
        one = strikes[leading]
        after = strikes[leads[place + 1]] if place + 1 < len(leads) else None
        up_to = MAX_VELOCITY if after is None else (one.velocity + after.velocity) // 2
        layers += [layer_of(strikes[n].cut, velocity=strikes[n].level_velocity, up_to=up_to)
                   for n in (leading, *_equals(strikes, costs, leading, leads))]
    alone = sum(strikes[lead].others.values()) < RANGE_OTHERS
    under = any(heard.confidence >= UNDER_FROM for heard in strikes[lead].cut.heard if heard.drum != drum)
    shape = Shape(clean=1.0 if drum in CLEANED and under else PLAIN.clean)
    low_cut = LOW_CUT_HZ.get(DRUMS[drum].family)
    if low_cut is not None and (not alone or DRUMS[drum].family is Family.HATS):  # a kick under a hat is not always heard as one
        shape = Shape(clean=shape.clean, filter="high", cutoff_hz=low_cut)
    if drum in HIGH_CUT_HZ and not alone:
        shape = Shape(clean=shape.clean, filter="low", cutoff_hz=HIGH_CUT_HZ[drum])
    hardest = max((heard.velocity for _, heard in group), default=MAX_VELOCITY)
    return MadePad(tuple(layers), shape, hardest)


def _costs(drum: str, strikes: list[StruckSlice], lengths_ms: Mapping[int, float]) -> NDArray[np.float64]:
    """Return how far each slice is from the drum by itself, shape (strikes,), in dB."""
    powers = np.array([decoded(one.cut.levels) for one in strikes])
    levels = 10.0 * np.log10(powers + 1e-6)
    own = 10.0 * np.log10(np.nansum(powers[:, :, _band_of(drum)], axis=(1, 2)) + 1e-6)
    level = levels - own[:, np.newaxis, np.newaxis]
    known = ~np.isnan(level)
    with np.errstate(all="ignore"):
        usual = _quantile(level, 0.25)
        over = np.where(known, np.maximum(0.0, level - usual), 0.0).sum(axis=(1, 2)) / np.maximum(known.sum(axis=(1, 2)), 1)
    unknown = (~known.any(axis=2)).sum(axis=1)
    others = np.array([sum(one.others.values()) for one in strikes])
    clear = np.array([min(CLEAR_ENOUGH_DB, one.clear_db) for one in strikes])
    hard = np.array([one.velocity for one in strikes])
    short = np.array([lengths_ms.get(one.cut.id, LEAST_MS) < LEAST_MS for one in strikes])
    return np.asarray(OTHERS_COST_DB * others + over + CLEAR_SHARE * (CLEAR_ENOUGH_DB - clear) + UNKNOWN_COST_DB * unknown
                      - HARD_SHARE * hard + SHORT_COST_DB * short)


def _quantile(level: NDArray[np.float64], share: float) -> NDArray[np.float64]:
    """Return a quantile over the first axis of what is known; nothing where nothing is."""
    known = ~np.isnan(level)
    ordered = np.sort(np.where(known, level, np.inf), axis=0)
    count = known.sum(axis=0)
    place = np.floor(share * np.maximum(count - 1, 0)).astype(np.intp)
    found = np.take_along_axis(ordered, place[np.newaxis], axis=0)[0]
    return np.where(count > 0, found, np.inf)


def _band_of(drum: str) -> NDArray[np.bool_]:
    """Return which of the bands of levels are a drum's own."""
    band, edges = DRUMS[drum].band, np.array(EDGES_HZ[:-1])
    low, high = {Band.LOW: (0.0, 160.0), Band.MID: (160.0, 4_500.0), Band.HIGH: (4_500.0, np.inf)}[band]
    return np.asarray((edges >= low) & (edges < high))


def _other_ranges(strikes: list[StruckSlice], costs: NDArray[np.float64], lead: int) -> list[int]:
    """Return slices beside the lead that get a range of velocities of their own, the cleanest first."""
    chosen: list[int] = []
    for n in np.argsort(costs, kind="stable").tolist():
        apart = all(abs(strikes[n].velocity - strikes[m].velocity) >= RANGE_VELOCITY for m in (lead, *chosen))
        hard = -HARD_SHARE * strikes[n].velocity
        clean = costs[n] - hard <= costs[lead] + HARD_SHARE * strikes[lead].velocity + RANGE_CLEAN_DB
        if n != lead and apart and clean and sum(strikes[n].others.values()) < RANGE_OTHERS and len(chosen) < MAX_LAYERS - 1:
            chosen.append(n)
    return chosen


def _equals(strikes: list[StruckSlice], costs: NDArray[np.float64], lead: int, leads: Sequence[int]) -> list[int]:
    """Return slices that take turns with a lead: as clean, as loud, as hard."""
    one = strikes[lead]
    found = [n for n in np.argsort(costs, kind="stable").tolist()
             if n not in leads and costs[n] <= costs[lead] + AS_CLEAN_DB and sum(strikes[n].others.values()) < RANGE_OTHERS
             and abs(strikes[n].velocity - one.velocity) <= TURN_VELOCITY
             and abs(velocity_to_db(strikes[n].level_velocity) - velocity_to_db(one.level_velocity)) <= TURN_DB]
    return found[: MAX_TURNS - 1]


def _strikes(drum: str, group: Sequence[tuple[Cut, Heard]]) -> list[StruckSlice]:
    likely = [item for item in group if item[1].confidence >= LIKELY] or list(group)
    band = DRUMS[drum].band
    levels = [level_db(cut.levels, band) if _stands_alone(cut, drum) else None for cut, _ in likely]
    known = [level - velocity_to_db(heard.velocity) for (_, heard), level in zip(likely, levels, strict=True) if level is not None]
    full_db = float(np.median(known)) if known else None
    made = []
    for (cut, heard), level in zip(likely, levels, strict=True):
        by_level = heard.velocity if level is None or full_db is None else db_to_velocity(level - full_db)
        made.append(StruckSlice(cut, heard.velocity, by_level, cut.clear_db, _others(cut, drum)))
    return made


def _stands_alone(cut: Cut, drum: str) -> bool:
    """Whether a drum's own band tells how loud it is, since nothing else in the slice sounds much there."""
    others = [DRUMS[h.drum] for h in cut.heard if h.drum != drum and h.confidence >= LIKELY]
    return all(DRUMS[drum].band is not other.band and other.band is not Band.MID for other in others)


def _others(cut: Cut, drum: str) -> dict[str, float]:
    """Return the other drums in a slice, with how sure each is; one that is softer by nature counts less."""
    loud = DRUMS[drum].family not in SOFT
    return {h.drum: h.confidence * (SOFT_COUNTS if loud and DRUMS[h.drum].family in SOFT else 1.0) for h in cut.heard if h.drum != drum}
