"""What plays: the shown variation, the variations in order, or an order that wanders by chance."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from msgspec.structs import replace
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from bompla.app.groove.order_row import OrderRow
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Chips, button, combo, label
from bompla.app.ui.number_box import NumberBox
from bompla.app.ui.value_bar import ValueBar
from bompla.groove.order import (
    bounced,
    order_passages,
    passage_hits,
    rule_for,
    variation_at,
    wander_passages,
)
from bompla.model.detected_pattern import pattern_bars, pattern_meter, pattern_of
from bompla.model.document import Document, OrderStep, Wander, WanderRule
from bompla.model.order_edits import CHANCE, MOST_RUN_BARS, set_order, set_wander, with_rule
from bompla.model.variation_edits import MOST_PATTERN_BARS, meters_for, set_bars, set_pattern_meter
from bompla.model.wording import counted

STAYS = ((1.0, "a beat"), (2.0, "two beats"), (-1.0, "a bar"), (-2.0, "two bars"), (-4.0, "four bars"))
"""How long a variation stays: in beats, or, below zero, in bars."""

SEQUENCES = (("variation", "this one"), ("order", "order"), ("wander", "wander"))


class OrderPanel(QWidget):
    """A row: what plays, and how that is made."""

    def __init__(self, session: Session, playback: Playback) -> None:
        super().__init__()
        self._session, self._playback = session, playback
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.sequence = Chips("What plays")
        self.sequence.offer(list(SEQUENCES), "variation", tip="Play the shown variation, the order, or an order by chance")
        self.sequence.chosen.connect(self._choose)
        self.own = self._own_page()
        self.own.setParent(self)
        self.own.hide()
        self.pages = {"order": self._order_page(), "wander": self._wander_page()}
        row = QHBoxLayout()
        row.setSpacing(8)
        for page in self.pages.values():
            row.addWidget(page, 1)
        self.bounce = button("Bounce", self._bounce, tip="Bounce what plays into one long variation, to be edited")
        row.addWidget(self.bounce)
        column.addLayout(row)
        self._choose("variation")

    def delete_action(self, parent: QWidget, act: Callable[[], object]) -> QAction:
        """Return the action that deletes the shown variation."""
        made = QAction("Delete", parent)
        made.triggered.connect(lambda _=False: act())
        return made

    def _own_page(self) -> QWidget:
        page, row = _page()
        row.addWidget(label("long", "dim"))
        self.bars = NumberBox("Bars of this variation", 1, MOST_PATTERN_BARS, unit=" bars", arrows=True,
                              tip="Length of this variation in bars; past the loop's end the original repeats")
        self.bars.typed.connect(lambda typed: self._set_bars(round(typed)))
        row.addWidget(self.bars)
        self.meter = combo("Meter of this variation", tip="Meter of this variation; the beat stays the same")
        self.meter.activated.connect(lambda _: self._set_meter(str(self.meter.currentData())))
        row.addWidget(self.meter)
        row.addStretch(1)
        return page

    def _set_bars(self, bars: int) -> None:
        self._session.store.edit(counted(bars, "bar"), lambda d: set_bars(d, bars))

    def _set_meter(self, name: str) -> None:
        self._session.store.edit(f"variation in {name}", lambda d: set_pattern_meter(d, name))

    def _order_page(self) -> QWidget:
        page, row = _page()
        self.add = button("Add to order", self._add, tip="Add the shown variation at the end of the order")
        row.addWidget(self.add)
        self.order = OrderRow()
        self.order.changed.connect(lambda steps: self._session.store.edit("order", lambda d: set_order(d, steps)))
        row.addWidget(self.order, 1)
        return page

    def _wander_page(self) -> QWidget:
        page, row = _page()
        self.whose = label("", "value")
        row.addWidget(self.whose)
        self.chance = ValueBar(CHANCE)
        self.chance.setFixedWidth(118)
        self.chance.chosen.connect(lambda value: self._rule(chance=value))
        row.addWidget(self.chance)
        row.addWidget(label("after", "dim"))
        self.stay = combo("Minimum length", [(text, value) for value, text in STAYS])
        self.stay.activated.connect(lambda _: self._rule(after_beats=self._stay_beats()))
        row.addWidget(self.stay)
        row.addWidget(label("to", "dim"))
        self.to = QWidget()
        self.to_row = QHBoxLayout(self.to)
        self.to_row.setContentsMargins(0, 0, 0, 0)
        self.to_row.setSpacing(4)
        row.addWidget(self.to)
        self.run_bars = NumberBox("Length of the run", 1, MOST_RUN_BARS, unit=" bars", arrows=True,
                                  tip="Length of the run before it repeats")
        self.run_bars.typed.connect(lambda bars: self._wander("run length", lambda w: replace(w, bars=round(bars))))
        row.addWidget(self.run_bars)
        self.again = button("New run", lambda: self._wander("new run", lambda w: replace(w, seed=w.seed + 1)),
                            tip="Draw another run by chance; undo restores the last one")
        row.addWidget(self.again)
        row.addStretch(1)
        return page

    def refresh(self, document: Document) -> None:
        """Show what plays of a document."""
        bars = pattern_bars(document)
        self.bars.show_number(bars)
        self.run_bars.show_number(document.wander.bars)
        offered = meters_for(document)
        if [self.meter.itemData(n) for n in range(self.meter.count())] != list(offered):
            self.meter.clear()
            for name in offered:
                self.meter.addItem(f"in {name}", name)
        self.meter.setCurrentIndex(max(0, self.meter.findData(pattern_meter(document).name)))
        self.own.setEnabled(document.shown >= 0)
        for widget in (self.add, self.chance, self.stay, self.to):
            widget.setEnabled(document.shown >= 0)
        self.order.show_steps(document.order)
        rule = rule_for(document, pattern_of(document).letter)
        self.whose.setText(pattern_of(document).letter or pattern_of(document).name)
        self.chance.show_value(rule.chance)
        per_bar = document.loop.meter.beats_per_bar
        beats = [value if value > 0 else -value * per_bar for value, _ in STAYS]
        self.stay.setCurrentIndex(min(range(len(beats)), key=lambda n: abs(beats[n] - rule.after_beats)))
        self._show_targets(document, rule)

    def show_playhead(self, beat: float) -> None:
        """Show which step of the order plays."""
        document = self._session.store.document
        if document is None or self._playback.baking.sequence != "order" or not self._playback.transport.playing:
            self.order.show_playing(-1)
            return
        number = next((n for n, p in enumerate(self._playback.baking.playing_passages) if p.start <= beat < p.start + p.length), -1)
        at = 0
        for index, step in enumerate(document.order):
            at += step.repeats
            if number < at:
                self.order.show_playing(index)
                return

    def playing_variation(self, beat: float) -> str:
        """Return the letter of what plays at a beat, empty where it is the shown one."""
        document = self._session.store.document
        found = variation_at(document, self._playback.baking.playing_passages, beat) if document is not None else None
        return found.letter if found is not None else ""

    def _show_targets(self, document: Document, rule: WanderRule) -> None:
        while (item := self.to_row.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        for variation in document.variations:
            if variation.letter != rule.letter:
                chip = button(variation.letter, partial(self._target, variation.letter), chip=True, checkable=True,
                              tip=f"May change to {variation.letter}")
                chip.setChecked(not rule.to or variation.letter in rule.to)
                self.to_row.addWidget(chip)

    def _target(self, letter: str) -> None:
        document = self._session.store.document
        if document is None:
            return
        rule = rule_for(document, pattern_of(document).letter)
        others = tuple(v.letter for v in document.variations if v.letter != rule.letter)
        now = set(rule.to or others) ^ {letter}
        self._rule(to=tuple(one for one in others if one in now))

    def _stay_beats(self) -> float:
        document = self._session.store.document
        value = float(self.stay.currentData())
        return value if value > 0 or document is None else -value * document.loop.meter.beats_per_bar

    def _rule(self, **values: object) -> None:
        document = self._session.store.document
        if document is not None:
            rule = replace(rule_for(document, pattern_of(document).letter), **values)
            self._wander(f"change rule of {rule.letter}", lambda w: with_rule(w, rule))

    def _wander(self, words: str, change: Callable[[Wander], Wander]) -> None:
        self._session.store.edit(words, lambda d: set_wander(d, change(d.wander)))

    def _add(self) -> None:
        document = self._session.store.document
        if document is not None:
            step = OrderStep(pattern_of(document).letter)
            self._session.store.edit(f"add {step.letter} to the order", lambda d: set_order(d, (*d.order, step)))

    def _choose(self, key: object) -> None:
        name = str(key)
        self.setVisible(name != "variation")
        for sequence, page in self.pages.items():
            page.setVisible(sequence == name)
        self.bounce.setVisible(name != "variation")
        self._playback.baking.set_sequence(name)

    def _bounce(self) -> None:
        document = self._session.store.document
        if document is None:
            return
        if self._playback.baking.sequence == "order":
            name, passages = "order", order_passages(document)
        else:
            name, passages = f"wander {document.wander.seed}", wander_passages(document)
        count = len(passage_hits(document, passages))
        if self._session.store.edit(f"bounce {counted(count, 'hit')}", lambda d: bounced(d, passages, name)):
            self.sequence.click("variation")


def _page() -> tuple[QWidget, QHBoxLayout]:
    page = QWidget()
    row = QHBoxLayout(page)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(8)
    return page, row
