"""Kits of our own, made by our own synthesis: dry wood, plain electronic, soft brushes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from bompla.audio.clip import Clip
from bompla.kits.kit import KitLayer, KitPad, ReadKit
from bompla.kits.sounds import attack_of
from bompla.model.drums import DRUMS
from bompla.model.shape import PLAIN

if TYPE_CHECKING:
    from bompla.demo.synth import DrumKit

RATE = 48_000
HARD, MIDDLE, SOFT = 120, 84, 44
"""Each drum is struck so hard for its ranges of velocity."""

_DRUMS = tuple(DRUMS)
_SETTINGS: dict[str, dict[str, float]] = {
    "dry wood": {"kick_hz": 58.0, "kick_decay_s": 0.13, "kick_sweep": 1.0, "kick_click": 0.5, "snare_hz": 215.0, "snare_decay_s": 0.1,
                 "snare_wires": 0.6, "tom_hz": 104.0, "tom_decay_s": 0.22, "rim_hz": 520.0, "metal_hz": 300.0, "hat_decay_s": 0.03,
                 "hat_open_decay_s": 0.24, "crash_decay_s": 0.9, "brightness": 0.35},
    "plain electronic": {"kick_hz": 46.0, "kick_decay_s": 0.34, "kick_sweep": 3.4, "kick_click": 0.2, "snare_hz": 180.0,
                         "snare_decay_s": 0.16, "snare_wires": 1.05, "tom_hz": 84.0, "tom_decay_s": 0.42, "rim_hz": 400.0,
                         "metal_hz": 410.0, "hat_decay_s": 0.04, "hat_open_decay_s": 0.4, "crash_decay_s": 1.4, "brightness": 0.85},
    "soft brushes": {"kick_hz": 52.0, "kick_decay_s": 0.24, "kick_sweep": 0.9, "kick_click": 0.16, "snare_hz": 190.0, "snare_decay_s": 0.2,
                     "snare_wires": 1.1, "tom_hz": 92.0, "tom_decay_s": 0.36, "rim_hz": 430.0, "metal_hz": 320.0, "hat_decay_s": 0.06,
                     "hat_open_decay_s": 0.42, "crash_decay_s": 1.7, "brightness": 0.25},
}


def own_kits() -> tuple[str, ...]:
    """Return the names of the kits that ship."""
    return tuple(_SETTINGS)


def own_kit(name: str, check: Callable[[], object] = lambda: None) -> ReadKit:
    """Return a kit that ships, made now, the same each time; raises KeyError for a name of none."""
    from bompla.demo.synth import draw_kit  # brings SciPy, which the window need not wait for

    values: dict[str, Any] = dict(_SETTINGS[name])
    kit = replace(draw_kit(np.random.default_rng(7), RATE, width=0.0), **values)
    pads = []
    for drum in _DRUMS:
        check()
        pads.append(_pad(kit, name, drum))
    return ReadKit(name, tuple(pads), ("Made by synthesis, and ships with Bompla",))


def _pad(kit: DrumKit, name: str, drum: str) -> KitPad:
    from bompla.demo.synth import LEVELS, PANS, strike

    layers = []
    for low, high, velocity in ((1, 63, SOFT), (64, 100, MIDDLE), (101, 127, HARD)):
        for turn in range(2):
            rng = np.random.default_rng((7, _DRUMS.index(drum), velocity, turn))
            sound = strike(kit, drum, velocity, rng)
            if name == "soft brushes":
                sound = _brushed(sound, drum, rng)
            sound = sound / max(float(np.abs(sound).max()), 1e-6) * LEVELS[drum]
            clip = Clip(np.ascontiguousarray(sound[:, np.newaxis], np.float32), RATE)
            gain = 0.0
            layers.append(KitLayer(clip, attack_of(clip), low, high, gain, 0.0, PANS.get(drum, 0.0), f"{drum} {velocity}", float(turn)))
    return KitPad(DRUMS[drum].label, drum, "as it was made", DRUMS[drum].note, tuple(layers), shape=PLAIN, group=DRUMS[drum].choke_set)


def _brushed(sound: np.ndarray, drum: str, rng: np.random.Generator) -> np.ndarray:
    """Return a strike as brushes make it: its beginning comes slower, and wires sweep under what is struck with them."""
    rise = round((0.004 if drum == "kick" else 0.009) * RATE)
    made = sound.copy()
    made[:rise] *= np.sin(np.linspace(0.0, np.pi / 2.0, rise)) ** 2
    if drum in ("snare", "tom_low", "tom_mid", "tom_high"):
        sweep = rng.normal(0.0, 1.0, len(sound))
        sweep = np.convolve(sweep, [0.25, 0.5, 0.25], "same") * np.exp(-np.arange(len(sound)) / (0.06 * RATE))
        made += 0.12 * float(np.abs(sound).max()) * sweep
    return made
