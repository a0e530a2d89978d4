"""Grooves of many styles, written by hand in `book.txt`, played on any kit: to learn from.

What is drawn by rules, as in `grooves.py` and `patterns.py`, knows few ways in which tempo, meter, drums and force go together. Of each
groove some drums are taken by others, accents fall elsewhere, steps go or come, bars end in fills, so that no groove is learned by heart.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np

from bompla.model.drums import METERS
from corpus.grooves import DrawnGroove
from corpus.patterns import played, stop_hats
from corpus.written import Lesson, laid_out

BOOK = Path(__file__).with_name("book.txt")
HANDS = ("hat_closed", "hat_closed", "ride", "hat_open", "shaker", "crash", "hat_pedal", "perc")
ANSWERS = ("snare", "snare", "clap", "rim")
"""What may take each other's place."""

PARTS = ("kick", "snare", "hat_closed")
"""Drums that are never left out."""

SWUNG, STRETCHED = 0.12, 0.06
UNEVEN_DRUMS = 9.0
"""How far, of 127, a drum is struck harder or more softly than another in the middle."""

Marks = dict[tuple[int, str], str]


@cache
def book() -> tuple[Lesson, ...]:
    """Return all grooves of the book."""
    written = "\n".join(line for line in BOOK.read_text(encoding="utf-8").splitlines() if not line.startswith("#"))
    return tuple(_lesson(block.strip().splitlines()) for block in written.split("\n\n") if block.strip())


def _lesson(lines: list[str]) -> Lesson:
    name, _, about = lines[0].partition(": ")
    bpm, meter, steps, *late = about.split()
    slowest, fastest = (int(value) for value in bpm.split("-"))
    lanes = {drum: marks.strip() for drum, _, marks in (line.partition(" ") for line in lines[1:])}
    return Lesson(name, (slowest, fastest), lanes, meter, int(steps), float(late[0]) if late else 0.0)


def booked_groove(seed: int) -> DrawnGroove:
    """Return a groove of the book as someone plays it who knows it by ear."""
    rng = np.random.default_rng((seed, 8))
    lesson = book()[int(rng.integers(len(book())))]
    low, high = lesson.bpm
    bpm = round(float(rng.uniform(low * (1.0 - STRETCHED), high * (1.0 + STRETCHED))), 3)
    lesson = _taken_by_others(lesson, rng)
    marks, bars = laid_out(lesson, bpm, rng)
    steps = METERS[lesson.meter].beats_per_bar * lesson.steps_a_beat
    _accent(marks, lesson.steps_a_beat, rng)
    _wander(marks, bars * steps, rng)
    if bars > 1 and rng.random() < 0.35:
        _fill(marks, bars * steps, max(1, int(rng.choice([0.5, 1, 1, 2]) * lesson.steps_a_beat)), rng)
    if rng.random() < 0.2:
        marks[0, "crash"] = "X"
    stop_hats(marks)
    swing = 0.5 + lesson.late / 2.0
    if lesson.steps_a_beat == 4 and not lesson.late and rng.random() < SWUNG:
        swing = float(rng.uniform(0.53, 0.66))
    return DrawnGroove(f"booked: {lesson.name}", bpm, lesson.meter, bars,
                       played(marks, lesson.steps_a_beat, bpm, swing, rng, uneven_drums=UNEVEN_DRUMS))


def _taken_by_others(lesson: Lesson, rng: np.random.Generator) -> Lesson:
    """Return a groove with one hand's drum, or what answers the kick, taken by another, or a drum left out."""
    lanes = dict(lesson.lanes)
    for group, share in ((HANDS, 0.25), (ANSWERS, 0.2)):
        known = [drum for drum in lanes if drum in group]
        if known and rng.random() < share:
            drum, other = str(rng.choice(known)), str(rng.choice(group))
            if other not in lanes:
                lanes = {other if key == drum else key: marks for key, marks in lanes.items()}
    others = [drum for drum in lanes if drum not in PARTS]
    if others and len(lanes) > 2 and rng.random() < 0.15:
        del lanes[str(rng.choice(others))]
    return replace(lesson, lanes=lanes)


def _accent(marks: Marks, steps_a_beat: int, rng: np.random.Generator) -> None:
    """Have what a hand keeps going be accented in another way: not at all, on beats, between them, or every other time."""
    for drum in HANDS[1:]:
        at = sorted(step for step, key in marks if key == drum)
        if not at or rng.random() < 0.5:
            continue
        strong, weak = (("X", "x"), ("X", "-"), ("x", "-"), ("x", "x"), ("-", "o"), ("X", "X"), ("-", "-"))[int(rng.integers(7))]
        way = int(rng.integers(4))
        for index, step in enumerate(at):
            heavy = (True, step % steps_a_beat == 0, step % steps_a_beat != 0, index % 2 == 0)[way]
            marks[step, drum] = strong if heavy else weak


def _wander(marks: Marks, end: int, rng: np.random.Generator) -> None:
    """Have steps go and come: after the first, and seldom."""
    lost, come, ghosts = rng.choice([0.0, 0.0, 0.03, 0.08]), rng.choice([0.0, 0.0, 0.02]), rng.choice([0.0, 0.0, 0.0, 0.12])
    drums = sorted({drum for _, drum in marks})
    for key in sorted(marks):
        if key[0] and rng.random() < lost:
            del marks[key]
    for step in range(1, end):
        for drum in drums:
            if (step, drum) not in marks and rng.random() < come:
                marks[step, drum] = str(rng.choice(list("x-o")))
        if (step, "snare") not in marks and rng.random() < ghosts:
            marks[step, "snare"] = str(rng.choice(list("oo-")))


def _fill(marks: Marks, end: int, length: int, rng: np.random.Generator) -> None:
    """Have the end filled: by one drum, by toms that fall, or by any."""
    for key in [key for key in marks if key[0] >= end - length and (key[1] != "kick" or rng.random() < 0.5)]:
        del marks[key]
    falling, way = ("snare", "tom_high", "tom_mid", "tom_low"), rng.random()
    for index in range(length):
        if rng.random() < 0.88:
            drum = "snare" if way < 0.35 else falling[index * 4 // length] if way < 0.75 else str(rng.choice([*falling, "kick"]))
            marks[end - length + index, drum] = str(rng.choice(list("Xxx-")))
