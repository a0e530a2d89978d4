"""Grooves of figures that know nothing of one another, so that whatever learns from them cannot expect one drum where another is.

`grooves.py` draws grooves as drummers play them: feet tread where a ride is answered by a snare, toms are low, crashes are rare. Here any
drum may have any figure, the same in every bar or nearly so; only the first beat, and what answers it, tell of the meter.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from bompla.model.drums import DRUMS, METERS
from corpus.grooves import MARKS, DrawnGroove, Note, swung

OFTEN = {"kick": 0.0, "snare": 0.0, "hat_closed": 4.0, "ride": 3.0, "hat_open": 2.0, "perc": 0.6, "crash": 0.8}
"""How often a drum has a figure, where it is not as often as any; kicks and what answers them are drawn for themselves."""

STOPPED_BY = {"hat_open": ("hat_closed", "hat_pedal"), "hat_closed": ("hat_pedal",)}
"""One hi-hat is not struck in two ways at once."""

APART = 0.35
"""How often one of the drums is never struck together with another."""

Figure = dict[int, str]


def pattern_groove(seed: int) -> DrawnGroove:
    """Return a groove of three to seven drums whose figures are drawn by seed, one by one."""
    rng = np.random.default_rng((seed, 7))
    meter = str(rng.choice(["4/4", "3/4", "6/8", "12/8", "5/4"], p=[0.62, 0.08, 0.1, 0.14, 0.06]))
    compound = METERS[meter].compound
    steps_a_beat = 3 if compound or rng.random() < 0.18 else int(rng.choice([2, 4, 4, 4]))
    bpm = round(float(np.exp(rng.uniform(np.log(46.0 if compound else 60.0), np.log(110.0 if compound else 180.0)))), 3)
    per_bar = METERS[meter].beats_per_bar
    bars = int(rng.choice([b for b in (1, 1, 2, 2, 4, 8) if 1.2 < b * per_bar * 60.0 / bpm < 14.0] or [2]))
    bar = {drum: _half_alike(figure, per_bar * steps_a_beat, rng) if per_bar == 4 else figure
           for drum, figure in _figures(per_bar, steps_a_beat, rng).items()}
    hits = _repeated(bar, bars, per_bar * steps_a_beat, rng)
    if bars > 1 and rng.random() < 0.3:
        _fill(hits, bars * per_bar * steps_a_beat, int(rng.integers(1, 3)) * steps_a_beat, rng)
    if rng.random() < APART:
        one, other = rng.choice(sorted(bar), 2, replace=False)
        hits = {(step, drum): mark for (step, drum), mark in hits.items() if drum != one or (step, str(other)) not in hits}
    stop_hats(hits)
    swing = float(rng.uniform(0.54, 0.66)) if steps_a_beat == 4 and rng.random() < 0.25 else 0.5
    return DrawnGroove("pattern", bpm, meter, bars, played(hits, steps_a_beat, bpm, swing, rng))


def _figures(per_bar: int, steps_a_beat: int, rng: np.random.Generator) -> dict[str, Figure]:
    """Return a bar's figure of each drum: a kick's, what answers it, and some others'."""
    steps = per_bar * steps_a_beat
    answer = str(rng.choice(["snare", "clap", "rim", "tom_high", "perc"], p=[0.66, 0.14, 0.12, 0.05, 0.03]))
    back = {2: [1], 3: [1, 2] if rng.random() < 0.6 else [2], 5: [3]}.get(per_bar, [2] if rng.random() < 0.15 else [1, 3])
    figures = {"kick": _scattered(steps, rng.uniform(0.03, 0.3), rng), answer: {beat * steps_a_beat: "X" for beat in back}}
    if rng.random() < 0.15:
        figures["kick"] = dict.fromkeys(range(0, steps, steps_a_beat), "X")
    if rng.random() < 0.9:
        figures["kick"][0] = "X"
    if rng.random() < 0.35:
        ghosts = _scattered(steps, rng.uniform(0.05, 0.35), rng, marks="oo-")
        figures["snare"] = ghosts | figures.get("snare", {})
    others = [drum for drum in DRUMS if drum not in figures and OFTEN.get(drum, 1.0) > 0.0]
    shares = np.array([OFTEN.get(drum, 1.0) for drum in others])
    count = int(rng.choice([1, 2, 2, 3, 4]))
    for drum in rng.choice(others, count, replace=False, p=shares / shares.sum()):
        figures[str(drum)] = _figure(steps, steps_a_beat, rng)
    return figures


