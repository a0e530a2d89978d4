"""What the engine plays, made from a document and its sound: baked pad sounds and timed hits."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import soxr
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.analysis.loop.seam import seamless
from bompla.analysis.separation.pull_apart import pull_apart
from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.groove.feel import felt_pattern
from bompla.groove.order import Passage, passage_hits, total_beats
from bompla.model.document import Document, Hit, Layer, Loop, Pad, Slice
from bompla.model.shape import PLAIN, Shape, sounding
from bompla.render.shaping import lead_ms, ringing, shaped
from bompla.render.stretch import stretched
from bompla.render.underneath import Alone, alone, underneath, underneath_layer
from bompla.units import db_to_gain, ms_to_samples, samples_to_ms, velocity_to_db

FADE_IN_MS = 0.4
FADE_OUT_MS = 4.0
CLICK_LEVEL = 0.001
"""A sound that ends above this, -60 dB, would click."""

MAX_SOUND_S = 12.0
STRETCHED, BY_SLICES, AS_TAPE = WAYS = ("stretched", "by its slices", "as a tape")
"""How the original goes along at another speed."""


class SoundKey(NamedTuple):
    """What a pad sound is made from: a stretch of the source in samples, its attack, its pad's shape.

    `drum` and `others` name the drum that the pad stands for and those underneath, where it is cleaned of them, and
    `alone` where in the loop they sound by themselves; `of` is the content hash of a borrowed sound that it is made from instead.
    """

    start: int
    end: int
    attack: int
    shape: Shape = PLAIN
    drum: str = ""
    others: tuple[str, ...] = ()
    of: str = ""
    alone: Alone = ()


@dataclass(frozen=True, eq=False)
class Baked:
    """A loop ready to be played at the engine's rate.

    `original` has shape (frames, 2); `sounds` holds a pad sound for each stretch of the source
    that a layer plays; `events` are the hits of the pattern in order of time. `speed` is how fast the
    loop goes against the source, `colour` what the kit is coloured by, as the engine takes it. What plays
    is `beats` long; where that is longer than the original, the original repeats.
    """

    sample_rate: int
    original: NDArray[np.float32]
    sounds: dict[SoundKey, NDArray[np.float32]]
    events: tuple[PlayedHit, ...]
    beats: int
    beats_per_bar: int
    loop_beats: int
    speed: float = 1.0
    colour: Mapping[str, object] = field(default_factory=lambda: {"on": False, "dry": 0.0, "beat_s": 0.5, "chain": []})

    @property
    def frames(self) -> int:
        """The length of the original loop in frames."""
        return int(self.original.shape[0])

    @property
    def total_frames(self) -> int:
        """The length of all that plays, in frames."""
        return round(self.frames * self.beats / self.loop_beats)


@dataclass(frozen=True)
class PlayedHit:
    """A hit in frames of the engine: which sound, on which pad, in which choke set, how loud.

    It is let go after `gate_frames`, 0 for not at all, and ends over `release_frames`; `room` and `echo` are
    its pad's shares, `chance` in how many of the passes it plays.
    """

    at_frame: int
    sound: SoundKey
    pad_id: int
    choke: int
    gain: float
    room: float = 0.0
    echo: float = 0.0
    kick: bool = False
    gate_frames: int = 0
    release_frames: int = 0
    chance: float = 1.0
    output: int = 0


@dataclass(eq=False)
class Baker:
    """Bakes documents, and keeps from one to the next what has not changed."""

    sample_rate: int
    _known: dict[SoundKey, NDArray[np.float32]] = field(default_factory=dict)
    _known_of: str = ""
    _original: tuple[tuple[object, ...], NDArray[np.float32]] | None = None

    def bake(
        self, document: Document, clip: Clip, original: Clip | None = None, *, speed: float = 1.0, way: str = STRETCHED,
        passages: tuple[Passage, ...] = (), borrowed: Mapping[str, Clip] | None = None,
    ) -> Baked:
        """Return what to play for a document; `clip` is its source's sound, `original` what is heard as the original if not that.

        `borrowed` has the sounds from other files by their content; a pad whose sound is not in it is silent.
        With `passages` these play, otherwise the shown variation.

        At another `speed` the pattern's hits move apart or together, and the original goes along in one
        of `WAYS`: stretched with its pitch kept, by its slices, or as a tape.
        """
        if self._known_of != clip.content_hash:
            self._known, self._known_of, self._original = {}, clip.content_hash, None
        loop = document.loop
        heard = clip if original is None else original
        starts = tuple(s.start_sample - loop.start_sample for s in document.slices()) if way == BY_SLICES and speed != 1.0 else ()
        wanted = (loop, heard.content_hash, speed, way, starts)
        if self._original is None or self._original[0] != wanted:
            sound = _seamless_at_rate(heard, loop, self.sample_rate)
            edges = [n * self.sample_rate / clip.sample_rate for n in starts]
            self._original = (wanted, at_speed(sound, self.sample_rate, speed, way, edges))
        hits = passage_hits(document, passages) if passages else felt_pattern(document)
        beats = round(total_beats(passages)) if passages else document.pattern_beats
        keys = wanted_sounds(document, clip, hits)
        sounds = {key: self._known.get(key) for key in keys}
        baked = {key: made_sound(_made_from(key, clip, borrowed or {}), key, self.sample_rate) if sound is None else sound
                 for key, sound in sounds.items()}
        self._known = dict(baked)
        sound = self._original[1]
        frames_per_beat = sound.shape[0] / loop.beats
        events = tuple(hit for hit in played_hits(document, clip, hits, frames_per_beat, self.sample_rate)
                       if hit.at_frame < beats * frames_per_beat)
        colour = colour_values(document, frames_per_beat / self.sample_rate)
        meter = loop.meter if passages else document.pattern_meter
        return Baked(self.sample_rate, sound, baked, events, beats, meter.beats_per_bar, loop.beats, speed, colour)


def sound_key(document: Document, pad: Pad, layer: Layer, clip: Clip, pitch: float = 0.0) -> SoundKey:
    """Return what a layer's sound on a pad is made from, some semitones off if wanted, no longer than `MAX_SOUND_S`."""
    start, end = document.layer_bounds(layer)
    end = min(end, start + round(MAX_SOUND_S * clip.sample_rate))
    attack = min(max(start, layer.attack_sample), end)
    shape = sounding(pad.shape)
    tune = pitch + (document.colour.tune if document.colour.on else 0.0)
    if tune:
        shape = replace(shape, tune=round(shape.tune + tune, 4))
    if shape.tail == PLAIN.tail and document.tail != "none":
        shape = replace(shape, tail=document.tail)
    if shape.clean <= 0.0 or layer.of:
        return SoundKey(start, end, attack, shape, of=layer.of)
    others = underneath_layer(document, pad, layer)
    return SoundKey(start, end, attack, shape, pad.drum, others, alone=alone(document, (pad.drum, *others)) if others else ())


