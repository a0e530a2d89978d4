"""Tempo, meter and bars of pieces cut anywhere: from how the sound repeats, never from how long the file is.

Beats are those that attacks lie on, and others that make whole bars of what recurs. Each is read in several meters from each of its
beats. A reading is scored by how attacks lie on it, by what opens and answers bars, and by how like itself the sound is a beat, a half,
one, two and four bars later against other lags (Foote and Uchihashi, "The beat spectrum", 2001), in one conditional logit (McFadden,
1974), fitted by `training/train_pieces.py`.
"""

from __future__ import annotations

import json
from dataclasses import replace
from functools import lru_cache
from typing import IO

import numpy as np
from msgspec.structs import replace as replace_params
from numpy.typing import NDArray
from scipy.fft import next_fast_len
from scipy.ndimage import gaussian_filter1d

from bompla.analysis.params import AnalysisParams
from bompla.analysis.shipped import shipped
from bompla.analysis.tempo.evidence import Array, BeatGrid, Evidence, bars_alike, struck_by_bar
from bompla.analysis.tempo.features import FEATURE_NAMES, METER_NAMES, PER_BAR, Places, features
from bompla.analysis.tempo.readings import MAX_BEATS, Candidates, Reading, read_tempo
from bompla.analysis.tempo.search import SAME_BEAT, promising, regressed

KEPT_PERIODS, KEPT_PHASES, MULTIPLIED = 14, 4, 5
SHORTEST_PIECE_S, FEWEST = 10.0, 8
"""What is shorter, or has fewer attacks, is taken for a loop."""

FEWEST_BARS = 2.5
"""What has fewer bars repeats too little to tell."""

WHOLE_S, LINE_S = 0.045, 0.06
"""How near a file's length must be to whole bars, and a bar line to its start."""

EDGE_BARS, EARLY_S = 0.25, 0.5
LOOP_BARS, USUAL_LOOP_S = (1, 2, 4, 8, 16), 16.0
BESIDE_S, MOST_BESIDE = 0.03, 0.02
LIKE_AT_ENDS, LIKE_ALL_THROUGH = 0.5, 0.7
"""What a loop that has rests around it is: so many bars, next to nothing struck beside it, its ends like the rest; all of a long one."""

ON_FIRST_S = 0.06
"""How near to the first attack a bar has to begin to begin with it."""

MULTIPLES = (0.5, 2.0 / 3.0, 0.75, 4.0 / 3.0, 1.5, 2.0, 3.0)
STEP_S, SIGMA_S = 0.004, 0.010
LAG_BEATS = (0.5, 1.0, 1.5, 2.0, 3.0, 4.0, 6.0, 8.0)
LAG_BARS = (0.5, 1.0, 2.0, 4.0)
UNUSED = ("trimmed", "lead", "rest", "missed before", "missed after", "counted in", "one bar", "early start", "low at start",
          *(name for name in FEATURE_NAMES if name.startswith("bars ") and name != "bars opened"), "odd bars", "many bars")
USED = [n for n, name in enumerate(FEATURE_NAMES) if name not in UNUSED]
PIECE_FEATURES = (
    *(FEATURE_NAMES[n] for n in USED), *(f"like {beats:g} beats later" for beats in LAG_BEATS),
    *(f"like {bars:g} bars later" for bars in LAG_BARS),
    "bar against beats", "bar against half", "two bars against one", "bar against two thirds", "bar against three halves", "bars long",
)
"""What `piece_features` returns, in order."""

WEIGHTS_FILE = "pieces.json"


class Recurrence:
    """How like itself a sound is so many seconds later, from 0 to 1, by what is struck."""

    def __init__(self, evidence: Evidence) -> None:
        frames = int(evidence.duration_s / STEP_S) + 2
        rows = np.zeros((4, frames))
        at = np.minimum(np.round(evidence.times_s / STEP_S).astype(int), frames - 1)
        for row, strength in enumerate((evidence.low, evidence.mid, evidence.high, 0.35 * evidence.weights)):
            np.maximum.at(rows[row], at, strength)
        soft = gaussian_filter1d(rows, SIGMA_S / STEP_S, axis=1, mode="constant")
        size = next_fast_len(2 * frames, real=True)
        spectrum = np.fft.rfft(soft, size, axis=1)
        self._auto = np.fft.irfft((spectrum.real**2 + spectrum.imag**2).sum(axis=0), size)[:frames]
        energy = np.concatenate([[0.0], np.cumsum((soft**2).sum(axis=0))])
        early, late = energy[frames - np.arange(frames)], energy[-1] - energy[np.arange(frames)]
        self._like = self._auto / np.maximum(np.sqrt(early * late), 1e-9)
        self._frames = frames

    def at(self, lags_s: NDArray[np.floating]) -> Array:
        """Return the likeness at lags, of their shape; 0.5 where the sound is hardly longer than the lag."""
        places = np.asarray(lags_s) / STEP_S
        known = places < 0.9 * self._frames
        found = np.interp(places, np.arange(self._frames), self._like)
        return np.where(known, np.clip(found, 0.0, 1.2), 0.5)


