"""What is known of the selected pad, and how it is shaped."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtWidgets import QFileDialog, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.drag_out import DragHandle
from bompla.app.kit.layer_strip import LayerStrip
from bompla.app.kit.pad_grid import PAD_KEYS
from bompla.app.kit.pad_more import choose_shape, preview_shape, shape_bar
from bompla.app.kit.shape_view import EnvelopeView, FilterView, ShapePicture, TrimView
from bompla.app.project.session import Session
from bompla.app.ui.controls import Chips, Panel, button, combo, drum_box, label, plain_tip
from bompla.app.ui.number_box import NumberBox
from bompla.app.ui.value_bar import ValueBar
from bompla.audio.files import SUFFIXES
from bompla.model.document import PADS_PER_PAGE, Document, Layer, Pad
from bompla.model.drums import DRUMS
from bompla.model.kit_edits import (
    LEVEL,
    clear_pad,
    rename_pad,
    set_pad_drum,
    set_pad_note,
)
from bompla.model.reshape import in_words, levelled, with_shape
from bompla.model.shape import CHOKE_SETS, DIRECTIONS, FILTERS, PLAIN, TAILS, Shape
from bompla.model.wording import counted
from bompla.render.underneath import underneath_pad
from bompla.units import note_name

BARS = ("tune", "pan", "clean")
SHOWN_UNDERNEATH = 2
TRIM_HEADING = "Start, end and fades"

SOUNDS = " ".join(f"*{suffix}" for suffix in SUFFIXES)


class PadPanel(Panel):
    """Shows the selected pad. What is dragged is heard at the next strike."""

    def __init__(self, session: Session, *, listen: Callable[[], object], leave_field: Callable[[], object], remove: Callable[[], object],
                 hear_layer: Callable[[Layer], object]) -> None:
        super().__init__()
        self._session, self._leave_field, self._remove = session, leave_field, remove
        self._shown: tuple[object, ...] | None = None
        self.copied: tuple[str, Shape] | None = None
        self.body.setSpacing(6)
        self._title_row(listen)
        self._naming_row()
        self.strip = LayerStrip(session, hear_layer)
        row = QHBoxLayout()
        row.addWidget(self.strip.heading)
        row.addStretch(1)
        row.addWidget(button("load file…", self.choose_file, tip=tip("pad_file"), chip=True))
        self.body.addLayout(row)
        self.body.addWidget(self.strip)
        self.body.addLayout(self._reach_row())
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

    def _reach_row(self) -> QHBoxLayout:
        """Return the row over the pictures, which says whom a change reaches, where that is more than one pad."""
        row = QHBoxLayout()
        row.setSpacing(6)
        self.reach = label(TRIM_HEADING, "heading")
        row.addWidget(self.reach)
        row.addStretch(1)
        self.all = button("all pads", self.select_all, chip=True, checkable=True,
                          tip="Select all pads: what is changed here moves all of them by as much. Ctrl+click selects some")
        row.addWidget(self.all)
        self.compare = button("as in the loop", lambda: None, chip=True, checkable=True, tip="Play the unprocessed slice while this is on")
        row.addWidget(self.compare)
        return row

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
        row.addWidget(button("Copy", self.copy_shape, tip="Copy this pad's shape, to paste it on others", name="Copy shape"))
        self.paste = button("Paste", self.paste_shape, tip="Copy a shape first", name="Paste shape")
        row.addWidget(self.paste)
        row.addWidget(button("Reset", self.reset_shape, tip="Remove all shaping from the selected pads"))
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
        self._show_reach()
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
        self.strip.show_layers(document, pad)

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
        pad, pad_ids = self.pad(), self._session.shown.selection.pad_ids
        if pad is not None:
            self._session.store.preview(lambda d: levelled(d, pad.id, level_db, pad_ids))

    def _set_level(self, level_db: float) -> None:
        pad, pad_ids = self.pad(), self._session.shown.selection.pad_ids
        if pad is not None:
            self._session.store.edit(f"level {in_words(self.pads())}", lambda d: levelled(d, pad.id, level_db, pad_ids))

    def _choose(self, **values: object) -> None:
        pad = self.pad()
        if pad is not None:
            self._choose_shape(replace(pad.shape, **values))

    def _preview_shape(self, shape: Shape) -> None:
        pad = self.pad()
        if pad is not None:
            preview_shape(self._session, pad, shape)

    def _choose_shape(self, shape: Shape) -> None:
        pad = self.pad()
        if pad is not None:
            choose_shape(self._session, pad, shape)

    def copy_shape(self) -> None:
        """Keep the pad's shape, to be given to others."""
        pad = self.pad()
        if pad is not None:
            self.copied = (pad.name, pad.shape)
            self._show_reach()

    def paste_shape(self) -> None:
        """Give all selected pads the shape that was kept."""
        pads = self.pads()
        if self.copied is not None and pads:
            shape = self.copied[1]
            self._session.store.edit(f"paste shape on {in_words(pads)}", lambda d: with_shape(d, [pad.id for pad in pads], shape))

    def reset_shape(self) -> None:
        """Remove all shaping from the selected pads."""
        pads = self.pads()
        if pads:
            self._session.store.edit(f"reset {in_words(pads)}", lambda d: with_shape(d, [pad.id for pad in pads], PLAIN))

    def pads(self) -> list[Pad]:
        """Return all selected pads."""
        document = self._session.store.document
        chosen = self._session.shown.selection.pad_ids
        return [pad for pad in document.pads if pad.id in chosen] if document is not None else []

    def select_all(self) -> None:
        """Select all pads, or, where they are, the leading one alone."""
        document, pad = self._session.store.document, self.pad()
        if document is not None and pad is not None:
            every = frozenset(one.id for one in document.pads)
            more = frozenset[int]() if every <= set(self._session.shown.selection.pad_ids) else every
            self._session.shown.select(pad_id=pad.id, more_pads=more)

    def _show_reach(self) -> None:
        """Say whom a change reaches."""
        document, reached = self._session.store.document, len(self.pads())
        self.all.setChecked(document is not None and reached == len(document.pads) > 1)
        self.reach.setText(f"changes move {counted(reached, 'pad')}" if reached > 1 else TRIM_HEADING)
        self.paste.setEnabled(self.copied is not None)
        self.paste.setToolTip(plain_tip(f"Give the selected pads the shape of {self.copied[0]}" if self.copied else "Copy a shape first"))

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
