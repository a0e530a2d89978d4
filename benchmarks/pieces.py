"""How well pieces that are cut anywhere are read: `python benchmarks/pieces.py [--loops N] [--groups a,b] [--library]`.

Loops drawn for judging are repeated and cut in mid-bar, so long as the columns say. The tempo within 0.5 %, the same with half and double
counted, whether the meter is right, and whether the loop that is taken begins and ends on bar lines, to 15 ms. With `--library` a
general music-analysis library reads them too: the line through its beats. `--songs N` makes songs of four such loops, with rests between
some, and judges their stretches and all loops that are proposed in them. `--takes` judges takes instead: fills, drop-outs, a tempo that
wanders, bass and chords, and talk, noodling, noise or a count-in around.
"""

from __future__ import annotations

import argparse
import os
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(name, "1")

import numpy as np

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from corpus import RATE
from corpus.pieces import JUDGED_PIECE, PieceTruth, played_piece, played_song
from corpus.takes import TakeTruth, played_take

LENGTHS_S = (13.0, 20.0, 33.0, 45.0)
NEAR_S = 0.015


def judge(task: tuple[int, str, float, bool, bool]) -> tuple[float, str, list[float]]:
    seed, group, seconds, library, takes = task
    sound, truth = (played_take if takes else played_piece)(seed, group, seconds)
    found = analyse(Clip(sound, RATE))
    bpm = 60.0 * found.loop.length_beats / (found.loop.frames / RATE)
    start, end = (np.abs(truth.bar_lines_s - at / RATE).min() for at in (found.loop.start_sample, found.loop.end_sample))
    if isinstance(truth, TakeTruth):  # the loop's own bars are the truth where the tempo wanders
        lines = truth.bar_lines_s
        inside = lines[(lines >= found.loop.start_sample / RATE - 0.1) & (lines <= found.loop.end_sample / RATE + 0.1)]
        if len(inside) > 1:
            truth = replace(truth, bpm=truth.bpm * (lines[-1] - lines[0]) / (len(lines) - 1) * (len(inside) - 1) / (inside[-1] - inside[0]))
    row = [*in_time(bpm, truth.bpm), found.loop.meter_name == truth.meter, start < NEAR_S and end < NEAR_S, found.tempo_confidence]
    if library:
        row += in_time(by_library(sound), truth.bpm)
    return seconds, group, [float(value) for value in row]


def in_time(bpm: float, true_bpm: float) -> list[bool]:
    return [abs(bpm / true_bpm - 1) < 0.005, any(abs(bpm * k / true_bpm - 1) < 0.005 for k in (0.5, 1.0, 2.0))]


def by_library(sound: np.ndarray) -> float:
    import librosa

    _, beats = librosa.beat.beat_track(y=sound, sr=RATE, units="time")
    return 60.0 / np.polyfit(np.arange(len(beats)), beats, 1)[0] if len(beats) > 3 else 1.0


def judge_song(task: tuple[int, tuple[str, ...]]) -> tuple[int, int, list[list[float]], list[list[float]]]:
    """Return how many sections a song has and how many were found; of each that was, and of each proposal, what is right."""
    sound, truth = played_song(*task)
    found = analyse(Clip(sound, RATE))
    stretches, proposals = [], []
    for one in found.stretches:
        own = section_at(truth, (one.start_sample + one.end_sample) / 2 / RATE)
        stretches.append([float(value) for value in in_time(one.bpm, own.bpm)] if own else [0.0, 0.0])
    for one in found.passages:
        own = section_at(truth, (one.loop.start_sample + one.loop.end_sample) / 2 / RATE)
        off = [np.abs(own.bar_lines_s - at / RATE).min() for at in (one.loop.start_sample, one.loop.end_sample)] if own else [9.0]
        bpm = 60.0 * one.loop.length_beats / (one.loop.frames / RATE)
        proposals.append([float(max(off) < NEAR_S), float(bool(own) and in_time(bpm, own.bpm)[0])])
    return len(truth), len(found.stretches), stretches, proposals


def section_at(truth: list[tuple[float, float, PieceTruth]], at_s: float) -> PieceTruth | None:
    return next((own for start, end, own in truth if start <= at_s < end), None)


def songs(first: int, count: int, groups: tuple[str, ...]) -> None:
    with ProcessPoolExecutor() as pool:
        rows = list(pool.map(judge_song, [(first + n, groups) for n in range(count)]))
    right = sum(there == found for there, found, _, _ in rows)
    stretches, proposals = (np.array([row for one in rows for row in one[k]]) for k in (2, 3))
    print(f"{count} songs of four sections: as many stretches in {right}, tempo {stretches[:, 0].mean():.0%}, or half or double "
          f"{stretches[:, 1].mean():.0%}; of {len(proposals)} proposals on bar lines of their own section {proposals[:, 0].mean():.0%}, "
          f"at its tempo {proposals[:, 1].mean():.0%}; the first of each {np.mean([one[3][0][0] for one in rows if one[3]]):.0%}")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--loops", type=int, default=8)
    parser.add_argument("--groups", default="synth,tim,freepats,recorded,machine,plain")
    parser.add_argument("--library", action="store_true")
    parser.add_argument("--first", type=int, default=JUDGED_PIECE)
    parser.add_argument("--takes", action="store_true")
    parser.add_argument("--songs", type=int, default=0, help="songs of several tempos instead")
    chosen = parser.parse_args()
    if chosen.songs:
        songs(chosen.first // 10, chosen.songs, tuple(chosen.groups.split(",")))
        return
    groups = chosen.groups.split(",")
    tasks = [(chosen.first + 1000 * g + n, group, seconds, chosen.library, chosen.takes)
             for g, group in enumerate(groups) for n in range(chosen.loops) for seconds in LENGTHS_S]
    with ProcessPoolExecutor() as pool:
        rows = list(pool.map(judge, tasks))
    print(f"{'length':>8}{'pieces':>8}{'tempo':>8}{'or half, double':>17}{'meter':>8}{'loop on bar lines':>19}{'library':>9}{'or half':>9}")
    for what in (*LENGTHS_S, *groups):
        some = np.array([row for seconds, group, row in rows if what in (seconds, group)])
        said = "".join(f"{value:>{width}.0%}" for value, width in zip(some.mean(axis=0)[[0, 1, 2, 3, *range(5, some.shape[1])]],
                                                                     (8, 17, 8, 19, 9, 9), strict=False))
        print(f"{what!s:>8}{len(some):>8}{said}")


if __name__ == "__main__":
    main()
