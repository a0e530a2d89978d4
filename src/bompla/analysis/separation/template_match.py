"""What of a slice is a strike that comes again elsewhere, wave for wave: where a loop is played from samples, it can be taken away whole.

A mask gives each drum a share of every bin of a spectrum; under a snare a hat is noise under noise, and whoever is given a bin has the
other's noise in it. But a hat that is played from a sample is the same noise each time: a strike that is heard alone elsewhere, brought
to the same level and tone by a short filter, is found in the slice by least squares and taken off, as an echo of a known signal is
(Widrow and others, "Adaptive noise cancelling: principles and applications", 1975). Strikes of a drummer are no two alike: then
nothing is found, and nothing taken off.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft
from scipy.linalg import solve_toeplitz

Mono = NDArray[np.float64]
Channels = NDArray[np.float64]

TAPS = 8
"""Samples to both sides that the filter reaches: between the levels of a sampler, and from sample to sample."""

FURTHEST = 264
"""Samples, 6 ms, that a strike may lie off its place in the slice."""

WHITE_ORDER, LEAST = 24, 1e-3
"""How long the filter is that evens the spectrum out, and how firmly the least squares are held, against the examples' own power."""


def played_again(sound: Channels, examples: Sequence[Sequence[Channels]]) -> list[Channels]:
    """Return, for each drum, the part of a slice that is one of the drum's examples played again, of the slice's shape.

    `sound` has shape (frames, channels), as have the examples, of any length: their attacks are where the slice's is. Of each drum the
    example that explains most counts; a drum without any has no such part.
    """
    mono = sound.mean(axis=1)
    whitener = _whitener(mono)
    white = _filtered(mono, whitener)
    chosen = [_moved(_best(white, whitener, own), len(sound)) if own else None for own in examples]
    known = [one for one in chosen if one is not None]
    parts = [np.zeros_like(sound) for _ in examples]
    if not known:
        return parts
    for channel in range(sound.shape[1]):
        wanted = _filtered(sound[:, channel], whitener)
        weights = iter(_least_squares([_filtered(one[:, channel], whitener) for one in known], wanted))
        for part, one in zip(parts, chosen, strict=True):
            if one is not None:
                part[:, channel] = np.correlate(np.pad(one[:, channel], TAPS), next(weights), "valid")
    return parts


def _best(white: Mono, whitener: Mono, examples: Sequence[Channels]) -> tuple[Channels, int]:
    """Return the example that the slice has most of, and how many samples later it is in the slice."""
    best, found = -1.0, (examples[0], 0)
    for example in examples:
        own = _filtered(example.mean(axis=1)[: white.size], whitener)
        size = next_fast_len(max(white.size + own.size, 2 * FURTHEST + 1))
        fit = irfft(rfft(white, size) * rfft(own, size).conj(), size)
        near = np.concatenate([fit[-FURTHEST:], fit[: FURTHEST + 1]]) / (np.sqrt(float(own @ own)) + 1e-9)
        at = int(np.abs(near).argmax())
        if abs(near[at]) > best:
            best, found = abs(float(near[at])), (example, at - FURTHEST)
    return found


def _moved(found: tuple[Channels, int], frames: int) -> Channels:
    """Return an example so many samples later, of a length."""
    example, later = found
    moved = np.zeros((frames, example.shape[1]))
    part = example[max(0, -later) : max(0, frames - later)]
    moved[max(0, later) : max(0, later) + len(part)] = part
    return moved


def _least_squares(sounds: Sequence[Mono], wanted: Mono) -> list[Mono]:
    """Return for each sound the filter, of 2 `TAPS` + 1 weights, by which together they come nearest to what is wanted.

    The products of a sound and another at all places of the filter are one row and one column of products; each further one is its
    neighbour's, with a sample more at one end and one less at the other.
    """
    padded = [np.pad(sound, TAPS) for sound in sounds]
    square = np.block([[_products(one, other, wanted.size) for other in padded] for one in padded])
    seen = np.concatenate([np.correlate(one, wanted, "valid") for one in padded])
    held = np.diag(LEAST * np.diag(square) + 1e-12)
    return np.split(np.linalg.solve(square + held, seen), len(padded))


def _products(one: Mono, other: Mono, frames: int) -> Mono:
    """Return the sums of products of two sounds, each from every place of the filter on, shape (2 `TAPS` + 1, 2 `TAPS` + 1)."""
    places = 2 * TAPS + 1
    found = np.empty((places, places))
    found[0], found[:, 0] = np.correlate(other, one[:frames], "valid"), np.correlate(one, other[:frames], "valid")
    change = np.outer(one[frames:], other[frames:]) - np.outer(one[: places - 1], other[: places - 1])
    for place in range(1, places):
        found[place, 1:] = found[place - 1, :-1] + change[place - 1]
    return found


def _filtered(sound: Mono, taps: Mono) -> Mono:
    return np.convolve(sound, taps)[: sound.size]


def _whitener(sound: Mono) -> Mono:
    """Return the filter that predicts a sound best, as what it leaves of it: an even spectrum (linear prediction)."""
    size = next_fast_len(2 * sound.size)
    power = np.abs(rfft(sound, size)) ** 2
    likeness = irfft(power, size)[: WHITE_ORDER + 1]
    likeness[0] = likeness[0] * (1.0 + 1e-5) + 1e-12
    return np.concatenate([[1.0], -solve_toeplitz(likeness[:-1], likeness[1:])])
