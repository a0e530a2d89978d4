"""MusicXML 4.0 of a drum part: percussion clef, hands up and feet down, as in the W3C Community Group's specification (2021)."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Sequence
from itertools import groupby

from bompla.files import as_text
from bompla.groove.repeats import Repeat
from bompla.groove.score import Bar, Beat, Chord, Note, Score, is_triplet
from bompla.model.drums import DRUMS, Notehead

DIVISIONS = 12
"""Steps of a quarter note: sixteenths are 3, eighths of a triplet 4."""

PART = "P1"
LINE_BARS, MOST_COLUMNS = (4, 2), 32
"""How many bars a line may have, and at how many places something may be written on it."""

HEADS = {
    Notehead.OVAL: "normal", Notehead.OVAL_SLASHED: "normal", Notehead.CROSS: "x", Notehead.CROSS_CIRCLED: "x", Notehead.CROSS_BELOW: "x",
    Notehead.DIAMOND: "diamond", Notehead.STAR: "x", Notehead.TRIANGLE: "triangle", Notehead.SQUARE: "square",
}
_DOCTYPE = ('<!DOCTYPE score-partwise PUBLIC "-//Recordare//DTD MusicXML 4.0 Partwise//EN" '
            '"http://www.musicxml.org/dtds/partwise.dtd">\n')
_STRAIGHT = {3: ("16th", 0), 6: ("eighth", 0), 9: ("eighth", 1), 12: ("quarter", 0), 18: ("quarter", 1), 24: ("half", 0)}
_THIRDS = {4: ("eighth", 0), 8: ("quarter", 0)}


def musicxml_bytes(score: Score, repeats: Sequence[Repeat] = ()) -> bytes:
    """Return a score as MusicXML, one part; `repeats` are of its written bars (`groove.repeats.folded`)."""
    root = ET.Element("score-partwise", version="4.0")
    work = ET.SubElement(root, "work")
    _text(work, "work-title", score.title)
    _text(ET.SubElement(ET.SubElement(root, "identification"), "encoding"), "software", "Bompla")
    drums = [drum for drum in DRUMS if any(note.drum == drum for bar in score.bars for note in _notes(bar))]
    _part_list(ET.SubElement(root, "part-list"), drums)
    part = ET.SubElement(root, "part", id=PART)
    per_line = bars_of_a_line(score)
    for number, bar in enumerate(score.bars, 1):
        measure = ET.SubElement(part, "measure", number=str(number))
        if number > 1 and (number - 1) % per_line == 0:
            ET.SubElement(measure, "print", {"new-system": "yes"})
        _line_ahead(measure, number - 1, repeats)
        if number == 1:
            _first(measure, score)
        _bar(measure, bar, score)
        _line_after(measure, number - 1, repeats, last=number == len(score.bars))
    ET.indent(root)
    body: str = ET.tostring(root, encoding="unicode")
    return ('<?xml version="1.0" encoding="UTF-8"?>\n' + _DOCTYPE + body + "\n").encode("utf-8")


def bars_of_a_line(score: Score) -> int:
    """Return how many bars are written on each line: four, or two or one where they are full, so that phrases stand under each other."""
    fullest = max((_columns(bar) for bar in score.bars), default=1)
    return next((count for count in LINE_BARS if count * fullest <= MOST_COLUMNS), 1)


def _columns(bar: Bar) -> int:
    """Return at how many places of a bar something is written."""
    beats = [one for voice in (bar.hands, bar.feet) for one in enumerate(voice)]
    return max(1, len({(at, chord.step / beat.divisions) for at, beat in beats for chord in beat.chords}))


def _line_ahead(measure: ET.Element, bar: int, repeats: Sequence[Repeat]) -> None:
    """Write the bar line ahead of a bar where a repeat or an ending starts."""
    opens = any(repeat.first == bar for repeat in repeats)
    ending = next((2 + bar - repeat.last for repeat in repeats if repeat.endings and repeat.last - 1 <= bar <= repeat.last), 0)
    if not opens and not ending:
        return
    line = ET.SubElement(measure, "barline", location="left")
    if opens:
        _text(line, "bar-style", "heavy-light")
    if ending:
        ET.SubElement(line, "ending", number=str(ending), type="start")
    if opens:
        ET.SubElement(line, "repeat", direction="forward")


def _line_after(measure: ET.Element, bar: int, repeats: Sequence[Repeat], *, last: bool) -> None:
    """Write the bar line after a bar where a repeat or an ending stops, or all ends."""
    closes = next((repeat for repeat in repeats if repeat.last - repeat.endings == bar), None)
    second = any(repeat.endings and repeat.last == bar for repeat in repeats)
    if closes is None and not second and not last:
        return
    line = ET.SubElement(measure, "barline", location="right")
    if closes is not None or last:
        _text(line, "bar-style", "light-heavy")
    if closes is not None and closes.endings:
        ET.SubElement(line, "ending", number="1", type="stop")
    elif second:
        ET.SubElement(line, "ending", number="2", type="discontinue")
    if closes is not None:
        ET.SubElement(line, "repeat", {"direction": "backward"} | ({"times": str(closes.times)} if closes.times > 2 else {}))


def _notes(bar: Bar) -> list[Note]:
    return [note for beat in (*bar.hands, *bar.feet) for chord in beat.chords for note in chord.notes]


def _text(parent: ET.Element, tag: str, text: str, **attributes: str) -> ET.Element:
    made = ET.SubElement(parent, tag, attributes)
    made.text = as_text(text)
    return made


def _part_list(parent: ET.Element, drums: Sequence[str]) -> None:
    part = ET.SubElement(parent, "score-part", id=PART)
    _text(part, "part-name", "Drums", **{"print-object": "no"})
    for drum in drums:
        _text(ET.SubElement(part, "score-instrument", id=f"{PART}-{drum}"), "instrument-name", DRUMS[drum].label)
    for drum in drums:
        midi = ET.SubElement(part, "midi-instrument", id=f"{PART}-{drum}")
        _text(midi, "midi-channel", "10")
        _text(midi, "midi-unpitched", str(DRUMS[drum].note + 1))


def _first(measure: ET.Element, score: Score) -> None:
    """Write clef, meter, tempo and swing."""
    attributes = ET.SubElement(measure, "attributes")
    _text(attributes, "divisions", str(DIVISIONS))
    time = ET.SubElement(attributes, "time")
    _text(time, "beats", str(score.meter.numerator))
    _text(time, "beat-type", str(score.meter.denominator))
    _text(ET.SubElement(attributes, "clef"), "sign", "percussion")
    direction = ET.SubElement(measure, "direction", placement="above")
    metronome = ET.SubElement(ET.SubElement(direction, "direction-type"), "metronome")
    _text(metronome, "beat-unit", "eighth" if score.meter.beat_quarters < 1.0 else "quarter")
    if score.meter.compound:
        ET.SubElement(metronome, "beat-unit-dot")
    _text(metronome, "per-minute", f"{score.bpm:.4g}")
    if score.swing:
        _text(ET.SubElement(direction, "direction-type"), "words", f"swung {score.swing_of}, {score.swing:.0f} %")
    ET.SubElement(direction, "sound", tempo=f"{score.bpm * score.meter.beat_quarters:.4f}")


def _bar(measure: ET.Element, bar: Bar, score: Score) -> None:
    length = round(score.meter.beats_per_bar * score.meter.beat_quarters * DIVISIONS)
    if not bar.hands and not bar.feet:
        _whole_rest(measure, length)
        return
    for number, (voice, beats) in enumerate((("1", bar.hands), ("2", bar.feet))):
        if not beats:
            continue
        if number == 1 and bar.hands:
            _text(ET.SubElement(measure, "backup"), "duration", str(length))
        for beat in beats:
            _beat(measure, beat, voice, score)


def _whole_rest(measure: ET.Element, length: int) -> None:
    note = ET.SubElement(measure, "note")
    ET.SubElement(note, "rest", measure="yes")
    _text(note, "duration", str(length))
    _text(note, "voice", "1")


def _beat(measure: ET.Element, beat: Beat, voice: str, score: Score) -> None:
    per_step = round(score.meter.beat_quarters * DIVISIONS) // beat.divisions
    triplet = is_triplet(beat, score.meter) and any(chord.steps < beat.divisions for chord in beat.chords)
    pieces = [piece for chord in beat.chords for piece in _written(chord, per_step, triplet=triplet)]
    beams = _beams([(kind, bool(chord.notes)) for chord, _, (kind, _) in pieces])
    for place, ((chord, duration, (kind, dots)), beam) in enumerate(zip(pieces, beams, strict=True)):
        edge = {0: "start", len(pieces) - 1: "stop"}.get(place, "") if triplet and len(pieces) > 1 else ""
        if not chord.notes:
            rest = ET.SubElement(measure, "note")
            ET.SubElement(rest, "rest")
            _length(rest, duration, voice, kind, dots, triplet=triplet)
            _notations(rest, (), edge)
            continue
        for note in chord.notes:
            if note.flam:
                _grace(measure, note, voice)
        for first, note in ((n == 0, note) for n, note in enumerate(chord.notes)):
            made = ET.SubElement(measure, "note")
            if not first:
                ET.SubElement(made, "chord")
            _place(made, note)
            _text(made, "duration", str(duration))
            ET.SubElement(made, "instrument", id=f"{PART}-{note.drum}")
            _length(made, 0, voice, kind, dots, triplet=triplet)
            _text(made, "stem", "up" if voice == "1" else "down")
            _head(made, note)
            if first:
                for level, words in beam:
                    _text(made, "beam", words, number=str(level))
            _notations(made, (note,), edge if first else "")


def _written(chord: Chord, per_step: int, *, triplet: bool) -> list[tuple[Chord, int, tuple[str, int]]]:
    """Return a chord as note values: its length, or, where no single value has it, the longest that fits and rests."""
    values = _THIRDS if triplet else _STRAIGHT
    duration = chord.steps * per_step
    if triplet and duration == DIVISIONS:
        return [(chord, duration, ("quarter", 0))]
    made: list[tuple[Chord, int, tuple[str, int]]] = []
    now, left = chord, duration
    while left > 0:
        fitting = max((value for value in values if value <= left), default=min(values))
        made.append((now, fitting, values[fitting]))
        left -= fitting
        now = Chord(chord.step, 0)
    return made


def _length(note: ET.Element, duration: int, voice: str, kind: str, dots: int, *, triplet: bool) -> None:
    if duration:
        _text(note, "duration", str(duration))
    _text(note, "voice", voice)
    _text(note, "type", kind)
    for _ in range(dots):
        ET.SubElement(note, "dot")
    if triplet:
        change = ET.SubElement(note, "time-modification")
        _text(change, "actual-notes", "3")
        _text(change, "normal-notes", "2")


def _place(made: ET.Element, note: Note) -> None:
    where = ET.SubElement(made, "unpitched")
    staff = DRUMS[note.drum].staff
    _text(where, "display-step", staff[0])
    _text(where, "display-octave", staff[1])


def _head(made: ET.Element, note: Note) -> None:
    head = HEADS[DRUMS[note.drum].notehead]
    if head != "normal" or note.ghost:
        _text(made, "notehead", head, **({"parentheses": "yes"} if note.ghost else {}))


def _grace(measure: ET.Element, note: Note, voice: str) -> None:
    made = ET.SubElement(measure, "note")
    ET.SubElement(made, "grace", slash="yes")
    _place(made, note)
    ET.SubElement(made, "instrument", id=f"{PART}-{note.drum}")
    _text(made, "voice", voice)
    _text(made, "type", "eighth")
    _text(made, "stem", "up" if voice == "1" else "down")
    _head(made, Note(note.drum))


def _notations(made: ET.Element, notes: Sequence[Note], edge: str) -> None:
    marks = ET.Element("notations")
    if edge:
        ET.SubElement(marks, "tuplet", type=edge, bracket="yes")
    if any(note.drum == "hat_open" for note in notes):
        ET.SubElement(ET.SubElement(marks, "technical"), "open-string")
    if any(note.accent for note in notes):
        ET.SubElement(ET.SubElement(marks, "articulations"), "accent")
    if len(marks):
        made.append(marks)


def _beams(kinds: Sequence[tuple[str, bool]]) -> list[list[tuple[int, str]]]:
    """Return the beams of each note of a beat: a first one over all that have flags, a second over sixteenths; rests part them."""
    made: list[list[tuple[int, str]]] = [[] for _ in kinds]
    flagged = [sounds and kind in ("eighth", "16th") for kind, sounds in kinds]
    for has, run in groupby(range(len(kinds)), key=lambda n: flagged[n]):
        places = list(run)
        if not has or len(places) < 2:
            continue
        _mark(made, places, 1)
        for short, part in groupby(places, key=lambda n: kinds[n][0] == "16th"):
            inside = list(part)
            if short and len(inside) > 1:
                _mark(made, inside, 2)
            elif short:
                made[inside[0]].append((2, "forward hook" if inside[0] == places[0] else "backward hook"))
    return made


def _mark(made: list[list[tuple[int, str]]], places: Sequence[int], level: int) -> None:
    for place in places:
        made[place].append((level, "begin" if place == places[0] else "end" if place == places[-1] else "continue"))
