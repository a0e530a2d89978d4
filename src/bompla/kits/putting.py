"""A kit from elsewhere put under a groove: its sounds become the project's own, its pads the document's."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace as with_values
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import soxr
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.groove.pad_table import MOST_PADS, Swap, document_with, pad_for, with_pads
from bompla.groove.rebuild import free_slot
from bompla.kits.kit import KitLayer, KitPad, ReadKit
from bompla.kits.sounds import attack_of
from bompla.model.document import Borrowed, Document, Layer, Pad
from bompla.model.drums import DRUMS
from bompla.model.kit_edits import MAX_LEVEL_DB, MIN_LEVEL_DB, changed_pad, free_note
from bompla.model.shape import CHOKE_SETS, SLICES_SET, clamped
from bompla.units import MAX_VELOCITY, db_to_gain

SILENT_DB = -60.0
LONGEST_S = 12.0


class ReadyPad(NamedTuple):
    """A pad whose sounds are at the project's rate: the pad without place and id, and its sounds by content."""

    pad: Pad
    borrowed: tuple[Borrowed, ...]


class ReadyKit(NamedTuple):
    """A kit at a project's rate: its pads, its sounds by content, how each pad's drum is known, and what has to be said."""

    name: str
    pads: tuple[ReadyPad, ...]
    sounds: Mapping[str, Clip]
    known_by: tuple[str, ...]
    said: tuple[str, ...]


def made_ready(kit: ReadKit, sample_rate: int) -> ReadyKit:
    """Return a kit with its sounds at a sample rate in Hz; what of tune and pan differs within a pad is put into its sounds."""
    sounds: dict[str, Clip] = {}
    pads, said = [], list(kit.said)
    chosen = kit.pads[:MOST_PADS]
    if len(kit.pads) > MOST_PADS:
        said.append(f"{len(kit.pads) - MOST_PADS} of its pads are left out: there is room for {MOST_PADS}")
    sets = _choke_sets(chosen)
    if len({pad.group for pad in chosen}) > len(CHOKE_SETS) and any(pad.group and pad.group not in sets for pad in chosen):
        said.append("Some pads no longer silence each other: a kit here has four such sets")
    for pad in chosen:
        ready = _ready(pad, sample_rate, sounds)
        choke = sets.get(pad.group, -1 if DRUMS[pad.drum].choke_set else 0)
        pads.append(ready._replace(pad=replace(ready.pad, shape=replace(ready.pad.shape, choke=choke))))
    return ReadyKit(kit.name, tuple(pads), sounds, tuple(pad.known_by for pad in chosen), tuple(said))


def _choke_sets(pads: Sequence[KitPad]) -> dict[int, int]:
    """Return our choke set for each group of which more than one pad is; hats by themselves keep that of their drum."""
    members: dict[int, list[str]] = {}
    for pad in pads:
        if pad.group:
            members.setdefault(pad.group, []).append(pad.drum)
    free = iter([key for key in CHOKE_SETS if key > 1 and key != SLICES_SET])
    found: dict[int, int] = {}
    for group, drums in members.items():
        if len(drums) > 1:
            hats = all(DRUMS[drum].choke_set == 1 for drum in drums)
            number = 1 if hats else next(free, 0)
            if number:
                found[group] = number
    return found


def _together(layers: Sequence[KitLayer], sample_rate: int) -> tuple[KitLayer, ...]:
    """Return layers of which no two sound at once: those that would are mixed, for each range of velocities by themselves."""
    made: list[KitLayer] = []
    for turn in sorted({layer.turn for layer in layers}):
        own = [layer for layer in layers if layer.turn == turn]
        edges = sorted({layer.low for layer in own} | {layer.high + 1 for layer in own})
        before: list[KitLayer] = []
        for low, after in pairwise(edges):
            active = [layer for layer in own if layer.low <= low and after - 1 <= layer.high]
            if active and active == before:
                made[-1] = with_values(made[-1], high=after - 1)
            elif active:
                one = active[0] if len(active) == 1 else _mixed(active, sample_rate)
                made.append(with_values(one, low=low, high=after - 1, turn=turn))
            before = active
    return tuple(sorted(made, key=lambda one: (one.high, one.turn)))


def _mixed(layers: Sequence[KitLayer], sample_rate: int) -> KitLayer:
    """Return layers that sound at once as one, as loud as the loudest says."""
    loudest = max(layer.gain_db for layer in layers)
    parts = []
    for layer in layers:
        sound = _sound(layer, sample_rate, layer.tune, layer.pan).stereo * np.float32(db_to_gain(layer.gain_db - loudest))
        parts.append(sound)
    whole = np.zeros((max(len(part) for part in parts), 2), np.float32)
    for part in parts:
        whole[: len(part)] += part
    clip = Clip(whole, sample_rate)
    return KitLayer(clip, attack_of(clip), gain_db=loudest, name=layers[0].name)


