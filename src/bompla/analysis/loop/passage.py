"""Which bars of a piece that may be cut anywhere make the best loop."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.loop.passages import CLEAR_DB, LENGTH_WORTH
from bompla.analysis.tempo.drift import followed
from bompla.analysis.tempo.evidence import Evidence, bars_alike, part_of, struck_by_bar
from bompla.analysis.tempo.readings import Reading
from bompla.analysis.tempo.stretches import HeardStretch
from bompla.audio.clip import Clip
from bompla.model.document import Attack
from bompla.model.loop import Loop
from bompla.model.stretches import Proposed

WANTED_BARS = (4, 2, 1)
"""Four bars are preferred, where there are as many."""

START_SNAP_S, END_SNAP_S = 0.020, 0.012
ON_LINE_S = 0.025
EDGE_COUNTS = 0.25
"""What an attack on either end is worth, against bars that are like all others."""

PROPOSED_BARS, MOST_EACH = (4, 8, 2, 1), 2
"""Of how many bars loops are proposed in each stretch, and how many of each length."""


Floats = NDArray[np.float64]


def passage_of(reading: Reading, clip: Clip, attacks: list[Attack], evidence: Evidence) -> Loop:
    """Return whole bars that are like the others, with attacks on both ends; followed where the tempo drifts, snapped to attacks."""
    lines = bar_lines(reading, evidence)
    rate, name = clip.sample_rate, reading.meter.name
    bars = next((count for count in WANTED_BARS if count < len(lines)), 0)
    if not bars:
        start = max(0, round(reading.start_s * rate))
        return Loop.of_bars(start, max(start + 1, min(clip.frames, round(reading.end_s * rate))), reading.bars, name)
    first = int(_worth(lines, evidence, bars).argmax())
    at = np.array([a.at_sample for a in attacks], dtype=np.float64) / rate
    start_s, end_s = _snapped(lines[first], at, START_SNAP_S), _snapped(lines[first + bars], at, END_SNAP_S)
    start = max(0, round(start_s * rate))
    return Loop.of_bars(start, max(start + 1, min(clip.frames, round(end_s * rate))), bars, name)


def passages_in(stretch: HeardStretch, clip: Clip, attacks: list[Attack], evidence: Evidence) -> list[tuple[float, Proposed]]:
    """Return loops of a stretch with what each is worth: bars that are like the others, attacks on both ends, clear drums.

    `evidence` is that of the whole sound. They start and end on the stretch's own bar lines, snapped to attacks.
    """
    reading, rate = stretch.readings[0], clip.sample_rate
    part = part_of(evidence, max(0.0, stretch.start_s - 0.05), stretch.end_s)
    shift = max(0.0, stretch.start_s - 0.05)
    lines = bar_lines(replace(reading, start_s=reading.start_s - shift), part)
    at = np.array([a.at_sample for a in attacks], dtype=np.float64) / rate
    sure = [max((h.confidence for h in a.heard), default=0.0) for a in attacks]
    clear = np.sqrt(np.array([min(1.0, max(0.0, a.clear_db / CLEAR_DB)) for a in attacks]) * np.array(sure))
    found: list[tuple[float, Proposed]] = []
    for bars in PROPOSED_BARS:
        if bars >= len(lines):
            continue
        worth = _worth(lines, part, bars)
        taken: list[int] = []
        for first in np.argsort(-worth, kind="stable").tolist():
            if len(taken) == MOST_EACH or any(abs(first - other) < bars for other in taken):
                continue
            taken.append(first)
            start_s = _snapped(lines[first] + shift, at, START_SNAP_S)
            end_s = _snapped(lines[first + bars] + shift, at, END_SNAP_S)
            inside = (at >= start_s - 0.01) & (at < end_s - 0.01)
            clarity = float(clear[inside].mean()) if inside.any() else 0.0
            start = max(0, round(start_s * rate))
            loop = Loop.of_bars(start, max(start + 1, min(clip.frames, round(end_s * rate))), bars, reading.meter.name)
            value = float(worth[first]) + 0.5 * clarity + LENGTH_WORTH[bars] + 0.4 * stretch.confidence
            found.append((value, Proposed(loop, round(clarity, 4))))
    return found


def bar_lines(reading: Reading, evidence: Evidence) -> Floats:
    """Return where bars begin and end in all of the sound, in seconds, following the attacks both ways from the middle."""
    times, weights, beat_s, per_bar = evidence.times_s, evidence.weights, reading.beat_s, reading.meter.beats_per_bar
    bar_s = beat_s * per_bar
    middle = reading.start_s + bar_s * (reading.bars // 2)
    on = followed(times, weights, middle, beat_s, evidence.duration_s)
    back = followed(-times[::-1], weights[::-1], -middle, beat_s, 0.0)
    beats = np.concatenate([-back[:0:-1], on])
    lines = beats[(len(back) - 1) % per_bar :: per_bar]
    return np.asarray(lines[lines >= -0.02], np.float64)


def _worth(lines: Floats, evidence: Evidence, bars: int) -> Floats:
    """Return how good a loop of so many bars is from each bar line on."""
    like, _ = bars_alike(struck_by_bar(lines, evidence))
    apart = np.abs(evidence.times_s[None, :] - lines[:, None]).min(axis=1)
    on_line = np.exp(-0.5 * (apart / ON_LINE_S) ** 2)
    runs = np.convolve(like, np.ones(bars) / bars, mode="valid")
    return np.asarray(runs + EDGE_COUNTS * (on_line[: runs.size] + on_line[bars : bars + runs.size]), np.float64)


def _snapped(at_s: float, attacks_s: Floats, near_s: float) -> float:
    if not attacks_s.size:
        return float(at_s)
    nearest = attacks_s[np.abs(attacks_s - at_s).argmin()]
    return float(nearest) if abs(nearest - at_s) <= near_s else float(at_s)
