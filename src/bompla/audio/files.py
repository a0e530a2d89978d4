"""Reading sound files into clips and writing clips as sound files."""

from __future__ import annotations

import io
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import IO

import numpy as np
import soundfile

from bompla.audio.clip import MAX_RATE, MIN_RATE, Clip, Samples
from bompla.audio.memory import release_pages, samples_for
from bompla.errors import SoundFileError
from bompla.files import name_of, open_regular, reason_of

MAX_DURATION_S = 3_600.0
MOST_SAMPLES = 400_000_000
"""So many numbers, 1.6 GB, is the most sound that is read, of all channels together: an hour of stereo at 48 kHz is 346 million."""

MOST_LEVEL = 1_000.0
"""Samples beyond this, 60 dB over full scale, are damage and no sound."""

SUFFIXES = (".wav", ".w64", ".rf64", ".flac", ".aif", ".aiff", ".aifc", ".ogg", ".oga", ".opus", ".mp3")
"""The endings offered in dialogs; what a file is, is read from its content."""

_LOSSY = ("MP3", "MPEG", "MPEG_LAYER_I", "MPEG_LAYER_II", "MPEG_LAYER_III", "VORBIS", "OPUS")
_FULL_24 = 1 << 23
_FLAC_CHANNELS, _FLAC_RATE, _WAV_BYTES = 8, 655_350, 4_000_000_000
_SNIFF_BYTES, _PEAK_WITHIN = 64, 4_096
_BLOCK_FRAMES = 1 << 18
_TRUSTED_FRAMES = 1 << 20
"""Once so much was there, a header is believed in how much there is."""

_LET_GO_BLOCKS = 16
_SIZES = re.compile(r"^ ?(?:data|SSND) : (\d+) \(should be (\d+)\)", re.MULTILINE)
"""What libsndfile notes of a sound chunk whose size is not the one its header names."""

_UNKNOWN_SIZE = 0xFFFF_FF00
"""From here on a size only says that the writer did not know it, as in a stream."""



def read_clip(path: Path) -> Clip:
    """Read a sound file whole.

    WAV, RF64, W64, AIFF, FLAC, Ogg (Vorbis, Opus) and MP3, at any rate and channel count, up to
    an hour. Values that are not finite become silence.

    Raises SoundFileError, with a sentence that names the file, for a missing, empty, truncated,
    over-long or unreadable file, and for one that is not sound.
    """
    _check_openable(path)
    try:
        with soundfile.SoundFile(os.fsencode(path)) as stream:  # as bytes: a name need not be text
            _check_header(path, stream)
            try:
                samples = _read_all(stream)
            except soundfile.LibsndfileError as error:
                raise SoundFileError(f"{path.name} is damaged or cut short. Copy or export it again.") from error
            promised = stream.frames
            sample_rate = int(stream.samplerate)
            rounded = stream.format in _LOSSY or stream.subtype in _LOSSY
    except (soundfile.LibsndfileError, TypeError) as error:  # TypeError: where it asks for a form that the file should say
        raise SoundFileError(_refusal(path, error)) from error
    except OSError as error:
        raise SoundFileError(f"Could not read {path.name}: {reason_of(error)}.") from error
    if samples.shape[0] == 0:
        raise SoundFileError(f"{path.name} holds no sound: it has a header and no samples.")
    _check_complete(path, samples.shape[0], promised)
    return Clip(_possible(samples, rounded=rounded), sample_rate)


def kept_suffix(clip: Clip) -> str:
    """Return the suffix of a file that gives back every sample of a clip: FLAC for up to 8 channels of 24 bits or less, else WAV."""
    fits = clip.channels <= _FLAC_CHANNELS and clip.sample_rate <= _FLAC_RATE
    return ".flac" if fits and all(_holds_24_bits(block) for block in _blocks(clip)) else ".wav"


