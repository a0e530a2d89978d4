"""What the user is told: one hub, kept until a window listens, shown in the window and never modal."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QPixmap


class Weight(StrEnum):
    """How much a message matters."""

    NOTE = "note"
    TROUBLE = "trouble"


@dataclass(frozen=True)
class Message:
    """A sentence for the user, and what can be done about it: the words of a button and what it does, and of another; with a picture."""

    text: str
    weight: Weight
    button: str = ""
    action: Callable[[], object] | None = None
    other_button: str = ""
    other_action: Callable[[], object] | None = None
    picture: QPixmap | None = None


class MessageHub(QObject):
    """Takes messages from anywhere in the window and hands them on."""

    posted = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.kept: list[Message] = []
        self._listened_to = False

    def note(self, text: str, *, button: str = "", action: Callable[[], object] | None = None) -> None:
        """Tell the user something, with what can be done about it."""
        self._post(Message(text, Weight.NOTE, button, action))

    def trouble(self, text: str, *, button: str = "", action: Callable[[], object] | None = None) -> None:
        """Tell the user what went wrong, with what can be done about it."""
        self._post(Message(text, Weight.TROUBLE, button, action))

    def ask(self, text: str, *, button: str, action: Callable[[], object], other_button: str, other_action: Callable[[], object],
            picture: QPixmap | None = None) -> None:
        """Ask the user which of two things to do; the answer can wait."""
        self._post(Message(text, Weight.NOTE, button, action, other_button, other_action, picture))

    def listen(self) -> list[Message]:
        """Begin to listen, and return what was said before."""
        self._listened_to = True
        waiting, self.kept = self.kept, []
        return waiting

    def _post(self, message: Message) -> None:
        if not self._listened_to:
            self.kept.append(message)
        self.posted.emit(message)
