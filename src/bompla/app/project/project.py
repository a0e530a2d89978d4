"""The project being worked on: its sounds, what their pads borrow, and how it is saved."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.analysis.pictures import Pictures
from bompla.app.messages import MessageHub
from bompla.app.project.project_state import Loaded, ProjectSound
from bompla.app.project.tasks import Task, Threads, Token
from bompla.audio.clip import Clip
from bompla.audio.summary import WaveSummary
from bompla.formats.project import Project as ProjectFile
from bompla.formats.project import save_project
from bompla.model.document import Document, Layer


@dataclass(frozen=True, eq=False)
class SaveRequest:
    """A project as it is to be written, and where."""

    project: ProjectFile
    path: Path


_GONE = (-1, -1)


def _stamp(path: Path) -> tuple[int, int]:
    """Return when a file was written and how long it is."""
    try:
        found = path.stat()
    except OSError:
        return _GONE
    return found.st_mtime_ns, found.st_size


def _save(request: SaveRequest, _token: Token) -> None:
    save_project(request.project, request.path)


class Project(QObject):
    """Holds the sounds, each with a document and history of its own; one of them is worked on.

    `sound_changed` tells that another sound is worked on, `saved_changed` that what is saved, or whether all is, may be another.
    """

    sound_changed = pyqtSignal()
    saved_changed = pyqtSignal()

    def __init__(self, hub: MessageHub, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub = hub
        self._threads = Threads(self)
        """Of its own: a save waits for nothing, least of all for a file that is being read."""

        self.sounds: tuple[ProjectSound, ...] = ()
        self.removed: tuple[ProjectSound, ...] = ()
        self.borrowed: Mapping[str, Clip] = {}
        self.current = 0
        self.path: Path | None = None
        self.saved_at = ""
        self._saved_sounds: tuple[ProjectSound, ...] = ()
        self._unsaved = False
        self._seen: tuple[Path, tuple[int, int]] | None = None
        self._borrowed_summaries: dict[str, WaveSummary] = {}

    @property
    def sound(self) -> ProjectSound | None:
        """The sound that is worked on."""
        return self.sounds[self.current] if self.sounds else None

    @property
    def clip(self) -> Clip | None:
        """The samples of the sound that is worked on."""
        return self.sounds[self.current].clip if self.sounds else None

    @property
    def summary(self) -> WaveSummary | None:
        """The waveform of the sound that is worked on."""
        return self.sounds[self.current].summary if self.sounds else None

    @property
    def pictures(self) -> Pictures | None:
        """What is drawn beside the waveform of the sound that is worked on, once it is made."""
        return self.sounds[self.current].pictures if self.sounds else None

    @property
    def saving(self) -> bool:
        """Whether the project is being written."""
        return self._threads.busy

    def close(self) -> None:
        """Let what is being saved be saved."""
        self._threads.close(finish=True)

    @property
    def dirty(self) -> bool:
        """Whether there are edits that are not saved."""
        if self._unsaved and self.sounds:
            return True
        if self.sounds and self._saved_sounds and self._saved_sounds != self.sounds:
            return True
        return any(sound.unsaved for sound in self.sounds)

    def sound_of(self, layer: Layer) -> Clip | None:
        """Return the sound that a pad's layer is a part of: the source, or what is borrowed."""
        return self.borrowed.get(layer.of) if layer.of else self.clip

    def summary_of(self, layer: Layer) -> WaveSummary | None:
        """Return the waveform of the sound that a pad's layer is a part of."""
        if not layer.of:
            return self.summary
        clip = self.borrowed.get(layer.of)
        if clip is None:
            return None
        if layer.of not in self._borrowed_summaries:
            self._borrowed_summaries[layer.of] = WaveSummary.of(clip)  # of some seconds at most
        return self._borrowed_summaries[layer.of]

    def lend(self, clip: Clip) -> None:
        """Keep a sound from another file, for pads to play."""
        self.borrowed = {**self.borrowed, clip.content_hash: clip}

    def load(self, made: Loaded, *, path: Path | None) -> None:
        """Show a project; its history begins anew."""
        self.sounds, self.current, self.borrowed = made.sounds, made.current, dict(made.borrowed)
        self.removed = ()
        self._saved_sounds = self.sounds if all(sound.saved for sound in self.sounds) else ()
        self.path, self.saved_at, self._unsaved = path, "", False
        self._look_at(path)
        self._show()

    def changed_on_disk(self, path: Path) -> bool:
        """Whether a project's file is another than when it was opened or saved here."""
        return self._seen is not None and self._seen[0] == path and _stamp(path) not in (self._seen[1], _GONE)

    def _look_at(self, path: Path | None) -> None:
        self._seen = (path, _stamp(path)) if path is not None else None

    def mark_unsaved(self) -> None:
        """Count what is shown as edited, though nothing was edited since it was loaded."""
        self._unsaved = True
        self.saved_changed.emit()

    def add(self, sound: ProjectSound) -> None:
        """Add a sound, and show it."""
        self._saved_sounds = self._saved_sounds or self.sounds
        self.sounds = (*self.sounds, sound)
        self.current = len(self.sounds) - 1
        self._show()

    def switch(self, index: int) -> None:
        """Work on another sound of the project; each keeps its own loop, cuts, kit, pattern and undo."""
        if 0 <= index < len(self.sounds) and index != self.current:
            self.current = index
            self._show()

    def remove(self, index: int) -> None:
        """Remove a sound from the project; `restore` undoes it. The last one stays."""
        if len(self.sounds) < 2 or not 0 <= index < len(self.sounds):
            return
        self.removed = (*self.removed, self.sounds[index])
        self.sounds = (*self.sounds[:index], *self.sounds[index + 1 :])
        self.current = min(self.current - (index < self.current), len(self.sounds) - 1)
        self._show()

    def restore(self) -> None:
        """Bring back the sound that was removed last."""
        if self.removed:
            self.removed, sound = self.removed[:-1], self.removed[-1]
            self.add(sound)

    def _show(self) -> None:
        self.sound_changed.emit()

    def as_file(self) -> ProjectFile:
        """Return the project as it is saved."""
        return ProjectFile(tuple((s.history.document, s.clip) for s in self.sounds), self.current, dict(self.borrowed))

    def save(self, path: Path) -> Task | None:
        """Save the project off the interface thread; None where there is nothing to be saved."""
        if not self.sounds:
            return None
        sounds = self.sounds
        documents: tuple[Document, ...] = tuple(sound.history.document for sound in sounds)

        def done(_: object) -> None:
            self.path, self._saved_sounds, self._unsaved = path, sounds, False
            self._look_at(path)
            for document, sound in zip(documents, sounds, strict=True):
                sound.saved = document
            self.saved_at = time.strftime("%H:%M")
            self.saved_changed.emit()

        return self._threads.run(_save, SaveRequest(self.as_file(), path), done=done, failed=self._hub.trouble)
