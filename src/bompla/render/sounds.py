"""What the engine plays, made from a document and its sound: baked pad sounds and timed hits."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.model.document import Document, Hit, Layer, Pad
from bompla.model.drums import DRUMS
from bompla.units import db_to_gain, ms_to_samples, velocity_to_db

FADE_IN_MS = 0.4
FADE_OUT_MS = 4.0
MAX_SOUND_S = 12.0

SoundKey = tuple[int, int]
"""Where a sound begins and ends in the source, in samples."""


@dataclass(frozen=True, eq=False)
class Baked:
    """A loop ready to be played at the engine's rate.

    `original` has shape (frames, 2); `sounds` holds a pad sound for each stretch of the source
    that a layer plays; `events` are the hits of the pattern in order of time.
    """

    sample_rate: int
    original: NDArray[np.float32]
    sounds: dict[SoundKey, NDArray[np.float32]]
    events: tuple[PlayedHit, ...]
    beats: int
    beats_per_bar: int

    @property
    def frames(self) -> int:
        """The length of the loop in frames."""
        return int(self.original.shape[0])


@dataclass(frozen=True)
class PlayedHit:
    """A hit in frames of the engine: which sound, on which pad, in which choke set, how loud."""

    at_frame: int
    sound: SoundKey
    pad_id: int
    choke: int
    gain: float


@dataclass(eq=False)
class Baker:
    """Bakes documents, and keeps from one to the next what has not changed."""

    sample_rate: int
    _known: dict[SoundKey, NDArray[np.float32]] = field(default_factory=dict)
    _known_of: str = ""
    _original: tuple[SoundKey, NDArray[np.float32]] | None = None

    def bake(self, document: Document, clip: Clip) -> Baked:
        """Return what to play for a document; `clip` is its source's sound."""
        if self._known_of != clip.content_hash:
            self._known, self._known_of, self._original = {}, clip.content_hash, None
        loop = document.loop
        span = (loop.start_sample, loop.end_sample)
        if self._original is None or self._original[0] != span:
            self._original = (span, _at_rate(clip, *span, self.sample_rate))
        keys = {sound_key(document, layer, clip) for pad in document.pads for layer in pad.layers}
        sounds = {key: self._known.get(key) for key in keys}
        baked = {key: _faded(clip, key, self.sample_rate) if sound is None else sound for key, sound in sounds.items()}
        self._known = dict(baked)
        original = self._original[1]
        events = tuple(played_hits(document, clip, document.pattern.hits, original.shape[0], self.sample_rate))
        return Baked(self.sample_rate, original, baked, events, loop.beats, loop.meter.beats_per_bar)


def sound_key(document: Document, layer: Layer, clip: Clip) -> SoundKey:
    """Return the stretch of the source that a layer plays, no longer than `MAX_SOUND_S`."""
    start, end = document.layer_bounds(layer)
    return start, min(end, start + round(MAX_SOUND_S * clip.sample_rate))


def strike_gain(pad: Pad, layer: Layer, velocity: int) -> float:
    """Return the gain at which a layer's sound stands for a hit of some velocity."""
    return db_to_gain(pad.level_db + velocity_to_db(velocity) - velocity_to_db(layer.velocity))


def played_hits(
    document: Document, clip: Clip, hits: Iterable[Hit], loop_frames: int, sample_rate: int
) -> list[PlayedHit]:
    """Return the hits inside the loop that have a sound, in order of time."""
    pads = {pad.id: pad for pad in document.pads}
    loop = document.loop
    frames_per_beat = loop_frames / loop.beats
    rate = sample_rate / clip.sample_rate
    result = []
    for hit in hits:
        pad = pads[hit.pad_id]
        layer = pad.layer_for(hit.velocity)
        if layer is None or not 0.0 <= hit.at_beats < loop.beats:
            continue
        lead = (layer.attack_sample - layer.at_sample) * rate
        at = max(0, round(hit.at_beats * frames_per_beat - lead))
        key = sound_key(document, layer, clip)
        result.append(
            PlayedHit(at, key, pad.id, DRUMS[pad.drum].choke_set, strike_gain(pad, layer, hit.velocity))
        )
    return sorted(result, key=lambda played: played.at_frame)


def _at_rate(clip: Clip, start: int, end: int, sample_rate: int) -> NDArray[np.float32]:
    """Return a stretch of the source in stereo at another rate, its length rounded to a frame."""
    part = Clip(clip.part(start, end).stereo, clip.sample_rate)
    sound = resampled(part, sample_rate).samples
    wanted = round((end - start) * sample_rate / clip.sample_rate)
    if sound.shape[0] < wanted:
        sound = np.pad(sound, ((0, wanted - sound.shape[0]), (0, 0)))
    return np.ascontiguousarray(sound[:wanted])


def _faded(clip: Clip, key: SoundKey, sample_rate: int) -> NDArray[np.float32]:
    sound = _at_rate(clip, *key, sample_rate).copy()
    fade_in = min(ms_to_samples(FADE_IN_MS, sample_rate), len(sound))
    fade_out = min(ms_to_samples(FADE_OUT_MS, sample_rate), len(sound))
    if fade_in:
        sound[:fade_in] *= np.linspace(0.0, 1.0, fade_in, dtype=np.float32)[:, np.newaxis]
    if fade_out:
        sound[-fade_out:] *= np.linspace(1.0, 0.0, fade_out, dtype=np.float32)[:, np.newaxis]
    return sound