def _figure(steps: int, steps_a_beat: int, rng: np.random.Generator) -> Figure:
    """Return one of the ways in which drums go on: at every so many steps, spread evenly, off the beat, scattered, or once."""
    way = rng.random()
    if way < 0.45:
        every = int(rng.choice([n for n in (1, 2, 2, 3, 4, 4, 8) if n <= steps and (steps_a_beat != 3 or n != 4)]))
        return _accented(range(int(rng.integers(every)) if rng.random() < 0.25 else 0, steps, every), steps_a_beat, rng)
    if way < 0.65:
        many = int(rng.integers(2, max(3, steps // 2)))
        turn = int(rng.integers(steps))
        return _accented(sorted({(turn + index * steps // many) % steps for index in range(many)}), steps_a_beat, rng)
    if way < 0.78:
        return _accented(range(steps_a_beat // 2, steps, steps_a_beat), steps_a_beat, rng)
    if way < 0.92:
        return _scattered(steps, rng.uniform(0.08, 0.5), rng)
    return {int(rng.integers(steps)): "X"}


def _accented(at: range | list[int], steps_a_beat: int, rng: np.random.Generator) -> Figure:
    """Mark all alike, beats before what is between them, or every other."""
    strong, weak = ("X", "x") if rng.random() < 0.5 else (("x", "-") if rng.random() < 0.7 else ("-", "o"))
    way = rng.random()
    if way < 0.4:
        return dict.fromkeys(at, strong)
    if way < 0.75:
        return {step: strong if step % steps_a_beat == 0 else weak for step in at}
    return {step: strong if index % 2 == 0 else weak for index, step in enumerate(at)}


def _scattered(steps: int, share: float, rng: np.random.Generator, marks: str = "Xxx-") -> Figure:
    return {step: str(rng.choice(list(marks))) for step in range(steps) if rng.random() < share}


def _half_alike(figure: Figure, steps: int, rng: np.random.Generator) -> Figure:
    """Return a figure whose second half is at times its first, some steps left out, as often in four beats."""
    if rng.random() < 0.5:
        return figure
    first = {step: mark for step, mark in figure.items() if step < steps // 2}
    return first | {step + steps // 2: mark for step, mark in first.items() if rng.random() > 0.1}


def _repeated(bar: dict[str, Figure], bars: int, steps: int, rng: np.random.Generator) -> dict[tuple[int, str], str]:
    lost = float(rng.choice([0.0, 0.0, 0.04, 0.1]))
    every = {drum: 2 if bars > 1 and rng.random() < 0.08 else 1 for drum in bar}
    return {
        (index * steps + step, drum): mark
        for drum, figure in bar.items() for index in range(0, bars, every[drum]) for step, mark in sorted(figure.items())
        if index == 0 or rng.random() >= lost
    }


def _fill(hits: dict[tuple[int, str], str], end: int, length: int, rng: np.random.Generator) -> None:
    """Have the end filled by drums in any order, over what goes on or instead of it."""
    if rng.random() < 0.6:
        for key in [key for key in hits if key[0] >= end - length]:
            del hits[key]
    drums = rng.choice(["snare", "tom_high", "tom_mid", "tom_low", "kick"], 3)
    for step in range(end - length, end):
        if rng.random() < 0.85:
            hits[step, str(rng.choice(drums))] = str(rng.choice(list("Xx-")))


def stop_hats(hits: dict[tuple[int, str], str]) -> None:
    """Take out hats that are struck in another way at once."""
    for step, drum in list(hits):
        if any((step, other) in hits for other in STOPPED_BY.get(drum, ())):
            del hits[step, drum]


def played(
    hits: Mapping[tuple[int, str], str], steps_a_beat: int, bpm: float, swing: float, rng: np.random.Generator, uneven_drums: float = 0.0
) -> tuple[Note, ...]:
    """Return what is written, by step and drum, as someone plays it: loosely, as hard as they do, some drums harder than others."""
    loose_ms, hard, uneven = float(rng.uniform(0.0, 4.0)), float(rng.normal(0.0, 6.0)), float(rng.uniform(0.0, 7.0))
    lanes_ms = {drum: float(rng.normal(0.0, 2.0)) for drum in DRUMS}
    levels = {drum: float(rng.normal(0.0, uneven_drums)) for drum in DRUMS} if uneven_drums else dict.fromkeys(DRUMS, 0.0)
    notes = []
    for (step, drum), mark in sorted(hits.items()):
        beat = step / steps_a_beat
        late_ms = float(np.clip(rng.normal(0.0, loose_ms), -10.0, 10.0)) + lanes_ms[drum] if step else 0.0
        velocity = int(np.clip(MARKS[mark] + hard + levels[drum] + rng.normal(0.0, uneven), 14, 127))
        notes.append(Note(max(0.0, swung(beat, swing) * 60.0 / bpm + late_ms / 1000.0), beat, drum, velocity))
    return tuple(sorted(notes, key=lambda note: (note.time_s, note.drum)))
