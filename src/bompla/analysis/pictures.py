"""What is drawn beside a waveform: attack strength, and the levels of low, mid and high sound."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, eq=False)
class Pictures:
    """Attack strength, shape (points,), and levels of low, mid and high, shape (3, points), from 0 to 1; their steps are in seconds."""

    curve: NDArray[np.float32]
    curve_step_s: float
    bands: NDArray[np.float32]
    bands_step_s: float
