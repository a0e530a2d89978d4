"""Edits of cuts, slices and the loop: functions from document to document."""

from __future__ import annotations

import math
from bisect import bisect_right, insort
from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from bompla.errors import EditError
from bompla.model.beatmap import BeatMap
from bompla.model.cut_memory import remembering
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import (
    MIN_CUT_DISTANCE_MS,
    SAME_ATTACK_MS,
    Attack,
    Cut,
    Cutting,
    Document,
    Heard,
    Hit,
    Origin,
    Pad,
    Slice,
    TempoReading,
)
from bompla.model.drums import DRUMS, METERS, Band
from bompla.model.loop import NEARLY_WHOLE_BEATS, Loop, Tempo
from bompla.model.wording import in_bars
from bompla.units import bpm_of, ms_to_samples

CLEAR_OF_TAILS_DB = 6.0
"""An attack that stands so far above what rings from before is one, and no more of what rings."""

STEP_IS_HIT_MS = 30.0
"""A step so near a hit is that hit, where both are cut at."""

NEAR_DOWNBEAT_MS = 60.0
LOWEST_BPM, HIGHEST_BPM = 20.0, 400.0
MOST_LOOP_BARS = 512
MOST_FADE_MS = 200.0
WHOLE_WITHIN_MS = 5.0
"""An end so near whole beats is on them."""

LEAST_BEATS = 1e-3
ON_BEAT_MS, ON_BEAT_WORTH, ON_BAR_WORTH, CARRIED_WORTH = 40.0, 0.15, 0.25, 0.15
CARRIES = ("kick", "snare")
"""Where a gap leaves room for one attack of two, so much more counts one on a beat or a bar line, and a drum that carries a groove."""

SAME_TEMPO = 0.005
"""What differs by no more is the same tempo, found on another place."""


def add_cut(document: Document, at_sample: int, *, attack_sample: int | None = None) -> Document:
    """Cut by hand at a sample; its hits are offered, and the pattern stays as it is.

    Raises EditError outside the loop and where another cut is too near.
    """
    loop = document.loop
    if not loop.start_sample <= at_sample < loop.end_sample:
        raise EditError("A cut must lie inside the loop.")
    if any(abs(cut.at_sample - at_sample) < document.min_cut_frames for cut in document.cuts):
        raise EditError("There is a cut already at this place.")
    attack = at_sample if attack_sample is None else max(at_sample, attack_sample)
    cut = Cut(document.next_id, at_sample, attack, 1.0, "hand", locked=True)
    return replace(
        document,
        cuts=_sorted([*document.cuts, cut]),
        offers=(*document.offers, cut.id),
        next_id=document.next_id + 1,
    )


