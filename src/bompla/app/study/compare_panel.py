"""How near it is: two patterns compared, their differences stepped through, heard in turn, and mended."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QListWidget

from bompla.app.commands import tip
from bompla.app.preferences import preferences
from bompla.app.project.session import Session
from bompla.app.study.sides import ORIGINAL, SHOWN, Side, midi_side, sides_of
from bompla.app.ui.controls import Facts, Panel, button, combo, label
from bompla.audio.files import SUFFIXES
from bompla.files import as_text, name_of
from bompla.formats.midi_read import MidiNotes
from bompla.groove.mends import mended
from bompla.model.detected_pattern import pattern_beats, pattern_meter
from bompla.model.document import Document
from bompla.model.wording import bar_and_beat

if TYPE_CHECKING:  # it brings SciPy, which the window does without until something is compared
    from bompla.groove.compare import Compared, Difference

MOST_LISTED = 80
FROM_FILE = "a file"
MIDI = (".mid", ".midi")


class ComparePanel(Panel):
    """`sides_changed` tells that other patterns are compared, `shown` carries the difference that is gone to, None for none."""

    sides_changed = pyqtSignal()
    shown = pyqtSignal(object)

    def __init__(self, session: Session) -> None:
        super().__init__("How near it is")
        self._session = session
        self.brought: tuple[Side, ...] = ()
        self._compared: Compared | None = None
        self.one, self.other = combo("Compare"), combo("with")
        for words, box in (("of", self.one), ("in", self.other)):
            row = QHBoxLayout()
            name = label(words, "dim")
            name.setFixedWidth(18)
            name.setBuddy(box)
            row.addWidget(name)
            row.addWidget(box, 1)
            self.body.addLayout(row)
            box.activated.connect(partial(self._chosen, box))
        self.facts = Facts(("hits found", "timing", "loudness", "sound"))
        self.body.addWidget(self.facts)
        self.list = QListWidget()
        self.list.setAccessibleName("Differences, the most heard first")
        self.list.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.list.currentRowChanged.connect(lambda _: self.shown.emit(self.difference()))
        self.body.addWidget(self.list, 1)
        row = QHBoxLayout()
        row.addWidget(button("Previous", partial(self.step, -1), tip=tip("difference_back")))
        row.addWidget(button("Next", partial(self.step, 1), tip=tip("difference_next")))
        self.mend_button = button("Mend", self.mend, tip=tip("difference_mend"))
        row.addWidget(self.mend_button)
        row.addStretch(1)
        self.body.addLayout(row)
        session.project.sound_changed.connect(self._forget)
        self.offer()

    @property
    def keys(self) -> tuple[str, str]:
        """What is compared with what, by key."""
        return str(self.one.currentData() or ORIGINAL), str(self.other.currentData() or SHOWN)

    def offer(self) -> None:
        """Show what can be compared now; what was chosen stays, where it is still there."""
        choices = sides_of(self._session, self.brought)
        if not choices:
            return
        for box, usual in ((self.one, ORIGINAL), (self.other, SHOWN)):
            before = str(box.currentData() or usual)
            wanted = [*choices, (FROM_FILE, "a loop or MIDI file…")]
            if [box.itemData(n) for n in range(box.count())] != [key for key, _ in wanted] or box.currentText() != dict(wanted).get(before):
                box.clear()
                for key, name in wanted:
                    box.addItem(name, key)
                box.setCurrentIndex(max(0, box.findData(before if box.findData(before) >= 0 else usual)))

    def show_compared(self, document: Document, compared: Compared, sound_db: float | None) -> None:
        """Show what came of it; `sound_db` is how far apart the sounds are, where both can be heard."""
        self._compared = compared
        self.facts.set("hits found", f"{compared.found} of {compared.of}")
        self.facts.set("timing", f"{compared.timing_ms:.1f} ms apart as a rule")
        self.facts.set("loudness", f"{compared.loudness_db:.1f} dB apart as a rule")
        self.facts.set("sound", f"{sound_db:.1f} dB apart, in all bands" if sound_db is not None else "not compared")
        self.list.blockSignals(True)
        self.list.clear()
        meter = pattern_meter(document)
        for one in compared.differences[:MOST_LISTED]:
            self.list.addItem(f"{bar_and_beat(max(0.0, one.at_beats), meter)}  {one.text}")
        self.list.blockSignals(False)
        can = self.keys[1] == SHOWN
        self.mend_button.setEnabled(self.list.count() > 0 and can)
        self.mend_button.setToolTip(tip("difference_mend") if can else "Only this pattern can be mended: choose it below")

    def difference(self) -> Difference | None:
        """Return the difference that is selected."""
        row = self.list.currentRow()
        return self._compared.differences[row] if self._compared is not None and row >= 0 else None

    def step(self, by: int) -> None:
        """Go to the next difference, or so many on."""
        count = self.list.count()
        if count:
            self.list.setCurrentRow((self.list.currentRow() + by) % count)

    def mend(self) -> None:
        """Make this pattern like what it is compared with, where the difference is that is selected."""
        difference = self.difference()
        if difference is not None and self.keys[1] == SHOWN:
            self._session.store.edit(f"mend {difference.kind} {difference.drum.replace('_', ' ')}", lambda d: mended(d, difference))

    def bring(self, path: Path, box: QComboBox | None = None) -> None:
        """Bring in a file of sound or MIDI as a side of the comparison."""
        document = self._session.store.document
        if document is None:
            return
        target = box if box is not None else self.one
        if path.suffix.lower() not in MIDI:
            self._session.openings.hear(path, lambda heard: self._bring_heard(path, heard, target))
            return
        self._session.requests.read_notes(path, lambda found: self._bring_notes(path, found, target))

    def _bring_notes(self, path: Path, found: MidiNotes, box: QComboBox) -> None:
        document = self._session.store.document
        if document is not None:
            self._keep(midi_side(document, name_of(path), found.notes, found.beats), box)

    def _bring_heard(self, path: Path, heard: Document, box: QComboBox) -> None:
        from bompla.groove.compare import struck_in

        self._keep(Side(f"file {name_of(path)}", as_text(path.stem), tuple(struck_in(heard)), pattern_beats(heard)), box)

    def _keep(self, side: Side, box: QComboBox) -> None:
        self.brought = (*(one for one in self.brought if one.key != side.key), side)
        self.offer()
        box.setCurrentIndex(box.findData(side.key))
        self.sides_changed.emit()

    def _chosen(self, box: QComboBox, _index: int) -> None:
        if box.currentData() != FROM_FILE:
            self.sides_changed.emit()
            return
        box.setCurrentIndex(0 if box is self.one else 1)
        kinds = " ".join(f"*{suffix}" for suffix in (*SUFFIXES, *MIDI))
        name, _ = QFileDialog.getOpenFileName(self, "Compare with a loop or a MIDI file", preferences().value.last_folder,
                                              f"Sounds and MIDI files ({kinds});;All files (*)")
        if name:
            self.bring(Path(name), box)

    def _forget(self) -> None:
        self.brought, self._compared = (), None
        self.list.clear()