def drum_key(document: Document, piece: Slice, drum: str) -> SoundKey:
    """Return what a slice is made from with no other drum than this in it; the whole slice where no other is heard."""
    others = underneath(piece.cut, drum)
    own = alone(document, (drum, *others)) if others else ()
    return SoundKey(piece.start_sample, piece.end_sample, piece.cut.attack_sample, replace(PLAIN, clean=1.0), drum, others, alone=own)


def made_sound(clip: Clip, key: SoundKey, sample_rate: int) -> NDArray[np.float32]:
    """Return a pad sound at the engine's rate, shape (frames, 2): cleaned, shaped, its edges faded where they would click."""
    part = clip.part(key.start, key.end)
    if key.others and key.shape.clean > 0.0:
        drums = (key.drum, *key.others)
        own = pull_apart(clip, key.start, key.end, drums, attack_sample=key.attack, alone=dict(key.alone))[key.drum]
        share = np.float32(key.shape.clean)
        part = Clip((1.0 - share) * part.samples + share * own.samples, clip.sample_rate)
    sound = shaped(_at_rate(part, 0, part.frames, sample_rate), sample_rate, key.shape)
    return _faded(sound, sample_rate, fade_out_ms(part, 0, part.frames) if key.shape == PLAIN else FADE_OUT_MS)


def _made_from(key: SoundKey, clip: Clip, borrowed: Mapping[str, Clip]) -> Clip:
    return borrowed.get(key.of, Clip(np.zeros((1, 1), np.float32), clip.sample_rate)) if key.of else clip


def lead_frames(key: SoundKey, clip: Clip, sample_rate: int) -> int:
    """Return how many frames of the engine a sound's attack lies after its start."""
    attack_ms = samples_to_ms(key.attack - key.start, clip.sample_rate)
    return ms_to_samples(lead_ms(key.shape, attack_ms), sample_rate)


