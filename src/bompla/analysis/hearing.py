"""Hearing which drums sound at an attack, several at once, and how hard."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.context import ContextModel, DrumOdds, reheard, seen_at
from bompla.analysis.network import Activations, HearingModel
from bompla.analysis.spectrum import LOW_HOP, Floats, Spectrum
from bompla.model.document import Heard

REPORTED_CONFIDENCE = 0.05
CUT_THRESHOLD = 0.5
"""The attack strength from which cuts are made unless the user chooses otherwise."""

ONE_AT_A_TIME = ("hat_closed", "hat_pedal", "hat_open")
HEARD_FRAMES = 2
"""Frames looked at on both sides of an attack, for drums struck a little apart: 12 ms."""

LIKELY_ATTACK, LEAST_LIKELY = 0.5, 1e-4
"""From what chance on an attack is cut once all are known, and the least chance that is told from none."""


def strengths_of(activations: Activations, model: HearingModel) -> Floats:
    """Return the attack strength of each frame, shape (frames,), from 0 to 1.

    Below `CUT_THRESHOLD` it says how likely an attack is, above it, where one is likelier than not
    to be worth a cut, how hard it is: a threshold drawn up leaves out the softest first, one drawn
    down takes in the doubtful.
    """
    return _strength(activations.attack, model.slope * activations.drums + model.shift, activations.velocity, model.threshold)


def _strength(attack: Floats, odds: NDArray[np.floating], force: NDArray[np.floating], likely: float) -> Floats:
    hardest = (np.clip(force, 0.0, 1.0) * _chance(odds)).max(axis=1, initial=0.0)
    doubt = CUT_THRESHOLD * attack / likely
    sure = CUT_THRESHOLD + (1.0 - CUT_THRESHOLD) * (0.15 * attack + 0.85 * hardest)
    return np.asarray(np.where(attack < likely, doubt, np.clip(sure, CUT_THRESHOLD, 1.0)), np.float32)


@dataclass(frozen=True, eq=False)
class BarGrid:
    """Where bars were found: the start of the first, how long each is, in seconds, and how many."""

    start_s: float
    bar_s: float
    count: int


def heard_alone(activations: Activations, model: HearingModel, samples: NDArray[np.int64]) -> DrumOdds:
    """Return what the network heard at each attack by itself; `samples` are at the analysis rate."""
    frames = activations.drums.shape[0]
    if samples.size == 0 or frames == 0:
        nothing = np.zeros((0, len(model.drums)), np.float32)
        return DrumOdds(nothing, nothing, np.zeros(0, np.float32))
    centre = np.round(samples / LOW_HOP).astype(np.int64)
    around = np.clip(centre[:, None] + np.arange(-HEARD_FRAMES, HEARD_FRAMES + 1), 0, frames - 1)
    odds = activations.drums[around]
    best = odds.argmax(axis=1)
    rows, drums = np.arange(samples.size)[:, None], np.arange(odds.shape[2])[None, :]
    likely = np.clip(activations.attack[around].max(axis=1), LEAST_LIKELY, 1.0 - LEAST_LIKELY)
    strongest = model.slope * odds[rows, best, drums] + model.shift
    return DrumOdds(strongest, activations.velocity[around][rows, best, drums], np.log(likely / (1.0 - likely)))


def heard_together(
    activations: Activations, model: HearingModel, context: ContextModel, spectrum: Spectrum, samples: NDArray[np.int64]
) -> DrumOdds:
    """Return what is heard at each attack now that all are known; `samples` are at the analysis rate, in order."""
    alone = heard_alone(activations, model, samples)
    if samples.size == 0:
        return alone
    return reheard(context, seen_at(spectrum, activations.inner, samples, alone), alone)


def strength_of(together: DrumOdds) -> Floats:
    """Return the attack strength of each attack, shape (attacks,), on the scale of `strengths_of`."""
    return _strength(_chance(together.attack), together.odds, together.force, LIKELY_ATTACK)


def heard_of(found: DrumOdds, model: HearingModel) -> list[tuple[Heard, ...]]:
    """Return the drums heard at each attack, surest first, with confidence and velocity.

    Confidences are calibrated: of all that are heard at 0.8, about 80 % are there. Where no drum is likelier
    than not, the likeliest is still named, so that a slice is never nameless.
    """
    confidence = _exclusive(_chance(found.odds), model)
    velocity = np.clip(np.round(127.0 * found.force), 1, 127).astype(int)
    heard = []
    for row, strengths in zip(confidence, velocity, strict=True):
        order = np.argsort(-row, kind="stable")
        chosen = [i for i in order if row[i] >= REPORTED_CONFIDENCE] or [order[0]]
        heard.append(tuple(Heard(model.drums[i], round(float(row[i]), 3), int(strengths[i])) for i in chosen))
    return heard


RECUR_SHARE, RECUR_FROM, RECUR_ABSENT, RECUR_MOST = 0.5, -0.1, -3.5, 4.0
ATTACK_RECUR_SHARE, ATTACK_RECUR_FROM = 0.2, 0.5
RECUR_NEAR_S = 0.018
FOR_ONCE = ("crash", "tom_low", "tom_mid", "tom_high", "perc")
"""What opens a part or fills its end: that no other bar has it says nothing."""

MOST_BARS_COMPARED, MOST_ATTACKS_COMPARED = 64, 2_048
"""Past these nothing is compared: a long recording drifts from even bars."""


def recurring(found: DrumOdds, times_s: NDArray[np.float64], bars: BarGrid, drums: Sequence[str]) -> DrumOdds:
    """Return odds in which what other bars have in the same place counts: grooves repeat, ghosts under other drums too.

    To the log odds of a drum, and of an attack, comes a share of the best that any other bar has there, less in two bars than
    in many; a bar without an attack there speaks against it, but for what is struck `FOR_ONCE`. Found on loops for checking,
    where the best of the other bars did better than their mean for all but the kick: kicks 0.951 to 0.955, snares 0.858 to
    0.869, hats 0.885 to 0.891, all drums 0.826 to 0.832, ghosts 0.62 to 0.66; attacks later 0.9710 to 0.9725.
    """
    bar = (times_s - bars.start_s) / bars.bar_s
    inside = (bar > -RECUR_NEAR_S / bars.bar_s) & (bar < bars.count)
    if not 2 <= bars.count <= MOST_BARS_COMPARED or not 4 <= int(inside.sum()) <= MOST_ATTACKS_COMPARED:
        return found
    hats = [column for column, drum in enumerate(drums) if drum in ONE_AT_A_TIME]
    own = np.array(found.odds[inside], dtype=np.float64)
    if hats:  # that there is a hat recurs; which of them it is stays as it was heard
        own[:, hats] = np.log(np.exp(np.clip(own[:, hats], -20.0, 20.0)).sum(axis=1, keepdims=True))
    known = np.clip(np.column_stack([own, found.attack[inside]]), -RECUR_MOST, RECUR_MOST)
    number = np.floor(bar[inside] + 0.02).astype(np.int64)
    place = bar[inside] - number
    best = np.full(known.shape, RECUR_ABSENT)
    for one in range(bars.count):
        others = number != one
        here = np.flatnonzero(number == one)
        if here.size == 0:
            continue
        away = np.abs(place[others, None] - place[None, here]) * bars.bar_s
        nearest = away.argmin(axis=1)
        near = np.exp(-0.5 * (away[np.arange(nearest.size), nearest] / RECUR_NEAR_S) ** 2)[:, None]
        best[others] = np.maximum(best[others], near * known[here][nearest] + (1.0 - near) * RECUR_ABSENT)
    told = (bars.count - 1) / bars.count
    change = told * RECUR_SHARE * (best[:, :-1] - RECUR_FROM)
    once = [column for column, drum in enumerate(drums) if drum in FOR_ONCE]
    change[:, once] = np.maximum(change[:, once], 0.0)
    odds, attack = np.array(found.odds, dtype=np.float64), np.array(found.attack, dtype=np.float64)
    odds[inside] += change
    attack[inside] += told * ATTACK_RECUR_SHARE * (best[:, -1] - ATTACK_RECUR_FROM)
    return DrumOdds(odds.astype(np.float32), found.force, attack.astype(np.float32))


def _chance(odds: NDArray[np.floating]) -> NDArray[np.floating]:
    return np.asarray(1.0 / (1.0 + np.exp(-np.clip(odds, -30.0, 30.0))))


def _exclusive(confidence: NDArray[np.floating], model: HearingModel) -> NDArray[np.floating]:
    """Return confidences where one hi-hat cannot be closed, open and trodden at once.

    The likeliest of the three gets the probability that it is any of them, the others what is left.
    """
    columns = [model.drums.index(drum) for drum in ONE_AT_A_TIME]
    three = confidence[:, columns]
    best = three.argmax(axis=1)
    any_of_them = 1.0 - np.prod(1.0 - three, axis=1)
    rows = np.arange(len(three))
    left = three * (1.0 - three[rows, best])[:, None]
    left[rows, best] = any_of_them
    changed = confidence.copy()
    changed[:, columns] = left
    return changed
