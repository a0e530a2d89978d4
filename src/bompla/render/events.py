"""What the engine plays, as values: which sounds are wanted, and which hits play them when and how loud."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.groove.order import Passage
from bompla.model.detected_pattern import EARLIEST_BEATS
from bompla.model.document import Document, Hit, Layer, Pad, Slice
from bompla.model.drums import Band
from bompla.model.shape import PLAIN, Shape, sounding
from bompla.model.wording import counted
from bompla.render.shaping import lead_ms
from bompla.render.underneath import Alone, Most, alone, most_of, underneath, underneath_layer
from bompla.units import MOST_RAISED_DB, db_to_gain, ms_to_samples, samples_to_ms, velocity_to_db

STRETCHED, BY_SLICES, AS_TAPE = "stretch", "slices", "tape"
WAYS = {STRETCHED: "stretched", BY_SLICES: "by its slices", AS_TAPE: "as a tape"}
"""How the original goes along at another speed, by key."""

SLOWEST, FASTEST = 0.2, 4.0
MAX_SOUND_S = 12.0
OVER_HARDEST_DB = 3.0
SENT_BEATS = 0.125
"""The length of a note that leaves as MIDI, where its hit has none."""


class SoundKey(NamedTuple):
    """What a pad sound is made from: a stretch of the source in samples, its attack, its pad's shape.

    `drum` and `others` name the drum that the pad stands for and those underneath, where it is cleaned of them, and
    `alone` where in the loop they sound by themselves, `most` the largest share each can have; `of` is the content hash of a borrowed
    sound that it is made from instead.
    """

    start: int
    end: int
    attack: int
    shape: Shape = PLAIN
    drum: str = ""
    others: tuple[str, ...] = ()
    of: str = ""
    alone: Alone = ()
    most: Most = ()


class MomentKey(NamedTuple):
    """What the sound of a moment is made from: a stretch of the loop as it is heard, in frames of the engine, which may go round its end.

    It comes in over `lead` frames, is followed by `tail_frames` more as `tail` says, and tuned by `tune` semitones; `of` tells which
    sound of the loop it is taken from.
    """

    start: int
    frames: int
    lead: int
    tail: str
    tail_frames: int
    tune: float
    of: int


AnyKey = SoundKey | MomentKey


@dataclass(frozen=True, eq=False)
class Baked:
    """A loop ready to be played at the engine's rate.

    `original` has shape (frames, 2); `sounds` holds a pad sound for each stretch of the source
    that a layer plays; `events` are the hits of the pattern in order of time. `speed` is how fast the
    loop goes against the source, `colour` what the kit is coloured by, as the engine takes it. What plays
    is `beats` long; where that is longer than the original, the original repeats. `notes` leave as MIDI.
    `content_hash` is that of the source, and
    `original_key` tells what the original was made of. `plain` is the loop's sound that moments are taken from, with what it was made
    of: the original, where all of that is heard.
    """

    sample_rate: int
    original: NDArray[np.float32]
    sounds: dict[AnyKey, NDArray[np.float32]]
    events: tuple[PlayedHit, ...]
    beats: float
    beats_per_bar: int
    loop_beats: float
    speed: float = 1.0
    colour: Mapping[str, object] = field(default_factory=lambda: {"on": False, "dry": 0.0, "beat_s": 0.5, "chain": []})
    content_hash: str = ""
    original_key: tuple[object, ...] = ()
    notes: tuple[SentNote, ...] = ()
    plain: tuple[tuple[object, ...], NDArray[np.float32]] | None = None

    @property
    def frames(self) -> int:
        """The length of the original loop in frames."""
        return int(self.original.shape[0])

    @property
    def total_frames(self) -> int:
        """The length of all that plays, in frames."""
        return round(self.frames * self.beats / self.loop_beats)


def made_of(baked: Baked) -> str:
    """Return in words what plays of a pattern: the loop itself, the pads, or how much of each."""
    moments = sum(bool(event.stands_for) for event in baked.events)
    struck = len(baked.events) - moments
    if not moments:
        return "from the pads"
    return "the loop itself" if not struck else f"{counted(moments, 'moment')} the loop itself, {counted(struck, 'hit')} from the pads"


@dataclass(frozen=True, eq=False)
class BakeRequest:
    """All that decides what is played, as one value.

    `borrowed` has the sounds from other files by their content; a pad whose sound is not in it is silent. With `passages` these play,
    otherwise the shown variation. Of the original, `drums_share` says what of a mix is heard, where `drums_only` is known, and `band`
    leaves one band of it. At another `speed` the pattern's hits move apart or together, and the original goes along in one of `WAYS`.
    Hits of `silenced` pads are left out, and where `only` names hits of the shown variation by id, all
    others. What `before` has of it already is not made again.
    """

    document: Document
    clip: Clip
    sample_rate: int
    borrowed: Mapping[str, Clip] = field(default_factory=dict)
    passages: tuple[Passage, ...] = ()
    speed: float = 1.0
    way: str = STRETCHED
    drums_only: Clip | None = None
    drums_share: float = 0.0
    band: Band | None = None
    silenced: frozenset[int] = frozenset()
    only: frozenset[int] | None = None
    before: Baked | None = None


@dataclass(frozen=True, kw_only=True)
class PlayedHit:
    """A hit in frames of the engine: which sound, on which pad, in which choke set, how loud.

    It is let go after `gate_frames`, 0 for not at all, and ends over `release_frames`; `room` and `echo` are
    its pad's shares, `chance` in how many of the passes it plays. One that is `early` is ahead of the first beat: it lies where each
    turn ends, and the very first turn begins with it. One that is an untouched moment stands for the hits of the pads `stands_for`, and
    what sounded before of moments fades over its `release_frames`.
    """

    at_frame: int
    sound: AnyKey
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
    number: int = 0
    early: bool = False
    stands_for: tuple[int, ...] = ()


@dataclass(frozen=True, kw_only=True)
class SentNote:
    """A hit as it leaves as MIDI, in frames of the engine; what one hit plays and sends shares its `number`, by which chance decides."""

    at_frame: int
    note: int
    velocity: int
    length_frames: int
    chance: float = 1.0
    number: int = 0
    early: bool = False


def sent_notes(document: Document, hits: Iterable[Hit], frames_per_beat: float, silenced: frozenset[int]) -> list[SentNote]:
    """Return the hits of all but the silenced pads as MIDI notes, in order of time, those ahead of the first beat below 0.

    A note is its pad's, by the hit's pitch higher or lower; one without length is a 32nd long.
    """
    notes = {pad.id: pad.note for pad in document.pads}
    made = [
        SentNote(at_frame=round(hit.at_beats * frames_per_beat), note=min(127, max(0, round(notes[hit.pad_id] + hit.pitch))),
                 velocity=min(127, max(1, hit.velocity)),
                 length_frames=max(1, round((hit.length_beats or SENT_BEATS) * frames_per_beat)), chance=hit.chance, number=number,
                 early=hit.at_beats < 0.0)
        for number, hit in enumerate(hits) if hit.at_beats >= EARLIEST_BEATS and hit.pad_id not in silenced
    ]
    return sorted(made, key=lambda note: note.at_frame)


def sound_key(document: Document, pad: Pad, layer: Layer, clip: Clip, pitch: float = 0.0) -> SoundKey:
    """Return what a layer's sound on a pad is made from, some semitones off if wanted, no longer than `MAX_SOUND_S`."""
    start, end = document.layer_bounds(layer)
    end = min(end, start + round(MAX_SOUND_S * clip.sample_rate))
    attack = min(max(start, layer.attack_sample), end)
    shape = sounding(pad.shape)
    tune = pitch + (document.colour.tune if document.colour.on else 0.0)
    if tune:
        shape = replace(shape, tune=round(shape.tune + tune, 4))
    if shape.tail == PLAIN.tail and document.tail != "end" and not layer.of:  # a sound from a file is whole
        shape = replace(shape, tail=document.tail)
    if shape.clean <= 0.0 or layer.of:
        return SoundKey(start, end, attack, shape, of=layer.of)
    others = underneath_layer(document, pad, layer)
    if not others:
        return SoundKey(start, end, attack, shape, pad.drum)
    drums = (pad.drum, *others)
    cut = next(one for one in document.cuts if one.at_sample == layer.at_sample)
    return SoundKey(start, end, attack, shape, pad.drum, others, alone=alone(document, drums), most=most_of(document, cut, drums))


