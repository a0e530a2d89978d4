"""Settings of files: where loops are looked for, and where what leaves goes."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QGridLayout, QVBoxLayout, QWidget

from bompla.app.preferences import preferences
from bompla.app.project.outgoing import Outgoing, show_in_folder
from bompla.app.ui.controls import ShortLabel, button, label


class FilesPage(QWidget):
    """The folders, each shown and changed."""

    def __init__(self, outgoing: Outgoing) -> None:
        super().__init__()
        self._outgoing = outgoing
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
        self.folder, self.dragged, self.settings = ShortLabel("value"), ShortLabel("value"), ShortLabel("value")
        rows = (("what is written goes to", self.folder, False), ("what is dragged out stays in", self.dragged, True))
        for row, (text, shown, dragged) in enumerate(rows):
            grid.addWidget(label(text, "dim"), row, 0)
            grid.addWidget(shown, row, 1)
            grid.addWidget(button("Change…", partial(self.choose, dragged=dragged), name=f"Change where {text}",
                                  tip="Choose another folder"), row, 2)
            grid.addWidget(button("Show", partial(self._show, dragged=dragged), name=f"Show where {text}",
                                  tip="Open the folder"), row, 3)
        words = label("Other programs refer to a dragged file where it lies: delete one only when no other program uses it.", "dim")
        words.setWordWrap(True)
        grid.addWidget(words, 2, 1, 1, 3)
        grid.addWidget(label("these settings are kept in", "dim"), 3, 0)
        grid.addWidget(self.settings, 3, 1)
        self.forget = button("Forget the files opened last", self._forget, tip="Empty the list of files opened last")
        grid.addWidget(self.forget, 4, 1)
        column.addStretch(1)
        outgoing.options_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show what is so."""
        self.folder.setText(str(self._outgoing.folder))
        self.dragged.setText(str(self._outgoing.drag_folder))
        self.settings.setText(str(preferences().path))
        self.forget.setEnabled(bool(preferences().value.recent_files))

    def choose(self, *, dragged: bool) -> None:
        """Ask for another folder."""
        now = self._outgoing.drag_folder if dragged else self._outgoing.folder
        name = QFileDialog.getExistingDirectory(self, "Choose a folder", str(now if now.is_dir() else Path.home()))
        if name:
            self._outgoing.set_folder(Path(name), dragged=dragged)

    def _show(self, *, dragged: bool) -> None:
        folder = self._outgoing.drag_folder if dragged else self._outgoing.folder
        if folder.is_dir():
            show_in_folder(folder)

    def _forget(self) -> None:
        preferences().set(recent_files=())
        self.refresh()
