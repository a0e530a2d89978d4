"""Kit: the hits on pads, to be played, named and given their notes."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QScrollArea, QSlider, QSpinBox, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.playback import Playback
from bompla.app.session import Session
from bompla.app.stages.base import Stage
from bompla.app.stages.slice import drum_box, edit_text
from bompla.app.theme import theme
from bompla.app.widgets.controls import Chips, MiniWave, Panel, button, clear_layout, label
from bompla.app.widgets.padgrid import PAD_KEYS, PadGrid, TrayView
from bompla.model.document import PADS_PER_PAGE, Document, Pad
from bompla.model.drums import DRUMS
from bompla.model.kit_edits import (
    MAX_LEVEL_DB,
    MIN_LEVEL_DB,
    clear_pad,
    rename_pad,
    set_pad_drum,
    set_pad_level,
    set_pad_note,
)
from bompla.model.pattern_edits import usual_velocity
from bompla.units import note_name


class KitStage(Stage):
    """The third stage."""

    key, title = "kit", "Kit"

    def __init__(self, session: Session, playback: Playback) -> None:
        super().__init__(session, playback)
        layout, left = self.columns()
        pads = Panel()
        self.pages = Chips("Pages of pads")
        self.pages.chosen.connect(self._show_page)
        self.pages.setVisible(False)
        pads.body.addWidget(self.pages)
        self.grid = PadGrid(session)
        self.grid.struck.connect(self.strike)
        pads.body.addWidget(self.grid, 1)
        left.addWidget(pads, 1)
        tray = Panel("Slices not on a pad · drag one up")
        self.tray = TrayView(session)
        self.tray.heard.connect(self._hear)
        scroll = QScrollArea()
        scroll.setWidget(self.tray)
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setFixedHeight(98)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        tray.body.addWidget(scroll)
        left.addWidget(tray)
        layout.addWidget(self._panel())
        self.command("pad_rename", lambda: edit_text(self.name))
        self.command("pad_clear", self._clear)
        self.connect_all()

    def state_line(self, document: Document | None) -> str:
        """Return how many pads there are."""
        return f"{len(document.pads)} pads" if document else ""

    def picture(self) -> QWidget:
        """Return the picture that takes the keys."""
        return self.grid

    def refresh(self, document: Document) -> None:
        """Show the selected pad."""
        pages = max((pad.slot for pad in document.pads), default=0) // PADS_PER_PAGE + 1
        self.pages.setVisible(pages > 1)
        self.pages.offer([(page, f"page {page + 1}") for page in range(pages)], self.grid.page)
        pad = self._pad()
        self.panel.setEnabled(pad is not None)
        if pad is not None:
            self._show_pad(document, pad)

    def set_playhead(self, at_sample: float) -> None:
        """Let struck pads go dark."""
        self.grid.fade()

    def strike(self, pad_id: int, velocity: int) -> None:
        """Play a pad and show it."""
        if self.playback.strike(pad_id, velocity):
            self.grid.light(pad_id)

    def strike_key(self, key: str) -> bool:
        """Play the pad of a computer key; False where that key has none."""
        place = PAD_KEYS.find(key.upper())
        pad = self.grid.pad_in(self.grid.page * PADS_PER_PAGE + place) if place >= 0 else None
        document = self.session.document
        if pad is None or document is None:
            return False
        self.session.select(pad_id=pad.id)
        self.strike(pad.id, usual_velocity(document, pad.id))
        return True

    def _pad(self) -> Pad | None:
        document = self.session.document
        if document is None:
            return None
        return next((pad for pad in document.pads if pad.id == self.session.selection.pad_id), None)

    def _panel(self) -> QWidget:
        self.panel = Panel()
        self.panel.setFixedWidth(318)
        top = QHBoxLayout()
        self.title_line = label("", "title")
        top.addWidget(self.title_line)
        self.note_line = label("", "dim")
        top.addWidget(self.note_line)
        top.addStretch(1)
        top.addWidget(button("Listen", self._listen, tip="Play this pad as hard as the original mostly does"))
        self.panel.body.addLayout(top)
        self.panel.body.addWidget(label("Name", "heading"))
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the pad")
        self.name.editingFinished.connect(self._rename)
        self.panel.body.addWidget(self.name)
        row = QHBoxLayout()
        column = QVBoxLayout()
        column.addWidget(label("Drum", "heading"))
        self.drum = drum_box()
        self.drum.activated.connect(self._set_drum)
        column.addWidget(self.drum)
        row.addLayout(column, 2)
        column = QVBoxLayout()
        column.addWidget(label("MIDI note", "heading"))
        self.note = QSpinBox()
        self.note.setRange(0, 127)
        self.note.setKeyboardTracking(False)
        self.note.setFocusPolicy(Qt.FocusPolicy.ClickFocus | Qt.FocusPolicy.TabFocus)
        self.note.setAccessibleName("MIDI note of the pad")
        self.note.valueChanged.connect(self._set_note)
        column.addWidget(self.note)
        row.addLayout(column, 1)
        self.panel.body.addLayout(row)
        self._level_row()
        self.layers_heading = label("", "heading")
        self.panel.body.addWidget(self.layers_heading)
        self.layers = QVBoxLayout()
        self.layers.setSpacing(6)
        self.panel.body.addLayout(self.layers)
        self.panel.body.addStretch(1)
        row = QHBoxLayout()
        row.addWidget(button("Clear pad", self._clear, tip=tip("pad_clear")))
        row.addStretch(1)
        self.panel.body.addLayout(row)
        return self.panel

    def _level_row(self) -> None:
        level = QHBoxLayout()
        level.addWidget(label("Level", "heading"))
        level.addStretch(1)
        self.level_line = label("", "value")
        level.addWidget(self.level_line)
        self.panel.body.addLayout(level)
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setRange(round(MIN_LEVEL_DB * 10), round(MAX_LEVEL_DB * 10))
        self.level.setAccessibleName("Level of the pad")
        self.level.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.level.sliderMoved.connect(self._preview_level)
        self.level.sliderReleased.connect(self._set_level)
        self.level.actionTriggered.connect(lambda _: None if self.level.isSliderDown() else self._set_level())
        self.panel.body.addWidget(self.level)

    def _show_pad(self, document: Document, pad: Pad) -> None:
        self.title_line.setText(pad.name)
        self.note_line.setText(f"{pad.note} · {note_name(pad.note)} · key {PAD_KEYS[pad.slot % PADS_PER_PAGE]}")
        if not self.name.hasFocus():
            self.name.setText(pad.name)
        self.drum.setCurrentIndex(self.drum.findData(pad.drum))
        for widget, value in ((self.note, pad.note), (self.level, round(pad.level_db * 10))):
            widget.blockSignals(True)
            widget.setValue(value)
            widget.blockSignals(False)
        self.level_line.setText(f"{pad.level_db:+.1f} dB")
        count = len(pad.layers)
        self.layers_heading.setText(
            {0: "No slice on this pad", 1: "One slice, at every velocity"}.get(count, f"Soft to hard: {count} slices share this pad")
        )
        clear_layout(self.layers)
        numbers = {piece.start_sample: piece.number for piece in document.slices()}
        low = 1
        for layer in pad.layers:
            row = QHBoxLayout()
            number = numbers.get(layer.at_sample)
            text = label(f"slice {number}" if number else "no cut now", "value")
            text.setFixedWidth(68)
            row.addWidget(text)
            wave = MiniWave(34)
            wave.show_part(self.session.summary, *document.layer_bounds(layer), theme().drum(pad.drum))
            row.addWidget(wave, 1)
            reach = label(f"{low} to {layer.up_to}", "dim")
            reach.setFixedWidth(62)
            row.addWidget(reach)
            self.layers.addLayout(row)
            low = layer.up_to + 1

    def _show_page(self, page: object) -> None:
        self.grid.page = int(str(page))
        self.grid.update()

    def _hear(self, cut_id: int) -> None:
        document = self.session.document
        piece = next((p for p in document.slices() if p.cut.id == cut_id), None) if document else None
        if piece is not None:
            self.playback.audition(piece)

    def _listen(self) -> None:
        pad, document = self._pad(), self.session.document
        if pad is not None and document is not None:
            self.strike(pad.id, usual_velocity(document, pad.id))

    def _rename(self) -> None:
        pad = self._pad()
        if pad is not None and self.name.text().strip() != pad.name:
            self.session.edit("rename pad", lambda d: rename_pad(d, pad.id, self.name.text()))
        self.grid.setFocus()

    def _set_drum(self, index: int) -> None:
        pad, drum = self._pad(), self.drum.itemData(index)
        if pad is not None and drum != pad.drum:
            self.session.edit(f"make pad {DRUMS[drum].label.lower()}", lambda d: set_pad_drum(d, pad.id, drum))
        self.grid.setFocus()

    def _set_note(self, note: int) -> None:
        pad = self._pad()
        if pad is not None:
            self.session.edit("set note", lambda d: set_pad_note(d, pad.id, note))

    def _preview_level(self, tenths: int) -> None:
        pad = self._pad()
        if pad is not None:
            self.session.preview(lambda d: set_pad_level(d, pad.id, tenths / 10.0))

    def _set_level(self) -> None:
        pad, tenths = self._pad(), self.level.sliderPosition()
        if pad is not None:
            self.session.edit("set level", lambda d: set_pad_level(d, pad.id, tenths / 10.0))

    def _clear(self) -> None:
        pad = self._pad()
        if pad is not None:
            self.session.edit("clear pad", lambda d: clear_pad(d, pad.id))
