"""A kit from elsewhere, as values: what each pad plays, and what of it could not be held."""

from __future__ import annotations

from dataclasses import dataclass, field

from bompla.audio.clip import Clip
from bompla.model.shape import PLAIN, Shape

MOST_SOUND_S = 1_200.0
"""More sound than this, all samples of a kit together, is not taken in."""


@dataclass(frozen=True, eq=False)
class KitLayer:
    """A sample of a pad: its sound, where it rises in samples, the velocities it answers to, and how loud it is at full velocity.

    Those of another `turn` take turns with it; those of the same one that answer to the same velocity sound together. `tune` in
    semitones and `pan` from -1 to 1 are its own against its pad's.
    """

    sound: Clip
    attack: int
    low: int = 1
    high: int = 127
    gain_db: float = 0.0
    tune: float = 0.0
    pan: float = 0.0
    name: str = ""
    turn: float = 0.0


@dataclass(frozen=True, eq=False)
class KitPad:
    """A pad of a kit: its name, the drum it is taken for and how that is known, its note, the keys it spans, its layers and its shape.

    `hardest` is how hard it was struck at most where it comes from, 0 where that is not known.
    """

    name: str
    drum: str
    known_by: str
    note: int
    layers: tuple[KitLayer, ...]
    keys: tuple[int, int] = (0, 0)
    shape: Shape = PLAIN
    group: int = 0
    hardest: int = 0


@dataclass(frozen=True, eq=False)
class ReadKit:
    """A kit that was read: its name, its pads, and sentences about what a pad cannot hold or what was not there, once a kind."""

    name: str
    pads: tuple[KitPad, ...]
    said: tuple[str, ...] = ()


@dataclass
class Sayings:
    """What has to be said about a kit, each kind once, with how often it was met."""

    kinds: dict[str, int] = field(default_factory=dict)

    def add(self, sentence: str) -> None:
        """Note that something is so, once more."""
        self.kinds[sentence] = self.kinds.get(sentence, 0) + 1

    def all(self) -> tuple[str, ...]:
        """Return the sentences, with how often where that is more than once."""
        return tuple(f"{sentence} ({count} times)" if count > 1 else sentence for sentence, count in self.kinds.items())
