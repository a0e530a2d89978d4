"""What is asked to leave, and what comes of it."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field
from threading import Lock
from typing import TypeVar, cast

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.errors import ExportError
from bompla.export.options import ExportOptions
from bompla.files import as_text
from bompla.groove.order import Passage, order_passages
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.wording import as_number
from bompla.render.bake import bake, made_sound
from bompla.render.events import Baked, BakeRequest, SoundKey

Kept = TypeVar("Kept")
Check = Callable[[], object]
"""Called now and then; it may raise to give the work up."""

_NOT_IN_NAMES = '/\\:*?"<>|='


@dataclass(frozen=True, eq=False)
class ExportRequest:
    """All that decides what leaves, as one value.

    Hits of `silenced` pads, by id, leave only where muted ones are wanted. Of slices and single hits those of `only` leave, by the ids
    of their cuts and pads; all of them where it is empty.
    `made` keeps what several exports need of it, so that it is made once (`kept`); it changes nothing of what leaves.
    """

    document: Document
    clip: Clip
    options: ExportOptions = field(default_factory=ExportOptions)
    borrowed: Mapping[str, Clip] = field(default_factory=dict)
    silenced: frozenset[int] = frozenset()
    only: frozenset[int] = frozenset()
    made: dict[Hashable, object] = field(default_factory=dict)
    _turns: dict[Hashable, Lock] = field(default_factory=dict)

    def kept(self, place: Hashable, make: Callable[[], Kept]) -> Kept:
        """Return what `make` makes, made once; two threads that ask at once wait for one."""
        with self._turns.setdefault(place, Lock()):
            if place not in self.made:
                self.made[place] = make()
            return cast("Kept", self.made[place])

    def sound(self, key: SoundKey) -> NDArray[np.float32]:
        """Return a pad sound, shape (frames, 2), at the request's rate."""
        def make() -> NDArray[np.float32]:
            silent = Clip(np.zeros((64, 1), np.float32), self.clip.sample_rate)
            return made_sound(self.borrowed.get(key.of, silent) if key.of else self.clip, key, self.rate)

        return self.kept(key, make)

    def baked(self, part: Part, check: Check) -> Baked:
        """Return a pattern ready to be played, at the request's rate and tempo."""
        def make() -> Baked:
            before = next((one for one in tuple(self.made.values()) if isinstance(one, Baked)), None)
            options = self.options
            baked = bake(BakeRequest(part.document, self.clip, self.rate, self.borrowed, part.passages, options.speed, options.way,
                                     silenced=self.left_silent, before=before), check)
            for key, sound in baked.sounds.items():
                self.made[key] = sound
            return baked

        return self.kept(("baked", part.letter, bool(part.passages)), make)

    @property
    def left_silent(self) -> frozenset[int]:
        """The pads whose hits do not leave."""
        return frozenset() if self.options.muted else self.silenced

    @property
    def rate(self) -> int:
        """The sample rate at which sound leaves."""
        return self.options.rate or self.clip.sample_rate


@dataclass(frozen=True, eq=False)
class Made:
    """A file that is to be written: its path below the folder, its kind, what it is in words, its content, and numbers about it."""

    path: str
    kind: str
    label: str
    content: bytes
    facts: Mapping[str, object] = field(default_factory=dict)


@dataclass(frozen=True)
class Part:
    """One pattern that leaves: its name in files, the document that shows it, and the passages it is, where it is an order."""

    letter: str
    name: str
    document: Document
    passages: tuple[Passage, ...] = ()


def parts_of(document: Document, patterns: str) -> tuple[Part, ...]:
    """Return the patterns that leave; raises ExportError where there is no order, or it names a variation that is gone."""
    if patterns == "all" and document.variations:
        return tuple(Part(one.letter, one.name, replace(document, shown=index)) for index, one in enumerate(document.variations))
    if patterns == "order":
        if not document.order:
            raise ExportError("There is no order yet; put variations in a row in Groove, or send out each of them.")
        there = {one.letter for one in document.variations}
        gone = [step.letter for step in document.order if step.letter not in there]
        if gone:
            raise ExportError(f"The order plays variation {gone[0]}, which is gone; take it out of the order in Groove.")
        return (Part("order", "order", document, order_passages(document)),)
    shown = pattern_of(document)
    return (Part(shown.letter or shown.name, shown.name, document),)


def base_name(request: ExportRequest, part: Part | None = None) -> str:
    """Return what files are called, as the pattern of names says, without what a file system refuses."""
    document, loop = request.document, request.document.loop
    bpm = document.bpm * request.options.speed
    made = request.options.name.format(
        loop=document.title, variation=part.letter if part is not None else "", tempo=f"{bpm:.4g}",
        bars=str(as_number(round(loop.bars, 2))), meter=loop.meter_name.replace("/", "-"))
    return file_name(" ".join(made.split()))


def file_name(words: str) -> str:
    """Return words as a name for a file: nothing that a file system or a list of samples trips over, no dot ahead, and not too long."""
    kept = "".join("-" if one in _NOT_IN_NAMES else one for one in " ".join(as_text(words).split())).strip(" .")
    while len(kept.encode()) > 120:
        kept = kept[:-1].rstrip(" .")
    return kept or "loop"
