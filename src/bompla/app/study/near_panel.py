"""On the shelf: loops that are alike, ranked, with why, heard at this tempo."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from bompla.app.project.session import Session
from bompla.app.project.shelf import find_near, shelf_folder
from bompla.app.project.tasks import Newest, Threads
from bompla.app.sound.playback import Playback
from bompla.app.theme import theme
from bompla.app.ui.controls import Panel, button, label, plain_tip
from bompla.groove.compare import Struck
from bompla.model.detected_pattern import pattern_bars, pattern_meter
from bompla.model.document import Document
from bompla.model.groove_print import groove_print, why_alike
from bompla.model.wording import counted
from bompla.shelf.asking import Near, NearFound, NearRequest, index_path

ROW = 44
FEWEST_TO_RANK = 10


class NearPanel(Panel):
    """A click plays a loop at this tempo; Return or a button opens it, or compares it."""

    def __init__(
        self, session: Session, playback: Playback, open_file: Callable[[Path], object], compare: Callable[[Path], object]
    ) -> None:
        super().__init__("On the shelf · loops with a groove like this")
        self._session, self._playback = session, playback
        self._threads, self._newest = Threads(self), Newest()
        self.found: NearFound | None = None
        self.line = label("", "dim")
        self.line.setWordWrap(True)
        self.body.addWidget(self.line)
        self.list = QListWidget()
        self.list.setItemDelegate(_NearRow(self.list))
        self.list.setAccessibleName("Loops that are alike, the nearest first")
        self.list.currentRowChanged.connect(self._hear)
        self.list.itemClicked.connect(lambda item: self._hear(self.list.row(item)))
        self.body.addWidget(self.list, 1)
        row = QHBoxLayout()
        row.addWidget(button("Compare", partial(self._with_path, compare), tip="Compare this pattern with the loop, hit by hit"))
        row.addWidget(button("Open", partial(self._with_path, open_file), tip="Open the loop"))
        row.addStretch(1)
        self.body.addLayout(row)

    @property
    def busy(self) -> bool:
        """Whether the shelf is being looked through."""
        return self._threads.busy

    def look(self, document: Document, struck: list[Struck]) -> None:
        """Look for loops like the shown pattern."""
        meter = pattern_meter(document)
        beats = pattern_bars(document) * meter.beats_per_bar
        made = groove_print([(one.drum, one.at_beats, one.velocity) for one in struck], beats=beats, meter=meter, bpm=document.bpm)
        request = NearRequest(made, document.bpm, shelf_folder(), len(struck) / pattern_bars(document), document.source.path,
                              index_path())
        trouble = self._session.hub.trouble
        self._newest.keep("near", self._threads.run(find_near, request, done=partial(self._take, document), failed=trouble))

    def close_all(self) -> None:
        """End all work."""
        self._threads.close()

    def _take(self, document: Document, found: NearFound) -> None:
        self.found = found
        self.list.blockSignals(True)
        self.list.clear()
        for near in found.near:
            item = QListWidgetItem(f"{near.path.stem}: {100 * near.likeness.score:.0f} % alike, "
                                   f"{why_alike(near.likeness, document.bpm, near.entry.bpm)}")
            item.setData(Qt.ItemDataRole.UserRole, (near, document.bpm))
            alike = f"played alike {100 * near.likeness.groove:.0f} %, felt alike {100 * near.likeness.feel:.0f} %"
            item.setToolTip(plain_tip(f"{near.path}\n{alike}"))
            self.list.addItem(item)
        self.list.blockSignals(False)
        self.line.setText(_standing(found))

    def _near(self) -> Near | None:
        item = self.list.currentItem()
        found = item.data(Qt.ItemDataRole.UserRole)[0] if item is not None else None
        return found if isinstance(found, Near) else None

    def _hear(self, _row: int) -> None:
        near, document = self._near(), self._session.store.document
        if near is None or document is None or near.entry.bpm <= 0.0:
            return
        ratio = document.bpm / near.entry.bpm
        while ratio > 1.5:
            ratio /= 2.0
        while ratio < 0.7:
            ratio *= 2.0
        self._playback.previews.play_file(near.path, speed=ratio)

    def _with_path(self, action: Callable[[Path], object]) -> None:
        near = self._near()
        if near is not None:
            action(near.path)


def _standing(found: NearFound) -> str:
    """Return in words how the groove stands among the loops of the shelf."""
    if not found.of:
        return "No loop of the shelf was analysed yet: show its folder in Bring in."
    words = [f"{counted(found.of, 'loop')} compared."]
    if found.of >= FEWEST_TO_RANK:
        for share, more, less in ((found.less_syncopated, "more syncopated", "less syncopated"), (found.fewer_hits, "busier", "sparser")):
            if share >= 0.7:
                words.append(f"This one is {more} than {round(10 * share)} in 10.")
            elif share <= 0.3:
                words.append(f"This one is {less} than {round(10 * (1 - share))} in 10.")
    return " ".join(words)


class _NearRow(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: object) -> QSize:  # noqa: N802  # Qt's name
        return QSize(100, ROW)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: object) -> None:
        data = index.data(Qt.ItemDataRole.UserRole)  # type: ignore[attr-defined]
        if painter is None or data is None:
            return
        near, bpm = data
        area = QRectF(option.rect)
        if option.state & (QStyle.StateFlag.State_Selected | QStyle.StateFlag.State_MouseOver):
            painter.fillRect(area, theme().colour("raised"))
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(QRectF(area.left(), area.top(), 3.0, area.height()), theme().colour("paper"))
        inner = area.adjusted(9.0, 3.0, -6.0, -4.0)
        painter.setFont(theme().font(15, weight=600))
        painter.setPen(theme().colour("paper"))
        name = painter.fontMetrics().elidedText(near.path.stem, Qt.TextElideMode.ElideRight, int(inner.width() - 52.0))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, name)
        painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, f"{100 * near.likeness.score:.0f} %")
        painter.setFont(theme().font(13, weight=400))
        painter.setPen(theme().colour("dim"))
        why = why_alike(near.likeness, bpm, near.entry.bpm)
        words = painter.fontMetrics().elidedText(why, Qt.TextElideMode.ElideRight, int(inner.width()))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, words)
