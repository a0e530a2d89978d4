"""Numbers that can be chosen: key, range, default and words of each stand once, and checks, bars, files and documents derive from it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Param:
    """A number that can be chosen: its key, name, unit, range, default, and what it does.

    `by_ratio` steps by ratio, not by sum; `step` is the raster it is chosen on, 0 for none; `names` are words for the whole numbers
    from `low` on, where each stands for something.
    """

    key: str
    label: str
    unit: str
    low: float
    high: float
    help: str
    default: float = 0.0
    by_ratio: bool = False
    step: float = 0.0
    names: tuple[str, ...] = ()

    def clamped(self, value: float) -> float:
        """Return a value in the range, rounded to four places."""
        return round(max(self.low, min(self.high, float(value))), 4)

    def stepped(self, value: float) -> float:
        """Return a value in the range, and on the raster where there is one."""
        if self.step:
            value = round(value / self.step) * self.step
        return max(self.low, min(self.high, value))

    def in_words(self, value: float) -> str:
        """Return a value as a person reads it, with its unit."""
        if self.names:
            return self.names[round(value - self.low)]
        if self.key == "pan":
            return "centre" if abs(value) < 0.01 else f"{abs(100 * value):.0f} % {'left' if value < 0 else 'right'}"
        if self.unit == "Hz":
            return f"{value / 1000.0:.1f} kHz" if value >= 1000.0 else f"{value:.0f} Hz"
        if self.unit == "st":
            return f"{value:+.2f} st" if value % 1 else f"{value:+.0f} st"
        if self.unit == "ms":
            return f"{value:+.0f} ms" if self.low < 0.0 else f"{value:.0f} ms"
        if self.unit == "share":
            return f"{100.0 * value:.0f} %"
        if self.unit in _FORMS:
            return _FORMS[self.unit].format(value)
        return f"{value:.{0 if self.step >= 1.0 else 1}f} {self.unit}".strip()


    def parsed(self, text: str) -> float | None:
        """Return the value that a text names, as it was typed or as `in_words` writes it, held to the range; None where it names none."""
        words = text.strip().lower().replace("\u2212", "-")
        if words in self.names:
            return self.low + self.names.index(words)
        if self.key == "pan" and words.startswith("cent"):
            return 0.0
        found = _NUMBER.match(words)
        if found is None:
            return None
        value, rest = float(found[1].replace(",", ".")), found[2].strip()
        if (self.unit == "Hz" and rest.startswith("k")) or (self.unit == "ms" and rest == "s"):
            value *= 1000.0
        elif self.unit == "share":
            value /= 100.0
        elif self.key == "pan":
            value *= -0.01 if "l" in rest else 0.01
        return max(self.low, min(self.high, value))


_NUMBER = re.compile(r"([+-]?\d+(?:[.,]\d+)?)(.*)", re.DOTALL)
_FORMS = {"dB": "{:+.1f} dB", "beats": "{:.3g} beats", "bit": "{:.0f} bits", "ct": "{:.0f} cents", "%": "{:.0f} %"}


def table(params: Iterable[Param]) -> dict[str, Param]:
    """Return parameters by key."""
    return {param.key: param for param in params}
