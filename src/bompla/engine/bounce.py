"""Playing without a device: the same mixer, as fast as it goes."""

from __future__ import annotations

import json
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.audio.loudness import loudness_db
from bompla.engine.colour import Rack
from bompla.engine.commands import Op, command
from bompla.engine.layout import EVENT, MOMENT_PAD, NO_PAD, Bus, sends_of
from bompla.engine.mixer import MixerState, apply, render
from bompla.engine.pool import Place
from bompla.engine.voices import MAX_BLOCK_FRAMES
from bompla.model.loop import whole_beats
from bompla.model.memo import Kept, LastMade
from bompla.render.events import AnyKey, Baked
from bompla.units import SILENCE_DB, db_to_gain

CLICK_MS = 28.0
CLICK_HZ, BAR_CLICK_HZ = 1050.0, 1580.0
MAX_MATCH_DB = 18.0
MATCHED_S = 40.0
"""Of a long pattern so much is measured: the whole would take seconds after each edit."""

_MATCHED = Kept(24)
_ROWS: LastMade[tuple[tuple[AnyKey, ...], NDArray[np.void]]] = LastMade(3)

RINGS_OUT_S, MOST_PIECES, SILENCE_FLOOR = 0.25, 80, 1e-5
"""Ringing out is listened to in such pieces, at most so many, until nothing is louder than -100 dB."""


