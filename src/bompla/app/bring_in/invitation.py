"""What stands where the loop will be, as long as nothing is open: one invitation."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.preferences import preferences
from bompla.app.theme import theme
from bompla.app.ui.controls import button, label
from bompla.demo import loop_paths

FIRST_DEMO = ("quay break", "lamplight shuffle", "rehearsal tape", "gangway hats")
MOST_RECENT = 4


class Invitation(QWidget):
    """Drop a loop here, open a file, or click one of these."""

    def __init__(self, open_file: Callable[[Path], object], choose_file: Callable[[], object]) -> None:
        super().__init__()
        self._open = open_file
        self.setAccessibleName("Bring in a loop")
        column = QVBoxLayout(self)
        column.setSpacing(14)
        column.addStretch(3)
        for text, kind in (("Drop a drum loop here", "invitation"),
                           ("or a folder of loops. A song or a long take is fine, too: its best bars are found.", "dim")):
            words = label(text, kind)
            words.setAlignment(Qt.AlignmentFlag.AlignCenter)
            column.addWidget(words)
        column.addWidget(button("Open a file…", choose_file, tip=tip("open"), primary=True), 0, Qt.AlignmentFlag.AlignCenter)
        column.addSpacing(10)
        self.row_words = label("or try one of these", "dim")
        self.row_words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        column.addWidget(self.row_words)
        self.choices = QGridLayout()
        self.choices.setHorizontalSpacing(10)
        column.addLayout(self.choices)
        column.addStretch(4)
        self._offer()

    def _offer(self) -> None:
        recent = [path for name in preferences().value.recent_files if (path := Path(name)).is_file()][:MOST_RECENT]
        demo = [path for name in FIRST_DEMO for path in loop_paths() if path.stem == name]
        for row, (words, paths) in enumerate((("loops that come with Bompla", demo), ("opened last", recent))):
            self.choices.setColumnStretch(0, 1)
            self.choices.setColumnStretch(len(FIRST_DEMO) + 2, 1)
            if paths:
                self.choices.addWidget(label(words, "dim"), row, 1, Qt.AlignmentFlag.AlignRight)
            for column, path in enumerate(paths, 2):
                self.choices.addWidget(button(path.stem, partial(self._open, path), tip=f"Open {path.name}"), row, column)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme().colour("edge"), 1.5, Qt.PenStyle.DashLine))
        painter.setBrush(theme().colour("panel"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1.0, 1.0, -1.0, -1.0), 6.0, 6.0)
