"""The JSON that leaves the command line, as structures: what other programs may rely on, and the schemas made of them."""

from __future__ import annotations

from typing import Annotated, Any

import msgspec
from msgspec import UNSET, Meta, UnsetType

from bompla.model.drums import DRUMS, METERS

SCHEMA = 2
"""The number in every JSON object; another one where a field changes its meaning or goes."""

Number = Annotated[int, Meta(extra_json_schema={"const": SCHEMA})]
Share = Annotated[float, Meta(ge=0.0, le=1.0)]
Tempo = Annotated[float, Meta(ge=20.0, le=400.0)]
Midi = Annotated[int, Meta(ge=0, le=127)]
Velocity = Annotated[int, Meta(ge=1, le=127)]
Bars = Annotated[float, Meta(gt=0.0)]
DrumKey = Annotated[str, Meta(extra_json_schema={"enum": list(DRUMS)})]
MeterName = Annotated[str, Meta(extra_json_schema={"enum": list(METERS)})]


class HeardSource(msgspec.Struct, kw_only=True):
    """The sound: where it was read, and how much of it there is."""

    path: str
    sample_rate: int
    channels: int
    duration_s: float


class Region(msgspec.Struct, kw_only=True):
    """The loop: where it lies, and how long it is."""

    start_s: float
    end_s: float
    bars: Bars
    beats_per_bar: int
    meter: MeterName


class Candidate(msgspec.Struct, kw_only=True):
    """A way to read the tempo."""

    bpm: Tempo
    score: float
    bars: Bars
    meter: MeterName


class TempoFound(msgspec.Struct, kw_only=True):
    """The tempo, null where the sound has none, with how sure it is and the ways to read it."""

    bpm: Tempo | None
    confidence: Share
    candidates: tuple[Candidate, ...]


class StretchFound(msgspec.Struct, kw_only=True):
    """A part of one tempo, null where the sound has none."""

    start_s: float
    end_s: float
    bpm: Tempo | None
    beats_per_bar: int
    confidence: Share


class PassageFound(msgspec.Struct, kw_only=True):
    """A loop worth taking."""

    start_s: float
    end_s: float
    bars: Bars
    beats_per_bar: int
    bpm: Tempo | None
    clarity: Share


class CutFound(msgspec.Struct, kw_only=True):
    """A place to cut at: that of its attack, and how strong it is."""

    time_s: float
    strength: Share


class HitFound(msgspec.Struct, kw_only=True):
    """A drum heard; beats count from the start of the region, and in 6/8 and 12/8 a beat is a dotted quarter."""

    time_s: float
    beat: float
    drum: DrumKey
    midi_note: Midi
    velocity: Velocity
    confidence: Share


class Analysis(msgspec.Struct, kw_only=True):
    """What is heard in a sound: `bompla analyse --json`. Times are in seconds in the file."""

    schema: Number = SCHEMA
    source: HeardSource
    region: Region
    tempo: TempoFound
    stretches: tuple[StretchFound, ...]
    passages: tuple[PassageFound, ...]
    downbeat_s: float
    cuts: tuple[CutFound, ...]
    hits: tuple[HitFound, ...]
    elapsed_s: float


class ProblemSource(msgspec.Struct, kw_only=True):
    """A file that was not analysed."""

    path: str


class Problem(msgspec.Struct, kw_only=True):
    """Why a sound was not analysed: the other line of `bompla analyse --json`."""

    schema: Number = SCHEMA
    source: ProblemSource
    error: str


class FactFound(msgspec.Struct, kw_only=True):
    """A fact about a groove: its key, its value with unit and spread, in words, its hits, and what it is about."""

    key: str
    value: float
    unit: str
    spread: float
    text: str
    beats: tuple[float, ...]
    drum: str | UnsetType = UNSET
    level: str | UnsetType = UNSET
    against: str | UnsetType = UNSET
    meter: str | UnsetType = UNSET
    form: str | UnsetType = UNSET
    figure: str | UnsetType = UNSET
    bar: str | UnsetType = UNSET
    like: str | UnsetType = UNSET


class DifferenceFound(msgspec.Struct, kw_only=True):
    """What differs from another pattern."""

    kind: str
    beat: float
    drum: DrumKey
    amount: float
    text: str


class Study(msgspec.Struct, kw_only=True):
    """What makes a groove work: `bompla study --json`; beats count from the pattern's start."""

    schema: Number = SCHEMA
    facts: tuple[FactFound, ...]
    form: str
    found: int | UnsetType = UNSET
    of: int | UnsetType = UNSET
    differences: tuple[DifferenceFound, ...] | UnsetType = UNSET


class Check(msgspec.Struct, kw_only=True):
    """Whether a file is all right: `bompla check --json`; `what` it is, or its `problem`."""

    schema: Number = SCHEMA
    path: str
    ok: bool
    what: str | UnsetType = UNSET
    problem: str | UnsetType = UNSET


class Manifest(msgspec.Struct, kw_only=True):
    """What was written: `manifest.json`; each file has its kind, path, label, and numbers about it."""

    format: str = "bompla manifest"
    schema: Number = SCHEMA
    source: str
    bpm: float
    bars: Bars
    meter: MeterName
    files: tuple[dict[str, Any], ...]


OBJECTS: dict[str, Any] = {"analysis": Analysis | Problem, "study": Study, "check": Check, "manifest": Manifest}
"""What leaves as JSON, by name."""


def plain(made: msgspec.Struct) -> dict[str, Any]:
    """Return an object as plain values, fields in order; those that are not set are left out."""
    found: dict[str, Any] = msgspec.to_builtins(made, enc_hook=lambda value: value.item())  # NumPy's numbers
    return found


def schema_of(name: str) -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of one of `OBJECTS`."""
    kinds = getattr(OBJECTS[name], "__args__", (OBJECTS[name],))
    found, parts = msgspec.json.schema_components(kinds, ref_template="#/$defs/{name}")
    whole = found[0] if len(found) == 1 else {"oneOf": list(found)}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **whole, "$defs": parts}
