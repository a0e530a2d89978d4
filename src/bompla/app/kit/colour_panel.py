"""The colour of the whole kit: what it runs through, in which order, and how much of it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.project.session import Session
from bompla.app.sound.bounce import What
from bompla.app.theme import theme
from bompla.app.ui.controls import Chips, Panel, button, label
from bompla.app.ui.gesture import GestureWidget
from bompla.app.ui.value_bar import ValueBar
from bompla.model.colour import DRY, SETTINGS, TREATMENTS, TUNE, colour_of, move_treatment, set_colour, set_treatment
from bompla.model.document import Document, Treatment


class Grip(GestureWidget):
    """A handle by which a row is dragged up or down, or moved with the arrow keys."""

    dragged = pyqtSignal(float)
    dropped = pyqtSignal()
    given_up = pyqtSignal()
    stepped = pyqtSignal(int)

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName(f"Place of {name} in the chain")
        self.setToolTip("Drag up or down, or use the arrow keys: sound flows from top to bottom")
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setCursor(Qt.CursorShape.SizeVerCursor)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:  # noqa: N802  # Qt's name
        return QSize(16, 26)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().colour("focus" if self.hasFocus() else "dim"))
        for x in (4.0, 10.0):
            for y in (7.0, 13.0, 19.0):
                painter.drawEllipse(QPointF(x, y), 1.6, 1.6)

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of the row."""
        event.accept()
        return True

    def drag(self, gesture: bool, event: QMouseEvent) -> None:
        """Let the row follow the pointer."""
        self.dragged.emit(event.globalPosition().y())

    def commit(self, gesture: bool, event: QMouseEvent) -> None:
        """Leave the row where it is."""
        self.dropped.emit()

    def cancel(self, gesture: bool) -> None:
        """Put the row back."""
        self.given_up.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        way = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if way is None:
            super().keyPressEvent(event)
        else:
            self.stepped.emit(way)


class TreatmentRow(QWidget):
    """One treatment: its place, its switch, and its values where it is on."""

    def __init__(self, kind: str, panel: ColourPanel) -> None:
        super().__init__()
        facts = TREATMENTS[kind]
        self.kind = kind
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        top = QHBoxLayout()
        top.setSpacing(6)
        self.grip = Grip(facts.label)
        top.addWidget(self.grip)
        self.switch = button(facts.label, partial(panel.switch, kind), chip=True, checkable=True, tip=facts.help)
        top.addWidget(self.switch)
        self.words = label(facts.help, "dim")
        top.addWidget(self.words)
        top.addStretch(1)
        column.addLayout(top)
        self.values = QWidget()
        bars = QHBoxLayout(self.values)
        bars.setContentsMargins(22, 0, 4, 4)
        bars.setSpacing(14)
        self.bars: dict[str, ValueBar] = {}
        for key, param in facts.params.items():
            bar = ValueBar(param)
            bar.setAccessibleName(f"{facts.label}: {param.label}")
            bar.moved.connect(partial(panel.value_moved, kind, key))
            bar.dropped.connect(panel.drop)
            bar.chosen.connect(partial(panel.value_chosen, kind, key))
            self.bars[key] = bar
            bars.addWidget(bar, 1)
        column.addWidget(self.values)

    def show_treatment(self, treatment: Treatment) -> None:
        """Show whether it is on, and its values."""
        self.switch.setChecked(treatment.on)
        self.values.setVisible(treatment.on)
        self.words.setVisible(not treatment.on)
        for key, bar in self.bars.items():
            bar.show_value(treatment.values[key])


