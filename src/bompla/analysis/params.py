"""Everything that can be chosen about an analysis, as one value."""

from __future__ import annotations

import msgspec

from bompla.errors import AnalysisError
from bompla.model.drums import METERS

MOST_STRIKES = 8
"""Of what a drum is known by alone, so many strikes are looked at when sounds are pulled apart."""


class AnalysisParams(msgspec.Struct, frozen=True):
    """Parameters of an analysis; equal parameters and equal sound give equal results, bit for bit.

    Tempos are in beats per minute. `sensitivity` scales the threshold for cuts: above 1 finds
    softer attacks. `min_distance_ms` is the least time between two attacks.
    """

    min_bpm: float = 48.0
    max_bpm: float = 190.0
    sensitivity: float = 1.0
    min_distance_ms: float = 16.0
    meters: tuple[str, ...] = ("4/4", "3/4", "6/8", "12/8", "5/4", "7/8")
    trimmed: bool | None = None
    """Whether the sound is whole bars from end to end; None lets the analysis judge."""

    def checked(self) -> AnalysisParams:
        """Return the parameters; raises AnalysisError with a sentence where they cannot be used."""
        if not 20.0 <= self.min_bpm < self.max_bpm <= 400.0 or self.max_bpm < 1.9 * self.min_bpm:
            raise AnalysisError("The tempo range must span at least an octave between 20 and 400 BPM.")
        if not self.meters or any(name not in METERS for name in self.meters):
            raise AnalysisError(f"Choose meters among {', '.join(METERS)}.")
        if not 0.05 <= self.sensitivity <= 20.0 or not 4.0 <= self.min_distance_ms <= 500.0:
            raise AnalysisError("Sensitivity must lie in 0.05 to 20, the least distance in 4 to 500 ms.")
        return self
