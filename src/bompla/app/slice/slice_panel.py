"""What is known of the selected slice, and how it is named and corrected."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit

from bompla.analysis.review.doubts import alike
from bompla.analysis.review.unsure import unsure_of
from bompla.app.commands import tip
from bompla.app.drag_out import DragHandle
from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.controls import Facts, HeadBadge, MiniWave, Panel, button, clear_layout, drum_box, label
from bompla.model.cut_edits import correct_all, lock_cuts, rename_slice, set_left_out, set_underneath
from bompla.model.document import Document, Heard, Slice
from bompla.model.drums import DRUMS
from bompla.model.wording import counted, step_and_offset
from bompla.render.levels import fade_out_ms
from bompla.render.underneath import underneath
from bompla.units import gain_to_db, samples_to_ms

ORIGINS = {"detected": "at an attack", "even": "at an even step", "hand": "by hand"}
HEARD_SHOWN = 3


class SlicePanel(Panel):
    """Shows the selected slice; what is done here is done to every selected one."""

    def __init__(
        self, session: Session, *, listen: Callable[[], object], hear: Callable[[str], object], join: Callable[[], object],
        leave_field: Callable[[], object],
    ) -> None:
        super().__init__("Slice")
        self._session, self._hear, self._leave_field = session, hear, leave_field
        self.wave = MiniWave(44)
        self.body.addWidget(self.wave)
        self.facts = Facts(("starts", "length", "cut", "end"))
        self.body.addWidget(self.facts)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the slice")
        self.name.setToolTip("A name of your own for the slice; files and pads have it too")
        self.name.editingFinished.connect(self._rename)
        named = QHBoxLayout()
        named.addWidget(self.name, 1)
        named.addWidget(DragHandle(self._session, "slice", "the slice", what=self._slice_out))
        self.body.addLayout(named)
        self.body.addWidget(label("Detected", "heading"))
        self.heard = QGridLayout()
        self.heard.setHorizontalSpacing(6)
        self.heard.setVerticalSpacing(4)
        self.heard.setColumnStretch(1, 1)
        self.body.addLayout(self.heard)
        self._correct_row()
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(button("Listen", listen, tip=tip("slice_listen")))
        self.lock = button("Lock", self.toggle_lock, tip=tip("slice_lock"), checkable=True)
        self.leave = button("Leave out", self.toggle_left_out, tip=tip("slice_leave"), checkable=True)
        row.addWidget(self.lock)
        row.addWidget(self.leave)
        row.addWidget(button("Join", join, tip=tip("slice_delete")))
        row.addStretch(1)
        self.body.addLayout(row)
        self.body.addStretch(1)

    def _slice_out(self) -> tuple[frozenset[int], Document | None]:
        cut_id = self._session.shown.selection.cut_id
        return frozenset({cut_id}) if cut_id is not None else frozenset(), None

    def _correct_row(self) -> None:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(label("Drum", "dim"))
        self.drum = drum_box()
        self.drum.activated.connect(lambda index: self.call_it(self.drum.itemData(index)))
        row.addWidget(self.drum, 3)
        self.under = drum_box("Also contains")
        self.under.insertItem(0, "also contains", "")
        self.under.setCurrentIndex(0)
        self.under.activated.connect(self._add_under)
        row.addWidget(self.under, 2)
        self.body.addLayout(row)
        self.alike = button("Select all similar", self.choose_alike, tip=tip("slice_alike"))
        self.body.addWidget(self.alike, 0, Qt.AlignmentFlag.AlignLeft)

    def chosen(self) -> Slice | None:
        """Return the selected slice."""
        document = self._session.store.document
        if document is None:
            return None
        wanted = self._session.shown.selection.cut_id
        return next((p for p in document.slices() if p.cut.id == wanted), None)

    def chosen_ids(self) -> tuple[int, ...]:
        """Return the ids of all selected cuts that are still there."""
        document = self._session.store.document
        known = {cut.id for cut in document.cuts} if document else set()
        return tuple(i for i in self._session.shown.selection.cut_ids if i in known)

    def refresh(self, document: Document) -> None:
        """Show the selected slice."""
        piece = self.chosen()
        self.setEnabled(piece is not None)
        if piece is None:
            return
        cut = piece.cut
        count, more = len(document.slices()), len(self.chosen_ids()) - 1
        rest = (f", and {more} more" if more else "") + (" · left out" if cut.left_out else "")
        self.heading.setText(f"Slice {piece.number} of {count}{rest}")
        lead = cut.heard[0].drum if cut.heard else "perc"
        self.wave.show_part(self._session.project.summary, piece.start_sample, piece.end_sample, theme().drum(lead))
        self._show_facts(document, piece)
        if not self.name.hasFocus():
            self.name.setText(cut.name)
        self.name.setPlaceholderText(DRUMS[lead].label)
        self.drum.setCurrentIndex(self.drum.findData(lead))
        self.leave.setChecked(cut.left_out)
        self.lock.setChecked(cut.locked)
        same = len(alike(document, cut.id))
        self.alike.setText(f"Select all {same} similar" if same > 1 else "No similar slices")
        self.alike.setEnabled(same > 1)
        self._show_heard(piece)

    def _show_facts(self, document: Document, piece: Slice) -> None:
        cut, rate, clip = piece.cut, document.source.sample_rate, self._session.project.clip
        self.facts.set("starts", step_and_offset(document, cut.attack_sample))
        length = f"{samples_to_ms(piece.end_sample - piece.start_sample, rate):.1f} ms"
        moved = cut.origin == "detected" and all(a.cut_sample != cut.at_sample for a in document.attacks)
        self.facts.set("cut", ("moved by hand" if moved and piece.number > 1 else ORIGINS[cut.origin]) + (", locked" if cut.locked else ""))
        if clip is not None:
            part = clip.samples[piece.start_sample : piece.end_sample]
            peak = max(float(part.max(initial=0.0)), -float(part.min(initial=0.0)))
            length += f", peak {gain_to_db(peak):.1f} dB" if peak > 0.0 else ", silent"
            fade_ms = fade_out_ms(clip, piece.start_sample, piece.end_sample)
            self.facts.set("end", f"fades out over {fade_ms:.0f} ms" if fade_ms else "clean, no fade needed")
        self.facts.set("length", length)

    def _show_heard(self, piece: Slice) -> None:
        """Show the drums that are likeliest, and the one that is in doubt."""
        clear_layout(self.heard)
        unsure = unsure_of(piece.cut)
        for index, heard in enumerate(piece.cut.heard):
            if index < HEARD_SHOWN or (unsure and heard.drum == unsure.drum):
                self._show_drum(piece, index, heard)
        if not piece.cut.heard:
            self.heard.addWidget(label("nothing yet", "dim"), 0, 0, 1, -1)

    def _show_drum(self, piece: Slice, index: int, heard: Heard) -> None:
        grid = self.heard
        grid.addWidget(HeadBadge(heard.drum), index, 0)
        sure, name = heard.sure, DRUMS[heard.drum].label.lower()
        words = DRUMS[heard.drum].label if not index else f"with {name}" if sure else f"maybe {name}"
        grid.addWidget(label(words, "value" if sure or not index else "dim"), index, 1)
        grid.addWidget(label(f"{100 * heard.confidence:.0f} %", "dim"), index, 2, Qt.AlignmentFlag.AlignRight)
        if underneath(piece.cut, heard.drum):
            tip = f"Play the {name} without what sounds with it"
            grid.addWidget(button("play", partial(self._hear, heard.drum), tip=tip, name=f"Play the {name} alone", small=True), index, 3)
        if index:
            tip = f"No {name} sounds under it" if sure else f"{name.capitalize()} sounds under it"
            words, answer = f"{'No' if sure else 'Yes,'} {name} underneath", partial(self._set_under, heard.drum, not sure)
            grid.addWidget(button("remove" if sure else "add", answer, tip=tip, name=words, small=True), index, 4)

    def call_it(self, drum: str) -> None:
        """Say which drum leads in all selected slices."""
        piece, ids = self.chosen(), self.chosen_ids()
        if piece is not None and drum and (len(ids) > 1 or not (piece.cut.heard and piece.cut.heard[0].drum == drum)):
            where = f" in {counted(len(ids), 'slice')}" if len(ids) > 1 else ""
            self._session.store.edit(f"set drum to {DRUMS[drum].label.lower()}{where}", lambda d: correct_all(d, ids, drum))
        self._leave_field()

    def _add_under(self, index: int) -> None:
        drum = self.under.itemData(index)
        self.under.setCurrentIndex(0)
        if drum:
            self._set_under(drum, True)
        self._leave_field()

    def _set_under(self, drum: str, sounds: bool) -> None:
        piece = self.chosen()
        if piece is not None:
            words = f"{'add' if sounds else 'remove'} {DRUMS[drum].label.lower()} underneath"
            self._session.store.edit(words, lambda d: set_underneath(d, piece.cut.id, drum, sounds))

    def choose_alike(self) -> None:
        """Select all slices that sound like this one."""
        document, piece = self._session.store.document, self.chosen()
        if document is not None and piece is not None:
            self._session.shown.select(cut_id=piece.cut.id, more_cuts=frozenset(alike(document, piece.cut.id)))

    def toggle_lock(self) -> None:
        """Lock the selected cuts, or unlock them."""
        piece, ids = self.chosen(), self.chosen_ids()
        if piece is not None:
            locked = not piece.cut.locked
            self._session.store.edit("lock cut" if locked else "unlock cut", lambda d: lock_cuts(d, ids, locked))

    def toggle_left_out(self) -> None:
        """Leave the selected slices out, or take them in."""
        piece, ids = self.chosen(), self.chosen_ids()
        if piece is not None:
            out = not piece.cut.left_out
            self._session.store.edit("leave slice out" if out else "put slice back", lambda d: set_left_out(d, ids, out))

    def _rename(self) -> None:
        piece = self.chosen()
        if piece is not None and self.name.text().strip() != piece.cut.name:
            self._session.store.edit("rename slice", lambda d: rename_slice(d, piece.cut.id, self.name.text()))
        self._leave_field()
