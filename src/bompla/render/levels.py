"""How loud pads and slices are: levels to match, and edges that would click."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from bompla.audio.clip import Clip
from bompla.model.document import Document, Pad
from bompla.render.events import Baked
from bompla.units import ms_to_samples

FADE_OUT_MS = 4.0
LATELY_MS = 150.0
CLICK_LEVEL = 0.001
"""A sound that ends above this, -60 dB, would click."""


def level_as_the_kit(document: Document, clip: Clip, pad: Pad, borrowed: Mapping[str, Clip] | None = None) -> float:
    """Return the level in dB at which a pad's loudest 50 ms are as loud as the middle of the other pads'; 0 where nothing compares."""
    window = max(1, ms_to_samples(50.0, clip.sample_rate))

    def loudest_db(one: Pad) -> float | None:
        if not one.layers:
            return None
        layer = one.layers[-1]
        start, end = document.layer_bounds(layer)
        sound = (borrowed or {}).get(layer.of) if layer.of else clip
        if sound is None:
            return None
        power = np.square(sound.samples[start:end]).mean(axis=1)
        summed = np.cumsum(np.concatenate([[0.0], power], dtype=float))
        means = (summed[window:] - summed[:-window]) / window if power.size > window else summed[-1:] / max(1, power.size)
        return float(10.0 * np.log10(max(float(means.max(initial=0.0)), 1e-12)))

    own = loudest_db(pad)
    others = [found + other.level_db for other in document.pads if other.id != pad.id and (found := loudest_db(other)) is not None]
    return float(np.median(others)) - own if own is not None and others else 0.0


def loudest_pad(baked: Baked, at_frame: int) -> int:
    """Return the id of the pad whose hit of the last 150 ms before a place is loudest, 0 where there is none."""
    first = at_frame - ms_to_samples(LATELY_MS, baked.sample_rate)
    lately = [hit for hit in baked.events if first <= hit.at_frame <= at_frame]
    loudest = max(lately, key=lambda hit: hit.gain * float(np.abs(baked.sounds[hit.sound]).max(initial=0.0)), default=None)
    return loudest.pad_id if loudest is not None else 0


def fade_out_ms(clip: Clip, start: int, end: int) -> float:
    """Return how long a stretch of the source fades at its end: a little where it would click, else not at all."""
    last = clip.samples[max(start, end - ms_to_samples(1.0, clip.sample_rate)) : end]
    return FADE_OUT_MS if float(np.abs(last).max(initial=0.0)) > CLICK_LEVEL else 0.0
