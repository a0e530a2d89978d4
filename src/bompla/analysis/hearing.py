"""Hearing which drums sound at an attack, several at once, and how hard."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.network import Activations, HearingModel
from bompla.analysis.spectrum import LOW_HOP, Floats
from bompla.model.document import Heard

REPORTED_CONFIDENCE = 0.12
CUT_THRESHOLD = 0.5
"""The attack strength from which cuts are made unless the user chooses otherwise."""

ONE_AT_A_TIME = ("hat_closed", "hat_pedal", "hat_open")
HEARD_FRAMES = 2
"""Frames looked at on both sides of an attack, for drums struck a little apart: 12 ms."""


def strengths_of(activations: Activations, model: HearingModel) -> Floats:
    """Return the attack strength of each frame, shape (frames,), from 0 to 1.

    Below `CUT_THRESHOLD` it says how likely an attack is, above it, where one is likelier than not
    to be worth a cut, how hard it is: a threshold drawn up leaves out the softest first, one drawn
    down takes in the doubtful.
    """
    odds = model.slope * activations.drums + model.shift
    force = (np.clip(activations.velocity, 0.0, 1.0) / (1.0 + np.exp(-np.clip(odds, -30.0, 30.0)))).max(axis=1, initial=0.0)
    doubt = CUT_THRESHOLD * activations.attack / model.threshold
    sure = CUT_THRESHOLD + (1.0 - CUT_THRESHOLD) * (0.15 * activations.attack + 0.85 * force)
    return np.asarray(np.where(activations.attack < model.threshold, doubt, np.clip(sure, CUT_THRESHOLD, 1.0)), np.float32)


def hear(activations: Activations, model: HearingModel, samples: NDArray[np.int64]) -> list[tuple[Heard, ...]]:
    """Return the drums heard at each attack, surest first, with confidence and velocity.

    `samples` are at the analysis rate. Confidences are calibrated: of all that are heard at 0.8,
    about 80 % are there. Where no drum is likelier than not, the likeliest is still named, so
    that a slice is never nameless.
    """
    frames = activations.drums.shape[0]
    if samples.size == 0 or frames == 0:
        return []
    centre = np.round(samples / LOW_HOP).astype(np.int64)
    around = np.clip(centre[:, None] + np.arange(-HEARD_FRAMES, HEARD_FRAMES + 1), 0, frames - 1)
    odds = activations.drums[around]
    best = odds.argmax(axis=1)
    rows, drums = np.arange(samples.size)[:, None], np.arange(odds.shape[2])[None, :]
    strongest = model.slope * odds[rows, best, drums] + model.shift
    confidence = 1.0 / (1.0 + np.exp(-np.clip(strongest, -30.0, 30.0)))
    confidence = _exclusive(confidence, model)
    force = activations.velocity[around][rows, best, drums]
    velocity = np.clip(np.round(127.0 * force), 1, 127).astype(int)
    heard = []
    for row, strengths in zip(confidence, velocity, strict=True):
        order = np.argsort(-row, kind="stable")
        chosen = [i for i in order if row[i] >= REPORTED_CONFIDENCE] or [order[0]]
        heard.append(tuple(Heard(model.drums[i], round(float(row[i]), 3), int(strengths[i])) for i in chosen))
    return heard


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
