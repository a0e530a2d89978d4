"""Two patterns compared: hits matched one to one, and what differs, in order of what is heard most."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bompla.groove.feel import felt_pattern
from bompla.model.detected_pattern import is_inside, pattern_beats
from bompla.model.document import Document
from bompla.model.drums import DRUMS
from bompla.units import velocity_to_db

NEAR_S = 0.05
MOVED_MS, LOUDER_DB = 6.0, 2.5
"""What is less is no difference: of time, and of loudness by velocity."""

MS_COUNTS = 0.25
"""How many dB of difference a millisecond counts as."""


@dataclass(frozen=True)
class Struck:
    """A hit to be compared: its drum, when in beats, how hard, and its id where it has one."""

    drum: str
    at_beats: float
    velocity: int
    hit_id: int = 0


@dataclass(frozen=True)
class Difference:
    """What differs: `missing`, `extra`, `moved`, `louder`, `softer`, or `other drum`.

    It is at `at_beats`, by an `amount` in ms, dB or velocity, in words; `weight` says how much it is heard; `one` and `other` are the hits.
    """

    kind: str
    at_beats: float
    drum: str
    amount: float
    text: str
    weight: float
    one: Struck | None = None
    other: Struck | None = None


@dataclass(frozen=True)
class Compared:
    """Two patterns compared: differences, the most heard first, and how many hits were found again, with their usual differences."""

    differences: tuple[Difference, ...]
    found: int
    of: int
    timing_ms: float
    loudness_db: float


def struck_in(document: Document) -> list[Struck]:
    """Return the hits of the shown pattern, as they are felt, in order of time."""
    beats = pattern_beats(document)
    made = [Struck(document.pad(hit.pad_id).drum, hit.at_beats, hit.velocity, hit.id) for hit in felt_pattern(document)
            if is_inside(hit.at_beats, beats)]
    return sorted(made, key=lambda one: one.at_beats)


def compared(one: list[Struck], other: list[Struck], *, bpm: float) -> Compared:
    """Return how another pattern differs from one, both in beats of one tempo.

    Hits of a drum within 50 ms are matched one to one, for the least time between them in all (Kuhn, "The Hungarian method", 1955); then
    what is left within reach of another drum.
    """
    beat_ms = 60_000.0 / bpm
    pairs, left, right = [], set(range(len(one))), set(range(len(other)))
    for drum in dict.fromkeys(hit.drum for hit in one):
        mine, theirs = [n for n in left if one[n].drum == drum], [n for n in right if other[n].drum == drum]
        for a, b in _matched(one, other, mine, theirs, beat_ms):
            pairs.append((one[a], other[b]))
            left.discard(a)
            right.discard(b)
    swapped = _matched(one, other, sorted(left), sorted(right), beat_ms)
    found = [_other_drum(one[a], other[b]) for a, b in swapped]
    left, right = left - {a for a, _ in swapped}, right - {b for _, b in swapped}
    found += [_alone("missing", one[n]) for n in left] + [_alone("extra", other[n]) for n in right]
    late = [beat_ms * (b.at_beats - a.at_beats) for a, b in pairs]
    louder = [velocity_to_db(b.velocity) - velocity_to_db(a.velocity) for a, b in pairs]
    for (before, after), late_ms, louder_db in zip(pairs, late, louder, strict=True):
        found += _differences(before, after, late_ms, louder_db)
    timing, loud = (float(np.median(np.abs(values))) if values else 0.0 for values in (late, louder))
    return Compared(tuple(sorted(found, key=lambda d: (-d.weight, d.at_beats))), len(pairs), len(one), round(timing, 3), round(loud, 3))


def _matched(one: list[Struck], other: list[Struck], mine: list[int], theirs: list[int], beat_ms: float) -> list[tuple[int, int]]:
    if not mine or not theirs:
        return []
    from scipy.optimize import linear_sum_assignment  # the window does without SciPy until something is compared

    apart = beat_ms * np.abs(np.array([one[n].at_beats for n in mine])[:, None] - np.array([other[n].at_beats for n in theirs])[None, :])
    rows, columns = linear_sum_assignment(np.where(apart <= 1000.0 * NEAR_S, apart, 1e6))
    return [(mine[r], theirs[c]) for r, c in zip(rows.tolist(), columns.tolist(), strict=True) if apart[r, c] <= 1000.0 * NEAR_S]


def _name(drum: str) -> str:
    return DRUMS[drum].label.lower()


def _heard(hit: Struck) -> float:
    """Return how much a hit is heard, in dB above what is hardly heard."""
    return max(1.0, 40.0 + velocity_to_db(hit.velocity))


def _alone(kind: str, hit: Struck) -> Difference:
    words = f"{_name(hit.drum)} at {hit.velocity} is {'missing' if kind == 'missing' else 'too many'}"
    own, others = (hit, None) if kind == "missing" else (None, hit)
    return Difference(kind, hit.at_beats, hit.drum, float(hit.velocity), words, _heard(hit), own, others)


def _other_drum(a: Struck, b: Struck) -> Difference:
    return Difference("other drum", a.at_beats, a.drum, 0.0, f"{_name(a.drum)} is played by the {_name(b.drum)}", 0.8 * _heard(a), a, b)


def _differences(a: Struck, b: Struck, late_ms: float, louder_db: float) -> list[Difference]:
    made = []
    if abs(late_ms) >= MOVED_MS:
        words = f"{_name(a.drum)} is {abs(late_ms):.0f} ms {'later' if late_ms > 0 else 'earlier'}"
        made.append(Difference("moved", a.at_beats, a.drum, round(late_ms, 2), words, MS_COUNTS * abs(late_ms) * _heard(a) / 40.0, a, b))
    if abs(louder_db) >= LOUDER_DB:
        kind = "louder" if louder_db > 0 else "softer"
        words = f"{_name(a.drum)} is {abs(louder_db):.1f} dB {kind} ({a.velocity} to {b.velocity})"
        made.append(Difference(kind, a.at_beats, a.drum, round(louder_db, 2), words, abs(louder_db) * _heard(a) / 40.0, a, b))
    return made
