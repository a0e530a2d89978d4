"""Hearing which drums sound at an attack, several at once, and how hard."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.network import Activations, HearingModel
from bompla.analysis.spectrum import HOP, LOW_HOP, Floats, Spectrum
from bompla.model.document import Heard

REPORTED_CONFIDENCE = 0.05
SURE_SLOPE, SURE_SHIFT = 1.35, -0.54
"""What agreeing and excluding one another do to confidences is put right by these, on log odds (Platt 1999), fitted on loops for
checking: of what is heard at 0.8 about 80 % are there."""

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


AGREE_SETS = (
    ("hat_closed", "hat_pedal", "hat_open", "ride", "crash", "shaker"),
    ("snare", "rim", "clap"),
    ("tom_low", "tom_mid", "tom_high"),
)
"""Drums of which alike sounds of one loop agree on one. Measured on loops for checking, a share from 0.3 to 0.7 does equally well
over all; a small one leaves a drum alone that is struck but once or twice. Agreeing on all drums at once harms the kick."""

AGREE_SHARE, ALIKE_DB, QUIETEST_DB = 0.4, 3.0, -45.0
ALIKE_FRAMES = (2, 5, 9, 16)
AGREE_AMONG = 1024
"""Attacks are compared with those around them, so many at a time."""


def hear(
    activations: Activations, model: HearingModel, samples: NDArray[np.int64], spectrum: Spectrum | None = None
) -> list[tuple[Heard, ...]]:
    """Return the drums heard at each attack, surest first, with confidence and velocity.

    `samples` are at the analysis rate. With a `spectrum`, attacks that sound alike agree on one drum
    of a family. Confidences are calibrated: of all that are heard at 0.8,
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
    if spectrum is not None:
        for first in range(0, samples.size, AGREE_AMONG):
            part = slice(first, first + AGREE_AMONG)
            strongest[part] = agreed(strongest[part], _sounds(spectrum, samples[part]), model.drums)
    confidence = 1.0 / (1.0 + np.exp(-np.clip(strongest, -30.0, 30.0)))
    confidence = _calibrated(_exclusive(confidence, model))
    force = activations.velocity[around][rows, best, drums]
    velocity = np.clip(np.round(127.0 * force), 1, 127).astype(int)
    heard = []
    for row, strengths in zip(confidence, velocity, strict=True):
        order = np.argsort(-row, kind="stable")
        chosen = [i for i in order if row[i] >= REPORTED_CONFIDENCE] or [order[0]]
        heard.append(tuple(Heard(model.drums[i], round(float(row[i]), 3), int(strengths[i])) for i in chosen))
    return heard


def agreed(odds: NDArray[np.floating], sounds: Floats, drums: Sequence[str]) -> NDArray[np.floating]:
    """Return log odds in which attacks that sound alike agree on one drum of each of `AGREE_SETS`.

    `odds` has shape (attacks, drums), `sounds` (attacks, bands). How likely any drum of a set is stays as it
    is; which of them it is moves to what alike attacks say, those counting most that are surest of the set.
    """
    if len(odds) < 3:
        return odds
    squares = (sounds**2).sum(axis=1)
    distance = np.maximum(0.0, squares[:, None] + squares[None, :] - 2.0 * sounds @ sounds.T) / sounds.shape[1]
    alike = np.exp(-0.5 * distance / ALIKE_DB**2)
    np.fill_diagonal(alike, 0.0)
    changed = np.array(odds, dtype=np.float64)
    for names in AGREE_SETS:
        columns = [drums.index(name) for name in names]
        own = np.clip(changed[:, columns], -20.0, 20.0)
        whole = np.log(np.exp(own).sum(axis=1, keepdims=True))
        present = 1.0 - np.prod(1.0 / (1.0 + np.exp(own)), axis=1)
        votes = alike * present[None, :]
        total = votes.sum(axis=1, keepdims=True)
        share = AGREE_SHARE * total / (total + 1.0)
        which = (1.0 - share) * (own - whole) + share * (votes @ (own - whole)) / np.maximum(total, 1e-9)
        changed[:, columns] = whole + which - np.log(np.exp(which).sum(axis=1, keepdims=True))
    return changed


def _sounds(spectrum: Spectrum, samples: NDArray[np.int64]) -> Floats:
    """Return what each attack sounds like whatever its loudness, shape (attacks, bands): levels after it in dB below its peak."""
    frame = np.round(samples / HOP).astype(np.int64)
    places = np.clip(frame[:, None] + np.array(ALIKE_FRAMES), 0, spectrum.frames - 1)
    level = 10.0 * np.log10(spectrum.power[places] + np.float32(1e-9))
    flat = level.reshape(len(samples), -1)
    below = np.maximum(flat - flat.max(axis=1, keepdims=True), np.float32(QUIETEST_DB))
    return np.asarray(below, np.float32)


def _calibrated(confidence: NDArray[np.floating]) -> NDArray[np.floating]:
    inside = np.clip(confidence, 1e-6, 1.0 - 1e-6)
    odds = SURE_SLOPE * np.log(inside / (1.0 - inside)) + SURE_SHIFT
    return np.asarray(1.0 / (1.0 + np.exp(-odds)))


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
