"""What the window works on, as rooms with one job each."""

from __future__ import annotations

from PyQt6.QtCore import QObject

from bompla.app.messages import MessageHub
from bompla.app.project.analysis_process import AnalysisProcess
from bompla.app.project.journal_keeper import JournalKeeper
from bompla.app.project.opening import Openings
from bompla.app.project.outgoing import Outgoing
from bompla.app.project.project import Project
from bompla.app.project.requests import Requests
from bompla.app.project.review import Review
from bompla.app.project.store import DocumentStore
from bompla.app.project.tasks import Threads
from bompla.app.project.view_state import ViewState
from bompla.app.project.work_line import WorkLine


class Session(QObject):
    """Holds the rooms, and starts and ends them together.

    `project` has the sounds, `openings` those on their way, `store` the document and its undo, `shown` what is selected and how it is
    shown, `requests` what is asked of workers, `work` what they are told to be at, `review` what is doubtful, `outgoing` what is sent
    out, `journal` keeps every edit on disk. A room tells what changed in it once all of it has; none relies on being told first.
    """

    def __init__(self, hub: MessageHub, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.hub = hub
        self.threads = Threads(self)
        self.work = WorkLine(self)
        self.analysis = AnalysisProcess(self)
        self.project = Project(hub, self)
        self.store = DocumentStore(hub, self.project, self)
        self.shown = ViewState(self.project, self.store, self)
        self.review = Review(hub, self.project, self.store, self.threads, self)
        self.openings = Openings(hub, self.project, self.analysis, self.threads, self.work, self)
        self.requests = Requests(hub, self.project, self.store, self.shown, self.analysis, self.threads, self.work, self)
        self.outgoing = Outgoing(hub, self.project, self.store, self.shown, self)
        self.journal = JournalKeeper(hub, self.project, self.store, self)
        self.project.sound_changed.connect(self._show)

    @property
    def busy(self) -> bool:
        """Whether anything is being done."""
        return (self.openings.busy or self.analysis.busy or self.work.work is not None or self.threads.busy or self.project.saving
                or self.outgoing.busy)

    def close(self, *, left: bool = False) -> None:
        """End all work; unsaved edits stay in the journal only where they are `left` to be gone on with."""
        self.openings.cancel()
        self.analysis.close()
        self.outgoing.close()
        self.project.close()
        self.journal.close(left=left)
        self.threads.close()

    def _show(self) -> None:
        """Tell what is worked on now."""
        self.store.tell()
        self.requests.show_pictures()
