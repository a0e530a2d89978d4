"""The slices of a pad in a strip: what else is in each, which velocities it answers to; heard, used alone, taken off."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from bompla.app.kit.pad_grid import beside_in_words
from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.controls import MiniWave, button, clear_layout, label, plain_tip
from bompla.app.ui.number_box import NumberBox
from bompla.model.document import Document, Layer, Pad
from bompla.model.kit_edits import set_layer_range, take_off
from bompla.model.reshape import only_layer

LAYER_WIDTH, LAYER_HEIGHT, SCROLL_BAR, FIT_IN = 142, 102, 13, 2


class LayerStrip(QScrollArea):
    """Shows the slices of the selected pad, from soft to hard; `hear_layer` is called with one that is to be heard."""

    def __init__(self, session: Session, hear_layer: Callable[[Layer], object]) -> None:
        super().__init__()
        self._session, self._hear_layer = session, hear_layer
        self.heading = label("", "heading")
        inner = QWidget()
        self._row = QHBoxLayout(inner)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(5)
        self.setWidget(inner)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFixedHeight(LAYER_HEIGHT)

    def show_layers(self, document: Document, pad: Pad) -> None:
        """Show the slices of a pad."""
        count = len(pad.layers)
        self.heading.setText(
            {0: "Empty pad: drag a slice onto it", 1: "One slice for all velocities"}.get(
                count, f"{pad.shared_how.capitalize()}: {count} slices share this pad")
        )
        clear_layout(self._row)
        numbers = {piece.start_sample: piece.number for piece in document.slices()}
        self.setVisible(count > 0)
        self.setFixedHeight(LAYER_HEIGHT if count > FIT_IN else LAYER_HEIGHT - SCROLL_BAR)
        for layer in pad.layers:
            self._row.addWidget(self._layer_cell(document, pad, layer, 0 if layer.of else numbers.get(layer.at_sample, 0)), 1)

    def _layer_cell(self, document: Document, pad: Pad, layer: Layer, number: int) -> QWidget:
        cell = LayerCell(partial(self._take_off, pad.id, layer))
        cell.setMinimumWidth(LAYER_WIDTH)
        column = QVBoxLayout(cell)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        top = QHBoxLayout()
        borrowed = next((sound.name for sound in document.borrowed if sound.content_hash == layer.of), "")
        beside = next((beside_in_words(cut, pad.drum) for cut in document.cuts if cut.at_sample == layer.at_sample), "") if number else ""
        what = label(borrowed or (f"slice {number} · {beside}" if number else "no cut"), "dim")
        what.setToolTip(plain_tip(f"From another file: {borrowed}") if borrowed else "")
        cell.setAccessibleName(f"{borrowed or f'slice {number}, {beside}'}; Delete takes it off")
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
        if len(pad.layers) > 1:
            row.addWidget(button("only this", partial(self.use_alone, pad.id, layer), small=True, name=f"Use only {named}",
                                 tip="Use this one for all velocities, and take the others off"))
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
                self.show_layers(document, document.pad(pad_id))

    def use_alone(self, pad_id: int, layer: Layer) -> None:
        """Let one slice answer to all velocities."""
        self._session.store.edit("one slice for all velocities", lambda d: only_layer(d, pad_id, layer))

    def _take_off(self, pad_id: int, layer: Layer) -> None:
        self._session.store.edit("remove slice from pad", lambda d: take_off(d, pad_id, layer))


class LayerCell(QWidget):
    """One slice of a pad in the strip; with the focus, Delete takes it off."""

    def __init__(self, take_off: Callable[[], object]) -> None:
        super().__init__()
        self._take_off = take_off
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def event(self, event: QEvent | None) -> bool:
        """Keep Delete from the window, which would clear the whole pad."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and _takes_off(event):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        """Take the slice off at Delete."""
        assert event is not None
        if _takes_off(event):
            self._take_off()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802  # Qt's name
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802  # Qt's name
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        if self.hasFocus():
            painter = QPainter(self)
            painter.setPen(QPen(theme().colour("focus"), 1.0))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))


def _takes_off(event: QKeyEvent) -> bool:
    return event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and event.modifiers() == Qt.KeyboardModifier.NoModifier
