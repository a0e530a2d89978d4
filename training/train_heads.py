"""Fit the last layers of what hears attacks together, all else as it is: `python training/train_heads.py [--runs R] [--share S]`.

What the two networks make of an attack last, side by side, is kept once for all loops to learn from; one linear layer reads it. So little
can be learned by heart that more kinds of loops bring only what they have in common: how hard hats of many styles are struck
was what this was made for (a linear probe on top of weights that stay: Kumar et al., 2022, on why those go less astray). What ships
is between the layers of before and those fitted. Needs PyTorch and the runs that are named.
"""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import Any, NamedTuple

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(name, "2")

import numpy as np  # noqa: E402

from bompla.analysis.hearing.context import AMONG, FORCE_CHANGE, ODDS_CHANGE  # noqa: E402
from runs import AMID_RUNS, BOOKED_RUNS, BROUGHT_RUNS  # noqa: E402
from train_context import (  # noqa: E402
    CHECKS,
    DRUM_KEYS,
    MEMBERS,
    SHIPPED_FILE,
    batch_of,
    load,
    make_net,
    take,
)

EPOCHS, BATCH, RATE, ASIDE = 4, 2048, 1e-3, 24
RUNS = {"booked": 2 * AMID_RUNS + BOOKED_RUNS, "brought": BROUGHT_RUNS}
CUT = ("seen", "odds", "force", "attack", "true_drums", "true_force", "true_attack")


class Kept(NamedTuple):
    """All attacks of some loops: what both networks make of each last, what they are added to, and what is true of them."""

    last: Any
    before: Any
    drums: Any
    force: Any
    attack: Any


def kept_of(nets: list[Any], examples: list[dict[str, np.ndarray]]) -> Kept:
    """Return what the networks make of the attacks of these loops."""
    import torch

    parts = []
    ranked = np.argsort([example["attack"].size for example in examples])
    for first in range(0, len(ranked), ASIDE):
        loops = [{key: examples[i][key][:AMONG] for key in CUT} for i in ranked[first : first + ASIDE]]
        parts.append(_made_of(nets, batch_of(loops, None)))
    return Kept(*(torch.cat(part) for part in zip(*parts, strict=True)))


def _made_of(nets: list[Any], tensors: list[Any]) -> Kept:
    import torch

    *inputs, drums, force, attack = tensors
    _, there, odds, forces, attacks = inputs
    last: list[Any] = []
    for net in nets:
        hook = net.norm.register_forward_hook(lambda _module, _given, made: last.append(made))
        with torch.no_grad():
            net(*inputs)
        hook.remove()
    scale = sum(net.scale.detach() for net in nets) / len(nets)
    before = torch.cat([odds * scale, forces, attacks[..., None]], -1)
    return Kept(torch.cat([made[there] for made in last], 1).half(), before[there], drums[there], force[there], attack[there])


def layer_of(nets: list[Any]) -> Any:
    """Return the last layers of the networks as one, with its bias in the last column: the mean of what they say."""
    import torch

    rows = torch.cat([*(net.out.weight for net in nets), sum(net.out.bias for net in nets)[:, None]], 1)
    return rows.detach() / len(nets)


def losses_of(layer: Any, kept: Kept) -> tuple[Any, Any, Any]:
    """Return the losses of drums, of force, and of attacks, as what hears attacks together learns by."""
    import torch
    from torch.nn.functional import binary_cross_entropy_with_logits as cross_entropy

    count = len(DRUM_KEYS)
    change = torch.tensor([ODDS_CHANGE] * count + [FORCE_CHANGE] * count + [ODDS_CHANGE])
    said = kept.before + change * (kept.last.float() @ layer[:, :-1].T + layer[:, -1])
    heard = cross_entropy(said[:, :count], kept.drums * 0.99 + 0.003, reduction="none").sum(1).mean()
    hard = ((said[:, count:-1] - kept.force).abs() * kept.drums).sum() / kept.drums.sum().clamp(min=1.0)
    return heard, hard, cross_entropy(said[:, -1], kept.attack)


def fitted(layer: Any, kept: Kept) -> Any:
    """Return a layer that goes on learning from these attacks."""
    import torch

    torch.manual_seed(1)
    weight = layer.clone().requires_grad_()
    steps = EPOCHS * (len(kept.last) // BATCH)
    optimiser = torch.optim.Adam([weight], RATE)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, RATE, total_steps=steps + 1)
    for _ in range(EPOCHS):
        order = torch.randperm(len(kept.last))
        for first in range(0, len(order) - BATCH + 1, BATCH):
            heard, hard, found = losses_of(weight, Kept(*(part[order[first : first + BATCH]] for part in kept)))
            optimiser.zero_grad()
            (heard + 1.5 * hard + found).backward()
            optimiser.step()
            schedule.step()
    return weight.detach()


def write(layer: np.ndarray, path: Path, target: Path) -> None:
    """Write the weights of a file with another last layer, as `layer_of` has it: to each network its own columns, and all the same bias."""
    with np.load(path) as data:
        arrays = {name: data[name] for name in data.files}
    first = 0
    for number in range(len(MEMBERS)):
        width = arrays[f"{number}/ends/out"].shape[0]
        arrays[f"{number}/ends/out"] = (len(MEMBERS) * layer[:, first : first + width]).T.astype(np.float16)
        arrays[f"{number}/ends/out_bias"] = layer[:, -1].astype(np.float32)
        first += width
    np.savez(target, **arrays)


def main() -> None:
    """Read the command line, fit, say what loops for checking lose at several shares, and write the weights at one of them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", default="booked", choices=RUNS, help="what to learn from")
    parser.add_argument("--share", type=float, default=0.5, help="how far to go from the layers of before to those fitted")
    parser.add_argument("--force-share", type=float, default=0.75, help="the same for how hard drums are struck")
    parser.add_argument("--start", type=Path, default=SHIPPED_FILE)
    parser.add_argument("--target", type=Path, default=SHIPPED_FILE)
    chosen = parser.parse_args()
    import torch

    learn = [example for run in RUNS[chosen.runs] for example in load(*run)]
    nets = [make_net(learn[0]["seen"].shape[1], np.ones(len(DRUM_KEYS), np.float32), size).eval() for size in MEMBERS]
    for member, net in enumerate(nets):
        take(net, chosen.start, member)
    kept = kept_of(nets, learn)
    checks = {name: kept_of(nets, examples) for name, (first, _) in CHECKS.items() if (examples := load(name, (first,)))}
    before = layer_of(nets)
    after = fitted(before, kept)
    shares = torch.full((len(before), 1), chosen.share)
    shares[len(DRUM_KEYS) : -1] = chosen.force_share
    ways = {"none": 0.0, "half": 0.5, "all": 1.0, "as chosen": shares}
    for name, share in ways.items():
        print(f"{name} of the way: " + ", ".join(_said(of, before + share * (after - before), its) for of, its in checks.items()))
    write((before + shares * (after - before)).numpy(), chosen.start, chosen.target)
    print(f"wrote {chosen.target.name}")


def _said(name: str, layer: Any, kept: Kept) -> str:
    heard, hard, found = (float(loss) for loss in losses_of(layer, kept))
    return f"{name} {heard + 1.5 * hard + found:.3f} ({127.0 * hard:.2f})"


if __name__ == "__main__":
    main()
