"""Small controls shared by the stages."""

from __future__ import annotations

import html
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial

from PyQt6.QtCore import QByteArray, QEvent, QMimeData, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QDrag, QEnterEvent, QFocusEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QAbstractButton,
    QButtonGroup,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStyle,
    QStyleOptionButton,
    QStylePainter,
    QVBoxLayout,
    QWidget,
)

from bompla.app.theme import theme
from bompla.app.ui.noteheads import draw_head
from bompla.app.ui.raster import wave_pixmap
from bompla.audio.summary import WaveSummary
from bompla.model.drums import DRUMS


class Button(QPushButton):
    """A button that does the same whoever turns it on or off: a screen reader toggles it without a click, which here counts as one."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self._by_hand = False
        self.toggled.connect(self._toggled)

    def setChecked(self, on: bool) -> None:  # noqa: N802  # Qt's name
        """Show it on or off, which is no click."""
        self._by_hand = True
        super().setChecked(on)
        self._by_hand = False

    def nextCheckState(self) -> None:  # noqa: N802  # Qt's name
        """Change at a click, which tells of itself."""
        self._by_hand = True
        super().nextCheckState()
        self._by_hand = False

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        """Paint it; a text for which there is no room ends in dots."""
        option, style = QStyleOptionButton(), self.style()
        self.initStyleOption(option)
        assert style is not None
        room = style.subElementRect(QStyle.SubElement.SE_PushButtonContents, option, self).width()
        option.text = self.fontMetrics().elidedText(option.text or "", Qt.TextElideMode.ElideRight, room + 2)
        QStylePainter(self).drawControl(QStyle.ControlElement.CE_PushButton, option)

    def _toggled(self, on: bool) -> None:
        group = self.group()
        exclusive = self.autoExclusive() or (group is not None and group.exclusive())
        if not self._by_hand and (on or not exclusive):
            self.clicked.emit(on)


def button(text: str, action: Callable[[], object], *, tip: str = "", name: str = "", primary: bool = False, chip: bool = False,
           small: bool = False, checkable: bool = False) -> QPushButton:
    """Return a button that takes the focus from the keyboard only, so that a click leaves it on the picture.

    `name` is what it is called where the text alone does not say it.
    """
    made = Button(text)
    made.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    made.setAccessibleName(name or text)
    if tip:
        made.setToolTip(plain_tip(tip))
    if primary or chip or small:
        made.setObjectName("primary" if primary else "chip" if chip else "small")
    made.setCheckable(checkable)
    made.clicked.connect(lambda _=False: action())
    return made


class Panel(QFrame):
    """A framed area with a heading."""

    def __init__(self, heading: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(12, 9, 12, 12)
        self.body.setSpacing(7)
        self.heading = label(heading, "heading")
        self.heading.setVisible(bool(heading))
        self.body.addWidget(self.heading)

    def title_row(self, *widgets: QWidget) -> None:
        """Put widgets beside the heading, at the right end."""
        row = QHBoxLayout()
        self.body.removeWidget(self.heading)
        row.addWidget(self.heading)
        row.addStretch(1)
        for widget in widgets:
            row.addWidget(widget)
        self.body.insertLayout(0, row)


def label(text: str, kind: str = "value") -> QLabel:
    """Return a label of a kind that the style sheet knows."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)  # names are in it: what looks like markup is a part of them
    made.setObjectName(kind)
    return made


def plain_tip(text: str) -> str:
    """Return a text for a tooltip that holds a name: what looks like markup in it is shown as it is."""
    return html.escape(text, quote=False) if "<" in text else text


class ShortLabel(QLabel):
    """A line of text that ends in dots where there is no room for it, and is whole in its tooltip."""

    def __init__(self, kind: str, text: str = "") -> None:
        super().__init__(text)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setObjectName(kind)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        short = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        self.setToolTip(plain_tip(self.text()) if short != self.text() else "")
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, short)


