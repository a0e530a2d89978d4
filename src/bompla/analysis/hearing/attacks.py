"""Finding attacks: where sound begins to rise, to the sample."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from bompla.analysis.hearing.network import Activations
from bompla.analysis.hearing.refine import refine
from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, LOW_HOP, Floats, Spectrum
from bompla.analysis.params import AnalysisParams

CANDIDATE_FLOOR = 0.02
"""A place less likely than this to be an attack is not looked at, nor told of once all are known: of 540 found so, 3 were attacks."""

LEAST_LEFT = 220
"""Samples that must follow an attack: what begins in the last 5 ms belongs to the next time round."""

QUIETEST_HIT_DB = -52.0
"""Against the loud parts of the whole sound."""

PEAK_FRAMES = 2
FARTHEST_FRAMES = 1.5


@dataclass(frozen=True, eq=False)
class FoundAttacks:
    """Attacks in order: sample positions at `ANALYSIS_RATE`, and strengths from 0 to 1."""

    samples: NDArray[np.int64]
    strengths: NDArray[np.float64]


def find_attacks(spectrum: Spectrum, activations: Activations, strengths: Floats, params: AnalysisParams) -> FoundAttacks:
    """Return every attack, weak ones too, each placed where its sound begins to rise.

    `strengths` has one value a frame of the activations, from 0 to 1.

    Peaks of the network's attack probability, placed by its own idea of the time to the attack,
    then refined on the samples; strongest first, none nearer than `min_distance_ms` to a
    stronger one.
    """
    guessed, peaks = places_of(spectrum, activations)
    samples = refine(spectrum.signal, guessed)
    early = samples < spectrum.signal.size - LEAST_LEFT
    samples, peaks = samples[early], peaks[early]
    around = np.clip(peaks[:, None] + np.arange(-PEAK_FRAMES, PEAK_FRAMES + 1), 0, strengths.size - 1)
    return _apart(samples, strengths[around].max(axis=1).astype(np.float64), round(params.min_distance_ms * ANALYSIS_RATE / 1000.0))


def places_of(spectrum: Spectrum, activations: Activations) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return where the network thinks attacks are, in samples, and the frames in which it says so; both of the same length, or empty."""
    likely = activations.attack
    padded = np.pad(likely, PEAK_FRAMES, constant_values=-1.0)
    greatest = sliding_window_view(padded, 2 * PEAK_FRAMES + 1).max(axis=1)
    peaks = np.flatnonzero((likely >= greatest) & (likely > CANDIDATE_FLOOR) & _audible(spectrum)[: 2 * likely.size : 2])
    places = peaks + np.clip(activations.offset[peaks], -FARTHEST_FRAMES, FARTHEST_FRAMES)
    return np.clip(np.round(places * LOW_HOP).astype(np.int64), 0, spectrum.signal.size - 1), peaks


def _audible(spectrum: Spectrum) -> NDArray[np.bool_]:
    """Return for each frame whether sound about to come is loud enough to be a hit, not hiss."""
    total = spectrum.power.sum(axis=1)
    coming = sliding_window_view(np.pad(total, (0, 7), mode="edge"), 8).max(axis=1)
    return np.asarray(coming > np.percentile(total, 98.0) * 10.0 ** (QUIETEST_HIT_DB / 10.0))


def _apart(samples: NDArray[np.int64], strengths: NDArray[np.float64], distance: int) -> FoundAttacks:
    """Return the strongest attacks that are all so far apart, in order of time."""
    order = np.argsort(samples, kind="stable")
    samples, strengths = samples[order], strengths[order]
    first = np.searchsorted(samples, samples - distance, side="right")
    last = np.searchsorted(samples, samples + distance, side="left")
    free = np.ones(samples.size, dtype=bool)
    kept = np.zeros(samples.size, dtype=bool)
    for index in np.argsort(-strengths, kind="stable"):
        if free[index]:
            kept[index] = True
            free[first[index] : last[index]] = False
    return FoundAttacks(samples[kept], np.clip(strengths[kept], 0.0, 1.0))
