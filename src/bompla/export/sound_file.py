"""Sound on its way into a file: loudness, the ceiling, dither, and the chunks that name places in it."""

from __future__ import annotations

import io
import zlib
from collections.abc import Mapping, Sequence
from functools import cache, reduce

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.audio.loudness import loudness_db
from bompla.engine.ceiling import BLOCK, held_below
from bompla.errors import ExportError
from bompla.export.options import ExportOptions
from bompla.formats.wav_chunks import CuePoint, with_chunks
from bompla.units import SILENCE_DB, db_to_gain, gain_to_db

OVERSAMPLED = 4
"""True peaks are looked for at so many times the rate (ITU-R BS.1770-4, annex 2)."""

_CONTAINERS = {"wav": "WAV", "flac": "FLAC", "aiff": "AIFF"}
NOISE_VALUES = 1 << 20
"""So many values of noise are drawn once: twelve seconds of stereo."""

_SUBTYPES = {16: "PCM_16", 24: "PCM_24", 32: "FLOAT"}


def suffix(options: ExportOptions) -> str:
    """Return the ending of sound files."""
    return f".{options.format}"


def encoded(
    clip: Clip, options: ExportOptions, *, cues: Sequence[CuePoint] = (), loop: tuple[int, int] | None = None, note: int = 60,
    info: Mapping[str, str] | None = None, levelled: bool = False, as_it_is: bool = False,
) -> tuple[bytes, dict[str, object]]:
    """Return sound as the bytes of a file, and what was done on the way as facts.

    Float files hold the sound as it is. In others true peaks stay under the ceiling, and bits that are lost are dithered with noise of
    triangular density (Lipshitz, Wannamaker and Vanderkooy, "Quantization and dither: a theoretical survey", 1992). With `levelled`
    the options' loudness is given to it; `as_it_is` is a piece of the source, which passes unless it is over full scale. Cue points,
    loop and info are for WAV alone. Raises ExportError where it cannot be stored.
    """
    sound, facts = clip.samples, dict[str, object]()
    if levelled and options.loudness_lufs < 0.0:
        now = loudness_db(clip)
        if now > SILENCE_DB:
            gain_db = options.loudness_lufs - now
            sound = sound * np.float32(db_to_gain(gain_db))
            facts["gain_db"] = round(gain_db, 2)
    within = as_it_is and not facts and float(np.abs(sound).max(initial=0.0)) <= 1.0
    if options.bits != 32 and not within:
        sound, turned_db = held_below(sound, clip.sample_rate, _peaks(sound, clip.sample_rate))
        if turned_db > 0.005:
            facts["ceiling_db"] = round(-turned_db, 2)
    facts["peak_db"] = round(gain_to_db(float(np.abs(sound).max(initial=0.0))), 2)
    target = io.BytesIO()
    stored = sound if options.bits == 32 else _whole_numbers(sound, options.bits)
    try:
        soundfile.write(target, stored, clip.sample_rate, format=_CONTAINERS[options.format], subtype=_SUBTYPES[options.bits])
    except (soundfile.LibsndfileError, ValueError) as error:
        raise ExportError(f"Sound of {clip.channels} channels at {clip.sample_rate} Hz cannot be stored as {options.format.upper()} with "
                          f"{options.bits} bits; choose another format.") from error
    content = target.getvalue()
    if options.format == "wav" and (cues or loop or info):
        content = with_chunks(content, sample_rate=clip.sample_rate, cues=cues, loop=loop, note=note, info=info)
    return content, facts


def _peaks(sound: NDArray[np.float32], sample_rate: int) -> NDArray[np.float64]:
    """Return the true peak of each block of `BLOCK` frames; the peak of samples alone where it is far from full scale."""
    level = loudest_channel(sound)
    if float(level.max(initial=0.0)) > db_to_gain(-4.0):
        between = loudest_channel(soxr.resample(sound, sample_rate, OVERSAMPLED * sample_rate, quality="LQ"))
        between = np.pad(between, (0, max(0, OVERSAMPLED * len(level) - len(between))))[: OVERSAMPLED * len(level)]
        level = reduce(np.maximum, [between[first::OVERSAMPLED] for first in range(OVERSAMPLED)], level)
    return np.asarray(np.maximum.reduceat(level, np.arange(0, len(level), BLOCK)) if len(level) else level, np.float64)


def loudest_channel(sound: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return the level of each frame's loudest channel; by channels, as NumPy is slow along so short an axis."""
    return reduce(np.maximum, np.abs(sound).T)


@cache
def _noise() -> NDArray[np.float32]:
    """Return noise of triangular density from -1 to 1, the same turn twice, so that from anywhere in the first a whole one follows."""
    drawn = np.random.default_rng(1).random((2, NOISE_VALUES), np.float32)
    return np.tile(drawn[0] - drawn[1], 2)


def _whole_numbers(sound: NDArray[np.float32], bits: int) -> NDArray[np.int32]:
    """Return samples as whole numbers at the top of 32 bits, dithered where some of them are lost; the same sound always the same."""
    full = float(1 << (bits - 1))
    scaled = np.multiply(sound, full, dtype=np.float64)
    nearest = np.rint(scaled)
    if not np.array_equal(nearest, scaled):
        start = zlib.crc32(np.ascontiguousarray(sound).data.cast("B")) % NOISE_VALUES
        noise = _noise()
        scaled += np.resize(noise[start : start + min(sound.size, NOISE_VALUES)], sound.shape)
        nearest = np.rint(scaled, out=scaled)
        nearest[loudest_channel(sound) == 0.0] = 0.0  # digital silence stays silent
    whole = np.clip(nearest, -full, full - 1.0, out=nearest).astype(np.int32)
    return np.left_shift(whole, 32 - bits, out=whole)
