"""Looking the slices over for what is doubtful, beside the work on them."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.analysis.review.doubts import Doubt, Question, clipped_places, doubts_of, questions_of
from bompla.app.messages import MessageHub
from bompla.app.project.project import Project
from bompla.app.project.project_state import ProjectSound
from bompla.app.project.store import DocumentStore
from bompla.app.project.tasks import Threads, Token
from bompla.audio.clip import Clip
from bompla.model.document import Document


@dataclass(frozen=True, eq=False)
class ReviewRequest:
    """A document to be looked over, and its sound."""

    document: Document
    clip: Clip


def _review(request: ReviewRequest, _token: Token) -> tuple[tuple[Doubt, ...], int]:
    return doubts_of(request.document, request.clip), clipped_places(request.document, request.clip)


class Review(QObject):
    """Looks over the sound that is worked on, once at a time, and again where it changed meanwhile."""

    changed = pyqtSignal()

    def __init__(self, hub: MessageHub, project: Project, store: DocumentStore, threads: Threads, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub, self._project, self._store, self._threads = hub, project, store, threads
        self._found: tuple[Doubt, ...] = ()
        self._clipped = 0
        self._seen: Document | None = None
        self._looking = False
        self._of: ProjectSound | None = None
        store.document_changed.connect(lambda _: self._look())

    @property
    def found(self) -> tuple[Doubt, ...]:
        """What is doubtful in the sound that is worked on, as far as it was looked over."""
        return self._found if self._of is self._project.sound else ()

    @property
    def clipped(self) -> int:
        """How many places of it are clipped."""
        return self._clipped if self._of is self._project.sound else 0

    @property
    def questions(self) -> tuple[Question, ...]:
        """What was found, with what is alike together."""
        return questions_of(self.found)

    def _look(self) -> None:
        """Look the slices over, if that was not done for them as they are, and no gesture is in progress."""
        sound = self._project.sound
        if sound is None or self._looking or self._store.previewing:
            return
        if self._of is sound and sound.history.document is self._seen:
            return
        request = ReviewRequest(sound.history.document, sound.clip)
        self._looking = True

        def take(answer: tuple[tuple[Doubt, ...], int]) -> None:
            found, clipped = answer
            self._looking, self._seen = False, request.document
            if sound is self._project.sound:
                before, more = self.found, clipped != self.clipped
                self._of, self._found, self._clipped = sound, found, clipped
                if more or [(d.cut_id, d.reason) for d in before] != [(d.cut_id, d.reason) for d in found]:
                    self.changed.emit()
            self._look()

        def fail(sentence: str) -> None:
            self._looking, self._seen, self._of = False, request.document, sound  # not again until it changes
            self._hub.trouble(sentence)

        self._threads.run(_review, request, done=take, failed=fail)
