"""What is asked of workers: opening and analysing sounds, hearing places, pictures."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.analysis.params import AnalysisParams
from bompla.app.messages import MessageHub
from bompla.app.preferences import preferences
from bompla.app.project.analysis_process import AnalysisProcess
from bompla.app.project.project import Project
from bompla.app.project.project_state import Arriving, Loaded, ProjectSound, Work, loaded_of
from bompla.app.project.store import DocumentStore
from bompla.app.project.tasks import Newest, Task, Threads, Token
from bompla.app.project.view_state import ViewState
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.audio.oneshot import one_shot
from bompla.audio.summary import WaveSummary
from bompla.formats.project import SUFFIX, open_project
from bompla.groove.rebuild import document_from
from bompla.model.analysis_result import AnalysisResult
from bompla.model.cut_edits import add_cut, attack_near, set_heard
from bompla.model.document import SAME_ATTACK_MS, Borrowed, Document, Heard
from bompla.model.history import History
from bompla.model.kit_edits import UNHEARD_VELOCITY, put_borrowed
from bompla.units import ms_to_samples

OPENING, PICTURES, SPECTROGRAM = "opening", "pictures", "spectrogram"
"""Kinds of which only the newest request matters. All that shows its progress is of one kind: it is one at a time."""


@dataclass(frozen=True)
class OneShotRequest:
    """A sound file that is to be read for a pad, at a rate."""

    path: Path
    sample_rate: int


@dataclass(frozen=True, eq=False)
class DocumentRequest:
    """All that the analysis found in a clip, to be made a document of; its waveform, where that is there already."""

    heard: AnalysisResult
    clip: Clip
    title: str
    summary: WaveSummary | None = None


def _read(path: Path, _token: Token) -> Clip:
    return read_clip(path)


def _read_to_show(path: Path, token: Token) -> Arriving:
    clip = read_clip(path)
    token.check()
    return Arriving(path.name, clip, WaveSummary.of(clip))


def _open_project(path: Path, _token: Token) -> Loaded:
    return loaded_of(open_project(path), saved=True)


def _read_one_shot(request: OneShotRequest, _token: Token) -> tuple[Clip, int]:
    return one_shot(read_clip(request.path), request.sample_rate, request.path.name)


def _make_sound(request: DocumentRequest, _token: Token) -> ProjectSound:
    summary = request.summary or WaveSummary.of(request.clip)
    return ProjectSound(History(document_from(request.heard, request.title)), request.clip, summary, fresh=True)


class Requests(QObject):
    """Asks for what takes time, and enters what comes of it where it is still wanted."""

    pictures_changed = pyqtSignal()
    work_changed = pyqtSignal(object)
    arriving_changed = pyqtSignal()

    def __init__(
        self, hub: MessageHub, project: Project, store: DocumentStore, view: ViewState, threads: Threads, parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._hub, self._project, self._store, self._view, self._threads = hub, project, store, view, threads
        self.analysis = AnalysisProcess(self)
        self.work: Work | None = None
        self.arriving: Arriving | None = None
        self.tempo_range = (AnalysisParams().min_bpm, AnalysisParams().max_bpm)
        self._newest = Newest()
        project.shown.connect(self._show_pictures)

    @property
    def busy(self) -> bool:
        """Whether anything was asked for that is not there yet."""
        return self.analysis.busy or self._threads.busy or self.work is not None

    def close(self) -> None:
        """End all work."""
        self.analysis.close()

    def cancel(self) -> None:
        """Give up what is being opened or analysed; the project stays as it was."""
        self._newest.cancel(OPENING)

    def open(self, path: Path, *, add: bool = False) -> None:
        """Open a project or a sound file, or add a sound to the project; the window stays usable meanwhile."""
        self.cancel()
        self._set_work(Work(f"opening {path.name}", 0.0))
        if path.suffix.lower() == SUFFIX:
            self._run(_open_project, path, lambda found: self._opened(path, found))
        else:
            adding = add and bool(self._project.sounds)
            self._run(_read_to_show, path, lambda found: self._take_read(path, found, adding=adding))

    def _opened(self, path: Path, found: Loaded) -> None:
        self._project.load(found, path=path)
        preferences().add_recent(path)

    def _take_read(self, path: Path, found: Arriving, *, adding: bool) -> None:
        preferences().add_recent(path)
        self._set_arriving(found)
        self._analyse(path, found.clip, str(path), adding=adding)

    def add_clip(self, clip: Clip, name: str) -> None:
        """Analyse a sound that is in memory, and add it to the project."""
        self.cancel()
        self._analyse(Path(name), clip, "", adding=bool(self._project.sounds))

    def add_known(self, heard: AnalysisResult, clip: Clip) -> None:
        """Add a sound of which all is known already to the project."""
        self.cancel()
        self._take_heard(Path(heard.source.name), clip, heard, adding=bool(self._project.sounds))

    def hear(self, path: Path, take: Callable[[Document], object]) -> None:
        """Analyse a sound file beside the project, and give what it found to `take` as a document; the project stays as it is."""
        self.cancel()
        self._set_work(Work(f"listening to {path.name}", 0.2))

        def ask(clip: Clip) -> None:
            self._set_work(Work(f"listening to {path.name}", 0.4))
            self._keep(self.analysis.ask(
                "analyse", clip, name=path.name, path=str(path), params=AnalysisParams(), failed=self._fail, cancelled=self._no_work,
                done=lambda heard: self._end(lambda: take(document_from(heard, path.stem)))))

        self._run(_read, path, ask)

    def ask_drums_only(self) -> None:
        """Have the drums of a mix made by themselves; `pictures_changed` tells when they are there."""
        sound = self._project.sound
        if sound is None or sound.drums_only is not None:
            return
        self.cancel()
        self._set_work(Work("separating the drums", 0.3))

        def take(samples: Any) -> None:
            sound.drums_only = Clip(samples, sound.clip.sample_rate)
            self.pictures_changed.emit()

        self._keep(self.analysis.ask("drums_only", sound.clip, done=lambda samples: self._end(lambda: take(samples)), failed=self._fail,
                                     cancelled=self._no_work))

    def ask_spectrogram(self, scale: str) -> None:
        """Have the spectrogram made; `pictures_changed` tells when it is there."""
        sound = self._project.sound
        if sound is None:
            return

        def take(made: Any) -> None:
            sound.spectrogram = made
            self.pictures_changed.emit()

        self._newest.keep(SPECTROGRAM, self.analysis.ask("spectrogram", sound.clip, scale=scale, done=take, failed=self._hub.trouble))

    def cut_at(self, at_sample: int, *, snap: bool = True) -> bool:
        """Cut by hand, at the attack near a place if there is one, and have the new slice heard."""
        document, sound = self._store.document, self._project.sound
        if document is None or sound is None:
            return False
        near = attack_near(document.attacks, at_sample, ms_to_samples(SAME_ATTACK_MS, sound.clip.sample_rate)) if snap else None
        place = near.cut_sample if near else at_sample
        attack = near.at_sample if near else at_sample
        new_id = document.next_id
        if not self._store.edit("add cut", lambda d: add_cut(d, place, attack_sample=attack)):
            return False
        self._view.select(cut_id=new_id)

        def heard(answers: list[Any]) -> None:
            if sound is self._project.sound:
                self._store.amend(lambda d: set_heard(d, new_id, answers[0]))

        self.analysis.ask("hear_at", sound.clip, done=heard, failed=self._hub.trouble, places=(attack,))
        return True

    def borrow(self, path: Path, slot: int, *, more: bool = False) -> None:
        """Put a sound from another file on the pad at a slot, in place of what it plays or with `more` beside it.

        It is read and heard meanwhile; an empty slot becomes the drum that it is heard as.
        """
        sound = self._project.sound
        if sound is None:
            return

        def put(made: Clip, attack: int, heard: tuple[Heard, ...]) -> None:
            if sound is not self._project.sound:
                return
            self._project.lend(made)
            known = Borrowed(path.stem, made.content_hash, made.frames)
            best = max(heard, key=lambda one: one.confidence, default=Heard("perc", 1.0, UNHEARD_VELOCITY))
            if self._store.edit(f"load {path.stem}",
                                lambda d: put_borrowed(d, slot, known, best, attack_sample=attack, more=more)):
                document = self._store.document
                self._view.select(pad_id=next((pad.id for pad in document.pads if pad.slot == slot), 0) if document else 0)

        def ask(made: tuple[Clip, int]) -> None:
            clip, attack = made
            self.analysis.ask("hear_at", clip, done=lambda answers: put(clip, attack, tuple(answers[0])),
                              failed=self._hub.trouble, places=(attack,))

        self._threads.run(_read_one_shot, OneShotRequest(path, sound.clip.sample_rate), done=ask, failed=self._hub.trouble)

    def _analyse(self, path: Path, clip: Clip, where: str, *, adding: bool) -> None:
        self._set_work(Work(f"analysing {path.name}", 0.05))
        low, high = self.tempo_range
        self._keep(self.analysis.ask(
            "analyse", clip, name=path.name, path=where, params=AnalysisParams(min_bpm=low, max_bpm=high),
            done=lambda heard: self._take_heard(path, clip, heard, adding=adding), failed=self._fail, cancelled=self._no_work,
            progress=lambda share, what: self._set_work(Work(what, share)),
        ))

    def _take_heard(self, path: Path, clip: Clip, heard: AnalysisResult, *, adding: bool) -> None:
        summary = self.arriving.summary if self.arriving is not None and self.arriving.clip is clip else None
        self._run(_make_sound, DocumentRequest(heard, clip, path.stem, summary), lambda sound: self._show(sound, adding=adding))

    def _show(self, sound: ProjectSound, *, adding: bool) -> None:
        if adding:
            self._project.add(sound)
        else:
            self._project.load(Loaded((sound,), 0, {}), path=None)
        document = sound.history.document
        if not document.attacks:
            self._hub.trouble(f"{document.source.name} is silent or has no attacks; cut it by hand, or choose another file.")

    def _show_pictures(self) -> None:
        """Have what is drawn beside the waveform made, where it is not there yet."""
        sound = self._project.sound
        self._set_work(None)
        if sound is None:
            return
        if sound.pictures is not None:
            self.pictures_changed.emit()
            return

        def take(made: Any) -> None:
            sound.pictures = made
            if sound is self._project.sound:
                self.pictures_changed.emit()

        self._newest.keep(PICTURES, self.analysis.ask("pictures", sound.clip, done=take, failed=self._hub.trouble))

    def _run(self, function: Callable[[Any, Token], Any], request: Any, take: Callable[[Any], object]) -> None:
        """Run something on the thread as the newest of what shows its progress; what it gives may go on with more."""

        def done(value: Any) -> None:
            try:
                take(value)
            finally:
                if task is self._newest.of(OPENING):
                    self._set_work(None)

        task = self._threads.run(function, request, done=done, failed=self._fail, cancelled=self._no_work)
        self._keep(task)

    def _keep(self, task: Task) -> None:
        self._newest.keep(OPENING, task)

    def _end(self, take: Callable[[], object]) -> None:
        self._set_work(None)
        take()

    def _fail(self, sentence: str) -> None:
        self._set_work(None)
        self._hub.trouble(sentence)

    def _no_work(self) -> None:
        self._set_work(None)

    def _set_work(self, work: Work | None) -> None:
        if work != self.work:
            self.work = work
            self.work_changed.emit(work)
        if work is None:
            self._set_arriving(None)

    def _set_arriving(self, sound: Arriving | None) -> None:
        if sound is not self.arriving:
            self.arriving = sound
            self.arriving_changed.emit()
