"""How things leave: rate, depth and format of sound, which variations, which hits, at what tempo."""

from __future__ import annotations

from typing import Literal

import msgspec

from bompla.errors import ExportError
from bompla.render.events import WAYS

FORMATS = {"wav": "WAV", "flac": "FLAC", "aiff": "AIFF"}
RATES = {0: "as the source", 44_100: "44.1 kHz", 48_000: "48 kHz", 88_200: "88.2 kHz", 96_000: "96 kHz"}
BITS = {16: "16 bit", 24: "24 bit", 32: "32 bit float"}
PATTERNS = {"shown": "the one shown", "all": "each variation", "order": "the order"}
NOTES = {"pads": "by pad", "drums": "by drum", "slices": "by slice"}
CHANCES = {"all": "all hits", "rolled": "rolled by chance"}
TAILS = {"folded": "folded round", "ringing": "ringing out"}
LABELS = {
    "patterns": "pattern", "format": "format", "rate": "rate", "bits": "depth", "tail": "tail", "quantise": "quantise", "notes": "notes",
    "midi_type": "file", "chance": "chance", "seed": "seed", "tempo_percent": "tempo", "way": "changed by", "loudness_lufs": "loudness",
    "repeat_signs": "repeat signs", "muted": "with muted lanes", "pitch_as_notes": "pitch moves the note",
}
"""What options are called, in the order they are shown."""

MOST_PERCENT, LEAST_PERCENT = 400, 20

PLACES = ("loop", "variation", "tempo", "bars", "meter")
"""What a pattern of names can have in braces."""


class ExportOptions(msgspec.Struct, frozen=True):
    """What every export is told; each looks at what it needs.

    `rate` 0 is that of the source; 32 `bits` are floats. `patterns` says which variations leave. `quantise` is from 0 to 1, `tempo_percent`
    how fast against the loop, in one of `render.events.WAYS`. Muted lanes leave with `muted`; hits with a chance all, or as `seed` rolls
    them. With `pitch_as_notes` a hit's pitch moves its MIDI note. `tail` folds what rings past the end of a loop round to its start, or
    lets it ring out. With `repeat_signs` like bars stand on paper once. `loudness_lufs` 0 leaves sound as loud as it is. `name` is a
    pattern of names.
    """

    format: Literal["wav", "flac", "aiff"] = "wav"
    rate: int = 0
    bits: int = 24
    patterns: Literal["shown", "all", "order"] = "shown"
    quantise: float = 0.0
    midi_type: Literal[0, 1] = 1
    notes: Literal["pads", "drums", "slices"] = "pads"
    muted: bool = False
    chance: Literal["all", "rolled"] = "all"
    seed: int = 1
    pitch_as_notes: bool = False
    repeat_signs: bool = True
    tempo_percent: float = 100.0
    way: str = "stretch"
    tail: Literal["folded", "ringing"] = "folded"
    loudness_lufs: float = 0.0
    name: str = "{loop} {variation}"

    @property
    def speed(self) -> float:
        """How fast what leaves goes against the loop."""
        return self.tempo_percent / 100.0


def checked(options: ExportOptions) -> ExportOptions:
    """Return options that can be carried out; raises ExportError with what is wrong."""
    if options.rate not in RATES:
        raise ExportError(f"A rate of {options.rate} Hz is not one of {', '.join(str(rate) for rate in RATES if rate)}.")
    if options.bits not in BITS:
        raise ExportError(f"{options.bits} bits are not one of {', '.join(map(str, BITS))}.")
    if options.format == "flac" and options.bits not in (16, 24):
        raise ExportError("FLAC holds 16 or 24 bits; choose one of them, or WAV for floats.")
    if options.way not in WAYS:
        raise ExportError(f"“{options.way}” is no way to change the tempo; there are {', '.join(WAYS)}.")
    if not LEAST_PERCENT <= options.tempo_percent <= MOST_PERCENT:
        raise ExportError(f"A tempo of {options.tempo_percent:g} % is not from {LEAST_PERCENT} to {MOST_PERCENT} %.")
    if not 0.0 <= options.quantise <= 1.0:
        raise ExportError("Quantise by 0 to 100 %.")
    try:
        made = options.name.format(**dict.fromkeys(PLACES, "x")).strip()
    except (KeyError, IndexError, ValueError) as error:
        known = ", ".join("{" + place + "}" for place in PLACES)
        raise ExportError(f"Names can have {known} in them; “{options.name}” has something else.") from error
    if not made:
        raise ExportError("A name is needed for the files.")
    return options
