"""Train what says how much other bars count: `python training/train_recurring.py train|ship` (see training/README.md).

Needs PyTorch, which the application does not, and loops that were gathered for what hears attacks together
(`train_context.py gather`) but that it has not learned from, so that it is as unsure of them as it will be of any.
"""

from __future__ import annotations

import argparse
import os
from typing import Any

from bompla.model.drums import DRUMS

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(name, "1")

import numpy as np  # noqa: E402

from bompla.analysis.hearing.context import FORCE_CHANGE, DrumOdds, load_context, reheard  # noqa: E402
from bompla.analysis.hearing.recurring import (  # noqa: E402
    ELSEWHERE,
    LEAST_SHARE,
    NAMES,
    RECURRING_FILE,
    SCALE,
    SEEN,
    BarGrid,
    seen_in_bars,
)
from runs import RECURRING_RUNS, ROOT  # noqa: E402
from train_context import DRUM_KEYS, FOLDER, load  # noqa: E402

HIDDEN, BATCH, RATE = 48, 1024, 4e-3
LOWEST_LEVEL, LEVELS = {"snare": -0.1, "rim": -0.1, "clap": -0.1}, (-1.0, 1.0)
"""What says nothing is held near even odds, so that a drum that no other bar has is always the less likely for it.

Snares that are in doubt in every bar, as they are where the same kick and hat fall together, shall not bear each other out.
"""

FEWER_BARS = 0.5
"""How many loops are seen by fewer of their bars as well."""


def rows_of(example: dict[str, np.ndarray], rng: np.random.Generator) -> list[tuple[np.ndarray, ...]]:
    """Return what is seen of the attacks of a loop in its bars, what was heard of them, and what is true."""
    start_s, bar_s, count = (float(value) for value in example["bars"])
    found = reheard(load_context(), example["seen"].astype(np.float32), DrumOdds(example["odds"], example["force"], example["attack"]))
    grids = [BarGrid(start_s, bar_s, int(count))]
    if count > 2 and rng.random() < FEWER_BARS:
        fewer = int(rng.integers(2, int(count)))
        grids.append(BarGrid(start_s + bar_s * int(rng.integers(0, int(count) - fewer + 1)), bar_s, fewer))
    rows = []
    for grid in grids:
        inside, seen = seen_in_bars(found, example["times_s"], grid, DRUM_KEYS)
        if len(seen):
            rows.append((seen.astype(np.float16), found.odds[inside], found.force[inside], found.attack[inside],
                         example["true_drums"][inside], example["true_force"][inside], example["true_attack"][inside]))
    return rows


def examples_of(runs: dict[str, tuple[int, ...]]) -> list[np.ndarray]:
    """Return the rows of all loops of these runs, one array for each of what `rows_of` returns."""
    rng = np.random.default_rng(4)
    rows = [row for run, firsts in runs.items() for example in load(run, firsts) for row in rows_of(example, rng)]
    return [np.concatenate(part) for part in zip(*rows, strict=True)]


def make_net() -> Any:
    """Return the network; at first each drum gets half of what the best of the other bars has above even, or nearly."""
    import torch
    from torch import nn

    class Net(nn.Module):
        def __init__(self) -> None:
            super().__init__()
            rows = len(DRUM_KEYS) + 1
            self.first = nn.Parameter(torch.randn(SEEN, HIDDEN) * (2.0 / SEEN) ** 0.5)
            self.own, self.share, self.force = (nn.Parameter(torch.randn(rows, HIDDEN) * by) for by in (0.3, 0.0, 0.0))
            self.usual, self.level = nn.Parameter(torch.full((rows,), 0.5)), nn.Parameter(torch.full((rows,), -0.3))
            self.mixed = nn.Parameter(torch.tensor([1.0, 0.0, 0.0]).repeat(rows, 1))
            once = [0.0 if drum in DRUMS and DRUMS[drum].for_once else -torch.inf for drum in (*DRUM_KEYS, "attack")]
            self.register_buffer("lowest", torch.tensor(once))
            low_level = [LOWEST_LEVEL.get(drum, LEVELS[0]) for drum in (*DRUM_KEYS, "attack")]
            self.register_buffer("low_level", torch.tensor(low_level))
            self.register_buffer("high_level", torch.full((rows,), LEVELS[1]))

        def forward(self, seen, odds, force, attack):  # tensors
            hidden = torch.relu(seen @ self.first + self.own)
            share = ((hidden * self.share).sum(-1) + self.usual).clamp(min=LEAST_SHARE)
            level = self.level.clamp(self.low_level, self.high_level)
            change = share * (SCALE * (seen[..., ELSEWHERE] * self.mixed.softmax(-1)).sum(-1) - level)
            change = torch.maximum(change, self.lowest)
            return odds + change[:, :-1], force + FORCE_CHANGE * (hidden * self.force).sum(-1)[:, :-1], attack + change[:, -1]

    return Net()


def loss_of(net: Any, tensors: list[Any]) -> Any:
    """Return the loss, as `train_context.py` has it."""
    from torch.nn.functional import binary_cross_entropy_with_logits as cross_entropy

    *inputs, drums, force, attack = tensors
    odds, forces, attacks = net(*inputs)
    hard = ((forces - force).abs() * drums).sum() / drums.sum().clamp(min=1.0)
    return cross_entropy(odds, drums, reduction="none").sum(-1).mean() + 1.5 * hard + cross_entropy(attacks, attack)


def train(epochs: int) -> None:
    """Train the network, print the loss on an eighth that is kept back, and write the weights."""
    import torch

    torch.set_num_threads(int(os.environ.get("TORCH_THREADS", "2")))
    torch.manual_seed(2)
    parts = [torch.tensor(part.astype(np.float32)) for part in examples_of(dict(RECURRING_RUNS))]
    count = len(parts[0]) * 7 // 8
    learn, check = [part[:count] for part in parts], [part[count:] for part in parts]
    net, steps = make_net(), count // BATCH
    optimiser = torch.optim.AdamW(net.parameters(), RATE, weight_decay=0.05)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, RATE, total_steps=epochs * steps + 1)
    with torch.no_grad():
        said = f"{float(loss_of(net, learn)):.4f}, kept back {float(loss_of(net, check)):.4f}"
    print(f"{count} attacks to learn from; as they are {said}", flush=True)
    for epoch in range(epochs):
        for chosen in torch.randperm(count)[: steps * BATCH].view(steps, BATCH):
            loss = loss_of(net, [part[chosen] for part in learn])
            optimiser.zero_grad()
            loss.backward()
            optimiser.step()
            schedule.step()
        with torch.no_grad():
            print(f"epoch {epoch}: {float(loss_of(net, learn)):.4f}, kept back {float(loss_of(net, check)):.4f}", flush=True)
    weights = dict(net.named_parameters()) | {"mix": net.mixed.softmax(-1), "level": net.level.clamp(net.low_level, net.high_level)}
    kept = {name: weights[name].detach().numpy().astype(np.float16) for name in NAMES}
    np.savez(FOLDER / RECURRING_FILE, drums=np.array(DRUM_KEYS), **kept)


def main() -> None:
    """Read the command line."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=["train", "ship"])
    parser.add_argument("--epochs", type=int, default=16)
    chosen = parser.parse_args()
    if chosen.what == "train":
        train(chosen.epochs)
    else:
        (ROOT / "src" / "bompla" / "analysis" / "hearing" / RECURRING_FILE).write_bytes((FOLDER / RECURRING_FILE).read_bytes())


if __name__ == "__main__":
    main()
