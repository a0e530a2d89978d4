"""Finding attacks: where sound begins to rise, to the sample."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray
from scipy.fft import ifft, rfft

from bompla.analysis.network import Activations
from bompla.analysis.params import AnalysisParams
from bompla.analysis.spectrum import ANALYSIS_RATE, LOW_HOP, Floats, Spectrum

CANDIDATE_FLOOR = 0.02
"""A place less likely than this to be an attack is not looked at, nor told of once all are known: of 540 found so, 3 were attacks."""

LEAST_LEFT = 220
"""Samples that must follow an attack: what begins in the last 5 ms belongs to the next time round."""

QUIETEST_HIT_DB = -52.0
"""Against the loud parts of the whole sound."""

PEAK_FRAMES = 2
FARTHEST_FRAMES = 1.5
PRIOR_SAMPLES = 60.0
"""How far the network's idea of the time is off, as a standard deviation: 1.4 ms."""


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
    likely = activations.attack
    padded = np.pad(likely, PEAK_FRAMES, constant_values=-1.0)
    greatest = sliding_window_view(padded, 2 * PEAK_FRAMES + 1).max(axis=1)
    peaks = np.flatnonzero((likely >= greatest) & (likely > CANDIDATE_FLOOR) & _audible(spectrum)[: 2 * likely.size : 2])
    if peaks.size == 0:
        return FoundAttacks(np.zeros(0, dtype=np.int64), np.zeros(0))
    places = peaks + np.clip(activations.offset[peaks], -FARTHEST_FRAMES, FARTHEST_FRAMES)
    guessed = np.clip(np.round(places * LOW_HOP).astype(np.int64), 0, spectrum.signal.size - 1)
    samples = refine(spectrum.signal, guessed)
    early = samples < spectrum.signal.size - LEAST_LEFT
    samples, peaks = samples[early], peaks[early]
    around = np.clip(peaks[:, None] + np.arange(-PEAK_FRAMES, PEAK_FRAMES + 1), 0, strengths.size - 1)
    return _apart(samples, strengths[around].max(axis=1).astype(np.float64), round(params.min_distance_ms * ANALYSIS_RATE / 1000.0))


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


WINDOW = 2048
EVERY = 2
"""The change is searched at one sample in so many."""

BEFORE, AFTER = 176, 132
"""Lengths compared on both sides of a rise: 4 ms before it and 3 ms after."""

SEARCH_BACK, SEARCH_ON = 480, 400
"""Samples searched before and after the guessed place: 11 and 9 ms."""

REFINE_BANDS_HZ = ((30.0, 300.0), (300.0, 2_000.0), (2_000.0, 6_000.0), (6_000.0, 16_000.0))
_REFINE_CHUNK = 128


