"""Where the sound of an attack begins to rise, to the sample.

What is known of a change of energy (the likelihood ratio for a change of variance; Basseville and
Nikiforov, "Detection of abrupt changes", 1993) in four bands is looked at around each place by a
small network of convolutions over time, which says how likely the attack begins in each bin; after
Schlueter and Boeck ("Improved musical onset detection with convolutional neural networks", 2014), at
a third of a millisecond a bin. `training/train_refine.py` makes the weights.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import IO

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray
from scipy.fft import ifft, rfft

from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, Floats
from bompla.analysis.shipped import damaged, shipped

REFINE_FILE = "refine.npz"
WINDOW = 2048
EVERY = 2
"""The bands' envelopes are made at one sample in so many."""

BEFORE, AFTER = 176, 132
"""Lengths compared on both sides of a rise: 4 ms before it and 3 ms after."""

BIN, BACK, ON = 16, 480, 320
"""Samples in a bin, and how many are looked at before and after the place that is thought of: 11 and 7 ms."""

BINS = (BACK + ON) // BIN
_FIRST, _LAST = (WINDOW // 2 - BACK - BEFORE) // EVERY, (WINDOW // 2 + ON + AFTER) // EVERY
GAIN_STEP = 4
"""Changes are weighed at one sample in so many."""

AUDIBLE = 1e-5
"""Against the loudest band: a change of less than this is none, such as what resampling leaves where a sound has no highs."""

SPAN = 176.4
"""Being within 4 ms of the attack counts, ..."""

LEAST_SHARE, OWN_SHARE = 0.2, 0.1
"""... among bins that are at least so likely as the likeliest, and so much more counts how likely they are themselves."""

BANDS_HZ = ((30.0, 300.0), (300.0, 2_000.0), (2_000.0, 6_000.0), (6_000.0, 16_000.0))
CHUNK = 128
FAR = 200.0


@dataclass(frozen=True, eq=False)
class RefineModel:
    """Convolutions over bins, one after the other: weights of shape (taps, inputs, outputs), biases, and steps from tap to tap."""

    layers: tuple[tuple[Floats, Floats, int], ...]


def refine(signal: Floats, samples: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the samples at which the sound begins to rise, near those given; `signal` is mono at the analysis rate."""
    model = load_refine()
    refined = [_refined_chunk(model, signal, samples[at : at + CHUNK]) for at in range(0, samples.size, CHUNK)]
    return np.concatenate(refined) if refined else samples


def windows_at(signal: Floats, samples: NDArray[np.int64]) -> Floats:
    """Return `WINDOW` samples around each of these, silence outside the signal, shape (samples, `WINDOW`)."""
    start = samples - WINDOW // 2
    first, last = int(start.min()), int(start.max()) + WINDOW
    stretch = np.pad(signal[max(0, first) : max(0, last)], (max(0, -first), max(0, last - max(signal.size, first))))
    return np.asarray(sliding_window_view(stretch, WINDOW)[start - first])


def rises_in(windows: Floats) -> Floats:
    """Return what is seen of the bins around the middle of each window, shape (windows, `BINS`, features).

    For each band how much likelier a change is than none, and its level; the steepest slope of the
    samples; how loud the band is against the others; and how far off the bin is.
    """
    count = len(windows)
    # An analytic signal has no negative frequencies: a sample in two holds all of it, half the bins at half the length.
    spectra = rfft(windows * _taper(), axis=1)[:, : WINDOW // EVERY]
    seen = np.empty((count, BINS, 3 * len(BANDS_HZ) + 3), np.float32)
    loudest = np.empty((count, len(BANDS_HZ)), np.float32)
    energies = [_energy(spectra * mask) for mask in _masks()]
    most = [energy.max(axis=1, keepdims=True) for energy in energies]
    floor = np.float32(AUDIBLE) * np.max(most, axis=0) + np.float32(1e-10)
    for band, energy in enumerate(energies):
        total = np.zeros((count, energy.shape[1] + 1))
        np.cumsum(energy, axis=1, out=total[:, 1:])
        seen[:, :, band] = 0.7 * _most(_change(total, floor + np.float32(1e-5) * most[band]))
        ends = total[:, BEFORE // EVERY : -(AFTER // EVERY) : BIN // EVERY]
        level = np.diff(ends, axis=1).astype(np.float32) * np.float32(EVERY / BIN)
        loudest[:, band] = level.max(axis=1)
        seen[:, :, 4 + band] = _tens(level, loudest[:, band, None], 1e-6)
    seen[:, :, 8:12] = _tens(loudest, loudest.max(axis=1, keepdims=True), 1e-6)[:, None, :]
    slope = _most(np.abs(np.diff(windows[:, WINDOW // 2 - BACK - 1 : WINDOW // 2 + ON], axis=1)))
    seen[:, :, 12] = _tens(slope, slope.max(axis=1, keepdims=True), 1e-5)
    far = _centres() / FAR
    seen[:, :, 13], seen[:, :, 14] = far, -(far**2)
    return seen


def _energy(spectra: NDArray[np.complex64]) -> Floats:
    envelope = ifft(spectra, axis=1, overwrite_x=True)[:, _FIRST:_LAST]
    return np.asarray(envelope.real**2 + envelope.imag**2, np.float32)


def _most(values: Floats) -> Floats:
    """Return the most in each bin; halving is several times as fast here as NumPy's maximum over a short axis."""
    while values.shape[1] > BINS:
        values = np.maximum(values[:, ::2], values[:, 1::2])
    return values


def _tens(values: Floats, most: Floats, least: float) -> Floats:
    return np.asarray(0.5 * np.log10(values / (most + np.float32(1e-12)) + np.float32(least)), np.float32)


def _refined_chunk(model: RefineModel, signal: Floats, samples: NDArray[np.int64]) -> NDArray[np.int64]:
    begin = begins_in(model, windows_at(signal, samples))
    return np.asarray(np.clip(samples - WINDOW // 2 + begin, 0, max(0, signal.size - 1)))


def begins_in(model: RefineModel, windows: Floats) -> NDArray[np.int64]:
    """Return the sample of each window, shape (windows, `WINDOW`), at which the attack near its middle begins."""
    likely = _likelihoods(model, rises_in(windows))
    return _first_rise(windows, WINDOW // 2 + np.round(_place(likely)).astype(np.int64))


def _likelihoods(model: RefineModel, seen: Floats) -> Floats:
    """Return how likely the attack begins in each bin, shape (windows, `BINS`)."""
    count = len(seen)
    values = np.ascontiguousarray(seen.transpose(1, 0, 2))  # bins first: what a tap sees is in one piece
    for number, (weight, bias, dilation) in enumerate(model.layers):
        taps, inputs, outputs = weight.shape
        reach = taps // 2 * dilation
        padded = np.zeros((BINS + 2 * reach, count, inputs), np.float32)
        padded[reach : reach + BINS] = values
        made = np.tile(bias, (BINS * count, 1))
        for tap in range(taps):
            made += padded[tap * dilation : tap * dilation + BINS].reshape(-1, inputs) @ weight[tap]
        values = (np.maximum(made, 0.0) if number + 1 < len(model.layers) else made).reshape(BINS, count, outputs)
    odds = values[:, :, 0].T
    likely = np.exp(odds - odds.max(axis=1, keepdims=True))
    return np.asarray(likely / likely.sum(axis=1, keepdims=True), np.float32)


def _place(likely: Floats) -> Floats:
    """Return how far after the middle an attack begins, in samples, from likelihoods of shape (windows, `BINS`).

    Where two bins are about as likely, the one near to which more of the rest lies: it is right to a few ms more often.
    """
    reach = int(SPAN / BIN)
    total = np.cumsum(np.pad(likely, ((0, 0), (reach + 1, reach))), axis=1)
    near = total[:, 2 * reach + 1 :] - total[:, : -2 * reach - 1]
    share = likely / likely.max(axis=1, keepdims=True)
    best = np.where(share > LEAST_SHARE, near + OWN_SHARE * share, -1.0).argmax(axis=1)
    around = np.clip(best[:, None] + np.arange(-2, 3), 0, BINS - 1)
    weights = np.take_along_axis(likely, around, axis=1)
    return np.asarray((weights * _centres()[around]).sum(axis=1) / weights.sum(axis=1))


RISE_BACK, RISE_ON = 16, 32
"""The sound may begin to rise from so many samples before the place to half as many after it."""


def _first_rise(windows: Floats, places: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the samples near these at which the sound, or its slope, first leaves what was before; the place where it does not."""
    rows, start = np.arange(len(windows))[:, None], places[:, None] - RISE_BACK
    found = np.full(len(windows), RISE_ON + 1, dtype=np.int64)
    for source in (windows, np.diff(windows, axis=1, prepend=windows[:, :1])):
        before = np.abs(source[rows, start + np.arange(-BEFORE, -20)])
        ahead = np.abs(source[rows, start + np.arange(RISE_ON + AFTER)])
        level = np.maximum(1.1 * before.max(axis=1), 0.02 * ahead.max(axis=1))
        above = ahead[:, : RISE_ON + 1] > level[:, None]
        found = np.minimum(found, np.where(above.any(axis=1), above.argmax(axis=1), RISE_ON + 1))
    return np.where((found > 0) & (found <= RISE_ON), start[:, 0] + found, places)


def _change(total: NDArray[np.float64], floor: Floats) -> Floats:
    """Return the log likelihood gain of a rise at each place looked at, zero where energy falls; a column each `GAIN_STEP` samples.

    `total` is the energy so far, from `BEFORE` before the first place to `AFTER` after the last; `floor` is added to what is compared.
    """
    step, back, on = GAIN_STEP // EVERY, BEFORE // EVERY, AFTER // EVERY
    here = total[:, back : -on - 1 : step]
    before = ((here - total[:, : -back - on - 1 : step]) / back).astype(np.float32) + floor
    after = ((total[:, back + on : -1 : step] - here) / on).astype(np.float32) + floor
    share = np.float32(BEFORE / (BEFORE + AFTER))
    both = share * before + (1 - share) * after
    gain = np.log(both) - share * np.log(before) - (1 - share) * np.log(after)
    return np.asarray(np.where(after > before, gain, np.float32(0.0)), np.float32)


@lru_cache(maxsize=1)
def _masks() -> tuple[Floats, ...]:
    bins = np.fft.rfftfreq(WINDOW, 1.0 / ANALYSIS_RATE)[: WINDOW // EVERY]
    masks = []
    for low, high in BANDS_HZ:
        rising = np.clip((bins - 0.8 * low) / (0.4 * low), 0.0, 1.0)
        falling = np.clip((1.2 * high - bins) / (0.4 * high), 0.0, 1.0)
        masks.append((2.0 * rising * falling).astype(np.float32))
    return tuple(masks)


@lru_cache(maxsize=1)
def _taper() -> Floats:
    taper = np.ones(WINDOW, dtype=np.float32)
    edge = np.sin(np.linspace(0.0, np.pi / 2.0, 96)) ** 2
    taper[:96], taper[-96:] = edge, edge[::-1]
    return taper


@lru_cache(maxsize=1)
def _centres() -> Floats:
    return ((np.arange(BINS) + 0.5) * BIN - BACK).astype(np.float32)


@lru_cache(maxsize=1)
def load_refine() -> RefineModel:
    """Return the shipped weights; raises AnalysisError where they are missing or damaged."""
    return shipped("hearing", REFINE_FILE, read_refine)


def read_refine(stream: IO[bytes]) -> RefineModel:
    """Read weights from a file of them; raises AnalysisError where it is damaged."""
    try:
        with np.load(stream) as data:
            return RefineModel(tuple(
                (data[f"weight{i}"].astype(np.float32), data[f"bias{i}"].astype(np.float32), int(dilation))
                for i, dilation in enumerate(data["dilations"])
            ))
    except (OSError, KeyError, ValueError, EOFError) as error:
        raise damaged(REFINE_FILE) from error
