"""Settings of appearance: the theme, and how large everything is."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from bompla.app.preferences import preferences
from bompla.app.theme import THEME_NAMES
from bompla.app.ui.controls import Chips, button, combo, label
from bompla.model.wording import counted

SCALES = (0.75, 0.9, 1.0, 1.1, 1.25, 1.5, 1.75, 2.0, 2.5, 3.0)


class AppearancePage(QWidget):
    """The theme changes at once; the scale once the window is opened again, which `again` asks for."""

    again = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._shown = preferences().value.interface_scale
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
        self.themes = Chips("Theme")
        self.themes.chosen.connect(lambda key: preferences().set(theme=str(key)))
        grid.addWidget(label("theme", "dim"), 0, 0)
        grid.addWidget(self.themes, 0, 1)
        self.scale = combo("Interface scale", [(f"{100 * scale:.0f} %", scale) for scale in SCALES])
        self.scale.activated.connect(lambda _: preferences().set(interface_scale=float(self.scale.currentData())))
        name = label("interface scale", "dim")
        name.setBuddy(self.scale)
        grid.addWidget(name, 1, 0)
        grid.addWidget(self.scale, 1, 1)
        grid.addWidget(label("on top of the desktop's own scale", "dim"), 2, 1)
        self.use = button("Use this scale now", self.again.emit,
                          tip="Opens the window again with all that is open; only what can be undone begins anew")
        grid.addWidget(self.use, 1, 2)
        self.hints = button("Show all hints again", lambda: preferences().set(hints_put_away=()), tip="Hints of the stages that you closed")
        grid.addWidget(self.hints, 3, 1)
        column.addStretch(1)
        preferences().changed.connect(self._changed)
        self.refresh()

    def _changed(self, _before: object, _now: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Show what is so."""
        kept = preferences().value
        self.themes.offer(list(THEME_NAMES.items()), kept.theme)
        self.use.setEnabled(kept.interface_scale != self._shown)
        self.scale.setCurrentIndex(min(range(len(SCALES)), key=lambda n: abs(SCALES[n] - kept.interface_scale)))
        away = len(kept.hints_put_away)
        self.hints.setEnabled(away > 0)
        self.hints.setText(f"Show {counted(away, 'hint')} again" if away else "Show all hints again")
