"""The shelf beside the file: folders, filters, sorting, listening ahead of opening."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit

from bompla.app.bring_in.shelf_hits import ShelfHits
from bompla.app.bring_in.shelf_list import SORTS, ShelfFilter, ShelfModel, ShelfView
from bompla.app.bring_in.shelf_scanner import ShelfScanner
from bompla.app.bring_in.shelf_sender import ShelfSender
from bompla.app.commands import tip
from bompla.app.preferences import preferences
from bompla.app.project.outgoing import show_in_folder
from bompla.app.project.session import Session
from bompla.app.project.shelf import shelf_folder
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Panel, button, combo, label
from bompla.app.ui.number_box import NumberBox
from bompla.demo import loop_paths
from bompla.shelf.asking import index_path

WIDTH = 268
NAME_OF_DEMO = "Night Ferry loops"


class ShelfPanel(Panel):
    """Shows a folder's loops, or those that ship with Bompla."""

    def __init__(
        self, session: Session, playback: Playback, *, open_file: Callable[[Path], object], add_file: Callable[[Path], object],
    ) -> None:
        super().__init__(f"Shelf · {NAME_OF_DEMO}")
        self._session, self._playback = session, playback
        self._add_file = add_file
        self.folder: Path | None = None
        self._shown_path = ""
        self.setFixedWidth(WIDTH)
        self.model = ShelfModel(self)
        self.list = ShelfView(self.model)
        self.list.opened.connect(open_file)
        self.list.heard.connect(self._hear)
        self.scanner = ShelfScanner(index_path(), session.hub.trouble, self)
        self.scanner.listed.connect(self.model.set_files)
        self.scanner.looked_at.connect(self.model.set_entry)
        self.scanner.progressed.connect(self._progressed)
        self.scanner.finished.connect(lambda: self.progress.setText(""))
        self.sending = ShelfSender(self)
        self.sending.progressed.connect(lambda done, total: self.progress.setText(f"sent {done} of {total}"))
        self.sending.over.connect(self._sent)
        self._folders_row()
        self._filter_rows()
        self.body.addWidget(self.list, 1)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(button("Open", self._open_current, tip="Open the selected loop (Return)"))
        row.addWidget(button("Add", self._add_current, tip=tip("add_sound")))
        self.at_tempo = button("at current tempo", lambda: None, chip=True, checkable=True,
                               tip="Play loops of the shelf at the tempo of the open loop")
        row.addWidget(self.at_tempo)
        row.addStretch(1)
        self.body.addLayout(row)
        self.send_all = button("Send out all shown", self.send_out, tip="Write what is ticked in Send out, for every loop shown here")
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.send_all, 1)
        row.addWidget(button("Hits…", self.show_hits, tip="All snares of this shelf, or any drum: hear, write, put on pads"))
        self.body.addLayout(row)
        self.hits: ShelfHits | None = None
        self._started = False

    def _folders_row(self) -> None:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(button("Folder…", self.choose_folder, tip="Choose a folder of loops"))
        row.addWidget(button("Demo", self.show_demo, tip="Show the demo loops that come with Bompla"))
        self.progress = label("", "dim")
        row.addWidget(self.progress, 1)
        self.cancel = button("Stop", self._stop, tip="Stop scanning; what was found stays")
        self.cancel.hide()
        row.addWidget(self.cancel)
        self.body.addLayout(row)

    def _filter_rows(self) -> None:
        self.words = QLineEdit()
        self.words.setPlaceholderText("search names")
        self.words.setAccessibleName("Search names")
        self.words.setToolTip("Show only loops with these words in their names")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(self._arrange)
        self.sort = combo("Sort by", [(text, key) for key, text in SORTS], tip="What the shelf is sorted by")
        self.sort.activated.connect(self._arrange)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.words, 3)
        row.addWidget(self.sort, 2)
        self.body.addLayout(row)
        row = QHBoxLayout()
        row.setSpacing(6)
        self.low, self.high = (_bpm_box(name) for name in ("Lowest tempo", "Highest tempo"))
        row.addWidget(self.low)
        row.addWidget(label("to", "dim"))
        row.addWidget(self.high)
        row.addWidget(label("BPM", "dim"))
        self.near = button("near current", self._arrange, chip=True, checkable=True,
                           tip="Only loops near the open loop's tempo, or near half or double of it")
        row.addWidget(self.near)
        for box in (self.low, self.high):
            box.typed.connect(self._arrange)
        self.body.addLayout(row)

    def start(self) -> None:
        """Show the folder that was last chosen, or our own loops; called once, when the stage is first shown."""
        if not self._started:
            self._started = True
            kept = preferences().value.shelf_folder
            if kept and Path(kept).is_dir():
                self.show_folder(Path(kept))
            else:
                self.show_demo()

    def show_demo(self) -> None:
        """Show the loops that ship with Bompla."""
        self.folder = None
        self.heading.setText(f"Shelf · {NAME_OF_DEMO}")
        preferences().set(shelf_folder="")
        self.scanner.scan([loop_paths()[0].parent])

    def choose_folder(self) -> None:
        """Ask for a folder."""
        name = QFileDialog.getExistingDirectory(self, "Choose a folder of loops", str(self.folder or Path.home()))
        if name:
            self.show_folder(Path(name))

    def show_folder(self, folder: Path) -> None:
        """Show the loops of a folder and its subfolders."""
        self.folder = folder
        self.heading.setText(f"Shelf · {folder.name or folder}")
        preferences().set(shelf_folder=str(folder))
        self.cancel.show()
        self.scanner.scan([folder])

    def show_current(self, path: str) -> None:
        """Mark the file that is open."""
        if path and path != self._shown_path:  # the row that was chosen since stays chosen
            self.list.choose(Path(path))
        self._shown_path = path
        if self.near.isChecked():
            self._arrange()

    def close_all(self) -> None:
        """End the scan and the sending."""
        self.scanner.close()
        self.sending.close()
        if self.hits is not None:
            self.hits.close_all()
            self.hits.close()

    def show_hits(self) -> None:
        """Show all hits of a drum in the loops of this folder, beside the window."""
        if self.hits is None:
            self.hits = ShelfHits(self._session, self._playback, self)
        self.hits.show_folder(self.folder or shelf_folder())

    def send_out(self) -> None:
        """Write what is ticked in Send out, for every loop that is shown, into the folder of exports; or stop doing so."""
        if self.sending.busy:
            self.sending.cancel()
            return
        outgoing = self._session.outgoing
        self.sending.send(self.model.shown, outgoing.folder, outgoing.ticked)
        self.send_all.setText("Stop sending" if self.sending.busy else "Send out all shown")

    def _sent(self, sentence: str, trouble: bool) -> None:
        self.send_all.setText("Send out all shown")
        self.progress.setText("")
        folder = self._session.outgoing.folder
        tell = self._session.hub.trouble if trouble else self._session.hub.note
        tell(sentence, button="Show in folder", action=lambda: show_in_folder(folder))

    def _stop(self) -> None:
        self.scanner.cancel()
        self.cancel.hide()
        self.progress.setText("stopped")

    def _progressed(self, done: int, total: int) -> None:
        self.cancel.setVisible(done < total)
        self.progress.setText(f"{done} of {total}" if done < total else "" if total else "no sound files here")

    def _arrange(self, _changed: object = None) -> None:
        document = self._session.store.document
        near = document.bpm if self.near.isChecked() and document is not None else 0.0
        wanted = ShelfFilter(self.words.text(), float(self.low.value()), float(self.high.value()), near)
        self.model.arrange(str(self.sort.currentData()), wanted)

    def _hear(self, path: Path) -> None:
        document, entry = self._session.store.document, self.model.entries.get(path)
        if not self.at_tempo.isChecked() or document is None or entry is None or entry.bpm <= 0.0:
            self._playback.previews.play_file(path)
            return
        ratio = document.bpm / entry.bpm
        while ratio > 1.5:
            ratio /= 2.0
        while ratio < 0.7:
            ratio *= 2.0
        self._playback.previews.play_file(path, speed=ratio)

    def _open_current(self) -> None:
        path = self.list.current_path()
        if path is not None:
            self.list.opened.emit(path)

    def _add_current(self) -> None:
        path = self.list.current_path()
        if path is not None:
            self._add_file(path)



def _bpm_box(name: str) -> NumberBox:
    box = NumberBox(name, 0, 400, width=46)
    box.setSpecialValueText("any")
    return box
