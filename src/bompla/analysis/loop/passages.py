"""Where in a file the drums are clearest: bar by bar, and as proposals for a loop."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.loop.why import whys_of
from bompla.analysis.tempo.drift import drift_of
from bompla.model.document import Document
from bompla.model.loop import Loop

PROPOSED_BARS = (1, 2, 4, 8)
CLEAR_DB = 24.0
"""An attack that stands so far above what rings before it is as clear as can be."""

PER_LENGTH = 4
LENGTH_WORTH = {4: 0.12, 8: 0.06, 2: 0.0, 1: -0.15}
"""How many are proposed of each length, and how much more a length is worth than another."""


@dataclass(frozen=True)
class Proposal:
    """A stretch of whole bars worth looping; `score` from 0 to 1, and why it is worth it, in words."""

    loop: Loop
    score: float
    why: str = ""


@dataclass(frozen=True, eq=False)
class Bars:
    """The bars that the loop's beat makes over the whole file.

    `starts` (bars + 1,) are samples where they begin, `clarity` (bars,) from 0 to 1 how clearly
    drums are heard in each, `first` the index of the bar that the loop starts with.
    """

    starts: NDArray[np.int64]
    clarity: NDArray[np.float64]
    first: int


def bars_of(document: Document) -> Bars:
    """Return the whole bars of the file, counted both ways from the loop's downbeat, with their clarity.

    A bar is clear when it has hits, when they stand above what rings, and when the drums in them
    are sure.
    """
    per_bar = document.loop.meter.beats_per_bar
    starts, before = _bar_starts(document, per_bar)
    bars = len(starts) - 1
    attacks = [a for a in document.attacks if a.strength >= document.threshold]
    at = np.searchsorted(starts, [a.at_sample + 1 for a in attacks], side="right") - 1
    inside = (at >= 0) & (at < bars)
    clear = np.array([min(1.0, max(0.0, a.clear_db / CLEAR_DB)) for a in attacks])
    sure = np.array([max((h.confidence for h in a.heard), default=0.0) for a in attacks])
    weight = np.sqrt(clear * sure) if attacks else np.zeros(0)
    count = np.bincount(at[inside], minlength=bars)[:bars]
    total = np.bincount(at[inside], weight[inside], minlength=bars)[:bars]
    enough = np.minimum(1.0, count / max(2.0, per_bar))
    clarity = np.where(count > 0, total / np.maximum(count, 1), 0.0) * enough
    return Bars(starts, clarity, before)


def _bar_starts(document: Document, per_bar: int) -> tuple[NDArray[np.int64], int]:
    """Return where bars start, the last value where the last one ends, and how many lie before the loop.

    A recording that drifts is followed beat by beat; a steady one has bars of one length.
    """
    frames = document.source.frames
    drift = drift_of(document)
    beat_map = document.beat_map
    before = int(-float(beat_map.beats_at(0.0)) / per_bar + 1e-3)
    after = max(1, int(float(beat_map.beats_at(float(frames))) / per_bar + 1e-3))
    if drift.steady:
        starts = beat_map.samples_at(np.arange(-before, after + 1) * float(per_bar))
    else:
        before = -drift.first_beat // per_bar
        starts = drift.samples[-drift.first_beat - before * per_bar :: per_bar]
    placed = np.clip(np.round(starts), 0, frames).astype(np.int64)
    own = next((one for one in document.stretches if one.start_sample <= document.loop.start_sample < one.end_sample), None)
    if own is None or len(document.stretches) < 2:
        return placed, before
    reach = document.loop.frames // document.loop.bars // 2  # bars of another tempo are none of these
    inside = np.flatnonzero((placed >= own.start_sample - reach) & (placed <= own.end_sample + reach))
    if inside.size < 2:
        return placed, before
    return placed[inside[0] : inside[-1] + 1], before - int(inside[0])


def proposals_of(document: Document) -> tuple[Proposal, ...]:
    """Return loops of 1, 2, 4 and 8 bars, for each length the clearest that do not overlap, best first, four bars ahead of others as good.

    A stretch is as good as its bars are clear on the whole and in the worst of them; one that opens
    with a kick and starts where the loop's own phrases do is preferred. A recording of several tempos has those of its stretches.
    """
    if document.proposed:
        return tuple(Proposal(one.loop, one.clarity) for one in document.proposed)
    bars = bars_of(document)
    count = len(bars.clarity)
    opens = _opened(document, bars)
    found = []
    for length in PROPOSED_BARS:
        if length > count:
            continue
        scores = []
        for start in range(count - length + 1):
            part = bars.clarity[start : start + length]
            phrase = 0.04 if (start - bars.first) % length == 0 else 0.0
            scores.append(0.6 * float(part.mean()) + 0.4 * float(part.min()) + 0.08 * float(opens[start]) + phrase)
        taken: list[int] = []
        for start in np.argsort(-np.array(scores), kind="stable"):
            if scores[start] <= 0.08 + 0.04 + 1e-9 or len(taken) == PER_LENGTH:
                break
            if all(abs(int(start) - other) >= length for other in taken):
                taken.append(int(start))
                loop = Loop.of_bars(int(bars.starts[start]), int(bars.starts[start + length]), length, document.loop.meter_name)
                found.append(Proposal(_on_attack(document, loop), min(1.0, scores[start] / 1.12)))
    return tuple(sorted(found, key=lambda one: -(one.score + LENGTH_WORTH[one.loop.whole_bars])))


def explained(document: Document, proposals: tuple[Proposal, ...]) -> tuple[Proposal, ...]:
    """Return proposals with why each is worth taking."""
    whys = whys_of(document, [one.loop for one in proposals], [one.score for one in proposals])
    return tuple(replace(one, why=why) for one, why in zip(proposals, whys, strict=True))


def _opened(document: Document, bars: Bars) -> NDArray[np.bool_]:
    near = 0.04 * document.source.sample_rate
    kicks = np.array([a.at_sample for a in document.attacks if any(h.drum == "kick" and h.sure for h in a.heard)])
    if kicks.size == 0:
        return np.zeros(len(bars.clarity), dtype=bool)
    return np.asarray(np.abs(bars.starts[:-1, None] - kicks[None, :]).min(axis=1) < near)


def _on_attack(document: Document, loop: Loop) -> Loop:
    """Return the loop slid onto the attack it starts with, if there is one."""
    near = round(0.03 * document.source.sample_rate)
    strong = [a for a in document.attacks if abs(a.at_sample - loop.start_sample) <= near and a.strength >= document.threshold]
    if not strong:
        return loop
    start = max(strong, key=lambda a: a.strength).cut_sample
    end = start + loop.frames
    return Loop(start, end, loop.length_beats, loop.meter_name) if end <= document.source.frames else loop
