"""Settings that are kept between sessions: a number that is none, or out of its range, counts as not kept."""

from __future__ import annotations

import math

from PyQt6.QtCore import QSettings


def kept_number(key: str, usual: float, low: float, high: float) -> float:
    """Return a number that was kept, or the usual one."""
    value = QSettings("bompla", "bompla").value(key, usual)
    try:
        number = float(value)
    except (TypeError, ValueError):
        return usual
    return number if math.isfinite(number) and low <= number <= high else usual


def kept_text(key: str) -> str:
    """Return a text that was kept, empty where there is none."""
    value = QSettings("bompla", "bompla").value(key, "")
    return value if isinstance(value, str) else ""
