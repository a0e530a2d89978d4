"""What is sent out of the window: how, where to, and the jobs that write it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from dataclasses import replace as with_values
from pathlib import Path

import msgspec
from msgspec.structs import replace
from PyQt6.QtCore import QObject, QStandardPaths, QTimer, pyqtSignal

from bompla.app.messages import MessageHub
from bompla.app.preferences import preferences
from bompla.app.project.project import Project
from bompla.app.project.store import DocumentStore
from bompla.app.project.tasks import Task, Threads, Token
from bompla.app.project.view_state import ViewState
from bompla.errors import ExportError
from bompla.export.folder import Taken, write_all, write_some
from bompla.export.options import ExportOptions, checked
from bompla.export.request import ExportRequest
from bompla.model.document import Document

LOOK_MS = 80
TICKED_AT_FIRST = ("midi", "loop", "slice", "sfz")


@dataclass(eq=False)
class Progress:
    """How far a job is: written by its thread, read by the window; a number and a text, each whole at any time."""

    share: float = 0.0
    what: str = ""

    def tell(self, share: float, what: str) -> None:
        """Keep how far it is."""
        self.share, self.what = share, what


@dataclass(frozen=True, eq=False)
class WriteJob:
    """What is written and where: all of `keys` into a new folder, or, `loose`, beside what is in one."""

    request: ExportRequest
    keys: tuple[str, ...]
    folder: Path
    taken: Taken = "refuse"
    loose: bool = False
    progress: Progress = field(default_factory=Progress)


def _write(job: WriteJob, token: Token) -> list[Path]:
    if job.loose:
        return [path for key in job.keys for path in write_some(job.request, key, job.folder, check=token.check)]
    return [write_all(job.request, job.keys, job.folder, taken=job.taken, progress=job.progress.tell, check=token.check)]


class Outgoing(QObject):
    """Makes requests of what is shown, and writes them on a thread of its own.

    `options_changed` tells that something would leave otherwise; `moved_on` carries how far a job is, and what it is at; `over` that it
    ended. `ticked` are the exports, by key, that are written together; `last_keys` and `last_paths` are what was written last.
    """

    options_changed = pyqtSignal()
    moved_on = pyqtSignal(float, str)
    over = pyqtSignal()

    def __init__(self, hub: MessageHub, project: Project, store: DocumentStore, shown: ViewState, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub, self._project, self._store, self._shown = hub, project, store, shown
        self._threads = Threads(self)
        self._known: ExportRequest | None = None
        self._task: Task | None = None
        self._job: WriteJob | None = None
        self.options = _kept_options()
        self.ticked: tuple[str, ...] = TICKED_AT_FIRST
        self.last_keys: tuple[str, ...] = ()
        self.last_paths: tuple[Path, ...] = ()
        self._last: tuple[Document, ExportOptions] | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        project.sound_changed.connect(self._forget)

    @property
    def busy(self) -> bool:
        """Whether something is being written."""
        return self._threads.busy

    @property
    def folder(self) -> Path:
        """Where folders of exports go."""
        return Path(preferences().value.export_folder or _music() / "Bompla")

    @property
    def drag_folder(self) -> Path:
        """Where files lie that are dragged or copied out: other programs refer to them there, so they stay."""
        return Path(preferences().value.drag_folder or _music() / "Bompla" / "dragged")

    def set_folder(self, folder: Path, *, dragged: bool = False) -> None:
        """Choose where exports, or what is dragged out, go."""
        preferences().set(**{"drag_folder" if dragged else "export_folder": str(folder)})
        self.options_changed.emit()

    def set_options(self, **values: object) -> bool:
        """Change how things leave; False, with a sentence, where that cannot be."""
        try:
            made = checked(replace(self.options, **values))
        except ExportError as error:
            self._hub.trouble(str(error))
            return False
        self.options = made
        preferences().set(export_options=msgspec.to_builtins(made))
        self.options_changed.emit()
        return True

    def request(self) -> ExportRequest | None:
        """Return what would leave now; None where nothing is open."""
        document, clip = self._store.document, self._project.clip
        if document is None or clip is None:
            return None
        silenced, borrowed = self._shown.silenced, self._project.borrowed
        known = self._known
        if known is not None and known.document is document and (known.clip, known.borrowed) == (clip, borrowed) and (
                known.options, known.silenced) == (self.options, silenced):
            return known
        self._known = ExportRequest(document, clip, self.options, borrowed, silenced)
        return self._known

    @property
    def last_is_so(self) -> bool:
        """Whether what was written last is still what would be written."""
        return self._last is not None and self._last[0] is self._store.document and self._last[1] == self.options

    def write(self, keys: Sequence[str], folder: Path, taken: Taken = "refuse") -> Task | None:
        """Write exports into a new folder; what becomes of it is told."""
        request = self.request()
        if request is None or not keys:
            return None
        job = WriteJob(with_values(request, made={}), tuple(keys), folder, taken)  # what is made for it goes with it
        return self._run(job, lambda paths: self._written(request, keys, paths))

    def put_out(self, key: str, done: Callable[[list[Path]], object], *, only: frozenset[int] = frozenset(),
                document: Document | None = None) -> Task | None:
        """Write one export into the folder of what is dragged, and hand the files over."""
        request = self.request()
        if request is None:
            return None
        request = with_values(request, document=document or request.document, only=only, made={})

        def written(paths: list[Path]) -> None:
            self._keep(request, (key,), paths)
            done(paths)

        return self._run(WriteJob(request, (key,), self.drag_folder, loose=True), written)

    def note_written(self, key: str, path: Path) -> None:
        """Keep, and tell, that one file was written where the user said."""
        request = self.request()
        if request is not None:
            self._written(request, (key,), [path])

    def cancel(self) -> None:
        """Give up what is being written; nothing is left of it."""
        if self._task is not None:
            self._task.cancel()

    def close(self) -> None:
        """End all writing."""
        self._timer.stop()
        self._threads.close()

    def _run(self, job: WriteJob, done: Callable[[list[Path]], object]) -> Task:
        self._job = job
        task = self._threads.run(_write, job, done=done, failed=self._hub.trouble,
                                 cancelled=lambda: self._hub.note("Cancelled; nothing was written."))
        self._task = task
        task.when_over(lambda _: self._ended())
        self._timer.start()
        return task

    def _written(self, request: ExportRequest, keys: Sequence[str], paths: list[Path]) -> None:
        self._keep(request, keys, paths)
        self._hub.note(f"Wrote {paths[0]}.", button="Show in folder", action=lambda: show_in_folder(paths[0]))

    def _keep(self, request: ExportRequest, keys: Sequence[str], paths: list[Path]) -> None:
        self.last_keys, self.last_paths = tuple(keys), tuple(paths)
        self._last = (request.document, request.options)
        self.options_changed.emit()
        self._project.saved_changed.emit()

    def _look(self) -> None:
        if self._job is not None:
            self.moved_on.emit(self._job.progress.share, self._job.progress.what)

    def _ended(self) -> None:
        self._timer.stop()
        self.over.emit()

    def _forget(self) -> None:
        self.last_keys, self.last_paths, self._last = (), (), None
        self.options_changed.emit()


def show_in_folder(path: Path) -> None:
    """Open the folder of a file, or a folder, in the desktop's own program."""
    from PyQt6.QtCore import QUrl
    from PyQt6.QtGui import QDesktopServices

    QDesktopServices.openUrl(QUrl.fromLocalFile(str(path if path.is_dir() else path.parent)))


def _kept_options() -> ExportOptions:
    try:
        return checked(msgspec.convert(preferences().value.export_options, ExportOptions))
    except (msgspec.ValidationError, ExportError):
        return ExportOptions()


def _music() -> Path:
    return Path(QStandardPaths.writableLocation(QStandardPaths.StandardLocation.MusicLocation) or str(Path.home()))
