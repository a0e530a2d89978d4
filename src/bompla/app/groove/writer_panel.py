"""The writers: a rule is opened, seen and heard as it would be, and written in one step."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from bompla.app.project.session import Session
from bompla.app.ui.controls import Panel, button, clear_layout, combo, label
from bompla.app.ui.value_bar import ValueBar
from bompla.groove.writers import LANE, NO_LANE, WRITERS, Draft, Place, Values, Writer, written
from bompla.model.detected_pattern import hits_inside, pattern_bars, pattern_beats, pattern_meter
from bompla.model.document import Document
from bompla.model.phrase_edits import Beats

Places = tuple[tuple[str, Beats], ...]
LEAST_BEATS = 0.2
"""Hits that lie nearer together than this are one place, not a stretch to write over."""


class WriterPanel(Panel):
    """Buttons for the writers, or the open one with its choices; what it would write is a gesture in progress."""

    opened = pyqtSignal()

    def __init__(self, session: Session, looped: Callable[[], tuple[int, int]]) -> None:
        """`looped` gives the first of the bars that play round, from 0, and how many; a count of 0 is all of them."""
        super().__init__("Write into a lane")
        self._session, self._looped = session, looped
        self.open: Writer | None = None
        self._values: Values = {}
        self.closed_view, self.open_view = QWidget(), QWidget()
        grid = QGridLayout(self.closed_view)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(5)
        for n, writer in enumerate(WRITERS.values()):
            made = button(f"{writer.label}…", partial(self.show_writer, writer.key), tip=writer.help, small=True)
            grid.addWidget(made, n // 3, n % 3)
        self.body.addWidget(self.closed_view)
        column = QVBoxLayout(self.open_view)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.help = label("", "dim")
        self.help.setWordWrap(True)
        column.addWidget(self.help)
        self._choices = QVBoxLayout()
        self._choices.setSpacing(3)
        column.addLayout(self._choices)
        row = QHBoxLayout()
        row.addWidget(label("over", "dim"))
        self.where = combo("Bars to write into")
        self.where.activated.connect(lambda _: self.preview())
        row.addWidget(self.where, 1)
        column.addLayout(row)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(button("Write", self.write, primary=True, tip="Write these hits into the pattern"))
        row.addWidget(button("Cancel", self.cancel, tip="Leave the pattern as it is"))
        row.addStretch(1)
        column.addLayout(row)
        self.body.addWidget(self.open_view)
        self.body.addStretch(1)
        self.open_view.hide()
        self._offered: Places = ()
        self._offer_followed: Callable[[], None] = lambda: None
        session.shown.selection_changed.connect(lambda _: self._selection_changed())
        session.project.sound_changed.connect(self.cancel)

    def refresh(self, document: Document) -> None:
        """Name the lane, and offer the loop's bars."""
        pad = next((p for p in document.pads if p.id == self._session.shown.selection.pad_id), None)
        name = pad.name.lower() if pad else "a lane"
        self.heading.setText(f"{self.open.label} into {name}" if self.open else f"Write into {name}")
        history = self._session.store.history
        offered = self._places(history.document if history is not None else document)  # not what is being tried
        if offered != self._offered:
            kept, self._offered = self.where.currentText(), offered
            self.where.clear()
            for words, stretch in offered:
                self.where.addItem(words, stretch)
            self.where.setCurrentIndex(max(0, self.where.findText(kept)) if self.open is not None else 0)

    def _places(self, document: Document) -> Places:
        """Return where it can write, likeliest first: over what is selected, the bars that play round, the last bar, and all others."""
        meter, beats = pattern_meter(document), float(pattern_beats(document))
        per_bar = float(meter.beats_per_bar)
        bars = pattern_bars(document)
        found: list[tuple[str, Beats]] = []
        chosen = [h.at_beats for h in hits_inside(document) if h.id in self._session.shown.selection.hit_ids]
        if len(chosen) > 1 and max(chosen) - min(chosen) >= LEAST_BEATS:
            step = self._session.shown.grid.step_at(min(chosen))
            start, end = (round(at / step) * step for at in (min(chosen), max(chosen)))
            found.append(("the selected hits", (max(0.0, start), min(beats, end + step))))
        first, count = self._looped()
        if count and first + count <= bars:
            found.append(("the bars that play", (first * per_bar, min(beats, (first + count) * per_bar))))
        each = [(f"bar {bar + 1}", (bar * per_bar, min(beats, (bar + 1) * per_bar))) for bar in range(bars)]
        return (*found, each[-1], ("the whole pattern", (0.0, beats)), *each[:-1], ("the last beat", (max(0.0, beats - 1.0), beats)))

    def _selection_changed(self) -> None:
        history = self._session.store.history
        if self.open is not None and history is not None:
            if self.open.follows:
                self._offer_followed()
            self.refresh(history.document)
            self.preview()

    def show_writer(self, key: str) -> None:
        """Open a writer, and show what it would do."""
        self.open = WRITERS[key]
        self.opened.emit()
        self._values = self.open.defaults()
        self.help.setText(self.open.help)
        clear_layout(self._choices)
        for param in self.open.params:
            bar = ValueBar(param)
            bar.moved.connect(partial(self._set, param.key))
            bar.dropped.connect(partial(self._reset, param.key, bar))
            bar.chosen.connect(partial(self._set, param.key))
            self._choices.addWidget(bar)
            if self.open.follows and param is self.open.params[0]:
                self._offer_lanes(bar)
        self.closed_view.hide()
        self.open_view.show()
        document = self._session.store.document
        if document is not None:
            self.refresh(document)
        self.where.setCurrentIndex(0)
        self.preview()

    def _offer_lanes(self, of_the_original: ValueBar) -> None:
        """Offer what can be followed: the original, by `of_the_original`, or another lane."""
        box = combo("What it follows")

        def choose() -> None:
            of_the_original.setVisible(box.currentData() == NO_LANE)
            self._set(LANE, box.currentData())

        def offer() -> None:
            document, own = self._session.store.document, self._session.shown.selection.pad_id
            pads = document.pads if document is not None else ()
            kept = box.currentData()
            box.clear()
            box.addItem("follow the original", NO_LANE)
            for pad in pads:
                if pad.id != own:
                    box.addItem(f"follow {pad.name}", float(pad.id))
            box.setCurrentIndex(max(0, box.findData(kept)))  # a lane cannot follow itself
            of_the_original.setVisible(box.currentData() == NO_LANE)
            self._values[LANE] = box.currentData()

        offer()
        box.activated.connect(lambda _: choose())
        self._choices.insertWidget(0, box)
        self._offer_followed = offer

    def draft(self) -> Draft | None:
        """Return what the open writer would do."""
        history = self._session.store.history
        if self.open is None or history is None:
            return None
        document = history.document
        pad_id = self._session.shown.selection.pad_id
        if all(pad.id != pad_id for pad in document.pads):
            return None
        start, end = self.where.currentData() or (0.0, float(pattern_beats(document)))
        return self.open.write(document, Place(pad_id, start, end), self._values)

    def preview(self) -> None:
        """Show and play the pattern as it would be."""
        draft = self.draft()
        if draft is not None:
            self._session.store.preview(lambda document: written(document, draft))

    def write(self) -> None:
        """Write it, as one step, and close."""
        draft, writer = self.draft(), self.open
        self._close()
        if draft is not None and writer is not None:
            self._session.store.edit(f"write {writer.label.lower()}", lambda document: written(document, draft))

    def cancel(self) -> None:
        """Close, and leave the pattern as it is."""
        if self.open is not None:
            self._close()
            self._session.store.drop_preview()

    def _close(self) -> None:
        self.open = None
        self.open_view.hide()
        self.closed_view.show()
        document = self._session.store.document
        if document is not None:
            self.refresh(document)

    def _reset(self, key: str, bar: ValueBar) -> None:
        self._set(key, bar.amount)

    def _set(self, key: str, value: float) -> None:
        self._values[key] = value
        self.preview()
