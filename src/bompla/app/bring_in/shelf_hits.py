"""All hits of a drum on the shelf: heard one after another, written as files, or put on pads."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QTableWidgetItem, QVBoxLayout, QWidget

from bompla.app.project.outgoing import show_in_folder
from bompla.app.project.session import Session
from bompla.app.project.shelf import WriteHits, find_hits, put_hits
from bompla.app.project.tasks import Newest, Threads
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import button, drum_box, label
from bompla.app.ui.heard_table import heard_table
from bompla.model.document import PADS_PER_PAGE
from bompla.model.drums import DRUMS
from bompla.model.wording import counted
from bompla.shelf.asking import HitsRequest, index_path
from bompla.shelf.index import ShelfHit

MOST_SHOWN = 3_000
COLUMNS = ("loop", "at", "velocity", "sure", "isolation")
MOST_PADS = 8 * PADS_PER_PAGE


class ShelfHits(QDialog):
    """Beside the window: a drum is chosen, its hits of all loops stand in a table, those that stand clearest first."""

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Hits of this shelf")
        self.resize(720, 560)
        self._session, self._playback = session, playback
        self._threads, self._newest = Threads(self), Newest()
        self._folder = Path()
        self.found: list[tuple[Path, ShelfHit]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        row = QHBoxLayout()
        self.drum = drum_box("Drum to look for")
        self.drum.setCurrentIndex(self.drum.findData("snare"))
        self.drum.activated.connect(lambda _: self.look())
        name = label("all hits of the", "dim")
        name.setBuddy(self.drum)
        row.addWidget(name)
        row.addWidget(self.drum)
        self.line = label("", "dim")
        row.addWidget(self.line, 1)
        column.addLayout(row)
        self.table = heard_table("Hits of the shelf", COLUMNS, self._hear)
        self.table.setSortingEnabled(True)
        self.table.cellClicked.connect(lambda row, _column: self._hear(row))
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        row.addWidget(label("arrows or a click play; Ctrl or Shift selects more", "dim"))
        row.addStretch(1)
        self.write = button("Write these as files", self.write_files, tip="Write the selected hits into the folder of exports")
        self.put = button("Put these on pads", self.put_on_pads, tip="Put each selected hit on a free pad of the kit")
        row.addWidget(self.write)
        row.addWidget(self.put)
        column.addLayout(row)
        self.table.itemSelectionChanged.connect(self._show_chosen)
        self._show_chosen()

    @property
    def busy(self) -> bool:
        """Whether something is being looked for or written."""
        return self._threads.busy

    def show_folder(self, folder: Path) -> None:
        """Look through another folder, and show."""
        self._folder = folder
        self.show()
        self.raise_()
        self.look()

    def look(self) -> None:
        """Look for the drum that is chosen."""
        self.line.setText("looking…")
        request = HitsRequest(self._folder, str(self.drum.currentData()), index_path())
        self._newest.keep("look", self._threads.run(find_hits, request, done=self._take, failed=self._session.hub.trouble))

    def close_all(self) -> None:
        """End all work."""
        self._threads.close()

    def chosen(self) -> list[tuple[Path, ShelfHit]]:
        """Return the hits that are selected, from the top."""
        rows = sorted({index.row() for index in self.table.selectedIndexes()})
        return [self._of_row(row) for row in rows]

    def write_files(self) -> None:
        """Write the selected hits into a folder of their own."""
        label_of = DRUMS[str(self.drum.currentData())].label.lower()
        folder = self._session.outgoing.folder / f"{self._folder.name} {label_of}"
        self._write(folder, lambda paths: self._session.hub.note(
            f"{counted(len(paths), 'file')} in {folder}.", button="Show in folder", action=lambda: show_in_folder(folder)))

    def put_on_pads(self) -> None:
        """Put the selected hits on free pads; they are written into the folder of dragged files, where the pads read them."""
        self._write(self._session.outgoing.drag_folder, self._borrow)

    def _borrow(self, paths: list[Path]) -> None:
        document = self._session.store.document
        if document is None:
            return
        taken = {pad.slot for pad in document.pads}
        free, drum = [slot for slot in range(MOST_PADS) if slot not in taken], str(self.drum.currentData())
        for path, slot in zip(paths, free, strict=False):
            self._session.requests.borrow(path, slot, drum=drum)

    def _write(self, folder: Path, done: object) -> None:
        chosen = tuple((path, hit.drum, hit.start_s, hit.end_s) for path, hit in self.chosen())
        if chosen and callable(done):
            self._threads.run(put_hits, WriteHits(chosen, folder, self._session.outgoing.options), done=done,
                              failed=self._session.hub.trouble)

    def _take(self, found: list[tuple[Path, ShelfHit]]) -> None:
        self.found = found[:MOST_SHOWN]
        self.table.setSortingEnabled(False)
        self.table.setRowCount(len(self.found))
        for row, (path, hit) in enumerate(self.found):
            for place, (text, value) in enumerate((
                (path.stem, None), (f"{hit.start_s:.2f} s", hit.start_s), (str(hit.velocity), float(hit.velocity)),
                (f"{100 * hit.confidence:.0f} %", hit.confidence), (f"{hit.clear_db:.0f} dB", hit.clear_db),
            )):
                item = _Cell(text, value)
                item.setData(Qt.ItemDataRole.UserRole, row)
                self.table.setItem(row, place, item)
        self.table.setSortingEnabled(True)
        loops = len({path for path, _ in found})
        more = f", the first {MOST_SHOWN} shown" if len(found) > MOST_SHOWN else ""
        self.line.setText(f"{counted(len(found), 'hit')} in {counted(loops, 'loop')} of {self._folder.name}{more}" if found
                          else f"none in the loops of {self._folder.name} that were analysed so far")
        self._show_chosen()

    def _of_row(self, row: int) -> tuple[Path, ShelfHit]:
        item = self.table.item(row, 0)
        return self.found[int(item.data(Qt.ItemDataRole.UserRole)) if item is not None else row]

    def _hear(self, row: int) -> None:
        if 0 <= row < len(self.found):
            path, hit = self._of_row(row)
            self._playback.previews.play_file(path, part_s=(hit.start_s, hit.end_s))

    def _show_chosen(self) -> None:
        count = len({index.row() for index in self.table.selectedIndexes()})
        self.write.setEnabled(count > 0)
        self.put.setEnabled(count > 0 and self._session.store.document is not None)
        self.write.setText(f"Write {counted(count, 'file')}" if count else "Write these as files")


class _Cell(QTableWidgetItem):
    """A cell that is sorted by its number, where it has one."""

    def __init__(self, text: str, value: float | None) -> None:
        super().__init__(text)
        self._value = value

    def __lt__(self, other: QTableWidgetItem) -> bool:
        if isinstance(other, _Cell) and self._value is not None and other._value is not None:
            return self._value < other._value
        return self.text().lower() < other.text().lower()
