"""Baking: what the engine plays, made from a document and its sound."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace as with_values
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.groove.feel import felt_pattern
from bompla.groove.order import passage_hits, total_beats
from bompla.model.detected_pattern import pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Hit
from bompla.model.drums import BANDS_HZ
from bompla.model.loop import Loop
from bompla.model.memo import KeptArrays
from bompla.model.moments import BY_PADS, Moment, untouched
from bompla.model.shape import PLAIN
from bompla.render.band import only_band
from bompla.render.events import (
    BY_SLICES,
    STRETCHED,
    AnyKey,
    Baked,
    BakeRequest,
    PlayedHit,
    SentNote,
    SoundKey,
    colour_values,
    played_hits,
    sent_notes,
    wanted_sounds,
)
from bompla.render.levels import FADE_OUT_MS, fade_out_ms
from bompla.render.mix import mixed
from bompla.render.moments import LONGEST_LOOP_S, moment_events, moment_sound, played_moments
from bompla.render.seam import seamless
from bompla.render.shaping import shaped
from bompla.render.speed import ATTACKS_KEPT_BELOW, at_rate, at_speed
from bompla.units import ms_to_samples

FADE_IN_MS = 0.4
MOST_KEPT_BYTES = 64_000_000

_SOUNDS = KeptArrays(MOST_KEPT_BYTES)

One = TypeVar("One", PlayedHit, SentNote)
Plain = tuple[tuple[object, ...], NDArray[np.float32]]
"""The sound of a loop, shape (frames, 2), with what it was made of."""


def bake(request: BakeRequest, check: Callable[[], object] = lambda: None) -> Baked:
    """Return what to play; `check` is called now and then, and may raise to give it up."""
    document, clip, rate, before = request.document, request.clip, request.sample_rate, request.before
    if before is not None and (before.sample_rate, before.content_hash) != (rate, clip.content_hash):
        before = None
    original_key, original = _original(request, before)
    check()
    passages = request.passages
    hits: Sequence[Hit] = passage_hits(document, passages) if passages else felt_pattern(document)
    if request.only is not None and not passages:
        hits = [hit for hit in hits if hit.id in request.only]
    beats = total_beats(passages) if passages else pattern_beats(document)
    known = before.sounds if before is not None else {}
    sounds: dict[AnyKey, NDArray[np.float32]] = {}
    for key in sorted(wanted_sounds(document, clip, hits), key=str):
        sounds[key] = known[key] if key in known else _kept_sound(key, clip, request.borrowed, rate)
        check()
    frames_per_beat = original.shape[0] / document.loop.length_beats
    turn = round(beats * frames_per_beat)
    moments, plain = _moments(request, hits, (original_key, original), before)
    own = {id(hit) for moment in moments for hit in moment.hits}
    left = [hit for hit in hits if id(hit) not in own]
    struck = [hit for hit in played_hits(document, clip, left, frames_per_beat, rate) if hit.pad_id not in request.silenced]
    if plain is not None:
        made = played_moments(document, [one for one in moments if one.at_beats < beats], loop_frames=len(plain[1]),
                              frames_per_beat=frames_per_beat, sample_rate=rate, of=hash((clip.content_hash, plain[0])))
        sounds |= {one.key: known[one.key] if one.key in known else moment_sound(one.key, plain[1], rate) for one in made}
        struck = [*moment_events(made), *struck]
        check()
    events = _turned(struck, turn)
    notes = _turned(sent_notes(document, hits, frames_per_beat, request.silenced), turn)
    meter = document.loop.meter if passages else pattern_meter(document)
    return Baked(rate, original, sounds, events, beats, meter.beats_per_bar, document.loop.length_beats, request.speed,
                 colour_values(document, frames_per_beat / rate), clip.content_hash, original_key, notes, plain)


def _moments(
    request: BakeRequest, hits: Sequence[Hit], original: Plain, before: Baked | None
) -> tuple[tuple[Moment, ...], Plain | None]:
    """Return the untouched moments that play the loop itself, and the loop's sound that they are taken from."""
    document, loop = request.document, request.document.loop
    if (not request.passages and pattern_of(document).untouched == BY_PADS) or loop.frames > LONGEST_LOOP_S * request.clip.sample_rate:
        return (), None
    moments = untouched(document, hits, request.silenced)
    if not moments:
        return (), None
    if request.band is None and not (request.drums_share and request.drums_only is not None):
        return moments, original
    if before is not None and before.plain is not None:
        before = with_values(before, original_key=before.plain[0], original=before.plain[1])
    return moments, _original(with_values(request, band=None, drums_share=0.0, drums_only=None), before)


