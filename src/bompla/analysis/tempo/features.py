"""What speaks for a reading of tempo and bars: how attacks lie on its beats, which drums open and answer bars, what repeats."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.tempo.evidence import TEMPO_CENTRE_BPM, Array, BeatGrid
from bompla.model.drums import METERS, Meter

METER_NAMES = ("4/4", "3/4", "6/8", "12/8", "5/4", "7/8")
BAR_COUNTS = (1, 2, 4, 8, 3, 6)

FEATURE_NAMES = (
    "grid fit", "thirds gain", "beats covered", "bars opened", "low on first", "mid on back", "mid on others", "mid off beat",
    "low off beat", "bar repeats", "one bar", "repeats sooner", "repeats by beat", "tempo", "tempo squared", "hits a beat",
    "hits a beat squared", "odd steps", "high on steps", "compound and thirds", "simple and thirds",
    "compound tempo", "compound middle", "simple middle", "back twice", "trimmed", "lead", "rest",
    "missed before", "missed after", "counted in", "low at start", "early start", "crash on first",
    *(f"meter {name}" for name in METER_NAMES[1:]),
    *(f"bars {count}" for count in BAR_COUNTS), "odd bars", "many bars",
)
"""What `features` returns, in order."""


Index = NDArray[np.intp]


class Places(NamedTuple):
    """Where bars may lie on a grid: in which of its phases and of `METER_NAMES`, from which beat on, and how many; each (readings,)."""

    phase: Index
    meter: Index
    first_beat: Index
    bars: Index


_BACK_BEATS = {"6/8": [1], "3/4": [1, 2], "5/4": [3], "7/8": [2, 4]}


def back_beats(meter: Meter) -> list[int]:
    """Return the beats of a bar that snares usually answer on."""
    return _BACK_BEATS.get(meter.name, [1, 3])


def usual_beat(meter: Meter) -> float:
    """Return how many of a meter's beats make one that is as long as beats usually are."""
    return 2.0 if meter.beat_quarters < 1.0 else 1.0


def features(grid: BeatGrid, places: Places, *, trimmed: bool) -> Array:
    """Return what speaks for and against each reading, shape (readings, features): see `FEATURE_NAMES`."""
    phase, meter, first_beat, bars = places
    compound, none = _COMPOUND[meter], np.zeros(meter.size)
    octaves = np.log2(60.0 / (grid.beat_s * _USUAL_BEAT[meter]) / TEMPO_CENTRE_BPM)
    fit, thirds = (seen[phase] for seen in grid.judged)
    middle, hits = grid.middle_thirds[phase], grid.hits
    opened, low_first, crash_first, on_back, on_mid, on_low = _in_bars(grid)[:, phase, _FIRST_COLUMN[meter] + first_beat % PER_BAR[meter]]
    alike, sooner = _repeats(grid)[:, phase, meter]
    return np.column_stack([
        fit, thirds, grid.covered[phase], opened, low_first, on_back, on_mid - on_back, 1.0 - on_mid, 1.0 - on_low,
        np.where(bars > 1, alike, 0.7), bars == 1, sooner, grid.likeness[phase, 1] if grid.beats > 1 else none + 0.5,
        octaves, octaves**2, none + hits, none + hits**2, grid.odd_steps[phase], grid.high_steps[phase],
        np.where(compound, thirds, 0.0), np.where(compound, 0.0, np.maximum(0.0, thirds)),
        np.where(compound, octaves, 0.0), np.where(compound, middle, 0.0), np.where(compound, 0.0, middle),
        on_back * hits, none + trimmed, *_around(grid, phase, first_beat, bars * PER_BAR[meter], trimmed=trimmed), crash_first,
        _ONE_OF_METERS[meter], bars[:, None] == _BAR_COUNTS, (bars % 2 == 1) & (bars > 3), bars > 8,
    ])


_METERS = [METERS[name] for name in METER_NAMES]
PER_BAR = np.array([meter.beats_per_bar for meter in _METERS])
_COMPOUND = np.array([meter.compound for meter in _METERS])
_USUAL_BEAT = np.array([usual_beat(meter) for meter in _METERS])
_ONE_OF_METERS, _BAR_COUNTS = np.eye(len(_METERS))[:, 1:], np.array(BAR_COUNTS)
_FIRST_COLUMN = np.cumsum(PER_BAR) - PER_BAR
"""All bars side by side: a column for each beat of a bar in each meter. Here is the first of each meter."""



