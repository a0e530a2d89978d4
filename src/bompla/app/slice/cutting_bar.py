"""How the loop is cut: at hits, at even steps, by hand; and which rows are shown."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QSlider, QVBoxLayout, QWidget

from bompla.app.project.session import Session
from bompla.app.slice.cut_view import CutView
from bompla.app.ui.controls import Chips, button, combo, label
from bompla.app.ui.number_box import NumberBox
from bompla.model.cut_edits import set_cutting
from bompla.model.document import MAX_CUT_DISTANCE_MS, Cutting, Document

WAYS = (((True, False), "hits"), ((False, True), "even steps"), ((True, True), "hits and steps"), ((False, False), "hand cuts only"))
STEPS = ((2, "1/2"), (4, "1/4"), (6, "1/4 triplet"), (8, "1/8"), (12, "1/8 triplet"), (16, "1/16"), (24, "1/16 triplet"), (32, "1/32"))
"""Even steps: how many go into a whole note, and their name."""

RANGES_DB = (40, 55, 70, 85, 100)


class CuttingBar(QWidget):
    """Two rows of controls over the picture."""

    def __init__(self, session: Session, picture: CutView) -> None:
        super().__init__()
        self._session = session
        self._view = picture
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(7)
        first, second = QHBoxLayout(), QHBoxLayout()
        for row in (first, second):
            row.setSpacing(8)
            column.addLayout(row)
        self._cutting_row(first)
        self._weights_row(second)
        self._rows_row(second)

    def _cutting_row(self, row: QHBoxLayout) -> None:
        row.addWidget(label("Cut at", "dim"))
        self.ways = Chips("Cut at")
        self.ways.offer(WAYS, (True, False))
        self.ways.chosen.connect(self._choose_way)
        row.addWidget(self.ways)
        row.addStretch(1)
        self._even = [label("every", "dim")]
        self.steps = combo("Even steps", [(name, per_whole) for per_whole, name in STEPS])
        self.steps.activated.connect(lambda _: self._change(f"step of {self.steps.currentText()}", self._with_step))
        self.pull = _box("Snap to attacks within", 0.0, 60.0, self._pulled)
        self._even_widgets: list[QWidget] = [self._even[0], self.steps, label("snap within", "dim"), self.pull]
        for widget in self._even_widgets:
            row.addWidget(widget)
        row.addWidget(label("minimum gap", "dim"))
        self.apart = _box("Minimum gap between cuts", 1.0, MAX_CUT_DISTANCE_MS, self._apart)
        row.addWidget(self.apart)
        row.addWidget(label("", "dim"))

    def _weights_row(self, row: QHBoxLayout) -> None:
        row.addWidget(label("Sensitivity", "dim"))
        self.weights: dict[str, QSlider] = {}
        for name in ("low", "mid", "high"):
            slider = QSlider(Qt.Orientation.Horizontal)
            slider.setRange(0, 20)
            slider.setValue(10)
            slider.setMinimumWidth(30)
            slider.setMaximumWidth(76)
            slider.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            slider.setAccessibleName(f"Sensitivity to {name} drums")
            slider.setToolTip(f"Sensitivity of the cuts to {name} drums")
            slider.valueChanged.connect(lambda _=0, name=name: self._weigh(name, dragging=self.weights[name].isSliderDown()))
            slider.sliderReleased.connect(lambda name=name: self._weigh(name, dragging=False))
            self.weights[name] = slider
            row.addWidget(label(name, "dim"))
            row.addWidget(slider, 1)
        row.addStretch(1)

    def _rows_row(self, row: QHBoxLayout) -> None:
        row.addWidget(label("Show", "dim"))
        self.shown = {}
        for name, text in (("ribbons", "ribbons"), ("spectrogram", "spectrum"), ("strength", "strength")):
            chip = button(text, partial(self._show, name), chip=True, checkable=True, tip=f"Show or hide the {text}")
            chip.setChecked(self._view.rows.shown(name))
            self.shown[name] = chip
            row.addWidget(chip)
        self.channels = button("channels", lambda: self._view.set_every_channel(self.channels.isChecked()), chip=True, checkable=True,
                               tip="Show channels separately")
        row.addWidget(self.channels)
        self.scale = combo("Scale of the spectrum", [("mel", "mel"), ("linear", "linear")])
        self.scale.activated.connect(lambda _: self._session.requests.ask_spectrogram(self.scale.currentText()))
        self.range = combo("Range of the spectrum", [(f"{range_db} dB", range_db) for range_db in RANGES_DB])
        self.range.setCurrentIndex(2)
        self.range.activated.connect(lambda _: self._view.set_range(float(self.range.currentData())))
        for box in (self.scale, self.range):
            box.hide()
            row.addWidget(box)

    def refresh(self, document: Document) -> None:
        """Show how the document is cut."""
        cutting = document.cutting
        self.ways.offer(WAYS, (cutting.hits, cutting.even))
        for widget in self._even_widgets:
            widget.setVisible(cutting.even)
        per_whole = round(4.0 / (cutting.even_beats * document.loop.meter.beat_quarters))
        self.steps.setCurrentIndex(max(0, self.steps.findData(per_whole)))
        self.pull.show_number(cutting.pull_ms)
        self.apart.show_number(cutting.min_distance_ms)
        for name, slider in self.weights.items():
            if not slider.isSliderDown():
                slider.blockSignals(True)
                slider.setValue(round(10.0 * getattr(cutting, name)))
                slider.blockSignals(False)

    def _choose_way(self, way: object) -> None:
        hits, even = next(key for key, _ in WAYS if key == way)
        text = dict(WAYS)[(hits, even)]
        self._change(f"cut at {text}", lambda document: replace(document.cutting, hits=hits, even=even))

    def _with_step(self, document: Document) -> Cutting:
        return replace(document.cutting, even_beats=4.0 / float(self.steps.currentData()) / document.loop.meter.beat_quarters)

    def _pulled(self, value: float) -> None:
        self._change("snap to attacks", lambda document: replace(document.cutting, pull_ms=value))

    def _apart(self, value: float) -> None:
        self._change("minimum gap", lambda document: replace(document.cutting, min_distance_ms=value))

    def _weigh(self, name: str, *, dragging: bool) -> None:
        weight = self.weights[name].value() / 10.0

        def change(document: Document) -> Document:
            return set_cutting(document, replace(document.cutting, **{name: weight}))

        if dragging:
            self._session.store.preview(change)
        else:
            self._session.store.edit(f"sensitivity to {name} drums", change)

    def _change(self, text: str, cutting: Callable[[Document], Cutting]) -> None:
        self._session.store.edit(text, lambda document: set_cutting(document, cutting(document)))

    def _show(self, name: str) -> None:
        shown = self.shown[name].isChecked()
        self._view.show_rows(name, shown)
        if name == "spectrogram":
            self.scale.setVisible(shown)
            self.range.setVisible(shown)
            sound = self._session.project.sound
            if shown and sound is not None and sound.spectrogram is None:
                self._session.requests.ask_spectrogram(self.scale.currentText())


def _box(name: str, low: float, high: float, changed: Callable[[float], None]) -> NumberBox:
    box = NumberBox(name, low, high, unit=" ms", width=66)
    box.typed.connect(changed)
    return box
