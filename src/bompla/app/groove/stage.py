"""Groove: the pattern under the original sound, to be corrected by hand."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QMenu, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.groove.cards import VariationCards
from bompla.app.groove.detail_strip import DETAILS, WAYS, DetailStrip
from bompla.app.groove.feel_panel import FeelPanel
from bompla.app.groove.lanes import GRIDS, TUPLETS, LaneView
from bompla.app.groove.order_panel import OrderPanel
from bompla.app.groove.selection_panel import SelectionPanel
from bompla.app.groove.writer_panel import WriterPanel
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.stage import OFFER_TIP, Stage, WindowActions
from bompla.app.ui.controls import Chips, Facts, HoverButton, Panel, button, combo, label, scrolling
from bompla.groove.rebuild import offer_in_words
from bompla.groove.writers import STARTERS, one_at_a_time, starter, tidied, unplayable
from bompla.model.detected_pattern import hits_inside, pattern_bars, pattern_meter, pattern_of
from bompla.model.document import Document
from bompla.model.drums import DRUMS
from bompla.model.pattern_edits import add_played
from bompla.model.variation_edits import (
    add_variation,
    delete_variation,
    duplicate_variation,
    move_variation,
    note_down,
    rename_variation,
    show_variation,
)
from bompla.model.wording import bar_and_beat, counted


class GrooveStage(Stage):
    """The fourth stage."""

    key = "groove"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        layout, left = self.columns()
        left.addLayout(self._cards_row())
        self.order = OrderPanel(session, playback)
        left.addWidget(self.order)
        left.addLayout(self._grid_row())
        self.lanes = LaneView(session)
        self.lanes.struck.connect(playback.pads.strike)
        self.lanes.sought.connect(self._seek)
        left.addWidget(self.framed(scrolling(self.lanes)), 1)
        self.detail = DetailStrip(session, self.lanes)
        left.addLayout(self._detail_row())
        left.addWidget(self.framed(self.detail))
        layout.addWidget(self._panel())
        session.shown.selection_changed.connect(lambda _: self._hear_band())
        session.project.opened.connect(lambda: self.band.setChecked(False))
        self._commands()
        self.connect_all()

    def _grid_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(label("Grid", "dim"))
        self.grids = Chips("Grid")
        self.grids.offer(list(GRIDS), 0.0, tip="Steps that hits snap to; auto uses each beat's own")
        self.grids.chosen.connect(self._set_grid)
        row.addWidget(self.grids)
        self.tuplet = combo("Straight, triplet or quintuplet", [(text, share) for share, text in TUPLETS],
                            tip="Straight steps, three in the time of two, or five in the time of four")
        self.tuplet.activated.connect(lambda _: self._set_tuplet())
        row.addWidget(self.tuplet)
        self.band = button("drum's band", self._hear_band, chip=True, checkable=True,
                           tip="Play only the band of the original that the selected drum sounds in")
        row.addStretch(1)
        row.addWidget(self.band)
        return row

    def _hear_band(self) -> None:
        document = self.session.store.document
        pad = next((p for p in document.pads if p.id == self.session.shown.selection.pad_id), None) if document is not None else None
        self.playback.baking.set_band(DRUMS[pad.drum].band if pad is not None and self.band.isChecked() else None)

    def _detail_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.details = Chips("Value to draw")
        self.details.offer([(key, facts.label) for key, facts in DETAILS.items()], self.detail.what)
        self.details.chosen.connect(lambda key: self.detail.show_value(str(key)))
        row.addWidget(self.details)
        self.ways = Chips("How to draw")
        self.ways.offer(list(WAYS), self.detail.way)
        self.ways.chosen.connect(lambda key: setattr(self.detail, "way", str(key)))
        row.addStretch(1)
        row.addWidget(self.ways)
        return row

    def state_line(self, document: Document | None) -> str:
        """Return how many hits the pattern has."""
        if document is None:
            return ""
        count = len(hits_inside(document))
        return f"{pattern_of(document).letter or pattern_of(document).name} · {counted(count, 'hit')}"

    def picture(self) -> QWidget:
        """Return the picture that takes the keys."""
        return self.lanes

    def refresh(self, document: Document) -> None:
        """Show the pattern's facts and what is selected."""
        inside = hits_inside(document)
        self.feel.refresh(document)
        self.writer.refresh(document)
        for box, text in ((self.name, pattern_of(document).name), (self.note, pattern_of(document).note)):
            box.setEnabled(document.shown >= 0)
            if not box.hasFocus():
                box.setText(text)
        self.take_out.setEnabled(document.shown >= 0)
        pattern = pattern_of(document)
        title = f"Pattern {pattern.letter} · {pattern.name}" if pattern.letter else "Detected pattern · never changes"
        self.pattern_panel.heading.setText(title)
        self.facts.set("hits", f"{len(inside)} in {counted(pattern_bars(document), 'bar')}")
        if not self.session.store.previewing:
            self._show_playable(document)
        divisions = self.session.shown.grid.divisions
        thirds = int((divisions == 3).sum())
        some = f"{counted(thirds, 'beat')} triplet" if thirds else "straight"
        self.facts.set("grid", "triplet" if thirds == len(divisions) else some)
        offered, take = offer_in_words(document)
        self.offer_panel.setVisible(bool(offered))
        self.offer_panel.heading.setText(f"From the slices: {offered}")
        self.offer_add.setText(take)
        self.selected.refresh(document)
        self.order.refresh(document)
        self.detail.update()

    def set_playhead(self, at_sample: float) -> None:
        """Show the playhead, and what plays."""
        at = self.playback.transport.pattern_sample()
        self.lanes.set_playhead(at if self.playback.baking.sequence == "variation" else at_sample)
        document = self.session.store.document
        if document is not None and self.playback.baking.sequence != "variation":
            beat = document.beat_map.beat_at(at)
            self.order.show_playhead(beat)
            self.cards.show_playing(self.order.playing_variation(beat) if self.playback.transport.playing else "")

    def _panel(self) -> QWidget:
        side = QWidget()
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(9)
        self.offer_panel = Panel("From the slices")
        row = QHBoxLayout()
        self.offer_add = button("Add to A", self.take_offers, tip=OFFER_TIP, primary=True)
        row.addWidget(self.offer_add)
        row.addWidget(button("Not now", self.drop_offers, tip="Leave the pattern as it is"))
        row.addStretch(1)
        self.offer_panel.body.addLayout(row)
        column.addWidget(self.offer_panel)
        self.selected = SelectionPanel(self.session, self.playback)
        column.addWidget(self.selected)
        self.writer = WriterPanel(self.session)
        column.addWidget(self.writer)
        self.feel = FeelPanel(self.session)
        column.addWidget(self.feel)
        pattern = Panel("Pattern")
        self.pattern_panel = pattern
        self.facts = Facts(("hits", "grid"))
        pattern.body.addWidget(self.facts)
        self.playable = label("", "good")
        self.playable.setWordWrap(True)
        pattern.body.addWidget(self.playable)
        self.tidy = HoverButton("One hat at a time", self._tidy, self._show_untidy,
                                tip="Delete the softer of two hats that sound at once; hover to select them")
        pattern.body.addWidget(self.tidy, 0, Qt.AlignmentFlag.AlignLeft)
        self.note = QLineEdit()
        self.note.setPlaceholderText("notes on this variation")
        self.note.setAccessibleName("Note on this variation")
        self.note.editingFinished.connect(self._note_down)
        pattern.body.addWidget(self.note)
        column.addWidget(pattern)
        column.addStretch(1)
        area = scrolling(side)
        area.setFixedWidth(260)
        self.side = area
        return area

    def _cards_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(8)
        self.cards = VariationCards(self.session)
        self.cards.chosen.connect(self.show_variation)
        self.cards.moved.connect(lambda at, to: self.session.store.edit("move variation", lambda d: move_variation(d, at, to)))
        row.addWidget(self.cards, 1)
        chips = QVBoxLayout()
        chips.setSpacing(4)
        self.empty = button("empty lanes", lambda: self.session.shown.fold(not self.empty.isChecked()), chip=True, checkable=True,
                            tip="Show lanes without hits")
        self.empty.setChecked(True)
        chips.addWidget(self.empty)
        self.missing_hits = button("missing hits", self._show_ghosts, chip=True, checkable=True, tip=tip("heard_pins"))
        self.missing_hits.setChecked(True)
        chips.addWidget(self.missing_hits)
        row.addLayout(chips)
        column = QVBoxLayout()
        column.setSpacing(4)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the variation")
        self.name.setToolTip("Name of the variation")
        self.name.setFixedWidth(150)
        self.name.editingFinished.connect(self._rename)
        column.addWidget(self.name)
        below = QHBoxLayout()
        below.setSpacing(5)
        self.new = button("New", self._choose_new, tip="Duplicate, empty, or a starter pattern", small=True)
        self.take_out = button("Delete", self._take_out_variation, tip="Delete this variation; undo restores it", small=True)
        for made in (self.new, self.take_out):
            below.addWidget(made)
        column.addLayout(below)
        row.addLayout(column)
        return row

    def show_variation(self, index: int) -> None:
        """Show and play another variation; that is no step of undo."""
        self.writer.cancel()
        self.session.store.amend(lambda d: show_variation(d, index))
        self.session.shown.select(hit_ids=frozenset())

    def new_menu(self) -> QMenu:
        """Return the menu of ways to begin a variation."""
        menu = QMenu(self)

        def offer(text: str, words: str, change: Callable[[Document], Document]) -> None:
            entry = menu.addAction(text)
            assert entry is not None
            entry.triggered.connect(lambda _=False: self.session.store.edit(words, change))

        offer("Duplicate", "copy variation", duplicate_variation)
        offer("Empty", "empty variation", lambda d: add_variation(d, [], "empty"))
        menu.addSeparator()
        for name in STARTERS:
            offer(name.capitalize(), f"variation {name}", partial(_with_starter, name=name))
        return menu

    def _choose_new(self) -> None:
        menu = self.new_menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.new.mapToGlobal(self.new.rect().bottomLeft()))

    def _take_out_variation(self) -> None:
        document = self.session.store.document
        if document is not None:
            self.session.store.edit(f"delete variation {pattern_of(document).letter}", lambda d: delete_variation(d, d.shown))

    def _rename(self) -> None:
        document = self.session.store.document
        if document is not None and self.name.text().strip() != pattern_of(document).name:
            self.session.store.edit("rename variation", lambda d: rename_variation(d, self.name.text()))
        self.lanes.setFocus()

    def _note_down(self) -> None:
        document = self.session.store.document
        if document is not None and self.note.text().strip() != pattern_of(document).note:
            self.session.store.edit("edit notes", lambda d: note_down(d, self.note.text()))
        self.lanes.setFocus()

    def _show_ghosts(self) -> None:
        self.session.shown.show_missing(self.missing_hits.isChecked())

    def _show_playable(self, document: Document) -> None:
        trouble = unplayable(document)
        words = "playable with two hands and two feet"
        if trouble:
            beat, reason = trouble[0]
            more = f", and {len(trouble) - 1} more" if len(trouble) > 1 else ""
            words = f"{reason} at {bar_and_beat(beat, pattern_meter(document))}{more}"
        self.playable.setText(words)
        self.playable.setObjectName("value" if trouble else "good")
        if (style := self.playable.style()) is not None:
            style.polish(self.playable)
        gone = one_at_a_time(document)
        self.tidy.setVisible(bool(gone))
        self.tidy.setText(f"One hat at a time: delete {len(gone)}")

    def _show_untidy(self) -> None:
        """Select the hits that the clean-up would delete, so that they are seen."""
        document = self.session.store.document
        if document is not None:
            self.session.shown.select(hit_ids=frozenset(one_at_a_time(document)))

    def _tidy(self) -> None:
        document = self.session.store.document
        if document is not None:
            self.session.store.edit(f"one hat at a time: delete {len(one_at_a_time(document))}", tidied)

    def _take_all_back(self) -> None:
        """Add the hits of the original that the selected lane lacks."""
        document = self.session.store.document
        if document is None:
            return
        pad_id = self.session.shown.selection.pad_id
        missing = [hit for hit in self.session.shown.missing() if hit.pad_id == pad_id]
        if missing:
            words = f"add {counted(len(missing), 'missing hit')}"
            self.session.store.edit(words, lambda d: add_played(d, [(*hit, 0.0) for hit in missing]))

    def _commands(self) -> None:
        self.command("ghost_back", self._take_all_back)
        self.command("heard_pins", self.missing_hits.click)
        self.command("feel_write", self.feel.write)
        self.command("variation_copy", lambda: self.session.store.edit("copy variation", duplicate_variation))
        self.command("writer_cancel", self._escape)
        self.selected.commands(self.command)

    def _escape(self) -> None:
        """Cancel the open writer; where none is, select no hits."""
        if self.writer.open is not None:
            self.writer.cancel()
        else:
            self.session.shown.select(hit_ids=frozenset())

    def _set_grid(self, beats: object) -> None:
        self.session.shown.set_grid(beats=float(str(beats)))
        self.lanes.setFocus()

    def _set_tuplet(self) -> None:
        self.session.shown.set_grid(tuplet=float(self.tuplet.currentData()))
        self.lanes.setFocus()

    def _seek(self, beat: float) -> None:
        document = self.session.store.document
        if document is not None:
            self.playback.transport.seek(float(document.beat_map.samples_at(beat)))


def _with_starter(document: Document, name: str) -> Document:
    return add_variation(document, starter(document, name), name)

