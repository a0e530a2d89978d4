"""Train what hears attacks against one another: `python training/train_context.py gather|train|ship` (see training/README.md).

Needs PyTorch, which the application does not, and the hearing model as it ships: loops here are of
seeds that it did not learn from, so that it is as unsure of them as it will be of any.
"""

from __future__ import annotations

import argparse
import os
import time
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from pathlib import Path
from typing import Any, NamedTuple

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(name, "1")

import numpy as np  # noqa: E402

from bompla.analysis.hearing.attacks import find_attacks  # noqa: E402
from bompla.analysis.hearing.context import (  # noqa: E402
    AMONG,
    CONTEXT_FILE,
    FORCE_CHANGE,
    HEADS,
    LIKELIEST,
    ODDS_CHANGE,
    seen_at,
)
from bompla.analysis.hearing.drums import heard_alone, strengths_of  # noqa: E402
from bompla.analysis.hearing.network import load_model, run  # noqa: E402
from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, spectrum_of  # noqa: E402
from bompla.analysis.params import AnalysisParams  # noqa: E402
from bompla.audio.clip import Clip  # noqa: E402
from bompla.model.drums import DRUMS  # noqa: E402
from learner import Learner, average, dropout  # noqa: E402
from runs import (  # noqa: E402
    AFTER_RUNS,
    AMID_RUNS,
    ANEW_RUNS,
    BESIDE_RUNS,
    BOOKED_RUNS,
    BROUGHT_RUNS,
    CONTEXT_RUNS,
    FREED_RUNS,
    FURTHER_RUNS,
    OF_ALL_GROUPS,
    ONWARD_RUNS,
    RECURRING_RUNS,
    ROOT,
    RUN,
    RUNG_RUNS,
    WITH_MACHINES,
    LabelledLoop,
    Runs,
    Task,
    loop_of,
    tasks_of,
)

DRUM_KEYS = tuple(DRUMS)
FOLDER = Path(os.environ.get("BOMPLA_CORPUS", Path.home() / ".cache" / "bompla-corpus"))
CHECKS = {"check": (300_000, 200), "check clean": (305_000, 96), "check chance": (307_000, 96), "check ringing": (308_000, 96),
          "check untrimmed": (309_000, 96), "check repitched": (309_500, 96),
          "check treated": (309_700, 96), "check machine": (309_850, 96),
          "check straight": (310_000, 98), "check written": (310_100, 98),
          "check stretched": (310_200, 96), "check mixed": (310_300, 96)}
SHIPPED = "what ships"
SHIPPED_FILE = ROOT / "src" / "bompla" / "analysis" / "hearing" / CONTEXT_FILE
TURNS = 3
JOINED = 0.25
"""In how many steps loops are heard two and two, one after the other: a song has more than one kind of bars."""

BATCH, RATE, MATRIX_RATE = 24, 1e-3, 0.01


class Stage(NamedTuple):
    """The runs of a stage of learning, how fast it learns against the first, and how the stage that it goes on from is kept.

    One that goes on from what ships needs nothing of the stages before. In later ones loops are `joined` at times.
    """

    runs: Runs
    share: float
    start: str
    joined: bool = False


STAGES = {
    "first": Stage(CONTEXT_RUNS, 1.0, ""),
    "further": Stage(CONTEXT_RUNS + FURTHER_RUNS, 0.4, ".checkpoint.pt"),
    "after": Stage(CONTEXT_RUNS + FURTHER_RUNS + 2 * AFTER_RUNS, 0.4, ".further.checkpoint.pt"),
    "later": Stage(CONTEXT_RUNS + FURTHER_RUNS + AFTER_RUNS + 2 * RECURRING_RUNS, 0.4, ".after.checkpoint.pt"),
    "onward": Stage(ONWARD_RUNS, 0.3, SHIPPED, joined=True),
    "beside": Stage(ONWARD_RUNS + BESIDE_RUNS, 0.3, SHIPPED, joined=True),
    "anew": Stage(ONWARD_RUNS + BESIDE_RUNS + 2 * ANEW_RUNS, 0.4, SHIPPED, joined=True),
    "freed": Stage(BESIDE_RUNS + ANEW_RUNS + 2 * FREED_RUNS, 0.4, SHIPPED, joined=True),
    "rung": Stage(BESIDE_RUNS + ANEW_RUNS + FREED_RUNS + 2 * RUNG_RUNS, 0.3, SHIPPED, joined=True),
    "booked": Stage(AMID_RUNS + 2 * BOOKED_RUNS, 0.3, SHIPPED, joined=True),
    "brought": Stage(BROUGHT_RUNS, 0.3, SHIPPED, joined=True),
}


