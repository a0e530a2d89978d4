"""Loops and patterns as sound: the trimmed loop, the rebuilt one, slices and single hits."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import count

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.engine.bounce import bounce_rebuilt, bounce_ringing
from bompla.export.request import Check, ExportRequest, Made, Part, base_name, file_name, parts_of
from bompla.export.sound_file import encoded, loudest_channel, suffix
from bompla.formats.wav_chunks import CuePoint
from bompla.model.document import Layer, Pad, Slice
from bompla.model.drums import DRUMS
from bompla.model.wording import in_bars
from bompla.render.events import sound_key
from bompla.render.levels import fade_out_ms
from bompla.render.seam import seamless
from bompla.render.speed import at_rate, at_speed
from bompla.units import db_to_gain, ms_to_samples

SILENCE_FLOOR = 10.0 ** (-90.0 / 20.0)
"""A single hit ends where nothing louder follows."""


def slice_label(piece: Slice) -> str:
    """Return what a slice is called: its name, or the drum that is surest in it."""
    cut = piece.cut
    return cut.name or (DRUMS[cut.heard[0].drum].label.lower() if cut.heard else "sound")


def info_of(request: ExportRequest, title: str) -> dict[str, str]:
    """Return the texts that sound files carry: title, tempo and bars, what wrote it."""
    loop, bpm = request.document.loop, request.document.bpm * request.options.speed
    return {"INAM": title, "ICMT": f"{bpm:.3f} BPM, {in_bars(loop.length_beats, loop.meter)} of {loop.meter_name}", "ISFT": "Bompla"}


def trimmed_loop(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make the trimmed loop, with a cue point at each slice and loop points around all of it."""
    document, clip, options = request.document, request.clip, request.options
    loop, speed = document.loop, options.speed
    whole = Clip(seamless(clip, loop), clip.sample_rate)
    ratio = request.rate / clip.sample_rate
    starts = [(piece.cut.at_sample - loop.start_sample) * ratio for piece in document.slices()]
    if ratio != 1.0 or speed != 1.0:
        sound = at_rate(whole, 0, whole.frames, request.rate)
        whole = Clip(at_speed(sound, request.rate, speed, options.way, starts), request.rate)
    untouched = whole.sample_rate == clip.sample_rate and speed == 1.0
    check()
    cues = [CuePoint(min(whole.frames - 1, round(at / speed)), slice_label(piece))
            for at, piece in zip(starts, document.slices(), strict=True)]
    name = base_name(request)
    content, facts = encoded(whole, options, cues=cues, loop=(0, whole.frames - 1), info=info_of(request, name), levelled=True,
                             as_it_is=untouched)
    yield Made(f"{name} loop{suffix(options)}", "loop", "trimmed loop", content, facts | {"cue_points": len(cues)})


def slices(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a file of each slice that is not left out, numbered and named; its end is faded where it would click."""
    clip, options = request.clip, request.options
    pieces = [piece for piece in request.document.slices() if not piece.cut.left_out or piece.cut.id in request.only]
    digits = max(2, len(str(len(pieces))))
    for piece in pieces:
        if request.only and piece.cut.id not in request.only:
            continue
        check()
        part = clip.part(piece.start_sample, piece.end_sample)
        sound = part.samples.copy()
        fade = min(len(sound), ms_to_samples(fade_out_ms(clip, piece.start_sample, piece.end_sample), clip.sample_rate))
        if fade:
            sound[-fade:] *= np.linspace(1.0, 0.0, fade, dtype=np.float32)[:, np.newaxis]
        made = Clip(sound, clip.sample_rate)
        if request.rate != clip.sample_rate:
            made = Clip(at_rate(made, 0, made.frames, request.rate), request.rate)
        label = slice_label(piece)
        content, facts = encoded(made, options, info={"INAM": label, "ISFT": "Bompla"}, as_it_is=True)
        path = f"slices/{piece.number:0{digits}d} {file_name(label)}{suffix(options)}"
        yield Made(path, "slice", label, content, facts | {"number": piece.number, "at_s": round(piece.start_sample / clip.sample_rate, 6)})


def single_hits(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a file of each layer of each pad, as it sounds when it is struck as hard as its slice was."""
    taken: set[str] = set()
    for pad in request.document.pads:
        for number, layer in enumerate(pad.layers if not request.only or pad.id in request.only else (), 1):
            check()
            sound = pad_sound(request, pad, layer) * np.float32(db_to_gain(pad.level_db))
            of_all = f" {number}" if len(pad.layers) > 1 else ""
            name = file_name(f"{pad.name}{of_all}")
            name = next(one for n in count(1) if (one := name if n == 1 else f"{name} ({n})").lower() not in taken)
            taken.add(name.lower())
            content, facts = encoded(Clip(_without_end(sound), request.rate), request.options, note=pad.note,
                                     info={"INAM": name, "ISFT": "Bompla"})
            yield Made(f"hits/{name}{suffix(request.options)}", "single-hit", f"{pad.name}, layer {number} of {len(pad.layers)}", content,
                       facts | {"drum": pad.drum, "note": pad.note, "velocity": layer.velocity, "up_to_velocity": layer.up_to})


def pad_sound(request: ExportRequest, pad: Pad, layer: Layer) -> NDArray[np.float32]:
    """Return what a layer of a pad sounds like, shape (frames, 2), at the request's rate."""
    return request.sound(sound_key(request.document, pad, layer, request.clip))


def _without_end(sound: NDArray[np.float32]) -> NDArray[np.float32]:
    heard = np.flatnonzero(loudest_channel(sound) >= SILENCE_FLOOR)
    return sound[: int(heard[-1]) + 1] if heard.size else sound[: min(len(sound), 64)]


def rebuilt_loops(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make the rebuilt sound of each pattern that leaves: what the mixer plays, tail folded round or ringing out."""
    options = request.options
    for part in parts_of(request.document, options.patterns):
        clip = rebuilt_sound(request, part, check)
        name = base_name(request, part)
        looped = (0, clip.frames - 1) if options.tail == "folded" else None
        content, facts = encoded(clip, options, loop=looped, info=info_of(request, name), levelled=True)
        yield Made(f"{name} rebuilt{suffix(options)}", "rebuilt", f"rebuilt {part.letter} {part.name}".strip(), content, facts)


def rebuilt_sound(request: ExportRequest, part: Part, check: Check) -> Clip:
    """Return a pattern as the mixer plays it, at the request's rate and tempo."""
    def make() -> Clip:
        baked = request.baked(part, check)
        return bounce_rebuilt(baked, passes=2) if request.options.tail == "folded" else bounce_ringing(baked)

    return request.kept(("rebuilt", part.letter, bool(part.passages)), make)
