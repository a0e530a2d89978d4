"""What was played by hand: kept for minutes, recorded, and taken back into the pattern at the right bar."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bompla.groove.grid import EARLY_BEATS
from bompla.model.params import Param

KEPT_S = 300.0
PAUSE_S = 2.5
"""A pause as long as this ends a phrase."""

SAME_S = 0.03

QUANTISE = Param("quantise", "On grid", "share", 0.0, 1.0, "How far what is recorded moves to its beat's own grid")


@dataclass(frozen=True)
class Strike:
    """A pad struck: seconds since the engine began, the beat of the loop if it played, the pad, how hard, at what pitch."""

    at_s: float
    beat: float | None
    pad_id: int
    velocity: int
    pitch: float = 0.0


class Takes:
    """The strikes of the last five minutes, whether or not anybody pressed record."""

    def __init__(self) -> None:
        self.strikes: deque[Strike] = deque()

    def add(self, strike: Strike) -> None:
        """Keep a strike, and forget what is too old."""
        self.strikes.append(strike)
        while self.strikes and strike.at_s - self.strikes[0].at_s > KEPT_S:
            self.strikes.popleft()

    def clear(self) -> None:
        """Forget everything."""
        self.strikes.clear()

    def last_phrase(self) -> list[Strike]:
        """Return what was played last, back to the last pause, or to where playing along began or ended."""
        phrase: list[Strike] = []
        for strike in reversed(self.strikes):
            if phrase and (phrase[-1].at_s - strike.at_s > PAUSE_S or (strike.beat is None) != (phrase[-1].beat is None)):
                break
            phrase.append(strike)
        return phrase[::-1]


def hits_from_strikes(strikes: Sequence[Strike], *, bpm: float, beats: float, late_s: float = 0.0) -> list[tuple[int, float, int, float]]:
    """Return strikes as hits of a loop of so many beats: (pad id, beat, velocity, pitch), in order of time.

    `late_s` is how late strikes arrive, and is taken off. What was played along with the loop lies
    where it was played; of several strikes of one pad at one place the last counts. What was
    played with nothing going begins at the first beat, moved a little so that it lies best on the grid of
    quarter beats.
    """
    if not strikes:
        return []
    late = late_s * bpm / 60.0
    if strikes[0].beat is not None:
        raw = [(strike.pad_id, _placed((strike.beat or 0.0) - late, beats), strike.velocity, strike.pitch) for strike in strikes]
    else:
        times = (np.array([strike.at_s for strike in strikes]) - strikes[0].at_s) * bpm / 60.0
        shift = _shift(times)
        raw = [(s.pad_id, _placed(float(t + shift), beats), s.velocity, s.pitch) for s, t in zip(strikes, times, strict=True)]
    found: dict[tuple[int, int, float], tuple[int, float, int, float]] = {}
    near = max(1e-6, SAME_S * bpm / 60.0)
    for pad_id, beat, velocity, pitch in raw:
        found[(pad_id, round(beat / near), pitch)] = (pad_id, round(beat, 6), velocity, pitch)
    return sorted(found.values(), key=lambda hit: (hit[1], hit[0]))


def _placed(beat: float, beats: float) -> float:
    """Return a time within a loop of so many beats; just ahead of its end is just ahead of its first beat."""
    within = beat % beats
    return within - beats if within > beats - EARLY_BEATS else within


def _shift(beats: np.ndarray) -> float:
    """Return by how much to move times in beats, up to an eighth, so that they lie nearest to quarter beats."""
    shifts = np.linspace(-0.12, 0.12, 97)
    moved = beats[None, :] + shifts[:, None]
    off = np.abs(moved * 4.0 - np.round(moved * 4.0)).mean(axis=1) + 0.02 * np.abs(shifts)
    return float(shifts[int(off.argmin())])


def latency_of(strikes_s: Sequence[float], clicks_s: Sequence[float]) -> float | None:
    """Return how late a hand strikes after clicks it follows, in seconds; None where it did not follow them.

    The middle of each strike's distance to its nearest click; strikes further than 150 ms from any
    do not count, and at least four must.
    """
    clicks = np.asarray(clicks_s)
    if clicks.size == 0:
        return None
    near = [float(s - clicks[np.abs(clicks - s).argmin()]) for s in strikes_s]
    near = [d for d in near if abs(d) < 0.15]
    if len(near) < 4 or float(np.std(near)) > 0.06:
        return None
    return float(np.median(near))
