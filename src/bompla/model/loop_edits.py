"""Edits that move the loop as a whole: its bars and its tempo stay."""

from __future__ import annotations

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.cut_edits import attack_near, set_loop
from bompla.model.document import Document
from bompla.model.loop import Loop
from bompla.model.stretches import Proposed
from bompla.units import ms_to_samples

STEPS_PER_BEAT = 4
ON_ATTACK_MS = 20.0
"""How near a loop that is moved by part of a bar must begin to an attack to begin with it."""


def move_loop(document: Document, start_sample: int) -> Document:
    """Move the whole loop to a place, as far as the sound reaches."""
    loop = document.loop
    start = max(0, min(start_sample, document.source.frames - loop.frames))
    return set_loop(document, replace(loop, start_sample=start, end_sample=start + loop.frames), document.tempo)


def step_loop(document: Document, way: int, *, to_attacks: bool) -> Document:
    """Move the whole loop to the next attack, forward with a `way` of 1 or back with -1, or else by a sixteenth."""
    loop = document.loop
    if to_attacks:
        places = [attack.cut_sample for attack in document.attacks if attack.strength >= document.threshold]
        ahead = [at for at in places if (at - loop.start_sample) * way > 1]
        if ahead:
            return move_loop(document, min(ahead) if way > 0 else max(ahead))
    return move_loop(document, loop.start_sample + way * round(loop.beat_frames / STEPS_PER_BEAT))


def half_a_bar_later(document: Document) -> Document:
    """Let bars begin half a bar later, or earlier where the sound ends before: the loop and what is proposed in its stretch.

    Raises EditError for a meter whose half is not on a beat.
    """
    per_bar = document.loop.meter.beats_per_bar
    if per_bar % 2:
        raise EditError(f"Half a bar of {document.loop.meter_name} is not on a beat; move it by a beat instead.")
    here = document.loop.start_sample
    inside = next((one for one in document.stretches if one.start_sample <= here < one.end_sample), None)
    moved = _half_later(document, document.loop)
    if moved is None:
        raise EditError("There is not half a bar of sound left on either side of the loop.")
    proposed = tuple(
        one if inside is None or not inside.start_sample <= one.loop.start_sample < inside.end_sample
        else Proposed(_half_later(document, one.loop) or one.loop, one.clarity) for one in document.proposed
    )
    return set_loop(replace(document, proposed=proposed), moved, document.tempo)


def _half_later(document: Document, loop: Loop) -> Loop | None:
    """Return a loop half a bar later, else earlier, beginning with an attack where one is near; None where there is no room."""
    half = loop.bar_frames / 2
    near = ms_to_samples(ON_ATTACK_MS, document.source.sample_rate)
    for way in (1, -1):
        start = loop.start_sample + round(way * half)
        strong = (attack for attack in document.attacks if attack.strength >= document.threshold)
        if (attack := attack_near(strong, start, near)) is not None:
            start = attack.cut_sample
        if start >= 0 and start + loop.frames <= document.source.frames:
            return replace(loop, start_sample=start, end_sample=start + loop.frames)
    return None
