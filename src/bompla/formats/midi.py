"""Standard MIDI files of a pattern."""

from __future__ import annotations

import io
from collections.abc import Iterable
from pathlib import Path
from typing import Literal

import mido
import msgspec

from bompla.errors import ExportError
from bompla.files import write_atomically
from bompla.groove.grid import quantised
from bompla.model.document import Document, Hit, Pad
from bompla.model.drums import DRUMS

TICKS_PER_QUARTER = 960
PERCUSSION_CHANNEL = 9
"""Channel 10 as people count."""

NOTE_BEATS = 0.125


class MidiOptions(msgspec.Struct, frozen=True):
    """How a pattern is written: real times or quantised, and which notes stand for its pads.

    Notes are the pads' own (`pads`) or General MIDI percussion by drum (`drums`).
    """

    quantise: bool = False
    notes: Literal["pads", "drums"] = "pads"


def midi_bytes(document: Document, options: MidiOptions | None = None) -> bytes:
    """Return a type 1 file, 960 ticks a quarter: a tempo track, then a named track for each pad with hits.

    Raises ExportError where the pattern has no hits in the loop.
    """
    options = options or MidiOptions()
    meter = document.loop.meter
    hits = [hit for hit in document.pattern.hits if -0.5 < hit.at_beats < document.loop.beats]
    if not hits:
        raise ExportError("The pattern has no hits to write; draw some, or choose another loop.")
    times = [max(0.0, hit.at_beats) for hit in hits]
    if options.quantise:
        times = [float(t) for t in quantised(times, document.loop.beats, compound=meter.compound)]
    ticks_per_beat = TICKS_PER_QUARTER * meter.beat_quarters
    end_tick = round(document.loop.beats * ticks_per_beat)
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_QUARTER, charset="utf-8")
    file.tracks.append(_tempo_track(document, end_tick))
    for pad in document.pads:
        placed = [(round(t * ticks_per_beat), h) for t, h in zip(times, hits, strict=True) if h.pad_id == pad.id]
        if placed:
            note = DRUMS[pad.drum].note if options.notes == "drums" else pad.note
            file.tracks.append(_pad_track(pad, note, placed, end_tick, round(NOTE_BEATS * ticks_per_beat)))
    target = io.BytesIO()
    file.save(file=target)
    return target.getvalue()


def write_midi(document: Document, path: Path, options: MidiOptions | None = None) -> None:
    """Write a pattern as a MIDI file, whole or not at all; raises ExportError."""
    write_atomically(path, midi_bytes(document, options), ExportError)


def _tempo_track(document: Document, end_tick: int) -> mido.MidiTrack:
    meter = document.loop.meter
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=document.title, time=0))
    tempo = mido.bpm2tempo(document.bpm * meter.beat_quarters)
    track.append(mido.MetaMessage("set_tempo", tempo=min(tempo, 0xFFFFFF), time=0))
    track.append(
        mido.MetaMessage("time_signature", numerator=meter.numerator, denominator=meter.denominator, time=0)
    )
    track.append(mido.MetaMessage("end_of_track", time=end_tick))
    return track


def _pad_track(
    pad: Pad, note: int, placed: Iterable[tuple[int, Hit]], end_tick: int, length_ticks: int
) -> mido.MidiTrack:
    """Return a track whose notes end before the next one of the same pad begins, and with the loop."""
    ordered = sorted(placed, key=lambda item: item[0])
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=pad.name, time=0))
    track.append(mido.MetaMessage("instrument_name", name=DRUMS[pad.drum].label, time=0))
    messages: list[tuple[int, int, mido.Message]] = []
    for index, (tick, hit) in enumerate(ordered):
        following = ordered[index + 1][0] if index + 1 < len(ordered) else end_tick
        stop = max(tick + 1, min(tick + length_ticks, following))
        on = mido.Message("note_on", channel=PERCUSSION_CHANNEL, note=note, velocity=hit.velocity)
        off = mido.Message("note_off", channel=PERCUSSION_CHANNEL, note=note, velocity=64)
        messages += [(tick, 1, on), (stop, 0, off)]
    now = 0
    for tick, _, message in sorted(messages, key=lambda item: item[:2]):
        track.append(message.copy(time=tick - now))
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=max(0, end_tick - now)))
    return track
