"""Reading Standard MIDI files: the notes struck in them, in beats."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path

from bompla.errors import ExportError
from bompla.files import read_regular
from bompla.model.drums import METERS, Meter

MOST_NOTES = 200_000
MOST_BYTES = 32 << 20
MOST_BARS = 1_024


@dataclass(frozen=True)
class MidiNotes:
    """What a file plays: notes as (beat, note, velocity) in order of time, its meter, and its length in beats, whole bars."""

    notes: tuple[tuple[float, int, int], ...]
    meter: Meter
    beats: int


def read_midi_notes(path: Path) -> MidiNotes:
    """Return the notes of a file, of its percussion channel where that has any, else of all.

    Raises ExportError with a sentence for a file that cannot be read, or holds no notes.
    """
    import mido  # late: the window is up before any file of this kind is asked for

    try:
        content = read_regular(path, MOST_BYTES, ExportError)
        file = mido.MidiFile(file=io.BytesIO(content), clip=True)  # from memory: a size that a header makes up asks for none
    except (OSError, ValueError, EOFError, KeyError, IndexError) as error:  # OSError: what it raises for a header that is none
        raise ExportError(f"{path.name} is no MIDI file, or it is damaged.") from error
    if file.ticks_per_beat <= 0 or file.type == 2:
        raise ExportError(f"{path.name} keeps its time in a way that is not read here; save it as type 0 or 1 from another program.")
    meter = METERS["4/4"]
    found: list[tuple[int, int, int, int]] = []
    for track in file.tracks:
        tick = 0
        for message in track:
            tick += message.time
            if message.type == "time_signature":
                meter = METERS.get(f"{message.numerator}/{message.denominator}", meter)
            elif message.type == "note_on" and message.velocity > 0 and len(found) < MOST_NOTES:
                found.append((tick, message.note, message.velocity, message.channel))
    drums = [note for note in found if note[3] == 9] or found
    if not drums:
        raise ExportError(f"{path.name} holds no notes.")
    per_beat = file.ticks_per_beat * meter.beat_quarters
    notes = tuple(sorted((tick / per_beat, note, velocity) for tick, note, velocity, _ in drums))
    bars = int((notes[-1][0] + 0.05) // meter.beats_per_bar) + 1
    if bars > MOST_BARS:
        raise ExportError(f"{path.name} is {bars} bars long; up to {MOST_BARS} can be read. Cut out the part you want first.")
    return MidiNotes(notes, meter, bars * meter.beats_per_bar)
