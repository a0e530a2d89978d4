"""Dragging files out of the window, or copying them: onto the desktop, into another program."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDrag, QGuiApplication, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QPushButton, QWidget

from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.model.document import Document

FAR_PX = 8.0
TIP = "Drag it out as a file; a click copies it, to be pasted into a folder"


def files_of(paths: list[Path]) -> QMimeData:
    """Return files as what is dragged or copied."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    return data


def drag_files(source: QWidget, paths: list[Path]) -> None:
    """Drag files out of a widget: the one place where that begins."""
    drag = QDrag(source)
    drag.setMimeData(files_of(paths))
    drag.exec(Qt.DropAction.CopyAction)


class DragHandle(QPushButton):
    """A grip to drag one export out by; pressing it begins to write, so that the files are there when the drag is.

    `what` returns the ids of slices or pads it is about, and the document, where that is not the one that is shown.
    """

    def __init__(self, session: Session, key: str, name: str, *, text: str = "", tip: str = TIP,
                 what: Callable[[], tuple[frozenset[int], Document | None]] = lambda: (frozenset(), None)) -> None:
        super().__init__(f"   {text}" if text else "")
        self._session, self._key, self._what = session, key, what
        self._name = name
        self._pressed_at: QPointF | None = None
        self._wants_drag = False
        self._ready: list[Path] = []
        self.setObjectName("small")
        self.setToolTip(tip)
        self.setAccessibleName(f"Drag out or copy: {name}")
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self.setMinimumSize(62 if text else 26, 26)
        self.clicked.connect(self._clicked)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        super().mousePressEvent(event)
        if event is not None and event.button() == Qt.MouseButton.LeftButton and self.isEnabled():
            self._pressed_at, self._wants_drag, self._ready = event.position(), False, []

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        if event is None or self._pressed_at is None or (event.position() - self._pressed_at).manhattanLength() < FAR_PX:
            return
        if self._wants_drag:
            return
        self._wants_drag = True
        self._put_out(self._drag)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        if self._wants_drag:  # it was a drag, and is none any more: no click
            self._pressed_at, self._wants_drag = None, False
            self.setDown(False)
            return
        self._pressed_at = None
        super().mouseReleaseEvent(event)

    def _clicked(self) -> None:
        """Copy the files, to be pasted into a folder or another program."""
        self._put_out(self._copy)

    def _put_out(self, then: Callable[[list[Path]], object]) -> None:
        only, document = self._what()
        self._session.outgoing.put_out(self._key, then, only=only, document=document)

    def _drag(self, paths: list[Path]) -> None:
        if self._wants_drag:
            drag_files(self, paths)
            self._pressed_at, self._wants_drag = None, False
            self.setDown(False)
        else:
            self._session.hub.note(f"{self._name} is ready in {paths[0].parent}; drag again, or paste it from there.")

    def _copy(self, paths: list[Path]) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setMimeData(files_of(paths))
        self._session.hub.note(f"Copied {paths[0].name}; paste it into a folder or another program.")

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().colour("dim"))
        left = 10.0 if self.text() else self.width() / 2.0 - 3.0
        for column in (0.0, 6.0):
            for row in (-6.0, 0.0, 6.0):
                painter.drawEllipse(QPointF(left + column, self.height() / 2.0 + row), 1.4, 1.4)
