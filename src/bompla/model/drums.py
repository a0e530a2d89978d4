"""The table of drums, from which notes, families, noteheads and labels derive."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import msgspec


class Family(StrEnum):
    """A row of the kit."""

    DRUMS = "drums"
    SNARES = "snares"
    HATS = "hats"
    CYMBALS = "cymbals"
    EXTRAS = "extras"


FAMILY_LABELS = {
    Family.DRUMS: "Drums",
    Family.SNARES: "Snares",
    Family.HATS: "Hats",
    Family.CYMBALS: "Cymbals",
    Family.EXTRAS: "Extras",
}


class Band(StrEnum):
    """Where in the spectrum a drum mostly sounds."""

    LOW = "low"
    MID = "mid"
    HIGH = "high"


BANDS_HZ = {Band.LOW: (0.0, 160.0), Band.MID: (160.0, 4_500.0), Band.HIGH: (4_500.0, 30_000.0)}
"""From where to where each band reaches, as pictures and weights use it."""


class Notehead(StrEnum):
    """A head of standard percussion notation."""

    OVAL = "oval"
    OVAL_SLASHED = "oval slashed"
    CROSS = "cross"
    CROSS_CIRCLED = "cross circled"
    CROSS_BELOW = "cross below"
    DIAMOND = "diamond"
    STAR = "star"
    TRIANGLE = "triangle"
    SQUARE = "square"


@dataclass(frozen=True)
class Drum:
    """What is known of a drum role; `note` is its General MIDI percussion note, `letter` its key when a slice is named.

    From the confidence `sure_from` on it is played: less than even, since leaving out what is there costs as much as adding what is not,
    and half of the F-measure to be reached is where the two balance; measured on loops for checking. A drum `for_once` opens a part or
    fills its end, so that no other bar has it says nothing. A `foot` plays it; a hand does where it stands at `place_m`, from left to
    right in metres for a right-handed player, or at no place of a kit.
    """

    key: str
    label: str
    family: Family
    note: int
    notehead: Notehead
    letter: str
    other_notes: tuple[int, ...] = ()
    choke_set: int = 0
    sure_from: float = 0.45
    for_once: bool = False
    foot: bool = False
    staff: str = "C5"
    place_m: float | None = None

    @property
    def band(self) -> Band:
        """Where it mostly sounds."""
        if self.family in (Family.HATS, Family.CYMBALS) or self.key == "shaker":
            return Band.HIGH
        return Band.LOW if self.family is Family.DRUMS else Band.MID


_TABLE = (
    Drum("kick", "Kick", Family.DRUMS, 36, Notehead.OVAL, "K", (35,), sure_from=0.5, foot=True, staff="F4"),
    Drum("tom_low", "Low tom", Family.DRUMS, 45, Notehead.OVAL_SLASHED, "L", (41, 43),
         sure_from=0.3, for_once=True, staff="A4", place_m=0.45),
    Drum("tom_mid", "Mid tom", Family.DRUMS, 47, Notehead.OVAL_SLASHED, "M", sure_from=0.4, for_once=True, staff="D5", place_m=0.2),
    Drum("tom_high", "High tom", Family.DRUMS, 50, Notehead.OVAL_SLASHED, "T", (48,),
         sure_from=0.4, for_once=True, staff="E5", place_m=-0.05),
    Drum("snare", "Snare", Family.SNARES, 38, Notehead.OVAL, "S", (40,), sure_from=0.4, staff="C5", place_m=-0.1),
    Drum("rim", "Rim", Family.SNARES, 37, Notehead.CROSS_BELOW, "R", sure_from=0.4, staff="C5", place_m=-0.1),
    Drum("clap", "Clap", Family.SNARES, 39, Notehead.SQUARE, "C", sure_from=0.35, staff="C5", place_m=-0.1),
    Drum("hat_closed", "Closed hat", Family.HATS, 42, Notehead.CROSS, "H", choke_set=1, staff="G5", place_m=-0.45),
    Drum("hat_pedal", "Pedal hat", Family.HATS, 44, Notehead.CROSS_BELOW, "P", choke_set=1, foot=True, staff="D4"),
    Drum("hat_open", "Open hat", Family.HATS, 46, Notehead.CROSS_CIRCLED, "O", choke_set=1, staff="G5", place_m=-0.45),
    Drum("ride", "Ride", Family.CYMBALS, 51, Notehead.DIAMOND, "D", (53, 59), staff="F5", place_m=0.5),
    Drum("crash", "Crash", Family.CYMBALS, 49, Notehead.STAR, "X", (52, 55, 57), sure_from=0.35, for_once=True, staff="A5", place_m=-0.35),
    Drum("shaker", "Shaker", Family.EXTRAS, 82, Notehead.TRIANGLE, "Y", (69, 70), staff="B5"),
    Drum("perc", "Percussion", Family.EXTRAS, 56, Notehead.SQUARE, "U", for_once=True, staff="B4"),
)

DRUMS: dict[str, Drum] = {drum.key: drum for drum in _TABLE}
"""All drums by key, in family order from the lowest row of the kit up."""

ONE_AT_A_TIME = tuple(drum.key for drum in _TABLE if drum.choke_set == 1)
"""The ways to play the one hi-hat that there is: it cannot be closed, open and trodden at once."""

_BY_NOTE = {note: drum for drum in _TABLE for note in (drum.note, *drum.other_notes)}


NEAREST: dict[str, tuple[str, ...]] = {
    "kick": ("tom_low",),
    "tom_low": ("tom_mid", "tom_high", "kick"),
    "tom_mid": ("tom_low", "tom_high", "perc", "snare"),
    "tom_high": ("tom_mid", "tom_low", "perc", "snare"),
    "snare": ("rim", "clap"),
    "rim": ("snare", "clap", "perc"),
    "clap": ("snare", "rim"),
    "hat_closed": ("hat_pedal", "shaker", "hat_open", "ride"),
    "hat_pedal": ("hat_closed", "shaker"),
    "hat_open": ("hat_closed", "crash", "ride"),
    "ride": ("crash", "hat_open", "hat_closed"),
    "crash": ("ride", "hat_open"),
    "shaker": ("hat_closed", "hat_pedal", "perc"),
    "perc": ("rim", "tom_high", "shaker"),
}
"""What stands in for a drum that a kit does not have, the nearest first."""

_LIKE = {54: "shaker", 58: "perc", 60: "tom_high", 61: "tom_mid", 62: "tom_high", 63: "tom_high", 64: "tom_low", 65: "tom_high",
         66: "tom_low", 67: "perc", 68: "perc", 71: "perc", 72: "perc", 73: "shaker", 74: "shaker", 75: "rim", 76: "rim", 77: "rim",
         78: "perc", 79: "perc", 80: "ride", 81: "ride", 27: "perc", 28: "clap", 29: "shaker", 30: "shaker", 31: "rim", 32: "rim",
         33: "rim", 34: "rim", 83: "shaker", 84: "shaker", 85: "rim", 86: "tom_low", 87: "tom_low"}


def like_note(midi_note: int) -> str:
    """Return the drum that a General MIDI percussion note is, or is nearest to; empty for a note of none."""
    drum = _BY_NOTE.get(midi_note)
    return drum.key if drum else _LIKE.get(midi_note, "")


def drum_of_note(midi_note: int) -> str:
    """Return the drum that a General MIDI percussion note stands for, `perc` where it has no drum."""
    drum = _BY_NOTE.get(midi_note)
    return drum.key if drum else "perc"


class Meter(msgspec.Struct, frozen=True):
    """A meter: its name, the beats counted in a bar, and a beat's length in quarter notes.

    In 6/8 and 12/8 the beat is the dotted quarter, as musicians count it, and divides in three.
    """

    name: str
    beats_per_bar: int
    beat_quarters: float
    numerator: int
    denominator: int
    compound: bool = False


METERS: dict[str, Meter] = {
    meter.name: meter
    for meter in (
        Meter("4/4", 4, 1.0, 4, 4),
        Meter("3/4", 3, 1.0, 3, 4),
        Meter("5/4", 5, 1.0, 5, 4),
        Meter("7/8", 7, 0.5, 7, 8),
        Meter("6/8", 2, 1.5, 6, 8, compound=True),
        Meter("12/8", 4, 1.5, 12, 8, compound=True),
    )
}
