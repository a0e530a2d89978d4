"""The sheet of keys, made from the table of commands: a page for each stage, and a search over all of them."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from bompla.app.commands import COMMANDS, EVERYWHERE, GESTURES
from bompla.app.ui.controls import Chips, label

ROWS_A_COLUMN = 26


class KeySheet(QDialog):
    """Shows what works in one stage, or whatever has the words that are looked for, stage by stage."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys")
        self.resize(980, 700)
        column = QVBoxLayout(self)
        row = QHBoxLayout()
        self.pages = Chips("Keys by stage")
        self.places = list(dict.fromkeys(command.where for command in COMMANDS))
        self.pages.chosen.connect(lambda place: self.show_place(str(place)))
        row.addWidget(self.pages)
        row.addStretch(1)
        self.words = QLineEdit()
        self.words.setAccessibleName("Search commands")
        self.words.setToolTip("Find a command by what it does")
        self.words.setPlaceholderText("search commands")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(self._look)
        row.addWidget(self.words, 1)
        column.addLayout(row)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        column.addWidget(self._scroll, 1)
        self.place = EVERYWHERE
        self.show_place(EVERYWHERE)

    def show_place(self, place: str) -> None:
        """Show what works in a stage."""
        self.place = place if place in self.places else EVERYWHERE
        self.pages.offer([(one, one) for one in self.places], self.place)
        if self.words.text():
            self.words.clear()
        else:
            self._look("")

    def entries(self) -> list[tuple[str, str, str]]:
        """Return what is shown, as (stage, key or gesture, what it does)."""
        words = self.words.text().lower().split()
        every = [(c.where, c.shortcut, c.label) for c in COMMANDS] + list(GESTURES)
        if words:
            return [entry for entry in every if all(word in " ".join(entry).lower() for word in words)]
        also = {self.place, "Pictures"} if self.place == EVERYWHERE else {self.place}
        return [entry for entry in every if entry[0] in also]

    def _look(self, _words: str) -> None:
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(3)
        entries = self.entries()
        columns = max(1, -(-len(entries) // ROWS_A_COLUMN))
        for place, (where, keys, text) in enumerate(entries):
            across, down = divmod(place, ROWS_A_COLUMN)
            grid.addWidget(label(keys, "value"), down, 2 * across)
            words = label(f"{where}: {text}" if self.words.text() else text, "dim")
            words.setWordWrap(columns > 1)
            grid.addWidget(words, down, 2 * across + 1)
            grid.setColumnStretch(2 * across + 1, 1)
        if not entries:
            grid.addWidget(label("No command matches.", "dim"), 0, 0)
        grid.setRowStretch(ROWS_A_COLUMN, 1)
        self._scroll.setWidget(inside)
