"""Clips, sound files, loudness and summaries."""

from __future__ import annotations

import errno
import gc
import io
import os
import pickle
import struct
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from bompla.analysis.hearing.spectrum import spectrum_of
from bompla.audio import memory
from bompla.audio.clip import Clip
from bompla.audio.files import decode_clip, encode_clip, read_clip
from bompla.audio.loudness import loudness_db
from bompla.audio.resample import resampled
from bompla.audio.summary import WaveSummary
from bompla.errors import BomplaError, SoundFileError
from bompla.files import write_atomically


def sine(hz: float, seconds: float, rate: int, channels: int = 1, gain: float = 0.5) -> Clip:
    wave = gain * np.sin(2 * np.pi * hz * np.arange(round(seconds * rate)) / rate)
    return Clip(np.repeat(wave[:, np.newaxis], channels, axis=1).astype(np.float32), rate)


@pytest.mark.parametrize(
    ("suffix", "container", "subtype", "rate", "channels"),
    [
        (".wav", "WAV", "PCM_16", 44_100, 2),
        (".wav", "WAV", "PCM_24", 96_000, 1),
        (".wav", "WAV", "FLOAT", 8_000, 6),
        (".wav", "RF64", "PCM_16", 48_000, 2),
        (".w64", "W64", "PCM_16", 22_050, 1),
        (".aiff", "AIFF", "PCM_16", 44_100, 2),
        (".flac", "FLAC", "PCM_24", 192_000, 2),
        (".ogg", "OGG", "VORBIS", 44_100, 2),
        (".ogg", "OGG", "OPUS", 48_000, 1),
        (".mp3", "MP3", "MPEG_LAYER_III", 44_100, 2),
    ],
)
def test_files_of_all_kinds_are_read(tmp_path: Path, suffix: str, container: str, subtype: str, rate: int, channels: int) -> None:
    clip = sine(440.0, 0.5, rate, channels)
    path = tmp_path / f"tone{suffix}"
    soundfile.write(path, clip.samples, rate, format=container, subtype=subtype)
    read = read_clip(path)
    assert (read.sample_rate, read.channels) == (rate, channels)
    assert read.duration_s == pytest.approx(0.5, abs=0.06)
    spectrum = np.abs(np.fft.rfft(read.mono * np.hanning(read.frames)))
    assert np.argmax(spectrum) * rate / read.frames == pytest.approx(440.0, abs=6.0)


def wav(data: bytes, *, bits: int = 16, promised: int | None = None, channels: int = 1, rate: int = 44_100) -> bytes:
    """Return a WAV file byte by byte: RIFF, a format chunk, and data that may promise more than there is."""
    size = len(data) if promised is None else promised
    block = channels * bits // 8
    return (
        b"RIFF" + struct.pack("<I", 36 + size) + b"WAVE"
        b"fmt " + struct.pack("<IHHIIHH", 16, 1, channels, rate, rate * block, block, bits)
        + b"data" + struct.pack("<I", size) + data
    )


def test_a_size_left_open_by_a_stream_is_no_fault(tmp_path: Path) -> None:
    path = tmp_path / "stream.wav"
    path.write_bytes(wav(b"\1\2" * 500, promised=0xFFFFFFFF - 36))
    assert read_clip(path).frames == 500


def test_known_bytes_become_known_samples(tmp_path: Path) -> None:
    path = tmp_path / "four.wav"
    path.write_bytes(wav(struct.pack("<4h", 0, 16384, -32768, 32767)))
    assert read_clip(path).samples[:, 0] == pytest.approx([0.0, 0.5, -1.0, 32767 / 32768])


BROKEN: list[tuple[str, bytes, str]] = [
    ("empty.wav", b"", "empty"),
    ("header only.wav", wav(b""), "no sound"),
    ("text.wav", b"this is a letter, not a sound\n" * 40, "cannot be read as one"),
    ("text.txt", b"this is a letter, not a sound\n" * 40, "not a sound file"),
    ("half a header.wav", wav(b"\0" * 64)[:20], "cannot be read as one"),
    ("cut.wav", wav(b"\1\2" * 500, promised=4_000), "25 % of its sound"),
    ("cut.flac", encode_clip(sine(300.0, 2.0, 44_100), subtype="PCM_16")[:9_000], "cut short"),
    ("rate.wav", wav(b"\0" * 64, rate=7), "7 Hz"),
]


