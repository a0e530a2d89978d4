"""How near the rebuilt loop comes to the original: `python benchmarks/rebuilt.py [--loops N] [--groups a,b]`.

Demo loops and loops drawn for judging are heard, rebuilt without a hand, and bounced by the mixer; the bounce is compared with the
original as it plays: mean difference of mel levels in dB (64 bands from 30 Hz to 16 kHz, 46 ms windows, floor 60 dB under the
loudest), gated loudness, holes (share of sounding frames that lie 20 dB under the original), the peak. While nothing is touched
(`loop`), from the pads alone (`pads`), by one pad per slice, and from the pads with the remainder (`whole`); at 70 and 140 % with the
original by its slices. With a share of the hits a sixteenth later (`moved`), against the true kit with the same notes moved. The worst
loops are named.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from typing import NamedTuple

import numpy as np
from scipy.signal import stft

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.audio.loudness import loudness_db
from bompla.audio.resample import resampled
from bompla.demo import loop_paths
from bompla.engine.bounce import bounce_rebuilt
from bompla.groove.rebuild import document_from
from bompla.groove.remainder import with_remainder
from bompla.groove.slice_kit import kit_of_slices
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.pattern_edits import move_hits
from bompla.model.variation_edits import set_untouched
from bompla.render.bake import bake
from bompla.render.events import BY_SLICES, BakeRequest
from corpus import RATE
from corpus.kits import GROUPS
from corpus.render import make_loop
from hearing import JUDGE_SEED, SEEDS_A_GROUP

PLAY_RATE = 48_000
WINDOW, HOP, BANDS = 2_048, 480, 64
FLOOR_DB, HOLE_DB, SOUNDING_DB = 60.0, 20.0, 50.0
MATCHED_S = 0.03
SHARES = (0.05, 0.25)
FIRST_OWN = 40_000
"""Judged loops of this table begin so far into their group's seeds, where no other table looks."""


class Row(NamedTuple):
    """One loop played one way: distance in dB, loudness off by so many LU, holes and clipped samples, peak in dB."""

    name: str
    way: str
    distance_db: float
    loudness_lu: float
    holes: float
    clipped: int
    peak_db: float


def mel_db(sound: np.ndarray) -> np.ndarray:
    """Return mel levels in dB, shape (frames, bands), not floored."""
    _, _, spectrum = stft(sound.mean(axis=1), PLAY_RATE, nperseg=WINDOW, noverlap=WINDOW - HOP)
    hz = np.fft.rfftfreq(WINDOW, 1.0 / PLAY_RATE)
    edges = 700.0 * (np.exp(np.linspace(np.log1p(30.0 / 700.0), np.log1p(16_000.0 / 700.0), BANDS + 2)) - 1.0)
    rise = (hz[None] - edges[:-2, None]) / (edges[1:-1] - edges[:-2])[:, None]
    fall = (edges[2:, None] - hz[None]) / (edges[2:] - edges[1:-1])[:, None]
    bank = np.clip(np.minimum(rise, fall), 0.0, None)
    return np.asarray(10.0 * np.log10(bank @ np.abs(spectrum) ** 2 + 1e-14).T)


def compare(name: str, way: str, original: np.ndarray, rebuilt: np.ndarray) -> Row:
    there, here = mel_db(original), mel_db(rebuilt)
    floor = there.max() - FLOOR_DB
    distance = np.abs(np.maximum(there, floor) - np.maximum(here, floor)).mean()
    total_there, total_here = (10.0 * np.log10((10.0 ** (one / 10.0)).sum(axis=1)) for one in (there, here))
    sounding = total_there > total_there.max() - SOUNDING_DB
    holes = (total_here < total_there - HOLE_DB)[sounding].mean()
    loud = loudness_db(Clip(rebuilt, PLAY_RATE)) - loudness_db(Clip(original, PLAY_RATE))
    peak = float(np.abs(rebuilt).max())
    return Row(name, way, float(distance), float(loud), float(holes), int((np.abs(rebuilt) >= 1.0).sum()), 20.0 * np.log10(max(peak, 1e-6)))


def judge(task: tuple[str, str, int]) -> list[Row]:
    name, group, seed = task
    if group == "demo":
        clip = read_clip(next(path for path in loop_paths() if path.stem == name))
    else:
        clip = Clip(make_loop(seed, (group,), clean=True, mix_share=0.0).samples, RATE)
    made = document_from(analyse(clip), name)
    by_pads = set_untouched(made, "pads")
    ways = (("loop", made), ("pads", by_pads), ("slices", kit_of_slices(made)))
    rows = [played(name, way, document, clip, speed) for way, document in ways for speed in (1.0, 0.7, 1.4)]
    rows.append(played(name, "whole", set_untouched(with_remainder(made), "pads"), clip, 1.0))
    return rows if group == "demo" else [*rows, *moved(name, group, seed, made)]


