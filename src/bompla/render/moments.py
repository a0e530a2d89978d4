"""Untouched moments as they are played: each its own slice of the loop, blended into the next, so that together they are the loop."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.model.document import Document, Pad
from bompla.model.memo import LastMade
from bompla.model.moments import Bearing, Moment, bearing
from bompla.model.shape import PLAIN
from bompla.render.events import MomentKey, PlayedHit
from bompla.render.levels import FADE_OUT_MS
from bompla.render.shaping import RING_BLEND_MS, RING_S, shaped
from bompla.units import db_to_gain, ms_to_samples

BLEND_MS = 1.5
"""A slice comes in over at least so long ahead of its attack, while the one before it goes."""

LONGEST_LEAD_MS = 30.0
TAIL_STEP = 2_048
"""Tails are as long as the hole after a slice asks for, in steps of so many frames, so that few of them have to be made anew."""

LONGEST_LOOP_S = 600.0
"""Of a longer loop the moments would not fit beside it: there pads play everything."""


class PlayedMoment(NamedTuple):
    """A moment in frames of the engine: its sound, where it starts, its gain, and the pads whose hits it stands for."""

    key: MomentKey
    at_frame: int
    gain: float
    pads: tuple[Pad, ...]
    early: bool


class _Place(NamedTuple):
    """Where a slice lies in the loop, in frames: its start, how long it comes in, how long it is up to the next one's attack."""

    start: int
    lead: int
    frames: int


_PLACES: LastMade[dict[int, _Place]] = LastMade(4)


def played_moments(
    document: Document, moments: Sequence[Moment], *, loop_frames: int, frames_per_beat: float, sample_rate: int, of: int
) -> list[PlayedMoment]:
    """Return moments as they are played, in order of time; `of` tells the loop's sound, `loop_frames` long, from others."""
    places = _places(document, loop_frames, sample_rate)
    pads = {pad.id: pad for pad in document.pads}
    tune = document.colour.tune if document.colour.on else 0.0
    found: list[tuple[int, _Place, Moment]] = []
    for moment in moments:
        place = places[moment.piece.cut.attack_sample]
        at = round(moment.at_beats * frames_per_beat) - place.lead
        found.append((at if moment.at_beats < 0.0 else max(0, at), place, moment))
    found.sort(key=lambda one: one[0])
    made = []
    for (at, place, moment), after in zip(found, [*(one[0] for one in found[1:]), None], strict=True):
        hole = round(RING_S * sample_rate) if after is None or tune else after - at - place.frames
        tail = 0 if hole <= 0 or document.tail == "end" else min(round(RING_S * sample_rate), -(-hole // TAIL_STEP) * TAIL_STEP)
        key = MomentKey(place.start, place.frames, place.lead, document.tail if tail else "end", tail, tune, of)
        own = tuple(pads[hit.pad_id] for hit in moment.hits)
        made.append(PlayedMoment(key, at, db_to_gain(moment.gain_db), own, moment.at_beats < 0.0))
    return made


def moment_sound(key: MomentKey, loop_sound: NDArray[np.float32], sample_rate: int) -> NDArray[np.float32]:
    """Return the sound of a moment from that of its loop, both of shape (frames, 2)."""
    at = key.start + np.arange(key.frames)
    sound = loop_sound[at % len(loop_sound)] if key.start + key.frames > len(loop_sound) else loop_sound[at[0] : at[-1] + 1].copy()
    if key.tail != "end" or key.tune:
        wanted = round((len(sound) + key.tail_frames) / 2.0 ** (key.tune / 12.0))
        if key.tail != "end":  # what rings on blends in over its own echo, so that the slice is itself to its last frame
            sound = np.concatenate([sound, sound[::-1][: ms_to_samples(RING_BLEND_MS, sample_rate)]])
        sound = shaped(sound, sample_rate, replace(PLAIN, tail=key.tail, tune=key.tune))[:wanted].copy()
        last = min(ms_to_samples(FADE_OUT_MS, sample_rate), len(sound) // 2)
        if last:
            sound[-last:] *= np.linspace(1.0, 0.0, last, dtype=np.float32)[:, np.newaxis]
    if key.lead:
        sound[: key.lead] *= (np.arange(key.lead, dtype=np.float32) / np.float32(key.lead))[: len(sound), np.newaxis]
    return sound


def _places(document: Document, loop_frames: int, sample_rate: int) -> dict[int, _Place]:
    """Return where each slice that bears moments lies in a loop's sound of so many frames, by the sample of its attack."""
    slices = bearing(document)

    def made() -> dict[int, _Place]:
        return _made_places(slices, document.loop.start_sample, loop_frames / document.loop.frames, loop_frames, sample_rate)

    return _PLACES.get((slices, document.loop, loop_frames, sample_rate), made)


def _made_places(slices: dict[int, Bearing], start: int, scale: float, loop_frames: int, sample_rate: int) -> dict[int, _Place]:
    order = sorted(slices)
    attacks = [round((attack - start) * scale) for attack in order]
    least, most = ms_to_samples(BLEND_MS, sample_rate), ms_to_samples(LONGEST_LEAD_MS, sample_rate)
    found = {}
    round_again = [*attacks, attacks[0] + loop_frames] if attacks else []
    for n, (attack, (at, after)) in enumerate(zip(order, pairwise(round_again), strict=True)):
        ahead = round((slices[attack].piece.start_sample - start) * scale)
        before = attacks[n - 1] if n else max(0, attacks[-1] - loop_frames)
        lead = max(0, min(max(at - ahead, least), most, (at - before) // 2 if n else at))
        found[attack] = _Place(at - lead, lead, after - at + lead)
    return found


def moment_events(moments: Iterable[PlayedMoment]) -> list[PlayedHit]:
    """Return untouched moments as what the engine plays."""
    made = []
    for one in moments:
        first = one.pads[0]
        sets = {pad.choke_set for pad in one.pads} - {0}
        made.append(PlayedHit(
            at_frame=one.at_frame, sound=one.key, pad_id=first.id, choke=min(sets) if sets else 0, gain=one.gain, room=first.shape.room,
            echo=first.shape.echo, kick=any(pad.drum == "kick" for pad in one.pads), release_frames=one.key.lead,
            output=first.shape.output, early=one.early, stands_for=tuple(pad.id for pad in one.pads)))
    return made
