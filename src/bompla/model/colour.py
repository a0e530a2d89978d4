"""The sound treatment of the whole kit: its values, the table of them, and a few settings to start from."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec
from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.document import Colour, Document, Treatment
from bompla.model.shape import ShapeParam

MOST_TUNE = 12.0


@dataclass(frozen=True)
class ColourParam(ShapeParam):
    """A number of a treatment, and what it is when the treatment is first switched on."""

    usual: float = 0.0

    @property
    def default(self) -> float:
        """The value that a double click brings back."""
        return self.usual


@dataclass(frozen=True)
class TreatmentFacts:
    """A treatment: its name, what it does, and its numbers in order."""

    label: str
    help: str
    params: tuple[ColourParam, ...]

    @property
    def usual(self) -> tuple[float, ...]:
        """The values it begins with."""
        return tuple(param.usual for param in self.params)


ALL_PADS = "How much of every pad goes into it; each pad has its own share besides"

TREATMENTS: dict[str, TreatmentFacts] = {
    "tone": TreatmentFacts("Tone", "Lifts or lowers lows, mids and highs", (
        ColourParam("low_db", "Low", "dB", -15.0, 15.0, "Below 200 Hz", usual=0.0),
        ColourParam("mid_db", "Mid", "dB", -15.0, 15.0, "About 1 kHz", usual=0.0),
        ColourParam("high_db", "High", "dB", -15.0, 15.0, "Above 5 kHz", usual=0.0),
    )),
    "drive": TreatmentFacts("Drive", "Overdrives the sum, as a hot input does", (
        ColourParam("drive_db", "Amount", "dB", 0.0, 30.0, "How hot", usual=8.0),
    )),
    "squeeze": TreatmentFacts("Squeeze", "Brings loud and soft nearer together", (
        ColourParam("amount", "Amount", "", 0.0, 1.0, "How much", usual=0.4),
        ColourParam("release_ms", "Release", "ms", 20.0, 600.0, "How long it takes to let go", by_ratio=True, usual=120.0),
        ColourParam("kick_share", "Kick counts", "", 0.0, 1.0, "How much the kick pushes the rest down", usual=1.0),
    )),
    "grit": TreatmentFacts("Grit", "Fewer bits and a lower rate", (
        ColourParam("bits", "Bits", "bit", 3.0, 16.0, "Bits a sample", usual=10.0),
        ColourParam("rate_hz", "Rate", "Hz", 2_000.0, 48_000.0, "Samples a second", by_ratio=True, usual=22_050.0),
    )),
    "wobble": TreatmentFacts("Wobble", "Lets the pitch waver, as a worn tape does", (
        ColourParam("depth_cents", "Depth", "ct", 0.0, 60.0, "How far, in hundredths of a semitone", usual=10.0),
        ColourParam("speed_hz", "Speed", "Hz", 0.2, 9.0, "How fast", by_ratio=True, usual=0.8),
    )),
    "room": TreatmentFacts("Room", "Puts the kit into a room", (
        ColourParam("size", "Size", "", 0.0, 1.0, "From a cupboard to a hall", usual=0.35),
        ColourParam("damp", "Damping", "", 0.0, 1.0, "How soon the highs die away", usual=0.5),
        ColourParam("level", "All pads", "", 0.0, 1.0, ALL_PADS, usual=0.2),
    )),
    "echo": TreatmentFacts("Echo", "Repeats in time with the beat", (
        ColourParam("beats", "Every", "beats", 0.125, 2.0, "How far apart, in beats", usual=0.75),
        ColourParam("again", "Again", "", 0.0, 0.9, "How much of it comes back once more", usual=0.35),
        ColourParam("level", "All pads", "", 0.0, 1.0, ALL_PADS, usual=0.15),
    )),
    "ceiling": TreatmentFacts("Ceiling", "Holds the peaks down", (
        ColourParam("ceiling_db", "At", "dB", -24.0, 0.0, "The loudest it gets", usual=-1.0),
        ColourParam("release_ms", "Release", "ms", 20.0, 600.0, "How long it takes to let go", by_ratio=True, usual=80.0),
    )),
}

TUNE = ColourParam("tune", "Tune of all", "st", -MOST_TUNE, MOST_TUNE, "All pads higher or lower, as a faster or slower tape")
DRY = ColourParam("dry", "Dry", "", 0.0, 1.0, "How much of the kit without colour is heard beside it")


def _setting(*chain: tuple[str, tuple[float, ...]], dry: float = 0.0, tune: float = 0.0) -> Colour:
    return Colour(True, tune, dry, tuple(Treatment(kind, True, values) for kind, values in chain))


SETTINGS: dict[str, Colour] = {
    "small room": _setting(
        ("tone", (0.0, -1.5, 1.0)), ("squeeze", (0.25, 150.0, 0.5)), ("room", (0.25, 0.55, 0.22)), ("ceiling", (-1.0, 80.0))),
    "worn reel": _setting(("drive", (7.0,)), ("tone", (2.0, 0.0, -5.0)), ("wobble", (9.0, 0.6)), ("ceiling", (-1.5, 120.0)), tune=-1.0),
    "old sampler": _setting(("tone", (3.0, 1.0, 0.0)), ("grit", (11.0, 18_000.0)), ("drive", (4.0,)), ("ceiling", (-1.0, 80.0))),
    "hard and near": _setting(
        ("squeeze", (0.8, 60.0, 0.2)), ("tone", (2.5, -2.0, 3.0)), ("drive", (6.0,)), ("ceiling", (-3.0, 50.0)), dry=0.25),
    "far corner": _setting(
        ("tone", (-6.0, 0.0, -3.0)), ("echo", (0.75, 0.45, 0.2)), ("room", (0.8, 0.4, 0.45)), ("ceiling", (-1.0, 150.0))),
}


def colour_of(document: Document) -> Colour:
    """Return the colour with every treatment in it; those never touched stand at the end, switched off."""
    known = {treatment.kind for treatment in document.colour.chain}
    rest = tuple(Treatment(kind, False, facts.usual) for kind, facts in TREATMENTS.items() if kind not in known)
    return replace(document.colour, chain=(*document.colour.chain, *rest))


def set_colour(document: Document, colour: Colour) -> Document:
    """Give the kit another colour, every value held to its range.

    Raises EditError for a treatment that there is not, or one that is there twice.
    """
    kinds = [treatment.kind for treatment in colour.chain]
    if len(set(kinds)) < len(kinds) or not set(kinds) <= set(TREATMENTS):
        raise EditError("A colour has each treatment once, and only those that there are.")
    chain = tuple(_held(treatment) for treatment in colour.chain)
    made = Colour(colour.on, _within(TUNE, colour.tune), _within(DRY, colour.dry), chain)
    return document if made == document.colour else replace(document, colour=made)


def set_treatment(document: Document, kind: str, *, on: bool | None = None, values: tuple[float, ...] | None = None) -> Document:
    """Switch a treatment on or off or give it other values; switching one on switches the colour on."""
    colour = colour_of(document)
    chain = tuple(
        msgspec.structs.replace(t, on=t.on if on is None else on, values=t.values if values is None else values) if t.kind == kind else t
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


def _held(treatment: Treatment) -> Treatment:
    params = TREATMENTS[treatment.kind].params
    values = treatment.values if len(treatment.values) == len(params) else TREATMENTS[treatment.kind].usual
    return replace(treatment, values=tuple(_within(p, v) for p, v in zip(params, values, strict=True)))


def _within(param: ColourParam, value: float) -> float:
    return round(max(param.low, min(param.high, float(value))), 4)
