"""The region that a tempo reading stands for."""

from __future__ import annotations

import numpy as np

from bompla.analysis.loop.passage import passage_of
from bompla.analysis.tempo.evidence import Evidence
from bompla.analysis.tempo.readings import Reading
from bompla.audio.clip import Clip
from bompla.model.document import Attack
from bompla.model.loop import Loop

MOST_REGION_BARS, FEWER_BARS = 16, 4
"""Of a recording that has more bars than the first, so many are proposed."""

SNAP_S = 0.03


def loop_of(reading: Reading, clip: Clip, attacks: list[Attack], evidence: Evidence) -> Loop:
    """Return the region of a reading: the whole file if it is trimmed, or has no tempo, else from attack to whole bars."""
    if reading.unknown:
        return Loop(0, clip.frames, clip.duration_s / reading.beat_s, reading.meter.name)
    if reading.trimmed:
        return Loop.of_bars(0, clip.frames, reading.bars, reading.meter.name)
    if reading.anywhere:
        return passage_of(reading, clip, attacks, evidence)
    bars = reading.bars if reading.bars <= MOST_REGION_BARS else FEWER_BARS
    rate = clip.sample_rate
    start_s = reading.start_s if reading.bars <= MOST_REGION_BARS else _busiest(reading, evidence, bars)
    start = round(start_s * rate)
    near = [a.at_sample for a in attacks if abs(a.at_sample - start) <= SNAP_S * rate]
    start = max(0, min(near, key=lambda at: abs(at - start), default=start))
    length = round(bars * reading.meter.beats_per_bar * reading.beat_s * rate)
    end = min(clip.frames, start + length)
    return Loop.of_bars(start, max(end, start + 1), bars, reading.meter.name)


def _busiest(reading: Reading, evidence: Evidence, bars: int) -> float:
    """Return where the bars with the strongest attacks start."""
    bar_s = reading.beat_s * reading.meter.beats_per_bar
    bar = np.floor((evidence.times_s - reading.start_s) / bar_s + 0.02).astype(int)
    inside = (bar >= 0) & (bar < reading.bars)
    strength = np.bincount(bar[inside], evidence.weights[inside], minlength=reading.bars)
    runs = np.convolve(strength, np.ones(bars), mode="valid")
    return float(reading.start_s + int(runs.argmax()) * bar_s)
