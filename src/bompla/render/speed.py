"""Sound at the engine's rate and at other speeds."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
import soxr
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.render.events import AS_TAPE, STRETCHED
from bompla.render.levels import FADE_OUT_MS
from bompla.render.shaping import ringing
from bompla.render.stretch import stretched, stretched_by_attacks
from bompla.units import ms_to_samples

ATTACKS_KEPT_BELOW = 0.55
"""Stretched further than this, attacks would smear: they are kept as they are."""


def at_speed(sound: NDArray[np.float32], sample_rate: int, speed: float, way: str, starts: Sequence[float] = ()) -> NDArray[np.float32]:
    """Return a loop of shape (frames, 2) at another speed, round(frames / speed) long.

    `starts` are where its slices begin, in frames: stretched far, attacks stay there as they are. By slices each sounds as it is at its
    new time, rings on where the next comes later, and is faded where it comes sooner.
    """
    if abs(speed - 1.0) < 1e-6:
        return sound
    wanted = max(1, round(len(sound) / speed))
    if way == STRETCHED:
        if speed < ATTACKS_KEPT_BELOW and starts:
            return stretched_by_attacks(sound, sample_rate, speed, starts)
        return stretched(sound, sample_rate, speed)
    if way == AS_TAPE:
        made = np.asarray(soxr.resample(sound, speed * 48_000.0, 48_000.0), np.float32)
        return np.ascontiguousarray(np.pad(made, ((0, max(0, wanted - len(made))), (0, 0)))[:wanted])
    out = np.zeros((wanted, 2), np.float32)
    fade = ms_to_samples(FADE_OUT_MS, sample_rate)
    edges = [*(round(s) for s in starts), len(sound)] if starts else [0, len(sound)]
    for start, end in pairwise(edges):
        at, until = round(start / speed), min(wanted, round(end / speed))
        part = sound[start:end]
        if until - at > len(part):
            part = ringing(part, sample_rate)
        part = part[: until - at].copy()
        last = min(fade, len(part))
        if last:
            part[-last:] *= np.linspace(1.0, 0.0, last, dtype=np.float32)[:, np.newaxis]
        out[at : at + len(part)] += part
    return out


def for_listening(clip: Clip, start: int, end: int, sample_rate: int, *, speed: float = 1.0) -> NDArray[np.float32]:
    """Return a stretch of a clip in stereo at the engine's rate, its edges faded, at another speed of the same pitch if wanted."""
    sound = stretched(at_rate(clip, start, min(end, clip.frames), sample_rate), sample_rate, speed).copy()
    fade = min(ms_to_samples(FADE_OUT_MS, sample_rate), len(sound) // 2)
    if fade:
        turn = np.linspace(0.0, 1.0, fade, dtype=np.float32)[:, np.newaxis]
        sound[:fade] *= turn
        sound[-fade:] *= turn[::-1]
    return sound


def at_rate(clip: Clip, start: int, end: int, sample_rate: int) -> NDArray[np.float32]:
    """Return a stretch of the source in stereo at another rate, its length rounded to a frame."""
    part = Clip(clip.part(start, end).stereo, clip.sample_rate)
    sound = resampled(part, sample_rate).samples
    wanted = round((end - start) * sample_rate / clip.sample_rate)
    if sound.shape[0] < wanted:
        sound = np.pad(sound, ((0, wanted - sound.shape[0]), (0, 0)))
    return np.ascontiguousarray(sound[:wanted])
