"""A pattern as a drummer reads it: bars, two voices, note values; performed detail is left to MIDI."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise
from statistics import median

from bompla.groove.feel import felt_pattern
from bompla.groove.grid import THIRDS, beat_divisions
from bompla.model.detected_pattern import is_inside, pattern_bars, pattern_meter
from bompla.model.document import Document, Hit
from bompla.model.drums import DRUMS, Meter

FLAM_S = 0.06
GHOST_SHARE, ACCENT_SHARE = 0.55, 1.2
LOUD_FROM = 60
"""Below GHOST_SHARE of a drum's usual force a hit is a ghost, above ACCENT_SHARE an accent; drums that never get loud have no ghosts."""

LEAST_SWUNG, SWUNG_FROM, SWING_SPREAD = 4, 55.0, 4.0
HANDS, FEET = "hands", "feet"


@dataclass(frozen=True)
class Note:
    """A note head: its drum, and whether it is a ghost, an accent or has a grace note ahead of it."""

    drum: str
    ghost: bool = False
    accent: bool = False
    flam: bool = False


@dataclass(frozen=True)
class Chord:
    """What one voice plays at a step of a beat, for so many of its steps; no notes are a rest."""

    step: int
    steps: int
    notes: tuple[Note, ...] = ()


@dataclass(frozen=True)
class Beat:
    """A beat of a voice: into how many steps it divides, and its chords and rests in order, filling it."""

    divisions: int
    chords: tuple[Chord, ...]


@dataclass(frozen=True)
class Bar:
    """A bar: the beats of hands and feet; a voice that rests all through has none."""

    hands: tuple[Beat, ...]
    feet: tuple[Beat, ...]


@dataclass(frozen=True)
class Score:
    """A pattern to read. `swing` is where off-beats fall in per cent, 0 where they are straight or do not tell; `swing_of` its level."""

    title: str
    bpm: float
    meter: Meter
    bars: tuple[Bar, ...]
    swing: float = 0.0
    swing_of: str = ""


def score_of(document: Document, title: str = "") -> Score:
    """Return the shown pattern as a score: quantised to sixteenths or, beat by beat, triplets, in 6/8 and 12/8 to sixteenths.

    Of hits that fall on one place each drum is written once; two of a drum within 60 ms are a flam.
    """
    meter = pattern_meter(document)
    beats = pattern_bars(document) * meter.beats_per_bar
    hits = [hit for hit in felt_pattern(document) if is_inside(hit.at_beats, beats)]
    divisions = beat_divisions([hit.at_beats for hit in hits], beats, compound=meter.compound).tolist()
    divisions = [6 if meter.compound else 2 if meter.beat_quarters < 1.0 else each for each in divisions]
    placed = _placed(document, hits, divisions, beats)
    bars = []
    for first in range(0, beats, meter.beats_per_bar):
        voices = []
        for voice in (HANDS, FEET):
            own = {at: notes for (at, which), notes in placed.items() if which == voice and first <= at[0] < first + meter.beats_per_bar}
            made = tuple(_beat(divisions[beat], {at[1]: notes for at, notes in own.items() if at[0] == beat})
                         for beat in range(first, first + meter.beats_per_bar))
            voices.append(made if own else ())
        bars.append(Bar(voices[0], voices[1]))
    swing, swing_of = (0.0, "") if meter.compound else _swing(hits)
    return Score(title or document.title, document.bpm, meter, tuple(bars), swing, swing_of)


def _placed(
    document: Document, hits: Iterable[Hit], divisions: list[int], beats: int
) -> dict[tuple[tuple[int, int], str], tuple[Note, ...]]:
    """Return the notes at each (beat, step) of each voice."""
    drums = {pad.id: pad.drum for pad in document.pads}
    by_drum: dict[str, list[Hit]] = {}
    for hit in hits:
        by_drum.setdefault(drums[hit.pad_id], []).append(hit)
    found: dict[tuple[tuple[int, int], str], dict[str, Note]] = {}
    flam_beats = FLAM_S * document.bpm / 60.0
    for drum, own in by_drum.items():
        ordered = sorted(own, key=lambda hit: hit.at_beats)
        usual = median(hit.velocity for hit in ordered)
        loud = max(hit.velocity for hit in ordered)
        usual = median([hit.velocity for hit in ordered if hit.velocity >= GHOST_SHARE * loud] or [usual])
        early = {one.id for one, other in pairwise(ordered) if other.at_beats - one.at_beats < flam_beats}
        for before, hit in zip([None, *ordered[:-1]], ordered, strict=True):
            if hit.id in early:
                continue
            at = _step(hit.at_beats, divisions, beats)
            ghost = loud >= LOUD_FROM and hit.velocity < GHOST_SHARE * usual
            note = Note(drum, ghost, not ghost and hit.velocity > ACCENT_SHARE * usual, before is not None and before.id in early)
            voice = FEET if DRUMS[drum].foot else HANDS
            notes = found.setdefault((at, voice), {})
            notes[drum] = notes.get(drum, note)
    order = list(DRUMS)
    return {key: tuple(sorted(notes.values(), key=lambda note: order.index(note.drum))) for key, notes in found.items()}


def _step(at_beats: float, divisions: list[int], beats: int) -> tuple[int, int]:
    """Return the beat and step of it that a time is nearest to, none past the end."""
    beat = min(beats - 1, max(0, int(at_beats + 0.1)))
    step = max(0, round((at_beats - beat) * divisions[beat]))
    if step < divisions[beat]:
        return beat, step
    return (beat + 1, 0) if beat + 1 < beats else (beat, divisions[beat] - 1)


def _beat(divisions: int, notes: dict[int, tuple[Note, ...]]) -> Beat:
    """Return a beat: each chord lasts until the next of its voice or the beat's end; before the first there is a rest."""
    steps = sorted(notes)
    if not steps:
        return Beat(divisions, (Chord(0, divisions),))
    made = [Chord(0, steps[0])] if steps[0] else []
    made += [Chord(at, until - at, notes[at]) for at, until in pairwise([*steps, divisions])]
    return Beat(divisions, tuple(made))


def _swing(hits: Iterable[Hit]) -> tuple[float, str]:
    """Return where the second of each pair of eighths or sixteenths falls, in per cent, and which; nothing where that is not one place."""
    times = [hit.at_beats for hit in hits]
    for length, words in ((1.0, "eighths"), (0.5, "sixteenths")):
        within = [100.0 * ((at % length) / length) for at in times]
        late = sorted(place for place in within if 40.0 < place < 75.0)
        if len(late) >= LEAST_SWUNG and all(place >= 52.0 for place in late[len(late) // 8 :]):
            middle = median(late)
            if middle >= SWUNG_FROM and median(abs(place - middle) for place in late) <= SWING_SPREAD:
                return middle, words
    return 0.0, ""


def is_triplet(beat: Beat, meter: Meter) -> bool:
    """Whether a beat is written as a triplet."""
    return beat.divisions == THIRDS and not meter.compound