def level_as_the_kit(document: Document, clip: Clip, pad: Pad, borrowed: Mapping[str, Clip] | None = None) -> float:
    """Return the level in dB at which a pad's loudest 50 ms are as loud as the middle of the other pads'; 0 where nothing compares."""
    window = max(1, ms_to_samples(50.0, clip.sample_rate))

    def loudest_db(one: Pad) -> float | None:
        if not one.layers:
            return None
        layer = one.layers[-1]
        start, end = document.layer_bounds(layer)
        sound = (borrowed or {}).get(layer.of) if layer.of else clip
        if sound is None:
            return None
        power = np.square(sound.samples[start:end]).mean(axis=1)
        summed = np.cumsum(np.concatenate([[0.0], power], dtype=float))
        means = (summed[window:] - summed[:-window]) / window if power.size > window else summed[-1:] / max(1, power.size)
        return float(10.0 * np.log10(max(float(means.max(initial=0.0)), 1e-12)))

    own = loudest_db(pad)
    others = [found + other.level_db for other in document.pads if other.id != pad.id and (found := loudest_db(other)) is not None]
    return float(np.median(others)) - own if own is not None and others else 0.0


def strike_gain(pad: Pad, layer: Layer, velocity: int) -> float:
    """Return the gain at which a layer's sound stands for a hit of some velocity."""
    return db_to_gain(pad.level_db + velocity_to_db(velocity) - velocity_to_db(layer.velocity))


def played_hits(
    document: Document, clip: Clip, hits: Iterable[Hit], frames_per_beat: float, sample_rate: int
) -> list[PlayedHit]:
    """Return the hits that have a sound, in order of time."""
    pads = {pad.id: pad for pad in document.pads}
    result: list[PlayedHit] = []
    turns: dict[int, int] = {}
    for hit in hits:
        if hit.at_beats < 0.0:
            continue
        for pad in with_stacked(pads, pads[hit.pad_id]):
            layer = pad.layer_for(hit.velocity, turns.get(pad.id, 0))
            turns[pad.id] = turns.get(pad.id, 0) + 1
            if layer is None:
                continue
            key = sound_key(document, pad, layer, clip, hit.pitch)
            at = max(0, round(hit.at_beats * frames_per_beat) - lead_frames(key, clip, sample_rate))
            gate = round(hit.length_beats * frames_per_beat) + lead_frames(key, clip, sample_rate) if hit.length_beats > 0.0 else 0
            result.append(PlayedHit(
                at, key, pad.id, pad.choke_set, strike_gain(pad, layer, hit.velocity), pad.shape.room, pad.shape.echo,
                pad.drum == "kick", gate, ms_to_samples(pad.shape.release_ms, sample_rate), hit.chance, pad.shape.output))
    return sorted(result, key=lambda played: played.at_frame)


def with_stacked(pads: Mapping[int, Pad], pad: Pad) -> list[Pad]:
    """Return a pad and the one that sounds with it, if any."""
    other = pads.get(pad.stacked)
    return [pad] if other is None or other.id == pad.id else [pad, other]


def wanted_sounds(document: Document, clip: Clip, hits: Iterable[Hit]) -> set[SoundKey]:
    """Return all sounds that pads, hits and keys may ask for."""
    pitched = {(hit.pad_id, hit.pitch) for hit in hits}
    pitches: dict[int, set[float]] = {pad.id: {0.0} for pad in document.pads}
    for pad in document.pads:
        asked = {float(note - pad.note) for note in key_notes(document, pad)}
        asked |= {pitch for pad_id, pitch in pitched if pad_id == pad.id}
        for one in with_stacked({other.id: other for other in document.pads}, pad):
            pitches[one.id] |= asked
    return {sound_key(document, pad, layer, clip, pitch) for pad in document.pads for layer in pad.layers for pitch in pitches[pad.id]}


def key_notes(document: Document, pad: Pad) -> list[int]:
    """Return the notes that play a pad at their pitch, those of other pads left to them."""
    low, high = pad.keys
    if (low, high) == (0, 0):
        return []
    taken = {other.note for other in document.pads if other.id != pad.id}
    return [note for note in range(low, high + 1) if note != pad.note and note not in taken]


@dataclass(frozen=True)
class PlayedNote:
    """What a MIDI note plays up to a velocity; `velocity` is what the sound was played at."""

    note: int
    up_to: int
    pad: int
    choke: int
    sound: SoundKey
    gain: float
    velocity: float
    pitch: int = 0
    room: float = 0.0
    echo: float = 0.0
    kick: bool = False
    release_frames: int = 0
    output: int = 0


def played_notes(document: Document, clip: Clip, sample_rate: int) -> list[PlayedNote]:
    """Return what each MIDI note plays, a pad before the one stacked with it."""
    pads = {pad.id: pad for pad in document.pads}
    result = []
    for lead in document.pads:
        for note in (lead.note, *key_notes(document, lead)):
            pitch = note - lead.note
            for pad in with_stacked(pads, lead):
                release = ms_to_samples(pad.shape.release_ms, sample_rate) if pad.shape.held else 0
                result += [
                    PlayedNote(note, layer.up_to, pad.id, pad.choke_set, sound_key(document, pad, layer, clip, float(pitch)),
                               db_to_gain(pad.level_db), float(layer.velocity), pitch, pad.shape.room, pad.shape.echo,
                               pad.drum == "kick", release, pad.shape.output)
                    for layer in pad.layers
                ]
    return result


