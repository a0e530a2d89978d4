"""What the window holds of a project's sounds beside their documents: waveforms, pictures, what is selected."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise

from bompla.analysis.pictures import Pictures
from bompla.analysis.spectrogram import Spectrogram
from bompla.audio.clip import Clip
from bompla.audio.summary import WaveSummary
from bompla.formats.project import Project
from bompla.model.document import Document
from bompla.model.history import MAX_STEPS, History
from bompla.model.selection import NOTHING, Selection, first_selection


@dataclass(frozen=True, eq=False)
class Arriving:
    """A sound that was read and is being analysed, with its waveform."""

    name: str
    clip: Clip
    summary: WaveSummary


@dataclass(eq=False)
class ProjectSound:
    """A sound of the project: its history, what is drawn of it, what is selected, and what was last saved of it.

    It is `fresh` where it was analysed here.
    """

    history: History
    clip: Clip
    summary: WaveSummary
    saved: Document | None = None
    pictures: Pictures | None = None
    selection: Selection = NOTHING
    spectrogram: Spectrogram | None = None
    drums_only: Clip | None = None
    fresh: bool = False

    @classmethod
    def of(cls, document: Document, clip: Clip, summary: WaveSummary | None = None, *, saved: bool = False, fresh: bool = False
           ) -> ProjectSound:
        """Return a sound of a project with its document, whose history begins here."""
        return cls(History(document), clip, summary or WaveSummary.of(clip), document if saved else None, fresh=fresh)

    def __post_init__(self) -> None:
        self.selection = first_selection(self.history.document)

    @property
    def untouched(self) -> bool:
        """Whether kit and pattern are as the analysis made them: no edit changed them but those that moved the loop."""
        documents = [*(step.document for step in self.history.done), self.history.document]
        return self.fresh and len(documents) <= MAX_STEPS and all(
            after.loop != before.loop or (after.pads is before.pads and after.variations is before.variations)
            for before, after in pairwise(documents)
        )

    @property
    def unsaved(self) -> bool:
        """Whether it was edited since it was saved."""
        if self.history.document is self.saved:
            return False
        return bool(self.history.done) or self.saved is not None


@dataclass(frozen=True, eq=False)
class Loaded:
    """Sounds ready to be shown, which of them is, and by content what their pads borrow."""

    sounds: tuple[ProjectSound, ...]
    current: int
    borrowed: Mapping[str, Clip]


def loaded_of(project: Project, *, saved: bool) -> Loaded:
    """Return the sounds of a project ready to be shown."""
    sounds = tuple(ProjectSound.of(document, clip, saved=saved) for document, clip in project.sources)
    return Loaded(sounds, project.current, project.borrowed)
