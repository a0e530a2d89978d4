"""What hands and feet do: who plays what, how quick they have to be, flams and rolls."""

from __future__ import annotations

from collections import Counter
from itertools import pairwise

import numpy as np

from bompla.groove.read_drums import GHOST_SHARE
from bompla.groove.seen import FEWEST, STEPS, Fact, Seen, syllable
from bompla.groove.sticking import LEFT, PLACES_M, RIGHT, Stroke, sticking
from bompla.model.drums import DRUMS, Family
from bompla.model.wording import counted

FLAM_MS = 45.0
ROLL_MS, FEWEST_IN_ROLL, EVEN = 135.0, 4, 0.25
"""A roll is so many strokes of a drum so near together, each gap within so much of the middle one."""

QUICK_FOOT_MS = 260.0
"""Two strokes of a kick nearer together are worth a word."""

ONE_FOOT_MS = 110.0
"""One foot on one pedal hardly comes again sooner."""

SOLE, SHARED = 0.9, 0.2
"""A hand has a drum to itself from that share on; both play it where each has this."""

FASTEST_HAND_S = 1.0 / 9.0


def facts_of_hands(seen: Seen) -> list[Fact]:
    """Return what hands and feet do."""
    return [*_hands(seen), *_feet(seen), *_flams(seen), *_rolls(seen)]


def sticking_of(seen: Seen) -> dict[int, str]:
    """Return which hand plays each hit of a pattern."""
    loud = {drum: float(np.percentile(seen.force[seen.of(drum)], 90)) for drum in dict.fromkeys(seen.drums)}
    strokes = [Stroke(hit.id, drum, at * seen.beat_ms / 1_000.0, force < GHOST_SHARE * loud[drum], step % STEPS == 0)
               for hit, drum, at, force, step in zip(seen.hits, seen.drums, seen.at.tolist(), seen.force.tolist(), seen.step.tolist(),
                                                     strict=True)]
    return sticking(strokes, seen.beats * seen.beat_ms / 1_000.0)


def _hands(seen: Seen) -> list[Fact]:
    """Return which hand keeps time and which plays the snare, or that they take turns."""
    hands = sticking_of(seen)
    if len(hands) < 2 * FEWEST:
        return []
    by_drum: dict[str, Counter[str]] = {}
    for hit, drum in zip(seen.hits, seen.drums, strict=True):
        if hit.id in hands:
            by_drum.setdefault(drum, Counter())[hands[hit.id]] += 1
    keepers = [drum for drum in by_drum if DRUMS[drum].family in (Family.HATS, Family.CYMBALS) and not DRUMS[drum].for_once]
    keeper = max(keepers, key=lambda drum: by_drum[drum].total(), default="")
    right = sum(count[RIGHT] for count in by_drum.values()) / max(1, len(hands))
    ids = tuple(hit.id for hit, drum in zip(seen.hits, seen.drums, strict=True) if hit.id in hands and drum in (keeper, "snare"))
    text = ""
    if keeper and by_drum[keeper].total() >= 2 * FEWEST:
        count = by_drum[keeper]
        name = DRUMS[keeper].label.lower()
        snare = by_drum.get("snare", Counter())
        rate = _strokes_a_second(seen, keeper)
        if count[RIGHT] >= SOLE * count.total() and snare.total() >= FEWEST and snare[LEFT] >= SOLE * snare.total():
            text = f"One hand keeps the {name}, the other plays the snare."
        elif min(count[RIGHT], count[LEFT]) >= SHARED * count.total() and rate > FASTEST_HAND_S**-1:
            text = f"Both hands share the {name}: it comes {rate:.0f} times a second, more than one hand plays."
    return [Fact("hands", round(right, 3), "share of the right", text=text, about={"drum": keeper}, hit_ids=ids)]


def _strokes_a_second(seen: Seen, drum: str) -> float:
    """Return how fast a drum is struck as a rule."""
    gaps = np.diff(seen.at[seen.of(drum)]) * seen.beat_ms / 1_000.0
    return float(1.0 / max(1e-3, float(np.median(gaps)))) if gaps.size else 0.0


def _feet(seen: Seen) -> list[Fact]:
    """Return how near together the quickest two strokes of the kick are."""
    kicks = seen.of("kick")
    if np.count_nonzero(kicks) < 2:
        return []
    gaps = np.diff(seen.at[kicks]) * seen.beat_ms
    apart = np.where(gaps > FLAM_MS, gaps, np.inf)
    first = int(np.argmin(apart))
    if not np.isfinite(apart[first]):
        return []
    per_bar = seen.meter.beats_per_bar * STEPS
    ids, steps = seen.ids(kicks), seen.step[kicks]
    one, other = (syllable(int(steps[n]) % per_bar, seen.meter) for n in (first, first + 1))
    text = ""
    if apart[first] < QUICK_FOOT_MS and one != other:
        hard = "; one foot hardly does that" if apart[first] < ONE_FOOT_MS else ""
        text = f"The quickest the foot has to be is {one} to {other}: {apart[first]:.0f} ms{hard}."
    return [Fact("feet", round(float(apart[first]), 1), "ms", text=text, about={"drum": "kick"}, hit_ids=ids[first : first + 2])]


def _flams(seen: Seen) -> list[Fact]:
    """Return flams, by drum."""
    made = []
    for drum in dict.fromkeys(seen.drums):
        own = seen.of(drum)
        ids, at, steps = seen.ids(own), seen.at[own], seen.step[own]
        close = [n for n in range(len(ids) - 1) if 4.0 < (at[n + 1] - at[n]) * seen.beat_ms < FLAM_MS]
        if close and drum in PLACES_M:
            per_bar = seen.meter.beats_per_bar * STEPS
            where = list(dict.fromkeys(syllable(int(steps[n + 1]) % per_bar, seen.meter) for n in close))
            text = f"{counted(len(close), 'flam')} on the {DRUMS[drum].label.lower()}, at {', '.join(where)}." if len(where) <= 4 else ""
            made.append(Fact("flams", float(len(close)), "flams", text=text, about={"drum": drum},
                             hit_ids=tuple(ids[k] for n in close for k in (n, n + 1))))
    return made


def _rolls(seen: Seen) -> list[Fact]:
    """Return runs of even, quick strokes of a drum."""
    made = []
    for drum in dict.fromkeys(seen.drums):
        own = seen.of(drum)
        if drum not in PLACES_M or DRUMS[drum].family in (Family.HATS, Family.CYMBALS):
            continue
        ids, at = seen.ids(own), (seen.at[own] * seen.beat_ms).tolist()
        quick = [FLAM_MS < late - early < ROLL_MS for early, late in pairwise(at)]
        start = 0
        for n, is_quick in enumerate([*quick, False]):
            if is_quick:
                continue
            run = at[start : n + 1]
            gaps = np.diff(run)
            if len(run) >= FEWEST_IN_ROLL and float(np.abs(gaps / np.median(gaps) - 1.0).max()) < EVEN:
                bar, beat = divmod(max(0, int(run[0] / seen.beat_ms + 0.1)), seen.meter.beats_per_bar)
                a_second = 1_000.0 / float(np.median(gaps))
                text = f"A roll of {len(run)} on the {DRUMS[drum].label.lower()} from {bar + 1}.{beat + 1}, {a_second:.0f} a second."
                made.append(Fact("roll", float(len(run)), "strokes", text=text, about={"drum": drum}, hit_ids=ids[start : n + 1]))
            start = n + 1
    return made
