"""The rows of the Slice picture: which are shown, and how high each is."""

from __future__ import annotations

from dataclasses import dataclass, field

GAP = 6.0
LEAST_SHARE = 0.08
RIBBONS = (("high", 2, "hats"), ("mid", 1, "snares"), ("low", 0, "drums"))
"""The ribbons from the top down: name, place in the measured bands, colour."""

GROUPS = ("sound", "ribbons", "spectrogram", "strength")


@dataclass
class Rows:
    """Groups of rows under one another, each with a share of the height; the sound is always shown."""

    shares: dict[str, float] = field(
        default_factory=lambda: {"sound": 0.44, "ribbons": 0.30, "spectrogram": 0.30, "strength": 0.26}
    )
    hidden: set[str] = field(default_factory=lambda: {"spectrogram"})

    def shown(self, name: str) -> bool:
        """Whether a group is shown."""
        return name not in self.hidden

    def show(self, name: str, shown: bool) -> None:
        """Show or hide a group."""
        if shown or name == "sound":
            self.hidden.discard(name)
        else:
            self.hidden.add(name)

    def place(self, name: str, top: float, bottom: float) -> tuple[float, float]:
        """Return top and height of a row or group between two heights, of no height where it is hidden."""
        ribbon = next((n for n, (key, _, _) in enumerate(RIBBONS) if key == name), -1)
        start, height = self._groups(top, bottom).get("ribbons" if ribbon >= 0 else name, (top, 0.0))
        if ribbon < 0 or height <= 0.0:
            return start, height
        each = (height - 2.0 * 4.0) / 3.0
        return start + ribbon * (each + 4.0), each

    def bounds(self, top: float, bottom: float) -> list[float]:
        """Return the heights of the bounds between the groups shown."""
        places = list(self._groups(top, bottom).values())
        return [start + height + GAP / 2.0 for start, height in places[:-1]]

    def move_bound(self, index: int, y: float, top: float, bottom: float) -> None:
        """Move a bound: what one group loses the next one gains."""
        groups = self._groups(top, bottom)
        names = list(groups)
        above, below = names[index], names[index + 1]
        room = sum(height for _, height in groups.values())
        both = self.shares[above] + self.shares[below]
        scale = sum(self.shares[name] for name in names) / max(1.0, room)
        wanted = (y - GAP / 2.0 - groups[above][0]) * scale
        least = min(LEAST_SHARE, both / 2.0)
        self.shares[above] = max(least, min(both - least, wanted))
        self.shares[below] = both - self.shares[above]

    def _groups(self, top: float, bottom: float) -> dict[str, tuple[float, float]]:
        names = [name for name in GROUPS if name not in self.hidden]
        room = bottom - top - GAP * (len(names) - 1)
        total = sum(self.shares[name] for name in names)
        places, at = {}, top
        for name in names:
            height = room * self.shares[name] / total
            places[name] = (at, height)
            at += height + GAP
        return places
