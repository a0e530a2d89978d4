"""Which slices lend a pad its sound, and how hard a strike each answers to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from bompla.model.document import Cut, Heard, Layer
from bompla.model.drums import DRUMS, Band, Family
from bompla.model.kit_edits import layer_of
from bompla.model.strike_levels import decoded, fall_db, level_db
from bompla.units import MAX_VELOCITY, MOST_RAISED_DB, db_to_velocity, velocity_to_db

MAX_LAYERS = 12
MAX_TURNS = 3
"""How many equal slices take turns on a pad."""

TURN_DB = 1.0
"""Slices that take turns are as loud as one another, to so many dB."""

TURN_COST_DB = 1.0
LAYER_COST_DB = 1.5
"""What a range of its own has to save, over all its strikes."""

LEAST_RANGE = 1
"""Ranges are parted only where velocities differ by so much: no strike falls into two."""

LEVEL_SHARE = 0.1
"""What a dB of difference in level costs; beyond what a slice may be raised by, each costs in full."""

CLEAR_SHARE = 0.1
"""What a dB less clear costs a slice that leads, beside how unlike the others it sounds."""

OTHERS_COST_DB, FOREIGN_COST_DB = 6.0, 2.0
"""What another drum, sure to be there, costs a slice that leads; and more for each strike that does not have it too."""

SOFT, SOFT_COUNTS = (Family.HATS, Family.EXTRAS), 0.35
"""A hat under a snare is little; a snare under a hat is nearly all of it."""

MOST_COMPARED = 200
"""Of more strikes some are left out, as every pair of them is compared."""

CLEAR_ENOUGH_DB = 30.0
LIKELY = 0.5
"""Slices in which a drum is less likely than this lend its pad no sound, as long as there are others."""


class StruckSlice(NamedTuple):
    """A slice in which the drum is heard: how hard, as heard and by its measured level, how clear and whole, and what else is in it."""

    cut: Cut
    velocity: int
    level_velocity: int
    clear_db: float
    others: Mapping[str, float]


def layers_of(drum: str, group: Sequence[tuple[Cut, Heard]]) -> tuple[Layer, ...]:
    """Return layers from soft to hard; in each range the slice that stands best for the others leads, and equals take turns with it.

    A layer plays at the velocity that its measured level stands for, so that a strike is as loud on either side of a range's border.
    Strikes in order of how hard they were heard are parted into ranges by dynamic programming (Fisher, "On grouping for maximum
    homogeneity", 1958), for the least difference of each strike from the slice that leads its range.
    """
    strikes = sorted(_strikes(drum, group), key=lambda one: (one.velocity, one.level_velocity))
    strikes = strikes[:: 1 + (len(strikes) - 1) // MOST_COMPARED]
    costs = _costs(strikes)
    layers: list[Layer] = []
    ranges = _ranges(costs, np.array([one.velocity for one in strikes]))
    for index, (start, end, leading) in enumerate(ranges):
        lead = strikes[leading]
        up_to = MAX_VELOCITY if index == len(ranges) - 1 else (strikes[end - 1].velocity + strikes[end].velocity) // 2
        best = costs[leading, start:end].sum()
        order = sorted((n for n in range(start, end) if n != leading), key=lambda n: costs[n, start:end].sum())
        equals = [strikes[n] for n in order if costs[n, start:end].sum() <= best + TURN_COST_DB * (end - start)
                  and _apart_db(strikes[n], lead) <= TURN_DB]
        layers += [layer_of(one.cut, velocity=one.level_velocity, up_to=up_to) for one in (lead, *equals[: MAX_TURNS - 1])]
    return tuple(layers)


def _costs(strikes: list[StruckSlice]) -> NDArray[np.float64]:
    """Return how far strike n is from strike m when it leads in its place, shape (strikes, strikes), in dB: sound, and what is unclean."""
    clear = np.array([one.clear_db for one in strikes])
    drums = sorted({drum for one in strikes for drum in one.others})
    others = np.array([[one.others.get(drum, 0.0) for drum in drums] for one in strikes]).reshape(len(strikes), len(drums))
    foreign = np.maximum(0.0, others[:, np.newaxis] - others).sum(axis=2)
    unclean = (CLEAR_SHARE * (clear.max() - clear) + OTHERS_COST_DB * others.sum(axis=1))[:, np.newaxis] + FOREIGN_COST_DB * foreign
    shapes = np.array([10.0 * np.log10(decoded(one.cut.levels) + 1e-6).ravel() for one in strikes])
    level = np.array([velocity_to_db(one.level_velocity) for one in strikes])
    shapes -= level[:, np.newaxis]
    apart = np.abs(shapes[:, np.newaxis] - shapes[np.newaxis])
    known = ~np.isnan(apart)
    mean = np.where(known, apart, 0.0).sum(axis=2) / np.maximum(known.sum(axis=2), 1)
    mean = np.where(known.any(axis=2), mean, np.abs(level[:, np.newaxis] - level))
    louder = level - level[:, np.newaxis]
    raised = np.maximum(0.0, louder - MOST_RAISED_DB) + LEVEL_SHARE * np.abs(louder)
    return np.asarray(mean + raised + unclean)


def _ranges(costs: NDArray[np.float64], velocities: NDArray[np.int64]) -> list[tuple[int, int, int]]:
    """Return the ranges as (first, end, which leads), at most `MAX_LAYERS`; each one more has to pay `LAYER_COST_DB`."""
    within, leads = _within_ranges(costs)
    within[1:][np.diff(velocities) < LEAST_RANGE] = np.inf
    count = len(costs)
    best, froms = [np.append(0.0, np.full(count, np.inf))], [np.zeros(count + 1, np.int64)]
    for _ in range(min(MAX_LAYERS, count)):
        options = best[-1][:count, np.newaxis] + within + LAYER_COST_DB
        froms.append(np.append(0, options.argmin(axis=0)))
        best.append(np.append(np.inf, options.min(axis=0)))
    found, end = [], count
    for depth in range(min(range(1, len(best)), key=lambda n: best[n][count]), 0, -1):
        start = int(froms[depth][end])
        found.append((start, end, int(leads[start, end - 1])))
        end = start
    return found[::-1]


def _within_ranges(costs: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Return for ranges from one strike to another, both in them, what they cost and which strike leads; shape (first, last)."""
    count = len(costs)
    within, leads = np.full((count, count), np.inf), np.zeros((count, count), np.int64)
    summed = np.concatenate([np.zeros((count, 1)), np.cumsum(costs, axis=1)], axis=1)
    for start in range(count):
        inside = summed[start:, start + 1 :] - summed[start:, [start]]
        inside[np.tril_indices(count - start, -1)] = np.inf  # a strike cannot lead a range that ends before it
        leads[start, start:] = start + inside.argmin(axis=0)
        within[start, start:] = inside.min(axis=0)
    return within, leads


def _apart_db(one: StruckSlice, other: StruckSlice) -> float:
    return abs(velocity_to_db(one.level_velocity) - velocity_to_db(other.level_velocity))


def _strikes(drum: str, group: Sequence[tuple[Cut, Heard]]) -> list[StruckSlice]:
    likely = [item for item in group if item[1].confidence >= LIKELY] or list(group)
    band = DRUMS[drum].band
    levels = [level_db(cut.levels, band) if _stands_alone(cut, drum) else None for cut, _ in likely]
    known = [level - velocity_to_db(heard.velocity) for (_, heard), level in zip(likely, levels, strict=True) if level is not None]
    if not known:
        return [StruckSlice(cut, heard.velocity, heard.velocity, _clear_db(cut, heard), _others(cut, drum)) for cut, heard in likely]
    full_db = float(np.median(known))
    made = []
    for (cut, heard), level in zip(likely, levels, strict=True):
        by_level = heard.velocity if level is None else db_to_velocity(level - full_db)
        made.append(StruckSlice(cut, heard.velocity, by_level, _clear_db(cut, heard), _others(cut, drum)))
    return made


def _stands_alone(cut: Cut, drum: str) -> bool:
    """Whether a drum's own band tells how loud it is, since nothing else in the slice sounds much there."""
    others = [DRUMS[h.drum] for h in cut.heard if h.drum != drum and h.confidence >= LIKELY]
    return all(DRUMS[drum].band is not other.band and other.band is not Band.MID for other in others)


def _others(cut: Cut, drum: str) -> dict[str, float]:
    """Return the other drums in a slice, with how sure each is; one that is softer by nature counts less."""
    loud = DRUMS[drum].family not in SOFT
    return {h.drum: h.confidence * (SOFT_COUNTS if loud and DRUMS[h.drum].family in SOFT else 1.0) for h in cut.heard if h.drum != drum}


def _clear_db(cut: Cut, heard: Heard) -> float:
    """Return how well a slice stands out: clear of what rings, its tail whole, surely the drum."""
    whole = fall_db(cut.levels)
    return min(CLEAR_ENOUGH_DB, cut.clear_db) + 0.5 * min(CLEAR_ENOUGH_DB, whole or 0.0) + 10.0 * heard.confidence
