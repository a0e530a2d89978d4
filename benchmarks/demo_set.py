"""How well and how fast the demo loops are heard: `python benchmarks/demo_set.py`.

The demo loops share their drum synthesis with what the hearing model learned from, not their
kits, seeds or grooves; see docs/hearing.md for what that is worth.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ[name] = "1"

import mir_eval
import numpy as np

from bompla.analysis.analyse import analyse
from bompla.analysis.hearing.network import load_model
from bompla.audio.files import read_clip
from bompla.demo import loop_paths
from bompla.groove.rebuild import document_from
from bompla.model.detected_pattern import played
from bompla.model.drums import DRUMS, Family

SAME_ATTACK_S = 0.016
FAMILIES = {
    "kick": {"kick"},
    "snare": {d.key for d in DRUMS.values() if d.family is Family.SNARES},
    "hat": {d.key for d in DRUMS.values() if d.family is Family.HATS},
}


def apart(times: list[float]) -> np.ndarray:
    kept: list[float] = []
    for at in sorted(times):
        if not kept or at - kept[-1] > SAME_ATTACK_S:
            kept.append(at)
    return np.array(kept)


def f_measure(known: np.ndarray, found: np.ndarray, window_s: float) -> float:
    return float(mir_eval.onset.f_measure(np.sort(known), np.sort(found), window=window_s)[0]) if len(known) and len(found) else 0.0


def main() -> None:
    load_model()
    analyse(read_clip(loop_paths()[0]))
    print(
        f"{'loop':<19}{'bpm':>8}{'off %':>7} {'bars':<6}{'cuts F1':>8}{'5 ms':>7}{'bias':>7}"
        f"{'kick':>6}{'snare':>7}{'hat':>6}{'vel':>6}{'ms':>6}"
    )
    totals: list[list[float]] = []
    for path in loop_paths():
        truth = json.loads(path.with_suffix(".json").read_text())
        clip = read_clip(path)
        times = []
        for _ in range(3):
            began = time.perf_counter()
            heard = analyse(clip, name=path.name)
            times.append(time.perf_counter() - began)
        document = document_from(heard, path.stem)
        found = np.array([c.attack_sample / clip.sample_rate for c in document.cuts if c.origin == "detected"])
        known = apart([hit["time_s"] for hit in truth["hits"]])
        pairs = mir_eval.util.match_events(known, found, 0.01)
        bias = 1000.0 * float(np.mean([found[j] - known[i] for i, j in pairs]))
        drums = []
        errors = []
        for members in FAMILIES.values():
            there = np.array([h["time_s"] for h in truth["hits"] if h["drum"] in members])
            here = np.array([c.attack_sample / clip.sample_rate for c in document.cuts for h in played(c) if h.drum in members])
            drums.append(f_measure(there, here, 0.025) if len(there) else np.nan)
        for cut in document.cuts:
            for h in played(cut):
                near = [
                    abs(hit["velocity"] - h.velocity)
                    for hit in truth["hits"]
                    if hit["drum"] == h.drum and abs(hit["time_s"] - cut.attack_sample / clip.sample_rate) < 0.025
                ]
                errors += [min(near)] if near else []
        off = 100.0 * abs(document.bpm / truth["bpm"] - 1.0)
        right = (document.loop.bars, document.loop.meter_name) == (truth["region"]["bars"], truth["meter"])
        row = [off, float(right), f_measure(known, found, 0.01), f_measure(known, found, 0.005), bias, *drums, float(np.mean(errors)),
               1000.0 * min(times)]
        totals.append(row)
        print(f"{path.stem:<19}{document.bpm:>8.2f}{off:>7.3f} {'right' if right else 'WRONG':<6}" + _cells(row))
    mean = np.nanmean(np.array(totals), axis=0)
    print(f"{'mean':<19}{'':>8}{mean[0]:>7.3f} {100 * mean[1]:>4.0f} %" + _cells(list(mean)))
    began = time.perf_counter()
    command = [sys.executable, "-m", "bompla.cli", "window", "--demo", "--offscreen", "--screenshot", os.devnull]
    subprocess.run(command, capture_output=True, check=False)
    print(f"start, draw the demo project and end again: {time.perf_counter() - began:.2f} s")


def _cells(row: list[float]) -> str:
    return f"{row[2]:>8.3f}{row[3]:>7.3f}{row[4]:>7.2f}{row[5]:>6.2f}{row[6]:>7.2f}{row[7]:>6.2f}{row[8]:>6.1f}{row[9]:>6.0f}"


if __name__ == "__main__":
    main()
