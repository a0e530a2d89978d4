"""What is selected and how the pattern is looked at: state of the view that edits and sound need, and no widget holds."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.project.project import Project
from bompla.app.project.store import DocumentStore
from bompla.groove.grid import Grid
from bompla.groove.missing import MissingHit, missing_hits
from bompla.model.selection import Selection, within


class ViewState(QObject):
    """Holds the selection of each sound, the grid that hits are drawn on, and which lanes are muted, soloed or folded.

    `changed` tells that grid, mutes, folding or what is shown beside the hits is another.
    """

    selection_changed = pyqtSignal(object)
    changed = pyqtSignal()

    def __init__(self, project: Project, store: DocumentStore, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._project, self._store = project, store
        self._grid_beats, self._tuplet = 0.0, 1.0
        self._grid: Grid | None = None
        self._muted: frozenset[int] = frozenset()
        self._soloed: frozenset[int] = frozenset()
        self._folded = False
        self._missing_shown = True
        self._told = Selection()
        store.went_back.connect(lambda _: self._tell_selection())
        store.document_changed.connect(lambda _: self._tell_selection())

    @property
    def selection(self) -> Selection:
        """What is selected in the sound that is worked on: of what was chosen what is there, and shown."""
        sound = self._project.sound  # a gesture in progress does not take it away
        return within(sound.selection, sound.history.document) if sound is not None else Selection()

    def _tell_selection(self) -> None:
        """Tell what is selected, where that is another."""
        selection = self.selection
        if selection != self._told:
            self._told = selection
            self.selection_changed.emit(selection)

    def select(self, **what: Any) -> None:
        """Select a cut (`cut_id`, with others `more_cuts`), a pad (`pad_id`, with `more_pads`) or hits (`hit_ids`).

        What is not named stays, but a cut or a pad named by itself is selected alone.
        """
        if "cut_id" in what:
            what.setdefault("more_cuts", frozenset())
        if "pad_id" in what:
            what.setdefault("more_pads", frozenset())
        sound = self._project.sound
        if sound is not None:
            sound.selection = replace(self.selection, **what)
            self._tell_selection()

    @property
    def grid(self) -> Grid:
        """The grid of the shown pattern: as it was chosen, or each beat's own, as its hits tell."""
        step = self._grid_beats * self._tuplet if self._grid_beats > 0.0 else self._grid_beats
        document = self._store.document
        if document is None:
            return Grid(step_beats=step)
        if self._grid is None or not self._grid.is_of(document, step):
            self._grid = Grid.of(document, step)
        return self._grid

    def set_grid(self, *, beats: float | None = None, tuplet: float | None = None) -> None:
        """Choose the grid's step in beats (0 for each beat's own, below 0 for none), and what it is taken times, such as 2/3."""
        wanted = (self._grid_beats if beats is None else beats, self._tuplet if tuplet is None else tuplet)
        if wanted != (self._grid_beats, self._tuplet):
            self._grid_beats, self._tuplet = wanted
            self.changed.emit()

    @property
    def muted(self) -> frozenset[int]:
        """The pads, by id, that are muted."""
        return self._muted

    @property
    def soloed(self) -> frozenset[int]:
        """The pads, by id, that are soloed."""
        return self._soloed

    @property
    def silenced(self) -> frozenset[int]:
        """The pads that are not to be heard: those muted, and, where any is soloed, all others."""
        document = self._store.document
        every = frozenset(pad.id for pad in document.pads) if document is not None else frozenset()
        return (every - self._soloed if self._soloed & every else frozenset()) | self._muted

    def toggle_mute(self, pad_id: int) -> None:
        """Mute a lane, or not."""
        self._muted = self._muted ^ {pad_id}
        self.changed.emit()

    def toggle_solo(self, pad_id: int) -> None:
        """Solo a lane, or not."""
        self._soloed = self._soloed ^ {pad_id}
        self.changed.emit()

    @property
    def folded(self) -> bool:
        """Whether lanes without hits are left out."""
        return self._folded

    def fold(self, on: bool) -> None:
        """Leave lanes without hits out, or show them all."""
        self._folded = on
        self.changed.emit()

    def show_missing(self, on: bool) -> None:
        """Show or hide hits of the original that the pattern lacks."""
        self._missing_shown = on
        self.changed.emit()

    def missing(self) -> tuple[MissingHit, ...]:
        """Return the hits of the original that the pattern lacks, where they are shown."""
        document = self._store.document
        return missing_hits(document) if document is not None and self._missing_shown else ()
