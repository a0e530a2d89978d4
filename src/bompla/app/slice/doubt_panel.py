"""The slices to check, each with its reason and its mends."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from bompla.analysis.review.doubts import Mend, Question, questions_of
from bompla.app.commands import tip
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Panel, button, clear_layout, label
from bompla.model.wording import counted

MOST_ROWS, SHOWN_LINES, LINE_HEIGHT, ANSWER_WIDTH = 40, 4, 33, 52
"""How many questions the list holds, and how many lines of how many pixels are seen at once; it scrolls."""


class DoubtPanel(Panel):
    """Lists the questions from the selected slice's on; a mend is an edit, and the next doubt comes up."""

    def __init__(self, session: Session, playback: Playback) -> None:
        super().__init__("Nothing to check")
        self._session, self._playback = session, playback
        self._listed: list[tuple[Question, tuple[int, ...]]] = []
        content = QWidget()
        self._rows = QVBoxLayout(content)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(9)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._area.setWidget(content)
        self.body.addWidget(self._area)
        self.file_line = label("", "dim")
        self.file_line.setWordWrap(True)
        self.body.addWidget(self.file_line)
        session.review.changed.connect(self.refresh)
        session.shown.selection_changed.connect(lambda _: self.refresh())
        session.project.sound_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the question of the selected slice and those after it."""
        slices, questions = len(self._session.review.found), self._ahead()
        if not questions:
            heading = "Nothing to check"
        elif len(questions) == slices:
            heading = f"{counted(slices, 'slice')} to check"
        else:
            heading = f"{len(questions)} to check, in {counted(slices, 'slice')}"
        self.heading.setText(heading)
        clipped = self._session.review.clipped
        self.file_line.setVisible(clipped > 0)
        self.file_line.setText(f"The recording itself is clipped, in {counted(clipped, 'slice')}." if clipped else "")
        self._area.setVisible(bool(questions))
        if self.isVisible():
            self._list(questions)
        self._area.setFixedHeight(LINE_HEIGHT * min(SHOWN_LINES, sum(2 if len(one.doubts) == 1 else 3 for one in questions)))

    def _list(self, questions: list[Question]) -> None:
        """Make the rows, where they are not those that are there: it takes longer than all else at a change of the selection."""
        document = self._session.store.document
        numbers = {piece.cut.id: piece.number for piece in document.slices()} if document else {}
        wanted = [(question, tuple(numbers.get(doubt.cut_id, 0) for doubt in question.doubts)) for question in questions[:MOST_ROWS]]
        if wanted == self._listed:
            return
        self._listed = wanted
        clear_layout(self._rows)
        for question, places in wanted:
            self._rows.addWidget(self._row(question, places))
        self._rows.addStretch(1)

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802  # Qt's name
        self.refresh()
        super().showEvent(event)

    def go_next(self) -> None:
        """Choose and play the next slice to check, after the selected one."""
        doubts = [doubt for question in self._ahead() for doubt in question.doubts]
        here = next((n for n, doubt in enumerate(doubts) if doubt.cut_id == self._session.shown.selection.cut_id), -1)
        if doubts:
            self._choose(doubts[(here + 1) % len(doubts)].cut_id)
        else:
            self._session.hub.note("Nothing is left to check.")

    def mend(self, which: int) -> None:
        """Mend the slice that is heard in its first or second way, or with -1 keep it; then go to the next. Those alike wait."""
        questions = self._ahead()
        if questions and which < len(questions[0].mends) - 1:
            self._apply(questions[0], questions[0].mends[which], go_on=True)

    def mend_alike(self, which: int) -> None:
        """Mend the slice that is heard and all like it in the first or second way, or with -1 keep them, in one step; then go on."""
        questions = self._ahead()
        if questions and which < len(questions[0].mends) - 1:
            self._apply(questions[0], questions[0].mend_all(questions[0].mends[which]), go_on=True)

    def _apply(self, question: Question, mend: Mend, *, go_on: bool = False) -> None:
        """Mend as an edit; with `go_on` the next slice to check is chosen."""
        done = question.doubts if mend.all_alike else question.doubts[:1]
        ahead = [doubt.cut_id for other in self._ahead() for doubt in other.doubts if doubt not in done]
        if self._session.store.edit(mend.words or mend.label, mend.edit) and go_on and ahead:
            document = self._session.store.document
            if document is not None and any(cut.id == ahead[0] for cut in document.cuts):
                self._choose(ahead[0])

    def _ahead(self) -> list[Question]:
        """Return the questions, those that would change most first, from the selected slice's on, and round again.

        In that one the selected slice's doubt is the first.
        """
        document, chosen = self._session.store.document, self._session.shown.selection.cut_id
        if document is None:
            return []
        there = {piece.cut.id for piece in document.slices()}
        known = list(questions_of(doubt for doubt in self._session.review.found if doubt.cut_id in there))
        for n, question in enumerate(known):
            place = next((k for k, doubt in enumerate(question.doubts) if doubt.cut_id == chosen), None)
            if place is not None:
                turned = Question(question.doubts[place:] + question.doubts[:place])
                return [turned, *known[n + 1 :], *known[:n]]
        return known

    def _row(self, question: Question, numbers: tuple[int, ...]) -> QWidget:
        made = QWidget()
        column = QVBoxLayout(made)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        top = QHBoxLayout()
        top.setSpacing(8)
        place = button(str(numbers[0]), partial(self._choose, question.first.cut_id), chip=True, tip="Go to this slice and play it")
        place.setAccessibleName(f"Slice {numbers[0]}: {question.first.reason}")
        top.addWidget(place)
        reason = label(question.reason)
        top.addWidget(reason, 1)
        column.addLayout(top)
        ways = {mend: tip(key) for mend, key in zip(question.mends, ("doubt_mend", "doubt_second"), strict=False)}
        ways[question.mends[-1]] = tip("doubt_keep")
        if len(numbers) == 1:
            column.addLayout(self._answers("", [(mend, mend.label, ways.get(mend, mend.label)) for mend in question.mends], question))
            return made
        reason.setToolTip(f"Slices {', '.join(map(str, sorted(numbers)))}")
        column.addLayout(self._answers("this one", [(mend, mend.label, ways.get(mend, mend.label)) for mend in question.mends], question))
        hints = {mend: tip(key) for mend, key in zip(question.mends, ("doubt_mend_all", "doubt_second_all"), strict=False)}
        hints[question.mends[-1]] = tip("doubt_keep_all")
        every = [(question.mend_all(mend), mend.label, hints.get(mend, mend.label)) for mend in question.mends]
        column.addLayout(self._answers(f"all {len(numbers)}", every, question))
        return made

    def _answers(self, to_what: str, mends: list[tuple[Mend, str, str]], question: Question) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        if to_what:
            said = label(to_what, "dim")
            said.setFixedWidth(ANSWER_WIDTH)
            row.addWidget(said)
        for mend, text, hint in mends:
            made = button(text[:1].upper() + text[1:], partial(self._apply, question, mend), tip=hint)
            if to_what:
                made.setAccessibleName(f"{made.text()}, {to_what}")
            row.addWidget(made)
        row.addStretch(1)
        return row

    def _choose(self, cut_id: int) -> None:
        self._session.shown.select(cut_id=cut_id)
        document = self._session.store.document
        piece = next((p for p in document.slices() if p.cut.id == cut_id), None) if document else None
        if piece is not None:
            self._playback.pads.audition(piece)
