"""Grooves drawn at random, as made-up drummers would play them; the same for the same seed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bompla.model.drums import DRUMS, METERS

MARKS = {"X": 118, "x": 98, "-": 68, "o": 36}
KINDS = (
    "funk", "funk", "funk", "straight", "straight", "shuffle", "swing", "half time", "fast break", "fast break", "four on the floor",
    "rim and shaker", "three four", "six eight", "twelve eight", "five four", "rolls", "build-up", "sparse", "toms",
)


@dataclass(frozen=True)
class Note:
    """A hit as played: its onset in seconds from the first downbeat, its beat as written."""

    time_s: float
    beat: float
    drum: str
    velocity: int


@dataclass(frozen=True)
class DrawnGroove:
    """A groove, its truth, and what was played."""

    kind: str
    bpm: float
    meter: str
    bars: int
    notes: tuple[Note, ...]

    @property
    def beats(self) -> int:
        """The number of beats."""
        return self.bars * METERS[self.meter].beats_per_bar

    @property
    def duration_s(self) -> float:
        """The length of the bars."""
        return self.beats * 60.0 / self.bpm


class _Sheet:
    """What is written: hits by beat and drum, then played with a human's timing and force."""

    def __init__(self, rng: np.random.Generator, bars: int, meter: str, steps: int) -> None:
        self.rng, self.bars, self.meter, self.steps = rng, bars, meter, steps
        self.per_bar = METERS[meter].beats_per_bar
        self.beats = bars * self.per_bar
        self.hits: dict[tuple[float, str], float] = {}

    def put(self, drum: str, beat: float, mark: str) -> None:
        if 0.0 <= beat < self.beats - 1e-6:
            key = (round(beat, 6), drum)
            self.hits[key] = max(self.hits.get(key, 0.0), MARKS[mark])

    def chance(self, share: float) -> bool:
        return bool(self.rng.random() < share)

    def pick(self, *choices: str) -> str:
        return str(self.rng.choice(choices))

    def range(self) -> list[float]:
        return [step / self.steps for step in range(self.beats * self.steps)]


def draw_groove(seed: int) -> DrawnGroove:
    """Return a groove of a random kind, meter, tempo, density and looseness."""
    rng = np.random.default_rng(seed)
    kind = str(rng.choice(KINDS))
    meter = {"three four": "3/4", "six eight": "6/8", "twelve eight": "12/8", "five four": "5/4"}.get(kind, "4/4")
    bpm = _tempo(kind, rng)
    thirds = METERS[meter].compound or kind == "shuffle" or (kind == "toms" and rng.random() < 0.3)
    seconds_a_bar = METERS[meter].beats_per_bar * 60.0 / bpm
    bars = int(rng.choice([b for b in (1, 2, 2, 4, 4, 8) if 1.2 < b * seconds_a_bar < 14.0] or [2]))
    sheet = _Sheet(rng, bars, meter, 3 if thirds else 4)
    _write(sheet, kind)
    return DrawnGroove(kind, bpm, meter, bars, _played(sheet, kind, bpm))


def chance_groove(seed: int) -> DrawnGroove:
    """Return what nobody would play: some drums, each struck by chance at any sixteenth, so that no groove can be expected."""
    drawn = draw_groove(seed)
    rng = np.random.default_rng((seed, 1))
    usual = np.array([2.0 if drum in ("kick", "snare", "hat_closed") else 1.0 for drum in DRUMS])
    drums = [str(drum) for drum in rng.choice(list(DRUMS), int(rng.integers(3, 8)), replace=False, p=usual / usual.sum())]
    shares = rng.uniform(0.06, 0.3, len(drums))
    loose = float(rng.uniform(0.5, 4.0))
    step_s = 15.0 / drawn.bpm
    notes = []
    for step in range(4 * drawn.beats):
        drift = float(np.clip(rng.normal(0.0, loose), -10.0, 10.0))
        for drum, share in zip(drums, shares, strict=True):
            if rng.random() < share:
                late_ms = drift + float(np.clip(rng.normal(0.0, loose / 3.0), -4.0, 4.0))
                velocity = int(np.clip(rng.choice(list(MARKS.values())) + rng.normal(0.0, 6.0), 14, 127))
                notes.append(Note(max(0.0, step * step_s + late_ms / 1000.0), step / 4.0, drum, velocity))
    if not any(note.beat == 0.0 for note in notes):
        notes.append(Note(0.0, 0.0, drums[0], 110))
    notes.sort(key=lambda note: (note.time_s, note.drum))
    return DrawnGroove("chance", drawn.bpm, drawn.meter, drawn.bars, tuple(n for n in notes if n.time_s < drawn.duration_s - 0.01))


