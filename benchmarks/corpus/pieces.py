"""Pieces of songs: a groove played over and over, never quite the same, cut anywhere; and how it might be heard.

Seeds for fitting begin at `FIRST_PIECE`, those for judging at `JUDGED_PIECE`; no other table uses either.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.tempo.evidence import Evidence, evidence_of
from bompla.model.document import Heard
from bompla.model.drums import DRUMS, METERS
from corpus import RATE
from corpus.book import booked_groove
from corpus.grooves import DrawnGroove, draw_groove
from corpus.render import make_loop

FIRST_PIECE, JUDGED_PIECE = 3_000_000, 3_900_000
MERGE_S = 0.012
SHORTEST_S, LONGEST_S = 12.0, 75.0
BOOKED, SEVENS = 0.5, 0.06
DRIFTS, MOST_DRIFT = 0.6, 0.008


@dataclass(frozen=True, eq=False)
class PieceTruth:
    """What is true of a piece: its beat in the middle, its meter, and where bars begin in it."""

    bpm: float
    meter: str
    bar_lines_s: NDArray[np.float64]


def piece_of(seed: int) -> tuple[Evidence, PieceTruth]:
    """Return the evidence of a piece as the analysis might hear it, and the truth."""
    rng = np.random.default_rng((seed, 11))
    groove = booked_groove(seed) if rng.random() < BOOKED else draw_groove(seed)
    if groove.meter == "4/4" and np.random.default_rng((seed, 16)).random() < SEVENS:
        groove = in_seven(groove)
    wanted_s = float(np.exp(rng.uniform(np.log(SHORTEST_S), np.log(LONGEST_S))))
    turns = int(np.ceil(wanted_s / groove.duration_s)) + 2
    cut_s = float(rng.uniform(0.0, groove.duration_s))
    missed, extra, mistaken, dropped = rng.uniform(0.0, 0.1), rng.uniform(0.0, 0.08), rng.uniform(0.0, 0.12), rng.uniform(0.0, 0.08)
    bar_s = groove.duration_s / groove.bars
    rows: list[tuple[float, str, int]] = []
    for turn in range(turns):
        fill = fill_of(groove, rng) if rng.random() < 0.3 else None
        out = str(rng.choice(sorted({note.drum for note in groove.notes}))) if rng.random() < 0.15 else ""
        for note in groove.notes:
            if note.drum == out or rng.random() < dropped or (fill is not None and note.time_s >= groove.duration_s - fill[0]):
                continue
            rows.append((turn * groove.duration_s + note.time_s + float(rng.normal(0.0, 0.002)), note.drum, note.velocity))
        if fill is not None:
            rows += [((turn + 1) * groove.duration_s - fill[0] + at, drum, velocity) for at, drum, velocity in fill[1]]
        if rng.random() < 0.25:
            rows.append(((turn + 1) * groove.duration_s, "crash", 110))
    warp = warp_of(rng, turns * groove.duration_s)
    start, end = warp(cut_s), warp(cut_s) + wanted_s
    heard: list[tuple[float, dict[str, Heard]]] = []
    for at, drum, velocity in sorted((warp(at), drum, velocity) for at, drum, velocity in rows):
        if not start - 0.005 <= at < end or rng.random() < missed:
            continue
        named = str(rng.choice(list(DRUMS))) if rng.random() < mistaken else drum
        one = Heard(named, float(rng.uniform(0.6, 1.0)), int(np.clip(velocity + rng.normal(0, 10), 5, 127)))
        place = at - start + float(rng.normal(0.0, 0.0008))
        if heard and place - heard[-1][0] < MERGE_S:
            heard[-1][1][named] = one
        else:
            heard.append((place, {named: one}))
    for _ in range(rng.poisson(extra * len(heard))):
        stray = Heard(str(rng.choice(["hat_closed", "snare", "perc"])), 0.6, 30)
        heard.append((float(rng.uniform(0.0, wanted_s)), {stray.drum: stray}))
    heard.sort(key=lambda row: row[0])
    times = np.array([max(0.0, at) for at, _ in heard])
    lines = np.array([warp(n * bar_s) - start for n in range(turns * groove.bars + 1)])
    middle = [line for line in lines if 0.0 <= line <= wanted_s]
    per_bar = METERS[groove.meter].beats_per_bar
    beat_s = (middle[-1] - middle[0]) / (len(middle) - 1) / per_bar if len(middle) > 1 else 60.0 / groove.bpm
    truth = PieceTruth(60.0 / beat_s, groove.meter, lines[(lines >= -0.05) & (lines <= wanted_s)])
    return evidence_of(times, [tuple(drums.values()) for _, drums in heard], wanted_s), truth


def played_song(seed: int, groups: tuple[str, ...], sections: int = 4) -> tuple[NDArray[np.float32], list[tuple[float, float, PieceTruth]]]:
    """Return the sound of a song of several loops, each repeated for 12 to 24 s, with rests between some; and each section's truth."""
    rng = np.random.default_rng((seed, 13))
    parts: list[NDArray[np.float32]] = []
    truth, at = [], 0.0
    for section in range(sections):
        loop = make_loop(10 * seed + section, (groups[int(rng.integers(len(groups)))],), mix_share=0.2)
        length_s = len(loop.samples) / RATE
        turns = max(2, int(np.ceil(rng.uniform(12.0, 24.0) / length_s)))
        rest_s = float(rng.choice([0.0, 0.5, 1.5, 4.0])) if section else float(rng.choice([0.0, 2.0]))
        at += rest_s
        lines = at + np.arange(turns * loop.groove.bars + 1) * length_s / loop.groove.bars
        truth.append((at, at + turns * length_s, PieceTruth(loop.groove.bpm, loop.groove.meter, lines)))
        parts += [np.zeros(round(rest_s * RATE), np.float32), np.tile(loop.samples, turns)]
        at += turns * length_s
    return np.concatenate(parts), truth


