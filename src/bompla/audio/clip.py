"""A piece of sound as a value."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from bompla.audio.memory import release_pages, samples_for
from bompla.errors import SoundFileError

Samples = NDArray[np.float32]

MIN_RATE = 1_000
MAX_RATE = 768_000
CANCELLED = 0.1
"""Less than this share of the power that channels with nothing in common would have in their mean: they cancel each other."""

_BLOCK, _LET_GO_BLOCKS = 1 << 18, 16

LOOKED_AT = 1 << 18
"""Of about so many frames, evenly spread, power is summed to know that."""


@dataclass(frozen=True, eq=False)
class Clip:
    """Sound in memory: read-only float32 samples of shape (frames, channels), and their rate in Hz."""

    samples: Samples
    sample_rate: int

    def __post_init__(self) -> None:
        samples = np.ascontiguousarray(self.samples, dtype=np.float32)
        if samples.ndim == 1:
            samples = samples[:, np.newaxis]
        if samples.ndim != 2 or samples.shape[1] < 1:
            raise SoundFileError("A clip needs samples in the shape (frames, channels).")
        if not MIN_RATE <= self.sample_rate <= MAX_RATE:
            raise SoundFileError(f"A sample rate of {self.sample_rate} Hz is not usable.")
        samples = samples.view()
        samples.flags.writeable = False
        object.__setattr__(self, "samples", samples)

    @property
    def frames(self) -> int:
        """Length in samples."""
        return int(self.samples.shape[0])

    @property
    def channels(self) -> int:
        """Number of channels."""
        return int(self.samples.shape[1])

    @property
    def duration_s(self) -> float:
        """Length in seconds."""
        return self.frames / self.sample_rate

    @cached_property
    def mono(self) -> Samples:
        """The mean of all channels, shape (frames,); the loudest channel where they cancel each other, as with one turned upside down."""
        if self.channels == 1:
            return self.samples[:, 0]
        mixed = self._mixed_into(samples_for(self.frames))
        mixed.flags.writeable = False
        return mixed

    def _mixed_into(self, room: Samples) -> Samples:
        some = slice(None, None, 1 + self.frames // LOOKED_AT)
        looked_at = self.samples[some].astype(np.float64)
        powers = (looked_at**2).sum(axis=0)
        cancelled = (looked_at.mean(axis=1) ** 2).sum() < CANCELLED * powers.mean() / self.channels
        loudest = int(powers.argmax())
        for start in range(0, self.frames, _BLOCK):
            block, part = self.samples[start : start + _BLOCK], room[start : start + _BLOCK]
            if cancelled:
                part[:] = block[:, loudest]
                continue
            np.add(block[:, 0], block[:, min(1, self.channels - 1)], out=part)  # NumPy's own mean over so few takes ten times as long
            for channel in range(2, self.channels):
                part += block[:, channel]
            part /= np.float32(max(2, self.channels))
            if start % (_LET_GO_BLOCKS * _BLOCK) == 0:
                release_pages(self.samples)
                release_pages(room)
        return room

    @cached_property
    def stereo(self) -> Samples:
        """The sound as two channels, shape (frames, 2): one is doubled, more than two are folded down.

        Odd-numbered channels go left and even-numbered ones right.
        """
        if self.channels == 2:
            return self.samples
        if self.channels == 1:
            return np.repeat(self.samples, 2, axis=1)
        left = self.samples[:, 0::2].mean(axis=1, dtype=np.float32)
        right = self.samples[:, 1::2].mean(axis=1, dtype=np.float32)
        return np.stack([left, right], axis=1)

    @cached_property
    def content_hash(self) -> str:
        """A hash of rate, shape and samples: equal for equal sound, 32 hexadecimal digits."""
        digest = hashlib.blake2b(digest_size=16)
        digest.update(f"{self.sample_rate}/{self.frames}/{self.channels}".encode())
        for start in range(0, self.frames, _BLOCK * _LET_GO_BLOCKS):
            digest.update(self.samples[start : start + _BLOCK * _LET_GO_BLOCKS].data.cast("B"))
            release_pages(self.samples)
        return digest.hexdigest()

    def part(self, start_sample: int, end_sample: int) -> Clip:
        """Return the clip from `start_sample` up to `end_sample`, both held inside the clip."""
        start = max(0, min(start_sample, self.frames))
        end = max(start, min(end_sample, self.frames))
        return Clip(self.samples[start:end], self.sample_rate)
