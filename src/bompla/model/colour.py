"""The sound treatment of the whole kit: its values, the table of them, and a few settings to start from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import msgspec
from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.document import Colour, Document, Treatment
from bompla.model.params import Param, table

MOST_TUNE = 12.0


@dataclass(frozen=True)
class TreatmentFacts:
    """A treatment: its name, what it does, and its numbers."""

    label: str
    help: str
    params: dict[str, Param]

    @property
    def usual(self) -> dict[str, float]:
        """The values it begins with."""
        return {key: param.default for key, param in self.params.items()}


ALL_PADS = "How much of every pad goes into it; each pad has its own share besides"

TREATMENTS: dict[str, TreatmentFacts] = {
    "tone": TreatmentFacts("Tone", "Lifts or lowers lows, mids and highs", table((
        Param("low_db", "Low", "dB", -15.0, 15.0, "Below 200 Hz", default=0.0),
        Param("mid_db", "Mid", "dB", -15.0, 15.0, "About 1 kHz", default=0.0),
        Param("high_db", "High", "dB", -15.0, 15.0, "Above 5 kHz", default=0.0),
    ))),
    "drive": TreatmentFacts("Drive", "Overdrives the sum, as a hot input does", table((
        Param("drive_db", "Amount", "dB", 0.0, 30.0, "How hot", default=8.0),
    ))),
    "squeeze": TreatmentFacts("Squeeze", "Brings loud and soft nearer together", table((
        Param("amount", "Amount", "share", 0.0, 1.0, "How much", default=0.4),
        Param("release_ms", "Release", "ms", 20.0, 600.0, "How long it takes to let go", by_ratio=True, default=120.0),
        Param("kick_share", "Kick counts", "share", 0.0, 1.0, "How much the kick pushes the rest down", default=1.0),
    ))),
    "grit": TreatmentFacts("Grit", "Fewer bits and a lower rate", table((
        Param("bits", "Bits", "bit", 3.0, 16.0, "Bits a sample", default=10.0),
        Param("rate_hz", "Rate", "Hz", 2_000.0, 48_000.0, "Samples a second", by_ratio=True, default=22_050.0),
    ))),
    "wobble": TreatmentFacts("Wobble", "Lets the pitch waver, as a worn tape does", table((
        Param("depth_cents", "Depth", "ct", 0.0, 60.0, "How far, in hundredths of a semitone", default=10.0),
        Param("speed_hz", "Speed", "Hz", 0.2, 9.0, "How fast", by_ratio=True, default=0.8),
    ))),
    "room": TreatmentFacts("Room", "Puts the kit into a room", table((
        Param("size", "Size", "share", 0.0, 1.0, "From a cupboard to a hall", default=0.35),
        Param("damp", "Damping", "share", 0.0, 1.0, "How soon the highs die away", default=0.5),
        Param("level", "All pads", "share", 0.0, 1.0, ALL_PADS, default=0.2),
    ))),
    "echo": TreatmentFacts("Echo", "Repeats in time with the beat", table((
        Param("beats", "Every", "beats", 0.125, 2.0, "How far apart, in beats", default=0.75),
        Param("again", "Again", "share", 0.0, 0.9, "How much of it comes back once more", default=0.35),
        Param("level", "All pads", "share", 0.0, 1.0, ALL_PADS, default=0.15),
    ))),
    "ceiling": TreatmentFacts("Ceiling", "Holds the peaks down", table((
        Param("ceiling_db", "At", "dB", -24.0, 0.0, "The loudest it gets", default=-1.0),
        Param("release_ms", "Release", "ms", 20.0, 600.0, "How long it takes to let go", by_ratio=True, default=80.0),
    ))),
}

TUNE = Param("tune", "Tune of all", "st", -MOST_TUNE, MOST_TUNE, "All pads higher or lower, as a faster or slower tape")
DRY = Param("dry", "Dry", "share", 0.0, 1.0, "How much of the kit without colour is heard beside it")


def _setting(*chain: tuple[str, dict[str, float]], dry: float = 0.0, tune: float = 0.0) -> Colour:
    return Colour(True, tune, dry, tuple(Treatment(kind, True, values) for kind, values in chain))


def _tone(low_db: float, mid_db: float, high_db: float) -> tuple[str, dict[str, float]]:
    return "tone", {"low_db": low_db, "mid_db": mid_db, "high_db": high_db}


def _squeeze(amount: float, release_ms: float, kick_share: float) -> tuple[str, dict[str, float]]:
    return "squeeze", {"amount": amount, "release_ms": release_ms, "kick_share": kick_share}


def _room(size: float, damp: float, level: float) -> tuple[str, dict[str, float]]:
    return "room", {"size": size, "damp": damp, "level": level}


def _drive(drive_db: float) -> tuple[str, dict[str, float]]:
    return "drive", {"drive_db": drive_db}


def _ceiling(ceiling_db: float, release_ms: float) -> tuple[str, dict[str, float]]:
    return "ceiling", {"ceiling_db": ceiling_db, "release_ms": release_ms}


SETTINGS: dict[str, Colour] = {
    "small room": _setting(_tone(0.0, -1.5, 1.0), _squeeze(0.25, 150.0, 0.5), _room(0.25, 0.55, 0.22), _ceiling(-1.0, 80.0)),
    "worn reel": _setting(
        _drive(7.0), _tone(2.0, 0.0, -5.0), ("wobble", {"depth_cents": 9.0, "speed_hz": 0.6}), _ceiling(-1.5, 120.0), tune=-1.0),
    "old sampler": _setting(
        _tone(3.0, 1.0, 0.0), ("grit", {"bits": 11.0, "rate_hz": 18_000.0}), _drive(4.0), _ceiling(-1.0, 80.0)),
    "hard and near": _setting(_squeeze(0.8, 60.0, 0.2), _tone(2.5, -2.0, 3.0), _drive(6.0), _ceiling(-3.0, 50.0), dry=0.25),
    "far corner": _setting(
        _tone(-6.0, 0.0, -3.0), ("echo", {"beats": 0.75, "again": 0.45, "level": 0.2}), _room(0.8, 0.4, 0.45), _ceiling(-1.0, 150.0)),
}


def colour_of(document: Document) -> Colour:
    """Return the colour with every treatment in it; those never touched stand at the end, switched off."""
    known = {treatment.kind for treatment in document.colour.chain}
    rest = tuple(Treatment(kind, False, facts.usual) for kind, facts in TREATMENTS.items() if kind not in known)
    return replace(document.colour, chain=(*document.colour.chain, *rest))


def set_colour(document: Document, colour: Colour) -> Document:
    """Give the kit another colour, every value in its range.

    Raises EditError for a treatment that there is not, or one that is there twice.
    """
    kinds = [treatment.kind for treatment in colour.chain]
    if len(set(kinds)) < len(kinds) or not set(kinds) <= set(TREATMENTS):
        raise EditError("A colour has each treatment once, and only those that there are.")
    chain = tuple(_clamped(treatment) for treatment in colour.chain)
    made = Colour(colour.on, TUNE.clamped(colour.tune), DRY.clamped(colour.dry), chain)
    return document if made == document.colour else replace(document, colour=made)


def set_treatment(document: Document, kind: str, *, on: bool | None = None, values: Mapping[str, float] | None = None) -> Document:
    """Switch a treatment on or off or give some of its values, by key; switching one on switches the colour on."""
    colour = colour_of(document)
    chain = tuple(
        msgspec.structs.replace(t, on=t.on if on is None else on, values={**t.values, **(values or {})}) if t.kind == kind else t
        for t in colour.chain
    )
    return set_colour(document, replace(colour, chain=chain, on=colour.on or bool(on)))


def move_treatment(document: Document, kind: str, place: int) -> Document:
    """Move a treatment to a place in the chain, counted from 0."""
    chain = list(colour_of(document).chain)
    moved = next(treatment for treatment in chain if treatment.kind == kind)
    chain.remove(moved)
    chain.insert(max(0, min(len(chain), place)), moved)
    return set_colour(document, replace(document.colour, chain=tuple(chain)))


def _clamped(treatment: Treatment) -> Treatment:
    """Return a treatment with all of its values, each in its range, and no others."""
    params = TREATMENTS[treatment.kind].params
    return replace(treatment, values={key: param.clamped(treatment.values.get(key, param.default)) for key, param in params.items()})
