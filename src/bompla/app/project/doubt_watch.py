"""Looking the slices over for what is doubtful, beside the work on them."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.analysis.review.doubts import Doubt, doubts_of
from bompla.app.project.jobs import Threads
from bompla.app.project.project_state import Opened
from bompla.model.document import Document


class DoubtWatch(QObject):
    """Looks over the sound that `opened_sound` gives, on the thread, once at a time, and again where it changed meanwhile."""

    changed = pyqtSignal()

    def __init__(self, threads: Threads, opened_sound: Callable[[], Opened | None], failed: Callable[[str], None], parent: QObject) -> None:
        super().__init__(parent)
        self._threads, self._opened_sound, self._failed = threads, opened_sound, failed
        self.found: tuple[Doubt, ...] = ()
        self._seen: Document | None = None
        self._looking = False

    def forget(self) -> None:
        """Start anew, as a sound is shown: nothing of it is found yet, even where it is the one that was looked over last."""
        self.found, self._seen = (), None

    def look(self) -> None:
        """Look the slices over, if that was not done for them as they are."""
        sound = self._opened_sound()
        if sound is None or self._looking or sound.history.document is self._seen:
            return
        document, clip = sound.history.document, sound.clip
        self._looking = True

        def take(found: tuple[Doubt, ...]) -> None:
            self._looking, self._seen = False, document
            if sound is self._opened_sound():
                before, self.found = self.found, found
                if [(d.cut_id, d.reason) for d in before] != [(d.cut_id, d.reason) for d in found]:
                    self.changed.emit()
            self.look()

        def fail(sentence: str) -> None:
            self._looking = False
            self._failed(sentence)

        self._threads.run(lambda: doubts_of(document, clip), take, fail)