def _turned(found: Iterable[One], turn: int) -> tuple[One, ...]:
    """Return what lies within a turn of so many frames, in order of time, what is ahead of its start put before its end."""
    inside = (with_values(one, at_frame=max(0, one.at_frame + turn)) if one.at_frame < 0 else one for one in found if one.at_frame < turn)
    return tuple(sorted(inside, key=lambda one: one.at_frame))


def _original(request: BakeRequest, before: Baked | None) -> tuple[tuple[object, ...], NDArray[np.float32]]:
    """Return what is heard as the original, shape (frames, 2), with all that it was made of; taken over where that is the same."""
    loop, clip, speed, way = request.document.loop, request.clip, request.speed, request.way
    share = request.drums_share if request.drums_only is not None else 0.0
    placed = (way == BY_SLICES and speed != 1.0) or (way == STRETCHED and speed < ATTACKS_KEPT_BELOW)
    starts = tuple(s.start_sample - loop.start_sample for s in request.document.slices()) if placed else ()
    key = (loop, share, request.band, speed, way, starts)
    if before is not None and before.original_key == key:
        return key, before.original
    heard = clip
    if share and request.drums_only is not None:
        heard = Clip(mixed(clip.samples, request.drums_only.samples, share), clip.sample_rate)
    if request.band is not None:
        heard = only_band(heard, *BANDS_HZ[request.band])
    sound = _seamless_at_rate(heard, loop, request.sample_rate)
    return key, at_speed(sound, request.sample_rate, speed, way, [n * request.sample_rate / clip.sample_rate for n in starts])


def made_sound(clip: Clip, key: SoundKey, sample_rate: int) -> NDArray[np.float32]:
    """Return a pad sound at the engine's rate, shape (frames, 2): cleaned, shaped, its edges faded where they would click."""
    part = clip.part(key.start, key.end)
    if key.others and key.shape.clean > 0.0:
        from bompla.analysis.separation.pull_apart import pull_apart  # brings SciPy, which only cleaned pads need

        drums = (key.drum, *key.others)
        own = pull_apart(clip, key.start, key.end, drums, attack_sample=key.attack, alone=dict(key.alone), most=dict(key.most))[key.drum]
        share = np.float32(key.shape.clean)
        part = Clip((1.0 - share) * part.samples + share * own.samples, clip.sample_rate)
    sound = shaped(at_rate(part, 0, part.frames, sample_rate), sample_rate, key.shape)
    return _faded(sound, sample_rate, fade_out_ms(part, 0, part.frames) if key.shape == PLAIN else FADE_OUT_MS)


def _kept_sound(key: SoundKey, clip: Clip, borrowed: Mapping[str, Clip], rate: int) -> NDArray[np.float32]:
    """Return a pad sound as it was made the last time, for whichever document, or made now."""
    source = _made_from(key, clip, borrowed)
    return _SOUNDS.get((source.content_hash, rate, key), lambda: made_sound(source, key, rate))


def _made_from(key: SoundKey, clip: Clip, borrowed: Mapping[str, Clip]) -> Clip:
    return borrowed.get(key.of, Clip(np.zeros((1, 1), np.float32), clip.sample_rate)) if key.of else clip


def _seamless_at_rate(clip: Clip, loop: Loop, sample_rate: int) -> NDArray[np.float32]:
    whole = Clip(seamless(clip, loop), clip.sample_rate)
    return at_rate(whole, 0, whole.frames, sample_rate)


def _faded(sound: NDArray[np.float32], sample_rate: int, fade_out: float) -> NDArray[np.float32]:
    sound = sound.copy()
    first = min(ms_to_samples(FADE_IN_MS, sample_rate), len(sound))
    last = min(ms_to_samples(fade_out, sample_rate), len(sound))
    if first:
        sound[:first] *= np.linspace(0.0, 1.0, first, dtype=np.float32)[:, np.newaxis]
    if last:
        sound[-last:] *= np.linspace(1.0, 0.0, last, dtype=np.float32)[:, np.newaxis]
    return sound
