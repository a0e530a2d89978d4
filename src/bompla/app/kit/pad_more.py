"""What else a pad can do: sound with another, be gated, be played across the keys, send to room and echo, be as loud as the kit."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtWidgets import QFileDialog, QGridLayout, QHBoxLayout, QMenu, QPushButton, QWidget

from bompla.app.kit.keyboard import KeyboardBar
from bompla.app.project.session import Session
from bompla.app.ui.controls import Panel, button, combo, label
from bompla.app.ui.value_bar import ValueBar
from bompla.errors import BomplaError
from bompla.formats.note_list import read_note_list, write_note_list
from bompla.model.document import Document, Pad
from bompla.model.kit_edits import (
    notes_by_drum,
    notes_from_list,
    notes_in_order,
    set_keys,
    set_pad_level,
    set_pad_note,
    set_stacked,
)
from bompla.model.reshape import change_in_words, reshaped
from bompla.model.shape import OUTPUTS, SHAPE_PARAMS, Shape
from bompla.render.levels import level_as_the_kit

BARS = ("room", "echo")


class PadMore(Panel):
    """Shows how the selected pad is played, beside its sound."""

    def __init__(self, session: Session, *, pad: Callable[[], Pad | None], strike: Callable[..., object],
                 learn: Callable[[Callable[[int], None]], object]) -> None:
        super().__init__()
        self.body.setSpacing(6)
        self._session, self._pad, self._strike, self._learn = session, pad, strike, learn
        column = self.body
        self.title_line = label("", "title")
        column.addWidget(self.title_line)
        column.addWidget(label("Loudness", "heading"))
        column.addLayout(self._loudness_row())
        column.addWidget(label("Room and echo sends", "heading"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        self.bars: dict[str, ValueBar] = {}
        for place, key in enumerate(BARS):
            grid.addWidget(self._bar(key), 0, place)
        column.addLayout(grid)
        column.addWidget(label("Playback", "heading"))
        row = QHBoxLayout()
        row.setSpacing(6)
        self.gated = button("gate", self._set_gated, chip=True, checkable=True,
                           tip="Sound only as long as the pad is held down, and end over the release; otherwise to its end, as a one-shot")
        row.addWidget(self.gated)
        row.addWidget(label("layer with", "dim"))
        self.stack = combo("Pad layered with this one")
        self.stack.activated.connect(self._set_stack)
        row.addWidget(self.stack, 1)
        column.addLayout(row)
        column.addWidget(self._bar("release_ms"))
        column.addLayout(self._output_row())
        top = QHBoxLayout()
        top.addWidget(label("Across the keys", "heading"))
        top.addStretch(1)
        self.learning = button("learn note", self._ask_note, chip=True, checkable=True,
                               tip="The next MIDI note becomes this pad's")
        top.addWidget(self.learning)
        column.addLayout(top)
        self.keyboard = KeyboardBar()
        self.keyboard.chosen.connect(self._set_keys)
        self.keyboard.struck.connect(self._play_key)
        column.addWidget(self.keyboard)
        column.addWidget(label("Drag outwards from the pad's own note; a click plays a key", "dim"))
        column.addStretch(1)

    def _bar(self, key: str) -> ValueBar:
        self.bars[key] = shape_bar(self._session, self._pad, key)
        return self.bars[key]

    def _loudness_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(button("Match kit level", self._match, tip="Match this pad's loudness to the other pads"))
        row.addWidget(button("Original level", lambda: self._level(0.0), tip="Reset to the level in the original"))
        row.addStretch(1)
        return row

    def _output_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(label("output", "dim"))
        self.output = combo("Output pair", [(name, number) for number, name in enumerate(OUTPUTS)],
                            tip="Outputs 3–8 bypass the colour; a device without them plays everything at 1–2")
        self.output.activated.connect(self._set_output)
        row.addWidget(self.output)
        row.addStretch(1)
        return row

    def refresh(self, document: Document) -> None:
        """Show the selected pad."""
        pad = self._pad()
        self.setEnabled(pad is not None)
        if pad is None:
            return
        self.title_line.setText(pad.name)
        for key, bar in self.bars.items():
            bar.show_value(float(getattr(pad.shape, key)))
        self.gated.setChecked(pad.shape.gated)
        self.output.setCurrentIndex(pad.shape.output)
        self.stack.blockSignals(True)
        self.stack.clear()
        self.stack.addItem("none", 0)
        for other in document.pads:
            if other.id != pad.id:
                self.stack.addItem(other.name, other.id)
        self.stack.setCurrentIndex(max(0, self.stack.findData(pad.stacked)))
        self.stack.blockSignals(False)
        self.keyboard.show_range(pad.note, pad.keys)

    def _match(self) -> None:
        document, clip, pad = self._session.store.document, self._session.project.clip, self._pad()
        if document is not None and clip is not None and pad is not None:
            self._level(level_as_the_kit(document, clip, pad, self._session.project.borrowed))

    def _level(self, level_db: float) -> None:
        pad = self._pad()
        if pad is not None:
            self._session.store.edit("set level", lambda d: set_pad_level(d, pad.id, level_db))

    def _set_output(self, output: int) -> None:
        pad = self._pad()
        if pad is not None:
            choose_shape(self._session, pad, replace(pad.shape, output=output))

    def _set_gated(self) -> None:
        pad = self._pad()
        if pad is not None:
            choose_shape(self._session, pad, replace(pad.shape, gated=self.gated.isChecked()))

    def _set_stack(self, index: int) -> None:
        pad = self._pad()
        if pad is not None:
            other = int(self.stack.itemData(index))
            self._session.store.edit("layer pads", lambda d: set_stacked(d, pad.id, other))

    def _set_keys(self, low: int, high: int) -> None:
        pad = self._pad()
        if pad is not None and (low, high) != pad.keys:
            self._session.store.edit("key range", lambda d: set_keys(d, pad.id, low, high))

    def _play_key(self, note: int) -> None:
        pad = self._pad()
        if pad is not None:
            self._strike(pad.id, pitch=float(note - pad.note))

    def _ask_note(self) -> None:
        if not self.learning.isChecked():
            self._learn(lambda _: None)
            return
        pad = self._pad()

        def take(note: int) -> None:
            self.learning.setChecked(False)
            if pad is not None:
                self._session.store.edit("learn note", lambda d: set_pad_note(d, pad.id, note))

        self._learn(take)


def preview_shape(session: Session, pad: Pad, shape: Shape) -> None:
    """Let a shape of a pad be heard while it is dragged, with all other selected pads moved along."""
    pad_ids = session.shown.selection.pad_ids
    session.store.preview(lambda d: reshaped(d, pad.id, shape, pad_ids))


def choose_shape(session: Session, pad: Pad, shape: Shape) -> None:
    """Give a pad a shape, and move all other selected pads along, as one step named for what changed."""
    document = session.store.history.document if session.store.history is not None else None
    if document is None:
        return
    pad_ids = session.shown.selection.pad_ids
    reached = [one for one in document.pads if one.id in pad_ids]
    session.store.edit(change_in_words(document.pad(pad.id).shape, shape, reached), lambda d: reshaped(d, pad.id, shape, pad_ids))


def shape_bar(session: Session, pad: Callable[[], Pad | None], key: str) -> ValueBar:
    """Return a bar for a value of the selected pad's shape, heard while it is dragged."""
    bar = ValueBar(SHAPE_PARAMS[key])

    def moved(value: float) -> None:
        if (shown := pad()) is not None:
            preview_shape(session, shown, replace(shown.shape, **{key: value}))

    def chosen(value: float) -> None:
        if (shown := pad()) is not None:
            choose_shape(session, shown, replace(shown.shape, **{key: value}))

    bar.moved.connect(moved)
    bar.dropped.connect(session.store.drop_preview)
    bar.chosen.connect(chosen)
    return bar


