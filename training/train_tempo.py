"""Fit the weights that tempo readings are scored by: `python training/train_tempo.py gather|fit` (see training/README.md).

Grooves are drawn by seed from `benchmarks/corpus/grooves.py`, or taken from the book. Of most the evidence is made from what is
played, with hits missed, added and mistaken; others are played, in rooms and mixes, and heard with the models that ship.
Three quarters of each fit, of the book three quarters of its styles, the rest check, and what ships is fitted to all;
`benchmarks/hearing.py` judges on seeds of its own. Needs PyTorch.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import product
from pathlib import Path
from typing import Any

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(name, "1")

import numpy as np  # noqa: E402

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "benchmarks"))

from bompla.analysis.analyse import listened  # noqa: E402
from bompla.analysis.hearing.network import load_model, run  # noqa: E402
from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, spectrum_of  # noqa: E402
from bompla.analysis.params import AnalysisParams  # noqa: E402
from bompla.analysis.tempo.evidence import Evidence, evidence_of  # noqa: E402
from bompla.analysis.tempo.features import FEATURE_NAMES, METER_NAMES  # noqa: E402
from bompla.analysis.tempo.readings import WEIGHTS_FILE, TempoWeights, candidates, scores_of  # noqa: E402
from bompla.audio.clip import Clip  # noqa: E402
from bompla.model.document import Heard  # noqa: E402
from bompla.model.drums import DRUMS  # noqa: E402
from corpus.book import booked_groove  # noqa: E402
from corpus.grooves import DrawnGroove, draw_groove  # noqa: E402
from corpus.render import make_loop  # noqa: E402
from runs import GROUPS, RUN  # noqa: E402

FOLDER = Path(os.environ.get("BOMPLA_CORPUS", Path.home() / ".cache" / "bompla-corpus"))
FIRST_SEED, BOOKED_SEED = 1_000_000, 1_100_000
HEARD_RUNS = (1_010_000, 1_011_000, 1_110_000)
COUNTED_IN, COUNTS = 0.3, ((1, 2, 3, 4), (1, 2, 3, 4, 6, 8))
"""How many sounds that are drawn and untrimmed are counted in, and the beats before the first bar that are struck."""

FALLS_DOWN = 0.35
VARIED, CLEAN = 0.5, 0.25
"""How many loops that are heard have their strikes made over, and how many come as they are played."""

MERGE_S = 0.012
KEPT_TWELVES = 3
"""Of how many of five grooves of the book in 12/8 readings are learned."""

HINGES, DROPPED, RATE, BATCH = 64, 0.3, 6e-3, 64
LIKELIEST, BY_CHANCE = 90, 40
"""How many wrong readings of a sound, of several hundred, are learned from."""

TARGET = ROOT / "src" / "bompla" / "analysis" / "tempo" / WEIGHTS_FILE


def evidence_from(groove: DrawnGroove, seed: int, *, untrimmed: bool) -> tuple[Evidence, float]:
    """Return the evidence of a groove as the analysis might hear it, and where its first bar starts."""
    rng = np.random.default_rng(seed)
    lead, tail = (float(rng.uniform(0.05, 5.0)), float(rng.uniform(0.1, 4.0))) if untrimmed else (0.0, 0.0)
    lead, around = _around(groove, lead, tail, rng) if untrimmed else (lead, [])
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
    if untrimmed:
        rows += around
    for _ in range(rng.poisson(extra * len(rows))):
        stray = Heard(str(rng.choice(["hat_closed", "snare", "perc"])), 0.6, 30)
        rows.append((float(rng.uniform(lead, lead + groove.duration_s)), {stray.drum: stray}))
    rows.sort(key=lambda row: row[0])
    times = np.array([max(0.0, at) for at, _ in rows])
    return evidence_of(times, [tuple(drums.values()) for _, drums in rows], lead + groove.duration_s + tail), lead


def _around(
    groove: DrawnGroove, lead: float, tail: float, rng: np.random.Generator
) -> tuple[float, list[tuple[float, dict[str, Heard]]]]:
    """Return when the first bar starts, and what is struck around: a count before it, in some, and something that falls down after all."""
    rows = []
    if rng.random() < COUNTED_IN:
        count = COUNTS[int(rng.integers(len(COUNTS)))]
        lead = max(lead, (count[-1] + float(rng.uniform(0.1, 1.5))) * 60.0 / groove.bpm)
        drum = str(rng.choice(["rim", "perc", "hat_closed", "snare", "tom_high"]))
        rows += [(lead - beat * 60.0 / groove.bpm, {drum: Heard(drum, 0.8, int(rng.integers(20, 100)))}) for beat in count]
    if rng.random() < FALLS_DOWN:
        for _ in range(int(rng.integers(1, 3))):
            drum = str(rng.choice(["perc", "kick", "tom_low", "snare", "hat_closed"]))
            at = lead + groove.duration_s + float(rng.uniform(0.15, 1.0)) * tail
            rows.append((at, {drum: Heard(drum, float(rng.uniform(0.5, 0.9)), int(rng.integers(15, 80)))}))
    return lead, rows


@dataclass(frozen=True, eq=False)
class Example:
    """The readings of a sound: features (readings, features), and which are right altogether, or in tempo."""

    untrimmed: bool
    seen: np.ndarray
    right: np.ndarray
    in_time: np.ndarray


def evidence_heard(seed: int) -> dict[str, np.ndarray] | None:
    """Return what is heard of a loop played on one of the groups of sounds in turn, and where its first bar starts."""
    varied, clean = np.random.default_rng(seed + 9).random(2)
    loop = make_loop(seed, (GROUPS[seed % len(GROUPS)],), untrimmed=seed % 2 == 0, varied=bool(varied < VARIED), clean=bool(clean < CLEAN),
                     booked=seed >= BOOKED_SEED)
    spectrum = spectrum_of(Clip(loop.samples, ANALYSIS_RATE))
    if spectrum is None:
        return None
    duration_s = len(loop.samples) / ANALYSIS_RATE
    heard = listened(spectrum, run(load_model(), spectrum), duration_s, AnalysisParams()).evidence
    return {"attacks": np.vstack([heard.times_s, heard.roles]), "about": np.array([seed, loop.start_s, duration_s])}


def gather() -> None:
    """Play and hear the loops of each run that is not kept yet."""
    for first in HEARD_RUNS:
        path = FOLDER / f"tempo {first} {RUN}.npz"
        if not path.exists():
            with ProcessPoolExecutor() as pool:
                parts = [part for part in pool.map(evidence_heard, range(first, first + RUN), chunksize=8) if part]
            np.savez(path, **{f"{key} {n}": value for n, part in enumerate(parts) for key, value in part.items()})
            print(f"{path.name}: {len(parts)} loops", flush=True)


def heard_examples(path: Path) -> list[tuple[int, Evidence, float]]:
    """Return the seed, the evidence and the first bar's start of the loops that were heard."""
    with np.load(path) as data:
        kept = [(data[f"attacks {n}"], data[f"about {n}"]) for n in range(len(data.files) // 2)]
    return [(int(about[0]), Evidence(*rows, duration_s=float(about[2])), float(about[1])) for rows, about in kept]


def groove_of(seed: int) -> DrawnGroove:
    """Return the groove of a seed: of the book, or drawn."""
    return booked_groove(seed) if seed >= BOOKED_SEED else draw_groove(seed)


def example_of(seed: int) -> Example:
    """Return what is seen of a groove as it might be heard."""
    return seen_of(seed, *evidence_from(groove_of(seed), seed, untrimmed=seed % 2 == 0))


def seen_of(seed: int, evidence: Evidence, lead: float) -> Example:
    """Return what is seen of every candidate of a groove, and which of them are right."""
    groove, untrimmed = groove_of(seed), seed % 2 == 0
    found = candidates(evidence, AnalysisParams(trimmed=None))
    if found is None:
        raise ValueError(f"nothing is struck in groove {seed}")
    in_time = np.abs(60.0 / found.beat_s / groove.bpm - 1.0) < 0.005
    right = (found.meter == METER_NAMES.index(groove.meter)) & (found.bars == groove.bars) & (np.abs(found.start_s - lead) < 0.025)
    right &= found.trimmed != untrimmed
    return Example(untrimmed, found.seen.astype(np.float32), right & in_time, in_time)


def fewer(seen: np.ndarray, right: np.ndarray, scores: np.ndarray, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Return the right readings of a sound with the best of the others, and some more."""
    kept = [np.flatnonzero(right), np.argsort(-scores)[:LIKELIEST], rng.integers(0, len(seen), BY_CHANCE)]
    chosen = np.unique(np.concatenate(kept))
    return seen[chosen], right[chosen]


class Scorer:
    """Weights of features, straight and through a few hinges, fitted by the likelihood of the right readings.

    The hinges are few and held back by dropout and decay: more of them learn the grooves that are drawn here.
    """

    def __init__(self, examples: list[tuple[np.ndarray, np.ndarray]]) -> None:
        import torch
        from torch import nn

        rows = np.concatenate([x for x, _ in examples])
        self.mean, self.spread = rows.mean(axis=0), rows.std(axis=0) + 1e-3
        torch.manual_seed(3)
        self.straight = nn.Linear(rows.shape[1], 1, bias=False)
        self.hidden, self.bent = nn.Linear(rows.shape[1], HINGES), nn.Linear(HINGES, 1, bias=False)
        self.drop = nn.Dropout(DROPPED)

    def _said(self, x: Any) -> Any:
        return (self.straight(x) + self.bent(self.drop(self.hidden(x).relu()))).squeeze(-1)

    def fit(self, examples: list[tuple[np.ndarray, np.ndarray]], epochs: int) -> None:
        """Fit in batches of `BATCH` sounds, each a choice between its readings: first any, then those that are hard to tell apart."""
        rng = np.random.default_rng(2)
        self._fit([fewer(seen, right, rng.random(len(seen)), rng) for seen, right in examples], (epochs + 1) // 2)
        weights = self.weights()
        self._fit([fewer(seen, right, scores_of(weights, seen), rng) for seen, right in examples], epochs)
        self.drop.eval()

    def _fit(self, examples: list[tuple[np.ndarray, np.ndarray]], epochs: int) -> None:
        import torch

        weights = [*self.straight.parameters(), *self.hidden.parameters(), *self.bent.parameters()]
        steps = epochs * (len(examples) // BATCH)
        optimiser = torch.optim.AdamW(weights, lr=RATE, weight_decay=0.1)
        schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, RATE, total_steps=steps + 1)
        rng = np.random.default_rng(1)
        for _ in range(epochs):
            order = rng.permutation(len(examples))
            for first in range(0, len(order) - BATCH + 1, BATCH):
                loss = self._loss([examples[i] for i in order[first : first + BATCH]])
                optimiser.zero_grad()
                loss.backward()
                optimiser.step()
                schedule.step()

    def _loss(self, chosen: list[tuple[np.ndarray, np.ndarray]]) -> Any:
        import torch

        said = self._said(torch.tensor((np.concatenate([x for x, _ in chosen]) - self.mean) / self.spread, dtype=torch.float32))
        total, start = torch.zeros(()), 0
        for x, right in chosen:
            own = said[start : start + len(x)]
            total = total + torch.logsumexp(own, 0) - torch.logsumexp(own[torch.tensor(right)], 0)
            start += len(x)
        return total / len(chosen)

    def weights(self) -> TempoWeights:
        """Return them as the analysis has them: for features as they come; what is the same for all readings is left out."""
        straight, hidden, bent = (part.weight.detach().numpy().astype(float) for part in (self.straight, self.hidden, self.bent))
        bias = self.hidden.bias.detach().numpy().astype(float)
        return TempoWeights(straight[0] / self.spread, (hidden / self.spread).T, bias - (hidden / self.spread) @ self.mean, bent[0])


def main() -> None:
    """Read the command line."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=["gather", "fit"])
    parser.add_argument("--grooves", type=int, default=4500)
    parser.add_argument("--booked", type=int, default=4000, help="grooves of the book")
    parser.add_argument("--epochs", type=int, default=14)
    chosen = parser.parse_args()
    if chosen.what == "gather":
        gather()
    else:
        fit(chosen.grooves, chosen.booked, chosen.epochs)


def counted(seed: int) -> bool:
    """Return whether a groove is fitted to: of the book's in 12/8 three of five, so that as many are in 6/8, of which two bars are one."""
    return groove_of(seed).meter != "12/8" or seed < BOOKED_SEED or seed % 5 < KEPT_TWELVES


def fit(grooves: int, booked: int, epochs: int) -> None:
    """Draw, fit, say how well it does on loops it was not fitted to, and write the weights."""
    heard = [loop for first in HEARD_RUNS for path in FOLDER.glob(f"tempo {first} *.npz") for loop in heard_examples(path)]
    heard = [loop for loop in heard if counted(loop[0])]
    by_style = sorted(filter(counted, range(BOOKED_SEED, BOOKED_SEED + booked)), key=lambda seed: groove_of(seed).kind)
    with ProcessPoolExecutor() as pool:
        drawn = list(pool.map(example_of, range(FIRST_SEED, FIRST_SEED + grooves), chunksize=16))
        written = list(pool.map(example_of, by_style, chunksize=16))
        played = list(pool.map(seen_of, *zip(*heard, strict=True), chunksize=16)) if heard else []
    kinds = {"drawn": drawn, "of the book": written, "heard": played}
    scorer = Scorer(pairs := [(e.seen, e.right) for part in kinds.values() for e in part[: len(part) * 3 // 4] if e.right.any()])
    scorer.fit(pairs, epochs)
    for (kind, made), untrimmed in product(kinds.items(), (False, True)):
        name, part = f"{kind}, {'untrimmed' if untrimmed else 'trimmed'}", [e for e in made if e.untrimmed == untrimmed]
        lost = sum(not e.right.any() for e in part)
        best = [(e, int(scores_of(scorer.weights(), e.seen).argmax())) for e in made[len(made) * 3 // 4 :] if e.untrimmed == untrimmed]
        print(f"{name}: {lost} of {len(part)} without the right reading among their candidates; of the checked tempo right on "
              f"{np.mean([e.in_time[i] for e, i in best]):.3f}, all of it on {np.mean([e.right[i] for e, i in best]):.3f}")
    scorer = Scorer(pairs := [(e.seen, e.right) for part in kinds.values() for e in part if e.right.any()])
    scorer.fit(pairs, epochs)
    write(scorer.weights())


def write(weights: TempoWeights) -> None:
    """Write the weights that ship."""
    table = np.concatenate([weights.straight[:, None], weights.hidden], axis=1)
    known = {
        "features": {name: [round(float(w), 4) for w in row] for name, row in zip(FEATURE_NAMES, table, strict=True)},
        "bias": [round(float(w), 4) for w in weights.bias], "bent": [round(float(w), 4) for w in weights.bent],
    }
    TARGET.write_text(json.dumps(known).replace('], "', '],\n"') + "\n")
    print(f"wrote {TARGET.name}")


if __name__ == "__main__":
    main()
