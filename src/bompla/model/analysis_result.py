"""What the analysis says of a sound, as one value."""

from __future__ import annotations

import msgspec

from bompla.model.document import Attack, Loop, Source, TempoReading


class AnalysisResult(msgspec.Struct, frozen=True):
    """The whole result of an analysis: the region, its readings, and every attack of the file.

    `attacks` holds weak ones too; those at least as strong as `threshold` are the ones to cut at.
    """

    source: Source
    loop: Loop
    readings: tuple[TempoReading, ...]
    tempo_confidence: float
    attacks: tuple[Attack, ...]
    threshold: float
    elapsed_s: float = 0.0
