"""How far drums that sound together are pulled apart: `python benchmarks/separation.py [--loops N]`.

Two strikes of known kits are mixed; what is pulled out is compared with what went in. The gain is
in dB of signal to distortion over taking the mixture as it is. With `--loops` it is measured in loops drawn for judging, as they are
played, as the application does it: a hit is known as what is gone when the loop is made again without it, drums are as they were
heard, and the slices that a drum has to itself are found among what was heard.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np

from bompla.analysis.analyse import analyse
from bompla.analysis.separation.pull_apart import pull_apart
from bompla.audio.clip import Clip
from bompla.groove.rebuild import document_from
from bompla.render.underneath import alone, most_of, underneath
from corpus import RATE
from corpus.kits import GROUPS, font_bank, font_kits, synth_bank
from corpus.render import make_loop
from hearing import JUDGE_SEED, SEEDS_A_GROUP

PAIRS = (("kick", "hat_closed"), ("snare", "hat_closed"), ("kick", "hat_open"), ("kick", "ride"), ("snare", "kick"), ("kick", "crash"))
LEVELS = {"kick": 0.9, "snare": 0.7, "hat_closed": 0.28, "hat_open": 0.28, "ride": 0.25, "crash": 0.4}
SECONDS = 0.25
NEAR_S = 0.012
HITS_A_LOOP = 6
WANTED = ("kick", "snare", "hat_closed", "hat_open", "ride", "tom_low", "clap")


def sdr_db(known: np.ndarray, found: np.ndarray) -> float:
    return float(10.0 * np.log10((known**2).sum() / max(float(((known - found) ** 2).sum()), 1e-12)))


Row = tuple[str, float, float, float]


def judge(task: tuple[int, str, int]) -> list[Row]:
    """Return how well some hits of a loop are pulled out: the drum, its level as it is, the gains without and with slices alone."""
    seed, group, count = task
    loop = make_loop(seed, (group,), clean=True, mix_share=0.0)
    clip = Clip(loop.samples, RATE)
    document = document_from(analyse(clip), "it")
    rows: list[Row] = []
    order = np.random.default_rng(seed).permutation(len(loop.groove.notes))
    for note in (loop.groove.notes[i] for i in order):
        at = round(note.time_s * RATE)
        near = [one for one in document.slices() if abs(one.cut.attack_sample - at) < NEAR_S * RATE]
        if len(rows) == count or not near or note.drum not in WANTED:
            continue
        cut, start, end = near[0].cut, near[0].start_sample, near[0].end_sample
        others = underneath(cut, note.drum)
        if not others or not any(h.drum == note.drum and h.sure for h in cut.heard):
            continue
        rest = make_loop(seed, (group,), clean=True, mix_share=0.0, without=frozenset({note})).samples
        loud = np.abs(rest) > 0.1 * np.abs(rest).max()
        known = (loop.samples - np.median(loop.samples[loud] / rest[loud]) * rest)[start:end]
        if float((known**2).sum()) < 1e-6 * float((clip.mono[start:end] ** 2).sum()):
            continue
        before = sdr_db(known, clip.mono[start:end])
        drums = (note.drum, *others)
        known_of_loop = {"alone": dict(alone(document, drums)), "most": dict(most_of(document, cut, drums))}
        ways: tuple[dict[str, dict[str, Any]], ...] = ({}, known_of_loop)
        made = [pull_apart(clip, start, end, drums, attack_sample=cut.attack_sample, **way)[note.drum] for way in ways]
        plain, helped = (sdr_db(known, one.samples[:, 0]) - before for one in made)
        rows.append((note.drum, before, plain, helped))
    return rows


def in_loops(groups: str, loops: int) -> None:
    """Print how well hits of loops are pulled out, by drum and by group of sounds."""
    tasks = [(JUDGE_SEED + SEEDS_A_GROUP * GROUPS.index(g) + n, g, HITS_A_LOOP) for g in groups.split(",") for n in range(loops)]
    with ProcessPoolExecutor() as pool:
        found = [(task[1], row) for task, part in zip(tasks, pool.map(judge, tasks, chunksize=2), strict=True) for row in part]
    print(f"{'':<12}{'hits':>6}{'as it is':>10}{'gain':>8}{'with the loop known':>24}{'worse than as it is':>22}")
    names = [*WANTED, *groups.split(",")]
    for name in names:
        rows = [row[1:] for group, row in found if name in (group, row[0])]
        if rows:
            before, plain, helped = np.median(np.array(rows), axis=0)
            worse = np.mean([row[2] < 0.0 for row in rows])
            print(f"{name:<12}{len(rows):>6}{before:>10.1f}{plain:>8.1f}{helped:>24.1f}{worse:>21.0%}")


def main() -> None:
    """Read the command line and print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--loops", type=int, default=0, help="for each group, instead of pairs of strikes")
    parser.add_argument("--groups", default="synth,fluid,tim,csound,recorded,freepats,denemo")
    chosen = parser.parse_args()
    if chosen.loops:
        in_loops(chosen.groups, chosen.loops)
    else:
        in_pairs()


def in_pairs() -> None:
    """Print how well two strikes of a kit are pulled apart."""
    rng = np.random.default_rng(3)
    banks = [font_bank(*kit) for kit in font_kits(GROUPS)] + [synth_bank(800_000 + n) for n in range(6)]
    print(f"{'mixture':<22}{'wanted':<12}{'as it is':>9}{'pulled out':>11}{'gain':>7}{'with an example':>17}")
    for pair in PAIRS:
        rows: dict[str, list[tuple[float, float, float]]] = {drum: [] for drum in pair}
        for bank in banks:
            for _ in range(2):
                parts = {}
                loud = int(rng.integers(4, 8))
                for drum in pair:
                    voice = bank.voices[drum][0][loud]
                    sound = np.zeros(round(SECONDS * RATE), np.float32)
                    sound[: min(len(voice), len(sound))] = voice[: len(sound)]
                    parts[drum] = LEVELS[drum] * rng.uniform(0.6, 1.2) * sound / max(float(np.abs(voice).max()), 1e-6)
                mixture = np.sum(list(parts.values()), axis=0)
                other = [bank.voices[drum][0][max(2, loud - 2)][: len(mixture)] for drum in pair]
                gap = np.zeros(4000, np.float32)
                long = Clip(np.concatenate([mixture, gap, *(np.concatenate([v, gap]) for v in other)]), RATE)
                starts = np.cumsum([len(mixture) + 4000, len(other[0]) + 4000])
                plain = pull_apart(Clip(mixture, RATE), 0, len(mixture), pair)
                strikes = {drum: [(int(at), int(at) + len(mixture))] for drum, at in zip(pair, starts, strict=True)}
                helped = pull_apart(long, 0, len(mixture), pair, alone=strikes)
                for drum in pair:
                    rows[drum].append((sdr_db(parts[drum], mixture), sdr_db(parts[drum], plain[drum].samples[:, 0]),
                                       sdr_db(parts[drum], helped[drum].samples[:, 0])))
        for drum in pair:
            before, after, helped = np.median(np.array(rows[drum]), axis=0)
            print(f"{' + '.join(pair):<22}{drum:<12}{before:>9.1f}{after:>11.1f}{after - before:>7.1f}{helped - before:>17.1f}")


if __name__ == "__main__":
    main()