def drum_key(document: Document, piece: Slice, drum: str) -> SoundKey:
    """Return what a slice is made from with no other drum than this in it; the whole slice where no other is heard."""
    others = underneath(piece.cut, drum)
    drums = (drum, *others)
    return SoundKey(piece.start_sample, piece.end_sample, piece.cut.attack_sample, replace(PLAIN, clean=1.0), drum, others,
                    alone=alone(document, drums) if others else (), most=most_of(document, piece.cut, drums) if others else ())


def lead_frames(key: SoundKey, clip: Clip, sample_rate: int) -> int:
    """Return how many frames of the engine a sound's attack lies after its start."""
    attack_ms = samples_to_ms(key.attack - key.start, clip.sample_rate)
    return ms_to_samples(lead_ms(key.shape, attack_ms), sample_rate)


def most_raised_db(pad: Pad, layer: Layer) -> float:
    """Return how much louder than its own slice a strike can be: up to `OVER_HARDEST_DB` over the drum's hardest stroke in the loop.

    Where that is not known it is `MOST_RAISED_DB`.
    """
    if pad.hardest <= 0:
        return MOST_RAISED_DB
    return velocity_to_db(pad.hardest) + OVER_HARDEST_DB - velocity_to_db(layer.velocity)


def strike_gain(pad: Pad, layer: Layer, velocity: int, gain_db: float = 0.0) -> float:
    """Return the gain at which a layer's sound stands for a hit of some velocity, raised no more than `most_raised_db`."""
    raised_db = velocity_to_db(velocity) - velocity_to_db(layer.velocity)
    return db_to_gain(pad.level_db + gain_db + min(most_raised_db(pad, layer), raised_db))


