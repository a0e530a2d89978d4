"""Repeat signs: a score in the fewest written bars, like bars played again, with first and second endings where only the last differs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from bompla.groove.score import Bar, Score

SIGN_BARS = 0.5
"""What a pair of signs costs a reader, in written bars: signs are set only where they save more."""

MOST_TIMES = 8
"""A reader counts no further."""


@dataclass(frozen=True)
class Repeat:
    """Written bars `first` to `last`, both included, from 0, that are played `times` over.

    With `endings` the last two of them are one bar for each time.
    """

    first: int
    last: int
    times: int = 2
    endings: bool = False


def folded(score: Score) -> tuple[Score, tuple[Repeat, ...]]:
    """Return a score with like bars written once, and its repeats, in order; the fewest bars that plain repeats can do, none in another."""
    count = len(score.bars)
    best: list[tuple[float, int, int, bool]] = [(0.0, 0, 0, False)] * (count + 1)
    for at in reversed(range(count)):
        ways = [(1.0 + best[at + 1][0], 1, 1, False)]
        for length, times, endings in _ways(score.bars, at):
            ways.append((length + endings + SIGN_BARS + best[at + length * times][0], length, times, endings))
        best[at] = min(ways, key=lambda way: way[0])
    bars: list[Bar] = []
    repeats: list[Repeat] = []
    at = 0
    while at < count:
        _, length, times, endings = best[at]
        if times > 1:
            repeats.append(Repeat(len(bars), len(bars) + length - 1 + endings, times, endings))
        bars += score.bars[at : at + length]
        if endings:
            bars.append(score.bars[at + 2 * length - 1])
        at += length * times
    return replace(score, bars=tuple(bars)), tuple(repeats)


def _ways(bars: Sequence[Bar], at: int) -> Iterator[tuple[int, int, bool]]:
    """Yield what can be repeated from a bar on: its length in bars, how often it comes, and whether in two endings."""
    for length in range(1, (len(bars) - at) // 2 + 1):
        phrase, times = bars[at : at + length], 1
        while times < MOST_TIMES and bars[at + times * length : at + (times + 1) * length] == phrase:
            times += 1
            yield length, times, False
        if times == 1 and length > 1 and bars[at + length : at + 2 * length - 1] == phrase[:-1]:
            yield length, 2, True


def sign_words(repeats: Sequence[Repeat]) -> list[tuple[int, str]]:
    """Return the words that stand over written bars: numbers of endings, and how often where it is more than twice."""
    words: list[tuple[int, str]] = []
    for repeat in repeats:
        if repeat.endings:
            words += [(repeat.last - 1, "1."), (repeat.last, "2.")]
        elif repeat.times > 2:
            words.append((repeat.first, f"{repeat.times} times"))
    return words
