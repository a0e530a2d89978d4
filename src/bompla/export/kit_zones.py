"""A kit as a sampler plays it: samples, and the notes and velocities that each answers to."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from dataclasses import replace as with_values

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.errors import ExportError
from bompla.export.request import Check, ExportRequest, file_name
from bompla.export.sound_file import loudest_channel
from bompla.model.document import Layer, Pad
from bompla.model.shape import PLAIN, Shape
from bompla.render.events import key_notes, lead_frames, most_raised_db, sound_key, with_stacked
from bompla.units import MAX_VELOCITY, ms_to_samples, velocity_to_db

LEAD_MS = 0.5
"""So long before its attack a sample begins."""

SILENCE_FLOOR = 10.0 ** (-90.0 / 20.0)


@dataclass(frozen=True, eq=False)
class Sample:
    """A sound that zones play, shape (frames, 2), under a name that is its alone."""

    name: str
    sound: NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Zone:
    """What plays a sample: notes and velocities from the lowest to the highest, and how.

    `gain_db` is at `at_velocity`; from there loudness follows velocity, up to `raised_db` more, or stays as it is where `fixed`. `turn`
    of `turns` says which strike it answers to. `choke` is the set whose zones silence each other, 0 for none. Envelope, filter, tune and
    pan are the shape's, where it has any; everything else of the shape is in the sample.
    """

    sample: int
    pad: Pad
    shape: Shape
    low_note: int
    high_note: int
    low_velocity: int
    high_velocity: int
    gain_db: float
    at_velocity: int
    raised_db: float
    fixed: bool = False
    turn: int = 1
    turns: int = 1


@dataclass(frozen=True, eq=False)
class KitZones:
    """A whole kit: its samples and zones, at a sample rate; pad by pad."""

    title: str
    sample_rate: int
    samples: tuple[Sample, ...]
    zones: tuple[Zone, ...]


def played_shape(shape: Shape, filters: Collection[str]) -> Shape:
    """Return what of a shape a sampler does while it plays: envelope, tune, pan, gate, those of `filters`; the rest as if plain."""
    if shape.filter not in filters:
        shape = replace(shape, filter=PLAIN.filter)
    return replace(PLAIN, attack_ms=shape.attack_ms, hold_ms=shape.hold_ms, decay_ms=shape.decay_ms, sustain=shape.sustain,
                   filter=shape.filter, cutoff_hz=shape.cutoff_hz, resonance=shape.resonance, tune=shape.tune, pan=shape.pan,
                   gated=shape.gated, release_ms=shape.release_ms)


def sampled_shape(shape: Shape, filters: Collection[str]) -> Shape:
    """Return what of a shape is in the sample: all that `played_shape` leaves out."""
    return replace(shape, attack_ms=PLAIN.attack_ms, hold_ms=PLAIN.hold_ms, decay_ms=PLAIN.decay_ms, sustain=PLAIN.sustain,
                   filter=PLAIN.filter if shape.filter in filters else shape.filter, tune=PLAIN.tune, pan=PLAIN.pan)


def kit_zones(request: ExportRequest, check: Check, filters: Collection[str]) -> KitZones:
    """Return the kit as a sampler plays it that has these `filters`; raises ExportError where no pad has a sound.

    A strike is raised no more than `most_raised_db` above its slice, so that above some velocity it gets no louder: there a zone of
    fixed loudness takes over.
    """
    document = request.document
    pads = {pad.id: pad for pad in document.pads}
    tuned = document.colour.tune if document.colour.on else 0.0
    samples: list[Sample] = []
    known: dict[tuple[int, Layer], int] = {}
    zones: list[Zone] = []
    for lead in document.pads:
        ranges = _note_ranges([lead.note, *key_notes(document, lead)])
        for pad in with_stacked(pads, lead):
            shape = played_shape(pad.shape, filters)
            shape = replace(shape, tune=shape.tune + tuned)
            for layer, low, high, turn, turns in _answers(pad):
                check()
                if (pad.id, layer) not in known:
                    known[pad.id, layer] = len(samples)
                    samples.append(_sample(request, pad, layer, len(samples), filters))
                for notes in ranges:
                    zones += _by_velocity(Zone(known[pad.id, layer], _on(lead, pad), shape, *notes, low, high, pad.level_db, layer.velocity,
                                               most_raised_db(pad, layer), turn=turn, turns=turns))
    if not zones:
        raise ExportError("No pad has a sound yet; put slices on pads, or rebuild the kit.")
    return KitZones(document.title, request.rate, tuple(samples), tuple(zones))


def _answers(pad: Pad) -> list[tuple[Layer, int, int, int, int]]:
    """Return each layer with the velocities that it answers to, which turn it takes, and of how many."""
    made, below = [], 0
    for up_to in sorted({layer.up_to for layer in pad.layers}):
        same = [layer for layer in pad.layers if layer.up_to == up_to]
        top = MAX_VELOCITY if up_to == pad.layers[-1].up_to else up_to
        made += [(layer, below + 1, top, turn, len(same)) for turn, layer in enumerate(same, 1)]
        below = up_to
    return made


def _on(lead: Pad, pad: Pad) -> Pad:
    """Return a pad as it sounds with another: at that one's note."""
    return pad if lead.id == pad.id else replace(pad, note=lead.note)


def _sample(request: ExportRequest, pad: Pad, layer: Layer, number: int, filters: Collection[str]) -> Sample:
    key = sound_key(request.document, replace(pad, shape=sampled_shape(pad.shape, filters)), layer, request.clip)
    if request.document.colour.on and request.document.colour.tune:
        key = key._replace(shape=replace(key.shape, tune=0.0))
    lead = ms_to_samples(LEAD_MS, request.rate)
    sound = request.sound(key)
    late = min(lead_frames(key, request.clip, request.rate), len(sound) - 2 * lead) - lead
    if late > 0:  # a sampler strikes when the note comes, not ahead of it
        sound = sound[late:].copy()
        sound[:lead] *= np.linspace(0.0, 1.0, lead, dtype=np.float32)[:, np.newaxis]
    heard = np.flatnonzero(loudest_channel(sound) >= SILENCE_FLOOR)
    return Sample(f"{number + 1:02d} {file_name(pad.name)}", sound[: max(64, int(heard[-1]) + 1 if heard.size else 0)])


def _by_velocity(zone: Zone) -> list[Zone]:
    """Return a zone as one that follows velocity, and one above where it gets no louder."""
    loudest = next((v for v in range(zone.low_velocity, zone.high_velocity + 1)
                    if velocity_to_db(v) - velocity_to_db(zone.at_velocity) > zone.raised_db), None)
    if zone.low_velocity > zone.high_velocity:
        return []
    if loudest is None:
        return [zone]
    held = with_values(zone, low_velocity=loudest, gain_db=zone.gain_db + zone.raised_db, fixed=True)
    return [held] if loudest == zone.low_velocity else [with_values(zone, high_velocity=loudest - 1), held]


def _note_ranges(notes: list[int]) -> list[tuple[int, int]]:
    """Return notes as ranges without gaps."""
    made: list[tuple[int, int]] = []
    for note in sorted(set(notes)):
        if made and made[-1][1] == note - 1:
            made[-1] = (made[-1][0], note)
        else:
            made.append((note, note))
    return made