class Facts(QWidget):
    """Names and values in two columns."""

    def __init__(self, names: Sequence[str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(5)
        grid.setColumnStretch(1, 1)
        grid.setColumnMinimumWidth(0, 58)
        self._values: dict[str, QLabel] = {}
        for row, name in enumerate(names):
            grid.addWidget(label(name, "dim"), row, 0)
            self._values[name] = label("", "value")
            grid.addWidget(self._values[name], row, 1)

    def set(self, name: str, text: str) -> None:
        """Show a value."""
        self._values[name].setText(text)
        self._values[name].setAccessibleName(f"{name}: {text}")

    def get(self, name: str) -> str:
        """Return the value shown."""
        return self._values[name].text()


class NamedCombo(QComboBox):
    """A box of choices whose name is told: a screen reader takes what is chosen for its name, and its name from a label beside it."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self._told = QLabel(name, self)
        self._told.hide()

    def event(self, event: QEvent | None) -> bool:
        """Keep the label beside the box, wherever it is put."""
        if event is not None and event.type() == QEvent.Type.ParentChange and (parent := self.parentWidget()) is not None:
            self._told.setParent(parent)
            self._told.setBuddy(self)
        return super().event(event)


def combo(name: str, items: Iterable[tuple[str, object]] = (), *, tip: str = "", width: int = 0) -> QComboBox:
    """Return a box of choices, as (text, key), that takes the focus from the keyboard only."""
    box = NamedCombo(name)
    box.setToolTip(tip or name)
    box.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    if width:
        box.setFixedWidth(width)
    for text, key in items:
        box.addItem(text, key)
    return box


class HoverButton(Button):
    """A button that also does something when the pointer or the focus comes to it: to show what it would do."""

    def __init__(self, text: str, action: Callable[[], object], hovered: Callable[[], object], *, tip: str) -> None:
        super().__init__(text)
        self.setToolTip(tip)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.clicked.connect(lambda _=False: action())
        self._hovered = hovered

    def enterEvent(self, event: QEnterEvent | None) -> None:  # noqa: N802  # Qt's name
        self._hovered()

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802  # Qt's name
        super().focusInEvent(event)
        self._hovered()


class Chips(QWidget):
    """A row of choices of which one holds; `chosen` carries its key when the user picks one."""

    chosen = pyqtSignal(object)

    def __init__(self, name: str, parent: QWidget | None = None, *, columns: int = 99) -> None:
        super().__init__(parent)
        self.setAccessibleName(name)
        self._columns = columns
        self._row = QGridLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(6)
        self._group = QButtonGroup(self)
        self._group.setExclusive(True)
        self._keys: list[object] = []

    def offer(self, choices: Sequence[tuple[object, str]], current: object, *, tip: str = "", tips: Mapping[object, str] | None = None
              ) -> None:
        """Show these choices, as (key, text), with one of them holding; `tips` say what each is for, `tip` what all are."""
        if [key for key, _ in choices] != self._keys or len(self._group.buttons()) != len(choices):
            for old in self._group.buttons():
                self._group.removeButton(old)
                self._row.removeWidget(old)
                old.hide()
                old.deleteLater()
            self._keys = [key for key, _ in choices]
            for index, (key, text) in enumerate(choices):
                hint = (tips or {}).get(key, tip) or f"{self.accessibleName()}: {text}"
                chip = button(text, partial(self.chosen.emit, key), tip=hint, chip=True, checkable=True)
                self._group.addButton(chip)
                self._row.addWidget(chip, index // self._columns, index % self._columns)
        for shown, (key, text) in zip(self._group.buttons(), choices, strict=True):
            shown.setText(text)
            if key == current:
                shown.setChecked(True)
        held = self._group.checkedButton()
        if held is not None and current not in self._keys:  # none of them holds: an exclusive group would keep the last
            self._group.setExclusive(False)
            held.setChecked(False)
            self._group.setExclusive(True)

    def click(self, key: object) -> None:
        """Pick a choice as the user would."""
        self._group.buttons()[self._keys.index(key)].click()

    @property
    def buttons(self) -> list[QAbstractButton]:
        """The buttons of the choices, in their order."""
        return self._group.buttons()

    @property
    def keys(self) -> list[object]:
        """The choices shown."""
        return list(self._keys)


class MiniWave(QWidget):
    """A small waveform of a stretch of sound."""

    def __init__(self, height: int = 56, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(height)
        self._summary: WaveSummary | None = None
        self._span = (0.0, 1.0)
        self._colour = QColor()
        self._gain = 1.0

    def show_part(self, summary: WaveSummary | None, start: float, end: float, colour: QColor) -> None:
        """Show the sound from one sample to another in a colour, as high as it goes."""
        self._summary, self._span, self._colour = summary, (start, end), colour
        if summary is not None:
            peak = float(abs(summary.columns(start, end, 64)).max())
            self._gain = min(12.0, 1.0 / max(peak, 1e-3))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme().colour("sunk"))
        if self._summary is None or self._span[1] <= self._span[0]:
            return
        pixmap = wave_pixmap(self._summary, *self._span, self.width() - 8, self.height() - 6, self._colour,
                             ratio=self.devicePixelRatioF(), gain=self._gain)
        painter.drawPixmap(4, 3, pixmap)


class HeadBadge(QWidget):
    """A drum's notehead in its colour."""

    def __init__(self, drum: str, size: int = 18, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._drum = drum
        self.setFixedSize(size, size)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        half = self.width() / 2.0
        draw_head(painter, self._drum, half, half, self.width() * 0.58, theme().drum(self._drum))


def scrolling(widget: QWidget) -> QScrollArea:
    """Return an area in which a column of controls scrolls where the window is too low for it."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(widget)
    return area


def clear_layout(layout: QLayout) -> None:
    """Take everything out of a layout."""
    while (item := layout.takeAt(0)) is not None:
        widget = item.widget()
        inner = item.layout()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            clear_layout(inner)


def start_drag(source: QWidget, kind: str, item: object) -> None:
    """Drag something of a kind, named by its id or letter, out of a widget."""
    data = QMimeData()
    data.setData(kind, QByteArray(str(item).encode()))
    drag = QDrag(source)
    drag.setMimeData(data)
    drag.exec(Qt.DropAction.MoveAction)


def edit_text(field: QLineEdit) -> None:
    """Begin to edit a text, all of it selected."""
    field.setFocus()
    field.selectAll()


def drum_box(name: str = "Drum", parent: QWidget | None = None) -> QComboBox:
    """Return a box to choose a drum in."""
    box = combo(name, [(drum.label, drum.key) for drum in DRUMS.values()])
    if parent is not None:
        box.setParent(parent)
    return box