def _ready(pad: KitPad, sample_rate: int, sounds: dict[str, Clip]) -> ReadyPad:
    pad = with_values(pad, layers=_together(pad.layers, sample_rate))
    tune, pan = round(pad.layers[0].tune, 2), round(pad.layers[0].pan, 3)
    same_tune = all(abs(layer.tune - tune) < 0.01 for layer in pad.layers)
    level = max(MIN_LEVEL_DB, min(MAX_LEVEL_DB, min(layer.gain_db for layer in pad.layers if layer.gain_db > SILENT_DB) if any(
        layer.gain_db > SILENT_DB for layer in pad.layers) else 0.0))
    layers, borrowed = [], []
    heights = _heights(pad.layers)
    for layer, up_to in zip(pad.layers, heights, strict=True):
        sound = _sound(layer, sample_rate, 0.0 if same_tune else layer.tune, layer.pan - pan)
        sounds[sound.content_hash] = sound
        borrowed.append(Borrowed((layer.name or pad.name)[:40], sound.content_hash, sound.frames))
        velocity = max(1, min(MAX_VELOCITY, round(MAX_VELOCITY * 10.0 ** ((level - layer.gain_db) / 40.0))))
        layers.append(Layer(0, min(attack_of(sound), sound.frames - 1), velocity, up_to, sound.content_hash))
    shape = clamped(replace(pad.shape, tune=pad.shape.tune + (tune if same_tune else 0.0), pan=pan))
    name = pad.name or DRUMS[pad.drum].label
    made = Pad(0, 0, pad.drum, name, pad.note, round(level, 3), tuple(layers), shape, edited=True, keys=pad.keys,
               hardest=pad.hardest, sound_edited=True)
    return ReadyPad(made, tuple(borrowed))


def _heights(layers: Sequence[KitLayer]) -> list[int]:
    """Return the highest velocity of each layer, in order; the hardest always answers to all above."""
    heights = [max(1, min(MAX_VELOCITY, layer.high)) for layer in layers]
    top = max(heights)
    return [MAX_VELOCITY if height == top else height for height in heights]


def _sound(layer: KitLayer, sample_rate: int, tune: float, pan: float) -> Clip:
    """Return a layer's sound at a rate, tuned and panned where it differs from its pad, no longer than a pad plays."""
    samples = resampled(layer.sound.part(0, round(LONGEST_S * layer.sound.sample_rate)), sample_rate).samples
    if abs(tune) >= 0.01:
        samples = np.asarray(soxr.resample(samples, 2.0 ** (tune / 12.0) * sample_rate, sample_rate), np.float32)
    if abs(pan) >= 0.005:
        stereo = np.repeat(samples, 2, axis=1) if samples.shape[1] == 1 else samples[:, :2]
        angle = (max(-1.0, min(1.0, pan)) + 1.0) * np.pi / 4.0
        samples = stereo * np.array([np.cos(angle), np.sin(angle)], np.float32) * np.float32(np.sqrt(2.0))
    return Clip(np.ascontiguousarray(samples if len(samples) else np.zeros((64, 1)), np.float32), sample_rate)


def under_groove(document: Document, kit: ReadyKit, drums: Sequence[str] = ()) -> Swap:
    """Put a kit under all variations, hit for hit, with `drums` in place of those that its pads were taken for; see `with_pads`."""
    pads, taken, notes = [], set[int](), set[int]()
    borrowed = {one.content_hash: one for one in document.borrowed}
    chosen = [replace(ready.pad, id=number, drum=drums[number] if number < len(drums) else ready.pad.drum)
              for number, ready in enumerate(kit.pads)]
    played = {hit.pad_id for variation in document.variations for hit in variation.hits}
    first = [found.id for pad in document.pads if pad.id in played and (found := pad_for(chosen, pad.drum, pad.note)) is not None]
    for number in dict.fromkeys([*first, *range(len(chosen))]):  # what the groove plays stands on the first page
        ready, drum = kit.pads[number], chosen[number].drum
        slot = free_slot(DRUMS[drum], taken)
        taken.add(slot)
        note = ready.pad.note if ready.pad.note not in notes else _spare(notes, drum)
        notes.add(note)
        renamed = replace(ready.pad, id=document.next_id + number, slot=slot, drum=drum, note=note,
                          keys=ready.pad.keys if note == ready.pad.note else (0, 0))
        pads.append(renamed)
        borrowed |= {one.content_hash: one for one in ready.borrowed}
    document = replace(document, borrowed=tuple(borrowed.values()), next_id=document.next_id + len(pads))
    swap = with_pads(document, pads)
    return swap._replace(document=without_unused(swap.document))


def _spare(notes: Iterable[int], drum: str) -> int:
    taken = set(notes)
    return next((n for n in (DRUMS[drum].note, *DRUMS[drum].other_notes, *range(60, 128), *range(59, -1, -1)) if n not in taken), 127)


def without_unused(document: Document) -> Document:
    """Return the document without borrowed sounds that no pad plays."""
    used = {layer.of for pad in document.pads for layer in pad.layers}
    kept = tuple(one for one in document.borrowed if one.content_hash in used)
    return document if kept == document.borrowed else replace(document, borrowed=kept)


def onto_pads(document: Document, kit: ReadyKit, drums: Sequence[str] = ()) -> Document:
    """Put each of some sounds on the pad that its drum says, in place of what that plays; what finds none gets a pad of its own.

    A pad takes the name of what it plays. Of two sounds of one drum the second gets a pad of its own.
    """
    taken: set[int] = set()
    borrowed = {one.content_hash: one for one in document.borrowed}
    for number, ready in enumerate(kit.pads):
        drum = drums[number] if number < len(drums) else ready.pad.drum
        borrowed |= {one.content_hash: one for one in ready.borrowed}
        own = next((pad for pad in document.pads if pad.drum == drum and pad.id not in taken), None)
        if own is not None:
            new = replace(own, layers=ready.pad.layers, name=ready.pad.name, hardest=0, level_db=ready.pad.level_db, shape=ready.pad.shape)
            document = changed_pad(document, new)
            taken.add(own.id)
        elif len(document.pads) < MOST_PADS:
            note = free_note(document, DRUMS[drum].note, drum)
            slot = free_slot(DRUMS[drum], {pad.slot for pad in document.pads})
            new = replace(ready.pad, id=document.next_id, slot=slot, drum=drum, note=note, keys=(0, 0))
            document = document_with(document, [*document.pads, new])
            taken.add(new.id)
    return without_unused(replace(document, borrowed=tuple(borrowed.values())))
