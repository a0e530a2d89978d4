"""Send out: everything that was made can leave, as files, or dragged out."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QMessageBox, QProgressBar, QScrollArea, QVBoxLayout, QWidget

from bompla.app.project.outgoing import show_in_folder
from bompla.app.project.session import Session
from bompla.app.send_out.export_row import ExportRow
from bompla.app.send_out.option_panel import OptionPanel
from bompla.app.sound.playback import Playback
from bompla.app.stage import Stage, WindowActions
from bompla.app.ui.controls import Panel, button, label, plain_tip, scrolling
from bompla.errors import BomplaError
from bompla.export.data import midi_options
from bompla.export.folder import Taken, free_name
from bompla.export.options import PLACES
from bompla.export.request import base_name, file_name, parts_of
from bompla.export.table import EXPORTS
from bompla.formats.midi import write_midi
from bompla.model.document import Document
from bompla.model.wording import counted


class SendOut(Stage):
    """The last stage."""

    key = "send-out"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        self._picked = next(iter(EXPORTS))
        self.rows = {key: ExportRow(session, key) for key in EXPORTS}
        layout.addWidget(self._list(), 1)
        right = QVBoxLayout()
        right.setSpacing(10)
        area = scrolling(self._options())
        area.setFixedWidth(300)
        right.addWidget(area, 1)
        right.addWidget(self._target())
        layout.addLayout(right)
        session.outgoing.options_changed.connect(self._show)
        session.outgoing.moved_on.connect(self._show_progress)
        session.outgoing.over.connect(self._show_idle)
        session.shown.changed.connect(self._show)
        self.pick(self._picked)
        self._show_idle()
        self.connect_all()

    def _list(self) -> QWidget:
        panel = Panel()
        panel.body.setContentsMargins(2, 2, 2, 2)
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for key, row in self.rows.items():
            row.chosen.setChecked(key in self.session.outgoing.ticked)
            row.picked.connect(self.pick)
            row.chosen_changed.connect(self._show_chosen)
            column.addWidget(row)
        column.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(inside)
        panel.body.addWidget(area)
        return panel

    def _options(self) -> QWidget:
        panel = Panel("Options")
        self.heading = panel.heading
        self.options = OptionPanel(self.session)
        panel.body.addWidget(self.options)
        self.no_options = label("There is nothing to choose.", "dim")
        panel.body.addWidget(self.no_options)
        panel.body.addWidget(label("Names", "heading"))
        self.name = QLineEdit()
        self.name.setAccessibleName("Pattern of names")
        self.name.setToolTip("What files are called; " + ", ".join("{" + place + "}" for place in PLACES) + " are filled in")
        self.name.editingFinished.connect(self._take_name)
        panel.body.addWidget(self.name)
        self.name_line = label("", "dim")
        self.name_line.setWordWrap(True)
        panel.body.addWidget(self.name_line)
        panel.body.addStretch(1)
        return panel

    def _target(self) -> QWidget:
        panel = Panel("Into")
        panel.setFixedWidth(300)
        row = QHBoxLayout()
        self.folder_line = label("", "value")
        self.folder_line.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        row.addWidget(self.folder_line, 1)
        row.addWidget(button("Choose…", self.choose_folder, tip="Choose the folder that exports go into", small=True))
        panel.body.addLayout(row)
        self.target_line = label("", "dim")
        self.target_line.setWordWrap(True)
        panel.body.addWidget(self.target_line)
        row = QHBoxLayout()
        self.dragged_line = label("", "dim")
        row.addWidget(self.dragged_line, 1)
        row.addWidget(button("Show", self._show_dragged, tip="Show the files that were dragged or copied out", small=True))
        row.addWidget(button("Change…", self.choose_drag_folder, tip="Choose where files lie that are dragged or copied out", small=True))
        panel.body.addLayout(row)
        self.write = button("", self.write_chosen, tip="Write what is ticked into a new folder", primary=True)
        self.everything = button("Everything into one folder", self.write_everything, tip="Write all of it into a new folder")
        self.progress = QProgressBar()
        self.progress.setRange(0, 100)
        self.progress.setTextVisible(False)
        self.progress.setAccessibleName("Progress of writing")
        self.progress_line = label("", "dim")
        self.cancel = button("Cancel", self.session.outgoing.cancel, tip="Give up writing; nothing is left of it")
        for one in (self.write, self.everything, self.progress_line, self.progress, self.cancel):
            panel.body.addWidget(one)
        self.written_line = label("", "good")
        self.written_line.setWordWrap(True)
        panel.body.addWidget(self.written_line)
        self.show_written = button("Show in folder", self._show_written, tip="Open the folder of what was written last", small=True)
        panel.body.addWidget(self.show_written, 0, Qt.AlignmentFlag.AlignLeft)
        return panel

    def state_line(self, document: Document | None) -> str:
        """Return what was written last, as long as it is still so."""
        outgoing = self.session.outgoing
        if document is None or not outgoing.last_keys:
            return "not yet"
        if not outgoing.last_is_so:
            return "changed since"
        return EXPORTS[outgoing.last_keys[0]].label if len(outgoing.last_keys) == 1 else f"{counted(len(outgoing.last_keys), 'kind')} sent"

    def picture(self) -> QWidget:
        """Return the first row's box: what takes the keys."""
        return next(iter(self.rows.values())).chosen

    @property
    def chosen(self) -> tuple[str, ...]:
        """The exports that are ticked."""
        return tuple(key for key, row in self.rows.items() if row.chosen.isChecked())

    def pick(self, key: str) -> None:
        """Show the options of an export."""
        self._picked = key
        for name, row in self.rows.items():
            row.show_picked(name == key)
        self.heading.setText(EXPORTS[key].label)
        self._show_options()

    def refresh(self, document: Document) -> None:
        """Show what would leave."""
        for row in self.rows.values():
            row.refresh()
        self._show_options()
        self._show_target()
        self._show_chosen()

    def write_chosen(self) -> None:
        """Write what is ticked into a new folder."""
        self._write(self.chosen)

    def write_everything(self) -> None:
        """Write all of it into a new folder."""
        self._write(tuple(EXPORTS))

    def write_to(self, path: Path) -> bool:
        """Write the MIDI file of the first pattern that leaves; False, with a message, where it cannot be written."""
        request = self.session.outgoing.request()
        if request is None:
            return False
        try:
            part = parts_of(request.document, request.options.patterns)[0]
            write_midi(part.document, path, midi_options(request, part))
        except BomplaError as error:
            self.session.hub.trouble(str(error))
            return False
        self.session.outgoing.note_written("midi", path)
        return True

    def choose_folder(self) -> None:
        """Ask which folder exports go into."""
        self._ask_folder(self.session.outgoing.folder, dragged=False)

    def choose_drag_folder(self) -> None:
        """Ask where files lie that are dragged out."""
        self._ask_folder(self.session.outgoing.drag_folder, dragged=True)

    def _ask_folder(self, now: Path, *, dragged: bool) -> None:
        name = QFileDialog.getExistingDirectory(self, "Choose a folder", str(now))
        if name:
            self.session.outgoing.set_folder(Path(name), dragged=dragged)

    @property
    def target(self) -> Path | None:
        """The folder that would be written; None where nothing is open."""
        request = self.session.outgoing.request()
        return self.session.outgoing.folder / file_name(request.document.title) if request is not None else None

    def _write(self, keys: tuple[str, ...]) -> None:
        target = self.target
        if target is None or not keys:
            return
        taken: Taken = "refuse"
        if target.exists():
            answer = self._ask_taken(target)
            if answer is None:
                return
            taken = answer
        if self.session.outgoing.write(keys, target, taken) is not None:
            self._show_busy()

    def _ask_taken(self, target: Path) -> Taken | None:
        """Ask what becomes of a folder that is there; None where nothing shall be written."""
        box = QMessageBox(self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setWindowTitle("Bompla")
        box.setText(f"There is a folder “{target.name}” already in {target.parent}.")
        both = box.addButton(f"Keep both: write “{free_name(target).name}”", QMessageBox.ButtonRole.AcceptRole)
        over = box.addButton("Replace it", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setDefaultButton(both)
        box.exec()
        clicked = box.clickedButton()
        return "keep both" if clicked is both else "replace" if clicked is over else None

    def _take_name(self) -> None:
        if self.name.text() != self.session.outgoing.options.name and not self.session.outgoing.set_options(name=self.name.text()):
            self.name.setText(self.session.outgoing.options.name)

    def _show(self) -> None:
        self._refresh(self.session.store.document)

    def _show_options(self) -> None:
        self.options.show_options(self._picked)
        self.no_options.setVisible(not EXPORTS[self._picked].options)
        if not self.name.hasFocus():
            self.name.setText(self.session.outgoing.options.name)
        request = self.session.outgoing.request()
        if request is not None:
            try:
                part = parts_of(request.document, request.options.patterns)[0]
            except BomplaError as error:
                self.name_line.setText(str(error))
                return
            self.name_line.setText(f"{base_name(request, part)}.mid")

    def _show_target(self) -> None:
        outgoing, target = self.session.outgoing, self.target
        home = str(Path.home())
        short = str(outgoing.folder).replace(home, "~", 1)
        self.folder_line.setText(self.fontMetrics().elidedText(short, Qt.TextElideMode.ElideMiddle, 190))
        self.folder_line.setToolTip(str(outgoing.folder))
        dragged = self.fontMetrics().elidedText(outgoing.drag_folder.name, Qt.TextElideMode.ElideRight, 80)
        self.dragged_line.setText(f"dragged files: …/{dragged}")
        self.dragged_line.setToolTip(plain_tip(f"Files that are dragged or copied out stay in {outgoing.drag_folder}"))
        if target is not None:
            self.target_line.setText(f"{target.name} · {'is there already' if target.exists() else 'nothing there yet'}")
        so = outgoing.last_is_so and bool(outgoing.last_paths)
        self.written_line.setText(f"Written: {outgoing.last_paths[0].name}" if so else "")
        self.written_line.setVisible(so)
        self.show_written.setVisible(so)

    def _show_chosen(self) -> None:
        self.session.outgoing.ticked = self.chosen
        count = len(self.chosen)
        there = self.session.store.document is not None
        self.write.setText(f"Write the {count} ticked" if count > 1 else "Write the one ticked" if count else "Tick what to write")
        idle = not self.session.outgoing.busy
        self.write.setEnabled(there and count > 0 and idle)
        self.everything.setEnabled(there and idle)

    def _show_busy(self) -> None:
        for one in (self.progress, self.progress_line, self.cancel):
            one.setVisible(True)
        self._show_chosen()
        self._show_progress(0.0, "")

    def _show_progress(self, share: float, what: str) -> None:
        self.progress.setValue(round(100 * share))
        self.progress_line.setText(what)

    def _show_idle(self) -> None:
        for one in (self.progress, self.progress_line, self.cancel):
            one.setVisible(False)
        self._show()
        self._show_chosen()

    def _show_dragged(self) -> None:
        show_in_folder(self.session.outgoing.drag_folder)

    def _show_written(self) -> None:
        if self.session.outgoing.last_paths:
            show_in_folder(self.session.outgoing.last_paths[0])