def _tempo(kind: str, rng: np.random.Generator) -> float:
    ranges = {"fast break": (150.0, 180.0), "half time": (125.0, 172.0), "six eight": (50.0, 88.0), "twelve eight": (50.0, 80.0),
              "shuffle": (70.0, 135.0), "swing": (80.0, 135.0), "funk": (84.0, 122.0), "four on the floor": (104.0, 138.0)}
    return round(float(rng.uniform(*ranges.get(kind, (62.0, 150.0)))), 3)


def _write(sheet: _Sheet, kind: str) -> None:
    density = sheet.rng.uniform(0.4, 1.0) if kind != "sparse" else sheet.rng.uniform(0.05, 0.35)
    one_bar = _Sheet(sheet.rng, 1, sheet.meter, sheet.steps)
    _kicks(one_bar, kind, density)
    _answers(one_bar, kind, density)
    _pulse(one_bar, kind, density)
    for bar in range(sheet.bars):
        for (beat, drum), velocity in one_bar.hits.items():
            if not sheet.chance(0.06 if bar else 0.0):
                sheet.hits[(round(beat + bar * sheet.per_bar, 6), drum)] = velocity
    _vary(sheet, kind, density)
    _fill(sheet, kind)
    if not any(beat == 0.0 for beat, _ in sheet.hits) or sheet.chance(0.9):
        sheet.put("kick", 0.0, "X")


def _kicks(sheet: _Sheet, kind: str, density: float) -> None:
    for beat in range(sheet.beats):
        if kind == "four on the floor" or beat == 0:
            sheet.put("kick", beat, "X")
    busy = {"funk": 0.26, "fast break": 0.22, "sparse": 0.1, "four on the floor": 0.05}.get(kind, 0.16)
    for at in sheet.range():
        if sheet.chance(busy * density * (0.6 if at % 1 == 0 else 1.0)):
            sheet.put("kick", at, sheet.pick("X", "x", "x", "-"))


def _answers(sheet: _Sheet, kind: str, density: float) -> None:
    drum = "rim" if kind == "rim and shaker" else sheet.pick("snare", "snare", "snare", "snare", "rim", "clap")
    back = [2] if kind == "half time" else {"6/8": [1], "3/4": [1, 2], "5/4": [3]}.get(sheet.meter, [1, 3])
    for beat in back:
        if not sheet.chance(0.05 if kind != "sparse" else 0.3):
            sheet.put(drum, beat, "X")
            if sheet.chance(0.08):
                sheet.put("clap", beat, "x")
    ghosts = {"funk": 0.3, "fast break": 0.28, "shuffle": 0.2, "swing": 0.15, "six eight": 0.15, "twelve eight": 0.15}.get(kind, 0.05)
    for at in sheet.range():
        if at % sheet.per_bar not in back and sheet.chance(ghosts * density):
            sheet.put("snare" if drum != "rim" else sheet.pick("rim", "snare"), at, sheet.pick("o", "o", "o", "-"))


def _pulse(sheet: _Sheet, kind: str, density: float) -> None:
    rare = "crash" if kind == "straight" else "ride"
    usual = ("hat_closed", "hat_closed", "hat_closed", "hat_closed", "ride", "shaker", "hat_pedal", "hat_open", rare)
    drum = "shaker" if kind == "rim and shaker" else sheet.pick(*usual)
    if kind == "toms":
        drum = sheet.pick("tom_low", "hat_closed", "ride")
    every = int(sheet.rng.choice([1, 2, 2, 2, 4])) if sheet.steps == 4 else int(sheet.rng.choice([1, 1, 3]))
    every = max(every, sheet.steps) if drum == "hat_pedal" else every  # a foot keeps beats, no more
    opened, gaps = sheet.rng.uniform(0.0, 0.25), (1.0 - density) * 0.6
    shuffle = kind == "shuffle" and every == 1
    for index, at in enumerate(sheet.range()):
        if index % every or (shuffle and index % 3 == 1 and not sheet.chance(0.15)) or sheet.chance(gaps):
            continue
        accent = "X" if at % 1 == 0 else sheet.pick("x", "-", "-")
        if drum == "hat_closed" and sheet.chance(opened * 0.5):
            sheet.put("hat_open", at, accent)
        else:
            sheet.put(drum, at, accent)
    if drum in ("ride", "shaker") and sheet.chance(0.5):
        for beat in range(1, sheet.beats, 2):
            sheet.put("hat_pedal", beat, sheet.pick("x", "-"))


