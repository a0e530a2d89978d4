"""The slices to check, each with its reason and its mends."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial, reduce

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from bompla.analysis.review.doubts import KINDS, Doubt
from bompla.app.commands import tip
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Panel, button, clear_layout, label
from bompla.model.document import Document
from bompla.model.wording import counted

SHOWN, MOST_ROWS = 2, 40
"""How many doubts are seen at once, and how many the list holds; it scrolls."""


class DoubtPanel(Panel):
    """Lists the doubts from the selected slice on; a mend is an edit, and the next doubt comes up."""

    def __init__(self, session: Session, playback: Playback) -> None:
        super().__init__("Nothing to check")
        self._session, self._playback = session, playback
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
        session.project.opened.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the doubt of the selected slice and those after it."""
        doubts = self._session.review.found
        count = len(doubts)
        self.heading.setText(f"{counted(count, 'slice')} to check" if count else "Nothing to check")
        rows = self._grouped(self._ahead())[:MOST_ROWS]
        self._area.setVisible(bool(rows))
        self._area.setFixedHeight(66 * min(SHOWN, len(rows)))
        clipped = self._session.review.clipped
        self.file_line.setVisible(clipped > 0)
        self.file_line.setText(f"The recording itself is clipped, in {counted(clipped, 'slice')}." if clipped else "")
        clear_layout(self._rows)
        document = self._session.store.document
        numbers = {piece.cut.id: piece.number for piece in document.slices()} if document else {}
        for same in rows:
            self._rows.addWidget(self._row(same[0], [numbers.get(doubt.cut_id, 0) for doubt in same]))
        self._rows.addStretch(1)

    def _grouped(self, doubts: list[Doubt]) -> list[list[Doubt]]:
        """Return doubts with those that are alike together, where they are in the first one's place."""
        groups: dict[object, list[Doubt]] = {}
        for doubt in doubts:
            groups.setdefault(doubt.alike if doubt.kind == "unsure" else doubt.cut_id, []).append(doubt)
        return list(groups.values())

    def go_next(self) -> None:
        """Choose and play the next slice to check, after the selected one."""
        ahead = self._ahead()
        if ahead and ahead[0].cut_id == self._session.shown.selection.cut_id:
            ahead = ahead[1:] or ahead
        if ahead:
            self._choose(ahead[0].cut_id)

    def mend(self, which: int) -> None:
        """Mend the first doubt shown in its first or second way, or with -1 keep it; then go to the next."""
        ahead = self._ahead()
        if not ahead:
            return
        doubt = ahead[0]
        if which >= len(doubt.mends) - 1:
            return
        mend = doubt.mends[which]
        done = [other for other in ahead if other is doubt or (mend.all_alike and other.alike == doubt.alike)]
        following = next((other.cut_id for other in ahead if other not in done), 0)
        self._apply(doubt, which, following)

    def keep_alike(self) -> None:
        """Keep the first doubt shown and all that are like it, in one step; then go to the next of another kind."""
        ahead = self._ahead()
        if not ahead:
            return
        kept = [doubt for doubt in ahead if doubt.alike == ahead[0].alike]
        rest = [doubt for doubt in ahead if doubt not in kept]
        every = [doubt.mends[-1].edit for doubt in kept]
        words = "keep" if len(kept) == 1 else f"keep {counted(len(kept), 'slice')}"
        self._edit(words, lambda document: reduce(lambda changed, edit: edit(changed), every, document), rest[0].cut_id if rest else 0)

    def _apply(self, doubt: Doubt, which: int, following: int) -> None:
        mend = doubt.mends[which]
        self._edit(mend.words or mend.label, mend.edit, following)

    def _edit(self, words: str, edit: Callable[[Document], Document], following: int) -> None:
        if self._session.store.edit(words, edit) and following:
            document = self._session.store.document
            if document is not None and any(cut.id == following for cut in document.cuts):
                self._choose(following)

    def _ahead(self) -> list[Doubt]:
        """Return the doubts, those that would change most first, from that of the selected slice on, and round again."""
        document = self._session.store.document
        if document is None:
            return []
        order = {piece.cut.id: piece.number for piece in document.slices()}
        known = sorted((doubt for doubt in self._session.review.found if doubt.cut_id in order),
                       key=lambda doubt: (KINDS.index(doubt.kind), order[doubt.cut_id]))
        here = next((n for n, doubt in enumerate(known) if doubt.cut_id == self._session.shown.selection.cut_id), 0)
        return known[here:] + known[:here]

    def _row(self, doubt: Doubt, numbers: list[int]) -> QWidget:
        number = numbers[0]
        made = QWidget()
        column = QVBoxLayout(made)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        top = QHBoxLayout()
        top.setSpacing(8)
        place = button(str(number), partial(self._choose, doubt.cut_id), chip=True, tip="Go to this slice and play it")
        place.setAccessibleName(f"Slice {number}: {doubt.reason}")
        top.addWidget(place)
        more = f"  ·  all {len(numbers)} alike" if len(numbers) > 1 else ""
        reason = label(f"{doubt.reason}{more}")
        reason.setToolTip(f"Slices {', '.join(map(str, numbers))}" if more else "")
        top.addWidget(reason, 1)
        column.addLayout(top)
        row = QHBoxLayout()
        row.setSpacing(6)
        keys = [tip("doubt_mend"), tip("doubt_second")]
        for index, mend in enumerate(doubt.mends):
            text = mend.label[:1].upper() + mend.label[1:]
            last = index == len(doubt.mends) - 1
            hint = f"{tip('doubt_keep')}\n{tip('doubt_keep_all')}" if last else keys[index] if index < len(keys) else mend.label
            row.addWidget(button(text, partial(self._apply, doubt, index, 0), tip=hint))
        row.addStretch(1)
        column.addLayout(row)
        return made

    def _choose(self, cut_id: int) -> None:
        self._session.shown.select(cut_id=cut_id)
        document = self._session.store.document
        piece = next((p for p in document.slices() if p.cut.id == cut_id), None) if document else None
        if piece is not None:
            self._playback.pads.audition(piece)
