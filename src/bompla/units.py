"""Conversions between units, in one place."""

from __future__ import annotations

import math

MAX_VELOCITY = 127
SILENCE_DB = -120.0
VELOCITY_EXPONENT_DB = 40.0
"""Level falls by 40 log10 of the velocity, as in the General MIDI DLS level 1 sound model."""

MOST_RAISED_DB = 6.0
"""A hard strike raises a slice no more than this above how it was played, before its pad's level."""


def gain_to_db(gain: float) -> float:
    """Return the level in dB of a linear gain, no lower than `SILENCE_DB`."""
    return 20.0 * math.log10(gain) if gain > 1e-6 else SILENCE_DB


def db_to_gain(level_db: float) -> float:
    """Return the linear gain of a level in dB; `SILENCE_DB` and below give exactly zero."""
    return 0.0 if level_db <= SILENCE_DB else 10.0 ** (level_db / 20.0)


def velocity_to_db(velocity: float) -> float:
    """Return the level in dB of a velocity from 1 to 127, relative to velocity 127."""
    return VELOCITY_EXPONENT_DB * math.log10(max(velocity, 1.0) / MAX_VELOCITY)


def db_to_velocity(level_db: float) -> int:
    """Return the velocity, 1 to 127, whose level relative to 127 is nearest to `level_db`."""
    velocity = MAX_VELOCITY * 10.0 ** (level_db / VELOCITY_EXPONENT_DB)
    return clamped_velocity(velocity)


def clamped_velocity(velocity: float) -> int:
    """Return the velocity, 1 to 127, that is nearest to a number."""
    return int(max(1, min(MAX_VELOCITY, round(velocity))))


def samples_to_s(samples: float, sample_rate: int) -> float:
    """Return a length in samples as seconds."""
    return samples / sample_rate


def ms_to_samples(ms: float, sample_rate: int) -> int:
    """Return a time in milliseconds as the nearest sample."""
    return round(ms * sample_rate / 1000.0)


def samples_to_ms(samples: float, sample_rate: int) -> float:
    """Return a length in samples as milliseconds."""
    return 1000.0 * samples / sample_rate


def bpm_of(*, beats: float, seconds: float) -> float:
    """Return the tempo in beats per minute of so many beats in so many seconds."""
    return 60.0 * beats / seconds


NOTE_NAMES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")


def note_name(midi_note: int) -> str:
    """Return the name of a MIDI note, with middle C (60) as C4."""
    return f"{NOTE_NAMES[midi_note % 12]}{midi_note // 12 - 1}"