def played_hits(
    document: Document, clip: Clip, hits: Iterable[Hit], frames_per_beat: float, sample_rate: int
) -> list[PlayedHit]:
    """Return the hits that have a sound, in order of time, those ahead of the first beat below 0."""
    pads = {pad.id: pad for pad in document.pads}
    result: list[PlayedHit] = []
    turns: dict[int, int] = {}
    for number, hit in enumerate(hits):
        if hit.at_beats < EARLIEST_BEATS:
            continue
        for pad in with_stacked(pads, pads[hit.pad_id]):
            layer = pad.layer_for(hit.velocity, turns.get(pad.id, 0))
            turns[pad.id] = turns.get(pad.id, 0) + 1
            if layer is None:
                continue
            key = sound_key(document, pad, layer, clip, hit.pitch)
            at = round(hit.at_beats * frames_per_beat) - lead_frames(key, clip, sample_rate)
            gate = round(hit.length_beats * frames_per_beat) + lead_frames(key, clip, sample_rate) if hit.length_beats > 0.0 else 0
            result.append(PlayedHit(
                at_frame=at if hit.at_beats < 0.0 else max(0, at), sound=key, pad_id=pad.id, choke=pad.choke_set,
                gain=strike_gain(pad, layer, hit.velocity, hit.gain_db),
                room=pad.shape.room, echo=pad.shape.echo, kick=pad.drum == "kick", gate_frames=gate,
                release_frames=ms_to_samples(pad.shape.release_ms, sample_rate), chance=hit.chance, output=pad.shape.output,
                number=number, early=hit.at_beats < 0.0))
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


@dataclass(frozen=True, kw_only=True)
class PlayedNote:
    """What a MIDI note plays up to a velocity; `velocity` is what the sound was played at, `most` what it is raised by at most."""

    note: int
    up_to: int
    pad: int
    choke: int
    sound: SoundKey
    gain: float
    velocity: float
    most: float
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
                release = ms_to_samples(pad.shape.release_ms, sample_rate) if pad.shape.gated else 0
                result += [
                    PlayedNote(
                        note=note, up_to=layer.up_to, pad=pad.id, choke=pad.choke_set,
                        sound=sound_key(document, pad, layer, clip, float(pitch)), gain=db_to_gain(pad.level_db),
                        velocity=float(layer.velocity), most=db_to_gain(most_raised_db(pad, layer)), pitch=pitch, room=pad.shape.room,
                        echo=pad.shape.echo, kick=pad.drum == "kick", release_frames=release, output=pad.shape.output)
                    for layer in pad.layers
                ]
    return result


def colour_values(document: Document, beat_s: float) -> dict[str, object]:
    """Return a document's colour as the engine takes it, a beat being so long."""
    colour = document.colour
    chain = [(treatment.kind, dict(treatment.values)) for treatment in colour.chain if treatment.on]
    return {"on": colour.on, "dry": colour.dry, "beat_s": beat_s, "chain": chain}
