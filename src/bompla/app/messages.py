"""What the user is told: one hub, kept until a window listens, shown in the window and never modal."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from PyQt6.QtCore import QObject, pyqtSignal


class Weight(StrEnum):
    """How much a message matters."""

    NOTE = "note"
    TROUBLE = "trouble"


@dataclass(frozen=True)
class Message:
    """A sentence for the user."""

    text: str
    weight: Weight


class MessageHub(QObject):
    """Takes messages from anywhere in the window and hands them on."""

    posted = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.kept: list[Message] = []
        self._listened_to = False

    def note(self, text: str) -> None:
        """Tell the user something that needs nothing done."""
        self._post(Message(text, Weight.NOTE))

    def trouble(self, text: str) -> None:
        """Tell the user what went wrong and what to do."""
        self._post(Message(text, Weight.TROUBLE))

    def listen(self) -> list[Message]:
        """Begin to listen, and return what was said before."""
        self._listened_to = True
        waiting, self.kept = self.kept, []
        return waiting

    def _post(self, message: Message) -> None:
        if not self._listened_to:
            self.kept.append(message)
        self.posted.emit(message)
