"""What is asked of workers about the sound that is worked on: hearing places, pictures, sounds for pads, and files of notes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.messages import MessageHub
from bompla.app.project.analysis_process import AnalysisProcess
from bompla.app.project.project import Project
from bompla.app.project.store import DocumentStore
from bompla.app.project.tasks import Newest, Threads, Token
from bompla.app.project.view_state import ViewState
from bompla.app.project.work_line import WorkLine
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.audio.oneshot import one_shot
from bompla.files import as_text
from bompla.formats.midi_read import MidiNotes, read_midi_notes
from bompla.groove.feel import load_feel
from bompla.model.cut_edits import add_cut, attack_near, set_heard
from bompla.model.document import SAME_ATTACK_MS, Borrowed, Feel, Heard
from bompla.model.kit_edits import UNHEARD_VELOCITY, put_borrowed
from bompla.units import ms_to_samples

DRUMS_ONLY, PICTURES, SPECTROGRAM = "drums only", "pictures", "spectrogram"
"""Kinds of which only the newest request matters."""


@dataclass(frozen=True)
class OneShotRequest:
    """A sound file that is to be read for a pad, at a rate."""

    path: Path
    sample_rate: int


def _read_one_shot(request: OneShotRequest, _token: Token) -> tuple[Clip, int]:
    return one_shot(read_clip(request.path), request.sample_rate, request.path.name)


def _read_notes(path: Path, _token: Token) -> MidiNotes:
    return read_midi_notes(path)


def _read_feel(path: Path, _token: Token) -> Feel:
    return load_feel(path)


class Requests(QObject):
    """Asks for what takes time, and enters what comes of it where it is still wanted."""

    pictures_changed = pyqtSignal()

    def __init__(
        self, hub: MessageHub, project: Project, store: DocumentStore, view: ViewState, analysis: AnalysisProcess, threads: Threads,
        line: WorkLine, parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._hub, self._project, self._store, self._view, self._threads = hub, project, store, view, threads
        self.analysis, self._line = analysis, line
        self._newest = Newest()

    def read_notes(self, path: Path, take: Callable[[MidiNotes], object]) -> None:
        """Have a MIDI file read, and give its notes to `take`."""
        self._threads.run(_read_notes, path, done=take, failed=self._hub.trouble)

    def read_feel(self, path: Path, take: Callable[[Feel], object]) -> None:
        """Have a file of a feel read, and give it to `take`."""
        self._threads.run(_read_feel, path, done=take, failed=self._hub.trouble)

    def ask_drums_only(self) -> None:
        """Have the drums of a mix made by themselves; `pictures_changed` tells when they are there."""
        sound = self._project.sound
        if sound is None or sound.drums_only is not None:
            return

        def take(samples: Any) -> None:
            self._line.over(DRUMS_ONLY)
            sound.drums_only = Clip(samples, sound.clip.sample_rate)
            self.pictures_changed.emit()

        def fail(sentence: str) -> None:
            self._line.over(DRUMS_ONLY)
            self._hub.trouble(sentence)

        self._newest.keep(DRUMS_ONLY, self.analysis.ask(
            "drums_only", sound.clip, done=take, failed=fail, cancelled=lambda: self._line.over(DRUMS_ONLY)))
        self._line.tell(DRUMS_ONLY, "separating the drums", 0.3, lambda: self._newest.cancel(DRUMS_ONLY))

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
            self._store.amend(lambda d: set_heard(d, new_id, answers[0]), of=sound)

        self.analysis.ask("hear_at", sound.clip, done=heard, failed=self._hub.trouble, places=(attack,))
        return True

    def borrow(self, path: Path, slot: int, *, more: bool = False, drum: str = "") -> None:
        """Put a sound from another file on the pad at a slot, in place of what it plays or with `more` beside it.

        It is read and heard meanwhile; an empty slot becomes the `drum` that it was chosen as, or else the one that it is heard as.
        """
        sound = self._project.sound
        if sound is None:
            return

        def put(made: Clip, attack: int, heard: tuple[Heard, ...]) -> None:
            if sound is not self._project.sound:
                return
            self._project.lend(made)
            known = Borrowed(as_text(path.stem), made.content_hash, made.frames)
            best = max(heard, key=lambda one: one.confidence, default=Heard("perc", 1.0, UNHEARD_VELOCITY))
            best = replace(best, drum=drum or best.drum)
            if self._store.edit(f"load {as_text(path.stem)}",
                                lambda d: put_borrowed(d, slot, known, best, attack_sample=attack, more=more)):
                document = self._store.document
                self._view.select(pad_id=next((pad.id for pad in document.pads if pad.slot == slot), 0) if document else 0)

        def ask(made: tuple[Clip, int]) -> None:
            clip, attack = made
            self.analysis.ask("hear_at", clip, done=lambda answers: put(clip, attack, tuple(answers[0])),
                              failed=self._hub.trouble, places=(attack,))

        self._threads.run(_read_one_shot, OneShotRequest(path, sound.clip.sample_rate), done=ask, failed=self._hub.trouble)

    def show_pictures(self) -> None:
        """Have what is drawn beside the waveform made, where it is not there yet."""
        sound = self._project.sound
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