def place_between(document: Document, piece: Slice) -> tuple[int, bool]:
    """Return where a slice is best cut in two, and whether that is at an attack: at its strongest clear inner one, or in its middle."""
    near = 4 * document.min_cut_frames
    inside = [a for a in document.attacks if piece.cut.attack_sample + near < a.at_sample < piece.end_sample - near]
    clear = [a for a in inside if a.clear_db >= CLEAR_OF_TAILS_DB] or inside
    best = max(clear, key=lambda a: a.strength, default=None)
    return (best.at_sample, True) if best is not None else ((piece.start_sample + piece.end_sample) // 2, False)


def move_cut(document: Document, cut_id: int, at_sample: int) -> Document:
    """Move a cut, no further than its neighbours; it is locked from now on, and pads follow it."""
    cut = document.cut(cut_id)
    index = document.cuts.index(cut)
    near = document.min_cut_frames
    low = document.cuts[index - 1].at_sample + near if index else 0
    after = index + 1
    high = document.cuts[after].at_sample - near if after < len(document.cuts) else document.source.frames - 1
    at_sample = max(low, min(at_sample, high))
    if not low <= high or at_sample == cut.at_sample:
        return document
    keeps_attack = at_sample <= cut.attack_sample <= at_sample + ms_to_samples(20.0, document.source.sample_rate)
    attack = cut.attack_sample if keeps_attack else at_sample
    moved = replace(cut, at_sample=at_sample, attack_sample=attack, locked=True)
    pads = tuple(_following(pad, cut, moved) for pad in document.pads)
    return replace(document, cuts=_sorted(moved if c is cut else c for c in document.cuts), pads=pads)


def delete_cuts(document: Document, cut_ids: Iterable[int]) -> Document:
    """Take cuts out; each slice joins the one before it, and the pattern keeps its hits. The first slice of the loop stays."""
    first = next(iter(document.slices()), None)
    gone = set(cut_ids) - ({first.cut.id} if first is not None else set())
    return replace(
        document,
        cuts=tuple(cut for cut in document.cuts if cut.id not in gone),
        offers=tuple(cut_id for cut_id in document.offers if cut_id not in gone),
    )


def set_threshold(document: Document, threshold: float) -> Document:
    """Cut at every attack at least this strong; hand and locked cuts stay, and so do the pattern's hits."""
    threshold = max(0.0, min(1.0, threshold))
    return recut(replace(document, threshold=threshold))


def set_cutting(document: Document, cutting: Cutting) -> Document:
    """Cut in another way; hand and locked cuts stay, and so do the pattern's hits."""
    return document if cutting == document.cutting else recut(replace(document, cutting=cutting))


def weighed(attack: Attack, cutting: Cutting) -> float:
    """Return the strength of an attack as the weights of low, mid and high drums make it, from 0 to 1."""
    if (cutting.low, cutting.mid, cutting.high) == (1.0, 1.0, 1.0) or not attack.heard:
        return attack.strength
    by_band = {Band.LOW: cutting.low, Band.MID: cutting.mid, Band.HIGH: cutting.high}
    total = sum(h.confidence for h in attack.heard)
    weight = sum(h.confidence * by_band[DRUMS[h.drum].band] for h in attack.heard) / total
    return max(0.0, min(1.0, attack.strength * weight))


def recut(document: Document) -> Document:
    """Make the cuts of the loop anew from its attacks, its steps and the threshold; what is locked or by hand stays."""
    near = document.min_cut_frames
    kept = [cut for cut in document.cuts if cut.locked or cut.origin == "hand"]
    free = (cut for cut in document.cuts if not cut.locked and cut.origin != "hand")
    known: dict[tuple[Origin, int], Cut] = {(cut.origin, cut.attack_sample): cut for cut in free}
    taken = sorted(time for cut in kept for time in (cut.at_sample, cut.attack_sample))
    next_id = document.next_id
    cuts, new_ids = list(kept), []
    for at, spot, strength, origin, attack in _wanted(document):
        if taken and at - taken[-1] < near:  # else it lies behind all others, as most do while they come in order
            if _within(taken, spot, near) or _within(taken, at, near):
                continue
            for time in {spot, at}:
                insort(taken, time)
        else:
            taken += [at, spot] if at < spot else [spot]
        cut = known.get((origin, spot))
        if cut is None:
            cut = Cut(next_id, at, spot, strength, origin)
            if attack is not None:
                cut = replace(cut, heard=attack.heard, clear_db=attack.clear_db, levels=attack.levels)
            new_ids.append(next_id)
            next_id += 1
        cuts.append(cut)
    cuts, next_id = _with_first(cuts, document, next_id)
    cuts, set_aside = remembering(document, cuts, new_ids)
    ids = {cut.id for cut in cuts}
    offers = [i for i in document.offers if i in ids] + _unplayed(document, cuts, new_ids)
    return replace(document, cuts=_sorted(cuts), offers=tuple(offers), next_id=next_id, set_aside=set_aside)


def _structural(document: Document, attack: Attack) -> float:
    """Return what it counts for an attack, beside its strength, that a groove stands on it: on a beat, on a bar line, a kick or a snare."""
    beat = document.beat_map.beat_at(attack.at_sample)
    nearest = round(beat)
    worth = 0.0
    if abs(beat - nearest) * document.beat_frames <= ms_to_samples(ON_BEAT_MS, document.source.sample_rate):
        worth = ON_BAR_WORTH if nearest % document.loop.meter.beats_per_bar == 0 else ON_BEAT_WORTH
    carried = max((heard.confidence for heard in attack.heard if heard.drum in CARRIES), default=0.0)
    return worth + CARRIED_WORTH * carried


def _within(times: Sequence[float], at: int, near: int) -> bool:
    """Whether any of sorted times is nearer than `near`."""
    index = bisect_right(times, at - near)
    return index < len(times) and times[index] < at + near


_Wanted = tuple[int, int, float, Origin, Attack | None]
"""Where a cut is wanted, where its sound rises, how strongly, why, and at which attack."""


def _wanted(document: Document) -> list[_Wanted]:
    """Return the cuts that hits and even steps ask for, the ones to keep first."""
    loop, cutting, threshold = document.loop, document.cutting, document.threshold
    first, last = loop.start_sample, loop.end_sample
    inside = [a for a in document.attacks if first <= a.at_sample and a.cut_sample < last]
    if not cutting.hits:
        strong = []
    elif (cutting.low, cutting.mid, cutting.high) == (1.0, 1.0, 1.0):
        strong = [(a.strength, a) for a in inside if a.strength >= threshold]
    else:
        strong = [(strength, a) for a in inside if (strength := weighed(a, cutting)) >= threshold]
    if cutting.min_distance_ms > MIN_CUT_DISTANCE_MS:
        strong.sort(key=lambda item: (-item[0] - _structural(document, item[1]), item[1].at_sample))
    wanted: list[_Wanted] = [(max(first, a.cut_sample), a.at_sample, strength, "detected", a) for strength, a in strong]
    if not cutting.even:
        return wanted
    pull = ms_to_samples(cutting.pull_ms, document.source.sample_rate)
    hits = sorted(a.at_sample for _, a in strong)
    near = ms_to_samples(STEP_IS_HIT_MS, document.source.sample_rate)
    for step in range(math.ceil(loop.length_beats / cutting.even_beats - NEARLY_WHOLE_BEATS)):
        at = document.beat_map.sample_at(step * cutting.even_beats)
        if hits and _within(hits, at, near):
            continue  # that hit is the step
        attack = attack_near(inside, at, pull) if pull else None
        pulled: _Wanted = (at, at, 0.0, "even", None)
        if attack is not None:
            pulled = (max(first, attack.cut_sample), attack.at_sample, attack.strength, "even", attack)
        wanted.append(pulled)
    return wanted


def set_loop(document: Document, loop: Loop, tempo: Tempo | None = None) -> Document:
    """Choose another region, length or meter; hits stay with the sound they belong to.

    A loop of another tempo than the one that holds brings its own, unless it is said which.
    """
    frames = document.source.frames
    if not 0 <= loop.start_sample < loop.end_sample <= frames:
        raise EditError("The loop must lie inside the sound and have a length.")
    if loop == document.loop and tempo in (None, document.tempo):
        return document
    bpm = bpm_of(beats=loop.length_beats, seconds=loop.frames / document.source.sample_rate)
    same = abs(bpm * document.beat_frames / (60.0 * document.source.sample_rate) - 1.0) <= SAME_TEMPO
    changed = replace(document, loop=loop, tempo=tempo or Tempo(bpm, by_hand=same and document.tempo.by_hand))
    before, after = document.beat_map, changed.beat_map
    variations = tuple(replace(v, hits=_retimed(v.hits, before, after)) for v in document.variations)
    return recut(replace(changed, variations=variations))


def choose_reading(document: Document, reading: TempoReading) -> Document:
    """Read the same region as another number of bars or in another meter."""
    loop = document.loop
    beats = reading.bars * METERS[reading.meter].beats_per_bar
    return _by_hand(document, replace(loop, length_beats=beats, meter_name=reading.meter))


def _by_hand(document: Document, loop: Loop) -> Document:
    """Choose a region whose tempo is what a hand said."""
    bpm = bpm_of(beats=loop.length_beats, seconds=loop.frames / document.source.sample_rate)
    return set_loop(document, loop, Tempo(bpm, by_hand=True))


def set_tempo(document: Document, bpm: float) -> Document:
    """Set the tempo by hand: the start and the bars stay, and the end moves.

    Raises EditError where so many bars would reach past the sound.
    """
    loop = document.loop
    if not LOWEST_BPM <= bpm <= HIGHEST_BPM:
        raise EditError(f"A tempo must lie between {LOWEST_BPM:.0f} and {HIGHEST_BPM:.0f} BPM.")
    end = loop.start_sample + round(loop.length_beats * 60.0 / bpm * document.source.sample_rate)
    if end > document.source.frames + round(0.002 * document.source.sample_rate):
        length = in_bars(loop.length_beats, loop.meter)
        raise EditError(f"At {bpm:.2f} BPM {length} would reach past the end of the sound; use fewer bars first.")
    return _by_hand(document, replace(loop, end_sample=min(end, document.source.frames)))


def set_bars(document: Document, bars: int) -> Document:
    """Say that the loop as it stands is so many bars: its tempo follows."""
    if not 1 <= bars <= MOST_LOOP_BARS:
        raise EditError(f"A loop has 1 to {MOST_LOOP_BARS} bars.")
    return _by_hand(document, replace(document.loop, length_beats=float(bars * document.loop.meter.beats_per_bar)))


def set_meter(document: Document, meter_name: str) -> Document:
    """Read the loop in another meter: its beat and both its ends stay, and its bars are counted anew."""
    if meter_name not in METERS:
        raise EditError(f"There is no meter {meter_name}.")
    loop, meter = document.loop, METERS[meter_name]
    ratio = loop.meter.beat_quarters / meter.beat_quarters
    tempo = replace(document.tempo, bpm=document.tempo.bpm * ratio)
    return set_loop(document, replace(loop, length_beats=loop.length_beats * ratio, meter_name=meter_name), tempo)


def take_bars(document: Document, bars: int) -> Document:
    """Keep the start and the tempo, and take so many bars from there, as far as the sound reaches."""
    loop = document.loop
    end = loop.start_sample + round(document.beat_frames * loop.meter.beats_per_bar * bars)
    return move_ends(document, loop.start_sample, min(end, document.source.frames))


def move_ends(document: Document, start_sample: int, end_sample: int) -> Document:
    """Move the loop's ends: its beat stays, and how many bars it has follows; within `WHOLE_WITHIN_MS` of whole beats it has those.

    Raises EditError outside the sound, and for a loop without length.
    """
    beats = (end_sample - start_sample) / document.beat_frames
    whole = round(beats)
    if whole >= 1 and abs(beats - whole) * document.beat_frames <= WHOLE_WITHIN_MS * document.source.sample_rate / 1000.0:
        beats = float(whole)
    moved = replace(document.loop, start_sample=start_sample, end_sample=end_sample, length_beats=max(beats, LEAST_BEATS))
    return set_loop(document, moved, document.tempo if document.tempo.bpm > 0.0 else Tempo(document.bpm))


def end_on_bar_line(document: Document) -> Document:
    """Move the loop's end to the bar line that is nearest to it, at least a bar from its start, as far as the sound reaches."""
    loop = document.loop
    room = int((document.source.frames - loop.start_sample) / loop.bar_frames + 0.002)
    return take_bars(document, max(1, min(round(loop.bars), room)))


def slide_loop(document: Document, by_beats: float) -> Document:
    """Move the whole loop by some beats, as far as the sound reaches."""
    loop = document.loop
    by = round(loop.beat_frames * by_beats)
    start = max(0, min(loop.start_sample + by, document.source.frames - loop.frames))
    return set_loop(document, replace(loop, start_sample=start, end_sample=start + loop.frames), document.tempo)


def downbeat_here(document: Document, at_sample: int) -> Document:
    """Let the loop begin at the attack nearest to a place, with as many of its bars as fit after it.

    Raises EditError where not one bar fits.
    """
    loop = document.loop
    near = attack_near(document.attacks, at_sample, ms_to_samples(NEAR_DOWNBEAT_MS, document.source.sample_rate))
    start = near.cut_sample if near else at_sample
    bar = loop.bar_frames
    bars = min(loop.whole_bars, int((document.source.frames - start) / bar + 0.002))
    if bars < 1:
        raise EditError("There is less than one bar after this place; choose an earlier one.")
    end = min(document.source.frames, start + round(bars * bar))
    return set_loop(document, Loop.of_bars(start, end, bars, loop.meter_name, loop.fade_ms))


def set_seam_fade(document: Document, fade_ms: float) -> Document:
    """Blend the loop's end with what lies before its start, over so many milliseconds."""
    return replace(document, loop=replace(document.loop, fade_ms=max(0.0, min(MOST_FADE_MS, fade_ms))))


def rename_slice(document: Document, cut_id: int, name: str) -> Document:
    """Give a slice a name of its own; an empty one brings back the name of its drum."""
    return _with_cut(document, replace(document.cut(cut_id), name=name.strip()[:60]))


def set_left_out(document: Document, cut_ids: Iterable[int], left_out: bool) -> Document:
    """Leave slices out of kit making and of what is written, or take them in again; what that changes in the pattern is offered."""
    chosen = {cut.id for cut in document.cuts if cut.left_out != left_out}.intersection(cut_ids)
    cuts = tuple(replace(c, left_out=left_out, before=_before(c)) if c.id in chosen else c for c in document.cuts)
    return replace(document, cuts=cuts, offers=(*document.offers, *sorted(chosen.difference(document.offers))))


def correct_heard(document: Document, cut_id: int, drum: str) -> Document:
    """Say which drum leads in a slice, by hand: it takes the place of the drum heard first."""
    if drum not in DRUMS:
        raise EditError(f"There is no drum called {drum}.")
    cut = document.cut(cut_id)
    velocity = cut.heard[0].velocity if cut.heard else 100
    rest = tuple(h for h in cut.heard[1:] if h.drum != drum)
    return _corrected(document, cut, (Heard(drum, 1.0, velocity), *rest))


def set_heard(document: Document, cut_id: int, heard: tuple[Heard, ...]) -> Document:
    """Enter what the analysis heard at a cut; a cut that is gone by now changes nothing."""
    if all(cut.id != cut_id for cut in document.cuts):
        return document
    return _with_cut(document, replace(document.cut(cut_id), heard=heard))


def _corrected(document: Document, cut: Cut, heard: tuple[Heard, ...]) -> Document:
    """Enter what is heard at a cut by hand; what that changes in the pattern is offered."""
    changed = _with_cut(document, replace(cut, heard=heard, locked=True, before=_before(cut)))
    return changed if cut.id in document.offers else replace(changed, offers=(*document.offers, cut.id))


def _before(cut: Cut) -> tuple[str, ...]:
    """Return the drums that the pattern may have of a cut, once it is changed."""
    return tuple(dict.fromkeys((*cut.before, *(h.drum for h in cut.heard if h.sure))))


def _with_cut(document: Document, cut: Cut) -> Document:
    return replace(document, cuts=tuple(cut if c.id == cut.id else c for c in document.cuts))


def _sorted(cuts: Iterable[Cut]) -> tuple[Cut, ...]:
    return tuple(sorted(cuts, key=lambda cut: cut.at_sample))


def _following(pad: Pad, cut: Cut, moved: Cut) -> Pad:
    layers = tuple(
        replace(layer, at_sample=moved.at_sample, attack_sample=moved.attack_sample)
        if layer.at_sample == cut.at_sample and not layer.of
        else layer
        for layer in pad.layers
    )
    return pad if layers == pad.layers else replace(pad, layers=layers)


def _with_first(cuts: list[Cut], document: Document, next_id: int) -> tuple[list[Cut], int]:
    """Make sure that a slice begins where the loop does, so that slices tile it."""
    start, near = document.loop.start_sample, document.min_cut_frames
    for index, cut in enumerate(cuts):
        if start <= cut.at_sample < start + near:
            if cut.origin != "hand" and not cut.locked:
                cuts[index] = replace(cut, at_sample=start)
            return cuts, next_id
    first = Cut(next_id, start, start, 0.0, "even")
    return [first, *(c for c in cuts if c.at_sample != start)], next_id + 1


def lock_cuts(document: Document, cut_ids: Iterable[int], locked: bool) -> Document:
    """Lock cuts, so that they stay however the loop is cut anew, or unlock them."""
    chosen = set(cut_ids)
    cuts = tuple(replace(c, locked=locked) if c.id in chosen else c for c in document.cuts)
    return replace(document, cuts=cuts)


def nudge_cuts(document: Document, cut_ids: Iterable[int], by_samples: int) -> Document:
    """Move cuts by some samples, the foremost first, so that they do not stand in each other's way."""
    chosen = [cut for cut in document.cuts if cut.id in set(cut_ids)]
    for cut in reversed(chosen) if by_samples > 0 else chosen:
        document = move_cut(document, cut.id, cut.at_sample + by_samples)
    return document


def keep_doubt(document: Document, cut_id: int, kind: str) -> Document:
    """Remember that a doubt about a slice was looked at and that the slice is well."""
    cut = document.cut(cut_id)
    return document if kind in cut.kept else _with_cut(document, replace(cut, kept=(*cut.kept, kind)))


def correct_all(document: Document, cut_ids: Iterable[int], drum: str) -> Document:
    """Say of several slices at once which drum leads in them."""
    for cut_id in cut_ids:
        document = correct_heard(document, cut_id, drum)
    return document


def set_underneath(document: Document, cut_id: int, drum: str, sounds: bool) -> Document:
    """Say by hand whether a drum sounds in a slice beside the one that leads."""
    cut = document.cut(cut_id)
    rest = tuple(h for h in cut.heard if h.drum != drum)
    if not sounds:
        return _corrected(document, cut, rest)
    velocity = next((h.velocity for h in cut.heard if h.drum == drum), 80)
    lead = rest[:1]
    return _corrected(document, cut, (*lead, Heard(drum, 1.0, velocity), *rest[1:]))


def _unplayed(document: Document, cuts: list[Cut], new_ids: list[int]) -> list[int]:
    """Return those new cuts that hold a drum the pattern has no hit for at that time."""
    if not document.variations:
        return []
    near = ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    times = sorted(document.beat_map.samples_at([hit.at_beats for hit in pattern_of(document).hits]).tolist())
    by_id = {cut.id: cut for cut in cuts}
    return [i for i in new_ids if by_id[i].heard and not _within(times, by_id[i].attack_sample, near + 1)]


def _retimed(hits: tuple[Hit, ...], before: BeatMap, after: BeatMap) -> tuple[Hit, ...]:
    """Return hits with the beats that their sound has under another map."""
    beats = after.beats_at(before.samples_at([hit.at_beats for hit in hits])).round(9).tolist()
    return tuple(replace(hit, at_beats=beat) for hit, beat in zip(hits, beats, strict=True))


def attack_near(attacks: Iterable[Attack], at_sample: int, within_samples: int) -> Attack | None:
    """Return the attack nearest to a sample within a distance, None where there is none."""
    near = [attack for attack in attacks if abs(attack.at_sample - at_sample) <= within_samples]
    return min(near, key=lambda attack: abs(attack.at_sample - at_sample), default=None)
