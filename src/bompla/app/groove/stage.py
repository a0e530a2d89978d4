"""Groove: the pattern under the original sound, to be corrected by hand."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Literal

from PyQt6.QtGui import QAction, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QStackedWidget, QVBoxLayout, QWidget

from bompla.app.commands import BY_KEY, tip
from bompla.app.drag_out import DragHandle
from bompla.app.groove.detail_strip import DETAILS, WAYS, DetailStrip
from bompla.app.groove.feel_panel import FeelPanel
from bompla.app.groove.lanes import GRIDS, TUPLETS, LaneView
from bompla.app.groove.order_panel import OrderPanel
from bompla.app.groove.selection_panel import SelectionPanel
from bompla.app.groove.variations_row import VariationsRow
from bompla.app.groove.writer_panel import WriterPanel
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.stage import OFFER_TIP, Stage, WindowActions
from bompla.app.theme import theme
from bompla.app.time_scroll import TimeScroll
from bompla.app.ui.controls import Chips, HoverButton, Panel, button, combo, label, scrolling
from bompla.app.ui.number_box import NumberBox
from bompla.app.ui.pattern_map import pattern_map
from bompla.groove.feel import felt_pattern
from bompla.groove.rebuild import offer_in_words
from bompla.groove.writers import one_at_a_time, tidied, unplayable
from bompla.model.detected_pattern import hits_inside, pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document
from bompla.model.drums import DRUMS
from bompla.model.moments import BY_LOOP, BY_PADS, UNTOUCHED, counted_moments
from bompla.model.pattern_edits import add_played
from bompla.model.variation_edits import duplicate_variation, set_untouched, show_variation
from bompla.model.wording import bar_and_beat, counted

PART_TIPS: dict[object, str] = {part: tip(f"part_{part}") for part in ("hits", "write", "feel")}
NARROW = 1_080
"""A stage narrower than this offers its grid in a box."""


class GrooveStage(Stage):
    """The fourth stage."""

    key = "groove"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        layout, left = self.columns()
        self.order = OrderPanel(session, playback)
        self.variations = VariationsRow(session, self.order, self.show_variation)
        self.cards, self.name, self.note, self.take_out = (
            self.variations.cards, self.variations.name, self.variations.note, self.variations.take_out)
        left.addWidget(self.variations)
        left.addWidget(self.order)
        self.lanes = LaneView(session)
        self.selected = SelectionPanel(session, playback, cursor=self.lanes.move_cursor, lanes=lambda: [p.id for p in self.lanes.pads()])
        left.addLayout(self._grid_row())
        self.lanes.struck.connect(playback.pads.strike)
        self.lanes.sought.connect(self._seek)
        self.lanes.spanned.connect(self._loop_span)
        left.addWidget(self.framed(scrolling(self.lanes)), 1)
        self.whole = TimeScroll(self.lanes, self._small)
        session.store.document_changed.connect(self.whole.redraw)
        theme().changed.connect(self.whole.redraw)
        left.addWidget(self.whole)
        left.addLayout(self._under_row())
        self.detail = DetailStrip(session, self.lanes)
        left.addLayout(self._detail_row())
        left.addWidget(self.framed(self.detail))
        layout.addWidget(self._panel())
        session.shown.selection_changed.connect(lambda _: self._hear_band())
        session.project.sound_changed.connect(lambda: self.band.setChecked(False))
        self._commands()
        self.connect_all()

    def _small(self, width: int, height: int, ratio: float) -> QPixmap | None:
        """Return the shown pattern in small."""
        document = self.session.store.document
        return pattern_map(document, pattern_of(document), width, height, ratio=ratio) if document is not None else None

    def _grid_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(label("grid", "dim"))
        self.grids = Chips("Grid")
        self.grids.offer(list(GRIDS), 0.0, tip="Steps that hits snap to; auto uses each beat's own")
        self.grids.chosen.connect(self._set_grid)
        row.addWidget(self.grids)
        self.grid_box = combo("Grid", [(text, step) for step, text in GRIDS], tip="Steps that hits snap to; auto uses each beat's own")
        self.grid_box.activated.connect(lambda _: self._set_grid(self.grid_box.currentData()))
        row.addWidget(self.grid_box)
        self.tuplet = combo("Straight, triplet or quintuplet", [(text, share) for share, text in TUPLETS],
                            tip="Straight steps, three in the time of two, or five in the time of four")
        self.tuplet.activated.connect(lambda _: self._set_tuplet())
        row.addWidget(self.tuplet)
        row.addSpacing(4)
        self.quantise = button("Quantise", self.selected.quantise, tip=tip("hit_grid"))
        row.addWidget(self.quantise)
        self.amount = NumberBox("How far hits are quantised", 0, 100, unit=" %", width=62, tip="How far hits go to the grid")
        self.amount.show_number(100)
        self.amount.typed.connect(lambda percent: self.selected.set_amount(percent / 100.0))
        self.selected.amount_changed.connect(lambda amount: self.amount.show_number(round(100 * amount)))
        row.addWidget(self.amount)
        row.addStretch(1)
        self.view = button("Show", lambda: None, tip="What is shown and heard beside the hits")
        self.view.setMenu(self._view_menu())
        row.addWidget(self.view)
        for text, key, act in (("−", "zoom_out", partial(self.lanes.zoom, 1.25)), ("+", "zoom_in", partial(self.lanes.zoom, 0.8)),
                               ("All", "zoom_all", self.lanes.show_all)):
            made = button(text, act, tip=tip(key), name=BY_KEY[key].label)
            made.setFixedWidth(34 if len(text) < 2 else 42)
            row.addWidget(made)
        return row

    def _view_menu(self) -> QMenu:
        menu = QMenu(self)

        def offer(text: str, act: Callable[[], object], *, on: bool, hint: str = "") -> QAction:
            entry = menu.addAction(text)
            assert entry is not None
            entry.setCheckable(True)
            entry.setChecked(on)
            entry.setToolTip(hint)
            entry.toggled.connect(lambda _: act())
            return entry

        self.empty = offer("Lanes without hits", lambda: self.session.shown.fold(not self.empty.isChecked()), on=True)
        self.missing_hits = offer(f"Missing hits of the original\t{BY_KEY['heard_pins'].shortcut}", self._show_ghosts, on=True)
        self.band = offer("Hear only the band of the drum", self._hear_band, on=False,
                          hint="Play only the band of the original that the selected drum sounds in")
        return menu

    def _under_row(self) -> QHBoxLayout:
        """Return the line under the lanes: whether it can be played, and what the original has that is not here."""
        row = QHBoxLayout()
        row.setSpacing(8)
        self.playable = label("", "good")
        row.addWidget(self.playable)
        self.lacking = label("", "dim")
        row.addWidget(self.lacking)
        self.tidy = HoverButton("One hat at a time", self._tidy, self._show_untidy,
                                tip="Of two hats that sound at once the open one stays, or the one drawn last; hover to select what goes")
        self.tidy.setObjectName("small")
        row.addWidget(self.tidy)
        row.addStretch(1)
        row.addWidget(label("untouched moments play", "dim"))
        self.untouched = Chips("Untouched moments play")
        self.untouched.offer(list(UNTOUCHED.items()), BY_LOOP, tips={
            BY_LOOP: "Where all hits of a slice stand as they were detected, or were moved together, the slice itself is heard",
            BY_PADS: "Every hit is heard from its pad, so that another kit or another sound is heard throughout"})
        self.untouched.chosen.connect(self._set_untouched)
        row.addWidget(self.untouched)
        self.moments = label("", "dim")
        row.addWidget(self.moments)
        row.addWidget(DragHandle(self.session, "midi", "the variation as MIDI"))
        return row

    def _set_untouched(self, key: object) -> None:
        what: Literal["loop", "pads"] = "pads" if key == BY_PADS else "loop"
        self.session.store.edit(f"untouched moments play {UNTOUCHED[what]}", lambda d: set_untouched(d, what))

    def _show_moments(self, document: Document) -> None:
        own, attacks = counted_moments(document, felt_pattern(document), pattern_beats(document))
        by_loop = pattern_of(document).untouched == BY_LOOP
        self.untouched.setEnabled(bool(pattern_of(document).letter))
        self.untouched.offer(list(UNTOUCHED.items()), pattern_of(document).untouched)
        self.moments.setText(f"{own} of {attacks}" if by_loop else "")
        self.moments.setToolTip(f"{own} of {counted(attacks, 'moment')} are the loop itself")

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
        self.feel.refresh(document)
        self.writer.refresh(document)
        self.variations.refresh(document)
        count = len(self.session.shown.selection.hit_ids)
        hits = f"Hits · {count}" if count else "Hits"
        self.parts.offer([("hits", hits), ("write", "Write"), ("feel", "Feel")], self.part, tips=PART_TIPS)
        lacking = len(self.session.shown.missing())
        self.lacking.setText(f"{counted(lacking, 'hit')} of the original {'is' if lacking == 1 else 'are'} missing here" if lacking else "")
        if not self.session.store.previewing:
            self._show_playable(document)
            self._show_moments(document)
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
        side.setFixedWidth(264)
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(9)
        self.part = "hits"
        self.parts = Chips("Parts of the side panel")
        self.parts.chosen.connect(lambda key: self.show_part(str(key)))
        column.addWidget(self.parts)
        self.offer_panel = Panel("From the slices")
        row = QHBoxLayout()
        self.offer_add = button("Add to A", self.take_offers, tip=OFFER_TIP, primary=True)
        row.addWidget(self.offer_add)
        row.addWidget(button("Not now", self.drop_offers, tip="Leave the pattern as it is"))
        row.addStretch(1)
        self.offer_panel.body.addLayout(row)
        column.addWidget(self.offer_panel)
        self.selected.body.addWidget(self.note)
        self.selected.body.addStretch(1)
        self.writer, self.feel = WriterPanel(self.session, lambda: self.playback.baking.listened.bars), FeelPanel(self.session)
        self.pages = QStackedWidget()
        for page in (self.selected, self.writer, self.feel):
            self.pages.addWidget(scrolling(page))
        column.addWidget(self.pages, 1)
        self.writer.opened.connect(self._writer_shown)
        self.show_part("hits")
        return side

    def show_part(self, key: str) -> None:
        """Show one part of the side panel: hits, write or feel."""
        self.part = key
        self.parts.offer([("hits", "Hits"), ("write", "Write"), ("feel", "Feel")], key, tips=PART_TIPS)
        self.pages.setCurrentIndex(("hits", "write", "feel").index(key))
        if (document := self.session.store.document) is not None and self.isVisible():
            self.refresh(document)

    def show_variation(self, index: int) -> None:
        """Show and play another variation; that is no step of undo."""
        self.writer.cancel()
        self.session.store.amend(lambda d: show_variation(d, index))
        self.session.shown.select(hit_ids=frozenset())

    def new_menu(self) -> QMenu:
        """Return the menu of ways to begin a variation."""
        return self.variations.new_menu()

    def _loop_span(self, first_beat: float, last_beat: float) -> None:
        """Play only a range that was dragged on the ruler; all for none."""
        document = self.session.store.document
        if document is not None:
            per_bar = pattern_meter(document).beats_per_bar
            first, last = int(first_beat // per_bar), int(-(-last_beat // per_bar))
            self.playback.baking.loop_bars(first, last - first if last_beat > first_beat else 0)

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
        self.command("heard_pins", self.missing_hits.trigger)
        self.command("feel_write", self.feel.write)
        self.command("variation_copy", lambda: self.session.store.edit("copy variation", duplicate_variation))
        self.command("writer_cancel", self._escape)
        self.command("hit_draw", self.lanes.draw_at_cursor)
        for part in ("hits", "write", "feel"):
            self.command(f"part_{part}", partial(self.show_part, part))
        self.selected.commands(self.command)

    def _writer_shown(self) -> None:
        if self.writer.open is not None:
            self.show_part("write")

    def _escape(self) -> None:
        """Cancel the open writer; where none is, select no hits."""
        if self.writer.open is not None:
            self.writer.cancel()
        else:
            self.session.shown.select(hit_ids=frozenset())

    def resizeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        narrow = self.width() < NARROW
        self.grids.setVisible(not narrow)
        self.grid_box.setVisible(narrow)

    def _set_grid(self, beats: object) -> None:
        self.grids.offer(list(GRIDS), beats, tip="Steps that hits snap to; auto uses each beat's own")
        self.grid_box.setCurrentIndex(self.grid_box.findData(beats))
        self.session.shown.set_grid(beats=float(str(beats)))
        self.lanes.setFocus()

    def _set_tuplet(self) -> None:
        self.session.shown.set_grid(tuplet=float(self.tuplet.currentData()))
        self.lanes.setFocus()

    def _seek(self, beat: float) -> None:
        document = self.session.store.document
        if document is not None:
            self.playback.transport.seek(float(document.beat_map.samples_at(beat)))
