"""What is known of the selected hits, how to choose more of them, and what can be done with them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLabel, QMenu

from bompla.app.commands import BY_KEY, tip
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Panel, button, label
from bompla.app.ui.number_box import NumberBox
from bompla.app.ui.value_bar import ValueBar
from bompla.groove.grid import offset_beats
from bompla.model.detected_pattern import pattern_meter, pattern_of
from bompla.model.document import Document, Hit
from bompla.model.pattern_edits import change_velocity, delete_hits, move_hits
from bompla.model.phrase_edits import (
    AMOUNT,
    LEAST_GAIN_DB,
    MOST_GAIN_DB,
    Beats,
    at_double_time,
    at_half_time,
    bars_around,
    by_loudness,
    copied,
    in_stretch,
    merged,
    pasted,
    quantised_by,
    repeated_to_end,
    reversed_in,
    rotated,
    same_step,
    set_values,
    thinned,
    with_empty_bars,
    without_bars,
)
from bompla.model.wording import bar_and_beat, counted, of_hits

VELOCITY_STEP = 4
TYPED = (("velocity", 1, 127, 0, ""), ("offset", -500.0, 500.0, 1, " ms"), ("length", 0.0, 64.0, 2, " beats"),
         ("pitch", -24.0, 24.0, 1, " st"), ("chance", 0, 100, 0, " %"), ("gain", LEAST_GAIN_DB, MOST_GAIN_DB, 1, " dB"))
"""What can be typed of hits: its key, range, decimals and unit."""

OverBeats = Callable[[Document, Beats, Iterable[int] | None], Document]


class SelectionPanel(Panel):
    """Shows the selected hits, and does to them what is asked for; `amount_changed` carries how far they are quantised."""

    amount_changed = pyqtSignal(float)

    def __init__(self, session: Session, playback: Playback, *, cursor: Callable[[int, int], object],
                 lanes: Callable[[], list[int]]) -> None:
        """Lay the panel out; `cursor` moves that of the keys by steps and lanes, `lanes` returns the pads of the lanes from the top."""
        super().__init__("Nothing selected")
        self._cursor, self._lanes = cursor, lanes
        self._session, self._playback = session, playback
        self._clip: tuple[Hit, ...] = ()
        self.where = label("", "dim")
        self.where.setWordWrap(True)
        self.body.addWidget(self.where)
        self.values: dict[str, NumberBox] = {}
        self.spans: dict[str, QLabel] = {}
        self.body.addLayout(self._typed())
        self.amount = ValueBar(AMOUNT)
        self.amount.moved.connect(self._preview_grid)
        self.amount.dropped.connect(self._session.store.drop_preview)
        self.amount.chosen.connect(self._onto_grid)
        self.amount.chosen.connect(self.amount_changed)
        self.body.addWidget(self.amount)
        self.body.addWidget(label("Select", "heading"))
        self.body.addLayout(_buttons((
            ("lane", "choose_lane", self.choose_lane), ("bar", "choose_bar", self.choose_bar),
            ("same step", "choose_step", self.choose_step),
            ("softer", "choose_softer", partial(self.choose_loudness, True)),
            ("louder", "choose_louder", partial(self.choose_loudness, False)), ("all", "hit_all", self.select_all)), chip=True))
        self.body.addWidget(label("Change", "heading"))
        self.body.addLayout(_buttons((
            ("Copy", "hit_copy", self.copy), ("Paste", "hit_paste", self.paste), ("Duplicate", "hit_again", self.again),
            ("Repeat", "hit_repeat", self.repeat), ("Reverse", "hit_reverse", partial(self._in_stretch, "reverse", _reverse)),
            ("Rotate", "hit_rotate", partial(self._in_stretch, "rotate", rotated)),
            ("Half", "hit_half", partial(self._in_stretch, "half time", at_half_time)),
            ("Double", "hit_double", partial(self._in_stretch, "double time", at_double_time)), ("Delete", "hit_delete", self.delete))))
        self.change = button("More", lambda: None, tip="Cut, thin out, merge, delete or insert bars")
        self.change.setMenu(self._change_menu())
        self.body.addWidget(self.change, 0, Qt.AlignmentFlag.AlignLeft)

    def _typed(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(5)
        grid.setColumnStretch(2, 1)
        for row, (key, low, high, decimals, unit) in enumerate(TYPED):
            box = NumberBox(f"{key.capitalize()} of the selected hits", low, high, decimals=decimals, unit=unit, width=92)
            box.typed.connect(partial(self._type, key))
            name, span = label(key, "dim"), label("", "dim")
            name.setBuddy(box)
            for column, widget in enumerate((name, box, span)):
                grid.addWidget(widget, row, column)
            self.values[key], self.spans[key] = box, span
        return grid

    @property
    def velocity(self) -> NumberBox:
        """The box of the velocity."""
        return self.values["velocity"]

    @property
    def offset(self) -> NumberBox:
        """The box of the offset from the grid."""
        return self.values["offset"]

    def commands(self, add: Callable[[str, Callable[[], object]], object]) -> None:
        """Make the commands of the table work."""
        acts: dict[str, Callable[[], object]] = {
            "hit_delete": self.delete, "hit_all": self.select_all, "hit_grid": self.quantise,
            "hit_louder": partial(self._velocity_by, VELOCITY_STEP), "hit_softer": partial(self._velocity_by, -VELOCITY_STEP),
            "hit_later": partial(self._move_steps, 1), "hit_earlier": partial(self._move_steps, -1),
            "hit_up": partial(self.move_lane, -1), "hit_down": partial(self.move_lane, 1),
            "hit_behind": partial(self._move_ms, 1.0), "hit_ahead": partial(self._move_ms, -1.0),
            "hit_copy": self.copy, "hit_cut": self.cut, "hit_paste": self.paste, "hit_again": self.again,
            "hit_repeat": self.repeat, "hit_reverse": partial(self._in_stretch, "reverse", _reverse),
            "hit_rotate": partial(self._in_stretch, "rotate", rotated),
            "hit_half": partial(self._in_stretch, "half time", at_half_time),
            "hit_double": partial(self._in_stretch, "double time", at_double_time),
            "choose_step": self.choose_step, "choose_bar": self.choose_bar, "choose_lane": self.choose_lane,
            "choose_softer": partial(self.choose_loudness, True), "choose_louder": partial(self.choose_loudness, False),
        }
        for key, act in acts.items():
            add(key, act)

    def chosen(self) -> list[Hit]:
        """Return the selected hits."""
        document, ids = self._session.store.document, self._session.shown.selection.hit_ids
        return [hit for hit in pattern_of(document).hits if hit.id in ids] if document is not None else []

    def refresh(self, document: Document) -> None:
        """Show what is selected."""
        hits = self.chosen()
        for box in (*self.values.values(), self.amount):
            box.setEnabled(bool(hits))
        if not hits:
            self.heading.setText("Nothing selected")
            self.where.setText("Click a pin, or drag over some.")
            for key, box in self.values.items():
                box.clear()
                self.spans[key].setText("")
            return
        pads = sorted({document.pad(hit.pad_id).name for hit in hits})
        of = f" of the {pads[0].lower()}" if len(pads) == 1 else f" of {len(pads)} pads"
        self.heading.setText(f"{counted(len(hits), 'hit')}{of}")
        meter = pattern_meter(document)
        self.where.setText(f"{'at' if len(hits) == 1 else 'from'} {bar_and_beat(max(0.0, hits[0].at_beats), meter)}; Escape clears")
        beat_ms, divisions = 60_000.0 / document.bpm, self._session.shown.grid.divisions
        found = {
            "velocity": [float(hit.velocity) for hit in hits], "offset": [offset_beats(hit, divisions) * beat_ms for hit in hits],
            "length": [hit.length_beats for hit in hits], "pitch": [hit.pitch for hit in hits],
            "chance": [100.0 * hit.chance for hit in hits], "gain": [hit.gain_db for hit in hits]}
        for key, values in found.items():
            self.values[key].show_number(round(values[0], 2))
            self.spans[key].setText(_span(values, signed=key in ("offset", "pitch", "gain")))

    def _type(self, key: str, number: float) -> None:
        """Give all selected hits a value that was typed."""
        ids = self._ids()
        if ids:
            values = dict.fromkeys(ids, number / 100.0 if key == "chance" else number)
            self._edit(of_hits(f"set {key} of", len(ids)), lambda d: set_values(d, key, values, self._session.shown.grid.own_step_at))

    def _change_menu(self) -> QMenu:
        menu = _menu(self, (
            ("hit_cut", self.cut), ("hit_repeat", self.repeat), ("", None),
        ))
        for text, act in (
            ("Delete every second hit", lambda: self._edit("thin out", lambda d: thinned(d, self._ids()))),
            ("Merge hits that are too close", lambda: self._edit("merge hits", merged)),
            ("Delete these bars", lambda: self._bars("delete bars", without_bars)),
            ("Insert empty bars before", lambda: self._bars("insert bars", with_empty_bars)),
        ):
            entry = menu.addAction(text)
            assert entry is not None
            entry.triggered.connect(lambda _=False, act=act: act())
        return menu

    def _ids(self) -> frozenset[int]:
        return frozenset(hit.id for hit in self.chosen())

    def _edit(self, words: str, change: Callable[[Document], Document], *, joins: bool = False) -> bool:
        return self._session.store.edit(words, change, joins=joins)

    def select_all(self) -> None:
        """Select all hits."""
        document = self._session.store.document
        if document is not None:
            self._session.shown.select(hit_ids=frozenset(hit.id for hit in pattern_of(document).hits))

    def choose_lane(self) -> None:
        """Select all hits of the lane."""
        document, pad_id = self._session.store.document, self._session.shown.selection.pad_id
        if document is not None:
            self._session.shown.select(hit_ids=frozenset(hit.id for hit in pattern_of(document).hits if hit.pad_id == pad_id))

    def choose_bar(self) -> None:
        """Select all hits of the bars that the selected ones lie in, or of the bar at the playhead."""
        document = self._session.store.document
        if document is None:
            return
        stretch = bars_around(document, self._ids())
        if not self._ids():
            per_bar = pattern_meter(document).beats_per_bar
            bar = int(self._playhead_beat(document) // per_bar)
            stretch = (float(bar * per_bar), float((bar + 1) * per_bar))
        self._session.shown.select(hit_ids=frozenset(hit.id for hit in in_stretch(document, stretch)))

    def choose_step(self) -> None:
        """Select all hits of the same pads on the same step of the beat."""
        document = self._session.store.document
        if document is not None and self._ids():
            step = self._session.shown.grid.step_at(self.chosen()[0].at_beats)
            self._session.shown.select(hit_ids=same_step(document, self._ids(), every=max(1.0, step), step=step))

    def choose_loudness(self, softer: bool) -> None:
        """Select all hits of the same pads that are no louder, or no softer."""
        document = self._session.store.document
        if document is not None and self._ids():
            self._session.shown.select(hit_ids=by_loudness(document, self._ids(), softer=softer))

    def copy(self) -> None:
        """Copy the selected hits."""
        document = self._session.store.document
        if document is not None and self._ids():
            self._clip = copied(document, self._ids())[0]
            self._session.hub.note(f"{counted(len(self._clip), 'hit')} copied; paste puts them at the playhead.")

    def cut(self) -> None:
        """Copy the selected hits and take them out."""
        self.copy()
        self.delete()

    def paste(self) -> None:
        """Put what was copied at the beat of the playhead."""
        document, hits = self._session.store.document, self._clip
        if document is not None and hits:
            self._put(hits, float(int(self._playhead_beat(document) + 1e-3)), "paste")

    def again(self) -> None:
        """Put the selected hits once more right behind themselves."""
        document = self._session.store.document
        if document is not None and self._ids():
            hits, start, length = copied(document, self._ids())
            self._put(hits, start + length, "duplicate")

    def _put(self, hits: tuple[Hit, ...], at_beats: float, words: str) -> None:
        placed: list[frozenset[int]] = []

        def change(document: Document) -> Document:
            made, ids = pasted(document, hits, at_beats)
            placed.append(ids)
            return made

        if self._edit(f"{words} {counted(len(hits), 'hit')}", change) and placed:
            self._session.shown.select(hit_ids=placed[-1])

    def repeat(self) -> None:
        """Repeat the bars of the selected hits to the end."""
        ids = self._ids()
        if ids:
            self._edit("repeat to the end", lambda d: repeated_to_end(d, ids))

    def _in_stretch(self, words: str, change: OverBeats) -> None:
        document, ids = self._session.store.document, self._ids()
        if document is not None:
            stretch = bars_around(document, ids)
            pads = {hit.pad_id for hit in self.chosen()} or None
            self._edit(words, lambda d: change(d, stretch, pads))

    def _bars(self, words: str, change: Callable[[Document, Beats], Document]) -> None:
        document, ids = self._session.store.document, self._ids()
        if document is not None and ids:
            stretch = bars_around(document, ids)
            self._edit(words, lambda d: change(d, stretch))

    def delete(self) -> None:
        """Take the selected hits out."""
        ids = self._ids()
        if ids and self._edit(of_hits("delete", len(ids)), lambda d: delete_hits(d, ids)):
            self._session.shown.select(hit_ids=frozenset())

    def set_amount(self, amount: float) -> None:
        """Say how far hits are quantised; those that are selected are."""
        self.amount.show_value(amount)
        self._onto_grid(amount)

    def quantise(self) -> None:
        """Quantise the selected hits, as far as the amount says."""
        self._onto_grid(self.amount.amount)

    def _preview_grid(self, amount: float) -> None:
        ids = self._ids()
        self._session.store.preview(lambda d: quantised_by(d, ids, self._session.shown.grid.step_at, amount))

    def _onto_grid(self, amount: float) -> None:
        ids = self._ids()
        if ids:
            self._edit(of_hits("quantise", len(ids)), lambda d: quantised_by(d, ids, self._session.shown.grid.step_at, amount))

    def move_lane(self, by: int) -> None:
        """Move the selected hits to the next lane, up or down."""
        chosen, pads = self.chosen(), self._lanes()
        row = next((n for n, pad_id in enumerate(pads) if chosen and pad_id == chosen[0].pad_id), -1)
        if row >= 0 and 0 <= row + by < len(pads) and len({hit.pad_id for hit in chosen}) == 1:
            ids, to = self._ids(), pads[row + by]
            if self._edit(of_hits("move", len(ids)), lambda d: move_hits(d, ids, 0.0, to)):
                self._session.shown.select(pad_id=to)

    def _velocity_by(self, by: int) -> None:
        ids = self._ids()
        if not ids:
            self._cursor(0, -1 if by > 0 else 1)
        if ids:
            self._edit(of_hits("set velocity of", len(ids)), lambda d: change_velocity(d, ids, by), joins=True)

    def _move_steps(self, steps: int) -> None:
        ids = self._ids()
        if not ids:
            self._cursor(steps, 0)
        if ids:
            step = self._session.shown.grid.step_at(self.chosen()[0].at_beats)
            self._edit(of_hits("move", len(ids)), lambda d: move_hits(d, ids, steps * step), joins=True)

    def _move_ms(self, ms: float) -> None:
        document, ids = self._session.store.document, self._ids()
        if document is not None and ids:
            by = ms * document.bpm / 60_000.0
            self._edit(of_hits("nudge", len(ids)), lambda d: move_hits(d, ids, by, early=True), joins=True)

    def _playhead_beat(self, document: Document) -> float:
        return document.beat_map.beat_at(self._playback.transport.pattern_sample())


def _reverse(document: Document, stretch: Beats, pads: Iterable[int] | None) -> Document:
    return reversed_in(document, stretch, pads)


def _menu(parent: Panel, entries: tuple[tuple[str, Callable[[], object] | None], ...]) -> QMenu:
    menu = QMenu(parent)
    for key, act in entries:
        if act is None:
            menu.addSeparator()
            continue
        entry = menu.addAction(f"{BY_KEY[key].label}\t{BY_KEY[key].shortcut}")
        assert entry is not None
        entry.triggered.connect(lambda _=False, act=act: act())
    return menu


def _span(values: list[float], *, signed: bool = False) -> str:
    """Return the range of values in words, nothing where all are one."""
    low, high = min(values), max(values)
    form = "{:+.3g}" if signed else "{:.3g}"
    return "" if low == high else f"{form.format(low)} to {form.format(high)}"


def _buttons(entries: tuple[tuple[str, str, Callable[[], object]], ...], *, chip: bool = False) -> QGridLayout:
    """Return buttons for commands of the table, three to a row."""
    grid = QGridLayout()
    grid.setSpacing(5)
    for n, (text, key, act) in enumerate(entries):
        grid.addWidget(button(text, act, tip=tip(key), name=BY_KEY[key].label, chip=chip), n // 3, n % 3)
    return grid