def readings_of(evidence: Evidence, params: AnalysisParams, *, whole: bool) -> list[Reading]:
    """Return the likely readings of a sound, best first, at least one; `whole` says that the evidence is of all of it.

    That a file is whole bars has to be earned: where it is long enough to tell, the tempo that is found without its length must make it
    whole bars. A sound in which drums play from edge to edge may be cut anywhere; what has rests around it begins and ends by itself.
    """
    usual = read_tempo(evidence, params if whole else replace_params(params, trimmed=False))
    best = usual[0]
    if params.trimmed is True or evidence.duration_s < SHORTEST_PIECE_S or evidence.times_s.size < FEWEST:
        return usual
    if whole and not best.trimmed and _has_rests(evidence, best) and _is_one_loop(evidence, best):
        return usual
    found = read_piece(evidence, params)
    if not found or (best.trimmed and _fills(found[0], evidence.duration_s, best) and _ends_alike(evidence, best)):
        return usual
    return found


def _has_rests(evidence: Evidence, reading: Reading) -> bool:
    """Whether little enough is struck at either end for the loop to begin and end by itself."""
    near = EDGE_BARS * reading.beat_s * reading.meter.beats_per_bar
    return evidence.first_s > near or evidence.duration_s - evidence.last_s > near


def _is_one_loop(evidence: Evidence, reading: Reading) -> bool:
    """Whether a region is a loop from its first bar to its last with nothing struck beside it: no talk, no noodling, no part of a song."""
    beside = (evidence.times_s < reading.start_s - BESIDE_S) | (evidence.times_s > reading.end_s - BESIDE_S)
    if reading.bars not in LOOP_BARS or float(evidence.weights[beside].sum()) > MOST_BESIDE * evidence.total:
        return False
    if reading.bars < 3 or reading.end_s - reading.start_s <= USUAL_LOOP_S:
        return _ends_alike(evidence, reading)
    like, busy = _bars_alike(evidence, reading)
    return bool(like.min() > LIKE_ALL_THROUGH and min(busy[0], busy[-1]) > LIKE_ALL_THROUGH)


def _ends_alike(evidence: Evidence, reading: Reading) -> bool:
    """Whether the first and the last bar of a region are bars like the others; of one or two nothing is known."""
    like, _ = _bars_alike(evidence, reading)
    return bool(reading.bars < 3 or min(like[0], like[-1]) > LIKE_AT_ENDS)


def _bars_alike(evidence: Evidence, reading: Reading) -> tuple[Array, Array]:
    lines = np.linspace(reading.start_s, reading.end_s, reading.bars + 1)
    return bars_alike(struck_by_bar(lines, evidence))


def _fills(found: Reading, duration_s: float, whole: Reading) -> bool:
    """Whether a file is whole bars by the tempo that was found without its length, or too short to tell."""
    bar_s = found.beat_s * found.meter.beats_per_bar
    bars = round(duration_s / bar_s)
    if duration_s < FEWEST_BARS * bar_s:
        return True
    on_bars = abs(duration_s - bars * bar_s) < WHOLE_S
    late = found.start_s % bar_s
    on_line = min(late, bar_s - late) < LINE_S
    return on_bars and (on_line or abs(found.beat_s / whole.beat_s - 1.0) < SAME_BEAT / 2)


def read_piece(evidence: Evidence, params: AnalysisParams, *, opens: float = 0.0) -> list[Reading]:
    """Return the likely readings of a piece that may be cut anywhere, best first; none where too little is struck.

    `opens` is how many log odds it is worth that a bar begins with the first attack.
    """
    early = max(0.0, evidence.first_s - EARLY_S)
    if early > EARLY_S:
        moved = replace(evidence, times_s=evidence.times_s - early, duration_s=evidence.duration_s - early)
        return [replace(reading, start_s=reading.start_s + early) for reading in read_piece(moved, params, opens=opens)]
    found = piece_candidates(evidence, params)
    if found is None:
        return []
    scores = found.seen @ load_piece_weights()
    return found.best(_opened(found, scores, opens, evidence.first_s) if opens else scores)


def _opened(found: Candidates, scores: Array, opens: float, first_s: float) -> Array:
    """Return scores in which bars that begin with the first attack are worth more than others of the same beat and meter.

    The best of each beat and meter stays as good as it was: what opens a stretch tells its bars, not its tempo.
    """
    bar_s = found.beat_s * PER_BAR[found.meter]
    off_s = (first_s - found.start_s) % bar_s
    raised = scores + opens * (np.minimum(off_s, bar_s - off_s) < ON_FIRST_S)
    _, same = np.unique(np.stack([found.beat_s, found.meter], axis=1), axis=0, return_inverse=True)
    best, best_raised = np.full((2, int(same.max()) + 1), -np.inf)
    np.maximum.at(best, same, scores)
    np.maximum.at(best_raised, same, raised)
    return np.asarray(raised + (best - best_raised)[same])


