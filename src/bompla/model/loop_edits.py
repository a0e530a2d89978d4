"""Edits that move the loop as a whole: its bars and its tempo stay."""

from __future__ import annotations

from msgspec.structs import replace

from bompla.model.cut_edits import set_loop
from bompla.model.document import Document

STEPS_PER_BEAT = 4


def move_loop(document: Document, start_sample: int) -> Document:
    """Move the whole loop to a place, as far as the sound reaches."""
    loop = document.loop
    start = max(0, min(start_sample, document.source.frames - loop.frames))
    return set_loop(document, replace(loop, start_sample=start, end_sample=start + loop.frames))


def step_loop(document: Document, way: int, *, to_attacks: bool) -> Document:
    """Move the whole loop to the next attack, forward with a `way` of 1 or back with -1, or else by a sixteenth."""
    loop = document.loop
    if to_attacks:
        places = [attack.cut_sample for attack in document.attacks if attack.strength >= document.threshold]
        ahead = [at for at in places if (at - loop.start_sample) * way > 1]
        if ahead:
            return move_loop(document, min(ahead) if way > 0 else max(ahead))
    return move_loop(document, loop.start_sample + way * round(loop.frames / loop.beats / STEPS_PER_BEAT))
