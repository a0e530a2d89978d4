"""What a sample is: where it rises, and which drum it is, by its note, its name, or by ear."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from bompla.audio.clip import Clip
from bompla.kits.names import said_by
from bompla.model.drums import DRUMS, like_note

RISES_AT = 10.0 ** (-42.0 / 20.0)
"""A sample begins where it first comes this near to its peak."""

BY_NOTE, BY_NAME, BY_EAR = "by its note", "by its name", "by ear"


def attack_of(sound: Clip) -> int:
    """Return the sample at which a sound rises."""
    level = np.abs(sound.samples).max(axis=1, initial=0.0)
    peak = float(level.max(initial=0.0))
    return int(np.argmax(level >= RISES_AT * peak)) if peak > 0.0 else 0


def known_drum(note: int, name: str, hear: Callable[[], str]) -> tuple[str, str]:
    """Return the drum of a sound and how it is known: what its name says, then its note, where that is one of General MIDI, then by ear."""
    if said := said_by(name).drum:
        return said, BY_NAME
    if said := like_note(note):
        return said, BY_NOTE
    heard = hear()
    return (heard if heard in DRUMS else "perc"), BY_EAR
