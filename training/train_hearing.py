"""Train the hearing model: `python training/train_hearing.py gather|train` (see training/README.md).

Needs PyTorch, which the application does not. Data come from `benchmarks/corpus`, by seed. Training
goes on from its checkpoint when it is started again with the same name.
"""

from __future__ import annotations

import argparse
import os
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from bompla.analysis.hearing.network import FLOOR_DB, MODEL_FILE, SPAN_DB, features_of
from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, BANDS_PER_OCTAVE, LOW_BINS, LOW_HOP, level_db, spectrum_of, stretch_of
from bompla.audio.clip import Clip
from bompla.model.drums import DRUMS
from learner import Learner, average, dropout
from runs import LEARNED, NETWORK_RUNS, ROOT, RUN, LabelledLoop, Task, loop_of, make_loop, tasks_of

DRUM_KEYS = tuple(DRUMS)
FOLDER = Path(os.environ.get("BOMPLA_CORPUS", Path.home() / ".cache" / "bompla-corpus"))
FIRST_SEED, MORE_SEED, PLAIN_SEED, AGAIN_SEED, CHECK_SEED, JUDGE_SEED = 100_000, 110_000, 120_000, 200_000, 300_000, 500_000
"""Loops to learn from, more of them, more with strikes as they are, others to go on from there, to stop and calibrate by, to judge with.

`benchmarks/hearing.py` uses the last.
"""

SHIPPED = "shipped"
PLAIN_EVERY, CHANCE_EVERY = 8, 5
"""One loop of so many has its strikes as they are; in the others they are made over. Of those to go on with one of so many is by chance."""

WIDTH, DILATIONS, TAPS = 128, (1, 2, 4, 8, 16), 5
BATCH, CROP, DROPPED = 12, 768, 0.08
MATRIX_RATE = 0.012
Example = tuple[np.ndarray, np.ndarray]
MERGE_S = 0.012
"""Onsets nearer than this are one attack."""


def example_of(task: tuple[int, str]) -> Example:
    """Return what is seen of a loop of this seed and group, and its hits."""
    seed, group = task
    chance = AGAIN_SEED <= seed < CHECK_SEED and seed % CHANCE_EVERY == 0
    return seen_in(make_loop(seed, (group,), varied=seed % PLAIN_EVERY != 0, chance=chance))


def run_example_of(task: Task) -> Example:
    """Return what is seen of a loop of a run, and its hits."""
    return seen_in(loop_of(task))


def seen_in(loop: LabelledLoop) -> Example:
    """Return features (frames, features) as half floats, and hits as rows of (frame, drum, velocity 0 to 1)."""
    spectrum = spectrum_of(Clip(loop.samples, ANALYSIS_RATE))
    if spectrum is None:
        return np.zeros((0, 0), np.float16), np.zeros((0, 3), np.float32)
    rows = [(time * ANALYSIS_RATE / LOW_HOP, DRUM_KEYS.index(drum), velocity / 127.0) for time, drum, velocity in loop.hits]
    frames = np.arange(spectrum.low.shape[0])
    seen = features_of(spectrum, frames, spectrum.loud_db_at(2 * frames)[:, None])
    return seen.astype(np.float16), np.array(rows, np.float32).reshape(-1, 3)


def gather(group: str, first: int, count: int) -> None:
    """Make and keep the examples of a group of sounds; from `PLAIN_SEED` on all have their strikes as they are."""
    path = FOLDER / f"examples {group} {first} {count}.npz"
    if path.exists():
        return
    every = PLAIN_EVERY if first == PLAIN_SEED else 1
    own = first + 1_000 * LEARNED.index(group) if first == AGAIN_SEED else first  # those have grooves of their own for each group
    with ProcessPoolExecutor() as pool:
        write(path, list(pool.map(example_of, [(own + n * every, group) for n in range(count)], chunksize=8)))


