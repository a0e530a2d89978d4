"""Kit from…: a kit from elsewhere is looked at, heard, corrected and put under the groove, or some sounds onto the pads."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from bompla.app.project.kit_requests import KitAnswer, KitRequest, read_kit
from bompla.app.project.session import Session
from bompla.app.project.tasks import Newest, Threads
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import button, combo, drum_box, label
from bompla.app.ui.heard_table import heard_table
from bompla.groove.pad_table import Swap
from bompla.kits.own import own_kits
from bompla.kits.putting import ReadyKit, onto_pads, under_groove
from bompla.kits.saved import kits_folder, saved_kits
from bompla.model.document import Document
from bompla.model.wording import counted

COLUMNS = ("Pad", "Drum", "Known", "Plays")
KIT_FILES = "Kits (*.sfz *.sf2 *.sf3 *.bompla);;All files (*)"
MOST_NAMED, DRUM_WIDTH = 4, 140


class KitFrom(QDialog):
    """Beside the window: kits on the left, the pads of the chosen one with their drums, and what of the groove finds which."""

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Kit from…")
        self.resize(860, 600)
        self._session, self._playback = session, playback
        self._threads, self._newest = Threads(self), Newest()
        self._request: KitRequest | None = None
        self._onto_pads = False
        self.kit: ReadyKit | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 14, 16, 14)
        row.setSpacing(14)
        row.addLayout(self._left(), 2)
        row.addLayout(self._right(), 5)
        self._show(None)

    def _left(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.addWidget(label("Kits at hand", "heading"))
        self.sources = QListWidget()
        self.sources.setAccessibleName("Kits at hand")
        self.sources.itemSelectionChanged.connect(self._chosen)
        column.addWidget(self.sources, 1)
        column.addWidget(button("Instrument, font or project…", self.choose_file, tip="SFZ, SoundFont (sf2, sf3) or a Bompla project"))
        column.addWidget(button("Folder of samples…", self.choose_folder, tip="Sound files, known by their names or by ear"))
        return column

    def _right(self) -> QVBoxLayout:
        column = QVBoxLayout()
        top = QHBoxLayout()
        self.title = label("", "title")
        top.addWidget(self.title)
        top.addStretch(1)
        self.presets = combo("Preset")
        self.presets.activated.connect(lambda _: self._choose_preset())
        top.addWidget(self.presets)
        column.addLayout(top)
        self.table = heard_table("Pads of the kit", COLUMNS, self._hear)
        column.addWidget(self.table, 1)
        self.said = label("", "dim")
        self.said.setWordWrap(True)
        column.addWidget(self.said)
        self.finds = label("")
        self.finds.setWordWrap(True)
        column.addWidget(self.finds)
        row = QHBoxLayout()
        row.addWidget(label("a click plays a pad", "dim"))
        row.addStretch(1)
        row.addWidget(button("Close", self.close, tip="Leave the kit as it is"))
        self.take = button("Put under the groove", self.use, tip="In place of the kit; every hit stays")
        row.addWidget(self.take)
        column.addLayout(row)
        return column

    @property
    def busy(self) -> bool:
        """Whether a kit is being read."""
        return self._threads.busy

    def close_all(self) -> None:
        """End all work."""
        self._threads.close()

    def open_kits(self) -> None:
        """Show what is at hand, and the window."""
        self._onto_pads = False
        self._list()
        self.show()
        self.raise_()

    def open_files(self, paths: Sequence[Path]) -> None:
        """Show what some dropped files and folders are, to be put onto the pads."""
        self.open_kits()
        self._onto_pads = True
        self._ask(KitRequest(self._rate(), paths=tuple(paths)))

    def _list(self) -> None:
        self.sources.blockSignals(True)
        self.sources.clear()
        for name in own_kits():
            self._offer(f"{name} · ships with Bompla", KitRequest(self._rate(), own=name))
        project = self._session.project
        for sound in project.sounds:
            if sound is not project.sound:
                document = sound.history.document
                self._offer(f"{document.title} · in this project",
                            KitRequest(self._rate(), document=document, clip=sound.clip, borrowed=project.borrowed))
        for path in saved_kits(kits_folder()):
            self._offer(f"{path.stem} · saved", KitRequest(self._rate(), paths=(path,)))
        self.sources.setCurrentRow(-1)
        self.sources.blockSignals(False)

    def _offer(self, text: str, request: KitRequest) -> None:
        item = QListWidgetItem(text, self.sources)
        item.setData(Qt.ItemDataRole.UserRole, request)

    def _rate(self) -> int:
        document = self._session.store.document
        return document.source.sample_rate if document is not None else 48_000

    def _chosen(self) -> None:
        for item in self.sources.selectedItems():
            self._onto_pads = False
            self._ask(item.data(Qt.ItemDataRole.UserRole))

    def choose_file(self) -> None:
        """Ask for an instrument, a font or a project."""
        name, _ = QFileDialog.getOpenFileName(self, "Kit from…", "", KIT_FILES)
        if name:
            self._onto_pads = False
            self._ask(KitRequest(self._rate(), paths=(Path(name),)))

    def choose_folder(self) -> None:
        """Ask for a folder of samples."""
        name = QFileDialog.getExistingDirectory(self, "Folder of samples")
        if name:
            self._onto_pads = False
            self._ask(KitRequest(self._rate(), paths=(Path(name),)))

    def _choose_preset(self) -> None:
        if self._request is not None:
            request = KitRequest(self._request.sample_rate, paths=self._request.paths, number=int(self.presets.currentData()))
            self._ask(request)

    def _ask(self, request: KitRequest) -> None:
        self._request = request
        self._show(None)
        self.title.setText("reading…")

        def take(answer: KitAnswer) -> None:
            if request is self._request:
                self._show(answer)

        def fail(sentence: str) -> None:
            if request is self._request:
                self._show(None)
                self.said.setText(sentence)

        self._newest.keep("kit", self._threads.run(read_kit, request, done=take, failed=fail))

    def _show(self, answer: KitAnswer | None) -> None:
        """Show a kit, or nothing."""
        self.kit = answer.kit if answer is not None else None
        kit = self.kit
        self.title.setText(kit.name if kit is not None else "")
        presets = answer.presets if answer is not None else ()
        self.presets.clear()
        for number, name in presets:
            self.presets.addItem(name, number)
        self.presets.setVisible(len(presets) > 1)
        if self._request is not None:
            self.presets.setCurrentIndex(max(0, self.presets.findData(self._request.number)))
        self.table.setRowCount(len(kit.pads) if kit is not None else 0)
        for row, ready in enumerate(kit.pads if kit is not None else ()):
            self.table.setItem(row, 0, QTableWidgetItem(ready.pad.name))
            box = drum_box(f"Drum of {ready.pad.name}")
            box.setCurrentIndex(box.findData(ready.pad.drum))
            box.activated.connect(lambda _: self._show_finds())
            self.table.setCellWidget(row, 1, box)
            self.table.setItem(row, 2, QTableWidgetItem(kit.known_by[row] if kit is not None else ""))
            self.table.setItem(row, 3, QTableWidgetItem(counted(len(ready.pad.layers), "sound")))
        self.table.resizeColumnsToContents()
        self.table.setColumnWidth(1, DRUM_WIDTH)
        self.said.setText(". ".join(kit.said) if kit is not None else "")
        self._show_finds()

    def drums(self) -> list[str]:
        """Return the drums of the pads, as they were corrected."""
        boxes = [self.table.cellWidget(row, 1) for row in range(self.table.rowCount())]
        return [str(box.currentData()) for box in boxes if isinstance(box, QComboBox)]

    def _swap(self, document: Document) -> Swap | None:
        return under_groove(document, self.kit, self.drums()) if self.kit is not None and not self._onto_pads else None

    def _show_finds(self) -> None:
        """Say which hits find which pads."""
        document = self._session.store.document
        self.take.setEnabled(self.kit is not None and document is not None)
        self.take.setText("Put onto the pads" if self._onto_pads else "Put under the groove")
        self.finds.setText("")
        if document is None or self.kit is None or self._onto_pads:
            return
        swap = self._swap(document)
        assert swap is not None
        hits = sum(len(variation.hits) for variation in document.variations)
        words = [f"All {counted(hits, 'hit')} stay."]
        if swap.stands_in:
            words.append(f"{_named(swap.stands_in)}: the kit has no such drum.")
        if swap.stayed:
            words.append(f"{_named(swap.stayed)} stay as they are, on pads of their own: nothing in the kit is near.")
        self.finds.setText(" ".join(words))

    def use(self) -> None:
        """Put the kit under the groove, or the sounds onto the pads, as one step."""
        kit, drums = self.kit, self.drums()
        if kit is None:
            return
        for sound in kit.sounds.values():
            self._session.project.lend(sound)
        if self._onto_pads:
            done = self._session.store.edit(f"load {counted(len(kit.pads), 'sound')}", lambda d: onto_pads(d, kit, drums))
        else:
            done = self._session.store.edit(f"kit {kit.name}", lambda d: under_groove(d, kit, drums).document)
        if done:
            self.close()

    def _hear(self, row: int) -> None:
        if self.kit is not None and 0 <= row < len(self.kit.pads) and self.kit.pads[row].pad.layers:
            sound = self.kit.sounds[self.kit.pads[row].pad.layers[-1].of]
            self._playback.previews.play(sound, 0, sound.frames)


def _named(words: Sequence[str]) -> str:
    more = len(words) - MOST_NAMED
    return ", ".join(words[:MOST_NAMED]) + (f" and {more} more" if more > 0 else "")
