"""Which frames play where only some bars do: hits a little ahead of a bar line belong to the bar that it begins."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

AHEAD_BEATS = 0.12
"""A hit no further ahead of a bar line belongs to it."""


class Span(NamedTuple):
    """A part of what plays, in frames; of the last `not_struck` of it no hits are played, as they are ahead of what does not follow."""

    start: int
    length: int
    not_struck: int


def span_of(hit_frames: NDArray[np.int64], start: int, end: int, total: int, *, within: int) -> Span:
    """Return what plays from one bar line up to another, given when all hits begin, in order, and how far ahead of a line they may be.

    It is as long as the bars are. It begins as far ahead of the first line as the hits that are ahead of either line; the very first bar
    has nothing ahead of it that would not lie at the end, so there it is the hits ahead of the last line that are not played.
    """
    ahead = max(_ahead(hit_frames, edge, within) for edge in (start, end if end < total else 0))
    if start > 0:
        return Span(start - ahead, max(1, end - start), 0)
    return Span(0, max(1, end), ahead)


def _ahead(hit_frames: NDArray[np.int64], frame: int, within: int) -> int:
    """Return how many frames ahead of a place the first hit begins that belongs to it, 0 where none does."""
    first = int(np.searchsorted(hit_frames, frame - within))
    return max(0, frame - int(hit_frames[first])) if first < hit_frames.size else 0
