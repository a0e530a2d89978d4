"""Patterns as data: MIDI, hits as a table and as JSON, feel."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from typing import Any

from bompla.errors import BomplaError
from bompla.export.request import Check, ExportRequest, Made, Part, base_name, parts_of
from bompla.formats.midi import MidiOptions, midi_bytes
from bompla.groove.feel import feel_of, feel_text, felt_pattern
from bompla.groove.grid import beat_divisions, offset_beats
from bompla.groove.order import passage_hits, total_beats
from bompla.model.detected_pattern import is_inside, pattern_beats, pattern_meter
from bompla.model.document import SAME_ATTACK_MS, Document, Hit
from bompla.model.drums import DRUMS
from bompla.units import ms_to_samples

COLUMNS = ("time_s", "beat", "bar", "drum", "pad", "note", "velocity", "offset_ms", "pitch", "length_beats", "chance", "gain_db",
           "confidence")
"""What is said of each hit; beats count from the pattern's start, bars from 1, offset is from the nearest step, late is positive."""


FORMULA = ("=", "+", "-", "@")


def midi_options(request: ExportRequest, part: Part) -> MidiOptions:
    """Return how a pattern that leaves is written as MIDI."""
    options = request.options
    letters = tuple(step.letter for step in part.document.order for _ in range(step.repeats)) if part.passages else ()
    return MidiOptions(options.quantise, options.notes, letters, options.midi_type, options.chance, options.seed, options.pitch_as_notes,
                       options.speed, request.left_silent)


def midi(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a MIDI file of each pattern that leaves."""
    parts = parts_of(request.document, request.options.patterns)
    for part in parts:
        check()
        try:
            content = midi_bytes(part.document, midi_options(request, part))
        except BomplaError:
            if len(parts) == 1:
                raise
            continue  # of several variations an empty one is left out
        yield Made(f"{base_name(request, part)}.mid", "midi", f"pattern {part.letter} {part.name}".strip(), content)


def hit_rows(request: ExportRequest, part: Part) -> list[dict[str, Any]]:
    """Return what is said of each hit of a pattern that leaves, in order of time, by `COLUMNS`."""
    document = part.document
    beats = total_beats(part.passages) if part.passages else pattern_beats(document)
    hits: list[Hit] = list(passage_hits(document, part.passages) if part.passages else felt_pattern(document))
    hits = [hit for hit in hits if is_inside(hit.at_beats, beats) and hit.pad_id not in request.left_silent]
    divisions = beat_divisions([hit.at_beats for hit in hits], beats, compound=document.loop.meter.compound)
    per_bar = pattern_meter(document).beats_per_bar
    rows = []
    for hit in sorted(hits, key=lambda one: (one.at_beats, one.pad_id)):
        pad = document.pad(hit.pad_id)
        beat_s = 60.0 / document.bpm
        rows.append(dict(zip(COLUMNS, (
            round(hit.at_beats * beat_s, 6), round(hit.at_beats, 6), int(max(0.0, hit.at_beats) // per_bar) + 1, pad.drum, pad.name,
            DRUMS[pad.drum].note, hit.velocity, round(1000.0 * beat_s * offset_beats(hit, divisions), 3), hit.pitch, hit.length_beats,
            hit.chance, hit.gain_db, _confidence(document, pad.drum, hit.at_beats)), strict=True)))
    return rows


def _confidence(document: Document, drum: str, at_beats: float) -> float | None:
    """Return how sure a drum was heard where a hit is; None where it was not heard there."""
    at_sample = document.beat_map.sample_at(at_beats % document.loop.length_beats)
    near = ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    found = [h.confidence for cut in document.cuts if abs(cut.attack_sample - at_sample) <= near for h in cut.heard if h.drum == drum]
    return round(max(found), 4) if found else None


def hits_csv(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a table of the hits of each pattern that leaves."""
    for part in parts_of(request.document, request.options.patterns):
        check()
        rows = hit_rows(request, part)
        target = io.StringIO()
        writer = csv.DictWriter(target, COLUMNS, lineterminator="\r\n")
        writer.writeheader()
        writer.writerows({key: _cell(value) for key, value in row.items()} for row in rows)
        yield Made(f"{base_name(request, part)} hits.csv", "hits-csv", f"hits of {part.letter}", target.getvalue().encode("utf-8"),
                   {"hits": len(rows)})


def _cell(value: object) -> object:
    """Return a value as a cell: a text that a spreadsheet would take for a formula has an apostrophe ahead."""
    if isinstance(value, str) and value.startswith(FORMULA):
        return f"'{value}"
    return "" if value is None else value


def hits_json(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a JSON file of the hits of each pattern that leaves."""
    document = request.document
    for part in parts_of(document, request.options.patterns):
        check()
        rows = hit_rows(request, part)
        content = {"format": "bompla hits", "version": 1, "loop": document.title, "pattern": part.letter, "bpm": round(document.bpm, 4),
                   "meter": document.loop.meter_name, "hits": rows}
        yield Made(f"{base_name(request, part)} hits.json", "hits-json", f"hits of {part.letter}",
                   (json.dumps(content, indent=1) + "\n").encode("utf-8"), {"hits": len(rows)})


def feel(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a file of the loop's feel: what any other loop can be given."""
    check()
    made = feel_of(request.document, request.document.title)
    yield Made(f"{base_name(request)} feel.json", "feel", "feel of the loop", feel_text(made).encode("utf-8"))