@pytest.mark.parametrize(("name", "content", "words"), BROKEN, ids=[name for name, _, _ in BROKEN])
def test_broken_files_are_refused_in_words(tmp_path: Path, name: str, content: bytes, words: str) -> None:
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises(SoundFileError) as caught:
        read_clip(path)
    assert name in str(caught.value)
    assert words in str(caught.value)


def test_missing_files_and_folders_are_refused_in_words(tmp_path: Path) -> None:
    with pytest.raises(SoundFileError, match="no file"):
        read_clip(tmp_path / "gone.wav")
    with pytest.raises(SoundFileError, match="folder"):
        read_clip(tmp_path)


def test_values_that_are_not_numbers_become_silence(tmp_path: Path) -> None:
    path = tmp_path / "nan.wav"
    samples = np.full(64, np.nan, np.float32)
    samples[::2] = 0.25
    soundfile.write(path, samples, 44_100, subtype="FLOAT")
    read = read_clip(path)
    assert np.isfinite(read.samples).all()
    assert read.samples[0, 0] == pytest.approx(0.25)


def test_encoding_gives_back_the_same_sound() -> None:
    clip = sine(333.0, 0.3, 44_100, 2)
    back = decode_clip(encode_clip(clip), "it")
    assert np.abs(back.samples - clip.samples).max() < 2**-22
    assert decode_clip(encode_clip(clip, container="WAV", subtype="FLOAT"), "it").content_hash == clip.content_hash


def test_loudness_is_that_of_the_standard() -> None:
    """ITU-R BS.1770: a full-scale 997 Hz sine in one channel measures -3.01 LUFS, in two +0.0."""
    assert loudness_db(sine(997.0, 4.0, 48_000, 1, gain=1.0)) == pytest.approx(-3.01, abs=0.05)
    assert loudness_db(sine(997.0, 4.0, 44_100, 2, gain=1.0)) == pytest.approx(0.0, abs=0.05)
    assert loudness_db(sine(40.0, 4.0, 48_000, 1)) < loudness_db(sine(997.0, 4.0, 48_000, 1)) - 3.0
    assert loudness_db(Clip(np.zeros((4_800, 2), np.float32), 48_000)) == -120.0


@pytest.mark.parametrize("rate", [8_000, 22_050, 96_000])
def test_resampling_keeps_places_and_length(rate: int) -> None:
    clip = sine(200.0, 1.0, rate)
    there = resampled(clip, 48_000)
    assert there.frames == 48_000
    phase = there.samples[4_800:43_200, 0] - 0.5 * np.sin(2 * np.pi * 200.0 * np.arange(4_800, 43_200) / 48_000)
    assert np.abs(phase).max() < 2e-3


@settings(max_examples=60, deadline=None)
@given(
    frames=st.integers(1, 4_000), start=st.floats(-500.0, 4_000.0), span=st.floats(1.0, 5_000.0), count=st.integers(1, 300),
    seed=st.integers(0, 9),
)
def test_every_peak_is_in_its_column(frames: int, start: float, span: float, count: int, seed: int) -> None:
    """A summary's column covers every whole block in it, and shows nothing further off than a block."""
    samples = np.random.default_rng(seed).uniform(-1.0, 1.0, (frames, 2)).astype(np.float32)
    columns = WaveSummary.of(Clip(samples, 44_100)).columns(start, start + span, count)
    edges = np.linspace(start, start + span, count + 1)
    block = max(1.0, span / count, 32.0)
    for (low, high), first, last in zip(columns, edges[:-1], edges[1:], strict=True):
        unit = block if span / count >= 32.0 else 1.0
        inside = samples[max(0, int(np.ceil(first + unit))) : max(0, int(np.floor(last - unit)))]
        if inside.size:
            assert low <= inside.min() + 1e-6
            assert high >= inside.max() - 1e-6
        near = samples[max(0, int(first - 2 * block)) : max(0, int(last + 2 * block) + 1)]
        assert low >= min(0.0, near.min(initial=0.0)) - 1e-6
        assert high <= max(0.0, near.max(initial=0.0)) + 1e-6


