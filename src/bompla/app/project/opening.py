"""Opening: a file, or a sound that is there, on its way into the project; one at a time, in the order in which they were asked for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.analysis.params import AnalysisParams
from bompla.app.messages import MessageHub
from bompla.app.preferences import preferences
from bompla.app.project.analysis_process import AnalysisProcess
from bompla.app.project.project import Project
from bompla.app.project.project_state import Arriving, Loaded, ProjectSound, loaded_of
from bompla.app.project.tasks import Task, Threads, Token
from bompla.app.project.work_line import WorkLine
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.audio.summary import WaveSummary
from bompla.errors import BomplaError
from bompla.files import as_text, name_of
from bompla.formats.project import SUFFIX, check_fits, open_project
from bompla.groove.rebuild import document_from
from bompla.model.analysis_result import AnalysisResult
from bompla.model.document import Document
from bompla.model.wording import counted

State = Literal["waiting", "reading", "shown", "analysing", "done", "failed", "cancelled"]
Way = Literal["open", "add", "hear"]
"""In place of the project, into it, or beside it: the document goes to who asked, and the project stays as it is."""

WORK = "opening"


@dataclass(frozen=True, eq=False)
class InMemory:
    """A sound that was not read from a file: its name, and where all of it is known already, what the analysis said."""

    name: str
    clip: Clip
    heard: AnalysisResult | None = None


@dataclass(frozen=True, eq=False)
class DocumentRequest:
    """All that the analysis found in a sound, to be made a document of."""

    heard: AnalysisResult
    sound: Arriving
    title: str


class Opening:
    """One file on its way: its path, its sound once that is read, and the one task that goes on.

    Whatever goes on holds what it needs by this: a sound lives as long as its opening, or whoever took it from there.
    """

    def __init__(self, path: Path, way: Way, *, take: Callable[[Document], object] | None = None, sound: InMemory | None = None) -> None:
        self.path, self.way, self.take, self.in_memory = path, way, take, sound
        self.name = sound.name if sound is not None else name_of(path)
        self.state: State = "waiting"
        self.sound: Arriving | None = None
        self.task: Task | None = None

    @property
    def over(self) -> bool:
        """Whether it has come to its end."""
        return self.state in ("done", "failed", "cancelled")


def _read_to_show(path: Path, token: Token) -> Arriving:
    clip = read_clip(path)
    token.check()
    return Arriving(name_of(path), clip, WaveSummary.of(clip))


def _summed(request: InMemory, _token: Token) -> Arriving:
    return Arriving(request.name, request.clip, WaveSummary.of(request.clip))


def _open_project(path: Path, _token: Token) -> Loaded:
    return loaded_of(open_project(path), saved=True)


def _make_sound(request: DocumentRequest, _token: Token) -> ProjectSound:
    return ProjectSound.of(document_from(request.heard, request.title), request.sound.clip, request.sound.summary, fresh=True)


def _make_document(request: DocumentRequest, _token: Token) -> Document:
    return document_from(request.heard, request.title)


class Openings(QObject):
    """The queue of openings; one goes on at a time.

    Opening something in place of the project gives up all that waits; what is added waits for its turn. `begun` carries an opening as it
    begins, `arriving_changed` tells that another sound is on its way, or none.
    """

    begun = pyqtSignal(object)
    arriving_changed = pyqtSignal()

    def __init__(self, hub: MessageHub, project: Project, analysis: AnalysisProcess, threads: Threads, line: WorkLine,
                 parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub, self._project, self._analysis, self._threads, self._line = hub, project, analysis, threads, line
        self.tempo_range = (AnalysisParams().min_bpm, AnalysisParams().max_bpm)
        self._waiting: list[Opening] = []
        self.current: Opening | None = None
        self._asked = self._ended = 0
        self._failed: list[str] = []

    @property
    def busy(self) -> bool:
        """Whether anything is on its way."""
        return self.current is not None

    @property
    def arriving(self) -> Arriving | None:
        """The sound that is being analysed to be worked on."""
        current = self.current
        return current.sound if current is not None and current.way != "hear" else None

    def open(self, path: Path, *, add: bool = False) -> None:
        """Open a project or a sound file, or add a sound to the project; the window stays usable meanwhile."""
        adding = add and path.suffix.lower() != SUFFIX and bool(self._project.sounds or self.busy)
        if not adding:
            self.cancel()
        self._put(Opening(path, "add" if adding else "open"))

    def add_clip(self, clip: Clip, name: str) -> None:
        """Analyse a sound that is in memory, and add it to the project."""
        self._put(Opening(Path(), "add", sound=InMemory(as_text(name), clip)))

    def add_known(self, heard: AnalysisResult, clip: Clip) -> None:
        """Add a sound of which all is known already to the project."""
        self._put(Opening(Path(), "add", sound=InMemory(heard.source.name, clip, heard)))

    def hear(self, path: Path, take: Callable[[Document], object]) -> None:
        """Analyse a sound file beside the project, and give what it found to `take` as a document; the project stays as it is."""
        self._put(Opening(path, "hear", take=take))

    def cancel(self) -> None:
        """Give up all that is on its way; the project stays as it was."""
        waiting, self._waiting = self._waiting, []
        for opening in waiting:
            opening.state = "cancelled"
        self._failed = []
        if self.current is not None:
            self._end(self.current, "cancelled")

    def _put(self, opening: Opening) -> None:
        self._waiting.append(opening)
        self._asked += 1
        if self.current is None:
            self._next()
        else:
            self._tell(self.current)

    def _next(self) -> None:
        """Begin with the next that waits; after the last say which could not be had."""
        if not self._waiting:
            if len(self._failed) == 1:
                self._hub.trouble(self._failed[0])
            elif self._failed:
                self._hub.trouble(f"{counted(len(self._failed), 'file')} of {self._asked} could not be had. The first: {self._failed[0]}")
            self._asked, self._ended, self._failed = 0, 0, []
            return
        opening = self.current = self._waiting.pop(0)
        self.begun.emit(opening)
        if opening.in_memory is not None:
            self._run(opening, "reading", _summed, opening.in_memory, self._shown)
        elif opening.path.suffix.lower() == SUFFIX:
            self._run(opening, "reading", _open_project, opening.path, self._project_read)
        else:
            self._run(opening, "reading", _read_to_show, opening.path, self._shown)

    def _shown(self, opening: Opening, sound: Arriving) -> None:
        """A sound is there: show it, and have it analysed."""
        opening.sound = sound
        if opening.in_memory is None and opening.way != "hear":
            preferences().add_recent(opening.path)
        try:
            self._check_room(opening, sound.clip)
        except BomplaError as error:
            self._end(opening, "failed", str(error))
            return
        opening.state = "shown"
        self.arriving_changed.emit()
        if opening.in_memory is not None and opening.in_memory.heard is not None:
            self._make(opening, opening.in_memory.heard)
            return
        low, high = self.tempo_range if opening.way != "hear" else (AnalysisParams().min_bpm, AnalysisParams().max_bpm)
        opening.state = "analysing"
        self._tell(opening)
        opening.task = self._analysis.ask(
            "analyse", sound.clip, name=opening.name, path="" if opening.in_memory is not None else str(opening.path),
            params=AnalysisParams(min_bpm=low, max_bpm=high), done=lambda heard: self._make(opening, heard),
            failed=lambda sentence: self._end(opening, "failed", sentence), cancelled=lambda: self._end(opening, "cancelled"),
            progress=lambda share, what: self._tell(opening, share, what))

    def _check_room(self, opening: Opening, clip: Clip) -> None:
        """Raise ProjectError where one more sound would make a project that cannot be saved."""
        if opening.way == "add":
            check_fits([*(one.clip for one in self._project.sounds), clip], self._project.borrowed.values())

    def _make(self, opening: Opening, heard: AnalysisResult) -> None:
        assert opening.sound is not None
        title = as_text(opening.path.stem) if opening.in_memory is None else Path(opening.name).stem
        request = DocumentRequest(heard, opening.sound, title)
        if opening.way == "hear":
            self._run(opening, "analysing", _make_document, request, self._heard)
        else:
            self._run(opening, "analysing", _make_sound, request, self._made)

    def _heard(self, opening: Opening, document: Document) -> None:
        self._end(opening, "done", then=lambda: opening.take(document) if opening.take is not None else None)

    def _made(self, opening: Opening, sound: ProjectSound) -> None:
        def show() -> None:
            if opening.way == "add" and self._project.sounds:
                self._project.add(sound)
            else:
                self._project.load(Loaded((sound,), 0, {}), path=None)
            document = sound.history.document
            if not document.attacks:
                self._hub.trouble(f"{document.source.name} is silent or has no attacks; cut it by hand, or choose another file.")

        self._end(opening, "done", then=show)

    def _project_read(self, opening: Opening, found: Loaded) -> None:
        preferences().add_recent(opening.path)
        self._end(opening, "done", then=lambda: self._project.load(found, path=opening.path))

    def _run(self, opening: Opening, state: State, function: Callable[[Any, Token], Any], request: Any,
             done: Callable[[Opening, Any], object]) -> None:
        opening.state = state
        self._tell(opening)
        opening.task = self._threads.run(function, request, done=lambda value: done(opening, value),
                                         failed=lambda sentence: self._end(opening, "failed", sentence),
                                         cancelled=lambda: self._end(opening, "cancelled"))

    def _end(self, opening: Opening, state: State, sentence: str = "", *, then: Callable[[], object] | None = None) -> None:
        """End an opening, once; the next begins whatever comes of what follows."""
        if opening.over:
            return
        task, opening.task, opening.state = opening.task, None, state
        if task is not None and not task.over:
            task.cancel()
        had_sound, self.current = opening.sound is not None, None
        self._ended += 1
        if state == "failed":
            self._failed.append(sentence)
        try:
            if then is not None:
                then()
        finally:
            opening.sound = None
            if not self._waiting:
                self._line.over(WORK)
            self._next()
            if had_sound:
                self.arriving_changed.emit()

    def _tell(self, opening: Opening, share: float | None = None, what: str = "") -> None:
        """Tell how far it is, of several how many are left."""
        words = {"waiting": "opening", "reading": "opening", "shown": "analysing", "analysing": "analysing"}.get(opening.state, "opening")
        verb = "listening to" if opening.way == "hear" else words
        done = {"reading": 0.0, "shown": 0.05}.get(opening.state, 0.05) if share is None else share
        many = f", {self._ended + 1} of {self._asked}" if self._asked > 1 else ""
        self._line.tell(WORK, f"{verb} {opening.name}{many}{f': {what}' if what and what != 'done' else ''}", done, self.cancel)