class Size(NamedTuple):
    """How wide a network is at first and then, what share of it is dropped while it learns, and the seed of all that is by chance."""

    inside: int
    width: int
    dropped: float
    seed: int


MEMBERS = (Size(320, 160, 0.15, 1), Size(320, 160, 0.2, 2))
"""Networks that are taught apart and heard as one."""

SAME_S, SAME_ATTACK_S = 0.025, 0.012
"""How near a hit belongs to an attack, and how near an attack is right."""


def example_of(task: Task) -> dict[str, np.ndarray]:
    """Return what is seen of the attacks of a loop and what is true of them; nothing where nothing is found."""
    return seen_in(loop_of(task), task.group)


def seen_in(loop: LabelledLoop, group: str) -> dict[str, np.ndarray]:
    """Return what is seen of the attacks of this loop, and what is true of them."""
    spectrum = spectrum_of(Clip(loop.samples, ANALYSIS_RATE))
    if spectrum is None:
        return {}
    model = load_model()
    activations = run(model, spectrum)
    samples = find_attacks(spectrum, activations, strengths_of(activations, model), AnalysisParams()).samples
    samples = samples[~counts_in(samples / ANALYSIS_RATE, loop)]
    if samples.size == 0:
        return {}
    alone = heard_alone(activations, model, samples)
    times_s = samples / ANALYSIS_RATE
    drums, force, attack = truths(times_s, loop.hits)
    return {
        "group": np.array(WITH_MACHINES.index(group)), "seen": seen_at(spectrum, activations.inner, samples, alone).astype(np.float16),
        "odds": alone.odds, "force": alone.force, "attack": alone.attack,
        "true_drums": drums, "true_force": force, "true_attack": attack,
        "times_s": times_s, "bars": np.array([loop.start_s, (loop.end_s - loop.start_s) / loop.groove.bars, loop.groove.bars]),
    }


def counts_in(times_s: np.ndarray, loop: LabelledLoop) -> np.ndarray:
    """Return which attacks may be a count before the loop: true of them is neither that they are attacks nor that they are none."""
    before = np.round((loop.start_s - times_s) * loop.groove.bpm / 60.0)
    on_beat = np.abs(loop.start_s - before * 60.0 / loop.groove.bpm - times_s) < SAME_S
    return np.asarray((before >= 1) & (before <= 4) & on_beat)


