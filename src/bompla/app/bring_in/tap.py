"""Tapping a tempo."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

FORGOTTEN_S = 5.0
"""Taps are gone after so long a pause."""

KEPT = 16


@dataclass
class Taps:
    """The taps of a hand; after a pause they begin anew."""

    times_s: list[float] = field(default_factory=list)

    def tap(self, at_s: float) -> tuple[float, float] | None:
        """Take a tap; return the tempo in BPM and its spread in BPM, None until there are enough taps.

        The tempo is the slope of a line through the taps, the spread that of single beats about it.
        """
        if self.times_s and not 0.0 < at_s - self.times_s[-1] <= FORGOTTEN_S:
            self.times_s = []
        self.times_s = [*self.times_s, at_s][-KEPT:]
        if len(self.times_s) < 3:
            return None
        beat_s = float(np.polyfit(np.arange(len(self.times_s)), self.times_s, 1)[0])
        tempos = [60.0 / (b - a) for a, b in pairwise(self.times_s)]
        return 60.0 / beat_s, float(np.std(tempos))