def refine(signal: Floats, samples: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the samples at which the sound begins to rise, near those given.

    The most likely change point of the energy in four bands together (the likelihood ratio for
    a change of variance; Basseville and Nikiforov, "Detection of abrupt changes", 1993, with
    each band's degrees of freedom from its width). The bands' analytic envelopes are used, so
    that the phase of a ringing low drum does not look like a change.
    """
    refined = [
        _refined_chunk(signal, samples[at : at + _REFINE_CHUNK]) for at in range(0, samples.size, _REFINE_CHUNK)
    ]
    return np.concatenate(refined) if refined else samples


def _refined_chunk(signal: Floats, samples: NDArray[np.int64]) -> NDArray[np.int64]:
    start = samples - WINDOW // 2
    parts = _windows(signal, start)
    # An analytic signal has no negative frequencies: a sample in two holds all of it, half the bins at half the length.
    spectra = rfft(parts * _taper(), axis=1)[:, : WINDOW // EVERY]
    likelihood = np.zeros((samples.size, (SEARCH_BACK + SEARCH_ON) // EVERY), dtype=np.float32)
    for mask, freedom in _refine_masks():
        envelope = ifft(spectra * mask[: WINDOW // EVERY], axis=1, overwrite_x=True)
        likelihood += np.float32(freedom) * _change(envelope.real**2 + envelope.imag**2)
    places = np.arange(WINDOW // 2 - SEARCH_BACK, WINDOW // 2 + SEARCH_ON, EVERY)
    likelihood -= (0.5 * ((places - WINDOW // 2) / PRIOR_SAMPLES) ** 2).astype(np.float32)
    change = places[likelihood.argmax(axis=1)]
    begin = _swell_start(parts, change + _first_rise(parts, change))
    return np.asarray(np.clip(start + begin, 0, max(0, signal.size - 1)))


def _windows(signal: Floats, start: NDArray[np.int64]) -> Floats:
    """Return `WINDOW` samples from each start, silence outside the signal, shape (starts, `WINDOW`)."""
    first, last = int(start.min()), int(start.max()) + WINDOW
    stretch = np.pad(signal[max(0, first) : max(0, last)], (max(0, -first), max(0, last - max(signal.size, first))))
    return np.asarray(sliding_window_view(stretch, WINDOW)[start - first])


SWELL_SAMPLES, SWELL_SMOOTHING = 790, 66
LEAST_SWELL = 110


def _swell_start(parts: Floats, begin: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return where a sound that swells, as a shaker does, began to: back from `begin`, up to 18 ms.

    The place is the last at which the slope's energy was near what was there before, or 17 dB
    below what follows; sounds that rise within 2.5 ms of it stay where they are.
    """
    slope = np.diff(parts, axis=1, prepend=parts[:, :1]) ** 2
    total = np.concatenate([np.zeros((slope.shape[0], 1)), np.cumsum(slope, axis=1, dtype=np.float64)], axis=1)
    rows = np.arange(slope.shape[0])[:, None]
    ends = begin[:, None] + np.arange(-SWELL_SAMPLES, 1, EVERY)
    energy = total[rows, ends] - total[rows, np.maximum(ends - SWELL_SMOOTHING, 0)]
    after = begin[:, None] + np.arange(SWELL_SMOOTHING, 5 * SWELL_SMOOTHING, 11)
    peak = (total[rows, after] - total[rows, after - SWELL_SMOOTHING]).max(axis=1)
    quiet = np.percentile(energy, 20, axis=1)
    still = energy <= np.maximum(2.0 * quiet, 0.02 * peak)[:, None]
    back = np.where(still.any(axis=1), EVERY * still[:, ::-1].argmax(axis=1), 0)
    return np.where(back >= LEAST_SWELL, begin - back, begin)


RISE_SAMPLES = 132
"""How far after the change point the sound may begin to rise: 3 ms, the reach of the bands' ringing."""


def _first_rise(parts: Floats, change: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return how many samples after the change point the sound, or its slope, first leaves what was before.

    The bands ring a little ahead of a sudden sound; the samples themselves do not.
    """
    rows = np.arange(parts.shape[0])[:, None]
    found = np.full(parts.shape[0], RISE_SAMPLES, dtype=np.int64)
    for source in (parts, np.diff(parts, axis=1, prepend=parts[:, :1])):
        before = np.abs(source[rows, change[:, None] + np.arange(-BEFORE, -20)])
        ahead = np.abs(source[rows, change[:, None] + np.arange(RISE_SAMPLES + AFTER)])
        level = np.maximum(1.1 * before.max(axis=1), 0.02 * ahead.max(axis=1))
        above = ahead[:, :RISE_SAMPLES] > level[:, None]
        found = np.minimum(found, np.where(above.any(axis=1), above.argmax(axis=1), RISE_SAMPLES))
    return np.where(found < RISE_SAMPLES, found, 0)


def _change(energy: Floats) -> Floats:
    """Return the log likelihood gain of a rise at each place searched, zero where energy falls; a column each `EVERY` samples."""
    total = np.zeros((energy.shape[0], energy.shape[1] + 1))
    np.cumsum(energy, axis=1, out=total[:, 1:])
    first, last = (WINDOW // 2 - SEARCH_BACK) // EVERY, (WINDOW // 2 + SEARCH_ON) // EVERY
    back, on = BEFORE // EVERY, AFTER // EVERY
    floor = 1e-10 + 1e-5 * energy.max(axis=1, keepdims=True)
    here = total[:, first:last]
    before = ((here - total[:, first - back : last - back]) / back).astype(np.float32) + floor
    after = ((total[:, first + on : last + on] - here) / on).astype(np.float32) + floor
    share = np.float32(BEFORE / (BEFORE + AFTER))
    both = share * before + (1 - share) * after
    gain = np.log(both) - share * np.log(before) - (1 - share) * np.log(after)
    return np.asarray(np.where(after > before, gain, np.float32(0.0)), np.float32)


@lru_cache(maxsize=1)
def _refine_masks() -> tuple[tuple[Floats, float], ...]:
    bins = np.fft.rfftfreq(WINDOW, 1.0 / ANALYSIS_RATE)
    masks = []
    for low, high in REFINE_BANDS_HZ:
        rising = np.clip((bins - 0.8 * low) / (0.4 * low), 0.0, 1.0)
        falling = np.clip((1.2 * high - bins) / (0.4 * high), 0.0, 1.0)
        masks.append(((2.0 * rising * falling).astype(np.float32), (high - low) / 4000.0))
    return tuple(masks)


@lru_cache(maxsize=1)
def _taper() -> Floats:
    taper = np.ones(WINDOW, dtype=np.float32)
    edge = np.sin(np.linspace(0.0, np.pi / 2.0, 96)) ** 2
    taper[:96], taper[-96:] = edge, edge[::-1]
    return taper
