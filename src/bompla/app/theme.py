"""The one theme object: every colour, font and measure of the window."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication

from bompla.model.drums import DRUMS, Family

STYLE_FILE = Path(__file__).parent / "style.qss"
FONT_FOLDER = Path(__file__).parent / "fonts"
TEXT_FAMILY, NARROW_FAMILY = "Barlow", "Barlow Condensed"


@dataclass(frozen=True)
class Palette:
    """The roles of colour, as hexadecimal RGB."""

    name: str
    ground: str
    panel: str
    raised: str
    line: str
    faint_line: str
    paper: str
    dim: str
    signal: str
    on_signal: str
    good: str
    sunk: str
    edge: str
    focus: str
    drums: str
    snares: str
    hats: str
    cymbals: str
    extras: str


NIGHT = Palette(
    name="night", ground="#121c1d", panel="#182527", raised="#203134", line="#35504f", faint_line="#24383a",
    paper="#f0e6d2", dim="#9fb0a8", signal="#ff7354", on_signal="#1b1210", good="#86d3ae", sunk="#0f1718", edge="#6c8a86",
    focus="#8fd0ff",
    drums="#e0894e", snares="#efc65c", hats="#6fc3b6", cymbals="#9ba8f3", extras="#cf90c0",
)

DAY = Palette(
    name="day", ground="#e9e2d2", panel="#f4eee0", raised="#fffaf0", line="#b9b19c", faint_line="#d8d0bd",
    paper="#1d2a2a", dim="#4d5a54", signal="#a62f13", on_signal="#fff8ef", good="#1a6445", sunk="#ded6c4", edge="#7d7560",
    focus="#0b5c9e",
    drums="#8c4414", snares="#705200", hats="#176054", cymbals="#3f4db0", extras="#873f79",
)

CONTRAST = Palette(
    name="contrast", ground="#000000", panel="#000000", raised="#1a1a1a", line="#c8c8c8", faint_line="#6e6e6e",
    paper="#ffffff", dim="#e2e2e2", signal="#ff8c6a", on_signal="#000000", good="#8effc0", sunk="#000000", edge="#ffffff",
    focus="#ffff4d",
    drums="#ffab66", snares="#ffe070", hats="#7ff0dd", cymbals="#b9c4ff", extras="#f5b0e4",
)

THEME_NAMES = {"night": "Night", "day": "Day", "system": "Like the desktop", "contrast": "High contrast"}
PALETTES = {palette.name: palette for palette in (NIGHT, DAY, CONTRAST)}


def palette_of(name: str) -> Palette:
    """Return the palette of a theme by its key; `system` is what the desktop asks for, night where it asks for nothing."""
    if name == "system":
        hints = QGuiApplication.styleHints()
        return DAY if hints is not None and hints.colorScheme() == Qt.ColorScheme.Light else NIGHT
    return PALETTES.get(name, NIGHT)


class Theme(QObject):
    """The palette in use, and what is made of it. Listeners are told when it changes."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.palette = NIGHT
        self._colours: dict[tuple[str, float], QColor] = {}
        self._fonts: dict[tuple[int, int, bool], QFont] = {}

    def use(self, palette: Palette) -> None:
        """Change to another palette."""
        if palette is not self.palette:
            self.palette = palette
            self._colours.clear()
            self.changed.emit()

    def colour(self, role: str, alpha: float = 1.0) -> QColor:
        """Return the colour of a role, see `Palette`."""
        key = (role, alpha)
        if key not in self._colours:
            colour = QColor(getattr(self.palette, role))
            colour.setAlphaF(alpha)
            self._colours[key] = colour
        return self._colours[key]

    def family(self, family: Family, alpha: float = 1.0) -> QColor:
        """Return the colour of a drum family."""
        return self.colour(family.value, alpha)

    def drum(self, drum: str, alpha: float = 1.0) -> QColor:
        """Return the colour of a drum."""
        return self.family(DRUMS[drum].family, alpha)

    def sheet(self) -> QColor:
        """Return the colour of a sheet of paper: notation is dark on light by night as well."""
        return QColor(DAY.panel)

    def sheet_ink(self) -> QColor:
        """Return the colour of words on a sheet of paper."""
        return QColor(DAY.dim)

    def ramp(self) -> NDArray[np.uint32]:
        """Return 256 colours from silence to the loudest, as 0xffrrggbb, for pictures of level."""
        stops = [self.colour(role) for role in ("sunk", "line", "hats", "paper")]
        places = np.array([0.0, 110.0, 200.0, 255.0])
        channels = [np.interp(np.arange(256), places, [getattr(stop, name)() for stop in stops]) for name in ("red", "green", "blue")]
        red, green, blue = (np.round(channel).astype(np.uint32) for channel in channels)
        return np.asarray((np.uint32(255) << np.uint32(24)) | (red << np.uint32(16)) | (green << np.uint32(8)) | blue, dtype=np.uint32)

    def font(self, size_px: float, *, weight: int = 500, narrow: bool = True) -> QFont:
        """Return a font of the window with figures of equal width."""
        key = (round(size_px), weight, narrow)
        if key not in self._fonts:
            font = QFont(NARROW_FAMILY if narrow else TEXT_FAMILY)
            font.setPixelSize(key[0])
            font.setWeight(QFont.Weight(weight))
            font.setFeature(QFont.Tag(b"tnum"), 1)
            self._fonts[key] = font
        return self._fonts[key]

    def style_sheet(self) -> str:
        """Return the style of the standard widgets."""
        style = STYLE_FILE.read_text(encoding="utf-8").replace("@family@", NARROW_FAMILY)
        for role, colour in asdict(self.palette).items():
            style = style.replace(f"@{role}@", colour)
        return style


@cache
def load_fonts() -> None:
    """Make the shipped fonts known to Qt."""
    for path in sorted(FONT_FOLDER.glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(path))


THEME: Theme | None = None


def theme() -> Theme:
    """Return the one theme of the application."""
    global THEME
    if THEME is None:
        THEME = Theme()
    return THEME
