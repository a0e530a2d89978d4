"""What can be compared: the original, the variations, other sounds of the project, and files of sound or MIDI that were brought in."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from msgspec.structs import replace

from bompla.app.project.session import Session
from bompla.groove.compare import Struck, struck_in
from bompla.groove.pad_table import pad_for_note
from bompla.model.detected_pattern import pattern_beats
from bompla.model.document import Document
from bompla.model.loop import whole_beats

ORIGINAL, SHOWN = "original", "shown"


@dataclass(frozen=True)
class Side:
    """One side of a comparison: its key, its name, its hits, and how many beats long it is."""

    key: str
    name: str
    struck: tuple[Struck, ...]
    beats: float


@dataclass(frozen=True, eq=False)
class ShownSide:
    """A side that is the shown pattern of a document: its hits are looked for where they are needed, off the interface thread."""

    key: str
    name: str
    document: Document

    def found(self) -> Side:
        """Return the side with its hits."""
        return Side(self.key, self.name, tuple(struck_in(self.document)), pattern_beats(self.document))


def sides_of(session: Session, brought: Sequence[Side]) -> list[tuple[str, str]]:
    """Return what can be compared now, as (key, name)."""
    document = session.store.document
    if document is None:
        return []
    found = [(ORIGINAL, "the original"), (SHOWN, "this pattern")]
    found += [(f"variation {one.letter}", f"{one.letter} {one.name}".strip()) for n, one in enumerate(document.variations)
              if n != document.shown]
    found += [(f"sound {n}", sound.history.document.title) for n, sound in enumerate(session.project.sounds)
              if n != session.project.current]
    return found + [(side.key, side.name) for side in brought]


def side_of(session: Session, document: Document, key: str, brought: Iterable[Side]) -> Side | ShownSide:
    """Return a side by its key; this pattern where there is none of it any more."""
    for side in brought:
        if side.key == key:
            return side
    kind, _, which = key.partition(" ")
    shown = document
    if key == ORIGINAL:
        shown = replace(document, shown=-1)
    elif kind == "variation":
        index = next((n for n, one in enumerate(document.variations) if one.letter == which), document.shown)
        shown = replace(document, shown=index)
    elif kind == "sound" and int(which) < len(session.project.sounds):
        shown = session.project.sounds[int(which)].history.document
    name = dict(sides_of(session, ())).get(key, "this pattern")
    return ShownSide(key, name, shown)


def midi_side(document: Document, name: str, notes: Iterable[tuple[float, int, int]], beats: float) -> Side:
    """Return a MIDI file's notes as a side, by the pads that they play; notes of no pad are left out."""
    struck = []
    for at_beats, note, velocity in notes:
        pad = pad_for_note(document.pads, note)
        if pad is not None:
            struck.append(Struck(pad[0].drum, max(0.0, at_beats), velocity))
    return Side(f"file {name}", name, tuple(sorted(struck, key=lambda one: one.at_beats)), max(1.0, beats))


def repeated(side: Side, beats: float) -> list[Struck]:
    """Return the hits of a side over so many beats: repeated where it is shorter, cut where it is longer."""
    made = []
    for turn in range(whole_beats(beats / max(1.0, side.beats))):
        for one in side.struck:
            at = one.at_beats + turn * side.beats
            if at < beats and one.at_beats < side.beats:
                made.append(Struck(one.drum, at, one.velocity, one.hit_id if turn == 0 else 0))
    return sorted(made, key=lambda one: one.at_beats)
