"""Slice: check the cuts, hear and name the hits."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.playback import Playback
from bompla.app.session import Session
from bompla.app.stages.base import Stage
from bompla.app.stages.bringin import reading_choices
from bompla.app.theme import theme
from bompla.app.widgets.controls import Chips, Facts, HeadBadge, MiniWave, Panel, button, clear_layout, label
from bompla.app.widgets.cutview import CutView, nudge_samples
from bompla.groove.rebuild import PLAYED_CONFIDENCE, offered_hits
from bompla.model.cut_edits import correct_heard, delete_cuts, move_cut, rename_slice, set_left_out
from bompla.model.document import Document, Slice
from bompla.model.drums import DRUMS
from bompla.units import gain_to_db, samples_to_ms

ORIGINS = {"heard": "at an attack", "even": "where the loop starts", "hand": "by hand"}


class SliceStage(Stage):
    """The second stage."""

    key, title = "slice", "Slice"

    def __init__(self, session: Session, playback: Playback) -> None:
        super().__init__(session, playback)
        layout, left = self.columns()
        top = QHBoxLayout()
        top.addWidget(label("Tempo", "dim"))
        self.readings = Chips("Tempo readings")
        self.readings.chosen.connect(self.read_as)
        top.addWidget(self.readings)
        top.addStretch(1)
        self.offer_line = label("", "value")
        self.offer_add = button("Add to A", self.take_offers, tip="Put the hits of the new cuts into the pattern", primary=True)
        self.offer_drop = button("Not now", self.drop_offers, tip="Leave the pattern as it is")
        for widget in (self.offer_line, self.offer_add, self.offer_drop):
            top.addWidget(widget)
        left.addLayout(top)
        self.view = CutView(session)
        self.view.sliced.connect(lambda _: self._listen())
        self.view.sought.connect(playback.seek)
        left.addWidget(self.framed(self.view), 1)
        layout.addWidget(self._panel())
        self._commands()
        self.connect_all()

    def state_line(self, document: Document | None) -> str:
        """Return how many slices there are."""
        if document is None:
            return ""
        new = f" · {len(document.offers)} new" if document.offers else ""
        return f"{len(document.slices())} slices{new}"

    def chosen(self) -> Slice | None:
        """Return the selected slice."""
        document = self.session.document
        if document is None:
            return None
        return next((p for p in document.slices() if p.cut.id == self.session.selection.cut_id), None)

    def picture(self) -> QWidget:
        """Return the picture that takes the keys."""
        return self.view

    def refresh(self, document: Document) -> None:
        """Show the readings, the offer and the selected slice."""
        self.readings.offer(*reading_choices(document), tip="Read the same stretch as these bars")
        offered = len(offered_hits(document)) if document.offers else 0
        self.offer_line.setText(f"{offered} new hit" + ("" if offered == 1 else "s"))
        for widget in (self.offer_line, self.offer_add, self.offer_drop):
            widget.setVisible(offered > 0)
        piece = self.chosen()
        self.panel.setEnabled(piece is not None)
        if piece is not None:
            self._show_slice(document, piece)

    def set_playhead(self, at_sample: float) -> None:
        """Show the playhead."""
        self.view.set_playhead(at_sample)

    def _panel(self) -> QWidget:
        self.panel = Panel("Slice")
        self.panel.setFixedWidth(284)
        self.wave = MiniWave(96)
        self.panel.body.addWidget(self.wave)
        self.facts = Facts(("starts", "length", "peak", "cut"))
        self.panel.body.addWidget(self.facts)
        self.panel.body.addWidget(label("Name", "heading"))
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the slice")
        self.name.editingFinished.connect(self._rename)
        self.panel.body.addWidget(self.name)
        self.panel.body.addWidget(label("Heard as", "heading"))
        self.heard = QVBoxLayout()
        self.heard.setSpacing(5)
        self.panel.body.addLayout(self.heard)
        self.panel.body.addWidget(label("It is really", "heading"))
        self.drum = drum_box()
        self.drum.activated.connect(self._correct)
        self.panel.body.addWidget(self.drum)
        row = QHBoxLayout()
        row.addWidget(button("Listen", self._listen, tip=tip("slice_listen")))
        self.leave = button("Leave out", self._leave_out, tip=tip("slice_leave"), checkable=True)
        row.addWidget(self.leave)
        row.addWidget(button("Join", self._delete, tip=tip("slice_delete")))
        row.addStretch(1)
        self.panel.body.addLayout(row)
        self.panel.body.addStretch(1)
        self.panel.body.addWidget(label("Double click cuts, at the attack nearby.\nDrag a cut to move it, the line to find more.", "dim"))
        return self.panel

    def _commands(self) -> None:
        self.command("slice_next", lambda: self.step(1))
        self.command("slice_back", lambda: self.step(-1))
        self.command("slice_listen", self._listen)
        self.command("slice_cut", lambda: self.session.cut_at(round(self.playback.playhead_sample())))
        self.command("slice_delete", self._delete)
        self.command("slice_later", lambda: self._nudge(1.0))
        self.command("slice_earlier", lambda: self._nudge(-1.0))
        self.command("slice_rename", lambda: edit_text(self.name))
        self.command("slice_leave", self._leave_out)
        self.command("zoom_in", lambda: self.view.zoom(0.6))
        self.command("zoom_out", lambda: self.view.zoom(1.0 / 0.6))
        self.command("zoom_all", self.view.show_all)

    def step(self, by: int) -> None:
        """Go to another slice and play it."""
        document, piece = self.session.document, self.chosen()
        if document is None or not (slices := document.slices()):
            return
        index = 0 if piece is None else max(0, min(len(slices) - 1, piece.number - 1 + by))
        self.session.select(cut_id=slices[index].cut.id)
        self._listen()

    def _show_slice(self, document: Document, piece: Slice) -> None:
        cut, rate = piece.cut, document.source.sample_rate
        self.panel.heading.setText(f"Slice {piece.number} of {len(document.slices())}" + (" · left out" if cut.left_out else ""))
        lead = cut.heard[0].drum if cut.heard else "perc"
        self.wave.show_part(self.session.summary, piece.start_sample, piece.end_sample, theme().drum(lead))
        self.facts.set("starts", _position(document, cut.attack_sample))
        self.facts.set("length", f"{samples_to_ms(piece.end_sample - piece.start_sample, rate):.1f} ms")
        clip = self.session.clip
        if clip is not None:
            part = clip.samples[piece.start_sample : piece.end_sample]
            peak = max(float(part.max(initial=0.0)), -float(part.min(initial=0.0)))
            self.facts.set("peak", f"{gain_to_db(peak):.1f} dB" if peak > 0.0 else "silent")
        self.facts.set("cut", ORIGINS[cut.origin] + (", held" if cut.held else ""))
        if not self.name.hasFocus():
            self.name.setText(cut.name)
        self.name.setPlaceholderText(DRUMS[lead].label)
        self.drum.setCurrentIndex(self.drum.findData(lead))
        self.leave.setChecked(cut.left_out)
        clear_layout(self.heard)
        for index, heard in enumerate(cut.heard[:4]):
            row = QHBoxLayout()
            row.setSpacing(6)
            row.addWidget(HeadBadge(heard.drum))
            sure = heard.confidence >= PLAYED_CONFIDENCE
            place = (", underneath" if sure else ", perhaps") if index else ""
            row.addWidget(label(DRUMS[heard.drum].label + place, "value" if sure or not index else "dim"))
            row.addStretch(1)
            row.addWidget(label(f"{100 * heard.confidence:.0f} %", "dim"))
            self.heard.addLayout(row)
        if not cut.heard:
            self.heard.addWidget(label("nothing yet", "dim"))

    def _listen(self) -> None:
        piece = self.chosen()
        if piece is not None:
            self.playback.audition(piece)

    def _delete(self) -> None:
        document, piece = self.session.document, self.chosen()
        if document is None or piece is None:
            return
        if piece.number == 1:
            self.session.hub.note("The first slice begins with the loop; move the loop's start in Bring in instead.")
            return
        before = document.slices()[piece.number - 2].cut.id
        if self.session.edit("take out cut", lambda d: delete_cuts(d, [piece.cut.id])):
            self.session.select(cut_id=before)

    def _nudge(self, ms: float) -> None:
        piece = self.chosen()
        if piece is not None:
            at = piece.cut.at_sample + nudge_samples(self.session, ms)
            self.session.edit("nudge cut", lambda d: move_cut(d, piece.cut.id, at))

    def _rename(self) -> None:
        piece = self.chosen()
        if piece is not None and self.name.text().strip() != piece.cut.name:
            self.session.edit("rename slice", lambda d: rename_slice(d, piece.cut.id, self.name.text()))
        self.view.setFocus()

    def _correct(self, index: int) -> None:
        piece = self.chosen()
        drum = self.drum.itemData(index)
        if piece is not None and not (piece.cut.heard and piece.cut.heard[0].drum == drum):
            self.session.edit(f"call slice {DRUMS[drum].label.lower()}", lambda d: correct_heard(d, piece.cut.id, drum))
        self.view.setFocus()

    def _leave_out(self) -> None:
        piece = self.chosen()
        if piece is not None:
            out = not piece.cut.left_out
            self.session.edit("leave slice out" if out else "take slice in", lambda d: set_left_out(d, [piece.cut.id], out))


def edit_text(field: QLineEdit) -> None:
    """Begin to edit a text, all of it selected."""
    field.setFocus()
    field.selectAll()


def drum_box() -> QComboBox:
    """Return a box to choose a drum in."""
    box = QComboBox()
    box.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    box.setAccessibleName("Drum")
    for drum in DRUMS.values():
        box.addItem(drum.label, drum.key)
    return box


def _position(document: Document, at_sample: int) -> str:
    """Return a place as bar, beat and step, with what it is off the step by."""
    beats = document.beat_map.beat_at(at_sample)
    steps = 3 if document.loop.meter.compound else 4
    step = round(beats * steps)
    whole = document.beat_map.sample_at(step / steps)
    off_ms = samples_to_ms(at_sample - whole, document.source.sample_rate)
    bar, within = divmod(step, steps * document.loop.meter.beats_per_bar)
    return f"{bar + 1}.{within // steps + 1}.{within % steps + 1}  {off_ms:+.0f} ms"
