"""Hearing which drums sound at an attack, several at once, and how hard."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.hearing.context import ContextModel, DrumOdds, reheard, seen_at
from bompla.analysis.hearing.network import Activations, HearingModel
from bompla.analysis.hearing.spectrum import LOW_HOP, Floats, Spectrum
from bompla.model.document import Heard
from bompla.model.drums import ONE_AT_A_TIME

REPORTED_CONFIDENCE = 0.05
CUT_THRESHOLD = 0.5
"""The attack strength from which cuts are made unless the user chooses otherwise."""

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
    """Return what is heard at each attack now that all of its take are known; `samples` are at the analysis rate, in order."""
    alone = heard_alone(activations, model, samples)
    if samples.size == 0:
        return alone
    seen = seen_at(spectrum, activations.inner, samples, alone)
    edges = np.unique([0, *np.searchsorted(samples, spectrum.takes), samples.size])
    takes = [reheard(context, seen[first:last], alone.between(first, last)) for first, last in pairwise(edges)]
    parts = zip(*((one.odds, one.force, one.attack) for one in takes), strict=True)
    return DrumOdds(*(np.concatenate(part) for part in parts))


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
