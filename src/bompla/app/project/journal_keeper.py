"""Keeping every edit on disk while the window is open."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer

from bompla.app.messages import MessageHub
from bompla.app.project.project import Project
from bompla.app.project.store import DocumentStore
from bompla.app.project.tasks import Threads, Token
from bompla.audio.clip import Clip
from bompla.errors import BomplaError
from bompla.formats.journal import JournalWriter, Written, journals_folder

KEPT_AFTER_MS = 700
"""How long after an edit it is written; edits in between are written with it."""


@dataclass(frozen=True, eq=False)
class KeepRequest:
    """What is to be kept, with the sounds that it is about, and the writer that keeps it."""

    writer: JournalWriter
    now: Written
    sounds: dict[str, Clip]


def _keep(request: KeepRequest, _token: Token) -> int:
    return request.writer.write(request.now, request.sounds)


class JournalKeeper(QObject):
    """Writes unsaved edits to the journal soon after each is made, and forgets them once they are saved."""

    def __init__(self, hub: MessageHub, project: Project, store: DocumentStore, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub, self._project = hub, project
        self._threads = Threads(self)
        self._writer = JournalWriter(journals_folder())
        self._kept: Written | None = None
        self._told = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(KEPT_AFTER_MS)
        self._timer.timeout.connect(self.keep)
        store.document_changed.connect(lambda _: self._changed())
        project.saved_changed.connect(self._changed)

    @property
    def busy(self) -> bool:
        """Whether something is being written, or is about to be."""
        return self._timer.isActive() or self._threads.busy

    @property
    def folder(self) -> Path:
        """Where this window's edits are kept."""
        return self._writer.folder

    def keep(self) -> None:
        """Write what is not saved, off the interface thread."""
        request = self._request()
        if request is not None:
            self._kept = request.now
            self._threads.run(_keep, request, done=lambda _: None, failed=self._failed)

    def keep_at_once(self) -> None:
        """Write what is not saved now, since there may be no later."""
        self._timer.stop()
        self._threads.close(finish=True)
        request = self._request()
        if request is not None:
            try:
                self._write(request)
            except BomplaError as error:
                self._failed(str(error))

    def keep_for_next(self) -> Path | None:
        """Write what is in no file as it is, and return where, for the next start to go on with; None where all is, or nothing is open.

        Raises ProjectError where it cannot be written.
        """
        if not self._project.sounds or (self._project.path is not None and not self._project.dirty):
            return None
        if not self._project.dirty:
            self._project.mark_unsaved()
        self._timer.stop()
        self._threads.close(finish=True)
        request = self._request()
        if request is not None:
            self._write(request)
        return self.folder

    def close(self, *, left: bool) -> None:
        """End; what was kept stays only if it is `left`, to be offered at the next start."""
        self._timer.stop()
        self._threads.close(finish=True)
        if left:
            self._writer.close()
        else:
            self._writer.forget()

    def _write(self, request: KeepRequest) -> None:
        """Write here and now; what is written is forgotten once it is saved, however it came there."""
        request.writer.write(request.now, request.sounds)
        self._kept = request.now

    def _changed(self) -> None:
        if not self._project.dirty:
            if self._kept is not None:
                self._kept = None
                self._timer.stop()
                self._threads.close(finish=True)
                self._writer.forget()
        elif not self._timer.isActive():
            self._timer.start()

    def _request(self) -> KeepRequest | None:
        project = self._project
        if not project.dirty or not project.sounds:
            return None
        documents = tuple(sound.history.document for sound in project.sounds)
        used = tuple(sorted({one.content_hash for document in documents for one in document.borrowed} & set(project.borrowed)))
        edits = sum(len(sound.history.done) for sound in project.sounds)
        now = Written(documents, project.current, used, str(project.path or ""), edits)
        if self._kept is not None and _same(self._kept, now):
            return None
        sounds = {sound.history.document.source.content_hash: sound.clip for sound in project.sounds}
        return KeepRequest(self._writer, now, {**sounds, **{key: project.borrowed[key] for key in used}})

    def _failed(self, sentence: str) -> None:
        if not self._told:  # once is enough: it would come again with each edit
            self._told = True
            self._hub.trouble(sentence)


def _same(one: Written, other: Written) -> bool:
    return (len(one.documents) == len(other.documents) and all(a is b for a, b in zip(one.documents, other.documents, strict=True))
            and (one.current, one.borrowed, one.path) == (other.current, other.borrowed, other.path))