def test_the_atomic_writer_keeps_what_was_there(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "kept.bin"
    write_atomically(path, b"first", BomplaError)

    def full(_descriptor: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(BomplaError, match="disk is full"):
        write_atomically(path, b"second", BomplaError)
    assert path.read_bytes() == b"first"
    assert [p.name for p in tmp_path.iterdir()] == ["kept.bin"]
    with pytest.raises(BomplaError, match="does not exist"):
        write_atomically(tmp_path / "no" / "where.bin", b"", BomplaError)


def test_a_clip_is_a_value() -> None:
    samples = np.zeros((10, 2), np.float32)
    clip = Clip(samples, 44_100)
    with pytest.raises(ValueError, match="read-only"):
        clip.samples[0, 0] = 1.0
    assert clip.content_hash == Clip(samples.copy(), 44_100).content_hash != Clip(samples, 48_000).content_hash
    assert clip.part(-5, 4).frames == 4
    assert Clip(np.ones((4, 6), np.float32), 44_100).stereo.shape == (4, 2)
    with pytest.raises(SoundFileError):
        Clip(samples, 3)
    assert io.BytesIO(encode_clip(clip)).read(4) == b"fLaC"


@settings(max_examples=50, deadline=None)
@given(channels=st.integers(2, 16), active=st.integers(1, 16), shared=st.floats(0.0, 1.0), seed=st.integers(0, 999))
def test_the_mean_of_channels_is_heard_unless_they_cancel(channels: int, active: int, shared: float, seed: int) -> None:
    rng = np.random.default_rng(seed)
    own = rng.standard_normal((4_000, channels)) * (np.arange(channels) < active)
    alike = (shared * rng.standard_normal((4_000, 1)) + own).astype(np.float32)
    np.testing.assert_allclose(Clip(alike, 44_100).mono, alike.mean(axis=1), atol=1e-5)
    turned = Clip(np.concatenate([0.9 * alike, -alike], axis=1), 44_100)
    np.testing.assert_allclose(np.abs(turned.mono), np.abs(alike[:, int((alike**2).sum(axis=0).argmax())]), atol=1e-5)


def test_long_sound_lies_in_a_file_and_is_handed_to_another_process(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    sound = (0.5 * np.random.default_rng(4).standard_normal((700_000, 2))).astype(np.float32)
    sound[11, 1] = np.nan
    soundfile.write(tmp_path / "long.wav", sound, 44_100, subtype="FLOAT")
    short = read_clip(tmp_path / "long.wav")
    monkeypatch.setattr(memory, "LARGE_BYTES", 1 << 20)
    long = read_clip(tmp_path / "long.wav")
    assert isinstance(memory.Handover(long.samples).sound, memory.Elsewhere)
    assert memory.Handover(short.samples).sound is short.samples
    assert np.array_equal(long.samples, short.samples)
    assert (long.content_hash, long.mono.tobytes()) == (short.content_hash, short.mono.tobytes())
    memory.release_pages(long.samples)
    assert np.array_equal(long.samples, short.samples)
    spectra = [spectrum_of(clip) for clip in (short, long)]
    assert spectra[0] is not None
    assert spectra[1] is not None
    assert np.array_equal(spectra[0].power, spectra[1].power)
    code = "import pickle, sys; from bompla.audio.memory import taken; print(float(taken(pickle.load(sys.stdin.buffer))[9, 0]))"
    there = memory.Handover(long.samples)
    del long, spectra
    gc.collect()  # nobody but the handover holds it now
    ran = subprocess.run([sys.executable, "-P", "-c", code], input=pickle.dumps(there.sound), capture_output=True, check=True)
    assert float(ran.stdout) == float(sound[9, 0])
    gone = there.sound
    del there
    gc.collect()
    other = memory.samples_for(700_000, 2)  # it may get the number that is free now
    with pytest.raises(OSError, match=r"not there any more|No such file"):
        memory.taken(gone)
    assert other.shape == (700_000, 2)


def test_a_full_disk_leaves_long_sound_in_memory(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(_file: int, _start: int, _size: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    soundfile.write(tmp_path / "long.flac", np.zeros((700_000, 1), np.float32), 44_100)
    monkeypatch.setattr(memory, "LARGE_BYTES", 1 << 20)
    monkeypatch.setattr(os, "posix_fallocate", full)
    assert read_clip(tmp_path / "long.flac").frames == 700_000
    assert memory.samples_for(700_000).nbytes == 2_800_000
