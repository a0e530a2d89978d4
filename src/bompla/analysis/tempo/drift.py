"""Where the beats of a whole recording fall, as its tempo drifts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bompla.model.document import Document

NEAR_SHARE = 0.18
"""How far from where it is expected, as a share of a beat, an attack may lie and still speak for a beat."""

FOLLOW_PHASE, FOLLOW_TEMPO = 0.45, 0.10
"""How much of the error of a beat moves the next one, and the tempo (a second-order loop; Large, 1995)."""

MOST_CHANGE = 0.12
"""How far the tempo may drift from the loop's, as a share of it."""

STEADY_SHARE = 0.004
SMOOTHED_OVER = 9


@dataclass(frozen=True, eq=False)
class Drift:
    """The beats of a file: `samples` (beats,) where they fall, `bpm` (beats,) the tempo there.

    `first_beat` is the beat of the loop that the first of them is, counted from the loop's start.
    """

    samples: NDArray[np.float64]
    bpm: NDArray[np.float64]
    first_beat: int

    @property
    def steady(self) -> bool:
        """Whether the tempo stays within 0.4 % of its middle."""
        if self.bpm.size < 2 * SMOOTHED_OVER:
            return True
        return bool(np.percentile(np.abs(self.bpm / np.median(self.bpm) - 1.0), 90) < STEADY_SHARE)


def drift_of(document: Document) -> Drift:
    """Return the beats of the whole file, followed both ways from the loop's start by its attacks.

    Each beat looks for attacks near where it is expected, the nearest counting most and the
    strongest too; what it is off by moves the phase and, less, the tempo. The tempo that is shown
    is smoothed over nine beats.
    """
    loop, source = document.loop, document.source
    beat = loop.beat_frames
    attacks = [a for a in document.attacks if a.strength >= document.threshold]
    times = np.array([a.at_sample for a in attacks], dtype=float)
    weights = np.array([a.strength for a in attacks], dtype=float)
    on = followed(times, weights, float(loop.start_sample), beat, float(source.frames))
    back = followed(-times[::-1], weights[::-1], float(-loop.start_sample), beat, 0.0)
    samples = np.concatenate([-back[:0:-1], on])
    samples = np.maximum.accumulate(samples + np.arange(samples.size) * 1e-6)
    lengths = np.diff(samples)
    if lengths.size == 0:
        return Drift(samples, np.full(samples.size, document.bpm), -(back.size - 1))
    reach = SMOOTHED_OVER // 2
    smooth = np.convolve(np.pad(lengths, reach, mode="edge"), np.ones(SMOOTHED_OVER) / SMOOTHED_OVER, mode="valid")
    bpm = 60.0 * source.sample_rate / np.append(smooth, smooth[-1])
    return Drift(samples, bpm, -(back.size - 1))


def followed(times: NDArray[np.float64], weights: NDArray[np.float64], start: float, beat: float, end: float) -> NDArray[np.float64]:
    """Return beats from `start` up to `end`, following the attacks; `times` are in order, in any unit."""
    found = [start]
    now, length = start, beat
    while now + length <= end + 0.01 * beat:
        expected = now + length
        near = NEAR_SHARE * length
        first, last = np.searchsorted(times, (expected - near, expected + near))
        error = 0.0
        if last > first:
            off = times[first:last] - expected
            votes = weights[first:last] * np.exp(-0.5 * (off / (0.35 * near)) ** 2)
            if votes.sum() > 1e-6:
                error = float((votes * off).sum() / votes.sum()) * min(1.0, float(votes.max()) * 2.0)
        now = expected + FOLLOW_PHASE * error
        length = float(np.clip(length + FOLLOW_TEMPO * error, (1.0 - MOST_CHANGE) * beat, (1.0 + MOST_CHANGE) * beat))
        found.append(now)
    return np.array(found)
