"""The project being worked on: its history, its sound, what is selected, and how it is opened and saved."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from numpy import float32
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.jobs import AnalysisProcess, Threads
from bompla.app.messages import MessageHub
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.audio.summary import WaveSummary
from bompla.errors import BomplaError, EditError
from bompla.formats.project import SUFFIX, open_project, save_project
from bompla.groove.rebuild import document_from
from bompla.model.cut_edits import add_cut, attack_near, set_heard
from bompla.model.document import Document
from bompla.model.heard_loop import HeardLoop
from bompla.model.history import History
from bompla.units import ms_to_samples

SNAP_MS = 12.0


@dataclass(frozen=True, eq=False)
class Pictures:
    """What is drawn beside the waveform: attack strength, and the levels of low, mid and high."""

    curve: NDArray[float32]
    curve_step_s: float
    bands: NDArray[float32]
    bands_step_s: float


@dataclass(frozen=True)
class Selection:
    """What is selected: a cut, a pad and hits, by id."""

    cut_id: int = 0
    pad_id: int = 0
    hit_ids: frozenset[int] = frozenset()


@dataclass(frozen=True)
class Work:
    """Long work under way: what it is, how far, and whether it can be cancelled."""

    label: str
    share: float


class Session(QObject):
    """Holds the document and tells its listeners, once, after each whole change."""

    opened = pyqtSignal()
    document_changed = pyqtSignal(object)
    selection_changed = pyqtSignal(object)
    pictures_changed = pyqtSignal()
    work_changed = pyqtSignal(object)
    saved_changed = pyqtSignal()

    def __init__(self, hub: MessageHub, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.hub = hub
        self.analysis = AnalysisProcess(self)
        self.threads = Threads(self)
        self.history: History | None = None
        self.clip: Clip | None = None
        self.summary: WaveSummary | None = None
        self.pictures: Pictures | None = None
        self.selection = Selection()
        self.path: Path | None = None
        self.saved_at = ""
        self.work: Work | None = None
        self._preview: Document | None = None
        self._saved: Document | None = None
        self._job = 0
        self._opening = 0

    @property
    def document(self) -> Document | None:
        """The document as it is shown: with a gesture in progress, if there is one."""
        if self._preview is not None:
            return self._preview
        return self.history.document if self.history else None

    @property
    def dirty(self) -> bool:
        """Whether there are edits that are not saved."""
        if self.history is None or self.history.document is self._saved:
            return False
        return bool(self.history.done) or self._saved is not None

    def edit(self, label: str, change: Callable[[Document], Document]) -> bool:
        """Make an edit as one step of undo; False, with a message, where it cannot be made."""
        if self.history is None:
            return False
        try:
            after = change(self.history.document)
        except EditError as error:
            self._preview = None
            self.hub.trouble(str(error))
            self._tell()
            return False
        had_preview, self._preview = self._preview is not None, None
        history = self.history.after(after, label)
        if history is self.history and not had_preview:
            return False
        self.history = history
        self._tell()
        return True

    def preview(self, change: Callable[[Document], Document]) -> None:
        """Show a gesture in progress; `edit` or `drop_preview` ends it."""
        if self.history is None:
            return
        try:
            self._preview = change(self.history.document)
        except EditError:
            return
        self._tell()

    def drop_preview(self) -> None:
        """Go back to the document before the gesture."""
        if self._preview is not None:
            self._preview = None
            self._tell()

    def undo(self) -> None:
        """Take back the last edit."""
        if self.history is not None and self.history.done:
            self._preview = None
            self.history = self.history.undo()
            self._tell()

    def redo(self) -> None:
        """Make the last undone edit again."""
        if self.history is not None and self.history.undone:
            self._preview = None
            self.history = self.history.redo()
            self._tell()

    def select(self, **what: Any) -> None:
        """Select a cut (`cut_id`), a pad (`pad_id`) or hits (`hit_ids`); what is not named stays."""
        values = {"cut_id": self.selection.cut_id, "pad_id": self.selection.pad_id, "hit_ids": self.selection.hit_ids}
        selection = Selection(**{**values, **what})
        if selection != self.selection:
            self.selection = selection
            self.selection_changed.emit(selection)

    def cut_at(self, at_sample: int, *, snap: bool = True) -> bool:
        """Cut by hand, at the attack near a place if there is one, and have the new slice heard."""
        document, clip = self.document, self.clip
        if document is None or clip is None:
            return False
        near = attack_near(document.attacks, at_sample, ms_to_samples(SNAP_MS, clip.sample_rate)) if snap else None
        place = near.cut_sample if near else at_sample
        attack = near.at_sample if near else at_sample
        new_id = document.next_id
        if not self.edit("add cut", lambda d: add_cut(d, place, attack_sample=attack)):
            return False
        self.select(cut_id=new_id)

        def heard(answers: list[Any]) -> None:
            if self.history is not None and self.clip is clip:
                self.history = self.history.amended(lambda d: set_heard(d, new_id, answers[0]))
                self._tell()

        self.analysis.ask("hear_at", clip, done=heard, failed=self.hub.trouble, places=(attack,))
        return True

    def open(self, path: Path) -> None:
        """Open a project or a sound file; the window stays usable meanwhile."""
        self.cancel()
        self._opening += 1
        opening = self._opening
        self._set_work(Work(f"opening {path.name}", 0.0))
        if path.suffix.lower() == SUFFIX:
            self.threads.run(
                lambda: _project_with_summary(path), lambda found: self._take_project(opening, path, found),
                lambda sentence: self._give_up(opening, sentence),
            )
        else:
            self.threads.run(
                lambda: read_clip(path), lambda clip: self._analyse(opening, path, clip),
                lambda sentence: self._give_up(opening, sentence),
            )

    def cancel(self) -> None:
        """Give up what is being opened or analysed; the project stays as it was."""
        self._opening += 1
        if self._job:
            self.analysis.cancel(self._job)
            self._job = 0
        self._set_work(None)

    def save(self, path: Path) -> None:
        """Save the project, off the interface thread."""
        if self.history is None or self.clip is None:
            return
        document, clip = self.history.document, self.clip

        def done(_: Any) -> None:
            self.path, self._saved = path, document
            self.saved_at = time.strftime("%H:%M")
            self.saved_changed.emit()

        self.threads.run(lambda: save_project(document, clip, path), done, self.hub.trouble)

    def close(self) -> None:
        """End all work."""
        self.analysis.close()
        self.threads.close()

    def load(self, document: Document, clip: Clip, summary: WaveSummary, *, path: Path | None, saved: bool) -> None:
        """Show a document with its sound; the history begins anew."""
        self.history = History(document)
        self._preview = None
        self._saved = document if saved else None
        self.clip, self.summary, self.pictures = clip, summary, None
        self.path, self.saved_at = path, ""
        first = document.slices()[0].cut.id if document.slices() else 0
        self.selection = Selection(first, document.pads[0].id if document.pads else 0)
        self._set_work(None)
        self.opened.emit()
        self._tell()
        self.selection_changed.emit(self.selection)
        self.analysis.ask("pictures", clip, done=lambda made: self._take_pictures(clip, made), failed=self.hub.trouble)

    def _analyse(self, opening: int, path: Path, clip: Clip) -> None:
        if opening != self._opening:
            return
        self._set_work(Work(f"analysing {path.name}", 0.05))
        self._job = self.analysis.ask(
            "analyse", clip, name=path.name, path=str(path),
            done=lambda heard: self._take_heard(opening, path, clip, heard),
            failed=lambda sentence: self._give_up(opening, sentence),
            progress=lambda share, what: self._set_work(Work(what, share)),
        )

    def _take_heard(self, opening: int, path: Path, clip: Clip, heard: HeardLoop) -> None:
        if opening != self._opening:
            return
        self._job = 0
        self.threads.run(
            lambda: (document_from(heard, path.stem), WaveSummary.of(clip)),
            lambda made: self._finish_opening(opening, made, clip),
            lambda sentence: self._give_up(opening, sentence),
        )

    def _finish_opening(self, opening: int, made: tuple[Document, WaveSummary], clip: Clip) -> None:
        if opening != self._opening:
            return
        document, summary = made
        self.load(document, clip, summary, path=None, saved=False)
        if not document.attacks:
            self.hub.trouble(f"{document.source.name} is silent or has no attacks; cut it by hand, or choose another file.")

    def _take_project(self, opening: int, path: Path, found: tuple[Document, Clip, WaveSummary]) -> None:
        if opening == self._opening:
            document, clip, summary = found
            self.load(document, clip, summary, path=path, saved=True)

    def _take_pictures(self, clip: Clip, made: Any) -> None:
        if clip is self.clip:
            (curve, curve_step_s), (bands, bands_step_s) = made
            self.pictures = Pictures(curve, curve_step_s, bands, bands_step_s)
            self.pictures_changed.emit()

    def _give_up(self, opening: int, sentence: str) -> None:
        if opening == self._opening:
            self._job = 0
            self._set_work(None)
            self.hub.trouble(sentence)

    def _set_work(self, work: Work | None) -> None:
        if work != self.work:
            self.work = work
            self.work_changed.emit(work)

    def _tell(self) -> None:
        self.document_changed.emit(self.document)
        self.saved_changed.emit()


def _project_with_summary(path: Path) -> tuple[Document, Clip, WaveSummary]:
    document, clip = open_project(path)
    return document, clip, WaveSummary.of(clip)


def rescue(session: Session, folder: Path) -> Path | None:
    """Write unsaved work to a folder before the application ends in an error; None if there is none."""
    if session.history is None or session.clip is None or not session.dirty:
        return None
    try:
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"rescued {time.strftime('%Y-%m-%d %H.%M.%S')}{SUFFIX}"
        save_project(session.history.document, session.clip, path)
    except (BomplaError, OSError):
        return None
    return path
