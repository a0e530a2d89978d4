"""Sound at another speed with its pitch kept, or at another pitch."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from bompla.render.events import FASTEST, SLOWEST
from bompla.units import ms_to_samples

Maker = Callable[[NDArray[np.float32], int, float, float], NDArray[np.float32]]
"""Returns sound, at a rate, stretched to a speed and moved by semitones; about as long as it has to be."""

SEED = 1
ATTACK_MS, JOIN_MS, AROUND_MS = 22.0, 6.0, 160.0
"""So much of each slice stays as it is, joined over so long; the rest is stretched with so much mirrored around it."""


def stretched(sound: NDArray[np.float32], sample_rate: int, speed: float, *, semitones: float = 0.0) -> NDArray[np.float32]:
    """Return sound of shape (frames, channels) played at `speed`, 1 as it is, moved by so many semitones.

    The result has round(frames / speed) frames, the same ones each time. By the phase vocoder of the package python-stretch, which
    draws phases by chance where one pass is longer than twice, so that low tones stray by up to 30 cents; in passes of at most
    twice each they stay within 1.
    """
    speed = max(SLOWEST, min(FASTEST, speed))
    wanted = max(1, round(sound.shape[0] / speed))
    if abs(speed - 1.0) < 1e-4 and abs(semitones) < 1e-3:
        return sound
    made = _MADE_BY[-1](sound, sample_rate, speed, semitones)
    if made.shape[0] < wanted:
        made = np.pad(made, ((0, wanted - made.shape[0]), (0, 0)))
    return np.ascontiguousarray(made[:wanted])


def made_here(sound: NDArray[np.float32], sample_rate: int, speed: float, semitones: float) -> NDArray[np.float32]:
    """Return a stretched sound, made in this process, which stands still meanwhile: the package holds Python's lock."""
    from python_stretch import Signalsmith  # late: only another speed needs it

    passes = max(1, math.ceil(math.log2(1.0 / speed) - 1e-9))
    made = sound
    for number in range(passes):
        stretch = Signalsmith.Stretch(SEED)
        stretch.preset(sound.shape[1], sample_rate)
        stretch.setTimeFactor(speed ** (1.0 / passes))
        stretch.setTransposeSemitones(semitones if number == 0 else 0.0)
        made = np.asarray(stretch.process(np.ascontiguousarray(made.T)), dtype=np.float32).T
    return made


_MADE_BY: list[Maker] = [made_here]


@contextlib.contextmanager
def made_by(maker: Maker) -> Iterator[None]:
    """Let another stretch for as long as this lasts: one that does not keep this process waiting."""
    _MADE_BY.append(maker)
    try:
        yield
    finally:
        _MADE_BY.remove(maker)


def stretched_by_attacks(sound: NDArray[np.float32], sample_rate: int, speed: float, starts: Sequence[float]) -> NDArray[np.float32]:
    """Return a loop of shape (frames, 2) at a low speed with its attacks as they are, round(frames / speed) long.

    `starts` are where its slices begin, in frames. The first `ATTACK_MS` of each are kept, and what follows is stretched to the next: no
    attack is smeared (as Duxbury, Davies and Sandler, "Improved time-scaling of musical audio using phase locking at transients", 2002).
    """
    wanted = max(1, round(len(sound) / speed))
    out = np.zeros((wanted, sound.shape[1]), np.float32)
    edges = sorted({0, *(round(start) for start in starts if 0 < start < len(sound)), len(sound)})
    for start, end in pairwise(edges):
        at, until = round(start / speed), min(wanted, round(end / speed))
        made = _slice_stretched(sound[start:end], sample_rate, until - at)
        out[at : at + len(made)] += made
    return out


def _slice_stretched(part: NDArray[np.float32], sample_rate: int, wanted: int) -> NDArray[np.float32]:
    """Return a slice so long: its attack as it is, the rest stretched."""
    attack = min(ms_to_samples(ATTACK_MS, sample_rate), len(part) // 2)
    join = min(ms_to_samples(JOIN_MS, sample_rate), attack // 2)
    rest = part[attack - join :]
    length = wanted - attack + join
    if join < 8 or len(rest) < 64 or length <= len(rest):
        return part[:wanted]
    around = min(ms_to_samples(AROUND_MS, sample_rate), len(rest) - 1)
    padded = np.concatenate([rest[around:0:-1], rest, rest[-2 : -around - 2 : -1]])
    speed = len(rest) / length
    made = stretched(padded, sample_rate, speed)
    first = round(around / speed)
    tail = made[first : first + length]
    turn = np.linspace(0.0, 1.0, join, dtype=np.float32)[:, np.newaxis]
    joined = part[attack - join : attack] * (1.0 - turn) + tail[:join] * turn
    whole = np.concatenate([part[: attack - join], joined, tail[join:]])[:wanted]
    last = min(join, len(whole))
    whole[-last:] *= np.linspace(1.0, 0.0, last, dtype=np.float32)[:, np.newaxis]
    return whole
