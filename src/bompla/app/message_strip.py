"""What the user is told, and long work with its progress: over the bottom edge of the page, so that nothing moves."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QWidget

from bompla.app.messages import Message, Weight
from bompla.app.project.session import Session
from bompla.app.project.work_line import Work
from bompla.app.theme import theme
from bompla.app.ui.controls import button, label

LOWEST_PX = 44
FADES_AFTER_MS = 7_000
"""A note that asks nothing goes by itself; what went wrong, or can be answered, stays."""


class MessageStrip(QWidget):
    """What the user is told, and long work with its progress; nothing modal."""

    cancelled = pyqtSignal()
    resized = pyqtSignal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("message")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 14, 6)
        self.picture = QLabel()
        row.addWidget(self.picture)
        self.text = label("", "value")
        self.text.setWordWrap(True)
        row.addWidget(self.text, 1)
        self.progress = QProgressBar()
        self.progress.setRange(0, 100)
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(220)
        self.progress.setAccessibleName("Progress")
        row.addWidget(self.progress)
        self.cancel = button("Cancel", self.cancelled.emit, tip="Cancel; the project stays as it was")
        row.addWidget(self.cancel)
        self.mend = button("", self._do, tip="Do this about it")
        row.addWidget(self.mend)
        self.other = button("", self._do_other, tip="Do this instead")
        row.addWidget(self.other)
        self.close_button = button("Close", self._close, tip="Dismiss this message")
        row.addWidget(self.close_button)
        self._fades = QTimer(self)
        self._fades.setSingleShot(True)
        self._fades.setInterval(FADES_AFTER_MS)
        self._fades.timeout.connect(self._close)
        self._message: Message | None = None
        self._work: Work | None = None
        session.work.changed.connect(self._work_changed)
        session.hub.posted.connect(self.show_message)
        for message in session.hub.listen():
            self.show_message(message)
        self._refresh()

    @property
    def trouble(self) -> str:
        """What went wrong and still stands here, empty where nothing did."""
        message = self._message
        return message.text if message is not None and message.weight is Weight.TROUBLE else ""

    def height_for(self, width: int) -> int:
        """Return how tall it is at a width: as its text asks, and never lower than its buttons."""
        row = (self.picture, self.progress, self.cancel, self.mend, self.other, self.close_button)
        beside = sum(one.sizeHint().width() + 8 for one in row if not one.isHidden())
        return max(LOWEST_PX, self.text.heightForWidth(max(120, width - beside - 40)) + 16)

    def show_message(self, message: Message) -> None:
        """Show a message: until it is put away, or, where it asks nothing, for a while."""
        self._message = message
        asks = message.weight is Weight.TROUBLE or message.action is not None
        if asks:
            self._fades.stop()
        else:
            self._fades.start()
        self._refresh()

    def _close(self) -> None:
        self._message = None
        self._refresh()

    def _do(self) -> None:
        message = self._message
        self._close()
        if message is not None and message.action is not None:
            message.action()

    def _do_other(self) -> None:
        message = self._message
        self._close()
        if message is not None and message.other_action is not None:
            message.other_action()

    def _work_changed(self, work: Work | None) -> None:
        if work is not None and self._work is None:
            self._message = None
        self._work = work
        self._refresh()

    def _refresh(self) -> None:
        work, message = self._work, self._message
        QTimer.singleShot(0, self.resized.emit)
        self.setVisible(work is not None or message is not None)
        self.progress.setVisible(work is not None)
        self.cancel.setVisible(work is not None)
        self.picture.setVisible(work is None and message is not None and message.picture is not None)
        self.close_button.setVisible(work is None)
        self.mend.setVisible(work is None and message is not None and message.action is not None)
        self.other.setVisible(work is None and message is not None and message.other_action is not None)
        if work is not None:
            self.text.setText(work.label[:1].upper() + work.label[1:])
            self.progress.setValue(round(100 * work.share))
        elif message is not None:
            self.text.setText(message.text)
            if message.picture is not None:
                self.picture.setPixmap(message.picture)
            self.mend.setText(message.button)
            self.mend.setAccessibleName(message.button)
            self.other.setText(message.other_button)
            self.other.setAccessibleName(message.other_button)
            self.text.setStyleSheet(f"color: {theme().palette.signal if message.weight is Weight.TROUBLE else theme().palette.paper}")
