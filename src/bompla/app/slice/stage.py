"""Slice: check the cuts, hear and name the hits."""

from __future__ import annotations

from functools import partial

from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from bompla.analysis.review.unsure import unsure_of
from bompla.app.project.session import Session
from bompla.app.slice.cut_view import CutView, nudge_samples
from bompla.app.slice.cutting_bar import CuttingBar
from bompla.app.slice.doubt_panel import DoubtPanel
from bompla.app.slice.slice_panel import SlicePanel
from bompla.app.sound.playback import Playback
from bompla.app.stage import OFFER_TIP, Stage, WindowActions
from bompla.app.theme import theme
from bompla.app.time_scroll import TimeScroll
from bompla.app.ui.controls import button, edit_text, label, scrolling
from bompla.app.ui.raster import wave_pixmap
from bompla.groove.rebuild import offer_in_words
from bompla.model.cut_edits import delete_cuts, nudge_cuts, place_between
from bompla.model.document import PADS_PER_PAGE, Cut, Document, Slice
from bompla.model.drums import DRUMS
from bompla.model.wording import counted
from bompla.units import ms_to_samples

AROUND_MS = 150.0


class SliceStage(Stage):
    """The second stage."""

    key = "slice"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        layout, left = self.columns()
        self.view = CutView(session)
        self.view.sliced.connect(lambda _: self._listen())
        self.view.sought.connect(playback.transport.seek)
        self.bar = CuttingBar(session, self.view)
        left.addWidget(self.bar)
        left.addLayout(self._offer_row())
        left.addWidget(self.framed(self.view), 1)
        self.whole = TimeScroll(self.view, self._small)
        session.store.document_changed.connect(self.whole.redraw)
        theme().changed.connect(self.whole.redraw)
        left.addWidget(self.whole)
        column = QVBoxLayout()
        column.setSpacing(9)
        self.doubts = DoubtPanel(session, playback)
        self.panel = SlicePanel(session, listen=self._listen, hear=self._listen_drum, join=self._delete, leave_field=self.view.setFocus)
        self.doubts.setFixedWidth(284)
        column.addWidget(self.doubts)
        area = scrolling(self.panel)
        area.setFixedWidth(284)
        column.addWidget(area, 1)
        column.addLayout(self._ways_to_listen())
        layout.addLayout(column)
        self._commands()
        self.connect_all()
        session.review.changed.connect(lambda: self._refresh(session.store.document))

    def _small(self, width: int, height: int, ratio: float) -> QPixmap | None:
        """Return the loop's waveform in small."""
        document, summary = self.session.store.document, self.session.project.summary
        if document is None or summary is None:
            return None
        loop, gain = document.loop, summary.gain
        colour = theme().colour("paper", 0.75)
        return wave_pixmap(summary, loop.start_sample, loop.end_sample, width, height, colour, ratio=ratio, gain=gain)

    def _offer_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.offer_line = label("", "value")
        self.offer_add = button("Add to A", self.take_offers, tip=OFFER_TIP, primary=True)
        self.offer_drop = button("Not now", self.drop_offers, tip="Leave the pattern as it is")
        for widget in (self.offer_line, self.offer_add, self.offer_drop):
            row.addWidget(widget)
        row.addStretch(1)
        return row

    def _ways_to_listen(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.keys_play = button("keys play slices", lambda: None, chip=True, checkable=True,
                                tip="The pad keys play the sixteen slices around the selected one")
        self.singles = button("single hits only", self._dim, chip=True, checkable=True,
                              tip="Left and Right step through slices with a single drum; others are dimmed")
        row.addWidget(self.keys_play)
        row.addWidget(self.singles)
        row.addStretch(1)
        return row

    def state_line(self, document: Document | None) -> str:
        """Return how many slices there are, and how much there is to check; what is alike counts once."""
        if document is None:
            return ""
        count, questions = len(document.slices()), len(self.session.review.questions)
        if questions:
            return f"{count} · {questions} to check"
        offered, _ = offer_in_words(document)
        return f"{count} · {offered}" if offered else counted(count, "slice")

    def needs_you(self) -> bool:
        """Whether there are slices to check."""
        return bool(self.session.review.found)

    def chosen(self) -> Slice | None:
        """Return the selected slice."""
        return self.panel.chosen()

    def picture(self) -> CutView:
        """Return the picture that takes the keys."""
        return self.view

    def refresh(self, document: Document) -> None:
        """Show how it is cut, the offer and the selected slice."""
        self.bar.refresh(document)
        offered, take = offer_in_words(document)
        self.offer_line.setText(offered)
        self.offer_add.setText(take)
        for widget in (self.offer_line, self.offer_add, self.offer_drop):
            widget.setVisible(bool(offered))
        self.panel.refresh(document)
        self._dim()

    def set_playhead(self, at_sample: float) -> None:
        """Show the playhead."""
        self.view.set_playhead(at_sample)

    def strike_key(self, slot: int) -> bool:
        """Play a slice for the key of a pad, where the keys play slices; False where they do not."""
        document, piece = self.session.store.document, self.chosen()
        if not self.keys_play.isChecked() or document is None:
            return False
        slices = document.slices()
        first = 0 if piece is None else (piece.number - 1) // PADS_PER_PAGE * PADS_PER_PAGE
        if first + slot < len(slices):
            chosen = slices[first + slot]
            self.session.shown.select(cut_id=chosen.cut.id)
            self.playback.pads.audition(chosen)
        return True

    def _commands(self) -> None:
        for key, action in {
            "slice_next": lambda: self.step(1), "slice_back": lambda: self.step(-1), "slice_listen": self._listen,
            "slice_drum": self._listen_drum, "slice_follow": self._listen_on, "slice_around": self._listen_around,
            "slice_cut": lambda: self.session.requests.cut_at(round(self.playback.transport.playhead_sample())),
            "slice_between": self._cut_between,
            "slice_delete": self._delete, "slice_lock": self.panel.toggle_lock, "slice_leave": self.panel.toggle_left_out,
            "slice_later": lambda: self._nudge(nudge_samples(self.session, 1.0)),
            "slice_earlier": lambda: self._nudge(-nudge_samples(self.session, 1.0)),
            "slice_sample_later": lambda: self._nudge(1), "slice_sample_earlier": lambda: self._nudge(-1),
            "slice_all": self._choose_all, "slice_alike": self.panel.choose_alike, "slice_rename": lambda: edit_text(self.panel.name),
            "doubt_next": self.doubts.go_next, "doubt_mend": lambda: self.doubts.mend(0), "doubt_second": lambda: self.doubts.mend(1),
            "doubt_mend_all": lambda: self.doubts.mend_alike(0), "doubt_second_all": lambda: self.doubts.mend_alike(1),
            "doubt_keep": lambda: self.doubts.mend(-1), "doubt_keep_all": lambda: self.doubts.mend_alike(-1),
        }.items():
            self.command(key, action)
        for drum in DRUMS:
            self.command(f"call_{drum}", partial(self.panel.call_it, drum))

    def step(self, by: int) -> None:
        """Go to another slice and play it."""
        document, piece = self.session.store.document, self.chosen()
        if document is None or not (slices := document.slices()):
            return
        last = len(slices) - 1
        index = 0 if piece is None else max(0, min(last, piece.number - 1 + by))
        while self.singles.isChecked() and not _single(slices[index].cut) and 0 < index < last:
            index += by
        self.session.shown.select(cut_id=slices[index].cut.id)
        self._listen()

    def _dim(self) -> None:
        document = self.session.store.document
        dimmed = frozenset[int]()
        if self.singles.isChecked() and document is not None:
            dimmed = frozenset(cut.id for cut in document.cuts if not _single(cut))
        self.view.set_dimmed(dimmed)

    def _listen(self) -> None:
        piece = self.chosen()
        if piece is not None:
            self.playback.pads.audition(piece)

    def _listen_drum(self, drum: str = "") -> None:
        """Play one drum of the slice without what sounds with it: the one named, else the one in doubt, else the one that leads."""
        document, piece, clip = self.session.store.document, self.chosen(), self.session.project.clip
        if document is None or piece is None or clip is None or not piece.cut.heard:
            return
        wanted = drum or (unsure_of(piece.cut) or piece.cut.heard[0]).drum
        self.playback.previews.play_drum(document, clip, piece, wanted)

    def _listen_on(self) -> None:
        """Play the slice and a bar of what follows."""
        document, piece = self.session.store.document, self.chosen()
        if document is not None and piece is not None:
            self.playback.pads.audition_span(piece.start_sample, piece.start_sample + document.loop.bar_frames)

    def _listen_around(self) -> None:
        document, piece = self.session.store.document, self.chosen()
        if document is not None and piece is not None:
            reach = ms_to_samples(AROUND_MS, document.source.sample_rate)
            self.playback.pads.audition_span(piece.start_sample - reach, piece.start_sample + reach)

    def _choose_all(self) -> None:
        document, piece = self.session.store.document, self.chosen()
        if document is not None and piece is not None:
            self.session.shown.select(cut_id=piece.cut.id, more_cuts=frozenset(s.cut.id for s in document.slices()))

    def _cut_between(self) -> None:
        """Cut the slice at its strongest inner attack, or in the middle where it has none."""
        document, piece = self.session.store.document, self.chosen()
        if document is not None and piece is not None:
            at_sample, at_attack = place_between(document, piece)
            self.session.requests.cut_at(at_sample, snap=at_attack)

    def _delete(self) -> None:
        document, piece = self.session.store.document, self.chosen()
        if document is None or piece is None:
            return
        slices = document.slices()
        ids = [i for i in self.panel.chosen_ids() if i != slices[0].cut.id]
        if not ids:
            self.session.hub.note("The first slice starts with the loop; move the loop's start in Bring in instead.")
            return
        before = next(s.cut.id for s in reversed(slices[: piece.number]) if s.cut.id not in ids)
        words = f"join {len(ids)} slices to those before" if len(ids) > 1 else "join slices"
        if self.session.store.edit(words, lambda d: delete_cuts(d, ids)):
            self.session.shown.select(cut_id=before)

    def _nudge(self, by_samples: int) -> None:
        ids = self.panel.chosen_ids()
        if ids:
            self.session.store.edit("nudge cut", lambda d: nudge_cuts(d, ids, by_samples))


def _single(cut: Cut) -> bool:
    """Whether a slice holds one drum with nothing underneath."""
    return sum(h.sure for h in cut.heard) == 1
