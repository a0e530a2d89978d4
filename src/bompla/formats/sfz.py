"""SFZ: a text file that maps samples to notes and velocities, by the opcodes of its first version and `seq_*`, `off_mode`, `ampeg_*`."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field

FILTERS = {"low": "lpf_2p", "high": "hpf_2p", "band": "bpf_2p", "notch": "brf_2p"}
MOST_RESONANCE_DB = 40.0


@dataclass(frozen=True)
class Region:
    """One region: the file it plays, below the text file's folder, and its opcodes by name."""

    sample: str
    opcodes: dict[str, str] = field(default_factory=dict)


def sfz_text(title: str, regions: Iterable[Region], *, comment: str = "") -> str:
    """Return the text of an instrument; every region stands for itself."""
    lines = [f"// {_line(title)}", *([f"// {_line(comment)}"] if comment else [])]
    for region in regions:
        lines.append("")
        lines.append("<region>")
        lines.append(f"sample={_line(region.sample)}")
        lines += [f"{name}={value}" for name, value in region.opcodes.items()]
    return "\n".join(lines) + "\n"


def number(value: float) -> str:
    """Return a number as it is written: no more than four places, no exponent."""
    return f"{value:.4f}".rstrip("0").rstrip(".") if math.isfinite(value) else "0"


def resonance_db(quality: float) -> float:
    """Return the peak of a second-order filter over its flat part, in dB, for a quality of 0.7 and above; 0 below."""
    return max(0.0, min(MOST_RESONANCE_DB, 20.0 * math.log10(max(quality, 1e-3) * math.sqrt(2.0))))


def _line(words: str) -> str:
    return " ".join(words.split())