def moved(name: str, group: str, seed: int, made: Document) -> list[Row]:
    """Return how near a pattern with a share of its hits a sixteenth later is to the true kit with the same notes moved."""
    loop = make_loop(seed, (group,), clean=True, mix_share=0.0)
    drums = {pad.id: pad.drum for pad in made.pads}
    hits = [(made.beat_map.sample_at(hit.at_beats) / RATE, drums[hit.pad_id], hit) for hit in pattern_of(made).hits]
    matched = []
    for note in loop.groove.notes:
        near = [(abs(at - note.time_s), hit) for at, drum, hit in hits if drum == note.drum and abs(at - note.time_s) < MATCHED_S]
        if near:
            matched.append((note, min(near, key=lambda one: one[0])[1]))
    rng = np.random.default_rng(seed)
    rows = []
    for share in SHARES:
        chosen = [matched[n] for n in sorted(rng.permutation(len(matched))[: max(1, round(share * len(matched)))].tolist())]
        step_s = 0.25 * 60.0 / loop.groove.bpm
        truth = make_loop(seed, (group,), clean=True, mix_share=0.0, moved_s={note: step_s for note, _ in chosen}).samples
        scale = np.abs(loop.samples).max() / max(float(np.abs(truth).max()), 1e-9)
        there = resampled(Clip((truth * scale).astype(np.float32), RATE), PLAY_RATE).stereo
        # each by itself: what is moved together stays together, and here one hit of an attack may go without the others
        document = made
        for _, hit in chosen:
            document = move_hits(document, [hit.id], 0.25)
        for way, one in (("moved", document), ("moved, pads", set_untouched(document, "pads"))):
            baked = bake(BakeRequest(one, Clip(loop.samples, RATE), PLAY_RATE))
            here = bounce_rebuilt(baked, passes=2).samples
            frames = min(len(here), len(there))
            rows.append(compare(name, f"{way} {round(100 * share)} %", there[:frames], here[:frames]))
    return rows


def played(name: str, kit: str, document: Document, clip: Clip, speed: float) -> Row:
    baked = bake(BakeRequest(document, clip, PLAY_RATE, speed=speed, way=BY_SLICES))
    return compare(name, kit if speed == 1.0 else f"{kit} {round(100 * speed)} %", baked.original, bounce_rebuilt(baked, passes=2).samples)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--loops", type=int, default=8)
    parser.add_argument("--groups", default=",".join(GROUPS))
    chosen = parser.parse_args()
    tasks = [(path.stem, "demo", 0) for path in loop_paths()]
    for group in chosen.groups.split(",") if chosen.groups else []:
        first = JUDGE_SEED + SEEDS_A_GROUP * GROUPS.index(group) + FIRST_OWN
        tasks += [(f"{group} {n}", group, first + n) for n in range(chosen.loops)]
    with ProcessPoolExecutor() as pool:
        rows = [row for found in pool.map(judge, tasks) for row in found]
    show("demo", [row for row in rows if row.name in {path.stem for path in loop_paths()}])
    show("judged", [row for row in rows if row.name not in {path.stem for path in loop_paths()}])
    print("\nworst by the pads:")
    for row in sorted((row for row in rows if row.way == "pads"), key=lambda row: -row.distance_db)[:10]:
        print(f"  {row.name:24} {row.distance_db:5.2f} dB, {row.loudness_lu:+5.1f} LU, {row.holes:6.1%} holes, peak {row.peak_db:+5.1f} dB")


def show(title: str, rows: list[Row]) -> None:
    if not rows:
        return
    print(f"\n{title:14}   mean median under 3 dB   LU off (most)   holes   clipped   peak")
    for way in dict.fromkeys(row.way for row in rows):
        some = [row for row in rows if row.way == way]
        far, off = np.array([row.distance_db for row in some]), np.abs([row.loudness_lu for row in some])
        print(f"  {way:12}  {far.mean():5.2f}  {np.median(far):5.2f}   {int((far < 3.0).sum()):3} of {far.size:3}   "
              f"{off.mean():5.2f} ({off.max():4.1f})   {np.mean([row.holes for row in some]):6.2%}   "
              f"{sum(row.clipped for row in some):6}   {max(row.peak_db for row in some):+5.1f}")


if __name__ == "__main__":
    main()