def kept_bytes(clip: Clip) -> bytes:
    """Return a clip as the bytes of a file that gives back every sample of it: see `kept_suffix`."""
    if kept_suffix(clip) == ".wav":
        return _undated(encode_clip(clip, container="RF64" if clip.samples.nbytes > _WAV_BYTES else "WAV", subtype="FLOAT"))
    whole = np.empty(clip.samples.shape, np.int32)
    for n, block in enumerate(_blocks(clip)):  # as whole numbers: of floats the library takes the loudest for a little less
        whole[n * _BLOCK_FRAMES : (n + 1) * _BLOCK_FRAMES] = (block * np.float32(_FULL_24)).astype(np.int32) << 8
    target = io.BytesIO()
    soundfile.write(target, whole, clip.sample_rate, format="FLAC", subtype="PCM_24")
    return target.getvalue()


def _undated(wav: bytes) -> bytes:
    """Return a float WAV without the time at which its peak was noted: the same sound is the same file, whenever it is written."""
    at = wav.find(b"PEAK", 12, _PEAK_WITHIN)
    return wav if at < 0 else wav[: at + 12] + bytes(4) + wav[at + 16 :]


def _blocks(clip: Clip) -> Iterator[Samples]:
    for start in range(0, clip.frames, _BLOCK_FRAMES):
        yield clip.samples[start : start + _BLOCK_FRAMES]


def _holds_24_bits(block: Samples) -> bool:
    """Whether every sample is one of 24 bits, and none over full scale."""
    scaled = block * np.float32(_FULL_24)
    return bool(np.array_equal(np.rint(scaled), scaled) and scaled.max(initial=0.0) < _FULL_24 and scaled.min(initial=0.0) >= -_FULL_24)


def encode_clip(clip: Clip, *, container: str = "FLAC", subtype: str = "PCM_24") -> bytes:
    """Return the clip as the bytes of a sound file, clipped to full scale in fixed-point subtypes."""
    target = io.BytesIO()
    try:
        soundfile.write(target, clip.samples, clip.sample_rate, format=container, subtype=subtype)
    except (soundfile.LibsndfileError, ValueError) as error:
        raise SoundFileError(
            f"This sound cannot be stored as {container}: {str(error).rstrip('.')}."
        ) from error
    return target.getvalue()


def decode_clip(content: bytes | IO[bytes], name: str, *, frames: int = 0) -> Clip:
    """Read a clip from the bytes of a sound file, or a stream of them; `name` is used in error messages.

    Where `frames` says how long it has to be, another length is refused before anything is decoded. Raises SoundFileError.
    """
    try:
        with soundfile.SoundFile(io.BytesIO(content) if isinstance(content, bytes) else content) as stream:
            if frames and stream.frames != frames:
                raise SoundFileError(f"{name} is not as long as it has to be.")
            if stream.frames / max(1, stream.samplerate) > MAX_DURATION_S or stream.frames * stream.channels > MOST_SAMPLES:
                raise SoundFileError(f"{name} is longer than an hour, or of too many channels.")
            samples, rate = _read_all(stream), int(stream.samplerate)
    except soundfile.LibsndfileError as error:
        raise SoundFileError(f"{name} is damaged and cannot be read.") from error
    if samples.shape[0] == 0:
        raise SoundFileError(f"{name} holds no sound.")
    return Clip(_possible(samples), rate)


def _possible(samples: np.ndarray, *, rounded: bool = False) -> np.ndarray:
    """Return samples in which what cannot be sound, not finite or far beyond full scale, is silent.

    Those of a coding that has no bits of its own are `rounded` to 24, so that they can be kept as they are.
    """
    for start in range(0, len(samples), _BLOCK_FRAMES):
        block = samples[start : start + _BLOCK_FRAMES]
        wrong = ~(np.abs(block) <= MOST_LEVEL)
        if wrong.any():
            block[wrong] = 0.0
        if rounded:
            np.rint(block * np.float32(_FULL_24), out=block)
            block /= np.float32(_FULL_24)
        if start % (_LET_GO_BLOCKS * _BLOCK_FRAMES) == 0:
            release_pages(samples)
    return samples


