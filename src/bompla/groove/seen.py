"""A pattern as Study reads it: its hits in order with their drums, steps and true times; and what a fact is."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bompla.groove.feel import felt_pattern
from bompla.groove.grid import EARLY_BEATS, beat_divisions
from bompla.model.detected_pattern import pattern_bars, pattern_meter, pattern_of
from bompla.model.document import Document, Hit
from bompla.model.drums import DRUMS, Family, Meter

FEWEST = 4
"""So many hits are needed to say anything of a drum's timing or force."""

SAME_PLACES = 5
"""A hit is that of a slice where their beats are the same to so many decimals."""

HIGH = (Family.HATS, Family.CYMBALS, Family.EXTRAS)
STEPS = 12
"""Steps a beat is read in: a multiple of 3 and 4."""

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Fact:
    """One thing that is so: its key, value, unit and spread, what it is about, the hits that carry it, and a sentence, empty for none."""

    key: str
    value: float
    unit: str = ""
    spread: float = 0.0
    text: str = ""
    about: dict[str, str] = field(default_factory=dict)
    hit_ids: tuple[int, ...] = ()


@dataclass(frozen=True, eq=False)
class Seen:
    """A pattern as it is read: hits in order, with their drums, beats, forces, and the step of the grid each belongs to.

    Those that are not `timed` have the time of another drum that they fall together with. `confidence` is how sure it is that a hit was
    heard, 1 for those drawn.
    """

    hits: tuple[Hit, ...]
    drums: tuple[str, ...]
    at: Floats
    force: Floats
    step: NDArray[np.int64]
    meter: Meter
    beats: int
    beat_ms: float
    timed: NDArray[np.bool_]
    confidence: Floats

    def of(self, *drums: str) -> NDArray[np.bool_]:
        """Return which hits are of some drums."""
        return np.array([drum in drums for drum in self.drums], dtype=bool)

    def timed_of(self, drum: str) -> NDArray[np.bool_]:
        """Return the hits of a drum, or of all, whose times are their own; all of it where too few are."""
        every = np.ones(self.at.size, dtype=bool) if drum == "all" else self.of(drum)
        own = every & self.timed
        return own if np.count_nonzero(own) >= FEWEST else every

    def families(self, *families: Family) -> NDArray[np.bool_]:
        """Return which hits are of drums of some families."""
        return np.array([DRUMS[drum].family in families for drum in self.drums], dtype=bool)

    def ids(self, chosen: NDArray[np.bool_]) -> tuple[int, ...]:
        """Return the ids of some hits."""
        return tuple(hit.id for hit, there in zip(self.hits, chosen.tolist(), strict=True) if there)


def seen_in(document: Document) -> Seen:
    """Return the shown pattern as it is read.

    Where what was heard says that a drum of a slice begins after its attack, so does its hit, as long as that was not moved.
    """
    meter = pattern_meter(document)
    beats = pattern_bars(document) * meter.beats_per_bar
    beat_ms = 60_000.0 / document.bpm
    late, shared, sure = _within_slices(document, beat_ms)
    hits = tuple(sorted((h for h in felt_pattern(document) if -EARLY_BEATS < h.at_beats < beats),
                        key=lambda h: h.at_beats + late.get(h.id, 0.0)))
    at = np.array([hit.at_beats + late.get(hit.id, 0.0) for hit in hits], dtype=np.float64)
    divisions = beat_divisions([hit.at_beats for hit in hits], beats, compound=meter.compound)
    beat = np.clip(np.floor(at + EARLY_BEATS).astype(np.int64), 0, beats - 1)
    own = divisions[beat] if at.size else np.zeros(0, np.int64)
    step = np.round(np.round(at * own) / np.maximum(own, 1) * STEPS).astype(np.int64)
    return Seen(hits, tuple(document.pad(hit.pad_id).drum for hit in hits), at, np.array([float(h.velocity) for h in hits]),
                np.clip(step, 0, beats * STEPS - 1), meter, beats, beat_ms, np.array([hit.id not in shared for hit in hits], dtype=bool),
                np.array([sure.get(hit.id, 1.0) for hit in hits]))


def _within_slices(document: Document, beat_ms: float) -> tuple[dict[int, float], set[int], dict[int, float]]:
    """Return by hit how many beats after its slice's attack it was heard to begin; hits whose own time is not known; and confidences.

    A hat that falls with a kick or a snare has the time of what came first, its own or the other's.
    """
    inside = [cut for cut in document.cuts if not cut.left_out and cut.heard]
    places = document.beat_map.beats_at([cut.attack_sample for cut in inside]).tolist() if inside else []
    by_place = {(round(place, SAME_PLACES), heard.drum): (heard, cut) for place, cut in zip(places, inside, strict=True)
                for heard in cut.heard if heard.sure}
    late, shared, sure = {}, set(), {}
    for hit in pattern_of(document).hits:
        drum = document.pad(hit.pad_id).drum
        found = by_place.get((round(hit.at_beats, SAME_PLACES), drum))
        if found is None:
            continue
        heard, cut = found
        late[hit.id] = heard.late_ms / beat_ms
        sure[hit.id] = heard.confidence
        if DRUMS[drum].family in HIGH and any(h.sure and DRUMS[h.drum].family not in HIGH for h in cut.heard):
            shared.add(hit.id)
    return late, shared, sure


def syllable(step: int, meter: Meter) -> str:
    """Return a step of a bar as it is counted: “2”, “2e”, “2&”, “2a”, for thirds “2 trip” and “2 let”, or what it is next to."""
    beat, within = step // STEPS, step % STEPS
    named = {0: "", 4: " trip", 8: " let"} if meter.compound else {0: "", 3: "e", 6: "&", 9: "a", 4: " trip", 8: " let"}
    if within in named:
        return f"{beat + 1}{named[within]}"
    nearest = min((*named, STEPS), key=lambda known: abs(known - within))
    place = f"{(beat + 1) % meter.beats_per_bar + 1}" if nearest == STEPS else f"{beat + 1}{named[nearest]}"
    return f"just {'after' if within > nearest else 'before'} {place}"
