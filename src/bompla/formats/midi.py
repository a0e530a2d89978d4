"""Standard MIDI files of a pattern."""

from __future__ import annotations

import io
from collections.abc import Iterable
from math import ceil
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec
import numpy as np
from msgspec.structs import replace

from bompla.errors import ExportError
from bompla.files import write_atomically
from bompla.groove.feel import felt_pattern
from bompla.groove.grid import quantised_hits
from bompla.groove.slice_kit import kit_of_slices
from bompla.model.detected_pattern import is_inside, pattern_meter, pattern_of
from bompla.model.document import Document, Hit, Pad, Variation
from bompla.model.drums import DRUMS

if TYPE_CHECKING:
    import mido

TICKS_PER_QUARTER = 960
PERCUSSION_CHANNEL = 9
"""Channel 10 as people count."""

NOTE_BEATS = 0.125
FLAM_S = 0.06
"""Two hits of a pad so near to each other are a flam, which moves to the grid as a whole."""


class MidiOptions(msgspec.Struct, frozen=True):
    """How a pattern is written.

    `quantise` is how far hits go to the grid, 0 to 1. Notes are the pads' own (`pads`), General MIDI percussion by drum (`drums`), or
    rise from 36 slice by slice (`slices`). `letters` are variations to be written one after the other; without any it is the shown one.
    In a file of `file_type` 0 all is one track. Hits with a chance are all written, or those that `seed` rolls. With `pitch_as_notes`
    a hit's pitch moves its note, as it always does on a pad that is played across the keys. The tempo is `speed` times the loop's;
    hits of `silenced` pads are left out.
    """

    quantise: float = 0.0
    notes: Literal["pads", "drums", "slices"] = "pads"
    letters: tuple[str, ...] = ()
    file_type: Literal[0, 1] = 1
    chance: Literal["all", "rolled"] = "all"
    seed: int = 1
    pitch_as_notes: bool = False
    speed: float = 1.0
    silenced: frozenset[int] = frozenset()


def midi_bytes(document: Document, options: MidiOptions | None = None) -> bytes:
    """Return a file of 960 ticks a quarter: a tempo track, then a named track for each pad with hits; or all of it as one.

    Where a hit is ahead of the first beat, a bar leads in, and a marker says where the pattern begins. Raises ExportError where the
    pattern has no hits in the loop.
    """
    import mido  # late: the window is up before a file is written

    options = options or MidiOptions()
    if options.notes == "slices":
        document = kit_of_slices(document)
    meter = document.loop.meter
    placed_hits = written_hits(document, options)
    if not placed_hits:
        raise ExportError("The pattern has no hits to write; draw some, or choose another loop.")
    ticks_per_beat = TICKS_PER_QUARTER * meter.beat_quarters
    lead = lead_in_beats(document, placed_hits)
    starts = [round((lead + beat) * ticks_per_beat) for beat in section_starts(document, options)]
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_QUARTER, charset="utf-8")
    file.tracks.append(_tempo_track(document, options, starts))
    for pad in document.pads:
        placed = [(round((lead + t) * ticks_per_beat), h) for t, h in placed_hits if h.pad_id == pad.id]
        if placed:
            note = DRUMS[pad.drum].note if options.notes == "drums" else pad.note
            bends = options.pitch_as_notes or pad.keys != (0, 0)
            file.tracks.append(_pad_track(pad, note, placed, starts[-1], ticks_per_beat, bends=bends))
    if options.file_type == 0:
        merged = mido.merge_tracks(file.tracks)
        file.type, file.tracks[:] = 0, [mido.MidiTrack(one for one in merged if one.type not in ("track_name", "instrument_name"))]
        file.tracks[0].insert(0, mido.MetaMessage("track_name", name=document.title, time=0))
    target = io.BytesIO()
    file.save(file=target)
    return target.getvalue()


def lead_in_beats(document: Document, placed: Iterable[tuple[float, Hit]]) -> int:
    """Return how long a file leads in, in beats: a bar where a hit is ahead of the first beat, else nothing."""
    earliest = min((at_beats for at_beats, _ in placed), default=0.0)
    per_bar = document.loop.meter.beats_per_bar
    return per_bar * ceil(-earliest / per_bar) if round(earliest * TICKS_PER_QUARTER) < 0 else 0


def section_starts(document: Document, options: MidiOptions) -> list[float]:
    """Return the beat at which each variation that is written begins, and the one at which the last ends.

    Raises ExportError for a letter that no variation has.
    """
    starts = [0.0]
    for index in _shown(document, options):
        starts.append(starts[-1] + document.beats_of(_variation(document, index)) if document.variations else document.loop.length_beats)
    return starts


