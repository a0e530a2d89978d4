"""How loud a strike is, by stretch of time and band: what kits are levelled by and rebuilt hits fitted with.

A strike's levels are kept as bytes, one for each of `STRETCHES_MS` by each band between `EDGES_HZ`, in half decibels above `LOWEST_DB`;
0 is where it is not known, because the next strike had begun. Levels of one sound compare with one another and with nothing else.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bompla.model.drums import BANDS_HZ, Band

STRETCHES_MS = ((0.0, 26.0), (26.0, 70.0), (70.0, 150.0))
EDGES_HZ = (0.0, 100.0, 160.0, 250.0, 400.0, 700.0, 1_100.0, 2_100.0, 3_200.0, 4_500.0, 7_000.0, 10_500.0, 30_000.0)
BAND_COUNT = len(EDGES_HZ) - 1
SIZE = len(STRETCHES_MS) * BAND_COUNT
LOWEST_DB = -60.0
_STEP_DB = 0.5

Power = NDArray[np.float64]


def encoded(power: Power) -> bytes:
    """Return energies of shape (stretches, bands), NaN where not known, as bytes."""
    level_db = 10.0 * np.log10(np.maximum(np.nan_to_num(power), 1e-12))
    steps = np.clip(np.round((level_db - LOWEST_DB) / _STEP_DB), 1, 255)
    return np.where(np.isnan(power), 0, steps).astype(np.uint8).tobytes()


def decoded(levels: bytes) -> Power:
    """Return energies of shape (stretches, bands), NaN where not known; all of them where there are no levels."""
    if len(levels) != SIZE:
        return np.full((len(STRETCHES_MS), BAND_COUNT), np.nan)
    steps = np.frombuffer(levels, np.uint8).astype(np.float64).reshape(len(STRETCHES_MS), BAND_COUNT)
    return np.where(steps == 0.0, np.nan, 10.0 ** ((steps * _STEP_DB + LOWEST_DB) / 10.0))


def level_db(levels: bytes, band: Band | None = None) -> float | None:
    """Return how loud a strike is in dB, in one band or in all, over what is known of its first 150 ms; None where nothing is known."""
    power = decoded(levels)
    if band is not None:
        low, high = BANDS_HZ[band]
        power = power[:, [low <= edge < high for edge in EDGES_HZ[:-1]]]
    total = float(np.nansum(power))
    return 10.0 * float(np.log10(total)) if total > 0.0 else None


def fall_db(levels: bytes) -> float | None:
    """Return how far a strike falls from its first stretch to the last that is known, for the same time; None for fewer than two."""
    power = decoded(levels)
    known = [n for n in range(len(STRETCHES_MS)) if not np.isnan(power[n]).all()]
    if len(known) < 2:
        return None
    first, last = (float(np.nansum(power[n])) / (STRETCHES_MS[n][1] - STRETCHES_MS[n][0]) for n in (known[0], known[-1]))
    return 10.0 * float(np.log10(first / last))
