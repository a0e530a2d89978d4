"""Stems by drum: of the rebuilt loop as the mixer plays it, and of the original as it is pulled apart."""

from __future__ import annotations

import os
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace as with_values

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.engine.bounce import bounce_rebuilt, bounce_ringing
from bompla.export.request import Check, ExportRequest, Made, base_name, parts_of
from bompla.export.sound_file import encoded, suffix
from bompla.model.document import Cut, Slice
from bompla.model.drums import DRUMS
from bompla.render.events import AnyKey, Baked, MomentKey
from bompla.render.moments import moment_sound
from bompla.render.seam import seamless
from bompla.render.speed import at_rate, at_speed
from bompla.render.underneath import UNDERNEATH, alone, most_of
from bompla.units import ms_to_samples

REMAINDER = "remainder"
ORIGINAL = "original stems"
JOIN_MS = 3.0
"""Over so long a drum's stem fades at either end of a slice, into the remainder: the sum stays the loop."""

RINGS_LONGEST = ("crash", "ride", "hat_open", "tom_low", "tom_mid", "tom_high", "kick", "snare")
"""What rings on into the next slice most likely, in this order."""

Stem = NDArray[np.float64]


def rebuilt_stems(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a stem of each drum of the rebuilt loop, before the colour; together they are the loop, choked as it is.

    Of an untouched moment each drum has its share of the slice, as the loop is pulled apart, and what is no drum's the remainder has.
    """
    options = request.options
    for part in parts_of(request.document, options.patterns):
        baked = request.baked(part, check)
        drums = {pad.id: pad.drum for pad in part.document.pads}
        dry = {**baked.colour, "on": False}
        struck = {pad_id for hit in baked.events for pad_id in hit.stands_for or (hit.pad_id,)}
        moments = {hit.sound for hit in baked.events if isinstance(hit.sound, MomentKey)}
        shares = _shares(request, baked, check) if moments else {}
        for drum in dict.fromkeys([*(drums[pad.id] for pad in part.document.pads if pad.id in struck), *([REMAINDER] if moments else [])]):
            check()
            events = tuple(hit if hit.stands_for or drums[hit.pad_id] == drum else with_values(hit, gain=0.0) for hit in baked.events)
            own_share = shares[drum] if drum in shares else np.zeros((1, 2), np.float32)
            shared: dict[AnyKey, NDArray[np.float32]] = {key: moment_sound(key, own_share, request.rate) for key in moments}
            own = with_values(baked, events=events, colour=dry, sounds={**baked.sounds, **shared})
            clip = bounce_rebuilt(own, passes=2) if options.tail == "folded" else bounce_ringing(own)
            content, facts = encoded(clip, options)
            label = DRUMS[drum].label.lower() if drum in DRUMS else drum
            path = f"stems/{base_name(request, part)} {label} rebuilt{suffix(options)}"
            yield Made(path, "stem", f"{label} of the rebuilt {part.letter}", content, {**facts, "drum": drum, "of": "rebuilt"})


def _shares(request: ExportRequest, baked: Baked, check: Check) -> dict[str, NDArray[np.float32]]:
    """Return each drum's share of the loop's sound as moments are taken from it, shape (frames, 2); together they are that sound."""
    whole = baked.plain[1] if baked.plain is not None else baked.original
    made = {drum: _at_export(request, sound) for drum, sound in _pulled_apart(request, check).items() if drum != REMAINDER}
    return {**made, REMAINDER: (whole - np.sum([np.zeros_like(whole), *made.values()], axis=0)).astype(np.float32)}


def _at_export(request: ExportRequest, sound: Stem) -> NDArray[np.float32]:
    """Return a stem of the loop at the rate and speed at which it leaves, in stereo."""
    document, clip, options = request.document, request.clip, request.options
    ratio = request.rate / clip.sample_rate
    own = Clip(sound.astype(np.float32), clip.sample_rate)
    places = [(piece.cut.at_sample - document.loop.start_sample) * ratio for piece in document.slices()]
    return at_speed(at_rate(own, 0, own.frames, request.rate), request.rate, options.speed, options.way, places)


def original_stems(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a stem of each drum heard in the loop, and of what belongs to none; together they are the loop."""
    clip, options = request.clip, request.options
    for drum, sound in _pulled_apart(request, check).items():
        own = Clip(sound.astype(np.float32), clip.sample_rate)
        if request.rate != clip.sample_rate or options.speed != 1.0:
            own = Clip(_at_export(request, sound), request.rate)
        content, facts = encoded(own, options, as_it_is=True)
        label = DRUMS[drum].label.lower() if drum in DRUMS else drum
        path = f"stems/{base_name(request)} {label} original{suffix(options)}"
        yield Made(path, "stem", f"{label} of the original", content, {**facts, "drum": drum, "of": "original"})
    request.made.pop(ORIGINAL, None)  # of a long loop they are gigabytes


def pull_ahead(request: ExportRequest, check: Check) -> None:
    """Pull the loop apart beside other work."""
    _pulled_apart(request, check)


def _pulled_apart(request: ExportRequest, check: Check) -> dict[str, Stem]:
    return request.kept(ORIGINAL, lambda: loop_stems(request, check))


def loop_stems(request: ExportRequest, check: Check) -> dict[str, Stem]:
    """Return the loop as stems by drum, shape (frames, channels) each, `REMAINDER` last; their sum is the loop.

    Each slice is pulled apart into the drums heard in it; what rings on from before goes to the drum of the slice before that rings
    longest, what no drum has to the remainder.
    """
    from bompla.analysis.separation.pull_apart import RINGING, Known, pull_apart  # brings SciPy, which nothing else here needs

    document, clip = request.document, request.clip
    loop = document.loop
    whole = seamless(clip, loop).astype(np.float64)
    stems: dict[str, Stem] = {}
    known: Known = {}
    before = ""

    def pulled(piece: Slice) -> dict[str, Clip]:
        check()
        drums = _drums(piece.cut)
        if not drums or piece.end_sample <= piece.start_sample:
            return {}
        return pull_apart(clip, piece.start_sample, piece.end_sample, drums, attack_sample=piece.cut.attack_sample,
                          alone=dict(alone(document, drums)), most=dict(most_of(document, piece.cut, drums)), known=known)

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:  # NumPy lets go of the interpreter for most of it
        for piece, parts in zip(document.slices(), pool.map(pulled, document.slices()), strict=True):
            start, end = piece.start_sample - loop.start_sample, piece.end_sample - loop.start_sample
            edge = _window(end - start, ms_to_samples(JOIN_MS, clip.sample_rate))
            for name, part in parts.items():
                drum = name if name != RINGING else before
                if drum:
                    stems.setdefault(drum, np.zeros_like(whole))[start:end] += part.samples[: end - start] * edge
            drums = _drums(piece.cut)
            before = next((drum for drum in RINGS_LONGEST if drum in drums), drums[0] if drums else "")
    ordered = {drum: stems[drum] for drum in DRUMS if drum in stems}
    return {**ordered, REMAINDER: whole - np.sum([np.zeros_like(whole), *ordered.values()], axis=0)}


def _drums(cut: Cut) -> tuple[str, ...]:
    """Return the drums that a slice is pulled apart into; one is enough to have all of it."""
    return tuple(dict.fromkeys(h.drum for h in cut.heard if h.sure or h.confidence >= UNDERNEATH)) if any(h.sure for h in cut.heard) else ()


def _window(frames: int, join: int) -> Stem:
    """Return the share of a slice that its stems have, shape (frames, 1): all of it but for a short fade at its end."""
    share = np.ones((frames, 1))
    last = min(join, frames // 4)
    if last:
        share[-last:, 0] = np.linspace(1.0, 0.0, last)
    return share
