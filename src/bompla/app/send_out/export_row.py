"""A row of the list of what can leave."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QMouseEvent
from PyQt6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QVBoxLayout

from bompla.app.drag_out import DragHandle
from bompla.app.project.session import Session
from bompla.app.send_out.pictures import ExportPicture
from bompla.app.ui.controls import ShortLabel, label
from bompla.export.table import EXPORTS


class ExportRow(QFrame):
    """One export: whether it is chosen, its picture, what will be in it and what cannot be, and a grip to drag it out by."""

    picked = pyqtSignal(str)
    chosen_changed = pyqtSignal()

    def __init__(self, session: Session, key: str) -> None:
        super().__init__()
        self.key = key
        self._session = session
        self._export = EXPORTS[key]
        self.setObjectName("row")
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 6, 12, 6)
        row.setSpacing(12)
        self.chosen = QCheckBox()
        self.chosen.setAccessibleName(f"Write {self._export.label}")
        self.chosen.setToolTip(f"Write {self._export.label[:1].lower() + self._export.label[1:]} with the others that are ticked")
        self.chosen.toggled.connect(lambda _: self.chosen_changed.emit())
        row.addWidget(self.chosen)
        self.view = ExportPicture(session, key)
        row.addWidget(self.view)
        words = QVBoxLayout()
        words.setSpacing(0)
        self.title = ShortLabel("row title", self._export.label)
        self.about = label("", "dim")
        self.lost = label("", "lost")
        for one in (self.about, self.lost):
            one.setWordWrap(True)
        for one in (self.title, self.about, self.lost):
            words.addWidget(one)
        row.addLayout(words, 1)
        self.handle = DragHandle(session, key, self._export.label, text="drag")
        row.addWidget(self.handle)

    def refresh(self) -> None:
        """Show what would be in it."""
        request = self._session.outgoing.request()
        if request is None:
            return
        about, lost = self._export.about(request), self._export.lost(request)
        self.about.setText(about)
        self.lost.setText(lost)
        self.lost.setVisible(bool(lost))
        self.view.setAccessibleName(f"{self._export.label}: {about}")
        self.view.update()

    def show_picked(self, on: bool) -> None:
        """Show whether its options are on the right."""
        self.setProperty("picked", on)
        style = self.style()
        if style is not None:
            style.unpolish(self)
            style.polish(self)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self.picked.emit(self.key)

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802  # Qt's name
        super().focusInEvent(event)
        self.picked.emit(self.key)