def notes_button(session: Session, parent: QWidget) -> QPushButton:
    """Return a button with a menu of lists of notes."""
    made = button("Notes", lambda: None, tip="Which MIDI notes play the pads")
    menu = QMenu(made)

    def keep() -> None:
        document = session.store.document
        name, _ = QFileDialog.getSaveFileName(parent, "Save this note list", "kit.notes.json", "Note lists (*.json)")
        if name and document is not None:
            try:
                write_note_list(document, Path(name))
            except BomplaError as error:
                session.hub.trouble(str(error))

    def take() -> None:
        name, _ = QFileDialog.getOpenFileName(parent, "Open a note list", "", "Note lists (*.json)")
        if name:
            try:
                notes = read_note_list(Path(name))
            except BomplaError as error:
                session.hub.trouble(str(error))
                return
            session.store.edit("notes from list", lambda d: notes_from_list(d, notes))

    for text, act in (
        ("General MIDI percussion", lambda: session.store.edit("notes by drum", notes_by_drum)),
        ("Chromatic from 36", lambda: session.store.edit("notes in order", notes_in_order)),
        ("Load note list…", take),
        ("Save note list…", keep),
    ):
        action = menu.addAction(text)
        assert action is not None
        action.triggered.connect(lambda _=False, act=act: act())
    made.setMenu(menu)
    return made
