"""The feel of the shown variation: heard and shown at once, written in when it is liked."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from functools import partial
from pathlib import Path

import platformdirs
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout

from bompla.app.commands import tip
from bompla.app.groove.feel_plot import FeelList
from bompla.app.project.session import Session
from bompla.app.ui.controls import Panel, button, combo, label
from bompla.app.ui.value_bar import ValueBar
from bompla.errors import BomplaError
from bompla.files import as_text
from bompla.formats.midi_read import MidiNotes
from bompla.groove.feel import (
    FEEL_PARAMS,
    PLAIN_LAYER,
    feel_from,
    feel_of,
    kept_feels,
    own_feels,
    save_feel,
    write_in,
)
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document, Feel, FeelLayer
from bompla.model.variation_edits import set_layer

OF_FEEL = ("timing", "force")


def feels_folder() -> Path:
    """Return the folder in which feels are kept, unless another is chosen."""
    return Path(platformdirs.user_data_dir("bompla")) / "feels"


class FeelPanel(Panel):
    """Bars for the layer, and feels to choose from."""

    def __init__(self, session: Session) -> None:
        super().__init__("Feel")
        self.body.setSpacing(4)
        self._session = session
        self._feels: list[Feel] = list(own_feels())
        self._kept_are_in = False
        self.bars: dict[str, ValueBar] = {}
        for param in FEEL_PARAMS.values():
            bar = ValueBar(param)
            bar.moved.connect(lambda value, key=param.key: self._session.store.preview(self._changed(key, value)))
            bar.dropped.connect(self._session.store.drop_preview)
            bar.chosen.connect(lambda value, key=param.key: self._choose(key, value))
            self.bars[param.key] = bar
        for key, bar in self.bars.items():
            if key not in OF_FEEL:
                self.body.addWidget(bar)
        row = QHBoxLayout()
        row.setSpacing(6)
        self.of = combo("Swing of", [("eighths", 0.5), ("sixteenths", 0.25)])
        self.of.activated.connect(lambda _: self._set_swing_of(float(self.of.currentData())))
        row.addWidget(label("swing", "dim"))
        row.addWidget(self.of, 1)
        self.body.addLayout(row)
        self.feels = combo("Feel to take")
        self.feels.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.feels.setMinimumContentsLength(9)
        self.feels.activated.connect(self._take_feel)
        row = QHBoxLayout()
        row.setSpacing(5)
        row.addWidget(self.feels, 1)
        self.compare = button("compare", self._compare, chip=True, checkable=True,
                              tip="Compare all feels; click one to use it")
        row.addWidget(self.compare)
        self.body.addLayout(row)
        self.plots = FeelList()
        self.plots.chosen.connect(lambda row: self._take_feel(row + 1))
        self.plots.hide()
        self.body.addWidget(self.plots)
        for key in OF_FEEL:
            self.body.addWidget(self.bars[key])
        self.lane = button("apply to this lane", self._set_lane, chip=True, checkable=True,
                           tip="Apply the feel to the lanes marked so; with none marked it applies to all")
        self.body.addWidget(self.lane, 0, Qt.AlignmentFlag.AlignLeft)
        row = QHBoxLayout()
        row.setSpacing(5)
        for text, action, hint in (
            ("Write in", self.write, tip("feel_write")), ("Reset", self.plain, "Remove the feel"),
            ("Keep", self.keep, "Save this pattern's feel as a file"),
            ("Open", self.open_feel, "Load a feel from a loop, a MIDI file or a saved feel"),
        ):
            row.addWidget(button(text, action, tip=hint, small=True))
        row.addStretch(1)
        self.body.addLayout(row)
        self.body.addStretch(1)
        self._offer()

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802  # Qt's name
        """Read what was kept, the first time that it is looked for."""
        super().showEvent(event)
        if not self._kept_are_in:
            self._kept_are_in = True
            known = {feel.name for feel in self._feels}
            self._feels += [feel for feel in kept_feels(feels_folder()) if feel.name not in known]
            self._offer()
            if (document := self._session.store.document) is not None:
                self.refresh(document)

    def refresh(self, document: Document) -> None:
        """Show the layer of the shown variation."""
        layer = pattern_of(document).layer
        ahead = dict(layer.ahead_ms).get(self._session.shown.selection.pad_id, 0.0)
        for key, bar in self.bars.items():
            bar.show_value(ahead if key == "ahead" else float(getattr(layer, key)))
        for key in OF_FEEL:
            self.bars[key].setVisible(layer.feel is not None)
        self.lane.setVisible(layer.feel is not None)
        self.lane.setChecked(self._session.shown.selection.pad_id in layer.lanes)
        self.of.setCurrentIndex(self.of.findData(layer.swing_beats))
        name = layer.feel.name if layer.feel else ""
        self.feels.setCurrentIndex(max(0, self.feels.findText(name)))
        self._show_plots(name)

    def _compare(self) -> None:
        document = self._session.store.document
        self.plots.setVisible(self.compare.isChecked())
        feel = pattern_of(document).layer.feel if document is not None else None
        self._show_plots(feel.name if feel is not None else "")

    def _show_plots(self, taken: str) -> None:
        if self.compare.isChecked():
            self.plots.show_feels(self._feels, next((n for n, feel in enumerate(self._feels) if feel.name == taken), -1))

    def _offer(self) -> None:
        self.feels.clear()
        self.feels.addItem("no feel", None)
        for feel in self._feels:
            self.feels.addItem(feel.name, feel.name)
        self.feels.addItem("this pattern's feel", "this")

    def _layer_with(self, layer: FeelLayer, key: str, value: float) -> FeelLayer:
        if key != "ahead":
            return replace(layer, **{key: round(value, 4)})
        pad_id = self._session.shown.selection.pad_id
        rest = tuple(pair for pair in layer.ahead_ms if pair[0] != pad_id)
        return replace(layer, ahead_ms=(*rest, (pad_id, round(value, 2))) if abs(value) > 0.05 else rest)

    def _changed(self, key: str, value: float) -> Callable[[Document], Document]:
        return lambda document: set_layer(document, self._layer_with(pattern_of(document).layer, key, value))

    def _choose(self, key: str, value: float) -> None:
        self._session.store.edit(f"feel: {FEEL_PARAMS[key].label.lower()}", self._changed(key, value))

    def _edit(self, words: str, change: Callable[[FeelLayer], FeelLayer]) -> None:
        self._session.store.edit(words, lambda document: set_layer(document, change(pattern_of(document).layer)))

    def _set_lane(self) -> None:
        pad_id, document = self._session.shown.selection.pad_id, self._session.store.document
        if document is None or all(pad.id != pad_id for pad in document.pads):
            return
        over = self.lane.isChecked()
        self._edit("feel on for this lane" if over else "feel off for this lane", lambda layer: replace(
            layer, lanes=(*layer.lanes, pad_id) if over else tuple(one for one in layer.lanes if one != pad_id)))

    def _set_swing_of(self, beats: float) -> None:
        self._edit("swing step", lambda layer: replace(layer, swing_beats=beats))

    def _take_feel(self, index: int) -> None:
        wanted = self.feels.itemData(index)
        if wanted is None:
            self._edit("no feel", lambda layer: replace(layer, feel=None, timing=0.0, force=0.0))
            return
        if wanted == "this":
            self.add(self._own_feel())
            return
        feel = next(one for one in self._feels if one.name == wanted)
        self._edit(f"feel of {feel.name}", lambda layer: replace(layer, feel=feel, timing=layer.timing or 1.0, force=layer.force or 1.0))

    def _own_feel(self) -> Feel | None:
        document = self._session.store.document
        if document is None:
            return None
        try:
            return feel_of(document, f"{document.title}, {pattern_of(document).letter}")
        except BomplaError as error:
            self._session.hub.trouble(str(error))
            return None

    def add(self, feel: Feel | None) -> None:
        """Offer one more feel, to be laid over this or another variation."""
        if feel is not None:
            self._feels = [one for one in self._feels if one.name != feel.name] + [feel]
            self._offer()
            self._session.hub.note(f"The feel {feel.name} is in the list now.")
            document = self._session.store.document
            if document is not None:
                self.refresh(document)

    def write(self) -> None:
        """Make the feel part of the hits."""
        document = self._session.store.document
        if document is not None and pattern_of(document).layer != PLAIN_LAYER:
            self._session.store.edit("write feel in", write_in)

    def plain(self) -> None:
        """Take the feel off."""
        self._edit("plain feel", lambda _: PLAIN_LAYER)

    def keep(self) -> None:
        """Ask where to keep this pattern's feel."""
        feel = self._own_feel()
        if feel is None:
            return
        with contextlib.suppress(OSError):
            feels_folder().mkdir(parents=True, exist_ok=True)
        name, _ = QFileDialog.getSaveFileName(self, "Save this feel", str(feels_folder() / f"{feel.name}.feel.json"), "Feels (*.json)")
        if name:
            self.keep_as(feel, Path(name))

    def keep_as(self, feel: Feel, path: Path) -> None:
        """Keep a feel as a file; it is in the list from then on, now and at the next start."""
        named = replace(feel, name=path.name.removesuffix(".json").removesuffix(".feel"))
        try:
            save_feel(named, path)
        except BomplaError as error:
            self._session.hub.trouble(str(error))
            return
        self.add(named)

    def open_feel(self) -> None:
        """Ask for a feel to open."""
        kinds = "Feels, loops and MIDI (*.json *.mid *.midi *.wav *.flac *.aif *.aiff *.ogg *.mp3)"
        name, _ = QFileDialog.getOpenFileName(self, "Load a feel", str(feels_folder()), kinds)
        if name:
            self.take_from(Path(name))

    def take_from(self, path: Path) -> None:
        """Take the feel of a file: one that was kept, a MIDI file, or a loop, which is listened to first."""
        if path.suffix.lower() == ".json":
            self._session.requests.read_feel(path, self.add)
        elif path.suffix.lower() in (".mid", ".midi"):
            self._session.requests.read_notes(path, partial(self._take_notes, as_text(path.stem)))
        else:
            self._session.openings.hear(path, self._take_heard)

    def _take_notes(self, name: str, notes: MidiNotes) -> None:
        try:
            self.add(feel_from(notes.notes, notes.meter, notes.beats, name))
        except BomplaError as error:
            self._session.hub.trouble(str(error))

    def _take_heard(self, document: Document) -> None:
        try:
            self.add(feel_of(document, document.title))
        except BomplaError as error:
            self._session.hub.trouble(str(error))
