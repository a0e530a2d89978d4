"""Train what places an attack to the sample: `python training/train_refine.py gather|train|ship` (see training/README.md).

Needs PyTorch, which the application does not, and the hearing model as it ships: it learns from where
that one thinks an attack is, and from the samples around, on loops that it did not learn from.
"""

from __future__ import annotations

import argparse
import os
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(name, "1")

import numpy as np  # noqa: E402
import soxr  # noqa: E402

from bompla.analysis.hearing.attacks import places_of  # noqa: E402
from bompla.analysis.hearing.network import load_model, run  # noqa: E402
from bompla.analysis.hearing.refine import (  # noqa: E402
    BACK,
    BIN,
    BINS,
    ON,
    REFINE_FILE,
    WINDOW,
    begins_in,
    read_refine,
    rises_in,
    windows_at,
)
from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, spectrum_of  # noqa: E402
from bompla.audio.clip import Clip  # noqa: E402
from runs import REFINE_RUNS, ROOT, RUN, Task, loop_of, tasks_of  # noqa: E402

FOLDER = Path(os.environ.get("BOMPLA_CORPUS", Path.home() / ".cache" / "bompla-corpus"))
CHECKS = {"check": (300_000, 200), "check clean": (305_000, 96)}
WIDTHS, DILATIONS, TAPS = (16, 16, 16), (1, 2, 4), 5
BATCH, RATE = 128, 4e-3
LIMITED_SHARE, LOW_RATES = 0.12, (5_000.0, 24_000.0)
SAME_ATTACK_S, FARTHEST_S = 0.012, 0.018
"""How near hits are one attack, and how far off a place may be that is meant for one."""


def example_of(task: Task) -> dict[str, np.ndarray]:
    """Return the sound around each place that is near an attack, and how many samples after the place the attack is."""
    loop = loop_of(task)
    spectrum = spectrum_of(Clip(loop.samples, ANALYSIS_RATE))
    if spectrum is None or not loop.hits:
        return {}
    guessed, _ = places_of(spectrum, run(load_model(), spectrum))
    firsts: list[float] = []
    for at, _, _ in sorted(loop.hits):
        if not firsts or at - firsts[-1] > SAME_ATTACK_S:
            firsts.append(at)
    known = np.array(firsts) * ANALYSIS_RATE
    off = known[None, :] - guessed[:, None]
    nearest = np.abs(off).argmin(axis=1)
    # Of two places for one attack the nearer is meant for it.
    own = np.abs(off).argmin(axis=0)[nearest] == np.arange(guessed.size)
    after = off[np.arange(guessed.size), nearest]
    kept = own & (np.abs(after) < FARTHEST_S * ANALYSIS_RATE)
    if not kept.any():
        return {}
    windows = windows_at(spectrum.signal, guessed[kept])
    windows = windows / np.maximum(np.abs(windows).max(axis=1, keepdims=True), 1e-9)
    return {"windows": windows.astype(np.float16), "after": after[kept].astype(np.float32)}


def gather(name: str, first: int, count: int) -> None:
    """Make and keep the examples of a run of seeds, the groups of sounds in turn."""
    path = FOLDER / f"refine {name} {first} {count}.npz"
    if path.exists():
        return
    with ProcessPoolExecutor() as pool:
        parts = [part for part in pool.map(example_of, tasks_of(name, first, count), chunksize=8) if part]
    np.savez(path, **{key: np.concatenate([part[key] for part in parts]) for key in parts[0]})
    print(f"{path.name}: {len(parts)} loops", flush=True)


def load(names: dict[str, tuple[int, ...]]) -> tuple[np.ndarray, np.ndarray]:
    """Return what is seen of the kept examples that begin at these seeds, and how many samples after each place the attack is."""
    seen, after = [], []
    for path in [path for name, firsts in names.items() for first in firsts for path in FOLDER.glob(f"refine {name} {first} *.npz")]:
        with np.load(path) as data:
            windows = band_limited(data["windows"], np.random.default_rng(5))
            seen += [rises_in(windows[at : at + 512].astype(np.float32)).astype(np.float16) for at in range(0, len(windows), 512)]
            after.append(data["after"])
    return np.concatenate(seen), np.concatenate(after)


