"""The settings beside the window: sound, MIDI, files, appearance and keys."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QCloseEvent, QShowEvent
from PyQt6.QtWidgets import QDialog, QStackedWidget, QVBoxLayout, QWidget

from bompla.app.preferences import preferences
from bompla.app.project.session import Session
from bompla.app.settings.appearance_page import AppearancePage
from bompla.app.settings.files_page import FilesPage
from bompla.app.settings.midi_page import MidiPage
from bompla.app.settings.sound_page import SoundPage
from bompla.app.sound.device_watch import DeviceLister
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Chips, button, label

TOPICS = {"sound": "Sound", "midi": "MIDI", "files": "Files", "appearance": "Appearance", "keys": "Keys"}


class SettingsDialog(QDialog):
    """A page for each topic; each change holds at once and is kept. `again` asks for the window to be opened again."""

    again = pyqtSignal()

    def __init__(self, session: Session, playback: Playback, show_keys: Callable[[], object], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Settings")
        self.resize(640, 430)
        self._session = session
        self._lister = DeviceLister(self)
        self.sound, self.midi = SoundPage(playback, self._lister), MidiPage(playback, self._lister)
        self.files, self.appearance = FilesPage(session.outgoing), AppearancePage()
        self.appearance.again.connect(self.again)
        keys = QWidget()
        column = QVBoxLayout(keys)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(label("Every command has a key; each is shown in its tooltip and on the sheet of keys.", "dim"))
        column.addWidget(button("Show the keys", show_keys, tip="Show the keys of each stage"))
        column.addStretch(1)
        self.topics = Chips("Topics")
        self.topics.chosen.connect(lambda key: self.show_topic(str(key)))
        self.pages = QStackedWidget()
        for page in (self.sound, self.midi, self.files, self.appearance, keys):
            self.pages.addWidget(page)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(18, 16, 18, 16)
        whole.setSpacing(16)
        whole.addWidget(self.topics)
        whole.addWidget(self.pages, 1)
        preferences().changed.connect(self._changed)
        self.show_topic("sound")

    def show_topic(self, key: str) -> None:
        """Show the page of a topic."""
        self.topics.offer(list(TOPICS.items()), key)
        self.pages.setCurrentIndex(list(TOPICS).index(key))

    @property
    def looked(self) -> bool:
        """Whether the devices that there are have been found."""
        return not self._lister.busy

    def look(self) -> None:
        """Ask which devices there are now."""
        self._lister.look()

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802  # Qt's name
        self.sound.refresh()
        self.midi.refresh()
        self.files.refresh()
        self.look()

    def closeEvent(self, event: QCloseEvent | None) -> None:  # noqa: N802  # Qt's name
        self.sound.close_all()
        self._lister.close()

    def _changed(self, _before: object, _now: object) -> None:
        if preferences().problem:
            self._session.hub.trouble(preferences().problem)
