"""Original and rebuilt beside each other: each as it plays, equally loud, or a stretch of both in turn."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.engine.bounce import bounce_rebuilt, matching_gain
from bompla.render.bake import bake
from bompla.render.events import BakeRequest

FADE_S, PAUSE_S = 0.004, 0.12
TURNS = 2


def original_and_rebuilt(request: BakeRequest, check: Callable[[], object] = lambda: None) -> tuple[Clip, Clip]:
    """Return the original loop and the shown pattern as it plays when it goes round, as loud as the original, both of one length."""
    baked = bake(request, check)
    rebuilt = bounce_rebuilt(baked, passes=2, gain=matching_gain(baked))
    frames = min(len(baked.original), rebuilt.frames)
    return Clip(baked.original[:frames], baked.sample_rate), rebuilt.part(0, frames)


def in_turn(request: BakeRequest, first_beat: float, last_beat: float, check: Callable[[], object] = lambda: None) -> NDArray[np.float32]:
    """Return a stretch of the loop, from one beat to another and round its end, of original and rebuilt in turn, shape (frames, 2)."""
    original, rebuilt = original_and_rebuilt(request, check)
    rate, frames = original.sample_rate, original.frames
    per_beat = frames / request.document.loop.length_beats
    places = np.arange(round(first_beat * per_beat), max(round(last_beat * per_beat), round(first_beat * per_beat) + 1)) % frames
    fade = min(len(places) // 2, round(FADE_S * rate))
    shape = np.ones((len(places), 1), np.float32)
    if fade:
        shape[:fade, 0] = np.linspace(0.0, 1.0, fade)
        shape[-fade:, 0] = np.linspace(1.0, 0.0, fade)
    pause = np.zeros((round(PAUSE_S * rate), 2), np.float32)
    parts = []
    for _ in range(TURNS):
        for sound in (original, rebuilt):
            parts += [sound.samples[places] * shape, pause]
    return np.concatenate(parts)
