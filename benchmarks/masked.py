"""How many hits can be heard at all, and how many of those are: `python benchmarks/masked.py [--help]`.

Some of the hits of each loop drawn for judging are taken out of it, one at a time, and the loop is made again: what is gone
is what the hit brought. A hit stands as far above all else as it does in the best of twelve bands within 40 ms. What
stands below 0 dB everywhere is under the rest of the sound.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.signal import stft

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from bompla.groove.rebuild import document_from
from bompla.model.detected_pattern import played
from corpus import RATE
from corpus.render import LabelledLoop, make_loop
from hearing import FAMILIES, GHOST, GROUPS, JUDGE_SEED, SAME_ATTACK_S, SEEDS_A_GROUP

EDGES_HZ = (0.0, 120.0, 250.0, 500.0, 1_000.0, 2_000.0, 3_000.0, 4_500.0, 6_500.0, 9_000.0, 12_000.0, 16_000.0, 22_050.0)
HIT_S, NEAR_S = 0.040, 0.025
STANDS_DB = (("under 0 dB", -np.inf, 0.0), ("0 to 6 dB", 0.0, 6.0), ("6 to 12 dB", 6.0, 12.0), ("over 12 dB", 12.0, np.inf))
SAMPLED = {"kick": 2, "snare": 4, "hat": 2}
"""Hits of each family that are taken out of a loop, and as many ghosts."""


def stands_db(whole: NDArray[np.floating], rest: NDArray[np.floating], at_s: float) -> float:
    """Return how far a hit stands above the rest of a sound, in dB, in the band where it stands highest."""
    begin = round(at_s * RATE)
    part = slice(begin, begin + round(HIT_S * RATE))
    hz, _, brought = stft((whole - rest)[part], RATE, nperseg=512, noverlap=384, boundary=None)
    other = np.abs(stft(rest[part], RATE, nperseg=512, noverlap=384, boundary=None)[2]) ** 2
    highest = -np.inf
    for low, high in pairwise(EDGES_HZ):
        band = (hz >= low) & (hz < high)
        ratio = ((np.abs(brought[band]) ** 2).sum(axis=0) + 1e-12) / (other[band].sum(axis=0) + 1e-12)
        highest = max(highest, float(10.0 * np.log10(ratio.max())))
    return highest


def judge(task: tuple[int, str, bool]) -> list[dict[str, Any]]:
    """Return what became of some hits of a loop."""
    seed, group, clean = task
    ways: dict[str, Any] = {"clean": clean, "mix_share": 0.0 if clean else 0.2}
    loop = make_loop(seed, (group,), **ways)
    heard = analyse(Clip(loop.samples, RATE))
    cuts = np.array([a.at_sample / RATE for a in heard.attacks if a.strength >= heard.threshold] or [np.inf])
    found = [(cut.attack_sample / RATE, hit.drum) for cut in document_from(heard, "it").cuts for hit in played(cut)]
    rng = np.random.default_rng(seed)
    sounding = {drum for _, drum, _ in loop.hits}
    rows = []
    for family, count in SAMPLED.items():
        members = [n for n in loop.groove.notes if n.drum in FAMILIES[family] and n.drum in sounding and n.time_s + HIT_S < loop.end_s]
        ghosts = [n for n in members if family == "snare" and n.velocity < GHOST]
        for name, notes in ((family, [n for n in members if n not in ghosts]), ("ghost", ghosts)):
            for note in [notes[i] for i in rng.permutation(len(notes))[:count]]:
                row = {"name": name, "heard": any(d in FAMILIES[family] and abs(t - note.time_s) < NEAR_S for t, d in found)}
                row["cut"] = float(np.abs(cuts - note.time_s).min()) < SAME_ATTACK_S
                row["alone"] = not any(n is not note and n.drum in sounding and abs(n.time_s - note.time_s) < NEAR_S
                                       for n in loop.groove.notes)
                rows.append(row | {"stands": _stands(loop, make_loop(seed, (group,), without=frozenset({note}), **ways), note.time_s)})
    return rows


def _stands(loop: LabelledLoop, without: LabelledLoop, at_s: float) -> float:
    whole, rest = loop.samples.astype(np.float64), without.samples.astype(np.float64)
    return stands_db(whole, rest * float(whole @ rest) / float(rest @ rest + 1e-12), at_s)


def main() -> None:
    """Read the command line and print how many are heard, by how far they stand above the rest."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--groups", default=",".join(GROUPS))
    parser.add_argument("--loops", type=int, default=20, help="for each group")
    parser.add_argument("--first", type=int, default=JUDGE_SEED)
    parser.add_argument("--clean", action="store_true", help="no rooms, desks or tape, and no bass or chords")
    chosen = parser.parse_args()
    tasks = [(chosen.first + SEEDS_A_GROUP * GROUPS.index(g) + n, g, chosen.clean) for g in chosen.groups.split(",")
             for n in range(chosen.loops)]
    with ProcessPoolExecutor() as pool:
        rows = [row for part in pool.map(judge, tasks, chunksize=2) for row in part]
    print(f"{'':<20}" + "".join(f"{label:>18}" for label, _, _ in STANDS_DB))
    for name in ("kick", "snare", "ghost", "hat"):
        for alone in (True, False):
            part = [row for row in rows if row["name"] == name and row["alone"] == alone]
            cells = []
            for _, low, high in STANDS_DB:
                some = [row["heard"] for row in part if low <= row["stands"] < high]
                cells.append(f"{100 * np.mean(some):.0f} % of {len(some)}" if some else "none")
            print(f"{name + (' alone' if alone else ' with others'):<20}" + "".join(f"{cell:>18}" for cell in cells))
    for label, low, high in STANDS_DB:
        cut = [row["cut"] for row in rows if row["alone"] and low <= row["stands"] < high]
        print(f"of {len(cut)} hits alone that stand {label} above the rest {100 * np.mean(cut or [0]):.0f} % are cut")


if __name__ == "__main__":
    main()