def piece_candidates(evidence: Evidence, params: AnalysisParams) -> Candidates | None:
    """Return every reading that is looked at, with what speaks for it as `PIECE_FEATURES`; None where there is none."""
    if evidence.times_s.size < FEWEST:
        return None
    recurrence = Recurrence(evidence)
    made: list[Candidates] = []
    for beat_s, phase in _beats(evidence, params):
        beats = int(np.clip(np.ceil(evidence.duration_s / beat_s) + 1, 1, MAX_BEATS))
        starts = np.unique(np.mod(np.round([phase + k * beat_s / n for n in (4, 3) for k in range(n)], 6), beat_s))
        grid = BeatGrid(evidence, starts, beat_s, beats, wraps=False)
        grid = grid.of(np.argsort(-grid.covered - grid.judged[0], kind="stable")[:KEPT_PHASES])
        places = _placed(grid, params)
        if places.bars.size:
            made.append(Candidates.on(grid, places, piece_features(grid, places, recurrence), anywhere=True))
    return Candidates.joined(made) if made else None


def _beats(evidence: Evidence, params: AnalysisParams) -> list[tuple[float, float]]:
    """Return beat lengths and a place of the beat for each: those that attacks lie on, and others that make bars of the best of them."""
    ranked = promising(evidence, params)
    shortest, longest = 60.0 / params.max_bpm, 60.0 / params.min_bpm
    kept: list[tuple[float, float]] = []
    multiplied = [times * beat_s for beat_s, _ in ranked[:MULTIPLIED] for times in MULTIPLES if shortest <= times * beat_s <= longest]
    more = zip(*(found.tolist() for found in regressed(evidence, np.array(multiplied))), strict=True)
    for beat_s, phase in [*ranked[:KEPT_PERIODS], *more]:
        if shortest * 0.99 <= beat_s <= longest * 1.01 and all(abs(np.log(beat_s / known)) > SAME_BEAT / 4 for known, _ in kept):
            kept.append((beat_s, phase))
    return kept


def _placed(grid: BeatGrid, params: AnalysisParams) -> Places:
    """Return where bars may lie on a grid: in each phase and meter, from each beat of the first bar on."""
    meters = np.array([METER_NAMES.index(name) for name in params.meters], np.intp)
    per_bar = PER_BAR[meters]
    meter, first = np.repeat(meters, per_bar), np.concatenate([np.arange(0), *(np.arange(count) for count in per_bar)])
    phase, column = (index.ravel() for index in np.indices((grid.phases_s.size, meter.size)))
    left = grid.evidence.duration_s - grid.phases_s[phase] - first[column] * grid.beat_s
    bars = np.floor(left / (PER_BAR[meter[column]] * grid.beat_s) + 0.02).astype(np.intp)
    fits = bars >= 1
    return Places(phase[fits], meter[column][fits], first[column][fits], bars[fits])


def piece_features(grid: BeatGrid, places: Places, recurrence: Recurrence) -> Array:
    """Return what speaks for and against each reading, shape (readings, features): see `PIECE_FEATURES`."""
    plain = features(grid, places, trimmed=False)[:, USED]
    per_bar = PER_BAR[places.meter]
    by_beat = recurrence.at(np.array(LAG_BEATS) * grid.beat_s)
    by_bar = recurrence.at(per_bar[:, None] * np.array(LAG_BARS) * grid.beat_s)
    within = recurrence.at(np.arange(1, 13) * grid.beat_s)
    longest = np.stack([within[: count - 1].max() if count > 1 else 0.5 for count in per_bar.tolist()])
    bar_s = per_bar * grid.beat_s
    others = recurrence.at(bar_s[:, None] * np.array([2.0 / 3.0, 1.5]))
    return np.column_stack([
        plain, np.broadcast_to(by_beat, (len(per_bar), by_beat.size)), by_bar, by_bar[:, 1] - longest, by_bar[:, 1] - by_bar[:, 0],
        by_bar[:, 2] - by_bar[:, 1], by_bar[:, 1] - others[:, 0], by_bar[:, 1] - others[:, 1],
        np.log2(np.maximum(0.5, grid.evidence.duration_s / bar_s)),
    ])


@lru_cache(maxsize=1)
def load_piece_weights() -> Array:
    """Return what `PIECE_FEATURES` are worth; raises AnalysisError where the file is missing or does not fit."""
    return shipped("tempo", WEIGHTS_FILE, _read_weights)


def _read_weights(stream: IO[bytes]) -> Array:
    known = json.load(stream)
    return np.array([known[name] for name in PIECE_FEATURES], dtype=float)
