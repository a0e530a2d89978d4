"""What the analysis says of a sound, as one value."""

from __future__ import annotations

import msgspec

from bompla.model.document import Attack, Source, TempoReading
from bompla.model.loop import Loop
from bompla.model.stretches import Proposed, Stretch


class AnalysisResult(msgspec.Struct, frozen=True):
    """The whole result of an analysis: the region, its readings, and every attack of the file.

    `stretches` are the parts of one tempo, in order, and `passages` whole bars of them that are worth looping, best first: the first is
    the region. `attacks` holds weak ones too; those at least as strong as `threshold` are the ones to cut at.
    """

    source: Source
    loop: Loop
    readings: tuple[TempoReading, ...]
    tempo_confidence: float
    attacks: tuple[Attack, ...]
    threshold: float
    stretches: tuple[Stretch, ...] = ()
    passages: tuple[Proposed, ...] = ()
    elapsed_s: float = 0.0
