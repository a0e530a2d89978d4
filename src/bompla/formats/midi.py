"""Standard MIDI files of a pattern."""

from __future__ import annotations

import io
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec
from msgspec.structs import replace

from bompla.errors import ExportError
from bompla.files import write_atomically
from bompla.groove.feel import felt_pattern
from bompla.groove.grid import quantised
from bompla.model.detected_pattern import pattern_meter, pattern_of
from bompla.model.document import Document, Hit, Pad, Variation
from bompla.model.drums import DRUMS

if TYPE_CHECKING:
    import mido

TICKS_PER_QUARTER = 960
PERCUSSION_CHANNEL = 9
"""Channel 10 as people count."""

NOTE_BEATS = 0.125


class MidiOptions(msgspec.Struct, frozen=True):
    """How a pattern is written: real times or quantised, which notes stand for its pads, which variations.

    Notes are the pads' own (`pads`) or General MIDI percussion by drum (`drums`). `letters` are variations
    to be written one after the other; without any it is the shown one.
    """

    quantise: bool = False
    notes: Literal["pads", "drums"] = "pads"
    letters: tuple[str, ...] = ()


def midi_bytes(document: Document, options: MidiOptions | None = None) -> bytes:
    """Return a type 1 file, 960 ticks a quarter: a tempo track, then a named track for each pad with hits.

    Raises ExportError where the pattern has no hits in the loop.
    """
    import mido  # late: the window is up before a file is written

    options = options or MidiOptions()
    meter = document.loop.meter
    placed_hits = written_hits(document, options)
    if not placed_hits:
        raise ExportError("The pattern has no hits to write; draw some, or choose another loop.")
    ticks_per_beat = TICKS_PER_QUARTER * meter.beat_quarters
    starts = section_starts(document, options)
    end_tick = round(starts[-1] * ticks_per_beat)
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_QUARTER, charset="utf-8")
    file.tracks.append(_tempo_track(document, options.letters, [round(beat * ticks_per_beat) for beat in starts]))
    for pad in document.pads:
        placed = [(round(t * ticks_per_beat), h) for t, h in placed_hits if h.pad_id == pad.id]
        if placed:
            note = DRUMS[pad.drum].note if options.notes == "drums" else pad.note
            file.tracks.append(_pad_track(pad, note, placed, end_tick, ticks_per_beat))
    target = io.BytesIO()
    file.save(file=target)
    return target.getvalue()


def section_starts(document: Document, options: MidiOptions) -> list[int]:
    """Return the beat at which each variation that is written begins, and the one at which the last ends.

    Raises ExportError for a letter that no variation has.
    """
    starts = [0]
    for index in _shown(document, options):
        starts.append(starts[-1] + document.beats_of(_variation(document, index)) if document.variations else document.loop.beats)
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
    """Return what will be written: each hit as it is felt, and its beat from the start of the file.

    Raises ExportError for a letter that no variation has.
    """
    starts = section_starts(document, options)
    found = []
    for section, index in enumerate(_shown(document, options)):
        beats = starts[section + 1] - starts[section]
        hits = [h for h in felt_pattern(replace(document, shown=index)) if -0.5 < h.at_beats < beats]
        times = [max(0.0, hit.at_beats) for hit in hits]
        if options.quantise:
            times = [float(t) for t in quantised(times, beats, compound=document.loop.meter.compound)]
        found += [(starts[section] + t, hit) for t, hit in zip(times, hits, strict=True)]
    return found


def write_midi(document: Document, path: Path, options: MidiOptions | None = None) -> None:
    """Write a pattern as a MIDI file, whole or not at all; raises ExportError."""
    write_atomically(path, midi_bytes(document, options), ExportError)


def _tempo_track(document: Document, letters: tuple[str, ...], starts: list[int]) -> mido.MidiTrack:
    import mido  # late: the window is up before a file is written

    meter = document.loop.meter
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=document.title, time=0))
    tempo = mido.bpm2tempo(document.bpm * meter.beat_quarters)
    track.append(mido.MetaMessage("set_tempo", tempo=min(tempo, 0xFFFFFF), time=0))
    known = {variation.letter: variation for variation in document.variations}
    meters = [document.meter_of(known[letter]) for letter in letters] or [pattern_meter(document)]
    for n, own in enumerate(meters):
        wait = starts[n] - starts[n - 1] if n else 0
        if n == 0 or own != meters[n - 1]:
            track.append(mido.MetaMessage("time_signature", numerator=own.numerator, denominator=own.denominator, time=wait))
            wait = 0
        if letters:
            track.append(mido.MetaMessage("marker", text=f"{letters[n]} {known[letters[n]].name}".strip(), time=wait))
    track.append(mido.MetaMessage("end_of_track", time=starts[-1] - starts[len(letters) - 1] if letters else starts[-1]))
    return track


def _pad_track(
    pad: Pad, note: int, placed: Iterable[tuple[int, Hit]], end_tick: int, ticks_per_beat: float
) -> mido.MidiTrack:
    """Return a track whose notes end before the next one of the same pad begins, and with the loop.

    A pad that is played across the keys has a hit's pitch in its note.
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
        key = note if pad.keys == (0, 0) else max(0, min(127, note + round(hit.pitch)))
        on = mido.Message("note_on", channel=PERCUSSION_CHANNEL, note=key, velocity=hit.velocity)
        off = mido.Message("note_off", channel=PERCUSSION_CHANNEL, note=key, velocity=64)
        messages += [(tick, 1, on), (stop, 0, off)]
    now = 0
    for tick, _, message in sorted(messages, key=lambda item: item[:2]):
        track.append(message.copy(time=tick - now))
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=max(0, end_tick - now)))
    return track
