"""Grooves drawn at random, as made-up drummers would play them; the same for the same seed."""

from __future__ import annotations

import numpy as np

from bompla.demo.patterns import Groove
from bompla.model.drums import METERS


def draw_groove(seed: int) -> Groove:
    """Return a groove with random meter, tempo, drums, density and looseness."""
    rng = np.random.default_rng(seed)
    meter = str(rng.choice(["4/4", "4/4", "4/4", "4/4", "3/4", "6/8", "5/4"]))
    beats_per_bar = METERS[meter].beats_per_bar
    steps_per_beat = 3 if METERS[meter].compound or rng.random() < 0.2 else 4
    bars = int(rng.choice([1, 2, 2, 4]))
    bpm = float(rng.uniform(60.0, 100.0) if METERS[meter].compound else rng.uniform(72.0, 172.0))
    lanes = _Lanes(rng, bars * beats_per_bar, steps_per_beat, beats_per_bar)
    _kicks(lanes)
    _answers(lanes)
    _pulse(lanes)
    _extras(lanes)
    return Groove(
        f"drawn {seed}",
        round(bpm, 2),
        bars,
        {drum: "".join(marks) for drum, marks in lanes.marks.items()},
        meter=meter,
        steps_per_beat=steps_per_beat,
        swing=float(rng.uniform(0.5, 0.62)) if steps_per_beat == 4 else 0.5,
        late_ms={"snare": float(rng.uniform(-4.0, 8.0))},
        loose_ms=float(rng.uniform(1.0, 6.0)),
        seed=seed,
    )


class _Lanes:
    def __init__(self, rng: np.random.Generator, beats: int, steps_per_beat: int, beats_per_bar: int) -> None:
        self.rng, self.beats, self.steps, self.per_bar = rng, beats, steps_per_beat, beats_per_bar
        self.marks: dict[str, list[str]] = {}

    def put(self, drum: str, step: int, mark: str) -> None:
        lane = self.marks.setdefault(drum, ["."] * (self.beats * self.steps))
        if 0 <= step < len(lane):
            lane[step] = mark

    def chance(self, share: float) -> bool:
        return bool(self.rng.random() < share)

    def mark(self) -> str:
        return str(self.rng.choice(["X", "x", "x", "-", "o"]))


def _kicks(lanes: _Lanes) -> None:
    busy = lanes.rng.uniform(0.05, 0.3)
    four = lanes.chance(0.25)
    for beat in range(lanes.beats):
        if beat % lanes.per_bar == 0 or four:
            lanes.put("kick", beat * lanes.steps, "X")
        for step in range(lanes.steps):
            if lanes.chance(busy * (0.5 if step == 0 else 1.0)):
                lanes.put("kick", beat * lanes.steps + step, lanes.mark())


def _answers(lanes: _Lanes) -> None:
    drum = str(lanes.rng.choice(["snare", "snare", "snare", "rim", "clap"]))
    ghosts = lanes.rng.uniform(0.0, 0.25)
    for beat in range(lanes.beats):
        if beat % lanes.per_bar % 2 == 1:
            lanes.put(drum, beat * lanes.steps, "X")
            if lanes.chance(0.06):
                lanes.put("clap", beat * lanes.steps, "x")
        for step in range(1, lanes.steps):
            if lanes.chance(ghosts):
                lanes.put("snare" if lanes.chance(0.85) else drum, beat * lanes.steps + step, lanes.mark())


def _pulse(lanes: _Lanes) -> None:
    drum = str(lanes.rng.choice(["hat_closed", "hat_closed", "hat_closed", "ride", "shaker", "hat_pedal", "hat_open"]))
    every = int(lanes.rng.choice([1, 2, 2, 4])) if lanes.steps == 4 else int(lanes.rng.choice([1, 3]))
    opened, gaps = lanes.rng.uniform(0.0, 0.25), lanes.rng.uniform(0.0, 0.3)
    for step in range(0, lanes.beats * lanes.steps, every):
        if lanes.chance(gaps):
            continue
        if drum == "hat_closed" and lanes.chance(opened):
            lanes.put("hat_open", step, lanes.mark())
        else:
            lanes.put(drum, step, lanes.mark())
    if drum == "ride" and lanes.chance(0.6):
        for beat in range(1, lanes.beats, 2):
            lanes.put("hat_pedal", beat * lanes.steps, "x")


def _extras(lanes: _Lanes) -> None:
    end = lanes.beats * lanes.steps
    if lanes.chance(0.35):
        lanes.put("crash", 0, "X")
        if lanes.chance(0.3):
            lanes.put("crash", end // 2, "x")
    if lanes.chance(0.4):
        for step in range(end - int(lanes.rng.integers(2, 2 * lanes.steps + 1)), end):
            if lanes.chance(0.7):
                lanes.put(str(lanes.rng.choice(["tom_low", "tom_mid", "tom_high", "snare"])), step, lanes.mark())
    for drum in ("perc", "rim", "shaker", "ride", "clap"):
        if lanes.chance(0.1):
            for step in range(end):
                if lanes.chance(0.12):
                    lanes.put(drum, step, lanes.mark())