def gather_runs(which: str) -> None:
    """Make and keep the examples of these of the runs of loops that are the network's."""
    for name, firsts in NETWORK_RUNS[which]:
        for first in firsts:
            path = FOLDER / f"examples run {first} {RUN}.npz"
            if not path.exists():
                with ProcessPoolExecutor() as pool:
                    write(path, list(pool.map(run_example_of, tasks_of(name, first, RUN), chunksize=8)))


def write(path: Path, parts: list[Example]) -> None:
    """Keep examples in a file."""
    arrays = {}
    for index, (features, hits) in enumerate(parts):
        if features.size:
            arrays[f"x{index}"], arrays[f"h{index}"] = features, hits
    np.savez(path, **arrays)
    print(f"{path.name}: {len(arrays) // 2} loops", flush=True)


def load(groups: tuple[str, ...], *firsts: int) -> list[Example]:
    """Return the kept examples of groups that begin at these seeds."""
    examples: list[Example] = []
    for group in groups:
        for path in sorted(path for first in firsts for path in FOLDER.glob(f"examples {group} {first} *.npz")):
            with np.load(path) as data:
                examples += [(data[f"x{i}"], data[f"h{i}"]) for i in range(len(data.files) // 2 + 1) if f"x{i}" in data.files]
    return examples


def sounding_in(features: np.ndarray) -> np.ndarray:
    """Return 1 for each frame that belongs to what sounds, shape (frames,): only that tells what a loop is like."""
    bands = (features.shape[1] - LOW_BINS) // 2
    levels_db = (features[:, :bands].astype(np.float32) + 1.0) * SPAN_DB + FLOOR_DB
    sounding = stretch_of(level_db((10.0 ** (levels_db / 10.0)).sum(axis=1).repeat(2)), 0, -np.inf).sounding[::2]
    return np.asarray(sounding, np.float32)


def targets_of(frames: int, hits: np.ndarray) -> tuple[np.ndarray, ...]:
    """Return attack (frames,), offset and its mask, drums and velocities (frames, drums)."""
    attack, offset, mask = np.zeros(frames, np.float32), np.zeros(frames, np.float32), np.zeros(frames, np.float32)
    drums, velocity = np.zeros((frames, len(DRUM_KEYS)), np.float32), np.zeros((frames, len(DRUM_KEYS)), np.float32)
    firsts: list[float] = []
    for at in sorted(hits[:, 0]):
        if not firsts or at - firsts[-1] > MERGE_S * ANALYSIS_RATE / LOW_HOP:
            firsts.append(float(at))
    for at in firsts:
        for frame in range(int(np.floor(at)) - 1, int(np.floor(at)) + 3):
            if 0 <= frame < frames:
                closeness = max(0.0, 1.0 - 0.5 * max(0.0, abs(frame - at) - 0.5))
                if closeness > attack[frame]:
                    attack[frame] = closeness
                    offset[frame], mask[frame] = at - frame, 1.0
    for at, drum, force in hits:
        for frame in range(int(np.floor(at)) - 1, int(np.floor(at)) + 3):
            if 0 <= frame < frames:
                closeness = max(0.0, 1.0 - 0.5 * max(0.0, abs(frame - at) - 0.5))
                if closeness >= drums[frame, int(drum)]:
                    drums[frame, int(drum)] = closeness
                    velocity[frame, int(drum)] = force
    return attack, offset, mask, drums, velocity


def make_net(inputs: int):  # a PyTorch module, imported late
    """Return the network, with batch normalisation that is folded in when it is exported."""
    import torch
    from torch import nn

    class Net(nn.Module):
        def __init__(self) -> None:
            super().__init__()
            self.first = nn.Conv1d(inputs, WIDTH, 3, padding=1)
            self.first_norm = nn.BatchNorm1d(WIDTH)
            self.blocks = nn.ModuleList(nn.Conv1d(WIDTH, WIDTH, TAPS, padding=d * (TAPS // 2), dilation=d) for d in DILATIONS)
            self.norms = nn.ModuleList(nn.BatchNorm1d(WIDTH) for _ in DILATIONS)
            self.wholes = nn.ModuleList(nn.Linear(2 * WIDTH, WIDTH) for _ in DILATIONS)
            for whole in self.wholes:
                nn.init.zeros_(whole.weight)
                nn.init.zeros_(whole.bias)
            self.dropout = dropout(DROPPED)
            self.head = nn.Conv1d(WIDTH, 2 + 2 * len(DRUM_KEYS), 1)

        def forward(self, x: torch.Tensor, sounding: torch.Tensor) -> torch.Tensor:
            share = (sounding / sounding.sum(dim=1, keepdim=True))[:, :, None]
            x = torch.relu(self.first_norm(self.first(x)))
            for block, norm, whole in zip(self.blocks, self.norms, self.wholes, strict=True):
                # What the whole loop is like, as far as it sounds: its kit, its room, how loud its drums are.
                mean = (x @ share)[:, :, 0]
                like = torch.cat([mean, ((x.square() @ share)[:, :, 0] - mean.square()).clamp(min=0.0).add(1e-5).sqrt()], dim=1)
                x = x + torch.relu(norm(block(self.dropout(x))) + whole(like)[:, :, None])
            return self.head(x)

    return Net()


def train(name: str, groups: tuple[str, ...], epochs: int, minutes: float, start: str = "", *, runs: str = "", slower: float = 1.0) -> None:
    """Train on groups, keep a checkpoint after each epoch, and write `FOLDER/name.npz`.

    With `start`, the name of an earlier training or `SHIPPED`, go on from what it learned at a lower rate, `slower` times
    as low again, on `runs` if they are named.
    """
    import time

    import torch

    torch.set_num_threads(int(os.environ.get("TORCH_THREADS", "2")))
    torch.manual_seed(7)
    rng = np.random.default_rng(7)
    firsts = (AGAIN_SEED,) if start == SHIPPED else (MORE_SEED, PLAIN_SEED) if start else (FIRST_SEED, MORE_SEED)
    train_set = load(("run",), *(first for _, some in NETWORK_RUNS[runs] for first in some)) if runs else load(groups, *firsts)
    check_set = load(groups, CHECK_SEED)
    print(f"{name}: {len(train_set)} loops to learn from, {len(check_set)} to check", flush=True)
    prepared = [(x, sounding_in(x), targets_of(x.shape[0], h)) for x, h in train_set]
    checks = [(x, sounding_in(x), targets_of(x.shape[0], h)) for x, h in check_set]
    net = make_net(train_set[0][0].shape[1])
    if start == SHIPPED:
        take_shipped(net, [x for x, _, _ in prepared[:: max(1, len(prepared) // 64)]])
    elif start:
        learned = torch.load(FOLDER / f"{start}.checkpoint.pt")
        smooth = torch.optim.swa_utils.AveragedModel(net)
        smooth.load_state_dict(learned["parts"][1])
        net.load_state_dict(smooth.module.state_dict())
    weights = np.array([max(1, x.shape[0] // CROP) for x, _, _ in prepared], float)
    steps = max(1, int(weights.sum()) // BATCH)
    rate, matrix_rate = (1e-3 if start else 3e-3) / slower, MATRIX_RATE / slower
    learner = Learner(net, epochs * steps, rate=rate, matrix_rate=matrix_rate, decay=3e-3, average=0.998, last="head")
    kept = FOLDER / f"{name}.checkpoint.pt"
    began = time.monotonic()
    for epoch in range(learner.resumed(kept), epochs):
        net.train()
        total = 0.0
        for _ in range(steps):
            chosen = rng.choice(len(prepared), BATCH, p=weights / weights.sum())
            x, sounding, wanted = _batch([prepared[i] for i in chosen], CROP, rng)
            total += learner.step(_loss(net(x, sounding), *wanted), 2.0)
        learner.keep(kept, epoch)
        print(f"{name} epoch {epoch}: {total / steps:.4f}, check {_check(learner.smooth.module, checks):.4f}, "
              f"{time.monotonic() - began:.0f} s", flush=True)
        if time.monotonic() - began > 60.0 * minutes:
            break
    _export(learner.smooth.module, checks, check_set, FOLDER / f"{name}.npz")


def take_shipped(net, sounds: list[np.ndarray]) -> None:
    """Give a network the weights that ship, its normalisation that of these sounds, so that it goes on as the same function."""
    import torch

    with np.load(ROOT / "src" / "bompla" / "analysis" / "hearing" / MODEL_FILE) as data:
        known = {name: torch.tensor(data[name].astype(np.float32)) for name in data.files if data[name].dtype.kind == "f"}
    layers = [("first_{}", net.first, net.first_norm)]
    layers += [(f"block_{{}}{i}", conv, norm) for i, (conv, norm) in enumerate(zip(net.blocks, net.norms, strict=True))]
    made: dict[int, list[torch.Tensor]] = {index: [] for index in range(len(layers))}
    hooks = []
    with torch.no_grad():
        for index, (name, conv, norm) in enumerate(layers):
            conv.weight.copy_(known[name.format("weight")].permute(2, 1, 0))
            conv.bias.copy_(known[name.format("bias")])
            norm.running_var.fill_(1.0 - norm.eps)
            hooks.append(conv.register_forward_hook(lambda _conv, _in, out, index=index: made[index].append(out[0])))
        for i, whole in enumerate(net.wholes):
            whole.weight.copy_(known[f"whole_weight{i}"].T)
            whole.bias.copy_(known[f"whole_bias{i}"])
        net.head.weight.copy_(known["head_weight"].permute(2, 1, 0))
        net.head.bias.copy_(known["head_bias"])
        net.eval()
        for x in sounds:
            net(torch.tensor(x.astype(np.float32)).T[None], torch.ones(1, x.shape[0]))
        for index, (_, _, norm) in enumerate(layers):
            hooks[index].remove()
            outs = torch.cat(made[index], dim=1)
            norm.running_mean.copy_(outs.mean(dim=1))
            norm.running_var.copy_(outs.var(dim=1))
            norm.bias.copy_(norm.running_mean)
            norm.weight.copy_(torch.sqrt(norm.running_var + norm.eps))


def _batch(items: list, crop: int, rng: np.random.Generator):  # tensors
    import torch

    xs, soundings, groups = [], [], [[] for _ in range(5)]
    for x, sounding, targets in items:
        # A loop goes round, and so does its crop.
        index = (int(rng.integers(0, x.shape[0])) + np.arange(crop)) % x.shape[0]
        part = x[index].astype(np.float32)
        xs.append(_varied(part, rng))
        soundings.append(sounding[index] if sounding[index].any() else np.ones(crop, np.float32))
        for group, target in zip(groups, targets, strict=True):
            group.append(target[index])
    x = torch.tensor(np.stack(xs)).transpose(1, 2)
    return x, torch.tensor(np.stack(soundings)), [torch.tensor(np.stack(group)) for group in groups]


def _varied(x: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Tilt, bend and shift the spectrum, move its level and raise its floor, as other rooms, desks and tape speeds would."""
    bands = (x.shape[1] - LOW_BINS) // 2
    curve = np.interp(np.arange(bands), np.linspace(0, bands - 1, 6), rng.normal(0.0, 0.07, 6))
    low = np.interp(np.linspace(0, bands * 0.38, LOW_BINS), np.arange(bands), curve)
    x = x + np.concatenate([curve, curve, low]).astype(np.float32) + np.float32(rng.normal(0.0, 0.05))
    if rng.random() < 0.5:
        octaves = float(rng.uniform(-0.25, 0.25))
        places = np.clip(np.arange(bands) + octaves * BANDS_PER_OCTAVE, 0, bands - 1)
        lows = np.clip((np.arange(LOW_BINS) + 1) * 2.0**octaves - 1, 0, LOW_BINS - 1)
        x = np.concatenate([_moved(x[:, :bands], places), _moved(x[:, bands : 2 * bands], places), _moved(x[:, 2 * bands :], lows)], axis=1)
    if rng.random() < 0.3:
        x = np.maximum(x, np.float32(rng.uniform(-1.0, -0.35)))
    return x.clip(-1.0, 1.2)


def _moved(x: np.ndarray, places: np.ndarray) -> np.ndarray:
    below = np.minimum(places.astype(int), x.shape[1] - 2)
    share = (places - below).astype(np.float32)
    return x[:, below] * (1.0 - share) + x[:, below + 1] * share


def _loss(out, attack, offset, mask, drums, velocity):  # tensors
    import torch
    from torch.nn import functional

    out = out.transpose(1, 2)
    count = len(DRUM_KEYS)
    hit = functional.binary_cross_entropy_with_logits(out[..., 0], attack)
    when = (mask * (out[..., 1] - offset).abs()).sum() / mask.sum().clamp(min=1.0)
    weight = torch.where(attack > 0.0, 1.0, 0.08)
    heard = functional.binary_cross_entropy_with_logits(out[..., 2 : 2 + count], drums, reduction="none").sum(dim=-1)
    heard = (weight * heard).sum() / weight.sum()
    strong = (drums > 0.9).float()
    force = (strong * (out[..., 2 + count :] - velocity).abs()).sum() / strong.sum().clamp(min=1.0)
    return 8.0 * hit + 0.1 * when + heard + 0.7 * force


def _made_of(net, x: np.ndarray, sounding: np.ndarray):  # a tensor
    import torch

    return net(torch.tensor(x.astype(np.float32)).T[None], torch.tensor(sounding)[None])


def _check(net, checks: list) -> float:
    import torch

    net.eval()
    with torch.no_grad():
        losses = [
            float(_loss(_made_of(net, x, sounding), *(torch.tensor(t)[None] for t in targets)))
            for x, sounding, targets in checks
        ]
    return float(np.mean(losses))


def _export(net, checks: list, check_set: list, path: Path) -> None:
    """Fold the normalisation into the convolutions, calibrate the confidences, and write the weights."""
    import torch

    net.eval()
    arrays: dict[str, np.ndarray] = {"drums": np.array(DRUM_KEYS), "dilations": np.array(DILATIONS)}
    for i, whole in enumerate(net.wholes):
        arrays[f"whole_weight{i}"] = whole.weight.detach().T.numpy().astype(np.float16)
        arrays[f"whole_bias{i}"] = whole.bias.detach().numpy()
    pairs = [("first", net.first, net.first_norm)]
    pairs += [(f"block{i}", b, n) for i, (b, n) in enumerate(zip(net.blocks, net.norms, strict=True))]
    with torch.no_grad():
        for name, conv, norm in pairs:
            scale = norm.weight / torch.sqrt(norm.running_var + norm.eps)
            weight = (conv.weight * scale[:, None, None]).permute(2, 1, 0).numpy()
            bias = ((conv.bias - norm.running_mean) * scale + norm.bias).numpy()
            stem = name if name == "first" else "block"
            tail = "" if name == "first" else name[5:]
            arrays[f"{stem}_weight{tail}"], arrays[f"{stem}_bias{tail}"] = weight.astype(np.float16), bias.astype(np.float32)
        arrays["head_weight"] = net.head.weight.permute(2, 1, 0).numpy().astype(np.float16)
        arrays["head_bias"] = net.head.bias.numpy()
        logits, truths = [], []
        for (x, sounding, _), (_, hits) in zip(checks, check_set, strict=True):
            out = _made_of(net, x, sounding)[0].T.numpy()
            for at in sorted({round(float(f), 2) for f in hits[:, 0]}):
                frame = int(np.clip(round(at), 1, len(out) - 2))
                logits.append(out[frame - 1 : frame + 2, 2 : 2 + len(DRUM_KEYS)].max(axis=0))
                near = hits[np.abs(hits[:, 0] - at) < 0.022 * ANALYSIS_RATE / LOW_HOP]
                truths.append(np.isin(np.arange(len(DRUM_KEYS)), near[:, 1].astype(int)))
    arrays["slope"], arrays["shift"] = calibrated(np.array(logits), np.array(truths))
    arrays["threshold"] = np.array(0.35)
    np.savez(path, **arrays)
    print(f"wrote {path}", flush=True)


def calibrated(logits: np.ndarray, truths: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return slope and shift for each drum by logistic regression of truth on log odds (Platt, 1999)."""
    from scipy.optimize import minimize

    slopes, shifts = np.ones(logits.shape[1], np.float32), np.zeros(logits.shape[1], np.float32)
    for drum in range(logits.shape[1]):
        x, y = logits[:, drum].astype(float), truths[:, drum].astype(float)
        if y.sum() < 30:
            continue

        def loss(p: np.ndarray, x: np.ndarray = x, y: np.ndarray = y) -> float:
            z = p[0] * x + p[1]
            return float(np.mean(np.logaddexp(0.0, z) - y * z) + 1e-3 * (p[0] - 1.0) ** 2)

        slopes[drum], shifts[drum] = minimize(loss, np.array([1.0, 0.0]), method="Nelder-Mead").x
    return slopes, shifts


def main() -> None:
    """Read the command line."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=["gather", "train", "ship"])
    parser.add_argument("--groups", default=",".join(LEARNED))
    parser.add_argument("--loops", type=int, default=300, help="loops to learn from, for each group")
    parser.add_argument("--epochs", type=int, default=20)
    parser.add_argument("--minutes", type=float, default=60.0, help="stop after so long")
    parser.add_argument("--name", default="all")
    parser.add_argument("--start", default="", help=f"go on from what this training learned, or from what ships: {SHIPPED}")
    parser.add_argument("--slower", type=float, default=1.0, help="how many times more slowly to learn")
    parser.add_argument("--share", type=float, default=1.0, help="how far to go, from the weights that ship to those that were learned")
    parser.add_argument("--plain", action="store_true", help="gather loops whose strikes are as they are, to end with")
    parser.add_argument("--more", action="store_true", help="gather loops to go on with")
    parser.add_argument("--checks", action="store_true", help="gather only the loops to stop and to calibrate by: an eighth as many")
    parser.add_argument("--again", action="store_true", help="gather or use loops to go on with from the model that ships")
    parser.add_argument("--runs", default="", choices=["", *NETWORK_RUNS], help="gather or use runs of loops to go on with, after those")
    chosen = parser.parse_args()
    groups = tuple(chosen.groups.split(","))
    if chosen.what == "gather" and chosen.runs:
        gather_runs(chosen.runs)
    elif chosen.what == "gather":
        for group in groups:
            if not (chosen.more or chosen.plain):
                gather(group, CHECK_SEED, max(12, chosen.loops // 8))
            if chosen.checks:
                continue
            first = AGAIN_SEED if chosen.again else PLAIN_SEED if chosen.plain else MORE_SEED if chosen.more else FIRST_SEED
            gather(group, first, chosen.loops)
    elif chosen.what == "train":
        train(chosen.name, groups, chosen.epochs, chosen.minutes, chosen.start, runs=chosen.runs, slower=chosen.slower)
    else:
        target, made = ROOT / "src" / "bompla" / "analysis" / "hearing" / MODEL_FILE, FOLDER / f"{chosen.name}.npz"
        if chosen.share < 1.0:
            average([target, made], target, (1.0 - chosen.share, chosen.share))
        else:
            target.write_bytes(made.read_bytes())


if __name__ == "__main__":
    main()
