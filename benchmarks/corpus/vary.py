"""Strikes made over, so that what is learned holds for kits that nobody has heard: pitch, decay, tone, drive, layers.

All of it is by drum and by loop: a drum keeps its sound through a loop, as a real one does.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import soxr
from numpy.typing import NDArray

from bompla.demo.synth import VOICES
from corpus import RATE
from corpus.kits import VELOCITIES, Bank, Voice, font_bank, font_kits, from_onset, synth_voice

STRANGER_SHARE = 0.4
"""How often a drum comes from another kit than the rest."""

ANYWHERE_SHARE = 0.65
"""And how often where it may be any kit of many groups of sounds."""

RINGING_SHARE, RINGS_S, OPEN_RINGS_S = 0.5, (0.08, 0.35), 0.4
"""How often a closed hat is one held half open, how fast it then fades, and how fast at most an open one beside it does."""

LAYER_SHARE = 0.12


Voices = dict[int, Voice]
"""Strikes of one drum by their place in `VELOCITIES`."""


@dataclass(frozen=True)
class Variety:
    """What a loop's drums may come from beside its kit: `seed` names kits of our own synthesis.

    Other kits are those of the loop's own group of sounds, so that a group left out of learning stays unheard, or of all
    groups of `anywhere`. Where closed hats may be `ringing` they are told from open ones by what else the loop has.
    """

    group: str
    seed: int
    anywhere: tuple[str, ...] = ()
    ringing: bool = False


def draw_voices(drum: str, levels: frozenset[int], bank: Bank, variety: Variety, rng: np.random.Generator) -> Voices | None:
    """Return the voices of a drum at some of `VELOCITIES`, made over by chance; None where no kit at hand has it."""
    ringing = variety.ringing and drum == "hat_closed" and rng.random() < RINGING_SHARE
    voices = _picked("hat_open" if ringing else drum, levels, bank, variety, rng)
    if voices is None:
        return None
    if rng.random() < LAYER_SHARE:
        other = _picked(drum, levels, bank, replace(variety, seed=variety.seed + 1), rng)
        if other is not None:
            share = rng.uniform(0.2, 0.8)
            voices = {
                level: _sum((1.0 - share) * _level(voice), share * _level(other[level])) * np.abs(voice).max()
                for level, voice in voices.items()
            }
    made = _made_over(voices, rng, OPEN_RINGS_S if variety.ringing and drum == "hat_open" else 0.0)
    return _fading(made, float(np.exp(rng.uniform(*np.log(RINGS_S))))) if ringing else made


def _picked(drum: str, levels: frozenset[int], bank: Bank, variety: Variety, rng: np.random.Generator) -> Voices | None:
    chance = rng.random()
    share = ANYWHERE_SHARE if variety.anywhere else STRANGER_SHARE
    kits = font_kits(variety.anywhere or (variety.group,)) if STRANGER_SHARE / 2 <= chance < share else []
    if not (kits and variety.anywhere) and (chance < STRANGER_SHARE / 2 or drum not in bank.voices):
        return {level: synth_voice(70_000 + variety.seed // 4, drum, level) for level in levels} if drum in VOICES else None
    if kits:
        bank = font_bank(*kits[int(rng.integers(len(kits)))])
    options = bank.voices.get(drum)
    if not options:
        return None
    option = options[int(rng.integers(len(options)))]
    return {level: option[level] for level in levels}


def _fading(voices: Voices, decay_s: float) -> Voices:
    return {place: (voice * np.exp(-np.arange(len(voice)) / (decay_s * RATE))).astype(np.float32) for place, voice in voices.items()}


def _made_over(voices: Voices, rng: np.random.Generator, least_decay_s: float) -> Voices:
    pitch = float(np.exp(np.clip(rng.normal(0.0, 0.13), -0.4, 0.4)))
    decay_s = float(np.exp(rng.uniform(np.log(0.04), np.log(1.0)))) if rng.random() < 0.35 else 0.0
    decay_s = max(decay_s, least_decay_s) if decay_s else 0.0
    gate_s = float(rng.uniform(0.06, 0.5)) if rng.random() < 0.12 else 0.0
    snap_db = float(rng.uniform(-7.0, 7.0)) if rng.random() < 0.35 else 0.0
    snap_s = float(rng.uniform(0.003, 0.02))
    drive = float(rng.uniform(1.0, 6.0)) if rng.random() < 0.2 else 0.0
    curve = _curve(rng) if rng.random() < 0.6 else None
    soft = float(rng.uniform(-5.0, 5.0)) if rng.random() < 0.5 else 0.0
    out = {}
    for place, voice in voices.items():
        velocity = VELOCITIES[place]
        peak = float(np.abs(voice).max(initial=1e-9))
        sound = np.asarray(soxr.resample(voice, RATE * pitch, RATE) if abs(pitch - 1.0) > 0.005 else voice, np.float64)
        t = np.arange(len(sound)) / RATE
        if decay_s:
            sound = sound * np.exp(-t / decay_s)
        if gate_s:
            sound = sound * np.clip((gate_s - t) / 0.01, 0.0, 1.0)
        if snap_db:
            sound = sound * 10.0 ** (snap_db * np.exp(-t / snap_s) / 20.0)
        if curve is not None:
            sound = _toned(sound, curve + soft * (1.0 - velocity / 127.0) * _TILT)
        if drive:
            level = float(np.abs(sound).max(initial=1e-9))
            sound = np.tanh(drive * (velocity / 127.0) * sound / level) * level
        sound = from_onset(sound)
        out[place] = (sound * (peak / max(float(np.abs(sound).max(initial=0.0)), 1e-9))).astype(np.float32) if len(sound) else voice
    return out


_OCTAVES = np.linspace(np.log2(30.0), np.log2(20_000.0), 40)
_TILT = (_OCTAVES - np.log2(900.0)) * 0.8
"""A tilt about 900 Hz: soft strikes are duller than hard ones, or brighter, by drum."""


def _curve(rng: np.random.Generator) -> NDArray[np.floating]:
    curve = rng.normal(0.0, 1.6) * (_OCTAVES - np.log2(900.0))
    for _ in range(int(rng.integers(0, 4))):
        middle, width = rng.uniform(_OCTAVES[0], _OCTAVES[-1]), rng.uniform(0.3, 1.2)
        curve = curve + rng.uniform(-9.0, 9.0) * np.exp(-(((_OCTAVES - middle) / width) ** 2))
    return np.clip(curve, -24.0, 18.0)


def _toned(sound: NDArray[np.floating], curve_db: NDArray[np.floating]) -> NDArray[np.floating]:
    """Filter with minimum phase, so that nothing sounds before the strike (Oppenheim and Schafer, the folded cepstrum)."""
    size = 1024
    bins = np.log2(np.maximum(np.fft.rfftfreq(size, 1.0 / RATE), 20.0))
    cepstrum = np.fft.irfft(np.interp(bins, _OCTAVES, curve_db) * (np.log(10.0) / 20.0), size)
    cepstrum[1 : size // 2] *= 2.0
    cepstrum[size // 2 + 1 :] = 0.0
    answer = np.fft.irfft(np.exp(np.fft.rfft(cepstrum)), size)
    padded = 1 << int(np.ceil(np.log2(len(sound) + size)))
    return np.asarray(np.fft.irfft(np.fft.rfft(sound, padded) * np.fft.rfft(answer, padded), padded)[: len(sound)])


def _level(voice: Voice) -> Voice:
    return voice / max(float(np.abs(voice).max(initial=0.0)), 1e-9)


def _sum(a: Voice, b: Voice) -> Voice:
    out = np.zeros(max(len(a), len(b)), np.float32)
    out[: len(a)] += a
    out[: len(b)] += b
    return out