def colour_values(document: Document, beat_s: float) -> dict[str, object]:
    """Return a document's colour as the engine takes it, a beat being so long."""
    colour = document.colour
    chain = [(treatment.kind, list(treatment.values)) for treatment in colour.chain if treatment.on]
    return {"on": colour.on, "dry": colour.dry, "beat_s": beat_s, "chain": chain}


def _seamless_at_rate(clip: Clip, loop: Loop, sample_rate: int) -> NDArray[np.float32]:
    whole = Clip(seamless(clip, loop), clip.sample_rate)
    return _at_rate(whole, 0, whole.frames, sample_rate)


def at_speed(sound: NDArray[np.float32], sample_rate: int, speed: float, way: str, starts: Sequence[float] = ()) -> NDArray[np.float32]:
    """Return a loop of shape (frames, 2) at another speed, round(frames / speed) long.

    `starts` are where its slices begin, in frames, for the way by slices: each sounds as it is at its
    new time, rings on where the next comes later, and is faded where it comes sooner.
    """
    if abs(speed - 1.0) < 1e-6:
        return sound
    wanted = max(1, round(len(sound) / speed))
    if way == STRETCHED:
        return stretched(sound, sample_rate, speed)
    if way == AS_TAPE:
        made = np.asarray(soxr.resample(sound, speed * 48_000.0, 48_000.0), np.float32)
        return np.ascontiguousarray(np.pad(made, ((0, max(0, wanted - len(made))), (0, 0)))[:wanted])
    out = np.zeros((wanted, 2), np.float32)
    fade = ms_to_samples(FADE_OUT_MS, sample_rate)
    edges = [*(round(s) for s in starts), len(sound)] if starts else [0, len(sound)]
    for start, end in pairwise(edges):
        at, until = round(start / speed), min(wanted, round(end / speed))
        part = sound[start:end]
        if until - at > len(part):
            part = ringing(part, sample_rate)
        part = part[: until - at].copy()
        last = min(fade, len(part))
        if last:
            part[-last:] *= np.linspace(1.0, 0.0, last, dtype=np.float32)[:, np.newaxis]
        out[at : at + len(part)] += part
    return out


def for_listening(clip: Clip, start: int, end: int, sample_rate: int, *, speed: float = 1.0) -> NDArray[np.float32]:
    """Return a stretch of a clip in stereo at the engine's rate, its edges faded, at another speed of the same pitch if wanted."""
    sound = stretched(_at_rate(clip, start, min(end, clip.frames), sample_rate), sample_rate, speed).copy()
    fade = min(ms_to_samples(FADE_OUT_MS, sample_rate), len(sound) // 2)
    if fade:
        turn = np.linspace(0.0, 1.0, fade, dtype=np.float32)[:, np.newaxis]
        sound[:fade] *= turn
        sound[-fade:] *= turn[::-1]
    return sound


def _at_rate(clip: Clip, start: int, end: int, sample_rate: int) -> NDArray[np.float32]:
    """Return a stretch of the source in stereo at another rate, its length rounded to a frame."""
    part = Clip(clip.part(start, end).stereo, clip.sample_rate)
    sound = resampled(part, sample_rate).samples
    wanted = round((end - start) * sample_rate / clip.sample_rate)
    if sound.shape[0] < wanted:
        sound = np.pad(sound, ((0, wanted - sound.shape[0]), (0, 0)))
    return np.ascontiguousarray(sound[:wanted])


def fade_out_ms(clip: Clip, start: int, end: int) -> float:
    """Return how long a stretch of the source fades at its end: a little where it would click, else not at all."""
    last = clip.samples[max(start, end - ms_to_samples(1.0, clip.sample_rate)) : end]
    return FADE_OUT_MS if float(np.abs(last).max(initial=0.0)) > CLICK_LEVEL else 0.0


def _faded(sound: NDArray[np.float32], sample_rate: int, fade_out: float) -> NDArray[np.float32]:
    sound = sound.copy()
    first = min(ms_to_samples(FADE_IN_MS, sample_rate), len(sound))
    last = min(ms_to_samples(fade_out, sample_rate), len(sound))
    if first:
        sound[:first] *= np.linspace(0.0, 1.0, first, dtype=np.float32)[:, np.newaxis]
    if last:
        sound[-last:] *= np.linspace(1.0, 0.0, last, dtype=np.float32)[:, np.newaxis]
    return sound
