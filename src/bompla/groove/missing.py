"""Hits of the original that a pattern lacks."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from bompla.model.detected_pattern import detected_hits, pattern_of
from bompla.model.document import Document
from bompla.model.memo import LastMade

NEAR_S = 0.035
"""A hit of the same pad so near stands for that of the original."""


class MissingHit(NamedTuple):
    """A hit of the original: on which pad, when in beats, how hard."""

    pad_id: int
    at_beats: float
    velocity: int


_Lane = tuple[int, list[MissingHit], NDArray[np.float64]]
"""A pad, the hits of the original on it, and their beats."""

_LANES: LastMade[list[_Lane]] = LastMade()
_MISSING: LastMade[tuple[MissingHit, ...]] = LastMade()


def missing_hits(document: Document) -> tuple[MissingHit, ...]:
    """Return the hits of the original that the shown pattern lacks, in order of time; the last are kept, as every view asks for them."""
    return _MISSING.get((document,), lambda: _missing(document))


def _missing(document: Document) -> tuple[MissingHit, ...]:
    near = NEAR_S * document.bpm / 60.0
    there: dict[int, list[float]] = {}
    for hit in pattern_of(document).hits:
        there.setdefault(hit.pad_id, []).append(hit.at_beats)
    lacking = [hits[n] for pad_id, hits, beats in _lanes(document)
               for n in np.flatnonzero(_far_from(there.get(pad_id, []), beats, near)).tolist()]
    return tuple(sorted(lacking, key=lambda hit: hit.at_beats))


def _lanes(document: Document) -> list[_Lane]:
    """Return the hits of the original lane by lane; they stay the same while the pattern is worked on."""

    def made() -> list[_Lane]:
        lanes: dict[int, list[MissingHit]] = {}
        for hit in detected_hits(document, document.cuts):
            lanes.setdefault(hit[0], []).append(MissingHit(*hit))
        return [(pad_id, hits, np.array([hit.at_beats for hit in hits])) for pad_id, hits in lanes.items()]

    return _LANES.get((document.cuts, document.pads, document.loop), made)


def _far_from(times: list[float], places: NDArray[np.float64], near: float) -> NDArray[np.bool_]:
    """Whether none of sorted times is within `near` of each place."""
    if not times:
        return np.ones(places.size, bool)
    sorted_times = np.array(times)
    after = np.searchsorted(sorted_times, places - near)
    far: NDArray[np.bool_] = (after == sorted_times.size) | (sorted_times[np.minimum(after, sorted_times.size - 1)] > places + near)
    return far