class ColourPanel(Panel):
    """Shows the colour; what is dragged is heard at once. `bounce` is called with what to bounce, `rebuilt` or `original`."""

    def __init__(self, session: Session, *, bounce: Callable[[What], object]) -> None:
        super().__init__()
        self._session = session
        self.body.setSpacing(5)
        top = QHBoxLayout()
        top.addWidget(label("Colour of the kit", "title"))
        top.addStretch(1)
        self.on = button("on", self.toggle, chip=True, checkable=True, tip=tip("colour"))
        top.addWidget(self.on)
        self.body.addLayout(top)
        self.body.addWidget(label("Compared at equal loudness: switch it on and off", "dim"))
        self.body.addWidget(label("Presets", "heading"))
        self.settings = Chips("Presets", columns=3)
        self.settings.chosen.connect(lambda name: session.store.edit(f"colour: {name}", lambda d: set_colour(d, SETTINGS[str(name)])))
        self.body.addWidget(self.settings)
        self.body.addWidget(label("Signal flow, top to bottom", "heading"))
        self.chain = QVBoxLayout()
        self.chain.setSpacing(4)
        self.body.addLayout(self.chain)
        self.rows = {kind: TreatmentRow(kind, self) for kind in TREATMENTS}
        for kind, row in self.rows.items():
            self.chain.addWidget(row)
            row.grip.dragged.connect(partial(self._dragged, kind))
            row.grip.dropped.connect(partial(self._dropped, kind))
            row.grip.given_up.connect(self._put_back)
            row.grip.stepped.connect(partial(self._stepped, kind))
        self._order = list(TREATMENTS)
        both = QHBoxLayout()
        both.setSpacing(18)
        self.tune, self.dry = ValueBar(TUNE), ValueBar(DRY)
        for bar, key in ((self.tune, "tune"), (self.dry, "dry")):
            bar.moved.connect(partial(self._whole_moved, key))
            bar.dropped.connect(self.drop)
            bar.chosen.connect(partial(self._whole_chosen, key))
            both.addWidget(bar, 1)
        self.body.addLayout(both)
        self.body.addStretch(1)
        self.body.addLayout(self._bounce_row(bounce))

    def _bounce_row(self, bounce: Callable[[What], object]) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(label("Bounce to a new loop", "dim"))
        kinds: tuple[tuple[What, str], ...] = (
            ("rebuilt", "the coloured pattern, cut at its hits"), ("original", "the original through the colour, with its cuts"))
        for what, words in kinds:
            row.addWidget(button(f"the {what}", partial(bounce, what), tip=f"Make a new loop of {words}"))
        row.addStretch(1)
        return row

    def refresh(self, document: Document) -> None:
        """Show the colour of a document."""
        colour = colour_of(document)
        self.on.setChecked(colour.on)
        self.tune.show_value(colour.tune)
        self.dry.show_value(colour.dry)
        name = next((key for key, value in SETTINGS.items() if value == document.colour), None)
        self.settings.offer([(key, key) for key in SETTINGS], name)
        for treatment in colour.chain:
            self.rows[treatment.kind].show_treatment(treatment)
        self._arrange([treatment.kind for treatment in colour.chain])

    def toggle(self) -> None:
        """Switch the colour on or off."""
        self._session.store.edit("colour on or off", lambda d: set_colour(d, replace(d.colour, on=not d.colour.on)))

    def switch(self, kind: str) -> None:
        """Switch a treatment on or off."""
        on = self.rows[kind].switch.isChecked()
        self._session.store.edit(f"{TREATMENTS[kind].label.lower()} {'on' if on else 'off'}", lambda d: set_treatment(d, kind, on=on))

    def value_moved(self, kind: str, key: str, value: float) -> None:
        """Let a value be heard while it is dragged."""
        self._session.store.preview(lambda d: set_treatment(d, kind, values={key: value}))

    def value_chosen(self, kind: str, key: str, value: float) -> None:
        """Keep a value."""
        name = f"{TREATMENTS[kind].label} {TREATMENTS[kind].params[key].label}".lower()
        self._session.store.edit(f"set {name}", lambda d: set_treatment(d, kind, values={key: value}))

    def drop(self) -> None:
        """Show the colour as it was before a value was dragged."""
        self._session.store.drop_preview()

    def _whole_moved(self, key: str, value: float) -> None:
        self._session.store.preview(lambda d: set_colour(d, replace(d.colour, **{key: value}, on=True)))

    def _whole_chosen(self, key: str, value: float) -> None:
        self._session.store.edit(f"set {key}", lambda d: set_colour(d, replace(d.colour, **{key: value}, on=True)))

    def _arrange(self, order: list[str]) -> None:
        if order != self._order:
            self._order = order
            for kind in order:
                self.chain.removeWidget(self.rows[kind])
            for kind in order:
                self.chain.addWidget(self.rows[kind])

    def _dragged(self, kind: str, global_y: float) -> None:
        others = [other for other in self._order if other != kind]
        middles = [self.rows[other].mapToGlobal(self.rows[other].rect().center()).y() for other in others]
        place = sum(middle < global_y for middle in middles)
        self._arrange([*others[:place], kind, *others[place:]])

    def _put_back(self) -> None:
        document = self._session.store.document
        if document is not None:
            self._arrange([treatment.kind for treatment in colour_of(document).chain])

    def _dropped(self, kind: str) -> None:
        place = self._order.index(kind)
        self._session.store.edit(f"move {TREATMENTS[kind].label.lower()}", lambda d: move_treatment(d, kind, place))

    def _stepped(self, kind: str, way: int) -> None:
        place = max(0, min(len(self._order) - 1, self._order.index(kind) + way))
        self._session.store.edit(f"move {TREATMENTS[kind].label.lower()}", lambda d: move_treatment(d, kind, place))
