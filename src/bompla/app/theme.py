"""The one theme object: every colour, font and measure of the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QFontDatabase

from bompla.model.drums import DRUMS, Family

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
    drums: str
    snares: str
    hats: str
    cymbals: str
    extras: str


NIGHT = Palette(
    name="night", ground="#121c1d", panel="#182527", raised="#203134", line="#35504f", faint_line="#24383a",
    paper="#f0e6d2", dim="#9fb0a8", signal="#ff7354", on_signal="#1b1210", good="#86d3ae", sunk="#0f1718",
    drums="#e0894e", snares="#efc65c", hats="#6fc3b6", cymbals="#9ba8f3", extras="#cf90c0",
)

DAY = Palette(
    name="day", ground="#e9e2d2", panel="#f4eee0", raised="#fffaf0", line="#b9b19c", faint_line="#d8d0bd",
    paper="#1d2a2a", dim="#55625c", signal="#c23a1b", on_signal="#fff8ef", good="#1f7350", sunk="#ded6c4",
    drums="#a4541c", snares="#8a6400", hats="#1f7568", cymbals="#4453b8", extras="#8f4580",
)


class Theme(QObject):
    """The palette in use, and what is made of it. Listeners are told when it changes."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.palette = NIGHT
        self._colours: dict[str, QColor] = {}

    def use(self, palette: Palette) -> None:
        """Change to another palette."""
        if palette is not self.palette:
            self.palette = palette
            self._colours.clear()
            self.changed.emit()

    def colour(self, role: str, alpha: float = 1.0) -> QColor:
        """Return the colour of a role, see `Palette`."""
        key = f"{role}/{alpha:.3f}"
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

    def font(self, size_px: float, *, weight: int = 500, narrow: bool = True) -> QFont:
        """Return a font of the window with figures of equal width."""
        font = QFont(NARROW_FAMILY if narrow else TEXT_FAMILY)
        font.setPixelSize(round(size_px))
        font.setWeight(QFont.Weight(weight))
        font.setFeature(QFont.Tag(b"tnum"), 1)
        return font

    def style_sheet(self) -> str:
        """Return the style of the standard widgets."""
        return _style(self.palette)


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


def _style(p: Palette) -> str:
    return f"""
* {{ font-family: "{NARROW_FAMILY}"; font-size: 15px; color: {p.paper}; }}
QMainWindow, QWidget#ground {{ background: {p.ground}; }}
QWidget#bar, QWidget#path {{ background: {p.panel}; }}
QWidget#bar {{ border: 0; }}
QFrame#panel {{ background: {p.panel}; border: 1px solid {p.line}; border-radius: 3px; }}
QLabel {{ background: transparent; }}
QLabel#heading {{ color: {p.dim}; font-weight: 500; font-size: 14px; }}
QLabel#dim {{ color: {p.dim}; font-size: 14px; }}
QLabel#title {{ font-weight: 600; font-size: 19px; }}
QLabel#value {{ font-weight: 500; }}
QLabel#large {{ font-weight: 600; font-size: 22px; }}
QLabel#good {{ color: {p.good}; }}
QPushButton {{ background: {p.raised}; border: 1px solid {p.line}; border-radius: 3px; padding: 4px 11px; min-height: 18px; font-weight: 500; }}
QPushButton:hover {{ border-color: {p.dim}; }}
QPushButton:focus, QComboBox:focus, QLineEdit:focus, QSpinBox:focus, QListWidget:focus {{ border-color: {p.signal}; }}
QPushButton:disabled {{ color: {p.dim}; background: {p.panel}; border-color: {p.faint_line}; }}
QPushButton:checked {{ background: {p.paper}; color: {p.ground}; border-color: {p.paper}; }}
QPushButton#primary {{ background: {p.signal}; color: {p.on_signal}; border-color: {p.signal}; font-weight: 600; }}
QPushButton#primary:focus {{ border-color: {p.paper}; }}
QPushButton#primary:disabled {{ background: {p.panel}; color: {p.dim}; border-color: {p.faint_line}; }}
QPushButton#chip {{ border-radius: 13px; padding: 3px 11px; background: transparent; color: {p.dim}; }}
QPushButton#chip:hover {{ color: {p.paper}; }}
QPushButton#chip:checked {{ background: {p.paper}; color: {p.ground}; border-color: {p.paper}; font-weight: 600; }}
QPushButton#chip:focus {{ border-color: {p.signal}; }}
QPushButton#stage {{ text-align: left; border: 0; border-left: 3px solid transparent; border-radius: 0; background: transparent; padding: 0 4px 0 11px; min-height: 52px; }}
QPushButton#stage:hover {{ background: {p.raised}; }}
QPushButton#stage:checked {{ background: {p.raised}; border-left-color: {p.signal}; }}
QPushButton#stage:focus {{ border-left-color: {p.dim}; }}
QLineEdit, QSpinBox, QComboBox {{ background: {p.sunk}; border: 1px solid {p.line}; border-radius: 3px; padding: 3px 7px; min-height: 20px; selection-background-color: {p.signal}; selection-color: {p.on_signal}; }}
QComboBox::drop-down {{ border: 0; width: 20px; }}
QComboBox::down-arrow {{ width: 0; height: 0; border-left: 4px solid {p.raised}; border-right: 4px solid {p.raised}; border-top: 5px solid {p.dim}; }}
QComboBox QAbstractItemView {{ background: {p.raised}; border: 1px solid {p.line}; selection-background-color: {p.signal}; selection-color: {p.on_signal}; outline: 0; }}
QSpinBox::up-button, QSpinBox::down-button {{ width: 0; border: 0; }}
QListWidget {{ background: transparent; border: 0; outline: 0; }}
QListWidget::item {{ border-bottom: 1px solid {p.line}; }}
QListWidget::item:selected, QListWidget::item:hover {{ background: {p.raised}; }}
QMenu {{ background: {p.raised}; border: 1px solid {p.line}; padding: 4px; }}
QMenu::item {{ padding: 4px 22px 4px 12px; }}
QMenu::item:selected {{ background: {p.signal}; color: {p.on_signal}; }}
QMenu::separator {{ height: 1px; background: {p.line}; margin: 4px; }}
QToolTip {{ background: {p.raised}; color: {p.paper}; border: 1px solid {p.line}; padding: 3px; }}
QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: 0; }}
QScrollBar:horizontal {{ height: 9px; background: transparent; }}
QScrollBar:vertical {{ width: 9px; background: transparent; }}
QScrollBar::handle {{ background: {p.line}; border-radius: 4px; min-width: 30px; min-height: 30px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QProgressBar {{ background: {p.sunk}; border: 1px solid {p.line}; border-radius: 3px; max-height: 8px; }}
QProgressBar::chunk {{ background: {p.signal}; }}
QSlider::groove:horizontal {{ height: 2px; background: {p.line}; }}
QSlider::handle:horizontal {{ width: 12px; margin: -8px 0; background: {p.signal}; border-radius: 2px; }}
QSlider::handle:horizontal:focus {{ border: 1px solid {p.paper}; }}
QDialog {{ background: {p.panel}; }}
"""


