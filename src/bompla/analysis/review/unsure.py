"""Drums that are as likely as not in a slice, and the edits that say that it is the other way.

Confidences are calibrated: of the drums heard at 40 %, two of five are there. To look at those near even odds first mends
the most for each look (uncertainty sampling: Lewis and Gale, "A sequential algorithm for training text classifiers", 1994).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from bompla.model.cut_edits import correct_heard, set_left_out, set_underneath
from bompla.model.document import Cut, Document
from bompla.model.drums import DRUMS, ONE_AT_A_TIME

PERHAPS, CERTAIN = 0.3, 0.6
"""Between these confidences a drum is in doubt, whether it is played or not."""

INSTEAD = 0.15
"""From here on another drum is offered for what leads a slice alone, and another hat for a hat: one of three is there, and what
is left to the others is little where any of them is sure."""

BY_HAND = 1.0
"""What was said by hand is as sure as this; a hat that may as well be another is never heard so surely."""

EVEN = 0.5 * (PERHAPS + CERTAIN)


@dataclass(frozen=True)
class Unsure:
    """A drum in doubt: whether it `sounds` now and `leads` its slice, is all that sounds in it, and what it may be instead, if anything.

    Slices in which all this is the same are in the same doubt, whatever the `reason` in words and how far from even odds they are.
    """

    drum: str
    sounds: bool
    leads: bool
    alone: bool
    instead: str = ""
    reason: str = field(default="", compare=False)
    from_even: float = field(default=0.0, compare=False)

    @property
    def kept_as(self) -> str:
        """The name by which it is remembered that it was looked at."""
        return f"unsure {self.drum}"

    def mend(self, count: int) -> str:
        """Return in few words what saying that it is the other way is called, of one slice or of all that are in this doubt."""
        if self.instead:
            return _plain(self.instead) if count == 1 else f"in all {count}"
        if not self.sounds:
            return "add" if count == 1 else f"add to all {count}"
        out = "leave out" if self.alone else "remove"
        return out if count == 1 else f"leave out all {count}" if self.alone else f"remove from all {count}"

    def words(self, count: int) -> str:
        """Return what was done, where the label alone would not say it."""
        named = f"name it {self.mend(1)}" if self.instead else "leave slice out" if self.alone else f"{self.mend(1)} {_plain(self.drum)}"
        return named if count == 1 else f"{named}, {count} slices"


def unsure_of(cut: Cut) -> Unsure | None:
    """Return the drum of a slice that is most in doubt and was not looked at, or nothing where all is sure enough."""
    found = [made for index in range(len(cut.heard)) if (made := _unsure(cut, index)) and made.kept_as not in cut.kept]
    return min(found, key=lambda unsure: unsure.from_even, default=None)


def _unsure(cut: Cut, index: int) -> Unsure | None:
    heard, leads = cut.heard[index], index == 0
    hats = [h for h in cut.heard if h.drum in ONE_AT_A_TIME]
    is_hat, place = heard in hats, "" if leads else " underneath"
    other = next((h.drum for h in hats if not h.sure and h.confidence >= INSTEAD), "")
    if is_hat and heard.sure and other and heard.confidence < BY_HAND:
        return Unsure(heard.drum, True, leads, False, other, f"{_plain(heard.drum)}{place}, or {_plain(other)}?")
    if not PERHAPS <= heard.confidence < CERTAIN or (is_hat and not heard.sure and heard is not hats[0]):
        return None
    alone = leads and heard.sure and not any(h.sure for h in cut.heard[1:])
    instead = next((h.drum for h in cut.heard[1:] if alone and h.confidence >= INSTEAD), "")
    words = f"{_plain(heard.drum)}{place}, only" if heard.sure else f"maybe {_plain(heard.drum)}{place},"
    reason = f"{words} {100 * heard.confidence:.0f} %"
    return Unsure(heard.drum, heard.sure, leads, alone, instead, reason, abs(heard.confidence - EVEN))


def other_way(document: Document, cut_ids: Iterable[int], unsure: Unsure) -> Document:
    """Return the document in which what is in doubt is the other way in these slices."""
    for cut_id in cut_ids:
        document = _other_way(document, cut_id, unsure)
    return document


def _other_way(document: Document, cut_id: int, unsure: Unsure) -> Document:
    if unsure.leads and (unsure.instead or not unsure.sounds):
        return correct_heard(document, cut_id, unsure.instead or unsure.drum)
    if unsure.instead:
        return set_underneath(set_underneath(document, cut_id, unsure.drum, False), cut_id, unsure.instead, True)
    if unsure.alone:
        return set_left_out(document, [cut_id], True)
    return set_underneath(document, cut_id, unsure.drum, not unsure.sounds)


def _plain(drum: str) -> str:
    return DRUMS[drum].label.lower()