def _vary(sheet: _Sheet, kind: str, density: float) -> None:
    if sheet.chance(0.35):
        sheet.put("crash", 0.0, "X")
    if sheet.chance(0.2):
        sheet.put("crash", float(sheet.rng.integers(0, sheet.beats)), "x")
    for drum in ("perc", "shaker", "ride", "clap", "tom_low", "tom_mid", "tom_high", "rim", "hat_pedal"):
        if sheet.chance(0.07):
            for at in sheet.range():
                if sheet.chance(0.1 * density):
                    sheet.put(drum, at, sheet.pick("X", "x", "-"))
    if kind == "rolls":
        for _ in range(int(sheet.rng.integers(1, 4))):
            _roll(sheet, sheet.pick("snare", "hat_closed", "hat_closed", "tom_high", "kick"))
    elif sheet.chance(0.12):
        _roll(sheet, "hat_closed")


def _roll(sheet: _Sheet, drum: str) -> None:
    """A run of 32nds or sixteenth triplets."""
    start = float(sheet.rng.integers(0, max(1, sheet.beats)))
    rate = int(sheet.rng.choice([6, 8]))
    for index in range(int(sheet.rng.integers(4, 2 * rate + 1))):
        sheet.put(drum, start + index / rate, sheet.pick("x", "-", "-"))


def _fill(sheet: _Sheet, kind: str) -> None:
    if kind == "build-up":
        for bar in range(sheet.bars):
            rate = min(8, 2 ** (1 + bar))
            for index in range(sheet.per_bar * rate):
                if sheet.chance(0.9):
                    sheet.put("snare", bar * sheet.per_bar + index / rate, "x" if index % rate == 0 else "-")
    elif sheet.chance(0.35 if kind != "sparse" else 0.1):
        length = float(sheet.rng.choice([0.5, 1.0, 2.0]))
        start = sheet.beats - length
        for key in [k for k in sheet.hits if k[0] >= start and k[1] != "kick" and sheet.chance(0.7)]:
            del sheet.hits[key]
        for index in range(round(length * sheet.steps)):
            if sheet.chance(0.85):
                drum = sheet.pick("snare", "snare", "tom_high", "tom_mid", "tom_low")
                sheet.put(drum, start + index / sheet.steps, sheet.pick("X", "x", "-"))


def _played(sheet: _Sheet, kind: str, bpm: float) -> tuple[Note, ...]:
    """Return the sheet played: swung, loose by step and by limb, with flams, and starting on the first downbeat."""
    rng = sheet.rng
    swing = float(rng.uniform(0.54, 0.67)) if kind == "swing" or (kind == "funk" and rng.random() < 0.3) else 0.5
    loose = float(rng.uniform(0.5, 5.0))
    lanes = {drum: float(rng.normal(0.0, 3.0)) for drum in sorted({d for _, d in sheet.hits})}
    flams = rng.uniform(0.05, 0.3) if rng.random() < 0.25 else 0.0
    beat_s = 60.0 / bpm
    notes = []
    for beat in sorted({b for b, _ in sheet.hits}):
        drift = float(np.clip(rng.normal(0.0, loose), -10.0, 10.0))
        for drum in sorted(d for b, d in sheet.hits if b == beat):
            velocity = int(np.clip(sheet.hits[(beat, drum)] + rng.normal(0.0, 6.0), 14, 127))
            limb = float(np.clip(rng.normal(0.0, loose / 3.0), -4.0, 4.0))
            time = swung(beat, swing) * beat_s + (0.0 if beat == 0.0 else lanes[drum] + drift + limb) / 1000.0
            if drum in ("snare", "tom_high", "tom_mid", "tom_low") and velocity > 80 and rng.random() < flams and beat > 0.0:
                early = float(rng.uniform(0.020, 0.040))
                notes.append(Note(max(0.0, time - early), beat, drum, int(np.clip(velocity * rng.uniform(0.3, 0.6), 14, 127))))
            notes.append(Note(max(0.0, time), beat, drum, velocity))
    notes.sort(key=lambda note: (note.time_s, note.drum))
    return tuple(note for note in notes if note.time_s < sheet.beats * beat_s - 0.01)


def swung(beat: float, swing: float) -> float:
    """Return where a beat falls when the second of two sixteenths comes late."""
    if swing == 0.5:
        return beat
    half, within = divmod(beat * 2.0, 1.0)
    moved = within * 2.0 * swing if within <= 0.5 else swing + (within - 0.5) * 2.0 * (1.0 - swing)
    return (half + moved) / 2.0