def band_limited(windows: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Return windows some of which were kept at a lower rate, as few loops of the corpus are."""
    for row in np.flatnonzero(rng.random(len(windows)) < LIMITED_SHARE):
        low = float(np.exp(rng.uniform(*np.log(LOW_RATES))))
        there_and_back = soxr.resample(soxr.resample(windows[row].astype(np.float32), ANALYSIS_RATE, low), low, ANALYSIS_RATE)
        length = min(WINDOW, len(there_and_back))
        windows[row, :length] = there_and_back[:length]
    return windows


def make_net(features: int) -> Any:
    """Return the network: rows of (windows, features, bins) to the log odds of each bin."""
    from torch import nn

    layers: list[Any] = []
    inputs = features
    for outputs, dilation in zip(WIDTHS, DILATIONS, strict=True):
        layers += [nn.Conv1d(inputs, outputs, TAPS, padding=TAPS // 2 * dilation, dilation=dilation), nn.ReLU()]
        inputs = outputs
    return nn.Sequential(*layers, nn.Conv1d(inputs, 1, 1))


def train(epochs: int) -> None:
    """Train the network, print how far off places for checking are then, and write the weights."""
    import torch

    torch.set_num_threads(int(os.environ.get("TORCH_THREADS", "2")))
    torch.manual_seed(1)
    rng = np.random.default_rng(1)
    seen, after = load(dict(REFINE_RUNS))
    inside = (after > -BACK) & (after < ON)
    seen, after = seen[inside], after[inside]
    centres = (np.arange(BINS) + 0.5) * BIN - BACK
    wanted = np.exp(-0.5 * ((centres - after[:, None]) / BIN) ** 2).astype(np.float32)
    wanted /= wanted.sum(axis=1, keepdims=True)
    net, steps = make_net(seen.shape[2]), len(seen) // BATCH
    optimiser = torch.optim.AdamW(net.parameters(), RATE, weight_decay=0.01)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, RATE, total_steps=epochs * steps + 1)
    print(f"{len(seen)} places to learn from", flush=True)
    for epoch in range(epochs):
        began, total = time.monotonic(), 0.0
        for chosen in rng.permutation(len(seen))[: steps * BATCH].reshape(steps, BATCH):
            said = net(torch.tensor(seen[chosen].astype(np.float32)).transpose(1, 2))[:, 0]
            loss = -(torch.tensor(wanted[chosen]) * torch.log_softmax(said, dim=1)).sum(dim=1).mean()
            optimiser.zero_grad()
            loss.backward()
            optimiser.step()
            schedule.step()
            total += float(loss.detach())
        print(f"epoch {epoch}: {total / steps:.4f}, {time.monotonic() - began:.0f} s", flush=True)
    arrays = {"dilations": np.array([*DILATIONS, 1])}
    for number, layer in enumerate(part for part in net if hasattr(part, "weight")):
        arrays[f"weight{number}"] = layer.weight.detach().permute(2, 1, 0).numpy().astype(np.float16)
        arrays[f"bias{number}"] = layer.bias.detach().numpy()
    np.savez(FOLDER / REFINE_FILE, **arrays)
    check()


def check() -> None:
    """Print how far off the places of loops for checking are with the weights last written."""
    with (FOLDER / REFINE_FILE).open("rb") as stream:
        model = read_refine(stream)
    for name, (first, count) in CHECKS.items():
        with np.load(FOLDER / f"refine {name} {first} {count}.npz") as data:
            windows, after = data["windows"].astype(np.float32), data["after"]
        begin = np.concatenate([begins_in(model, windows[at : at + 512]) for at in range(0, len(windows), 512)])
        off_ms = (begin - WINDOW // 2 - after) * 1000.0 / ANALYSIS_RATE
        far, usual = np.abs(off_ms), off_ms[np.abs(off_ms) < 10.0]
        print(f"{name}: {100 * np.mean(far > 5):.2f} % over 5 ms, {100 * np.mean(far > 10):.2f} % over 10 ms, "
              f"median {np.median(far):.3f} ms, bias {usual.mean():.3f} ms", flush=True)


def main() -> None:
    """Read the command line."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=["gather", "train", "check", "ship"])
    parser.add_argument("--epochs", type=int, default=12)
    chosen = parser.parse_args()
    if chosen.what == "gather":
        for name, (first, count) in CHECKS.items():
            gather(name, first, count)
        for name, firsts in REFINE_RUNS:
            for first in firsts:
                gather(name, first, RUN)
    elif chosen.what == "train":
        train(chosen.epochs)
    elif chosen.what == "check":
        check()
    else:
        (ROOT / "src" / "bompla" / "analysis" / "hearing" / REFINE_FILE).write_bytes((FOLDER / REFINE_FILE).read_bytes())


if __name__ == "__main__":
    main()
