"""Groove: the pattern under the original sound, to be corrected by hand."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.playback import Playback
from bompla.app.session import Session
from bompla.app.stages.base import Stage
from bompla.app.widgets.controls import Chips, Facts, Panel, button, label
from bompla.app.widgets.lanes import GRIDS, LaneView
from bompla.groove.grid import beat_divisions, offset_beats
from bompla.groove.rebuild import offered_hits
from bompla.model.document import Document, Hit
from bompla.model.pattern_edits import (
    change_velocity,
    delete_hits,
    move_hits,
    quantise_hits,
)

VELOCITY_STEP = 4


class GrooveStage(Stage):
    """The fourth stage."""

    key, title = "groove", "Groove"

    def __init__(self, session: Session, playback: Playback) -> None:
        super().__init__(session, playback)
        layout, left = self.columns()
        top = QHBoxLayout()
        top.addWidget(label("Grid", "dim"))
        self.grids = Chips("Grid")
        self.grids.offer(list(GRIDS), 0.0, tip="The steps that hits are drawn on and dragged by; heard takes each beat's own")
        self.grids.chosen.connect(self._set_grid)
        top.addWidget(self.grids)
        top.addStretch(1)
        left.addLayout(top)
        self.lanes = LaneView(session)
        self.lanes.struck.connect(playback.strike)
        self.lanes.sought.connect(self._seek)
        left.addWidget(self.framed(self.lanes), 1)
        layout.addWidget(self._panel())
        self._commands()
        self.connect_all()

    def state_line(self, document: Document | None) -> str:
        """Return how many hits the pattern has."""
        if document is None:
            return ""
        count = sum(0.0 <= hit.at_beats < document.loop.beats for hit in document.pattern.hits)
        return f"{document.pattern.letter} · {count} hits"

    def picture(self) -> QWidget:
        """Return the picture that takes the keys."""
        return self.lanes

    def refresh(self, document: Document) -> None:
        """Show the pattern's facts and what is selected."""
        inside = [hit for hit in document.pattern.hits if 0.0 <= hit.at_beats < document.loop.beats]
        self.facts.set("hits", str(len(inside)))
        self.facts.set("bars", f"{document.loop.bars} in {document.loop.meter_name}")
        divisions = beat_divisions([h.at_beats for h in inside], document.loop.beats, compound=document.loop.meter.compound)
        thirds = int((divisions == 3).sum())
        self.facts.set("grid", "in three" if thirds == len(divisions) else "straight" if not thirds else f"{thirds} beats in three")
        offered = len(offered_hits(document)) if document.offers else 0
        self.offer_panel.setVisible(offered > 0)
        self.offer_panel.heading.setText(f"New cuts hold {offered} hit" + ("" if offered == 1 else "s"))
        self._show_selected(document, self._chosen(document))

    def set_playhead(self, at_sample: float) -> None:
        """Show the playhead."""
        self.lanes.set_playhead(at_sample)

    def _panel(self) -> QWidget:
        side = QWidget()
        side.setFixedWidth(232)
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(10)
        pattern = Panel("Pattern A · as heard")
        self.facts = Facts(("hits", "bars", "grid"))
        pattern.body.addWidget(self.facts)
        column.addWidget(pattern)
        self.offer_panel = Panel("New cuts")
        row = QHBoxLayout()
        row.addWidget(button("Add to A", self.take_offers, tip="Put the hits of the new cuts into the pattern", primary=True))
        row.addWidget(button("Not now", self.drop_offers, tip="Leave the pattern as it is"))
        row.addStretch(1)
        self.offer_panel.body.addLayout(row)
        column.addWidget(self.offer_panel)
        self.selected = Panel("Nothing selected")
        self.selected_facts = Facts(("pad", "at", "velocity", "off the grid"))
        self.selected.body.addWidget(self.selected_facts)
        row = QHBoxLayout()
        row.addWidget(button("Onto the grid", self._quantise, tip=tip("hit_grid")))
        row.addWidget(button("Take out", self._delete, tip=tip("hit_delete")))
        row.addStretch(1)
        self.selected.body.addLayout(row)
        column.addWidget(self.selected)
        column.addStretch(1)
        column.addWidget(label("Click in a lane to draw a hit.\nDrag a pin along to move it,\nup and down for its velocity.", "dim"))
        return side

    def _commands(self) -> None:
        self.command("hit_delete", self._delete)
        self.command("hit_all", self._select_all)
        self.command("hit_louder", lambda: self._velocity(VELOCITY_STEP))
        self.command("hit_softer", lambda: self._velocity(-VELOCITY_STEP))
        self.command("hit_later", lambda: self._move_steps(1))
        self.command("hit_earlier", lambda: self._move_steps(-1))
        self.command("hit_behind", lambda: self._move_ms(1.0))
        self.command("hit_ahead", lambda: self._move_ms(-1.0))
        self.command("hit_grid", self._quantise)

    def _chosen(self, document: Document) -> list[Hit]:
        ids = self.session.selection.hit_ids
        return [hit for hit in document.pattern.hits if hit.id in ids]

    def _show_selected(self, document: Document, hits: list[Hit]) -> None:
        self.selected.setEnabled(bool(hits))
        count = {0: "Nothing selected", 1: "1 hit selected"}.get(len(hits), f"{len(hits)} hits selected")
        self.selected.heading.setText(count)
        if not hits:
            for name in ("pad", "at", "velocity", "off the grid"):
                self.selected_facts.set(name, "–")
            return
        names = sorted({document.pad(hit.pad_id).name for hit in hits})
        self.selected_facts.set("pad", ", ".join(names) if len(names) < 3 else f"{len(names)} pads")
        beats = document.loop.meter.beats_per_bar
        first = hits[0].at_beats
        place = f"{int(first // beats) + 1}.{first % beats + 1:.2f}"
        self.selected_facts.set("at", place if len(hits) == 1 else f"from {place}")
        self.selected_facts.set("velocity", _span([hit.velocity for hit in hits]))
        divisions = beat_divisions([h.at_beats for h in document.pattern.hits], document.loop.beats,
                                   compound=document.loop.meter.compound)
        beat_ms = 60_000.0 / document.bpm
        self.selected_facts.set("off the grid", _span([round(offset_beats(h, divisions) * beat_ms) for h in hits], signed=True) + " ms")

    def _set_grid(self, beats: object) -> None:
        self.lanes.grid_beats = float(str(beats))
        self.lanes.redraw()
        self.lanes.setFocus()

    def _seek(self, beat: float) -> None:
        document = self.session.document
        if document is not None:
            self.playback.seek(float(document.beat_map.samples_at(beat)))

    def _ids(self) -> frozenset[int]:
        return self.session.selection.hit_ids

    def _delete(self) -> None:
        ids = self._ids()
        if ids and self.session.edit(_named("take out", ids), lambda d: delete_hits(d, ids)):
            self.session.select(hit_ids=frozenset())

    def _select_all(self) -> None:
        document = self.session.document
        if document is not None:
            self.session.select(hit_ids=frozenset(hit.id for hit in document.pattern.hits))

    def _velocity(self, by: int) -> None:
        ids = self._ids()
        if ids:
            self.session.edit(_named("set velocity of", ids), lambda d: change_velocity(d, ids, by))

    def _move_steps(self, steps: int) -> None:
        document, ids = self.session.document, self._ids()
        if document is not None and ids:
            step = self.lanes.step_at(self._chosen(document)[0].at_beats)
            self.session.edit(_named("move", ids), lambda d: move_hits(d, ids, steps * step))

    def _move_ms(self, ms: float) -> None:
        document, ids = self.session.document, self._ids()
        if document is not None and ids:
            by = ms * document.bpm / 60_000.0
            self.session.edit(_named("nudge", ids), lambda d: move_hits(d, ids, by))

    def _quantise(self) -> None:
        document, hits = self.session.document, []
        if document is not None:
            hits = self._chosen(document)
        if hits:
            steps = {hit.id: self.lanes.step_at(hit.at_beats) for hit in hits}

            def change(changed: Document) -> Document:
                for step in sorted(set(steps.values())):
                    changed = quantise_hits(changed, [hit for hit, own in steps.items() if own == step], step)
                return changed

            self.session.edit(_named("quantise", frozenset(steps)), change)


def _span(values: list[int], *, signed: bool = False) -> str:
    low, high = min(values), max(values)
    form = "{:+d}" if signed else "{}"
    return form.format(low) if low == high else f"{form.format(low)} to {form.format(high)}"


def _named(verb: str, hits: frozenset[int]) -> str:
    return f"{verb} hit" if len(hits) == 1 else f"{verb} {len(hits)} hits"
