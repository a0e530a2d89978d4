"""The project being worked on: its history, its sound, what is selected, and how it is opened and saved."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.analysis.params import AnalysisParams
from bompla.analysis.review.doubts import Doubt
from bompla.analysis.spectrogram import Spectrogram
from bompla.app.messages import MessageHub
from bompla.app.project.doubt_watch import DoubtWatch
from bompla.app.project.jobs import AnalysisProcess, Threads
from bompla.app.project.project_state import Loaded, Opened, Pictures, Selection, Work, opened_of
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.audio.oneshot import one_shot
from bompla.audio.summary import WaveSummary
from bompla.errors import EditError
from bompla.formats.project import SUFFIX, Project, open_project, save_project
from bompla.groove.rebuild import document_from
from bompla.model.analysis_result import AnalysisResult
from bompla.model.cut_edits import add_cut, attack_near, set_heard
from bompla.model.document import Borrowed, Document, Heard, Layer
from bompla.model.history import History
from bompla.model.kit_edits import put_borrowed
from bompla.units import ms_to_samples

SNAP_MS = 12.0
UNHEARD_VELOCITY = 100


class Session(QObject):
    """Holds the document and tells its listeners, once, after each whole change.

    A project may hold several sounds, each with a document and history of its own; one of them is
    worked on.
    """

    opened = pyqtSignal()
    document_changed = pyqtSignal(object)
    selection_changed = pyqtSignal(object)
    pictures_changed = pyqtSignal()
    doubts_changed = pyqtSignal()
    work_changed = pyqtSignal(object)
    saved_changed = pyqtSignal()

    def __init__(self, hub: MessageHub, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.hub = hub
        self.analysis = AnalysisProcess(self)
        self.threads = Threads(self)
        self.sounds: list[Opened] = []
        self.taken_out: list[Opened] = []
        self.borrowed: dict[str, Clip] = {}
        self.current = 0
        self.path: Path | None = None
        self.saved_at = ""
        self.work: Work | None = None
        self._preview: Document | None = None
        self._saved_sounds: list[Opened] = []
        self._job = 0
        self._opening = 0
        self._adding = False
        self.tempo_range = (AnalysisParams().min_bpm, AnalysisParams().max_bpm)
        self._watch = DoubtWatch(self.threads, lambda: self.opened_sound, hub.trouble, self)
        self._watch.changed.connect(self.doubts_changed)
        self._borrowed_summaries: dict[str, WaveSummary] = {}

    @property
    def opened_sound(self) -> Opened | None:
        """The sound that is worked on."""
        return self.sounds[self.current] if self.sounds else None

    @property
    def history(self) -> History | None:
        """The history of the sound that is worked on."""
        return self.sounds[self.current].history if self.sounds else None

    @property
    def clip(self) -> Clip | None:
        """The sound that is worked on."""
        return self.sounds[self.current].clip if self.sounds else None

    @property
    def summary(self) -> WaveSummary | None:
        """Its waveform."""
        return self.sounds[self.current].summary if self.sounds else None

    @property
    def pictures(self) -> Pictures | None:
        """What is drawn beside its waveform, once it is made."""
        return self.sounds[self.current].pictures if self.sounds else None

    @property
    def selection(self) -> Selection:
        """What is selected in it."""
        return self.sounds[self.current].selection if self.sounds else Selection()

    @property
    def document(self) -> Document | None:
        """The document as it is shown: with a gesture in progress, if there is one."""
        if self._preview is not None:
            return self._preview
        return self.history.document if self.history else None

    @property
    def doubts(self) -> tuple[Doubt, ...]:
        """What is doubtful in it."""
        return self._watch.found

    @property
    def previewing(self) -> bool:
        """Whether a gesture is in progress: what costs time may wait for its end."""
        return self._preview is not None

    @property
    def dirty(self) -> bool:
        """Whether there are edits that are not saved."""
        if self.sounds and self._saved_sounds and self._saved_sounds != self.sounds:
            return True
        return any(self._unsaved(sound) for sound in self.sounds)

    @staticmethod
    def _unsaved(sound: Opened) -> bool:
        if sound.history.document is sound.saved:
            return False
        return bool(sound.history.done) or sound.saved is not None

    def _set_history(self, history: History) -> None:
        self.sounds[self.current].history = history

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
        self._set_history(history)
        self._tell()
        return True

    def amend(self, change: Callable[[Document], Document]) -> None:
        """Change what is shown, not what there is: no step of undo."""
        if self.history is not None:
            self._preview = None
            self._set_history(self.history.amended(change))
            self._tell()

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
            self._set_history(self.history.undo())
            self._tell()

    def go_back(self, steps: int) -> None:
        """Take so many edits back at once, or with a negative number make as many undone ones again."""
        history = self.history
        if history is None or not steps:
            return
        for _ in range(abs(steps)):
            history = history.undo() if steps > 0 else history.redo()
        self._preview = None
        self._set_history(history)
        self._tell()

    def redo(self) -> None:
        """Make the last undone edit again."""
        if self.history is not None and self.history.undone:
            self._preview = None
            self._set_history(self.history.redo())
            self._tell()

    def select(self, **what: Any) -> None:
        """Select a cut (`cut_id`, with others `more_cuts`), a pad (`pad_id`) or hits (`hit_ids`).

        What is not named stays, but a cut named by itself is selected alone.
        """
        if "cut_id" in what:
            what.setdefault("more_cuts", frozenset())
        selection = replace(self.selection, **what)
        if self.sounds and selection != self.selection:
            self.sounds[self.current].selection = selection
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
                self._set_history(self.history.amended(lambda d: set_heard(d, new_id, answers[0])))
                self._tell()

        self.analysis.ask("hear_at", clip, done=heard, failed=self.hub.trouble, places=(attack,))
        return True

    def open(self, path: Path, *, add: bool = False) -> None:
        """Open a project or a sound file, or add a sound to the project; the window stays usable meanwhile."""
        self.cancel()
        self._opening += 1
        self._adding = add and bool(self.sounds)
        opening = self._opening
        self._set_work(Work(f"opening {path.name}", 0.0))
        if path.suffix.lower() == SUFFIX:
            self.threads.run(
                lambda: opened_of(open_project(path), saved=True), lambda found: self._take_project(opening, path, found),
                lambda sentence: self._give_up(opening, sentence),
            )
        else:
            self.threads.run(
                lambda: read_clip(path), lambda clip: self._analyse(opening, path, clip, str(path)),
                lambda sentence: self._give_up(opening, sentence),
            )

    def add_clip(self, clip: Clip, name: str) -> None:
        """Analyse a sound that is in memory, and add it to the project."""
        self.cancel()
        self._opening += 1
        self._adding = bool(self.sounds)
        self._analyse(self._opening, Path(name), clip, "")

    def add_known(self, heard: AnalysisResult, clip: Clip) -> None:
        """Add a sound of which all is known already to the project."""
        self.cancel()
        self._opening += 1
        self._adding = bool(self.sounds)
        self._take_heard(self._opening, Path(heard.source.name), clip, heard)

    def hear(self, path: Path, take: Callable[[Document], object]) -> None:
        """Analyse a sound file beside the project, and hand over what was heard in it as a document; the project stays as it is."""
        self._set_work(Work(f"listening to {path.name}", 0.2))

        def give_up(sentence: str) -> None:
            self._set_work(None)
            self.hub.trouble(sentence)

        def heard(made: AnalysisResult) -> None:
            self._set_work(None)
            take(document_from(made, path.stem))

        def ask(clip: Clip) -> None:
            self.analysis.ask("analyse", clip, name=path.name, path=str(path), params=AnalysisParams(), done=heard, failed=give_up)

        self.threads.run(lambda: read_clip(path), ask, give_up)

    def borrow(self, path: Path, slot: int, *, more: bool = False) -> None:
        """Put a sound from another file on the pad at a slot, in place of what it plays or with `more` beside it.

        It is read and heard meanwhile; an empty slot becomes the drum that it is heard as.
        """
        sound = self.opened_sound
        if sound is None:
            return
        rate = sound.clip.sample_rate

        def put(made: Clip, attack: int, heard: tuple[Heard, ...]) -> None:
            if sound is not self.opened_sound:
                return
            self.borrowed[made.content_hash] = made
            known = Borrowed(path.stem, made.content_hash, made.frames)
            best = max(heard, key=lambda one: one.confidence, default=Heard("perc", 1.0, UNHEARD_VELOCITY))
            if self.edit(f"put {path.stem} on a pad",
                         lambda d: put_borrowed(d, slot, known, best, attack_sample=attack, more=more)):
                document = self.document
                self.select(pad_id=next((pad.id for pad in document.pads if pad.slot == slot), 0) if document else 0)

        def read(made: tuple[Clip, int]) -> None:
            clip, attack = made
            self.analysis.ask("hear_at", clip, done=lambda answers: put(clip, attack, tuple(answers[0])),
                              failed=self.hub.trouble, places=(attack,))

        self.threads.run(lambda: one_shot(read_clip(path), rate, path.name), read, self.hub.trouble)

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

    def ask_drums_only(self) -> None:
        """Have the drums of a mix made by themselves; `pictures_changed` tells when they are there."""
        sound = self.opened_sound
        if sound is None or sound.drums_only is not None:
            return
        self._set_work(Work("taking the drums out of the mix", 0.3))

        def take(samples: Any) -> None:
            sound.drums_only = Clip(samples, sound.clip.sample_rate)
            self._set_work(None)
            self.pictures_changed.emit()

        self._job = self.analysis.ask("drums_only", sound.clip, done=take, failed=lambda sentence: self._give_up(self._opening, sentence))

    def cancel(self) -> None:
        """Give up what is being opened or analysed; the project stays as it was."""
        self._opening += 1
        if self._job:
            self.analysis.cancel(self._job)
            self._job = 0
        self._set_work(None)

    def switch(self, index: int) -> None:
        """Work on another sound of the project; each keeps its own loop, cuts, kit, pattern and undo."""
        if 0 <= index < len(self.sounds) and index != self.current:
            self._preview = None
            self.current = index
            self._show_sound()

    def take_out(self, index: int) -> None:
        """Take a sound out of the project; `bring_back` undoes it. The last one stays."""
        if len(self.sounds) < 2 or not 0 <= index < len(self.sounds):
            return
        self.taken_out.append(self.sounds[index])
        self.sounds = [sound for at, sound in enumerate(self.sounds) if at != index]
        self.current = min(self.current - (index < self.current), len(self.sounds) - 1)
        self._preview = None
        self._show_sound()

    def bring_back(self) -> None:
        """Bring back the sound that was last taken out of the project."""
        if self.taken_out:
            self._add_sound(self.taken_out.pop())

    def save(self, path: Path) -> None:
        """Save the project, off the interface thread."""
        if not self.sounds:
            return
        sounds = list(self.sounds)
        documents = [sound.history.document for sound in sounds]
        project = Project(tuple((d, sound.clip) for d, sound in zip(documents, sounds, strict=True)), self.current, dict(self.borrowed))

        def done(_: Any) -> None:
            self.path, self._saved_sounds = path, sounds
            for document, sound in zip(documents, sounds, strict=True):
                sound.saved = document
            self.saved_at = time.strftime("%H:%M")
            self.saved_changed.emit()

        self.threads.run(lambda: save_project(project, path), done, self.hub.trouble)

    def close(self) -> None:
        """End all work."""
        self.analysis.close()
        self.threads.close()

    def load(self, made: Loaded, *, path: Path | None) -> None:
        """Show a project; its history begins anew."""
        self.sounds, self.current, self.borrowed = list(made[0]), made[1], dict(made[2])
        self.taken_out = []
        self._saved_sounds = list(self.sounds) if all(sound.saved for sound in self.sounds) else []
        self.path, self.saved_at = path, ""
        self._preview = None
        self._show_sound()

    def _add_sound(self, sound: Opened) -> None:
        if not self._saved_sounds:
            self._saved_sounds = list(self.sounds)
        self.sounds = [*self.sounds, sound]
        self.current = len(self.sounds) - 1
        self._preview = None
        self._show_sound()

    def _show_sound(self) -> None:
        self._set_work(None)
        self._watch.forget()
        self.opened.emit()
        self._tell()
        self.selection_changed.emit(self.selection)
        sound = self.sounds[self.current]
        if sound.pictures is None:
            self.analysis.ask("pictures", sound.clip, done=lambda made: self._take_pictures(sound, made), failed=self.hub.trouble)
        else:
            self.pictures_changed.emit()

    def _analyse(self, opening: int, path: Path, clip: Clip, where: str) -> None:
        if opening != self._opening:
            return
        self._set_work(Work(f"analysing {path.name}", 0.05))
        self._job = self.analysis.ask(
            "analyse", clip, name=path.name, path=where, params=AnalysisParams(
                min_bpm=self.tempo_range[0], max_bpm=self.tempo_range[1]),
            done=lambda heard: self._take_heard(opening, path, clip, heard),
            failed=lambda sentence: self._give_up(opening, sentence),
            progress=lambda share, what: self._set_work(Work(what, share)),
        )

    def _take_heard(self, opening: int, path: Path, clip: Clip, heard: AnalysisResult) -> None:
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
        sound = Opened(History(document), clip, summary)
        if self._adding:
            self._add_sound(sound)
        else:
            self.load(([sound], 0, {}), path=None)
        if not document.attacks:
            self.hub.trouble(f"{document.source.name} is silent or has no attacks; cut it by hand, or choose another file.")

    def _take_project(self, opening: int, path: Path, found: Loaded) -> None:
        if opening == self._opening:
            self.load(found, path=path)

    def _take_pictures(self, sound: Opened, made: Any) -> None:
        (curve, curve_step_s), (bands, bands_step_s) = made
        sound.pictures = Pictures(curve, curve_step_s, bands, bands_step_s)
        if sound is self.opened_sound:
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

    def ask_spectrogram(self, scale: str) -> None:
        """Have the spectrogram made; `pictures_changed` tells when it is there."""
        sound = self.opened_sound
        if sound is None:
            return

        def take(made: Spectrogram) -> None:
            sound.spectrogram = made
            self.pictures_changed.emit()

        self.analysis.ask("spectrogram", sound.clip, name=scale, done=take, failed=self.hub.trouble)

    def _tell(self) -> None:
        self.document_changed.emit(self.document)
        self.saved_changed.emit()
        if self._preview is None:
            self._watch.look()
