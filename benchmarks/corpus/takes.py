"""Takes as people have them: a groove with fills, drop-outs and other takes of a bar, at a tempo that wanders, inside other sound.

Ahead of the drums may be talk, noodling or a count-in, after them the same, or they fade out. Bass and chords follow the wandering tempo.
Seeds are those of `pieces.py`; judged only, nothing is fitted to these.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.signal import lfilter

from bompla.model.drums import METERS
from corpus import RATE
from corpus.book import booked_groove
from corpus.grooves import DrawnGroove, Note, draw_groove
from corpus.pieces import PieceTruth, fill_of, in_seven, warp_of
from corpus.render import Mono, _band, _bank, _play, _recorded

AROUND = ("nothing", "nothing", "talk", "noodling", "count-in", "noise")
FADES, MIXES, SEVENS = 0.2, 0.4, 0.08


@dataclass(frozen=True, eq=False)
class TakeTruth(PieceTruth):
    """What is true of a take, and where in it the groove is played, from and to, in seconds; `around` says what else there is."""

    start_s: float = 0.0
    end_s: float = 0.0
    around: str = ""
    wanders: bool = False


def played_take(seed: int, group: str, seconds: float) -> tuple[NDArray[np.float32], TakeTruth]:
    """Return the sound of a take of one group of sounds, in which so many seconds are the groove, cut anywhere, and the truth."""
    rng = np.random.default_rng((seed, 14))
    groove = booked_groove(seed) if rng.random() < 0.5 else draw_groove(seed)
    if rng.random() < SEVENS and groove.meter == "4/4":
        groove = in_seven(groove)
    turns = int(np.ceil(seconds / groove.duration_s)) + 2
    warp = warp_of(rng, turns * groove.duration_s)
    whole = _played_long(groove, turns, rng, warp)
    _, bank = _bank((group,), seed, rng, varied=False)
    dry, _ = _play(whole, bank, rng, None, frozenset())
    if rng.random() < MIXES:
        dry = dry + _band(whole, len(dry), 0.0, rng, warp)
    sound = _recorded(dry, rng, wrapped=False)
    cut_s = warp(float(rng.uniform(0.0, groove.duration_s)))
    ahead, after = str(rng.choice(AROUND)), str(rng.choice(("nothing", "nothing", "talk", "noodling", "noise")))
    if ahead != "nothing":
        cut_s = warp(groove.duration_s)  # what is played after talk begins with a bar
    sound = sound[round(cut_s * RATE) : round((cut_s + seconds) * RATE)]
    sound = sound / (np.abs(sound).max() + 1e-9)
    if rng.random() < FADES:
        frames = round(min(8.0, seconds / 3) * RATE)
        sound[-frames:] *= np.linspace(1.0, 0.0, frames) ** 2
    lead = _other_sound(ahead, whole, bank, rng)
    tail = _other_sound(after, whole, bank, rng) if after != "count-in" else np.zeros(0)
    start_s = len(lead) / RATE
    bar_s = groove.duration_s / groove.bars
    lines = np.array([warp(n * bar_s) - cut_s for n in range(turns * groove.bars + 1)])
    lines = lines[(lines >= -0.01) & (lines <= seconds + 0.01)]
    beat_s = (lines[-1] - lines[0]) / (len(lines) - 1) / METERS[groove.meter].beats_per_bar if len(lines) > 1 else 60.0 / groove.bpm
    truth = TakeTruth(60.0 / beat_s, groove.meter, lines + start_s, start_s, start_s + seconds, f"{ahead}, {after}", warp is not float)
    made = np.concatenate([lead, sound, tail]) * rng.uniform(0.3, 0.99)
    return made.astype(np.float32), truth


def _played_long(groove: DrawnGroove, turns: int, rng: np.random.Generator, warp: Callable[[float], float]) -> DrawnGroove:
    """Return the groove played over and over, no two times alike, at a tempo that wanders."""
    notes: list[Note] = []
    dropped = rng.uniform(0.0, 0.06)
    for turn in range(turns):
        fill = fill_of(groove, rng) if rng.random() < 0.3 else None
        out = str(rng.choice(sorted({note.drum for note in groove.notes}))) if rng.random() < 0.12 else ""
        for note in groove.notes:
            if note.drum == out or rng.random() < dropped or (fill is not None and note.time_s >= groove.duration_s - fill[0]):
                continue
            at = turn * groove.duration_s + note.time_s + float(rng.normal(0.0, 0.002))
            velocity = int(np.clip(note.velocity + rng.normal(0.0, 5.0), 8, 127))
            notes.append(Note(max(0.0, warp(max(0.0, at))), note.beat + turn * groove.beats, note.drum, velocity))
        if fill is not None:
            notes += [Note(warp((turn + 1) * groove.duration_s - fill[0] + at), 0.0, drum, velocity) for at, drum, velocity in fill[1]]
        if rng.random() < 0.25:
            notes.append(Note(warp((turn + 1) * groove.duration_s), 0.0, "crash", 110))
    notes.sort(key=lambda note: (note.time_s, note.drum))
    return DrawnGroove(groove.kind, groove.bpm, groove.meter, groove.bars * turns, tuple(notes))


def _other_sound(what: str, groove: DrawnGroove, bank: Any, rng: np.random.Generator) -> Mono:
    """Return some seconds of what is no groove, as loud as such things are beside drums."""
    seconds = float(rng.uniform(2.0, 9.0))
    if what == "talk":
        return _talk(seconds, rng) * 10.0 ** (rng.uniform(-22.0, -6.0) / 20.0)
    if what == "noise":
        return rng.standard_normal(round(seconds * RATE)) * 10.0 ** (rng.uniform(-55.0, -35.0) / 20.0)
    if what == "noodling":
        drums = sorted({note.drum for note in groove.notes})
        times = np.cumsum(rng.exponential(0.22, int(seconds / 0.22)))
        hits = tuple(Note(float(at), 0.0, str(rng.choice(drums)), int(rng.integers(20, 110))) for at in times if at < seconds - 0.3)
        beats = int(seconds * groove.bpm / 60.0) + 1
        meter = METERS[groove.meter]
        some = DrawnGroove("noodling", groove.bpm, groove.meter, max(1, beats // meter.beats_per_bar), hits)
        played, _ = _play(some, bank, rng, None, frozenset())
        played = played[: round(seconds * RATE)]
        return np.asarray(played / (np.abs(played).max() + 1e-9) * rng.uniform(0.3, 0.9))
    if what == "count-in":
        beat_s = 60.0 / groove.bpm * (2.0 if groove.meter in ("7/8", "6/8") else 1.0)
        out = np.zeros(round(4 * beat_s * RATE))
        t = np.arange(1_500) / RATE
        for beat in range(4):
            tick = np.sin(2 * np.pi * 1_900.0 * t) * np.exp(-t / 0.006) + 0.4 * rng.standard_normal(1_500) * np.exp(-t / 0.003)
            at = round(beat * beat_s * RATE)
            out[at : at + 1_500] += 0.35 * tick
        return out
    return np.zeros(0)


def _talk(seconds: float, rng: np.random.Generator) -> Mono:
    """Return what sounds like someone speaking: a buzz through moving formants, in syllables, with hisses and pauses."""
    out = np.zeros(round(seconds * RATE))
    at = 0.1
    while at < seconds - 0.5:
        length = float(rng.uniform(0.09, 0.28))
        t = np.arange(round(length * RATE)) / RATE
        pitch = rng.uniform(90.0, 190.0) * (1.0 - 0.15 * t / length)
        buzz = (np.cumsum(pitch) / RATE % 1.0) * 2.0 - 1.0 if rng.random() < 0.8 else rng.standard_normal(len(t)) * 0.5
        voice = np.zeros(len(t))
        for low, high, width in ((300, 800, 90), (900, 2_200, 130), (2_300, 3_200, 200)):
            hz = rng.uniform(low, high)
            radius = np.exp(-np.pi * width / RATE)
            voice += lfilter([1.0 - radius], [1.0, -2.0 * radius * np.cos(2 * np.pi * hz / RATE), radius**2], buzz)
        voice *= np.minimum(1.0, t / 0.02) * np.minimum(1.0, (length - t) / 0.05)
        start = round(at * RATE)
        out[start : start + len(t)] += voice / (np.abs(voice).max() + 1e-9) * rng.uniform(0.4, 1.0)
        at += length + float(rng.choice([0.02, 0.05, 0.3, 0.6], p=[0.5, 0.3, 0.15, 0.05]))
    return out