def in_seven(groove: DrawnGroove) -> DrawnGroove:
    """Return a groove of four quarters with the last eighth of each bar gone: 7/8."""
    beat_s = 60.0 / groove.bpm
    notes = tuple(replace(note, time_s=note.time_s - int(note.beat // 4) * beat_s / 2, beat=2 * (note.beat - int(note.beat // 4) / 2))
                  for note in groove.notes if note.beat % 4 < 3.49)
    return DrawnGroove(f"{groove.kind} in seven", 2 * groove.bpm, "7/8", groove.bars, tuple(n for n in notes if n.time_s >= 0.0))


def fill_of(groove: DrawnGroove, rng: np.random.Generator) -> tuple[float, list[tuple[float, str, int]]]:
    """Return how long a fill is, before the groove comes round, and its strikes."""
    beat_s = 60.0 / groove.bpm
    beats = int(rng.integers(1, 3))
    steps = int(rng.choice([2, 3, 4]))
    drums = ["snare", "tom_high", "tom_mid", "tom_low", "kick"]
    strikes = [(n * beat_s / steps, str(rng.choice(drums)), int(rng.integers(60, 120))) for n in range(beats * steps) if rng.random() < 0.8]
    return beats * beat_s, strikes


def warp_of(rng: np.random.Generator, duration_s: float):  # type: ignore[no-untyped-def]  # a function of time
    """Return how a player's tempo wanders: a slow curve within a per cent, or none."""
    if rng.random() > DRIFTS:
        return float
    knots = np.linspace(0.0, duration_s + 20.0, max(3, int(duration_s / 8.0) + 2))
    pace = 1.0 + np.clip(np.cumsum(rng.normal(0.0, 0.002, len(knots))), -MOST_DRIFT, MOST_DRIFT)
    fine = np.linspace(0.0, knots[-1], 4_000)
    when = np.concatenate([[0.0], np.cumsum(np.interp(fine[:-1], knots, pace) * np.diff(fine))])
    return lambda at: float(np.interp(at, fine, when))


def played_piece(seed: int, group: str, seconds: float) -> tuple[NDArray[np.float32], PieceTruth]:
    """Return the sound of a loop of one group repeated and cut in mid-bar, and the truth."""
    loop = make_loop(seed, (group,), clean=False, mix_share=0.2)
    groove = loop.groove
    rng = np.random.default_rng((seed, 12))
    frames = len(loop.samples)
    start = int(rng.integers(frames // 10, frames))
    wanted = round(seconds * RATE)
    turns = -(-(start + wanted) // frames)
    sound = np.tile(loop.samples, turns)[start : start + wanted]
    bar = frames / groove.bars
    lines = np.arange(turns * groove.bars + 1) * bar - start
    return sound, PieceTruth(groove.bpm, groove.meter, lines[(lines >= 0) & (lines <= wanted)] / RATE)