def _check_openable(path: Path) -> None:
    try:
        if path.is_dir():
            raise SoundFileError(f"{path.name} is a folder; open a sound file from inside it.")
        with open_regular(path) as stream:
            head = stream.read(_SNIFF_BYTES)
    except FileNotFoundError as error:
        raise SoundFileError(f"There is no file {path}; it may have been moved or renamed.") from error
    except PermissionError as error:
        raise SoundFileError(f"{path.name} may not be read; check the rights of the file.") from error
    except OSError as error:
        raise SoundFileError(f"Could not read {name_of(path)}: {reason_of(error, reading=True)}.") from error
    if not head:
        raise SoundFileError(f"{path.name} is empty (0 bytes).")
    if path.suffix.lower() == ".raw":  # which the library takes for sound of a form that it has to be told
        raise SoundFileError(f"{path.name} does not say which rate and channels it has; import it elsewhere and save it as WAV.")


def _check_header(path: Path, stream: soundfile.SoundFile) -> None:
    if not MIN_RATE <= stream.samplerate <= MAX_RATE:
        raise SoundFileError(f"{path.name} names a sample rate of {stream.samplerate} Hz, which cannot be right.")
    sizes = _SIZES.search(stream.extra_info)
    if sizes is not None and int(sizes[2]) < int(sizes[1]) < _UNKNOWN_SIZE:
        share = 100.0 * int(sizes[2]) / int(sizes[1])
        raise SoundFileError(f"{path.name} is cut short: {share:.0f} % of its sound is there. Copy or export it again.")
    known = 0 < stream.frames < 1 << 62
    if known and stream.frames / stream.samplerate > MAX_DURATION_S:
        minutes = stream.frames / stream.samplerate / 60.0
        raise SoundFileError(
            f"{path.name} lasts {minutes:.0f} minutes; Bompla opens up to 60. Cut out the part you want first."
        )
    if known and stream.frames * stream.channels > MOST_SAMPLES:
        raise SoundFileError(f"{path.name} is too much sound, {_as_sound(stream.frames * stream.channels)}; Bompla opens up to "
                             f"{_as_sound(MOST_SAMPLES)}, over an hour of stereo at 48 kHz. Cut it, or save it at a lower rate, first.")


def _read_all(stream: soundfile.SoundFile) -> np.ndarray:
    """Read by blocks, so that a header that promises too much costs no memory: there is room for more only once what is there is full."""
    limit = min(int(MAX_DURATION_S * stream.samplerate), MOST_SAMPLES // stream.channels)
    room = np.empty((0, stream.channels), np.float32)
    read = 0
    while read <= limit:
        block = stream.read(_BLOCK_FRAMES, dtype="float32", always_2d=True)
        if block.shape[0] == 0:
            break
        if read + block.shape[0] > len(room):
            known = min(stream.frames, limit + 1) if read >= _TRUSTED_FRAMES else 0
            larger = samples_for(max(known, 2 * len(room), read + block.shape[0]), stream.channels)
            larger[:read] = room[:read]
            room = larger
        room[read : read + block.shape[0]] = block
        read += block.shape[0]
        if read % (_LET_GO_BLOCKS * _BLOCK_FRAMES) == 0:
            release_pages(room)
    return room[:read]


def _as_sound(samples: int) -> str:
    return f"{4.0 * samples / 1e9:.1f} GB"


def _check_complete(path: Path, read_frames: int, promised: int) -> None:
    if promised < 1 << 62 and read_frames < promised:
        raise SoundFileError(
            f"{path.name} is cut short: {read_frames:,} of {promised:,} samples are there. Copy or export it again."
        )


def _refusal(path: Path, error: Exception) -> str:
    if path.suffix.lower() in SUFFIXES and isinstance(error, soundfile.LibsndfileError):
        return (
            f"{path.name} has the ending of a sound file but cannot be read as one: "
            f"it may be damaged or of another kind ({error.error_string.strip(' .').lower()})."
        )
    return f"{path.name} is not a sound file that Bompla can read (WAV, AIFF, FLAC, Ogg or MP3)."
