"""Sound at another speed with its pitch kept, or at another pitch."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bompla.render.events import FASTEST, SLOWEST


def stretched(sound: NDArray[np.float32], sample_rate: int, speed: float, *, semitones: float = 0.0) -> NDArray[np.float32]:
    """Return sound of shape (frames, channels) played at `speed`, 1 as it is, moved by so many semitones.

    The result has round(frames / speed) frames. By the phase vocoder of the package python-stretch.
    """
    speed = max(SLOWEST, min(FASTEST, speed))
    wanted = max(1, round(sound.shape[0] / speed))
    if abs(speed - 1.0) < 1e-4 and abs(semitones) < 1e-3:
        return sound
    from python_stretch import Signalsmith  # late: only another speed needs it

    stretch = Signalsmith.Stretch()
    stretch.preset(sound.shape[1], sample_rate)
    stretch.setTimeFactor(speed)
    stretch.setTransposeSemitones(semitones)
    made = np.asarray(stretch.process(np.ascontiguousarray(sound.T)), dtype=np.float32).T
    if made.shape[0] < wanted:
        made = np.pad(made, ((0, wanted - made.shape[0]), (0, 0)))
    return np.ascontiguousarray(made[:wanted])