def _tables() -> tuple[Array, Array, Array]:
    """Return which columns are of one meter, on which snares answer a first beat, and after how many beats a pattern repeats too soon.

    The first two have shape (columns, columns that are first). The third, shape (meters, beats), leaves out a whole bar, and two.
    """
    columns = int(PER_BAR.sum())
    same, answers, sooner = np.zeros((columns, columns)), np.zeros((columns, columns)), np.zeros((len(_METERS), 2 * int(PER_BAR.max())))
    for index, (meter, at) in enumerate(zip(_METERS, _FIRST_COLUMN, strict=True)):
        per_bar = meter.beats_per_bar
        beat = np.arange(per_bar)
        same[at : at + per_bar, at : at + per_bar] = 1.0
        for back in back_beats(meter):
            answers[at + (beat + back) % per_bar, at + beat] = 1.0
        sooner[index, 2 : 2 * per_bar] = 1.0
        sooner[index, per_bar] = 0.0
    return same, answers, sooner


_SAME_METER, _ANSWERS, _SOONER = _tables()


@lru_cache(maxsize=512)
def _gathered(beats: int) -> Array:
    """Return which column each of so many beats belongs to, shape (beats, columns)."""
    beat = np.arange(beats)
    return np.concatenate([np.eye(count)[beat % count] for count in PER_BAR], axis=1)


def _in_bars(grid: BeatGrid) -> Array:
    """Return what bars are like that begin on each column, shape (6, phases, columns).

    How many begin with something low, how much of all that is low, or of crashes, falls on their first beats, how much of the snares
    on the beats that answer them, and how much of snares and of what is low on any beat.
    """
    on_beat, totals, columns = grid.on_beat, grid.totals[:, :, None], _gathered(grid.beats)
    _, low, mid, _, splash = (on_beat @ columns).swapaxes(0, 1)
    opened = (on_beat[:, 1] != 0.0) @ columns / np.maximum(1.0, columns.sum(axis=0))
    crash = np.where(totals[:, 4] > 0.2, splash / totals[:, 4], 0.4)
    low, mid = low / totals[:, 1], mid / totals[:, 2]
    return np.stack([opened, low, crash, mid @ _ANSWERS, mid @ _SAME_METER, low @ _SAME_METER])


def _repeats(grid: BeatGrid) -> Array:
    """Return how alike the pattern is to itself a bar later, and at most after other stretches under two bars, (2, phases, meters)."""
    likeness = grid.likeness
    longest = min(grid.beats, _SOONER.shape[1])
    sooner = (likeness[:, None, :longest] * _SOONER[:, :longest]).max(axis=2)
    bar = np.where(grid.beats > PER_BAR, likeness[:, np.minimum(PER_BAR, grid.beats - 1)], 0.7)
    return np.stack([bar, np.where(sooner > 0.0, sooner, 0.5)])


def _around(grid: BeatGrid, phase: Index, first_beat: Index, beats: Index, *, trimmed: bool) -> list[Array]:
    """Return what is struck, and how long nothing is, before and after the bars, and how they begin."""
    e, beat_s, none = grid.evidence, grid.beat_s, np.zeros(len(phase))
    start_s = grid.phases_s[phase] + first_beat * beat_s
    end_s = start_s + beats * beat_s
    rest = np.clip((end_s - e.last_s) / beat_s, 0.0, 4.0)
    if trimmed:
        return [none + min(2.0, max(0.0, e.first_s / beat_s)), rest, none, none, none, none, none]
    return [
        none, rest, e.weights_before(start_s - 0.1 * beat_s) / e.usual_weight,
        (e.total - e.weights_before(end_s - 0.1 * beat_s)) / e.usual_weight,
        grid.counted_in[phase, first_beat], grid.low_on[phase, first_beat], np.clip((e.first_s - start_s) / beat_s, 0.0, 1.0),
    ]
