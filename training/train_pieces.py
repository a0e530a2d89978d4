"""Fit the weights that readings of pieces cut anywhere are scored by: `python training/train_pieces.py [--pieces N]`.

Pieces are drawn by seed from `benchmarks/corpus/pieces.py`, as they might be heard. Three quarters fit, the rest check, and what ships
is fitted to all; `benchmarks/pieces.py` judges on seeds of its own.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(name, "1")

import numpy as np  # noqa: E402
from scipy.optimize import minimize  # noqa: E402

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "benchmarks"))

from bompla.analysis.params import AnalysisParams  # noqa: E402
from bompla.analysis.tempo.features import METER_NAMES  # noqa: E402
from bompla.analysis.tempo.pieces import PIECE_FEATURES, WEIGHTS_FILE, piece_candidates  # noqa: E402
from corpus.pieces import FIRST_PIECE, PieceTruth, piece_of  # noqa: E402

NEAR_S, IN_TIME = 0.03, 0.005
DECAY = 7e-4
KEPT_WRONG = 160
TARGET = ROOT / "src" / "bompla" / "analysis" / "tempo" / WEIGHTS_FILE

Example = tuple[np.ndarray, np.ndarray, np.ndarray]
"""Features (readings, features), which are right altogether, and which in tempo."""


def example_of(seed: int) -> Example | None:
    """Return what is seen of the candidates of a piece, the right ones and some of the others."""
    evidence, truth = piece_of(seed)
    found = piece_candidates(evidence, AnalysisParams())
    if found is None:
        return None
    in_time = np.abs(60.0 / found.beat_s / truth.bpm - 1.0) < IN_TIME
    on_lines = np.array([on_line(at_s, truth) for at_s in found.start_s])
    right = in_time & (found.meter == METER_NAMES.index(truth.meter)) & on_lines
    seen = found.seen.astype(np.float32)
    rng = np.random.default_rng(seed)
    wrong = rng.permutation(np.flatnonzero(~right))[:KEPT_WRONG]
    kept = np.concatenate([np.flatnonzero(right), wrong, np.flatnonzero(in_time & ~right)[:40]])
    return seen[kept], right[kept], in_time[kept]


def on_line(at_s: float, truth: PieceTruth) -> bool:
    """Return whether a time is on a bar line."""
    return bool(truth.bar_lines_s.size) and float(np.abs(truth.bar_lines_s - at_s).min()) < NEAR_S


def fitted(examples: list[Example], decay: float = DECAY) -> np.ndarray:
    """Return weights of least loss: the log likelihood of the right readings among all of a piece, with a little decay."""
    usable = [(x, right) for x, right, _ in examples if right.any()]
    rows = np.concatenate([x for x, _ in usable])
    mean, spread = rows.mean(axis=0), rows.std(axis=0) + 1e-3
    rows = (rows - mean) / spread
    right = np.concatenate([r for _, r in usable])
    starts = np.concatenate([[0], np.cumsum([len(x) for x, _ in usable])])[:-1]
    which = np.repeat(np.arange(len(usable)), [len(x) for x, _ in usable])

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        said = rows @ w
        top = np.maximum.reduceat(said, starts)[which]
        weight = np.exp(said - top)
        every, good = np.add.reduceat(weight, starts), np.add.reduceat(weight * right, starts)
        share = weight / every[which] - weight * right / good[which]
        value = float((np.log(every) - np.log(good)).mean() + decay * w @ w)
        return value, rows.T @ share / len(usable) + 2 * decay * w

    found = minimize(loss, np.zeros(rows.shape[1]), jac=True, method="L-BFGS-B", options={"maxiter": 400})
    return np.asarray(found.x / spread)


def checked(examples: list[Example], weights: np.ndarray) -> tuple[float, float, float]:
    """Return how often the best reading is right altogether and in tempo, and how often a right one is looked at."""
    best = [(right[k], in_time[k], bool(right.any())) for x, right, in_time in examples for k in [int((x @ weights).argmax())]]
    return tuple(float(np.mean(column)) for column in zip(*best, strict=True))  # type: ignore[return-value]


def main() -> None:
    """Draw, fit, say how well it does on pieces it was not fitted to, and write the weights."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--pieces", type=int, default=1200)
    chosen = parser.parse_args()
    with ProcessPoolExecutor() as pool:
        examples = [one for one in pool.map(example_of, range(FIRST_PIECE, FIRST_PIECE + chosen.pieces), chunksize=4) if one is not None]
    split = len(examples) * 3 // 4
    weights = fitted(examples[:split])
    for what, part in (("fitted", examples[:split]), ("checked", examples[split:])):
        right, in_time, there = checked(part, weights)
        print(f"{what}: all right {right:.3f}, tempo {in_time:.3f}, the right one among the candidates {there:.3f} of {len(part)}")
    weights = fitted(examples)
    TARGET.write_text(json.dumps({name: round(float(w), 5) for name, w in zip(PIECE_FEATURES, weights, strict=True)}, indent=0) + "\n")
    print(f"wrote {TARGET.name}")


if __name__ == "__main__":
    main()