def click_sounds(sample_rate: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Return the click of a bar and of a beat, shape (frames, 2)."""
    t = np.arange(round(CLICK_MS * sample_rate / 1000.0)) / sample_rate
    shape = np.minimum(1.0, t / 0.0006) * np.exp(-t / 0.006) * np.minimum(1.0, (t[-1] - t) / 0.003)
    sounds = [0.35 * shape * np.sin(2.0 * np.pi * hz * t) for hz in (BAR_CLICK_HZ, CLICK_HZ)]
    bar, beat = (np.repeat(sound.astype(np.float32)[:, np.newaxis], 2, axis=1) for sound in sounds)
    return bar, beat


def event_list(baked: Baked, places: Mapping[AnyKey, Place], clicks: tuple[Place, Place]) -> NDArray[np.void]:
    """Return the hits and clicks of a loop as event records in order of time."""
    keys, rows = event_rows(baked)
    events = rows.copy()
    where = np.array([(places[key].offset, places[key].length) for key in keys] + [(0, 0)]
                     + [(place.offset, place.length) for place in clicks], np.int64)
    sounds = events["offset"] >= 0
    found = where[events["offset"][sounds]]
    events["offset"][sounds], events["length"][sounds] = found[:, 0], found[:, 1]
    events["offset"][~sounds] = 0
    return events


def event_rows(baked: Baked) -> tuple[tuple[AnyKey, ...], NDArray[np.void]]:
    """Return the sounds of a loop's hits, and its events with the number of their sound as their place, made once for any thread.

    Behind the sounds come nothing, and the click of a bar and of a beat; a note that leaves has -1, and its own length.
    """
    return _ROWS.get((baked,), lambda: _made_rows(baked))


def _made_rows(baked: Baked) -> tuple[tuple[AnyKey, ...], NDArray[np.void]]:
    keys = tuple(dict.fromkeys(hit.sound for hit in baked.events))
    numbers = {key: number for number, key in enumerate(keys)}
    rows = [
        (hit.at_frame, numbers[hit.sound], 0, MOMENT_PAD if hit.stands_for else hit.pad_id, hit.choke,
         int(Bus.PATTERN), hit.gain, sends_of(hit.room, hit.echo, kick=hit.kick, chance=hit.chance, output=hit.output, early=hit.early),
         hit.gate_frames, hit.release_frames, hit.number)
        for hit in baked.events
    ]
    rows += [
        (note.at_frame, -1, note.length_frames, note.note, 0, int(Bus.MIDI), note.velocity,
         sends_of(0.0, 0.0, kick=False, chance=note.chance, early=note.early), 0, 0, note.number)
        for note in baked.notes
    ]
    for beat in range(whole_beats(baked.beats)):
        click = len(keys) + (1 if beat % baked.beats_per_bar == 0 else 2)
        at = round(beat * baked.total_frames / baked.beats)
        rows.append((at, click, 0, NO_PAD, 0, int(Bus.CLICK), 1.0, 0, 0, 0, 0))
    events = np.array(rows, dtype=EVENT)
    return keys, events[np.argsort(events["at_frame"], kind="stable")]


def bounce_rebuilt(baked: Baked, *, passes: int = 1, gain: float = 1.0, most_frames: int = 0) -> Clip:
    """Return the rebuilt pattern as sound: the last of so many passes, or no more of it than `most_frames`, where that is given."""
    state = _ready(baked, gain)
    frames_in_all = baked.total_frames * passes
    sound = _rendered(state, min(frames_in_all, most_frames or frames_in_all))
    return Clip(sound[-baked.total_frames :], baked.sample_rate)


def bounce_ringing(baked: Baked) -> Clip:
    """Return the rebuilt pattern played once, and on until the last sound has rung out."""
    state = _ready(baked, 1.0)
    apply(state, command(Op.LOOPING, on=0))
    parts = [_rendered(state, baked.total_frames)]
    piece = round(RINGS_OUT_S * baked.sample_rate)
    for _ in range(MOST_PIECES):
        parts.append(_rendered(state, piece))
        if not state.voices and float(np.abs(parts[-1]).max(initial=0.0)) < SILENCE_FLOOR:
            break
    sound = np.concatenate(parts)
    heard = np.flatnonzero(np.abs(sound).max(axis=1) >= SILENCE_FLOOR)
    last = int(heard[-1]) + 1 if heard.size else 0
    return Clip(sound[: max(baked.total_frames, last)], baked.sample_rate)


def _ready(baked: Baked, gain: float) -> MixerState:
    """Return a mixer that is about to play a pattern from its start."""
    parts = list(baked.sounds.values())
    places: dict[AnyKey, Place] = {}
    offset = 0
    for key, sound in baked.sounds.items():
        places[key] = Place(offset, len(sound))
        offset += len(sound)
    pool = np.concatenate(parts) if parts else np.zeros((1, 2), np.float32)
    state = MixerState(np.ascontiguousarray(pool, dtype=np.float32))
    events = event_list(baked, places, (Place(0, 0), Place(0, 0)))
    state.events = events[events["bus"] != Bus.MIDI]
    state.event_times = state.events["at_frame"].copy()
    apply(state, command(Op.SPAN, start=0, length=baked.total_frames))
    if baked.colour["on"]:
        state.pattern.rack = Rack(baked.sample_rate)
        state.pattern.rack.set(baked.colour)
    state.original_gain.target = 0.0
    state.rebuilt_gain.target = gain
    apply(state, command(Op.PLAY))
    return state


def _rendered(state: MixerState, frames: int) -> NDArray[np.float32]:
    """Return so many frames more of what a mixer plays, shape (frames, 2)."""
    sound = np.zeros((frames, 2), np.float32)
    for at in range(0, len(sound), MAX_BLOCK_FRAMES):
        count = min(MAX_BLOCK_FRAMES, len(sound) - at)
        sound[at : at + count] = render(state, count)
    return sound


def coloured(sound: NDArray[np.float32], sample_rate: int, colour: Mapping[str, object]) -> NDArray[np.float32]:
    """Return a loop of shape (frames, 2) as the colour makes it, what rings past its end folded round to its start."""
    rack = Rack(sample_rate)
    rack.set(colour)
    if not rack.on:
        return sound
    made = np.zeros((2 * len(sound), 2), np.float32)
    quiet = np.zeros((MAX_BLOCK_FRAMES, 2), np.float32)
    twice = np.concatenate([sound, sound])
    for at in range(0, len(twice), MAX_BLOCK_FRAMES):
        part = twice[at : at + MAX_BLOCK_FRAMES]
        none = quiet[: len(part)]
        made[at : at + len(part)] = rack.process(part, none, none, none)
    return np.clip(made[len(sound) :], -1.0, 1.0)


def matching_gain(baked: Baked) -> float:
    """Return the gain at which the rebuilt loop is as loud as the original, held to 18 dB either way; what was measured before is known."""
    if not baked.content_hash:
        return _measured(baked)
    about = (baked.content_hash, baked.original_key, baked.sample_rate, baked.events, baked.beats, json.dumps(baked.colour, sort_keys=True))
    return float(_MATCHED.get(about, lambda: _measured(baked)))


def _measured(baked: Baked) -> float:
    original = loudness_db(Clip(baked.original, baked.sample_rate))
    rebuilt = loudness_db(bounce_rebuilt(baked, gain=0.25, most_frames=round(MATCHED_S * baked.sample_rate))) + 12.0412
    if original <= SILENCE_DB or rebuilt <= SILENCE_DB + 20.0:
        return 1.0
    return db_to_gain(max(-MAX_MATCH_DB, min(MAX_MATCH_DB, original - rebuilt)))