def _variation(document: Document, index: int) -> Variation:
    return pattern_of(document) if index < 0 else document.variations[index]


def _shown(document: Document, options: MidiOptions) -> list[int]:
    by_letter = {variation.letter: n for n, variation in enumerate(document.variations)}
    unknown = [letter for letter in options.letters if letter not in by_letter]
    if unknown:
        raise ExportError(f"There is no variation {unknown[0]}; there are {', '.join(by_letter)}.")
    return [by_letter[letter] for letter in options.letters] or [document.shown]


def written_hits(document: Document, options: MidiOptions) -> list[tuple[float, Hit]]:
    """Return what will be written: each hit as it is felt, and its beat from the start of the pattern, below 0 ahead of it.

    Raises ExportError for a letter that no variation has.
    """
    starts = section_starts(document, options)
    rng = np.random.default_rng(options.seed)
    found = []
    for section, index in enumerate(_shown(document, options)):
        beats = starts[section + 1] - starts[section]
        felt = felt_pattern(replace(document, shown=index))
        hits = [h for h in felt if is_inside(h.at_beats, beats) and h.pad_id not in options.silenced]
        if options.chance == "rolled":
            hits = [hit for hit, drawn in zip(hits, rng.random(len(hits)).tolist(), strict=True) if drawn < hit.chance]
        times = [hit.at_beats for hit in hits]
        if options.quantise:
            flam_beats = FLAM_S * document.bpm / 60.0
            times = quantised_hits(hits, beats, options.quantise, flam_beats=flam_beats, compound=document.loop.meter.compound)
        found += [(starts[section] + t, hit) for t, hit in zip(times, hits, strict=True)]
    return found


def write_midi(document: Document, path: Path, options: MidiOptions | None = None) -> None:
    """Write a pattern as a MIDI file, whole or not at all; raises ExportError."""
    write_atomically(path, midi_bytes(document, options), ExportError)


def _tempo_track(document: Document, options: MidiOptions, starts: list[int]) -> mido.MidiTrack:
    """Return tempo, meters and markers; `starts` are the ticks at which sections begin, and the end of the last."""
    import mido  # late: the window is up before a file is written

    meter = document.loop.meter
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=document.title, time=0))
    tempo = mido.bpm2tempo(document.bpm * options.speed * meter.beat_quarters)
    track.append(mido.MetaMessage("set_tempo", tempo=min(tempo, 0xFFFFFF), time=0))
    known = {variation.letter: variation for variation in document.variations}
    letters = options.letters
    meters = [document.meter_of(known[letter]) for letter in letters] or [pattern_meter(document)]
    now = 0
    for n, own in enumerate(meters):
        if n == 0 or own != meters[n - 1]:
            at = starts[n] if n else 0
            track.append(mido.MetaMessage("time_signature", numerator=own.numerator, denominator=own.denominator, time=at - now))
            now = at
        if letters or starts[0]:
            text = f"{letters[n]} {known[letters[n]].name}".strip() if letters else pattern_of(document).name
            track.append(mido.MetaMessage("marker", text=text, time=starts[n] - now))
            now = starts[n]
    track.append(mido.MetaMessage("end_of_track", time=starts[-1] - now))
    return track


def _pad_track(
    pad: Pad, note: int, placed: Iterable[tuple[int, Hit]], end_tick: int, ticks_per_beat: float, *, bends: bool
) -> mido.MidiTrack:
    """Return a track whose notes end before the next one of the same pad begins, and with the loop.

    With `bends` a hit's pitch moves its note.
    """
    import mido  # late: the window is up before a file is written

    ordered = sorted(placed, key=lambda item: item[0])
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=pad.name, time=0))
    track.append(mido.MetaMessage("instrument_name", name=DRUMS[pad.drum].label, time=0))
    messages: list[tuple[int, int, mido.Message]] = []
    for index, (tick, hit) in enumerate(ordered):
        following = ordered[index + 1][0] if index + 1 < len(ordered) else end_tick
        length_ticks = round((hit.length_beats or NOTE_BEATS) * ticks_per_beat)
        stop = max(tick + 1, min(tick + length_ticks, following))
        key = max(0, min(127, note + round(hit.pitch))) if bends else note
        on = mido.Message("note_on", channel=PERCUSSION_CHANNEL, note=key, velocity=hit.velocity)
        off = mido.Message("note_off", channel=PERCUSSION_CHANNEL, note=key, velocity=64)
        messages += [(tick, 1, on), (stop, 0, off)]
    now = 0
    for tick, _, message in sorted(messages, key=lambda item: item[:2]):
        track.append(message.copy(time=tick - now))
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=max(0, end_tick - now)))
    return track
