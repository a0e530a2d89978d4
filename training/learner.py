"""How networks are trained here: the steps, their rates, and going on where a training stopped."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

MATRIX_DECAY, MOMENTUM = 0.02, 0.95
EVENING, ROUNDS = (3.4445, -4.7750, 2.0315), 5
"""The polynomial, and how often it is used, that brings all singular values of a matrix near to 1."""

RISING = 0.2
"""The share of the steps in which rates rise; then they fall."""


def muon(matrices: list[Any], rate: float) -> Any:
    """Return an optimiser that moves matrices as far in every direction (Jordan, "Muon", 2024); convolutions are seen as matrices.

    PyTorch's own works in half precision, which on a processor without it takes as long as all else of a step.
    """
    import torch

    class Muon(torch.optim.Optimizer):
        @torch.no_grad()
        def step(self) -> None:
            for group in self.param_groups:
                for weight in group["params"]:
                    kept = self.state[weight].setdefault("mean", torch.zeros_like(weight))
                    kept.lerp_(weight.grad, 1.0 - MOMENTUM)
                    move = evened(weight.grad.lerp(kept, MOMENTUM).flatten(1))
                    weight.mul_(1.0 - group["lr"] * MATRIX_DECAY)
                    weight.add_(move.view_as(weight), alpha=-group["lr"] * max(1.0, move.shape[0] / move.shape[1]) ** 0.5)

    return Muon(matrices, {"lr": rate})


def evened(matrix: Any) -> Any:
    """Return a matrix of the same directions with singular values near 1, by Newton and Schulz's iteration."""
    tall = matrix.shape[0] > matrix.shape[1]
    made = matrix.T if tall else matrix
    made = made / (made.norm() + 1e-7)
    first, second, third = EVENING
    for _ in range(ROUNDS):
        square = made @ made.T
        made = first * made + (second * square + third * square @ square) @ made
    return made.T if tall else made


def dropout(share: float) -> Any:
    """Return a layer that drops this share of its inputs, in 256ths; one random number draws for eight.

    PyTorch's own draws one for each, which on a processor takes a sixth of all time.
    """
    import torch

    least = round(256 * share)

    class Dropout(torch.nn.Module):
        def forward(self, x: torch.Tensor) -> torch.Tensor:
            if not self.training or least == 0:
                return x
            draws = torch.empty(-(-x.numel() // 8), dtype=torch.int64).random_(-(2**63), None).view(torch.uint8)
            return x * ((draws[: x.numel()] >= least).view_as(x) * (256.0 / (256.0 - least)))

    return Dropout()


class Learner:
    """Steps of one training, with the average of the weights on the way, `smooth`, which is what ships.

    Matrices go by Muon: the same loss on loops for checking in a quarter of the epochs that AdamW took. Vectors and the
    last layer, named `last`, go by AdamW.
    """

    def __init__(self, net: Any, total: int, *, rate: float, matrix_rate: float, decay: float, average: float, last: str) -> None:
        import torch

        self.net = net
        means = torch.optim.swa_utils.get_ema_multi_avg_fn(average)
        self.smooth = torch.optim.swa_utils.AveragedModel(net, multi_avg_fn=means, use_buffers=True)
        matrices = [weight for name, weight in net.named_parameters() if weight.ndim > 1 and not name.startswith(last)]
        rest = [weight for weight in net.parameters() if not any(weight is other for other in matrices)]
        self._optimisers = (torch.optim.AdamW(rest, rate, weight_decay=decay), muon(matrices, matrix_rate))
        self._schedules = tuple(
            torch.optim.lr_scheduler.OneCycleLR(optimiser, most, total_steps=total + 1, pct_start=RISING, cycle_momentum=index == 0)
            for index, (optimiser, most) in enumerate(zip(self._optimisers, (rate, matrix_rate), strict=True))
        )

    def step(self, loss: Any, most_slope: float) -> float:
        """Learn from a loss, its slope cut to `most_slope`, and return it as a number."""
        import torch

        self.net.zero_grad()
        loss.backward()
        torch.nn.utils.clip_grad_norm_(self.net.parameters(), most_slope)
        for part in (*self._optimisers, *self._schedules):
            part.step()
        self.smooth.update_parameters(self.net)
        return float(loss.detach())

    def resumed(self, path: Path) -> int:
        """Bring the training to where it was kept, if it was, and return the epoch to go on with."""
        import torch

        if not path.exists():
            return 0
        state = torch.load(path)
        for part, kept in zip(self._parts, state["parts"], strict=True):
            part.load_state_dict(kept)
        return int(state["epoch"]) + 1

    def keep(self, path: Path, epoch: int) -> None:
        """Keep the training as it is after an epoch."""
        import torch

        torch.save({"parts": [part.state_dict() for part in self._parts], "epoch": epoch}, path)

    @property
    def _parts(self) -> tuple[Any, ...]:
        return (self.net, self.smooth, *self._optimisers, *self._schedules)


def average(paths: list[Path], target: Path, shares: tuple[float, ...] = ()) -> None:
    """Write the mean of the weights of one network at several points of its learning (Izmailov et al., 2018; Wortsman et al., 2022).

    Each counts by its share, if they are told.
    """
    known = [dict(np.load(path)) for path in paths]
    for name, first in known[0].items():
        if first.dtype.kind == "f":
            made = np.average([weights[name].astype(np.float32) for weights in known], axis=0, weights=shares or None)
            known[0][name] = made.astype(first.dtype)
    np.savez(target, **known[0])
