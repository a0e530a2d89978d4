"""Grooves as lessons write them down, played on any kit: only ever to check and to judge with, never to learn from.

`grooves.py` draws what it plays, and whatever learns from it may learn how it draws. These are written by hand, half of them to
choose between ways, the other half to judge.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bompla.model.drums import METERS
from corpus.grooves import MARKS, DrawnGroove, Note

JUDGED_FROM = 500_000
"""Loops of this seed on judge."""


@dataclass(frozen=True)
class Lesson:
    """What is written: for each drum a mark a step, bars apart by spaces; `late` is how much of a step every second one comes late."""

    name: str
    bpm: tuple[int, int]
    lanes: dict[str, str]
    meter: str = "4/4"
    steps_a_beat: int = 4
    late: float = 0.0


CHECKED = (
    Lesson("eighths", (84, 140), {
        "hat_closed": "x.-.x.-.x.-.x.-.",
        "snare": "....X.......X...",
        "kick": "X.......X.x.....",
    }),
    Lesson("sixteenths", (72, 104), {
        "hat_closed": "x---x---x---x---",
        "snare": "....X..o.o..X..o",
        "kick": "X..x......x..x..",
    }),
    Lesson("disco", (108, 128), {
        "hat_closed": "x...x...x...x...",
        "hat_open": "..x...x...x...x.",
        "snare": "....X.......X...",
        "kick": "X...X...X...X...",
    }),
    Lesson("ride and rim", (110, 150), {
        "ride": "x.-.x.-.x.-.x.-.",
        "rim": "X..x..x...x..x..",
        "kick": "X..xX..xX..xX..x",
        "hat_pedal": "....-.......-...",
    }),
    Lesson("slow three", (52, 72), {
        "hat_closed": "x-xx-xx-xx-x",
        "snare": "...X.....X..",
        "kick": "X....xX.....",
    }, "12/8", 3),
    Lesson("waltz", (90, 150), {"ride": "x.x-x.", "snare": "..x.x.", "kick": "X....."}, "3/4", 2),
    Lesson("half time", (130, 150), {
        "hat_closed": "x.x.x.x.xxxxx.x. x.x.x.x.x.x.xxxx",
        "snare": "........X....... ........X......o",
        "kick": "X.....x...x..... X..x......x...x.",
    }),
    Lesson("broken", (160, 176), {
        "ride": "x.x.x.x.x.x.x.x.",
        "snare": "....X..o.o..X..o",
        "kick": "X.x.......x.....",
    }),
    Lesson("shuffle", (84, 132), {
        "hat_closed": "x.-x.-x.-x.-",
        "snare": "...X..o..X.o",
        "kick": "X....xX.....",
    }, "4/4", 3),
    Lesson("linear", (84, 104), {
        "hat_closed": "x.x..x.x..x.x..x",
        "snare": "....X...o.......",
        "kick": "X..x..x..x.x..x.",
    }),
    Lesson("toms", (84, 120), {
        "tom_low": "x.xx..x.x.xx..x.",
        "tom_high": "....x.......x.x.",
        "snare": "....X.......X...",
        "kick": "X...X...X...X...",
    }),
    Lesson("claps", (120, 130), {
        "hat_closed": "--x---x---x---x-",
        "clap": "....X.......X...",
        "kick": "X...X...X...X...",
        "shaker": "-.--.-.--.-.-.--",
    }),
    Lesson("quarters", (100, 176), {
        "crash": "x...x...x...x...",
        "snare": "....X.......X...",
        "kick": "X.x...x.X.x.....",
    }),
    Lesson("six", (56, 84), {
        "ride": "x-xx-x x-xx-x",
        "snare": "...X.. ...X.o",
        "kick": "X....x X.x...",
        "hat_pedal": "...-.. ...-..",
    }, "6/8", 3),
)
JUDGED = (
    Lesson("pop", (92, 132), {
        "hat_closed": "x.x.x.x.x.x.x.x. x.x.x.x.x.x.x...",
        "hat_open": "................ ..............x.",
        "snare": "....X.......X...",
        "kick": "X.....x.X.x..... X.....x.X.x...x.",
    }),
    Lesson("funk", (90, 112), {
        "hat_closed": "x.x.x.x.x.x.x...",
        "hat_open": "..............x.",
        "snare": "....X..o.o.oX..o",
        "kick": "X.x...x...x..x..",
    }),
    Lesson("house", (118, 130), {
        "hat_open": "..x...x...x...x.",
        "clap": "....X.......X...",
        "kick": "X...X...X...X...",
        "ride": "x.x.x.x.x.x.x.x.",
    }),
    Lesson("one drop", (66, 84), {
        "hat_closed": "x.xxx.xxx.xxx.xx",
        "rim": "........X.......",
        "kick": "........X.......",
    }),
    Lesson("slow twelve", (54, 70), {
        "ride": "x-xx-xx-xx-x",
        "snare": "...X.....X..",
        "kick": "X....x..x...",
    }, "12/8", 3),
    Lesson("three", (84, 140), {"hat_closed": "x.x.x.", "snare": "..X.X.", "kick": "X....x"}, "3/4", 2),
    Lesson("boom and tap", (82, 98), {
        "hat_closed": "x.x.x.x.x.x.x.x.",
        "snare": "....X.......X..o",
        "kick": "X.x.......xx....",
    }, late=0.3),
    Lesson("two step", (165, 178), {
        "hat_closed": "x.x.x.x.x.x.x.x.",
        "snare": "....X.......X...",
        "kick": "X.........X.....",
    }),
    Lesson("swung ride", (100, 160), {
        "ride": "x..x.xx..x.x",
        "hat_pedal": "...x.....x..",
        "snare": ".....o...o..",
        "kick": "o..o..o..o..",
    }, "4/4", 3),
    Lesson("street", (88, 108), {
        "snare": "x.ox.ox.oxx.x.oo",
        "kick": "X..x...xX..x....",
        "hat_pedal": "....x.......x...",
    }),
    Lesson("train", (100, 132), {
        "snare": "oooXoooXoooXooox",
        "kick": "X...x...X...x...",
        "hat_pedal": "..-...-...-...-.",
    }),
    Lesson("deep toms", (76, 110), {
        "tom_low": "X..x..x.X..x..x.",
        "tom_mid": "............x...",
        "kick": "X.......X.......",
        "snare": "....X.......X...",
    }),
    Lesson("shaken", (86, 112), {
        "shaker": "x-x-x-x-x-x-x-x-",
        "rim": "....X.......X...",
        "kick": "X......xX.......",
    }),
    Lesson("driving", (150, 180), {
        "hat_open": "x.x.x.x.x.x.x.x.",
        "snare": "....X.......X...",
        "kick": "X.x...x.X.x...x.",
        "crash": "X............... ................",
    }),
    Lesson("five", (90, 140), {"ride": "x.x.x.x.x.", "snare": "......X...", "kick": "X..x....x."}, "5/4", 2),
    Lesson("held back", (70, 80), {
        "hat_closed": "x.xxx.x.x.xxxxxx",
        "clap": "....X.......X...",
        "snare": "....X.......X..o",
        "kick": "X......x..x.....",
    }),
)


def written_groove(seed: int) -> DrawnGroove:
    """Return a lesson as someone plays it: its tempo, how often it goes round, how loosely, and a fill or none, by seed."""
    rng = np.random.default_rng((seed, 6))
    lessons = JUDGED if seed >= JUDGED_FROM else CHECKED
    lesson = lessons[int(rng.integers(len(lessons)))]
    bpm = round(float(rng.uniform(*lesson.bpm)), 3)
    marks, bars = laid_out(lesson, bpm, rng)
    if bars > 1 and rng.random() < 0.4:
        _fill(marks, bars * METERS[lesson.meter].beats_per_bar * lesson.steps_a_beat, lesson.steps_a_beat, rng)
    return DrawnGroove(f"written: {lesson.name}", bpm, lesson.meter, bars, _played(marks, lesson, bpm, rng))


def laid_out(lesson: Lesson, bpm: float, rng: np.random.Generator) -> tuple[dict[tuple[int, str], str], int]:
    """Return a mark for each step and drum of a lesson that goes round as often as fits, and how many bars these are."""
    per_bar = METERS[lesson.meter].beats_per_bar
    written = {drum: marks.split() for drum, marks in lesson.lanes.items()}
    longest = max(len(bars) for bars in written.values())
    fits = [bars for bars in (1, 2, 4, 8) if bars >= longest and 1.2 < bars * per_bar * 60.0 / bpm < 14.0]
    bars = int(rng.choice(fits or [longest]))
    steps = per_bar * lesson.steps_a_beat
    marks = {
        (bar * steps + step, drum): mark
        for drum, of in written.items() for bar in range(bars) for step, mark in enumerate(of[bar % len(of)]) if mark != "."
    }
    return marks, bars


def _fill(marks: dict[tuple[int, str], str], end: int, length: int, rng: np.random.Generator) -> None:
    """Have the last beat filled by snares or falling toms."""
    for key in [key for key in marks if key[0] >= end - length]:
        del marks[key]
    drums = ("snare", "snare", "snare") if rng.random() < 0.5 else ("tom_high", "tom_mid", "tom_low")
    for step in range(length):
        marks[end - length + step, drums[step * 3 // length]] = "x"


def _played(marks: dict[tuple[int, str], str], lesson: Lesson, bpm: float, rng: np.random.Generator) -> tuple[Note, ...]:
    step_s = 60.0 / bpm / lesson.steps_a_beat
    loose_ms = float(rng.uniform(0.0, 4.0))
    notes = []
    for (step, drum), mark in sorted(marks.items()):
        late_ms = rng.normal(0.0, loose_ms) if step else 0.0
        time_s = (step + (lesson.late if step % 2 else 0.0)) * step_s + np.clip(late_ms, -10.0, 10.0) / 1000.0
        notes.append(Note(float(time_s), step / lesson.steps_a_beat, drum, int(np.clip(MARKS[mark] + rng.normal(0.0, 5.0), 14, 127))))
    return tuple(sorted(notes, key=lambda note: (note.time_s, note.drum)))
