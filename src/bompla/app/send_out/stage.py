"""Send out: write the pattern as a MIDI file."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QSizePolicy, QWidget

from bompla.app.commands import tip
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.stage import Stage, WindowActions
from bompla.app.theme import theme
from bompla.app.ui.controls import Chips, Facts, Panel, button, label
from bompla.app.ui.noteheads import draw_head
from bompla.errors import BomplaError
from bompla.formats.midi import MidiOptions, section_starts, write_midi, written_hits
from bompla.model.detected_pattern import pattern_meter
from bompla.model.document import Document, Hit
from bompla.model.drums import DRUMS
from bompla.units import note_name

ROW = 30


class TrackSheet(QWidget):
    """Shows the tracks as they will be written: name, note, and every hit at its time."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.options = MidiOptions()
        self.setAccessibleName("Tracks of the MIDI file")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        session.store.document_changed.connect(lambda _: self.update())
        theme().changed.connect(self.update)

    def placed(self, document: Document) -> list[tuple[float, Hit]]:
        """Return what will be written, nothing where a letter is not one of the variations."""
        try:
            return written_hits(document, self.options)
        except BomplaError:
            return []

    def beats(self, document: Document) -> int:
        """Return how long what will be written is."""
        try:
            return section_starts(document, self.options)[-1]
        except BomplaError:
            return document.loop.beats

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        document = self._session.store.document
        if document is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        placed = self.placed(document)
        hits, times = [hit for _, hit in placed], [at for at, _ in placed]
        beats = self.beats(document)
        pads = [pad for pad in document.pads if any(hit.pad_id == pad.id for hit in hits)]
        left, width = 230.0, self.width() - 248.0
        bars = max(1, beats // pattern_meter(document).beats_per_bar)
        row_height = min(84.0, max(float(ROW), (self.height() - 34.0) / max(1, len(pads))))
        bottom = 28.0 + len(pads) * row_height
        for bar in range(bars + 1):
            x = left + bar * width / bars
            painter.setPen(QPen(theme().colour("line"), 1.0))
            painter.drawLine(QPointF(x, 24.0), QPointF(x, bottom))
            if bar < bars and width / bars > 26.0:
                painter.setFont(theme().font(14, weight=600))
                painter.setPen(theme().colour("dim"))
                painter.drawText(QPointF(x + 3.0, 17.0), str(bar + 1))
        for index, pad in enumerate(sorted(pads, key=lambda p: -p.slot)):
            y = 28.0 + (index + 0.5) * row_height
            colour = theme().drum(pad.drum)
            draw_head(painter, pad.drum, 14.0, y, 12.0, colour)
            painter.setFont(theme().font(16, weight=600))
            painter.setPen(theme().colour("paper"))
            name = painter.fontMetrics().elidedText(pad.name, Qt.TextElideMode.ElideRight, 110)
            painter.drawText(QRectF(30.0, y - 12.0, 112.0, 24.0), Qt.AlignmentFlag.AlignVCenter, name)
            note = DRUMS[pad.drum].note if self.options.notes == "drums" else pad.note
            painter.setFont(theme().font(14, weight=400))
            painter.setPen(theme().colour("dim"))
            painter.drawText(QRectF(144.0, y - 12.0, 84.0, 24.0), Qt.AlignmentFlag.AlignVCenter, f"{note} · {note_name(note)}")
            painter.setPen(QPen(theme().colour("faint_line"), 1.0))
            painter.drawLine(QPointF(0.0, y + row_height / 2), QPointF(float(self.width()), y + row_height / 2))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            for hit, at in zip(hits, times, strict=True):
                if hit.pad_id == pad.id:
                    tall = 4.0 + (min(row_height, 56.0) - 12.0) * hit.velocity / 127.0
                    painter.drawRoundedRect(QRectF(left + at / beats * width, y - tall / 2.0, 4.0, tall), 1.5, 1.5)


class SendOut(Stage):
    """The last stage."""

    key = "send-out"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        self.last_written: Path | None = None
        self._written_of: Document | None = None
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        picture = Panel("MIDI file preview")
        self.sheet = TrackSheet(session)
        picture.body.addWidget(self.sheet, 1)
        layout.addWidget(picture, 1)
        layout.addWidget(self._panel(actions.choose_midi))
        session.project.opened.connect(self._forget)
        self.connect_all()

    def state_line(self, document: Document | None) -> str:
        """Return whether the pattern was written."""
        if self.last_written is None or document is None:
            return "not yet"
        return "written" if document is self._written_of else "changed since"

    def refresh(self, document: Document) -> None:
        """Show what will be written."""
        hits = [hit for _, hit in self.sheet.placed(document)]
        self.facts.set("tempo", f"{document.bpm:.2f} BPM")
        self.facts.set("meter", pattern_meter(document).name)
        beats = self.sheet.beats(document)
        self.facts.set("bars", f"{beats / pattern_meter(document).beats_per_bar:g}")
        self.in_order.setEnabled(bool(document.order))
        self.facts.set("hits", str(len(hits)))
        self.facts.set("tracks", str(len({hit.pad_id for hit in hits})))
        self.write.setEnabled(bool(hits))

    def write_to(self, path: Path) -> bool:
        """Write the MIDI file; False, with a message, where it cannot be written."""
        document = self.session.store.document
        if document is None:
            return False
        try:
            write_midi(document, path, self.sheet.options)
        except BomplaError as error:
            self.session.hub.trouble(str(error))
            return False
        self.last_written, self._written_of = path, document
        self.written_line.setText(f"Written: {path.name}")
        self.session.hub.note(f"Wrote {path}.")
        self.session.project.saved_changed.emit()
        return True

    def _panel(self, choose_path: Callable[[], object]) -> QWidget:
        panel = Panel("MIDI file")
        panel.setFixedWidth(292)
        self.facts = Facts(("tempo", "meter", "bars", "hits", "tracks"))
        panel.body.addWidget(self.facts)
        panel.body.addWidget(label("Times", "heading"))
        self.times = Chips("Times")
        self.times.offer([(False, "as played"), (True, "quantised")], False, tip="As played, or quantised to each beat's grid")
        self.times.chosen.connect(lambda on: self._choose(quantise=bool(on)))
        panel.body.addWidget(self.times, 0, Qt.AlignmentFlag.AlignLeft)
        panel.body.addWidget(label("Notes", "heading"))
        self.notes = Chips("Notes")
        self.notes.offer([("pads", "pad notes"), ("drums", "General MIDI")], "pads",
                         tip="Notes as set on the pads, or General MIDI percussion")
        self.notes.chosen.connect(lambda which: self._choose(notes=str(which)))
        panel.body.addWidget(self.notes, 0, Qt.AlignmentFlag.AlignLeft)
        panel.body.addWidget(label("Variations in sequence", "heading"))
        self.letters = QLineEdit()
        self.letters.setAccessibleName("Variations to write")
        self.letters.setPlaceholderText("shown variation; or A A B A")
        self.letters.textChanged.connect(self._choose_letters)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.letters, 1)
        self.in_order = button("order", self._write_order, chip=True, tip="Use the order from the Groove stage")
        row.addWidget(self.in_order)
        panel.body.addLayout(row)
        panel.body.addSpacing(8)
        row = QHBoxLayout()
        self.write = button("Write MIDI file…", choose_path, tip=tip("write_midi"), primary=True)
        row.addWidget(self.write)
        row.addStretch(1)
        panel.body.addLayout(row)
        self.written_line = label("", "good")
        self.written_line.setWordWrap(True)
        panel.body.addWidget(self.written_line)
        panel.body.addStretch(1)
        note = label("Type 1, 960 ticks per quarter note, one track per pad, percussion on channel 10.", "dim")
        note.setWordWrap(True)
        panel.body.addWidget(note)
        return panel

    def _choose(self, *, quantise: bool | None = None, notes: str | None = None) -> None:
        old = self.sheet.options
        self.sheet.options = MidiOptions(
            old.quantise if quantise is None else quantise, "drums" if (notes or old.notes) == "drums" else "pads", old.letters
        )
        self.sheet.update()

    def _write_order(self) -> None:
        document = self.session.store.document
        if document is not None:
            self.letters.setText(" ".join(step.letter for step in document.order for _ in range(step.repeats)))

    def _choose_letters(self, text: str) -> None:
        letters = tuple(one for one in text.upper() if one.isalpha())
        self.sheet.options = replace(self.sheet.options, letters=letters)
        self.sheet.update()
        document = self.session.store.document
        if document is not None:
            self.refresh(document)

    def _forget(self) -> None:
        self.last_written = self._written_of = None
        self.written_line.setText("")


