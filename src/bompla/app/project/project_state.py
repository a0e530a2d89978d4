"""What the window holds of a project's sounds beside their documents: waveforms, pictures, what is selected."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import pairwise

from bompla.analysis.pictures import Pictures
from bompla.analysis.spectrogram import Spectrogram
from bompla.audio.clip import Clip
from bompla.audio.summary import WaveSummary
from bompla.formats.project import Project
from bompla.model.document import Document
from bompla.model.history import MAX_STEPS, History


@dataclass(frozen=True)
class Selection:
    """What is selected: cuts with one that leads, a pad and hits, by id."""

    cut_id: int = 0
    more_cuts: frozenset[int] = frozenset()
    pad_id: int = 0
    hit_ids: frozenset[int] = frozenset()

    @property
    def cut_ids(self) -> tuple[int, ...]:
        """All selected cuts, the leading one first."""
        return (self.cut_id, *sorted(self.more_cuts - {self.cut_id}))


@dataclass(frozen=True)
class Work:
    """Long work under way: what it is, and how far."""

    label: str
    share: float


@dataclass(frozen=True, eq=False)
class Arriving:
    """A sound that was read and is being analysed."""

    name: str
    clip: Clip
    summary: WaveSummary


@dataclass(eq=False)
class ProjectSound:
    """A sound of the project: its history, what is drawn of it, what is selected, and what was last saved of it.

    `selected_at` has what was selected after so many edits, for undo to bring it back. It is `fresh` where it was analysed here.
    """

    history: History
    clip: Clip
    summary: WaveSummary
    saved: Document | None = None
    pictures: Pictures | None = None
    selection: Selection = Selection()
    selected_at: dict[int, Selection] = field(default_factory=dict)
    spectrogram: Spectrogram | None = None
    drums_only: Clip | None = None
    fresh: bool = False

    def __post_init__(self) -> None:
        document = self.history.document
        slices = document.slices()
        self.selection = Selection(cut_id=slices[0].cut.id if slices else 0, pad_id=document.pads[0].id if document.pads else 0)

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
    sounds = tuple(
        ProjectSound(History(document), clip, WaveSummary.of(clip), document if saved else None) for document, clip in project.sources
    )
    return Loaded(sounds, project.current, project.borrowed)
