"""What other bars have in the same place: grooves repeat, and a ghost that one bar hides another shows.

For each drum at each attack a few numbers tell what was heard there in the other bars: in the best of them, in all
of them and in those most like its own (a soft nearest neighbour, as memory networks have it; Weston, Chopra and
Bordes, 2015). The odds change by a share of how far that lies above what says nothing, so that what others have never
speaks against it; how large the share is, and how the force changes, says a small network, the same for all drums but for
what it is told of each. `training/train_recurring.py` makes its weights.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import IO

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.hearing.context import FORCE_CHANGE, DrumOdds
from bompla.analysis.hearing.spectrum import Floats
from bompla.analysis.shipped import damaged, shipped
from bompla.model.drums import DRUMS, ONE_AT_A_TIME

RECURRING_FILE = "recurring.npz"
NAMES = ("first", "own", "share", "usual", "mix", "level", "force")
NEAR_S = 0.018
ABSENT, MOST, SCALE = -3.5, 6.0, 3.0
"""The log odds of what a bar has no attack for, the farthest that odds count, and what they are divided by."""

LEAST_SHARE = 0.16
"""So much of what other bars have counts at least."""

MOST_CHANGE, MOST_ATTACK_CHANGE = 1.5, 0.3
"""Odds of drums and of an attack change by no more: grooves vary more freely than those it learned from."""

ALIKE = 60.0
"""How much less a bar counts that is heard less alike."""

SEEN, ELSEWHERE = 11, slice(1, 4)
"""Numbers that are seen of each drum at each attack, and which of them are of other bars."""

MOST_BARS_COMPARED, MOST_ATTACKS_COMPARED = 64, 2_048
"""Past these nothing is compared: a long recording drifts from even bars."""


@dataclass(frozen=True, eq=False)
class BarGrid:
    """Where bars were found: the start of the first, how long each is, in seconds, and how many."""

    start_s: float
    bar_s: float
    count: int


@dataclass(frozen=True, eq=False)
class RecurringModel:
    """What other bars are worth, a row each for the drums and for the attack.

    `mix` (rows, 3) is what counts of the best, all and the most alike, `level` (rows,) what says nothing. `first` (seen, hidden) and
    `own` (rows, hidden) make hidden values; `share` (rows, hidden), from `usual` (rows,) on, and `force` (rows, hidden) read them.
    """

    drums: tuple[str, ...]
    first: Floats
    own: Floats
    share: Floats
    usual: Floats
    mix: Floats
    level: Floats
    force: Floats


def recurring(found: DrumOdds, times_s: NDArray[np.float64], bars: BarGrid, drums: Sequence[str], model: RecurringModel) -> DrumOdds:
    """Return odds and forces in which what other bars have in the same place counts, those outside the bars as they are.

    Where there are fewer than two bars, or very many, nothing changes. `drums` are those of the odds, by column. Which of the
    hats it is stays as it was heard: that there is one recurs.
    """
    inside, seen = seen_in_bars(found, times_s, bars, drums)
    if seen.size == 0:
        return found
    rows = [*(model.drums.index(drum) for drum in drums), len(model.drums)]
    hidden = np.maximum(seen @ model.first + model.own[rows], 0.0)
    odds, attack, force = (np.array(part, dtype=np.float32) for part in (found.odds, found.attack, found.force))
    share = np.maximum((hidden * model.share[rows]).sum(axis=2) + model.usual[rows], LEAST_SHARE)
    change = share * (SCALE * (seen[:, :, ELSEWHERE] * model.mix[rows]).sum(axis=2) - model.level[rows])
    most = np.array([MOST_CHANGE] * len(drums) + [MOST_ATTACK_CHANGE], np.float32)
    change = np.clip(change, -most, most)
    once = [column for column, drum in enumerate(drums) if DRUMS[drum].for_once]
    change[:, once] = np.maximum(change[:, once], 0.0)
    odds[inside] += change[:, :-1]
    attack[inside] += change[:, -1]
    force[inside] += FORCE_CHANGE * (hidden * model.force[rows]).sum(axis=2)[:, :-1]
    return DrumOdds(odds, force, attack)


def seen_in_bars(found: DrumOdds, times_s: NDArray[np.float64], bars: BarGrid, drums: Sequence[str]) -> tuple[NDArray[np.bool_], Floats]:
    """Return which attacks are inside the bars, and what is seen of them, shape (inside, drums and the attack, `SEEN`), or nothing."""
    bar = (times_s - bars.start_s) / bars.bar_s
    inside = np.asarray((bar > -NEAR_S / bars.bar_s) & (bar < bars.count))
    if not 2 <= bars.count <= MOST_BARS_COMPARED or not 4 <= int(inside.sum()) <= MOST_ATTACKS_COMPARED:
        return inside, np.zeros((0, len(drums) + 1, SEEN), np.float32)
    known = _known(found, inside, drums)
    force = np.column_stack([found.force[inside], np.zeros(len(known))]).astype(np.float32)
    number = np.clip(np.floor(bar[inside] + 0.02).astype(np.int64), 0, bars.count - 1)  # 18 ms early is early in any bar
    odds, forces = _elsewhere(known, force, number, bar[inside] - number, bars)
    weights = _alike(known, odds, number)
    best = np.where((weights > 0.0)[:, :, None], odds, -np.inf).max(axis=0)
    there = _chance(odds) * weights[:, :, None]
    hit = (forces * there).sum(axis=0) / np.maximum(there.sum(axis=0), 1e-6)
    mean = odds.sum(axis=0, where=(weights > 0.0)[:, :, None]) / np.maximum(1, (weights > 0.0).sum(axis=0))[:, None]
    alike = (odds * weights[:, :, None]).sum(axis=0)
    wide = np.broadcast_to
    attack = [wide(part[:, -1:] / SCALE, known.shape) for part in (known, best, alike)]
    share = np.full(known.shape, 1.0 / bars.count, np.float32)
    columns = [known / SCALE, best / SCALE, mean / SCALE, alike / SCALE, *attack, share, force, hit, (force - hit) * there.sum(axis=0)]
    return inside, np.stack(columns, axis=2).astype(np.float32)


def _known(found: DrumOdds, inside: NDArray[np.bool_], drums: Sequence[str]) -> Floats:
    """Return the odds of each drum and of an attack, the hats all as the odds of any of them."""
    own = np.array(found.odds[inside], dtype=np.float64)
    hats = [column for column, drum in enumerate(drums) if drum in ONE_AT_A_TIME]
    if hats:
        own[:, hats] = np.log(np.exp(np.clip(own[:, hats], -20.0, 20.0)).sum(axis=1, keepdims=True))
    return np.asarray(np.clip(np.column_stack([own, found.attack[inside]]), -MOST, MOST), np.float32)


def _elsewhere(
    known: Floats, force: Floats, number: NDArray[np.int64], place: NDArray[np.float64], bars: BarGrid
) -> tuple[Floats, Floats]:
    """Return the odds and forces that each bar has where each attack is, shapes (bars, attacks, drums and the attack)."""
    odds = np.full((bars.count, *known.shape), ABSENT, np.float32)
    forces = np.zeros_like(odds)
    for one in range(bars.count):
        here = np.flatnonzero(number == one)
        if here.size:
            away = np.abs(place[:, None] - place[None, here]) * bars.bar_s
            nearest = here[away.argmin(axis=1)]
            near = np.exp(-0.5 * (away.min(axis=1) / NEAR_S) ** 2)[:, None].astype(np.float32)
            odds[one] = near * known[nearest] + (1.0 - near) * ABSENT
            forces[one] = force[nearest]
    return odds, forces


def _alike(known: Floats, elsewhere: Floats, number: NDArray[np.int64]) -> Floats:
    """Return how much each bar counts for each attack, shape (bars, attacks), by how alike bars are heard; its own counts nothing."""
    count = len(elsewhere)
    far = np.abs(_chance(elsewhere) - _chance(known)).mean(axis=2)
    struck = np.maximum(1, np.bincount(number, minlength=count))
    apart = np.stack([np.bincount(number, row, minlength=count) for row in far]) / struck  # bar compared, bar of the attacks
    apart = 0.5 * (apart + apart.T)
    counts = np.exp(-ALIKE * (apart - np.where(np.eye(count, dtype=bool), np.inf, apart).min(axis=0)))
    np.fill_diagonal(counts, 0.0)
    counts = np.maximum(counts, 1e-9 * (1.0 - np.eye(count)))
    return np.asarray(counts / counts.sum(axis=0), np.float32)[:, number]


def _chance(odds: Floats) -> Floats:
    return np.asarray(1.0 / (1.0 + np.exp(-odds)), np.float32)


@lru_cache(maxsize=1)
def load_recurring() -> RecurringModel:
    """Return the shipped weights; raises AnalysisError where they are missing or damaged."""
    return shipped("hearing", RECURRING_FILE, read_recurring)


def read_recurring(stream: IO[bytes]) -> RecurringModel:
    """Read weights from a file of them; raises AnalysisError where it is damaged."""
    try:
        with np.load(stream) as data:
            drums = tuple(str(name) for name in data["drums"])
            parts = [np.ascontiguousarray(data[name], dtype=np.float32) for name in NAMES]
    except (OSError, KeyError, ValueError, EOFError) as error:
        raise damaged(RECURRING_FILE) from error
    rows, hidden = len(drums) + 1, parts[0].shape[-1]
    if [part.shape for part in parts] != [(SEEN, hidden), (rows, hidden), (rows, hidden), (rows,), (rows, 3), (rows,), (rows, hidden)]:
        raise damaged(RECURRING_FILE)
    return RecurringModel(drums, *parts)
