"""What stands in the tables: for each kind its columns, how a cell reads and sorts, what typing into it does, and what is selected."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from bompla.app.project.session import Session
from bompla.errors import EditError
from bompla.model.cut_edits import rename_slice
from bompla.model.detected_pattern import hits_inside, pattern_meter
from bompla.model.document import Document, Hit, Pad, Slice
from bompla.model.drums import DRUMS
from bompla.model.kit_edits import MAX_LEVEL_DB, MIN_LEVEL_DB, rename_pad, set_pad_level, set_pad_note
from bompla.model.pattern_edits import move_hits, set_velocity
from bompla.model.wording import position
from bompla.units import note_name, samples_to_ms

Edit = Callable[[Document, Any, str], Document]


@dataclass(frozen=True)
class Column:
    """A column: its heading, how a row reads in it, what it sorts by, and the edit that typing into it is, where it is one."""

    heading: str
    text: Callable[[Document, Any], str]
    order: Callable[[Document, Any], Any]
    edit: Edit | None = None


@dataclass(frozen=True)
class Listing:
    """A table: its title, columns, its rows in a document, the id of a row, and how what is selected is taken and set."""

    title: str
    columns: tuple[Column, ...]
    rows: Callable[[Document], Sequence[Any]]
    id_of: Callable[[Any], int]
    selected: Callable[[Session], frozenset[int]]
    select: Callable[[Session, Sequence[int]], None]


def _number(text: str, low: float, high: float, what: str) -> float:
    """Return what was typed as a number; raises EditError with what may be typed."""
    try:
        value = float(text.strip().replace(",", ".").split()[0])
    except (ValueError, IndexError) as error:
        raise EditError(f"{what} is a number from {low:g} to {high:g}.") from error
    if not low <= value <= high:
        raise EditError(f"{what} is from {low:g} to {high:g}; {value:g} is not.")
    return value


def _select_cuts(session: Session, ids: Sequence[int]) -> None:
    if ids:
        session.shown.select(cut_id=ids[0], more_cuts=frozenset(ids[1:]))


def _cuts(session: Session) -> frozenset[int]:
    selection = session.shown.selection
    return selection.more_cuts | {selection.cut_id}


def _heard(piece: Slice) -> str:
    return ", ".join(DRUMS[heard.drum].label for heard in piece.cut.heard if heard.sure) or "–"


def _sure(piece: Slice) -> float:
    return max((heard.confidence for heard in piece.cut.heard), default=0.0)


def _length_ms(document: Document, piece: Slice) -> float:
    return samples_to_ms(piece.end_sample - piece.start_sample, document.source.sample_rate)


def _beat(document: Document, piece: Slice) -> float:
    return document.beat_map.beat_at(piece.cut.attack_sample)


SLICES = Listing(
    "Slices",
    (
        Column("slice", lambda _, piece: str(piece.number), lambda _, piece: piece.number),
        Column("starts", lambda d, piece: position(_beat(d, piece), d.loop.meter), lambda _, piece: piece.start_sample),
        Column("length, ms", lambda d, piece: f"{_length_ms(d, piece):.1f}", _length_ms),
        Column("detected", lambda _, piece: _heard(piece), lambda _, piece: _heard(piece)),
        Column("sure, %", lambda _, piece: f"{100 * _sure(piece):.0f}", lambda _, piece: _sure(piece)),
        Column("name", lambda _, piece: piece.cut.name, lambda _, piece: piece.cut.name,
               lambda d, piece, text: rename_slice(d, piece.cut.id, text)),
        Column("cut", lambda _, piece: str(piece.cut.origin), lambda _, piece: piece.cut.origin),
        Column("state", lambda _, piece: ", ".join(
            word for word, on in (("locked", piece.cut.locked), ("left out", piece.cut.left_out)) if on),
            lambda _, piece: (piece.cut.left_out, piece.cut.locked)),
    ),
    lambda document: document.slices(),
    lambda piece: piece.cut.id,
    _cuts,
    _select_cuts,
)


def _pad_name(document: Document, hit: Hit) -> str:
    return document.pad(hit.pad_id).name


def _move_to(document: Document, hit: Hit, text: str) -> Document:
    """Move a hit to a place typed as bar, beat and hundredths, or as beats."""
    per_bar = pattern_meter(document).beats_per_bar
    parts = text.strip().split(".")
    try:
        if len(parts) == 3:
            at = (int(parts[0]) - 1) * per_bar + int(parts[1]) - 1 + int(parts[2]) / 100.0
        else:
            at = float(text.strip().replace(",", ".")) - 1.0
    except ValueError as error:
        raise EditError("A place is bar, beat and hundredths, such as 2.3.50, or a beat, such as 7.5.") from error
    return move_hits(document, [hit.id], at - hit.at_beats, early=True)


HITS = Listing(
    "Hits",
    (
        Column("place", lambda d, hit: position(hit.at_beats, pattern_meter(d)), lambda _, hit: hit.at_beats, _move_to),
        Column("pad", _pad_name, _pad_name),
        Column("velocity", lambda _, hit: str(hit.velocity), lambda _, hit: hit.velocity,
               lambda d, hit, text: set_velocity(d, [hit.id], round(_number(text, 1, 127, "A velocity")))),
        Column("length, beats", lambda _, hit: f"{hit.length_beats:.2f}" if hit.length_beats else "rings", lambda _, hit: hit.length_beats),
        Column("pitch, st", lambda _, hit: f"{hit.pitch:+g}" if hit.pitch else "–", lambda _, hit: hit.pitch),
        Column("chance, %", lambda _, hit: f"{100 * hit.chance:.0f}", lambda _, hit: hit.chance),
    ),
    hits_inside,
    lambda hit: hit.id,
    lambda session: session.shown.selection.hit_ids,
    lambda session, ids: session.shown.select(hit_ids=frozenset(ids)),
)


def _layers(pad: Pad) -> str:
    return f"{len(pad.layers)}" + (f", {pad.shared_how}" if len(pad.layers) > 1 else "")


def _hits_of(document: Document, pad: Pad) -> int:
    return sum(hit.pad_id == pad.id for hit in hits_inside(document))


PADS = Listing(
    "Pads",
    (
        Column("pad", lambda _, pad: str(pad.slot + 1), lambda _, pad: pad.slot),
        Column("name", lambda _, pad: pad.name, lambda _, pad: pad.name, lambda d, pad, text: rename_pad(d, pad.id, text)),
        Column("drum", lambda _, pad: DRUMS[pad.drum].label, lambda _, pad: list(DRUMS).index(pad.drum)),
        Column("note", lambda _, pad: f"{pad.note} · {note_name(pad.note)}", lambda _, pad: pad.note,
               lambda d, pad, text: set_pad_note(d, pad.id, round(_number(text, 0, 127, "A note")))),
        Column("level, dB", lambda _, pad: f"{pad.level_db:+.1f}", lambda _, pad: pad.level_db,
               lambda d, pad, text: set_pad_level(d, pad.id, _number(text, MIN_LEVEL_DB, MAX_LEVEL_DB, "A level"))),
        Column("layers", lambda _, pad: _layers(pad), lambda _, pad: len(pad.layers)),
        Column("hits", lambda d, pad: str(_hits_of(d, pad)), _hits_of),
    ),
    lambda document: document.pads,
    lambda pad: pad.id,
    lambda session: frozenset({session.shown.selection.pad_id}),
    lambda session, ids: session.shown.select(pad_id=ids[0]) if ids else None,
)

LISTINGS = {"slice": SLICES, "kit": PADS, "groove": HITS}
"""The table of each stage that has one."""
