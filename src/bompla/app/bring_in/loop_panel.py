"""The loop: where it is, what tempo and bars it has, and what else could be looped."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QBoxLayout, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from bompla.analysis.loop.passages import PROPOSED_BARS, Proposal
from bompla.app.bring_in.overview import SNAPS, Overview, clock, clock_of
from bompla.app.bring_in.proposal_row import same_place
from bompla.app.bring_in.tap import FORGOTTEN_S, Taps
from bompla.app.commands import BY_KEY, tip
from bompla.app.drag_out import DragHandle
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Chips, Facts, Panel, button, combo, label
from bompla.app.ui.number_box import NumberBox
from bompla.groove.bounce_analysis import heard_from_mix
from bompla.model.cut_edits import (
    HIGHEST_BPM,
    LOWEST_BPM,
    MOST_LOOP_BARS,
    choose_reading,
    downbeat_here,
    end_on_bar_line,
    set_bars,
    set_loop,
    set_meter,
    set_tempo,
    slide_loop,
    take_bars,
)
from bompla.model.document import Document, TempoReading
from bompla.model.drums import METERS
from bompla.model.loop import Loop
from bompla.model.loop_edits import half_a_bar_later
from bompla.model.readings import bar_choices, detected_beside, reading_choices, reading_near, sureness
from bompla.model.wording import counted, in_bars
from bompla.units import samples_to_s

SHOWN_PROPOSALS = 2
PARTS = {"mix": "mix", "drums": "drums", "rest": "rest"}
"""What of a sound can be heard."""


class LoopPanel(Panel):
    """Facts of the loop on the left, its tempo and what else could be looped on the right."""

    def __init__(self, session: Session, playback: Playback, overview: Overview, *, read_as: Callable[[object], object],
                 go_on: Callable[[], object]) -> None:
        super().__init__()
        self._session, self._playback, self._overview = session, playback, overview
        self._taps = Taps()
        self._forget = QTimer(self)
        self._forget.setSingleShot(True)
        self._forget.setInterval(round(1000.0 * FORGOTTEN_S))
        self._forget.timeout.connect(self.forget_taps)
        session.project.sound_changed.connect(self.forget_taps)
        self._proposals: tuple[Proposal, ...] = ()
        self._heard = -1
        self._part, self._part_of = "mix", session.project.sound
        columns = self._columns = QBoxLayout(QBoxLayout.Direction.LeftToRight)
        columns.setSpacing(18)
        left, right = QVBoxLayout(), QVBoxLayout()
        for column in (left, right):
            column.setSpacing(5)
            columns.addLayout(column, 1)
        self.body.addLayout(columns)
        self._place(left, read_as)
        self._tempo(right)
        self._more(right, go_on)

    def _place(self, column: QVBoxLayout, read_as: Callable[[object], object]) -> None:
        column.addWidget(label("Loop", "heading"))
        self.facts = Facts(("starts", "ends", "tempo"))
        column.addWidget(self.facts)
        column.addWidget(label("Read tempo as", "heading"))
        self.readings = Chips("Tempo readings", columns=2)
        self.readings.chosen.connect(read_as)
        column.addWidget(self.readings)
        row = _row(column)
        self.half = button("half the tempo", lambda: self._scale(0.5), tip="Halve the number of bars, and so the tempo", small=True)
        self.double = button("double", lambda: self._scale(2.0), tip="Double the number of bars, and so the tempo", small=True)
        row.addWidget(self.half)
        row.addWidget(self.double)
        self.lock = button("lock length", self._set_lock, small=True, checkable=True, tip="Dragging either end moves the whole loop")
        row.addWidget(self.lock)
        row.addStretch(1)
        column.addWidget(label("Bars from here", "heading"))
        self.bars = Chips("Bars")
        self.bars.chosen.connect(self._use_bars)
        row = _row(column)
        row.addWidget(self.bars)
        self.to_line = button("to the bar line", self._end_on_line, small=True, tip="Move the end to the nearest bar line; the tempo stays")
        row.addWidget(self.to_line)
        row.addStretch(1)
        row = _row(column)
        for text, key, by, whole_bars in (
            ("−1 bar", "bar_back", -1, True), ("−1 beat", "beat_back", -1, False), ("+1 beat", "beat_on", 1, False),
            ("+1 bar", "bar_on", 1, True),
        ):
            hint = tip(f"loop_{key}")
            row.addWidget(button(text, partial(self.slide, by, whole_bars=whole_bars), tip=hint, small=True))
        row.addStretch(1)
        row = _row(column)
        self.half_bar = button("bars begin half a bar later", self.half_a_bar, small=True,
                               tip=f"For this loop and all suggested ones of its tempo. {tip('loop_half_bar')}")
        row.addWidget(self.half_bar)
        row.addStretch(1)
        row = _row(column)
        row.addWidget(label("snap to", "dim"))
        self.snap = combo("Loop handles snap to", [(text, key) for key, text in SNAPS],
                          tip="What the ends of the loop snap to as they are dragged")
        self.snap.activated.connect(lambda _: setattr(self._overview, "snap", self.snap.currentData()))
        row.addWidget(self.snap)
        row.addStretch(1)
        column.addStretch(1)

    def _set_lock(self) -> None:
        self._overview.locked = self.lock.isChecked()

    def _end_on_line(self) -> None:
        self._session.store.edit("end on the bar line", end_on_bar_line)

    def _tempo(self, column: QVBoxLayout) -> None:
        column.addWidget(label("Tempo", "heading"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(7)
        grid.setVerticalSpacing(7)
        column.addLayout(grid)
        self.bpm = NumberBox("Tempo in BPM", LOWEST_BPM, HIGHEST_BPM, decimals=2, unit=" BPM",
                             tip="Type a tempo: start and bars stay, the end moves")
        self.bars_are = NumberBox("Bars in this loop", 1, MOST_LOOP_BARS, unit=" bars",
                                  tip="Say how many bars this loop is; the tempo follows")
        for box, typed in ((self.bpm, self._type_tempo), (self.bars_are, self._type_bars)):
            box.setMinimumWidth(96)
            box.typed.connect(typed)
        self.tap = button("Tap", self.tap_now, tip=tip("tap"))
        self.tapped = label("", "dim")
        grid.addWidget(self.bpm, 0, 0)
        grid.addWidget(self.bars_are, 0, 1)
        grid.addWidget(self.tap, 1, 0)
        grid.addWidget(self.tapped, 1, 1)
        self.meter = combo("Meter", [(f"in {name}", name) for name in METERS], tip="The meter; the loop stays as long as it is")
        self.meter.activated.connect(lambda _: self._session.store.edit(
            f"read in {self.meter.currentData()}", lambda d: set_meter(d, str(self.meter.currentData()))))
        grid.addWidget(self.meter, 2, 0)
        self.downbeat_here = button("Downbeat…", self.pick_downbeat, tip="Then click a hit in the picture, also before the loop: the loop "
                                    f"begins there. At the playhead: {tip('downbeat')}", checkable=True)
        self._overview.picked.connect(self._downbeat_picked)
        grid.addWidget(self.downbeat_here, 2, 1)
        row = _row(column)
        row.addWidget(label("tempo range", "dim"))
        self.slowest, self.fastest = (NumberBox(f"{which} tempo considered", LOWEST_BPM, HIGHEST_BPM, width=50)
                                      for which in ("Lowest", "Highest"))
        for box, value in zip((self.slowest, self.fastest), self._session.openings.tempo_range, strict=True):
            box.show_number(round(value))
            box.typed.connect(lambda _: self._set_range())
        row.addWidget(self.slowest)
        row.addWidget(label("and", "dim"))
        row.addWidget(self.fastest)
        row.addWidget(label("BPM", "dim"))
        row.addStretch(1)

    def _more(self, column: QVBoxLayout, go_on: Callable[[], object]) -> None:
        column.addWidget(label("Suggested loops", "heading"))
        self.proposed = Chips("Suggested loops", columns=2)
        self.proposed.chosen.connect(self._take_proposal)
        self._overview.proposal_heard.connect(self.hear_proposal)
        self._overview.proposal_taken.connect(self.use_proposal)
        self._overview.stretch_chosen.connect(self._go_to_stretch)
        column.addWidget(self.proposed)
        self.why = label("", "dim")
        self.why.setWordWrap(True)
        column.addWidget(self.why)
        row = _row(column)
        self.heard = Chips("What of the sound is heard")
        self.heard.offer(list(PARTS.items()), "mix", tips={
            "mix": "All of the sound", "drums": "Only the drums; they are made once, which takes a moment",
            "rest": "All but the drums; they are made once, which takes a moment"})
        self.heard.chosen.connect(lambda part: self._hear_part(str(part)))
        self.use_drums = button("Use", self._use_drums, tip="Add the drums to the project as a sound of their own, cut as the mix is")
        row.addWidget(label("hear", "dim"))
        row.addWidget(self.heard)
        row.addWidget(self.use_drums)
        row.addStretch(1)
        column.addStretch(1)
        self.main = QWidget()  # below what scrolls, so that it is always in sight
        row = QHBoxLayout(self.main)
        row.setContentsMargins(0, 0, 0, 0)
        row.addStretch(1)
        row.addWidget(DragHandle(self._session, "loop", "the loop"))
        row.addWidget(button("Slice this loop", go_on, primary=True, tip="Go on to the Slice stage (Ctrl+2)"))

    def set_narrow(self, narrow: bool) -> None:
        """Put the columns under one another, where there is no room for them side by side."""
        self._columns.setDirection(QBoxLayout.Direction.TopToBottom if narrow else QBoxLayout.Direction.LeftToRight)

    def refresh(self, document: Document) -> None:
        """Show the loop."""
        loop, rate = document.loop, document.source.sample_rate
        self.facts.set("starts", clock_of(loop.start_sample, rate))
        self.facts.set("ends", clock_of(loop.end_sample, rate))
        self.facts.set("tempo", f"{document.bpm:.2f} BPM, {sureness(document)}{detected_beside(document)}")
        choices, holds = reading_choices(document, self._session.openings.tempo_range)
        self.readings.offer(choices, holds, tip="Keep this region and read it with this tempo")
        self.bars.offer([(n, str(n)) for n in bar_choices(document)], loop.bars, tip="Keep the start and the tempo, and use this many bars")
        self._show_typed()
        self.meter.setCurrentIndex(self.meter.findData(loop.meter_name))
        self.half.setEnabled(loop.whole_bars % 2 == 0)
        self.to_line.setVisible(not loop.is_whole_bars)
        self.half_bar.setEnabled(loop.meter.beats_per_bar % 2 == 0)
        self._show_proposals(document)
        self._show_part()

    def show_proposals(self, proposals: tuple[Proposal, ...]) -> None:
        """Offer other loops, here and on the picture."""
        if proposals != self._proposals:
            self._heard = -1
        self._proposals = proposals
        self._overview.show_proposals(proposals)
        document = self._session.store.document
        if document is not None:
            self._show_proposals(document)

    def _show_proposals(self, document: Document) -> None:
        rate = document.source.sample_rate
        shown = []
        for bars in PROPOSED_BARS[::-1]:
            best = [p for p in self._proposals if p.loop.bars == bars][:SHOWN_PROPOSALS]
            shown += [(p.loop, _proposal_words(p, rate)) for p in best]
        shown = shown[:4] if len(shown) > 4 else shown
        current = next((loop for loop, _ in shown if same_place(loop, document.loop, rate)), None)
        self.proposed.offer(shown, current, tip=f"Use this region as the loop. {tip('proposal_next')}")
        self.why.setText(next((one.why for one in self._proposals if same_place(one.loop, document.loop, rate)), ""))

    def next_proposal(self) -> None:
        """Hear the next of the proposals, without taking it."""
        if self._proposals:
            self.hear_proposal((self._heard + 1) % len(self._proposals))

    def hear_proposal(self, index: int) -> None:
        """Hear one of the proposals, without taking it."""
        clip = self._session.project.clip
        if clip is None:
            return
        self._heard = index
        proposal = self._proposals[index]
        self._overview.mark_proposal(index)
        self._playback.previews.play(clip, proposal.loop.start_sample, proposal.loop.end_sample, alone=True)
        key = BY_KEY["proposal_use"].shortcut
        self._session.hub.note(f"Playing {_proposal_words(proposal, clip.sample_rate)}; a double click or {key} uses it.")

    def use_heard(self) -> None:
        """Use the proposal that was heard last."""
        if 0 <= self._heard < len(self._proposals):
            self.use_proposal(self._heard)
        else:
            self._session.hub.note(f"Play a suggested loop first ({BY_KEY['proposal_next'].shortcut}).")

    def _go_to_stretch(self, loop: Loop) -> None:
        """Use the best bars of a stretch whose name was clicked."""
        start = clock(samples_to_s(loop.start_sample, self._rate()), False)
        self._session.store.edit(f"best bars of the stretch at {start}", lambda d: set_loop(d, loop))

    def use_proposal(self, index: int) -> None:
        """Use one of the proposals."""
        self._take_proposal(self._proposals[index].loop)

    def _take_proposal(self, loop: object) -> None:
        chosen = next((p.loop for p in self._proposals if p.loop == loop), None)
        if chosen is not None:
            self._playback.previews.stop()
            start = clock(samples_to_s(chosen.start_sample, self._rate()), False)
            self._session.store.edit(f"use {in_bars(chosen.length_beats, chosen.meter)} at {start}",
                               lambda d: set_loop(d, chosen))

    def slide(self, by: int, *, whole_bars: bool) -> None:
        """Move the loop by a bar or a beat."""
        document = self._session.store.document
        if document is not None:
            beats = by * (document.loop.meter.beats_per_bar if whole_bars else 1)
            self._session.store.edit("slide loop", lambda d: slide_loop(d, beats))

    def half_a_bar(self) -> None:
        """Let bars begin half a bar later."""
        self._session.store.edit("bars half a bar later", half_a_bar_later)

    def pick_downbeat(self) -> None:
        """Let the next click on the picture say where the downbeat is."""
        self._overview.picking = self.downbeat_here.isChecked()
        if self._overview.picking:
            self._session.hub.note("Click the hit that is the downbeat, in the loop or before it.")

    def _downbeat_picked(self, at_sample: float) -> None:
        self.downbeat_here.setChecked(False)
        if at_sample >= 0.0:
            self._session.store.edit("move downbeat", lambda d: downbeat_here(d, round(at_sample)))

    def downbeat(self) -> None:
        """Let the loop begin at the attack nearest to the playhead."""
        at = round(self._playback.transport.playhead_sample())
        self._session.store.edit("move downbeat", lambda d: downbeat_here(d, at))

    def tap_now(self) -> None:
        """Take a tap; from the fourth on the loop is read as the tempo that was tapped."""
        if self._session.store.document is None:
            return  # letters typed where nothing is open are no taps
        told = self._taps.tap(time.monotonic())
        self._forget.start()
        count = len(self._taps.times_s)
        if told is None:
            self.tapped.setText(f"{counted(count, 'tap')}, keep going")
            return
        bpm, spread = told
        self.tapped.setText(f"{bpm:.1f} BPM, within {spread:.1f}")
        document = self._session.store.document
        if document is not None and count >= 4:
            reading = reading_near(document, bpm)
            if reading.bars != document.loop.bars:
                self._session.store.edit(f"tap {bpm:.0f} BPM", lambda d: choose_reading(d, reading))

    def forget_taps(self) -> None:
        """Let taps that nobody goes on with be gone."""
        self._taps.times_s = []
        self.tapped.setText("")

    def _scale(self, factor: float) -> None:
        document = self._session.store.document
        if document is None:
            return
        reading = TempoReading(document.bpm * factor, document.loop.bars * factor, document.loop.meter_name, 0.0)
        self._session.store.edit(f"read as {reading.bpm:.1f} BPM", lambda d: choose_reading(d, reading))

    def _type_tempo(self, bpm: float) -> None:
        document = self._session.store.document
        if document is not None and abs(bpm - document.bpm) > 0.006:
            if self._session.store.edit(f"set tempo {bpm:.2f} BPM", lambda d: set_tempo(d, bpm)):
                self._widen(bpm)
            self._show_typed()

    def _widen(self, bpm: float) -> None:
        """Let the range of tempo hold what a hand has set."""
        low, high = self._session.openings.tempo_range
        if not low <= bpm <= high:
            self._session.openings.tempo_range = (min(low, bpm), max(high, bpm))
            self.slowest.show_number(round(self._session.openings.tempo_range[0]))
            self.fastest.show_number(round(self._session.openings.tempo_range[1]))

    def _type_bars(self, typed: float) -> None:
        document, bars = self._session.store.document, round(typed)
        if document is not None and bars != document.loop.bars:
            self._session.store.edit(f"set to {counted(bars, 'bar')}", lambda d: set_bars(d, bars))
            self._show_typed()

    def _show_typed(self) -> None:
        """Show what holds, also where what was typed was refused."""
        document = self._session.store.document
        if document is not None:
            self.bpm.show_number(document.bpm)
            self.bars_are.show_number(document.loop.bars)

    def _use_bars(self, bars: object) -> None:
        count = int(str(bars))
        self._session.store.edit(f"use {counted(count, 'bar')}", lambda d: take_bars(d, count))

    def _set_range(self) -> None:
        low, high = float(self.slowest.value()), float(self.fastest.value())
        if high < 1.9 * low:
            self._session.hub.note("The tempo range must span an octave, such as 60 to 120 BPM.")
            self.slowest.show_number(round(self._session.openings.tempo_range[0]))
            self.fastest.show_number(round(self._session.openings.tempo_range[1]))
            return
        self._session.openings.tempo_range = (low, high)
        document = self._session.store.document
        if document is not None:
            self.refresh(document)

    def _hear_part(self, part: str) -> None:
        """Hear the mix, its drums or the rest; what is not made yet is heard as soon as it is."""
        self._part = part
        sound = self._session.project.sound
        if part != "mix" and sound is not None and sound.drums_only is None:
            self._session.requests.ask_drums_only()
        self._show_part()

    def _show_part(self) -> None:
        """Play the part that was chosen, where it is there; another sound begins with its mix."""
        sound = self._session.project.sound
        if sound is not self._part_of:
            self._part, self._part_of = "mix", sound
        made = sound is not None and sound.drums_only is not None
        self.heard.offer(list(PARTS.items()), self._part)
        self.use_drums.setVisible(made)
        self._playback.baking.set_drums_share({"mix": 0.0, "drums": 1.0, "rest": -1.0}[self._part] if made else 0.0)

    def _use_drums(self) -> None:
        sound, document = self._session.project.sound, self._session.store.document
        if sound is not None and sound.drums_only is not None and document is not None:
            drums = sound.drums_only
            self._session.openings.add_known(heard_from_mix(document, drums, f"{document.title}, drums only"), drums)

    def _rate(self) -> int:
        document = self._session.store.document
        return document.source.sample_rate if document else 44_100


def _proposal_words(proposal: Proposal, rate: int) -> str:
    return f"{in_bars(proposal.loop.length_beats, proposal.loop.meter)} at {clock(samples_to_s(proposal.loop.start_sample, rate), False)}"


def _row(column: QVBoxLayout) -> QHBoxLayout:
    row = QHBoxLayout()
    row.setSpacing(6)
    column.addLayout(row)
    return row

