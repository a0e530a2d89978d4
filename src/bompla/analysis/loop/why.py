"""Why a loop is worth taking: how clear its drums are, and how much of its stretch is like it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.tempo.evidence import Evidence, evidence_of, struck_by_bar
from bompla.model.document import Document
from bompla.model.loop import Loop
from bompla.model.wording import counted

VERY_CLEAR, CLEAR = 0.6, 0.35
"""From which clarity on drums are said to be very clear, and clear."""

ALIKE = 0.7
"""A bar is like one of the loop's where what is struck in them is as like as this, from 0 to 1."""

SNAP_S = 0.03
"""How far a bar line is drawn to an attack, so that lines follow a tempo that wanders."""


def whys_of(document: Document, loops: Sequence[Loop], clarity: Sequence[float]) -> tuple[str, ...]:
    """Return a short sentence for each of some loops of a document, of `clarity` from 0 to 1: `clear drums; 2 of 3 other bars as good`."""
    attacks = [a for a in document.attacks if a.strength >= document.threshold]
    rate = document.source.sample_rate
    times = np.array([a.at_sample for a in attacks], dtype=float) / rate
    evidence = evidence_of(times, [a.heard for a in attacks], document.source.frames / rate)
    return tuple("; ".join([_how_clear(clear), *_how_alike(document, loop, evidence)]) for loop, clear in zip(loops, clarity, strict=True))


def _how_clear(clarity: float) -> str:
    return "very clear drums" if clarity >= VERY_CLEAR else "clear drums" if clarity >= CLEAR else "drums not clear"


def _how_alike(document: Document, loop: Loop, evidence: Evidence) -> list[str]:
    lines, first = _lines(document, loop, evidence.times_s)
    struck = struck_by_bar(lines, evidence)
    own = np.arange(first, first + loop.whole_bars)
    others = np.setdiff1d(np.arange(len(struck)), own)
    others = others[struck[others].any(axis=1)]
    if not others.size:
        return []
    sizes = np.maximum(np.linalg.norm(struck, axis=1), 1e-9)
    like = (struck[others] @ struck[own].T) / (sizes[others, None] * sizes[own])
    count = int((like.max(axis=1) >= ALIKE).sum())
    if not count:
        return ["unlike all others"]
    if count == others.size:
        return [f"all {counted(count, 'other bar')} as good" if count > 1 else "the other bar as good"]
    return [f"{count} of {counted(others.size, 'other bar')} as good"]


def _lines(document: Document, loop: Loop, times_s: NDArray[np.float64]) -> tuple[NDArray[np.float64], int]:
    """Return the bar lines of a loop's stretch in seconds, followed from attack to attack, and which of them the loop starts on."""
    rate = document.source.sample_rate
    own = next((one for one in document.stretches if one.start_sample <= loop.start_sample + rate // 10 < one.end_sample), None)
    start_s, end_s = (own.start_sample / rate, own.end_sample / rate) if own else (0.0, document.source.frames / rate)
    bar_s = loop.bar_frames / rate
    inside = loop.start_sample / rate + bar_s * np.arange(loop.whole_bars + 1)
    before = _followed(inside[0], -bar_s, start_s, times_s)[::-1]
    after = _followed(inside[-1], bar_s, end_s, times_s)
    return np.concatenate([before, inside, after]), len(before)


def _followed(from_s: float, by_s: float, to_s: float, times_s: NDArray[np.float64]) -> list[float]:
    """Return times a bar apart from one up to another, each on an attack where one is near."""
    found: list[float] = []
    at_s = from_s + by_s
    while times_s.size and (at_s - to_s) * by_s <= 0.05 * by_s * by_s:
        nearest = float(times_s[np.abs(times_s - at_s).argmin()])
        at_s = nearest if abs(nearest - at_s) <= SNAP_S else at_s
        found.append(at_s)
        at_s += by_s
    return found