def truths(times_s: np.ndarray, hits: tuple[tuple[float, str, int], ...]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return which drums are struck at each attack and how hard, shapes (attacks, drums), and whether it is one."""
    drums, force = np.zeros((times_s.size, len(DRUM_KEYS)), np.float32), np.zeros((times_s.size, len(DRUM_KEYS)), np.float32)
    for at, drum, velocity in hits:
        nearest = int(np.abs(times_s - at).argmin())
        if abs(times_s[nearest] - at) < SAME_S:
            drums[nearest, DRUM_KEYS.index(drum)] = 1.0
            force[nearest, DRUM_KEYS.index(drum)] = max(force[nearest, DRUM_KEYS.index(drum)], velocity / 127.0)
    attack = np.zeros(times_s.size, np.float32)
    last = -1.0
    for at in sorted(t for t, _, _ in hits):
        if last >= 0.0 and at - last <= SAME_ATTACK_S:
            continue
        last = at
        free = [i for i in np.argsort(np.abs(times_s - at))[:2] if not attack[i] and abs(times_s[i] - at) < SAME_ATTACK_S]
        if free:
            attack[free[0]] = 1.0
    return drums, force, attack


def gather(name: str, first: int, count: int) -> None:
    """Make and keep the examples of a run of seeds, the groups of sounds in turn."""
    path = FOLDER / f"context {name} {first} {count}.npz"
    if path.exists():
        return
    with ProcessPoolExecutor() as pool:
        parts = [part for part in pool.map(example_of, tasks_of(name, first, count), chunksize=8) if part]
    np.savez(path, **{f"{key} {index}": value for index, part in enumerate(parts) for key, value in part.items()})
    print(f"{path.name}: {len(parts)} loops", flush=True)


def load(name: str, firsts: tuple[int, ...]) -> list[dict[str, np.ndarray]]:
    """Return the kept examples of the runs of this name that begin at these seeds."""
    examples: list[dict[str, np.ndarray]] = []
    for path in sorted(path for first in firsts for path in FOLDER.glob(f"context {name} {first} *.npz")):
        with np.load(path) as data:
            found: dict[str, dict[str, np.ndarray]] = {}
            for entry in data.files:
                key, _, index = entry.partition(" ")
                found.setdefault(index, {})[key] = data[entry]
            examples += found.values()
    return examples


def make_net(features: int, scale: np.ndarray, size: Size) -> Any:  # a PyTorch module, imported late
    """Return the network; `scale` is how much the odds of before count at first."""
    import torch
    from torch import nn

    inside, width, dropped, _ = size

    class Turn(nn.Module):
        def __init__(self) -> None:
            super().__init__()
            self.norm1, self.norm2 = nn.LayerNorm(width), nn.LayerNorm(width)
            self.asked, self.told = nn.Linear(width, 3 * width), nn.Linear(width, width)
            self.wide, self.narrow = nn.Linear(width, 2 * width), nn.Linear(2 * width, width)
            self.dropout = dropout(dropped)

        def forward(self, x: torch.Tensor, there: torch.Tensor) -> torch.Tensor:
            loops, count, _ = x.shape
            query, key, value = self.asked(self.norm1(x)).view(loops, count, 3, HEADS, width // HEADS).permute(2, 0, 3, 1, 4)
            fit = query @ key.transpose(-1, -2) / (width // HEADS) ** 0.5
            fit = fit.masked_fill(~there[:, None, None, :], -1e4).softmax(-1)
            x = x + self.dropout(self.told((fit @ value).transpose(1, 2).reshape(loops, count, width)))
            return x + self.dropout(self.narrow(torch.relu(self.wide(self.norm2(x)))))

    class Net(nn.Module):
        def __init__(self) -> None:
            super().__init__()
            self.first, self.second = nn.Linear(features, inside), nn.Linear(inside, width)
            self.turns = nn.ModuleList(Turn() for _ in range(TURNS))
            self.norm, self.out = nn.LayerNorm(width), nn.Linear(width, 2 * len(DRUM_KEYS) + 1)
            nn.init.zeros_(self.out.weight)
            nn.init.zeros_(self.out.bias)
            self.seen_dropout, self.dropout = dropout(dropped), dropout(dropped)
            self.register_buffer("mean", torch.zeros(features))
            self.register_buffer("spread", torch.ones(features))
            self.scale = nn.Parameter(torch.tensor(scale))

        def forward(self, seen, there, odds, force, attack):  # tensors
            x = self.seen_dropout((seen - self.mean) / self.spread)
            x = self.second(self.dropout(torch.relu(self.first(x))))
            for turn in self.turns:
                x = turn(x, there)
            out, drums = self.out(self.norm(x)), len(DRUM_KEYS)
            return (odds * self.scale + ODDS_CHANGE * out[..., :drums], force + FORCE_CHANGE * out[..., drums : 2 * drums],
                    attack + ODDS_CHANGE * out[..., 2 * drums])

    return Net()


def joined(one: dict[str, np.ndarray], other: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Return two loops as if one followed the other."""
    keys = ("seen", "odds", "force", "attack", "true_drums", "true_force", "true_attack")
    return {key: np.concatenate([one[key], other[key]]) for key in keys}


def batch_of(examples: list[dict[str, np.ndarray]], rng: np.random.Generator | None) -> list[Any]:
    """Return tensors of loops side by side; with `rng` some attacks are left out and long loops cut."""
    import torch

    kept = []
    for example in examples:
        index = np.arange(example["attack"].size)
        if rng is not None:
            fewer = index[rng.random(index.size) > rng.uniform(-0.5, 0.6)]  # half of the time all stay
            index = fewer if fewer.size > 1 else index
            start = int(rng.integers(0, max(1, index.size - AMONG)))
            index = index[start : start + AMONG]
        kept.append(index)
    longest = max(index.size for index in kept)

    def padded(key: str) -> np.ndarray:
        out = np.zeros((len(examples), longest, *examples[0][key].shape[1:]), np.float32)
        for row, (example, index) in enumerate(zip(examples, kept, strict=True)):
            out[row, : index.size] = example[key][index]
        return out

    there = np.zeros((len(examples), longest), bool)
    for row, index in enumerate(kept):
        there[row, : index.size] = True
    inputs = [padded("seen"), there, np.clip(padded("odds"), -LIKELIEST, LIKELIEST), padded("force"), padded("attack")]
    return [torch.tensor(a) for a in (*inputs, padded("true_drums"), padded("true_force"), padded("true_attack"))]


def batches_of(lengths: list[int], batch: int, rng: np.random.Generator) -> list[np.ndarray]:
    """Return whole batches of loops of about the same length, in any order: little of them is padding."""
    order = rng.permutation(len(lengths))
    pools = [order[start : start + 12 * batch] for start in range(0, len(order), 12 * batch)]
    ranked = np.concatenate([pool[np.argsort(np.array(lengths)[pool], kind="stable")] for pool in pools])
    batches = [ranked[start : start + batch] for start in range(0, len(ranked) - batch + 1, batch)]
    return [batches[i] for i in rng.permutation(len(batches))]


def loss_of(net: Any, tensors: list[Any]) -> Any:
    """Return the loss: cross entropy of drums and attacks, and how far off the force of drums that are there is."""
    from torch.nn.functional import binary_cross_entropy_with_logits as cross_entropy

    *inputs, drums, force, attack = tensors
    odds, forces, attacks = net(*inputs)
    there = inputs[1].float()
    heard = (cross_entropy(odds, drums * 0.99 + 0.003, reduction="none").sum(-1) * there).sum() / there.sum()
    hard = ((forces - force).abs() * drums).sum() / drums.sum().clamp(min=1.0)
    found = (cross_entropy(attacks, attack, reduction="none") * there).sum() / there.sum()
    return heard + 1.5 * hard + found


def train(epochs: int, target: Path, without: str, member: int, stage: Stage, kept: Path) -> None:
    """Train one of the networks in one of the stages, print how well loops for checking are heard, and write the weights."""
    import torch

    torch.set_num_threads(int(os.environ.get("TORCH_THREADS", "2")))
    size = MEMBERS[member]
    torch.manual_seed(size.seed)
    rng = np.random.default_rng(size.seed)
    runs = [run for run in stage.runs if not (without and run[0] in OF_ALL_GROUPS)]
    learn = [example for run in runs for example in load(*run)]
    checks = {name: load(name, (first,)) for name, (first, _) in CHECKS.items()}
    checks["check joined"] = [joined(one, other) for one, other in pairwise(checks["check"])]
    if without:
        learn = [example for example in learn if WITH_MACHINES[int(example["group"])] != without]
    print(f"{len(learn)} loops to learn from", flush=True)
    net = make_net(learn[0]["seen"].shape[1], np.ones(len(DRUM_KEYS), np.float32), size)
    everything = np.concatenate([example["seen"] for example in learn[::4]]).astype(np.float32)
    net.mean[:], net.spread[:] = torch.tensor(everything.mean(axis=0)), torch.tensor(everything.std(axis=0) + 0.05)
    steps = len(learn) // BATCH
    if stage.start == SHIPPED:
        take(net, SHIPPED_FILE, member)
    elif stage.start:
        known = torch.load(target.with_suffix(stage.start))["parts"][1]
        net.load_state_dict({name.removeprefix("module."): value for name, value in known.items() if name != "n_averaged"})
    rates = {"rate": stage.share * RATE, "matrix_rate": stage.share * MATRIX_RATE}
    learner = Learner(net, epochs * steps, **rates, decay=0.02, average=0.997, last="out")
    smooth = learner.smooth
    for epoch in range(learner.resumed(kept), epochs):
        began, total = time.monotonic(), 0.0
        net.train()
        for chosen in batches_of([e["attack"].size for e in learn], BATCH, rng):
            heard = [learn[i] for i in chosen]
            if stage.joined and rng.random() < JOINED:
                heard = [joined(one, heard[i]) for one, i in zip(heard, rng.permutation(len(heard)), strict=True)]
            total += learner.step(loss_of(net, batch_of(heard, rng)), 1.0)
        learner.keep(kept, epoch)
        smooth.eval()
        with torch.no_grad():
            said = {name: np.mean([float(loss_of(smooth.module, batch_of([e], None))) for e in part]) for name, part in checks.items()}
        print(f"epoch {epoch}: {total / steps:.4f}, {said}, {time.monotonic() - began:.0f} s", flush=True)
    export(smooth.module, target)


def export(net: Any, target: Path) -> None:
    """Write the weights, with what is seen brought to an even spread by the first of them."""
    arrays: dict[str, np.ndarray] = {"whole/scale": net.scale.detach().numpy()}

    def put(place: str, linear: Any) -> None:
        weight = linear.weight.detach().numpy()
        arrays[place] = (weight.T if weight.ndim == 2 else weight).astype(np.float16 if weight.ndim == 2 else np.float32)
        arrays[f"{place}_bias"] = linear.bias.detach().numpy().astype(np.float32)

    for end in ("first", "second", "norm", "out"):
        put(f"ends/{end}", getattr(net, end))
    even = (net.first.weight / net.spread[None, :]).detach().numpy().astype(np.float16)  # rounded before the mean is taken off by it
    arrays["ends/first"] = even.T
    arrays["ends/first_bias"] = (net.first.bias.detach().numpy() - even.astype(np.float32) @ net.mean.numpy()).astype(np.float32)
    for number, turn in enumerate(net.turns):
        for part in ("norm1", "asked", "told", "norm2", "wide", "narrow"):
            put(f"turn{number}/{part}", getattr(turn, part))
    np.savez(target, **arrays)
    print(f"wrote {target}", flush=True)


def take(net: Any, path: Path, member: int) -> None:
    """Give a network the weights of one of those that were joined in a file; what it sees goes on being spread evenly as it says itself."""
    import torch

    with np.load(path) as data:
        own = {name.partition("/")[2]: name for name in data.files if name.startswith(f"{member}/")}
        known = {place: torch.tensor(data[name].astype(np.float32)) for place, name in own.items()}
    places = {f"ends/{end}": getattr(net, end) for end in ("first", "second", "norm", "out")}
    places |= {f"turn{number}/{part}": getattr(turn, part) for number, turn in enumerate(net.turns)
               for part in ("norm1", "asked", "told", "norm2", "wide", "narrow")}
    with torch.no_grad():
        net.scale.copy_(known["whole/scale"])
        for place, layer in places.items():
            layer.weight.copy_(known[place].T if known[place].ndim == 2 else known[place])
            layer.bias.copy_(known[f"{place}_bias"])
        net.first.bias.add_(net.first.weight @ net.mean)
        net.first.weight.mul_(net.spread[None, :])


def join(paths: list[Path], target: Path) -> None:
    """Write the weights of several networks into one file."""
    arrays = {}
    for number, path in enumerate(paths):
        with np.load(path) as data:
            arrays |= {f"{number}/{name}": data[name] for name in data.files}
    np.savez(target, **arrays)


def main() -> None:
    """Read the command line."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=["gather", "train", "join", "ship"])
    parser.add_argument("--epochs", type=int, default=9)
    parser.add_argument("--member", type=int, default=0, choices=range(len(MEMBERS)), help="which of the networks to train")
    parser.add_argument("--stage", default="first", choices=STAGES, help="what to learn from, and what to go on from")
    parser.add_argument("--between", type=Path, help="ship the mean of the weights and of those that were joined in this file before")
    parser.add_argument("--share", type=float, default=0.5, help="how much of that mean is of the weights that were learned last")
    parser.add_argument("--without", default="", choices=["", *WITH_MACHINES], help="leave out a group of sounds")
    chosen = parser.parse_args()
    name = f"context{chosen.without and ' without '}{chosen.without}"
    if chosen.what == "gather":
        for kind, (first, count) in CHECKS.items():
            gather(kind, first, count)
        for kind, firsts in STAGES[chosen.stage].runs:  # kept run by run, so that it can go on after a break
            for first in firsts:
                gather(kind, first, RUN)
    elif chosen.what == "train":
        kept = "" if chosen.stage == "first" else f".{chosen.stage}"
        target = FOLDER / f"{name} {chosen.member}.npz"
        train(
            chosen.epochs, target, chosen.without, chosen.member, STAGES[chosen.stage], target.with_suffix(f"{kept}.checkpoint.pt")
        )
    else:
        target = FOLDER / f"{name}.npz" if chosen.what == "join" else SHIPPED_FILE
        join([FOLDER / f"{name} {number}.npz" for number in range(len(MEMBERS))], target)
        if chosen.between:
            average([chosen.between, target], target, (1.0 - chosen.share, chosen.share))


if __name__ == "__main__":
    main()
