"""Waveform summaries: lowest and highest sample per column, quick at any zoom."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bompla.audio.clip import Clip, Samples
from bompla.audio.memory import release_pages

BASE_FRAMES = 32
FACTOR = 4
ROWS_AT_ONCE, LET_GO_EVERY = 16_384, 16


@dataclass(frozen=True, eq=False)
class WaveSummary:
    """The extremes of a clip over all channels, at block sizes of 32, 128, 512, … samples.

    `levels[k]` has shape (blocks, 2): the lowest and highest sample of each block.
    """

    clip: Clip
    levels: tuple[Samples, ...]

    @classmethod
    def of(cls, clip: Clip) -> WaveSummary:
        """Build the summary of a clip; linear in its length."""
        levels = [_by_blocks(clip.samples)]
        while levels[-1].shape[0] > 64:
            levels.append(_reduced(levels[-1], FACTOR))
        return cls(clip, tuple(levels))

    @property
    def gain(self) -> float:
        """How many times as high a waveform is drawn, for its loudest sample to fill the height; at most 20."""
        return 1.0 / max(float(abs(self.levels[-1]).max()), 0.05)

    def columns(self, start_sample: float, end_sample: float, count: int) -> Samples:
        """Return shape (count, 2): lowest and highest sample in each of `count` equal columns.

        Parts outside the clip are silent. Every peak is shown, in its own column or, where a block
        reaches over an edge, in the one before; nothing of what follows the stretch is shown.
        """
        result = np.zeros((count, 2), dtype=np.float32)
        edges = np.linspace(start_sample, end_sample, count + 1)
        step = (end_sample - start_sample) / max(1, count)
        if step < BASE_FRAMES:
            offset = max(0, int(start_sample) - 1)
            near = self.clip.samples[offset : max(0, int(end_sample) + 2)]
            data, block = _extremes(near), 1
            edges = edges - offset
        else:
            data, block = self._level_for(step)
        first = np.floor(edges[:-1] / block).astype(np.int64)
        last = np.maximum(np.floor(edges[1:] / block).astype(np.int64), first + 1)
        inside = (last > 0) & (first < data.shape[0])
        if not inside.any():
            return result
        first = np.clip(first[inside], 0, data.shape[0] - 1)
        last = np.clip(last[inside], first + 1, data.shape[0])
        bounds = np.stack([first, last], axis=1).ravel() - first[0]
        padded = np.concatenate([data[first[0] : last[-1]], data[-1:]])
        low = np.minimum.reduceat(padded[:, 0], bounds)[::2]
        high = np.maximum.reduceat(padded[:, 1], bounds)[::2]
        result[inside, 0] = low
        result[inside, 1] = high
        return result

    def _level_for(self, samples_per_column: float) -> tuple[Samples, int]:
        block = BASE_FRAMES
        index = 0
        while index + 1 < len(self.levels) and block * FACTOR <= samples_per_column:
            index += 1
            block *= FACTOR
        return self.levels[index], block


def _by_blocks(samples: Samples) -> Samples:
    """Return the extremes of each `BASE_FRAMES` frames over all channels, which lie in one piece, shape (blocks, 2)."""
    whole = samples.shape[0] // BASE_FRAMES
    rows = samples[: whole * BASE_FRAMES].reshape(whole, BASE_FRAMES * samples.shape[1])
    rest = samples[whole * BASE_FRAMES :]
    found = np.empty((whole + bool(rest.size), 2), np.float32)
    for start in range(0, whole, ROWS_AT_ONCE):  # not all at once: the sound may lie in a file
        part = rows[start : start + ROWS_AT_ONCE]
        found[start : start + len(part), 0] = part.min(axis=1)
        found[start : start + len(part), 1] = part.max(axis=1)
        if start % (LET_GO_EVERY * ROWS_AT_ONCE) == 0:
            release_pages(samples)
    if rest.size:
        found[whole] = rest.min(), rest.max()
    return found


def _extremes(samples: Samples) -> Samples:
    return np.stack([samples.min(axis=1), samples.max(axis=1)], axis=1)


def _reduced(data: Samples, factor: int) -> Samples:
    starts = np.arange(0, data.shape[0], factor)
    low = np.minimum.reduceat(data[:, 0], starts)
    high = np.maximum.reduceat(data[:, 1], starts)
    return np.stack([low, high], axis=1).astype(np.float32)
