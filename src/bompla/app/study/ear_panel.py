"""By ear: what was asked and told of a round: how it stands, a hint, the rest."""

from __future__ import annotations

import time

from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLabel

from bompla.app.commands import tip
from bompla.app.project.session import Session
from bompla.app.ui.controls import HeadBadge, Panel, button, clear_layout, label
from bompla.groove.by_ear import LaneCount, answered, begin, hinted, in_words, lane_counts, round_of, with_round
from bompla.model.document import Document, EarRound


class EarPanel(Panel):
    """Counts what is right only when it is asked to, and never says where."""

    def __init__(self, session: Session) -> None:
        super().__init__("By ear · write down what you hear")
        self._session = session
        self._since = 0.0
        self._shown_for: object = None
        self.words = label("", "dim")
        self.words.setWordWrap(True)
        self.body.addWidget(self.words)
        self.start = button("Begin with empty lanes", self.begin, primary=True, tip="Make an empty variation to be filled by ear")
        self.body.addWidget(self.start, 0, Qt.AlignmentFlag.AlignLeft)
        row = QHBoxLayout()
        self.ask = button("How am I doing?", self.count, tip=tip("ear_count"))
        self.hint = button("A hint", self.give_hint, tip=tip("ear_hint"))
        self.rest = button("Show me the rest", self.show_rest, tip="Add every hit that is missing; the round is over then")
        for made in (self.ask, self.hint, self.rest):
            row.addWidget(made)
        row.addStretch(1)
        self.body.addLayout(row)
        self.counts = QGridLayout()
        self.counts.setHorizontalSpacing(10)
        self.body.addLayout(self.counts)
        self.before = label("", "dim")
        self.before.setWordWrap(True)
        self.body.addWidget(self.before)
        self.body.addStretch(1)

    def refresh(self, document: Document) -> None:
        """Show which round is on; counts that were asked for are gone with the next edit."""
        running = round_of(document)
        on = running is not None and not running.answered
        if self._shown_for is not document:
            self._clear()
        self.start.setVisible(not on)
        self.start.setText("Begin with empty lanes" if not document.by_ear else "Begin another, or go on")
        for made in (self.ask, self.hint, self.rest):
            made.setEnabled(on)
        if running is None:
            self.words.setText("Let the loop turn, and click in a lane where you hear its hits. A new variation keeps them; the "
                               "pattern you have stays as it is.")
        elif on:
            self.words.setText("Click in a lane where you hear a hit, click it again to take it away. Slower is easier: the speed is "
                               "below.")
        else:
            self.words.setText(f"{in_words(running)}.")
        over = [one for one in document.by_ear if one.answered and one is not running]
        self.before.setText("Before: " + "; ".join(in_words(one) for one in over[-3:]) + "." if over else "")

    def begin(self) -> None:
        """Begin a round, or go on with one that is not over."""
        if self._session.store.edit("begin by ear", begin):
            self._since = time.monotonic()

    def count(self) -> None:
        """Say how each lane stands: right, too many, missing."""
        document = self._session.store.document
        if document is None:
            return
        self._keep_time()
        document = self._session.store.document or document
        self._shown_for = document
        self._clear()
        for column, text in enumerate(("", "", "right", "too many", "missing")):
            self.counts.addWidget(label(text, "dim"), 0, column)
        counts = lane_counts(document)
        for row, one in enumerate(counts, 1):
            pad = document.pad(one.pad_id)
            self.counts.addWidget(HeadBadge(pad.drum), row, 0)
            self.counts.addWidget(label(pad.name), row, 1)
            for column, number in enumerate((one.right, one.extra, one.missing), 2):
                self.counts.addWidget(_number(number, good=column == 2 and not one.missing and not one.extra), row, column)
        self.setAccessibleDescription("; ".join(_lane_words(document, one) for one in counts))

    def give_hint(self) -> None:
        """Place one more hit, and count it as a hint."""
        self._session.store.edit("hint", hinted)

    def show_rest(self) -> None:
        """Place all that is missing, and end the round."""
        self._keep_time()
        self._session.store.edit("show the rest", answered)

    def stop_clock(self) -> None:
        """Keep the time that was spent so far."""
        self._keep_time()
        self._since = 0.0

    def go_on(self) -> None:
        """Let the time run, where a round is on."""
        self._since = time.monotonic()

    def _keep_time(self) -> None:
        document = self._session.store.document
        running = round_of(document) if document is not None else None
        if running is None or running.answered or self._since <= 0.0:
            return
        spent, self._since = time.monotonic() - self._since, time.monotonic()

        def longer(d: Document) -> Document:
            own: EarRound | None = next((one for one in d.by_ear if one.letter == running.letter), None)
            return with_round(d, replace(own, seconds=round(own.seconds + spent, 1))) if own is not None else d

        self._session.store.amend(longer)

    def _clear(self) -> None:
        clear_layout(self.counts)
        self.setAccessibleDescription("")


def _number(number: int, *, good: bool) -> QLabel:
    return label(str(number), "good" if good else "value")


def _lane_words(document: Document, one: LaneCount) -> str:
    return f"{document.pad(one.pad_id).name}: {one.right} right, {one.extra} too many, {one.missing} missing"
