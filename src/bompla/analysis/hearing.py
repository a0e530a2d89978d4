"""Hearing which drums sound at an attack, several at once, and how hard."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

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


@dataclass(frozen=True, eq=False)
class BarGrid:
    """Where bars were found: the start of the first, how long each is, in seconds, and how many."""

    start_s: float
    bar_s: float
    count: int


@dataclass(frozen=True, eq=False)
class DrumOdds:
    """For each attack and drum the log odds that it is there, and how hard, shapes (attacks, drums)."""

    odds: NDArray[np.floating]
    force: NDArray[np.floating]


def hear(
    activations: Activations, model: HearingModel, samples: NDArray[np.int64], spectrum: Spectrum | None = None
) -> list[tuple[Heard, ...]]:
    """Return the drums heard at each attack, as `heard_of` does of the odds of `odds_at`."""
    return heard_of(odds_at(activations, model, samples, spectrum), model)


def odds_at(
    activations: Activations, model: HearingModel, samples: NDArray[np.int64], spectrum: Spectrum | None = None
) -> DrumOdds:
    """Return how likely each drum is at each attack, and how hard; `samples` are at the analysis rate.

    With a `spectrum`, attacks that sound alike agree on one drum of a family.
    """
    frames = activations.drums.shape[0]
    if samples.size == 0 or frames == 0:
        nothing = np.zeros((0, len(model.drums)))
        return DrumOdds(nothing, nothing)
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
    return DrumOdds(strongest, activations.velocity[around][rows, best, drums])


def heard_of(found: DrumOdds, model: HearingModel) -> list[tuple[Heard, ...]]:
    """Return the drums heard at each attack, surest first, with confidence and velocity.

    Confidences are calibrated: of all that are heard at 0.8, about 80 % are there. Where no drum is likelier
    than not, the likeliest is still named, so that a slice is never nameless.
    """
    strongest = found.odds
    confidence = 1.0 / (1.0 + np.exp(-np.clip(strongest, -30.0, 30.0)))
    confidence = _calibrated(_exclusive(confidence, model))
    velocity = np.clip(np.round(127.0 * found.force), 1, 127).astype(int)
    heard = []
    for row, strengths in zip(confidence, velocity, strict=True):
        order = np.argsort(-row, kind="stable")
        chosen = [i for i in order if row[i] >= REPORTED_CONFIDENCE] or [order[0]]
        heard.append(tuple(Heard(model.drums[i], round(float(row[i]), 3), int(strengths[i])) for i in chosen))
    return heard


RECUR_SHARE, RECUR_FROM, RECUR_ABSENT, RECUR_MOST = 0.5, -0.4, -3.5, 4.0
RECUR_NEAR_S = 0.018
FOR_ONCE = ("crash", "tom_low", "tom_mid", "tom_high", "perc")
"""What opens a part or fills its end: that no other bar has it says nothing."""

MOST_BARS_COMPARED, MOST_ATTACKS_COMPARED = 64, 2_048
"""Past these nothing is compared: a long recording drifts from even bars."""


def recurring(found: DrumOdds, times_s: NDArray[np.float64], bars: BarGrid, drums: Sequence[str]) -> DrumOdds:
    """Return odds in which what other bars have in the same place counts: grooves repeat, ghosts under other drums too.

    To the log odds of a drum comes a share of the best that any other bar has there, less in two bars than in many; a bar
    without an attack there speaks against it, but for what is struck `FOR_ONCE`. Found on loops for checking, where the
    best of the other bars did better than their mean for all but the kick: kicks 0.951 to 0.955, snares 0.858 to 0.869,
    hats 0.885 to 0.891, all drums 0.826 to 0.832, ghosts 0.62 to 0.66.
    """
    bar = (times_s - bars.start_s) / bars.bar_s
    inside = (bar > -RECUR_NEAR_S / bars.bar_s) & (bar < bars.count)
    if not 2 <= bars.count <= MOST_BARS_COMPARED or not 4 <= int(inside.sum()) <= MOST_ATTACKS_COMPARED:
        return found
    hats = [column for column, drum in enumerate(drums) if drum in ONE_AT_A_TIME]
    own = np.array(found.odds[inside], dtype=np.float64)
    if hats:  # that there is a hat recurs; which of them it is stays as it was heard
        own[:, hats] = np.log(np.exp(np.clip(own[:, hats], -20.0, 20.0)).sum(axis=1, keepdims=True))
    known = np.clip(own, -RECUR_MOST, RECUR_MOST)
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
    share = RECUR_SHARE * (bars.count - 1) / bars.count
    odds = np.array(found.odds, dtype=np.float64)
    change = share * (best - RECUR_FROM)
    once = [column for column, drum in enumerate(drums) if drum in FOR_ONCE]
    change[:, once] = np.maximum(change[:, once], 0.0)
    odds[inside] += change
    return DrumOdds(odds, found.force)


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
