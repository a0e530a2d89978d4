"""What is known of the selected pad, and how it is shaped."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QFrame, QGridLayout, QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.drag_out import DragHandle
from bompla.app.kit.pad_grid import PAD_KEYS
from bompla.app.kit.pad_more import shape_bar
from bompla.app.kit.shape_view import EnvelopeView, FilterView, ShapePicture, TrimView
from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.controls import Chips, MiniWave, Panel, button, clear_layout, combo, drum_box, label, plain_tip
from bompla.app.ui.number_box import NumberBox
from bompla.app.ui.value_bar import ValueBar
from bompla.audio.files import SUFFIXES
from bompla.model.document import PADS_PER_PAGE, Document, Layer, Pad
from bompla.model.drums import DRUMS
from bompla.model.kit_edits import (
    LEVEL,
    clear_pad,
    copy_shape,
    rename_pad,
    set_layer_range,
    set_pad_drum,
    set_pad_level,
    set_pad_note,
    set_shape,
    take_off,
)
from bompla.model.shape import CHOKE_SETS, DIRECTIONS, FILTERS, PLAIN, TAILS, Shape
from bompla.render.underneath import underneath_pad
from bompla.units import note_name

BARS = ("tune", "pan", "clean")
SHOWN_UNDERNEATH = 2
LAYER_WIDTH, LAYER_HEIGHT = 112, 102

SOUNDS = " ".join(f"*{suffix}" for suffix in SUFFIXES)


class PadPanel(Panel):
    """Shows the selected pad. What is dragged is heard at the next strike."""

    def __init__(self, session: Session, *, listen: Callable[[], object], leave_field: Callable[[], object], remove: Callable[[], object],
                 hear_layer: Callable[[Layer], object]) -> None:
        super().__init__()
        self._session, self._leave_field, self._remove, self._hear_layer = session, leave_field, remove, hear_layer
        self._shown: tuple[object, ...] | None = None
        self.body.setSpacing(6)
        self._title_row(listen)
        self._naming_row()
        self.layers_heading = label("", "heading")
        row = QHBoxLayout()
        row.addWidget(self.layers_heading)
        row.addStretch(1)
        row.addWidget(button("load file…", self.choose_file, tip=tip("pad_file"), chip=True))
        self.body.addLayout(row)
        row_of_layers = QWidget()
        self.layers = QHBoxLayout(row_of_layers)
        self.layers.setContentsMargins(0, 0, 0, 0)
        self.layers.setSpacing(5)
        area = QScrollArea()
        area.setWidget(row_of_layers)
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFixedHeight(LAYER_HEIGHT)
        self.layers_area = area
        self.body.addWidget(area)
        self.body.addWidget(label("Start, end and fades", "heading"))
        self.trim = TrimView(session)
        self.body.addWidget(self.trim)
        row = QHBoxLayout()
        row.setSpacing(8)
        self.envelope, self.filter = EnvelopeView(), FilterView()
        for heading, view in (("Loudness over time", self.envelope), ("Filter", self.filter)):
            column = QVBoxLayout()
            column.setSpacing(4)
            top = QHBoxLayout()
            top.addWidget(label(heading, "heading"))
            if view is self.filter:
                self.kind = combo("Kind of filter", [(words, key) for key, words in FILTERS.items()],
                                  tip="Which frequencies the filter lets through")
                self.kind.activated.connect(lambda _: self._choose(filter=str(self.kind.currentData())))
                top.addWidget(self.kind)
            column.addLayout(top)
            column.addWidget(view)
            row.addLayout(column, 1)
        self.body.addLayout(row)
        for picture in (self.trim, self.envelope, self.filter):
            self._connect(picture)
        self._bars()
        self._choices()
        self.body.addStretch(1)
        self._bottom_row()

    def _title_row(self, listen: Callable[[], object]) -> None:
        top = QHBoxLayout()
        self.title_line = label("", "title")
        top.addWidget(self.title_line)
        self.note_line = label("", "dim")
        top.addWidget(self.note_line)
        top.addStretch(1)
        top.addWidget(button("Listen", listen, tip="Play this pad at its usual velocity"))
        top.addWidget(DragHandle(self._session, "single-hit", "the pad's hits", what=self._pad_out))
        self.body.addLayout(top)

    def _pad_out(self) -> tuple[frozenset[int], Document | None]:
        pad = self.pad()
        return frozenset({pad.id}) if pad is not None else frozenset(), None

    def _naming_row(self) -> None:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the pad")
        self.name.setToolTip("Name of the pad")
        self.name.editingFinished.connect(self._rename)
        row.addWidget(self.name, 3)
        self.drum = drum_box()
        self.drum.activated.connect(self._set_drum)
        row.addWidget(self.drum, 3)
        self.note = NumberBox("MIDI note of the pad", 0, 127, width=52, arrows=True)
        self.note.typed.connect(lambda note: self._set_note(round(note)))
        row.addWidget(self.note)
        self.body.addLayout(row)

    def _bars(self) -> None:
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(4)
        self.level = ValueBar(LEVEL)
        self.level.moved.connect(self._preview_level)
        self.level.dropped.connect(self._session.store.drop_preview)
        self.level.chosen.connect(self._set_level)
        grid.addWidget(self.level, 0, 0)
        self.bars: dict[str, ValueBar] = {}
        for place, key in enumerate(BARS, 1):
            self.bars[key] = shape_bar(self._session, self.pad, key)
            grid.addWidget(self.bars[key], place // 2, place % 2)
        self.body.addLayout(grid)
        self.under = label("", "dim")
        self.under.setWordWrap(True)
        self.under.setToolTip("Clean removes these; best where a slice has the drum alone")
        self.body.addWidget(self.under)

    def _choices(self) -> None:
        self.direction = Chips("Direction")
        self.direction.chosen.connect(lambda value: self._choose(direction=str(value)))
        self.body.addWidget(_named("plays", self.direction))
        row = QHBoxLayout()
        row.setSpacing(6)
        self.choke = combo("Choke set", [(words, key) for key, words in CHOKE_SETS.items()], tip="Pads of one set silence each other")
        self.choke.activated.connect(lambda _: self._choose(choke=int(self.choke.currentData())))
        self.tail = combo("Tail", [(words, key) for key, words in TAILS.items()], tip="How the sound goes on past its slice")
        self.tail.activated.connect(lambda _: self._choose(tail=str(self.tail.currentData())))
        for text, box in (("choke", self.choke), ("tail", self.tail)):
            row.addWidget(label(text, "dim"))
            row.addWidget(box, 1)
        self.body.addLayout(row)

    def _bottom_row(self) -> None:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.compare = button("As in the loop", lambda: None, chip=True, checkable=True, tip="Play the unprocessed slice while this is on")
        row.addWidget(button("Copy", self._copy_shape, tip="Copy this pad's shape to all pads of its family", name="Copy shape"))
        row.addWidget(button("Reset", lambda: self._choose_shape(PLAIN), tip="Remove all shaping from this pad"))
        row.addWidget(self.compare)
        row.addStretch(1)
        row.addWidget(button("Clear", self.clear, tip=tip("pad_clear"), name="Clear pad"))
        row.addWidget(button("Remove", self._remove, tip=tip("pad_remove"), name="Remove pad"))
        self.body.addLayout(row)

    def _connect(self, picture: ShapePicture) -> None:
        picture.moved.connect(self._preview_shape)
        picture.chosen.connect(self._choose_shape)
        picture.dropped.connect(self._session.store.drop_preview)

    def pad(self) -> Pad | None:
        """Return the selected pad."""
        document = self._session.store.document
        if document is None:
            return None
        return next((pad for pad in document.pads if pad.id == self._session.shown.selection.pad_id), None)

    def refresh(self, document: Document) -> None:
        """Show the selected pad."""
        pad = self.pad()
        self.setEnabled(pad is not None)
        shown = (pad, document.pads, document.cuts, document.loop, document.borrowed)
        if pad is None or (self._shown is not None and all(one is other for one, other in zip(self._shown, shown, strict=True))):
            return  # an edit of hits changes no pad
        self._shown = shown
        self.title_line.setText(pad.name)
        others = [other.name for other in document.pads if other.note == pad.note and other.id != pad.id]
        shared = f" · same note as {others[0]}" if others else ""
        self.note_line.setText(f"{pad.note} · {note_name(pad.note)} · key {PAD_KEYS[pad.slot % PADS_PER_PAGE]}{shared}")
        self.note_line.setToolTip(plain_tip(f"A note plays all pads that have it: also {', '.join(others)}") if others else "")
        if not self.name.hasFocus():
            self.name.setText(pad.name)
        self.drum.setCurrentIndex(self.drum.findData(pad.drum))
        self.note.show_number(pad.note)
        self.level.show_value(pad.level_db)
        for key, bar in self.bars.items():
            bar.show_value(float(getattr(pad.shape, key)))
        self.under.setText(_underneath_in_words(underneath_pad(document, pad)))
        self.envelope.show_shape(pad.shape)
        self.filter.show_shape(pad.shape)
        if pad.layers:
            self.trim.show_pad(pad, pad.layers[-1], document.layer_bounds(pad.layers[-1]))
        self.trim.setVisible(bool(pad.layers))
        self.direction.offer(list(DIRECTIONS.items()), pad.shape.direction)
        for box, value in ((self.kind, pad.shape.filter), (self.choke, pad.shape.choke), (self.tail, pad.shape.tail)):
            box.setCurrentIndex(max(0, box.findData(value)))
        self._show_layers(document, pad)

    def _show_layers(self, document: Document, pad: Pad) -> None:
        count = len(pad.layers)
        self.layers_heading.setText(
            {0: "Empty pad: drag a slice onto it", 1: "One slice, all velocities"}.get(
                count, f"{pad.shared_how.capitalize()}: {count} slices share this pad")
        )
        clear_layout(self.layers)
        numbers = {piece.start_sample: piece.number for piece in document.slices()}
        self.layers_area.setVisible(count > 0)
        for layer in pad.layers:
            self.layers.addWidget(self._layer_cell(document, pad, layer, 0 if layer.of else numbers.get(layer.at_sample, 0)), 1)

    def _layer_cell(self, document: Document, pad: Pad, layer: Layer, number: int) -> QWidget:
        cell = QWidget()
        cell.setMinimumWidth(LAYER_WIDTH)
        column = QVBoxLayout(cell)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        top = QHBoxLayout()
        borrowed = next((sound.name for sound in document.borrowed if sound.content_hash == layer.of), "")
        what = label(borrowed or (f"slice {number}" if number else "no cut"), "dim")
        what.setToolTip(plain_tip(f"From another file: {borrowed}") if borrowed else "")
        top.addWidget(what)
        top.addStretch(1)
        name = f"Remove {borrowed or f'slice {number}'} from the pad"
        top.addWidget(button("×", partial(self._take_off, pad.id, layer), tip="Remove this slice from the pad", name=name, small=True))
        column.addLayout(top)
        wave = MiniWave(26)
        wave.show_part(self._session.project.summary_of(layer), *document.layer_bounds(layer), theme().drum(pad.drum))
        column.addWidget(wave)
        row = QHBoxLayout()
        row.setSpacing(3)
        named = borrowed or f"slice {number}"
        row.addWidget(button("play", partial(self._hear_layer, layer), tip=f"Play {named} as it is", name=f"Play {named}", small=True))
        row.addStretch(1)
        turns = sum(one.up_to == layer.up_to for one in pad.layers)
        box = NumberBox(f"Highest velocity that {named} answers to", 1, 127, before="to ", width=60,
                        tip="The hardest velocity it answers to" + ("; the slices of one range take turns" if turns > 1 else ""))
        box.show_number(layer.up_to)
        box.setEnabled(layer.up_to < pad.layers[-1].up_to)
        box.typed.connect(lambda up_to: self._set_range(pad.id, layer, round(up_to)))
        row.addWidget(box)
        column.addLayout(row)
        return cell

    def _set_range(self, pad_id: int, layer: Layer, up_to: int) -> None:
        if not self._session.store.edit("set velocity range", lambda d: set_layer_range(d, pad_id, layer, up_to)):
            document = self._session.store.document
            if document is not None:
                self.refresh(document)

    def _take_off(self, pad_id: int, layer: Layer) -> None:
        self._session.store.edit("remove slice from pad", lambda d: take_off(d, pad_id, layer))

    def _rename(self) -> None:
        pad = self.pad()
        if pad is not None and self.name.text().strip() != pad.name:
            self._session.store.edit("rename pad", lambda d: rename_pad(d, pad.id, self.name.text()))
        self._leave_field()

    def _set_drum(self, index: int) -> None:
        pad, drum = self.pad(), self.drum.itemData(index)
        if pad is not None and drum != pad.drum:
            self._session.store.edit(f"make pad {DRUMS[drum].label.lower()}", lambda d: set_pad_drum(d, pad.id, drum))
        self._leave_field()

    def _set_note(self, note: int) -> None:
        pad = self.pad()
        if pad is not None:
            self._session.store.edit("set note", lambda d: set_pad_note(d, pad.id, note))

    def _preview_level(self, level_db: float) -> None:
        pad = self.pad()
        if pad is not None:
            self._session.store.preview(lambda d: set_pad_level(d, pad.id, level_db))

    def _set_level(self, level_db: float) -> None:
        pad = self.pad()
        if pad is not None:
            self._session.store.edit("set level", lambda d: set_pad_level(d, pad.id, level_db))

    def _choose(self, **values: object) -> None:
        pad = self.pad()
        if pad is not None:
            self._choose_shape(replace(pad.shape, **values), f"set {next(iter(values))}")

    def _preview_shape(self, shape: Shape) -> None:
        pad = self.pad()
        if pad is not None:
            self._session.store.preview(lambda d: set_shape(d, pad.id, shape))

    def _choose_shape(self, shape: Shape, words: str = "shape pad") -> None:
        pad = self.pad()
        if pad is not None:
            self._session.store.edit(words, lambda d: set_shape(d, pad.id, shape))

    def _copy_shape(self) -> None:
        pad = self.pad()
        if pad is not None:
            self._session.store.edit("copy shape", lambda d: copy_shape(d, pad.id))

    def choose_file(self) -> None:
        """Ask for a sound file to put on the pad."""
        pad = self.pad()
        if pad is not None:
            name, _ = QFileDialog.getOpenFileName(self, "Load a sound onto the pad", "", f"Sounds ({SOUNDS});;All files (*)")
            if name:
                self._session.requests.borrow(Path(name), pad.slot)

    def clear(self) -> None:
        """Take all slices off the pad."""
        pad = self.pad()
        if pad is not None:
            self._session.store.edit("clear pad", lambda d: clear_pad(d, pad.id))


def _named(text: str, widget: QWidget) -> QWidget:
    made = QWidget()
    row = QHBoxLayout(made)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(6)
    row.addWidget(label(text, "dim"))
    row.addWidget(widget)
    row.addStretch(1)
    return made


def _underneath_in_words(drums: dict[str, int]) -> str:
    """Say what is underneath, and of how many slices each could be known alone."""
    if not drums:
        return "Nothing underneath to clean"
    slices = {count: f" (alone in {count} slices)" for count in drums.values()} | {0: "", 1: " (alone in 1 slice)"}
    named = [DRUMS[drum].label.lower() + slices[count] for drum, count in drums.items()]
    more = len(named) - SHOWN_UNDERNEATH
    return f"Underneath: {', '.join(named[:SHOWN_UNDERNEATH])}" + (f" and {more} more" if more > 0 else "")
