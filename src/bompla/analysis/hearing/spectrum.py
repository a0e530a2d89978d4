"""The one spectral pass that the whole analysis feeds on."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfft  # a third of the time of NumPy's, which does one row at a time
from scipy.ndimage import grey_closing

from bompla.audio.clip import Clip
from bompla.audio.memory import release_pages, samples_for
from bompla.audio.resample import resampled

ANALYSIS_RATE = 44_100
HOP = 128
FFT_SIZE = 1024
LOW_HOP, LOW_FFT_SIZE = 256, 2048
LOW_BINS = 24
"""Bins of the longer spectrum that are kept: up to 520 Hz, where drums differ by pitch."""

BANDS_PER_OCTAVE = 5
LOWEST_HZ, HIGHEST_HZ = 40.0, 17_500.0
LOUD_PERCENTILE = 99.0
QUIET_DB, REST_S = 28.0, 2.0
"""How far under the loudest a sound is as good as over, and for how long at least where that is a rest between two sounds."""

WHOLE_S = 16.0
"""A sound so long is heard as a whole, or take by take; longer ones in stretches."""

SHORTEST_S, USUAL_S, LONGEST_S = 1.5, 7.5, 12.0
UNUSUAL_DB2 = 0.5
"""How long stretches are, and how much a second more or less than usual counts: as levels that differ by so much for 10 s."""

BLOCK, GAP_S = 34, 1.0
"""Frames of which the loudest counts where stretches part, and how long it may be soft between two strikes."""

OTHER_TAKE_DB, OTHER_SHORT_TAKE_DB = 5.0, 10.0
"""A stretch so much louder or softer than the one before is another take: in a long sound, and in one that may be one loop."""

NO_TAKE_DB = 20.0
"""What is so far under the loudest of a short sound leads in, rests or dies away: it is no take."""

FAINT_DB = 40.0
"""A stretch so far under the loudest of all is no louder by itself: hiss is not taken for drums."""

_CHUNK_FRAMES, _LET_GO_CHUNKS = 512, 128
_QUIET_PEAK = 1e-4

Floats = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Excerpt:
    """Frames of a sound from `first` on: how loud its loud parts are, and which frames, shape (frames,), belong to what sounds.

    What leads in, long rests and what comes after do not.
    """

    first: int
    loud_db: np.float32
    sounding: NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class Spectrum:
    """A mono signal at `ANALYSIS_RATE`, scaled to a peak of 1, and its power by bands.

    `power` has shape (frames, bands); frame k is centred on sample k * `HOP`. `centres_hz` has
    shape (bands,). `low` has shape (frames at `LOW_HOP`, `LOW_BINS`): the power of low bins of a
    longer spectrum.
    """

    signal: Floats
    power: Floats
    low: Floats
    centres_hz: NDArray[np.float64]

    @property
    def frames(self) -> int:
        """The number of frames."""
        return int(self.power.shape[0])

    @cached_property
    def total_db(self) -> Floats:
        """The level of each frame, shape (frames,)."""
        return level_db(self.power.sum(axis=1))

    @cached_property
    def stretches(self) -> tuple[Excerpt, ...]:
        """The sound in stretches, each with levels of its own: takes where it is short, else about as long as loops are."""
        least_db = float(self.total_db.max()) - FAINT_DB
        edges = even_parts(self.total_db, least_db)
        if self.frames <= WHOLE_S * ANALYSIS_RATE / HOP:
            inside = min(BLOCK, self.frames // 4)  # a block at an edge may have a little of what is beyond it
            parts = [stretch_of(self.total_db[first + inside : last - inside], first, least_db) for first, last in pairwise(edges)]
            edges = [0, *_steps(parts, OTHER_SHORT_TAKE_DB, NO_TAKE_DB), self.frames]
        return tuple(stretch_of(self.total_db[first:last], int(first), least_db) for first, last in pairwise(edges))

    @property
    def takes(self) -> NDArray[np.int64]:
        """Samples at which the level changes so much that what goes before is another take, as likely as not of another kit."""
        return HOP * np.array(_steps(self.stretches, OTHER_TAKE_DB, FAINT_DB), np.int64)

    @cached_property
    def sounding(self) -> NDArray[np.bool_]:
        """Whether each frame belongs to what sounds in its stretch, shape (frames,)."""
        return np.concatenate([stretch.sounding for stretch in self.stretches])

    def loud_db_at(self, frames: NDArray[np.int64]) -> Floats:
        """Return how loud the loud parts of the sound are around frames, of their shape."""
        starts = np.array([stretch.first for stretch in self.stretches])
        levels = np.array([stretch.loud_db for stretch in self.stretches], np.float32)
        return np.asarray(levels[np.searchsorted(starts, frames, side="right") - 1])

    def between(self, low_hz: float, high_hz: float) -> Floats:
        """Return the power from `low_hz` up to `high_hz` in each frame, shape (frames,)."""
        chosen = (self.centres_hz >= low_hz) & (self.centres_hz < high_hz)
        return np.asarray(self.power[:, chosen].sum(axis=1))


def stretch_of(total_db: Floats, first: int, least_db: float) -> Excerpt:
    """Return the stretch of frames of these levels in dB from frame `first` on; nothing sounds that is 28 dB under `least_db`."""
    loud = np.flatnonzero(total_db > max(float(total_db.max()), least_db) - QUIET_DB)
    inside = np.zeros(total_db.size, bool)
    if loud.size == 0:
        return Excerpt(first, np.float32(least_db), inside)
    inside[loud[0] : loud[-1] + 1] = True
    for before in np.flatnonzero(np.diff(loud) > REST_S * ANALYSIS_RATE / HOP):
        inside[loud[before] + 1 : loud[before + 1]] = False
    return Excerpt(first, np.float32(max(least_db, float(np.percentile(total_db[inside], LOUD_PERCENTILE)))), inside)


def even_parts(total_db: Floats, least_db: float) -> list[int]:
    """Return the edges, whole frames, of parts of a sound about as long as loops are that part where its level changes.

    The loudest of each `BLOCK` with gaps closed tells the level. Of all ways to part it, it is that of the least sum of squares
    around the parts' means and of what lengths cost, by dynamic programming (Bellman, "On the approximation of curves by line
    segments using dynamic programming", 1961).
    """
    a_second = ANALYSIS_RATE / HOP / BLOCK
    count = -(-total_db.size // BLOCK)
    loudest = np.maximum.reduceat(total_db, np.arange(count) * BLOCK).astype(np.float64)
    level = grey_closing(np.maximum(loudest, least_db), round(GAP_S * a_second))
    lengths = np.arange(round(SHORTEST_S * a_second), round(LONGEST_S * a_second) + 1)
    best, came = np.full(count + 1, np.inf), np.zeros(count + 1, np.int64)
    best[0] = 0.0
    for end, own in enumerate(_part_costs(level, lengths, a_second), lengths[0]):
        costs = own + best[end - lengths[: own.size]]
        came[end] = end - lengths[chosen := int(costs.argmin())]
        best[end] = costs[chosen]
    edges = [total_db.size]
    at = count
    while at := int(came[at]):
        edges.append(at * BLOCK)
    return [0, *reversed(edges)]


def _part_costs(level: NDArray[np.float64], lengths: NDArray[np.int64], a_second: float) -> Iterator[NDArray[np.float64]]:
    """Yield for each end, from the first that can be, what parts of these lengths cost that end there and begin within the sound."""
    sums, squares = (np.concatenate([[0.0], np.cumsum(level**power)]) for power in (1, 2))
    unusual = UNUSUAL_DB2 * 10.0 * a_second * (lengths / a_second - USUAL_S) ** 2
    for first in range(lengths[0], level.size + 1, _CHUNK_FRAMES):
        ends = np.arange(first, min(first + _CHUNK_FRAMES, level.size + 1))[:, None]
        starts = np.maximum(ends - lengths, 0)
        uneven = squares[ends] - squares[starts] - (sums[ends] - sums[starts]) ** 2 / lengths
        for end, row in zip(ends[:, 0], uneven + unusual, strict=True):
            yield row[: np.searchsorted(lengths, end, side="right")]


def _steps(stretches: Sequence[Excerpt], least_db: float, under_db: float) -> list[int]:
    """Return where stretches begin that are over `least_db` off the level of the one before; those `under_db` under all do not count."""
    loudest = max(float(stretch.loud_db) for stretch in stretches)
    takes = [stretch for stretch in stretches if float(stretch.loud_db) > loudest - under_db]
    return [after.first for before, after in pairwise(takes) if abs(float(after.loud_db) - float(before.loud_db)) > least_db]


def level_db(power: Floats) -> Floats:
    """Return power in dB, silence as -120."""
    return np.asarray(10.0 * np.log10(power + np.float32(1e-12)), dtype=np.float32)


def spectrum_of(clip: Clip) -> Spectrum | None:
    """Return the spectral pass over a clip, None where the clip is silent (below -80 dB)."""
    mono = resampled(Clip(clip.mono, clip.sample_rate), ANALYSIS_RATE).samples[:, 0]
    padded = _room_around(mono.size)
    signal = padded[LOW_FFT_SIZE // 2 : LOW_FFT_SIZE // 2 + mono.size]
    signal[:] = mono
    release_pages(mono)
    signal -= signal.mean(dtype=np.float64).astype(np.float32)
    peak = max(float(signal.max()), -float(signal.min())) if signal.size else 0.0
    if peak < _QUIET_PEAK:
        return None
    signal /= np.float32(peak)
    release_pages(signal)
    tail = signal[-2 : -2 - LOW_FFT_SIZE : -1]  # mirrored at its end, which is no attack; silence ahead, so that a first hit is one
    padded[LOW_FFT_SIZE // 2 + signal.size :][: tail.size] = tail
    weights, centres = _bands()
    spectrum = Spectrum(signal, _banded(padded, signal.size, weights), _lowest(padded, signal.size), centres)
    release_pages(signal)
    return spectrum


def _room_around(frames: int) -> Floats:
    """Return silence with room for so many samples from `LOW_FFT_SIZE` / 2 on, and for what the last frames reach beyond them."""
    padded = samples_for(frames + 2 * LOW_FFT_SIZE + 2 * LOW_HOP + LOW_FFT_SIZE // 2)
    padded[: LOW_FFT_SIZE // 2] = 0.0
    padded[LOW_FFT_SIZE // 2 + frames :] = 0.0
    return padded


def _banded(padded: Floats, samples: int, weights: Floats) -> Floats:
    """Return the power of a frame each `HOP` samples, by the bands of `weights`, of so many samples within silence."""
    frames = 1 + samples // HOP
    views = np.lib.stride_tricks.sliding_window_view(padded[(LOW_FFT_SIZE - FFT_SIZE) // 2 :], FFT_SIZE)[::HOP][:frames]
    window = _window(FFT_SIZE)
    power = np.empty((frames, weights.shape[1]), dtype=np.float32)
    for start in range(0, frames, _CHUNK_FRAMES):
        spectra = rfft(views[start : start + _CHUNK_FRAMES] * window, axis=1, overwrite_x=True)
        power[start : start + _CHUNK_FRAMES] = (spectra.real**2 + spectra.imag**2) @ weights
        if start % (_LET_GO_CHUNKS * _CHUNK_FRAMES) == 0:
            release_pages(padded)
    return power


def _lowest(padded: Floats, samples: int) -> Floats:
    """Return the power of the `LOW_BINS` lowest bins of a frame each `LOW_HOP` samples, of so many samples within silence.

    So few bins are had in a third of the time of a transform by multiplying each hop of the sound once with
    its part of every wave, for each place it can have in a frame, and adding up what belongs to a frame.
    """
    frames = 1 + samples // LOW_HOP
    hops = LOW_FFT_SIZE // LOW_HOP
    rows = padded[: (frames + hops) * LOW_HOP].reshape(-1, LOW_HOP)
    waves = _low_waves()
    power = np.empty((frames, LOW_BINS), dtype=np.float32)
    for start in range(0, frames, _CHUNK_FRAMES):
        count = min(_CHUNK_FRAMES, frames - start)
        parts = (rows[start : start + count + hops] @ waves).reshape(-1, hops, 2 * LOW_BINS)
        whole = parts[:count, 0].copy()
        for hop in range(1, hops):
            whole += parts[hop : hop + count, hop]
        power[start : start + count] = whole[:, :LOW_BINS] ** 2 + whole[:, LOW_BINS:] ** 2
        if start % (_LET_GO_CHUNKS * _CHUNK_FRAMES) == 0:
            release_pages(padded)
    return power


@lru_cache(maxsize=1)
def _low_waves() -> Floats:
    """Return windowed cosines and sines of the lowest bins, shape (`LOW_HOP`, hops of a frame * 2 `LOW_BINS`)."""
    turns = 2.0 * np.pi * np.outer(np.arange(LOW_FFT_SIZE), np.arange(1, LOW_BINS + 1)) / LOW_FFT_SIZE
    waves = np.concatenate([np.cos(turns), np.sin(turns)], axis=1) * _window(LOW_FFT_SIZE)[:, None]
    parts = waves.reshape(LOW_FFT_SIZE // LOW_HOP, LOW_HOP, 2 * LOW_BINS)
    return np.ascontiguousarray(parts.transpose(1, 0, 2).reshape(LOW_HOP, -1), dtype=np.float32)


def _window(size: int) -> Floats:
    window = np.hanning(size + 1)[:-1].astype(np.float32)
    return np.asarray(window / (window.sum() / 2.0), dtype=np.float32)


@lru_cache(maxsize=1)
def _bands() -> tuple[Floats, NDArray[np.float64]]:
    """Return triangular bands, evenly spaced in octaves and never narrower than a bin."""
    bin_hz = ANALYSIS_RATE / FFT_SIZE
    count = int(np.log2(HIGHEST_HZ / LOWEST_HZ) * BANDS_PER_OCTAVE) + 3
    edges = LOWEST_HZ * 2.0 ** ((np.arange(count) - 1) / BANDS_PER_OCTAVE)
    for index in range(1, count):
        edges[index] = max(edges[index], edges[index - 1] + bin_hz)
    edges = edges[edges < ANALYSIS_RATE / 2]
    bins = np.arange(FFT_SIZE // 2 + 1) * bin_hz
    rising = (bins[:, None] - edges[None, :-2]) / (edges[1:-1] - edges[:-2])
    falling = (edges[None, 2:] - bins[:, None]) / (edges[2:] - edges[1:-1])
    weights = np.clip(np.minimum(rising, falling), 0.0, None).astype(np.float32)
    return weights, edges[1:-1]
