"""Fit the weights that tempo readings are scored by: `python training/train_tempo.py`.

Grooves are drawn by seed from `benchmarks/corpus/grooves.py`; no sound is needed, as the evidence
is made from what is played, with hits missed, added and mistaken. Half of the grooves fit, half
of the rest check; `benchmarks/hearing.py` judges on seeds of its own.
"""

from __future__ import annotations

import argparse
import json
import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from scipy.optimize import minimize

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "benchmarks"))

from bompla.analysis.params import AnalysisParams  # noqa: E402
from bompla.analysis.tempo import WEIGHTS_FILE, candidates  # noqa: E402
from bompla.analysis.tempo_grid import FEATURE_NAMES, Evidence, evidence_of  # noqa: E402
from bompla.model.document import Heard  # noqa: E402
from bompla.model.drums import DRUMS  # noqa: E402
from corpus.grooves import DrawnGroove, draw_groove  # noqa: E402

FIRST_SEED = 1_000_000
MERGE_S = 0.012
TARGET = ROOT / "src" / "bompla" / "analysis" / WEIGHTS_FILE


def evidence_from(groove: DrawnGroove, seed: int, *, untrimmed: bool) -> tuple[Evidence, float]:
    """Return the evidence of a groove as the analysis might hear it, and where its first bar starts."""
    rng = np.random.default_rng(seed)
    lead, tail = (float(rng.uniform(0.05, 3.0)), float(rng.uniform(0.1, 3.0))) if untrimmed else (0.0, 0.0)
    missed, extra, mistaken = rng.uniform(0.0, 0.08), rng.uniform(0.0, 0.06), rng.uniform(0.0, 0.1)
    rows: list[tuple[float, dict[str, Heard]]] = []
    for note in groove.notes:
        if rng.random() < missed:
            continue
        drum = str(rng.choice(list(DRUMS))) if rng.random() < mistaken else note.drum
        heard = Heard(drum, float(rng.uniform(0.7, 1.0)), int(np.clip(note.velocity + rng.normal(0, 10), 5, 127)))
        at = note.time_s + lead + float(rng.normal(0.0, 0.0006))
        if rows and at - rows[-1][0] < MERGE_S:
            rows[-1][1][drum] = heard
        else:
            rows.append((at, {drum: heard}))
    for _ in range(rng.poisson(extra * len(rows))):
        stray = Heard(str(rng.choice(["hat_closed", "snare", "perc"])), 0.6, 30)
        rows.append((float(rng.uniform(lead, lead + groove.duration_s)), {stray.drum: stray}))
    rows.sort(key=lambda row: row[0])
    times = np.array([max(0.0, at) for at, _ in rows])
    return evidence_of(times, [tuple(drums.values()) for _, drums in rows], lead + groove.duration_s + tail), lead


def example_of(seed: int) -> tuple[np.ndarray, np.ndarray] | None:
    """Return the features of every candidate, and which of them are right."""
    groove = draw_groove(seed)
    untrimmed = seed % 3 == 0
    evidence, lead = evidence_from(groove, seed, untrimmed=untrimmed)
    found = candidates(evidence, AnalysisParams(trimmed=None))
    right = np.array([
        abs(r.bpm / groove.bpm - 1) < 0.005 and r.meter.name == groove.meter and r.bars == groove.bars
        and (abs(r.start_s - lead) < 0.025) and r.trimmed != untrimmed
        for r in found
    ], bool)
    return (np.stack([r.evidence for r in found]), right) if right.any() else None


def fit(examples: list[tuple[np.ndarray, np.ndarray]], strength: float) -> np.ndarray:
    """Return weights of the greatest penalised likelihood of the right readings."""
    scale = np.concatenate([x for x, _ in examples]).std(axis=0) + 1e-3

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        total, slope = 0.5 * strength * float(w @ w), strength * w
        for x, right in examples:
            z = (x / scale) @ w
            z = z - z.max()
            p = np.exp(z)
            good = p[right].sum()
            total += (np.log(p.sum()) - np.log(good + 1e-300)) / len(examples)
            slope = slope + ((p / p.sum()) @ (x / scale) - (p[right] / good) @ (x[right] / scale)) / len(examples)
        return total, slope

    return minimize(loss, np.zeros(len(FEATURE_NAMES)), jac=True, method="L-BFGS-B", options={"maxiter": 300}).x / scale


def main() -> None:
    """Draw, fit, say how well it does on grooves it was not fitted to, and write the weights."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--grooves", type=int, default=1500)
    chosen = parser.parse_args()
    with ProcessPoolExecutor() as pool:
        made = list(pool.map(example_of, range(FIRST_SEED, FIRST_SEED + chosen.grooves), chunksize=16))
    lost = sum(example is None for example in made)
    examples = [example for example in made if example is not None]
    print(f"{lost} of {len(made)} without the right reading among their candidates")
    fitted, checked = examples[: len(examples) * 3 // 4], examples[len(examples) * 3 // 4 :]
    for strength in (3e-3, 1e-3, 3e-4):
        weights = fit(fitted, strength)
        print(f"strength {strength}: right on {np.mean([right[(x @ weights).argmax()] for x, right in checked]):.3f} of the checked")
    weights = fit(examples, 1e-3)
    TARGET.write_text(json.dumps({name: round(float(w), 4) for name, w in zip(FEATURE_NAMES, weights, strict=True)}, indent=1) + "\n")
    print(f"wrote {TARGET.name}")


if __name__ == "__main__":
    main()
