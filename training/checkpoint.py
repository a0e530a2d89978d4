"""Training that goes on where it stopped."""

from __future__ import annotations

from pathlib import Path
from typing import Any


def resumed(path: Path, parts: dict[str, Any]) -> int:
    """Bring the parts of a training to where they were kept, if they were, and return the epoch to go on with."""
    import torch

    if not path.exists():
        return 0
    state = torch.load(path)
    for name, part in parts.items():
        part.load_state_dict(state[name])
    return int(state["epoch"]) + 1


def keep(path: Path, parts: dict[str, Any], epoch: int) -> None:
    """Keep the parts of a training after an epoch."""
    import torch

    torch.save({name: part.state_dict() for name, part in parts.items()} | {"epoch": epoch}, path)
