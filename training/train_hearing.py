"""Train the hearing model: `python training/train_hearing.py [--loops N]` writes hearing.npz.

Needs PyTorch, which the application does not. Data: loops drawn by seed from `grooves.py`
on kits drawn over the whole range of the drum synthesis, with random level, band limit, noise
and drive. Seeds from 100000 train and from 200000 validate; the demo set uses neither.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from bompla.analysis.attacks import attack_curve, find_attacks
from bompla.analysis.hearing import MODEL_FILE, features_at
from bompla.analysis.params import AnalysisParams
from bompla.analysis.spectrum import ANALYSIS_RATE, spectrum_of
from bompla.audio.clip import Clip
from bompla.demo.make import render_groove, truth_of
from bompla.model.drums import DRUMS
from grooves import draw_groove

DRUM_KEYS = tuple(DRUMS)
NEAR_S = 0.022
TRAIN_SEED, CHECK_SEED = 100_000, 200_000
TARGET = Path(__file__).parents[1] / "src" / "bompla" / "analysis" / MODEL_FILE


def damaged(samples: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Return the sound as other recordings would have it: driven, band-limited, noisy."""
    sound = samples.mean(axis=1)
    if rng.random() < 0.4:
        drive = rng.uniform(1.0, 5.0)
        sound = np.tanh(drive * sound) / np.tanh(drive)
    if rng.random() < 0.6:
        spectrum = np.fft.rfft(sound)
        hz = np.fft.rfftfreq(sound.size, 1.0 / ANALYSIS_RATE)
        tilt_db = rng.uniform(-4.0, 4.0) * np.log2(np.maximum(hz, 40.0) / 1000.0)
        cut = 1.0 / (1.0 + (hz / rng.uniform(7_000.0, 20_000.0)) ** 6)
        sound = np.fft.irfft(spectrum * 10.0 ** (tilt_db / 20.0) * cut, sound.size)
    if rng.random() < 0.5:
        sound = sound + 10.0 ** rng.uniform(-4.5, -2.3) * rng.standard_normal(sound.size)
    return (sound / np.abs(sound).max()).astype(np.float32)


def examples_of(seed: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return features, drums present and velocities (0 to 1) of one drawn loop's attacks."""
    groove = draw_groove(seed)
    truth = truth_of(groove)
    clip = render_groove(groove, width=1.0)
    rng = np.random.default_rng(seed + 7)
    spectrum = spectrum_of(Clip(damaged(clip.samples, rng), clip.sample_rate))
    found = find_attacks(spectrum, attack_curve(spectrum), AnalysisParams())
    samples = found.samples
    near = np.zeros((samples.size, len(DRUM_KEYS)), dtype=np.float32)
    force = np.zeros_like(near)
    for hit in truth["hits"]:
        distance = np.abs(samples / ANALYSIS_RATE - hit["time_s"])
        if distance.size and distance.min() <= NEAR_S:
            drum = DRUM_KEYS.index(hit["drum"])
            near[distance.argmin(), drum] = 1.0
            force[distance.argmin(), drum] = max(force[distance.argmin(), drum], hit["velocity"] / 127.0)
    return features_at(spectrum, samples), near, force


def gather(first_seed: int, count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the examples of many loops, made on all cores."""
    with ProcessPoolExecutor() as pool:
        parts = list(pool.map(examples_of, range(first_seed, first_seed + count), chunksize=4))
    features, near, force = (np.concatenate(group) for group in zip(*parts, strict=True))
    return features, near, force


def train(train_set: tuple[np.ndarray, ...], check_set: tuple[np.ndarray, ...], epochs: int) -> dict[str, np.ndarray]:
    """Return the weights with the least loss on the check set."""
    import torch

    torch.manual_seed(1)
    mean, scale = train_set[0].mean(axis=0), train_set[0].std(axis=0) + 1.0
    x, y, v = (torch.tensor(part) for part in ((train_set[0] - mean) / scale, *train_set[1:]))
    cx, cy, cv = (torch.tensor(part) for part in ((check_set[0] - mean) / scale, *check_set[1:]))
    count = len(DRUM_KEYS)
    net = torch.nn.Sequential(
        torch.nn.Linear(x.shape[1], 192), torch.nn.ReLU(), torch.nn.Dropout(0.3),
        torch.nn.Linear(192, 96), torch.nn.ReLU(), torch.nn.Dropout(0.2),
        torch.nn.Linear(96, 2 * count),
    )
    optimiser = torch.optim.AdamW(net.parameters(), lr=2e-3, weight_decay=3e-3)
    schedule = torch.optim.lr_scheduler.CosineAnnealingLR(optimiser, epochs)

    def loss_of(out: torch.Tensor, near: torch.Tensor, force: torch.Tensor) -> torch.Tensor:
        heard = torch.nn.functional.binary_cross_entropy_with_logits(out[:, :count], near)
        return heard + 2.0 * (near * (out[:, count:] - force) ** 2).sum() / near.sum()

    best, kept = np.inf, None
    for epoch in range(epochs):
        net.train()
        for batch in torch.randperm(x.shape[0]).split(256):
            noise = torch.randn(batch.numel(), x.shape[1]) * 0.08 + torch.randn(batch.numel(), 1) * 0.05
            optimiser.zero_grad()
            loss_of(net(x[batch] + noise), y[batch], v[batch]).backward()
            optimiser.step()
        schedule.step()
        net.eval()
        with torch.no_grad():
            loss = float(loss_of(net(cx), cy, cv))
        if loss < best:
            best = loss
            kept = [p.detach().numpy().copy() for p in net.parameters()]
        if epoch % 10 == 0:
            print(f"epoch {epoch}: {loss:.4f}, best {best:.4f}", flush=True)
    arrays = {"drums": np.array(DRUM_KEYS), "mean": mean.astype(np.float32), "scale": scale.astype(np.float32)}
    for index in range(len(kept) // 2):
        arrays[f"weight{index}"] = np.ascontiguousarray(kept[2 * index].T)
        arrays[f"bias{index}"] = kept[2 * index + 1]
    return arrays


def main() -> None:
    """Gather, train and write the model."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--loops", type=int, default=600)
    parser.add_argument("--epochs", type=int, default=60)
    chosen = parser.parse_args()
    check_set = gather(CHECK_SEED, max(20, chosen.loops // 8))
    train_set = gather(TRAIN_SEED, chosen.loops)
    print(f"{train_set[0].shape[0]} attacks to train on, {check_set[0].shape[0]} to check", flush=True)
    np.savez(TARGET, **train(train_set, check_set, chosen.epochs))
    print(f"wrote {TARGET.name}")


if __name__ == "__main__":
    main()
