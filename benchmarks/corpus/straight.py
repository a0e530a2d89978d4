"""Grooves rendered straight by FluidSynth, as anyone has them who plays a MIDI file on a SoundFont.

Balance, loudness by velocity, stopped hats, room and chorus are the synthesizer's and the SoundFont's own, not ours.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import mido
import numpy as np
from numpy.typing import NDArray

from bompla.model.drums import DRUMS
from corpus import RATE
from corpus.grooves import DrawnGroove
from corpus.kits import BRUSHES, EXTRA_NOTES, ONSET_SHARE, OTHERS_WITH_BRUSHES, VELOCITIES, Font, font_kits, nearest_level, rendered

Mono = NDArray[np.float64]
BLOCK = 64
"""FluidSynth starts notes at multiples of so many samples."""
LEAD_MS, APART_MS, HELD_MS = 500, 1_500, 80
NOT_IN_ONE_PIECE = (".cfg", ".sf3")
"""Patches are no SoundFont; of one that is packed it takes eight seconds to begin, and its sounds are another's as well."""

OTHER_NOTE = 0.3
"""How often a drum has another of its General MIDI notes."""


def played_straight(groove: DrawnGroove, group: str, rng: np.random.Generator) -> tuple[Mono, DrawnGroove, str]:
    """Return the sound of a groove on a kit of a group, twice as long as it is, the groove as it came out, and the kit's name.

    In the groove that came out notes are at their acoustic onsets; those that make no sound are left out.
    """
    kits = [(font, program) for font, program in font_kits((group,)) if not font.path.endswith(NOT_IN_ONE_PIECE)]
    if not kits:
        raise SystemExit(f"No SoundFont of the group {group} is installed: see benchmarks/corpus/README.md")
    font, program = kits[int(rng.integers(len(kits)))]
    notes = {drum: _note_of(drum, program, rng) for drum in sorted({note.drum for note in groove.notes})}
    effects = ("1", f"{rng.uniform(0.1, 0.9):.2f}") if rng.random() < 0.5 else ("0", "0.0")
    struck = [(round(1000.0 * note.time_s), notes[note.drum], note.velocity) for note in groove.notes]
    sound = _rendered(font, program, struck, round(2000.0 * groove.duration_s) + 1_000, effects)
    came = []
    for note, (at_ms, key, _) in zip(groove.notes, struck, strict=True):
        delay = _delays(font, program, key)[nearest_level(note.velocity)]
        if delay is not None:
            came.append(replace(note, time_s=(_starts_at(at_ms) + delay) / RATE))
    came.sort(key=lambda note: (note.time_s, note.drum))
    frames = 2 * round(groove.duration_s * RATE)
    sound = np.pad(sound, (0, max(0, frames - len(sound))))[:frames]
    ended = tuple(note for note in came if note.time_s < groove.duration_s - 0.01)
    return sound, replace(groove, notes=ended), f"{Path(font.path).stem} {program} straight"


def _note_of(drum: str, program: int, rng: np.random.Generator) -> int:
    others = [note for note in EXTRA_NOTES.get(drum, ()) if program != BRUSHES or f"{drum}/{note}" not in OTHERS_WITH_BRUSHES]
    return int(rng.choice(others)) if others and rng.random() < OTHER_NOTE else DRUMS[drum].note


def _starts_at(at_ms: int) -> int:
    """Return the sample at which a note of this time starts to play, the lead left out."""
    return -(-(at_ms + LEAD_MS) * RATE // (1000 * BLOCK)) * BLOCK - LEAD_MS * RATE // 1000


def _rendered(
    font: Font, program: int, struck: Sequence[tuple[int, int, int]], end_ms: int, effects: tuple[str, str] = ("0", "0.0")
) -> Mono:
    """Return strikes, as (time in ms, note, velocity), from time nought on; `effects` are on or off, and how much room."""
    events = [(at, "note_on", note, velocity) for at, note, velocity in struck]
    events += [(at + HELD_MS, "note_off", note, 0) for at, note, _ in struck] + [(end_ms, "note_off", 1, 0)]
    events.sort(key=lambda event: (event[0], event[1] == "note_on"))
    file = mido.MidiFile(type=0, ticks_per_beat=1000)
    track = mido.MidiTrack()
    file.tracks.append(track)
    track.append(mido.MetaMessage("set_tempo", tempo=1_000_000))
    track.append(mido.Message("program_change", channel=font.channel, program=program))
    now = -LEAD_MS
    for at, what, note, velocity in events:
        track.append(mido.Message(what, channel=font.channel, note=note, velocity=velocity, time=at - now))
        now = at
    on, room = effects
    sound = rendered(font, file, "-R", on, "-C", on, "-o", f"synth.reverb.level={room}", "-g", "0.4")
    return np.asarray(sound[LEAD_MS * RATE // 1000 :], np.float64)


@lru_cache(maxsize=4096)
def _delays(font: Font, program: int, note: int) -> tuple[int | None, ...]:
    """Return for each of `VELOCITIES` how many samples after its start a strike sounds; None where it makes no sound."""
    folder = Path(os.environ.get("BOMPLA_CORPUS", Path.home() / ".cache" / "bompla-corpus")) / "delays"
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{hashlib.sha256(f'{font.path}/{program}/{note}/{VELOCITIES}'.encode()).hexdigest()[:16]}.npy"
    if not path.exists():
        struck = [(APART_MS * index, note, velocity) for index, velocity in enumerate(VELOCITIES)]
        sound = np.abs(_rendered(font, program, struck, APART_MS * len(struck)))
        found = []
        for at_ms, _, _ in struck:
            part = sound[_starts_at(at_ms) : _starts_at(at_ms + APART_MS) - BLOCK]
            peak = part.max(initial=0.0)
            found.append(int(np.argmax(part >= ONSET_SHARE * peak)) if peak > 1e-4 else -1)
        written = path.with_suffix(f".{os.getpid()}.npy")
        np.save(written, np.array(found))
        written.replace(path)
    return tuple(None if delay < 0 else int(delay) for delay in np.load(path))
