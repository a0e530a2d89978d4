"""Kit: the hits on pads, to be played, named and given their notes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QEvent, QObject, Qt, QTimer
from PyQt6.QtGui import QDragEnterEvent
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QScrollArea, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.kit.colour_panel import ColourPanel
from bompla.app.kit.kit_from import KitFrom
from bompla.app.kit.pad_grid import PAD_KEYS, PadGrid, TrayView
from bompla.app.kit.pad_more import PadMore, notes_button
from bompla.app.kit.pad_panel import PadPanel
from bompla.app.kit.practice import PracticePads
from bompla.app.project.kit_requests import SaveKit, keep_kit
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.stage import Stage, WindowActions
from bompla.app.ui.controls import Chips, Panel, button, combo, edit_text, label, scrolling
from bompla.app.ui.value_bar import ValueBar
from bompla.export.options import ExportOptions
from bompla.export.request import ExportRequest
from bompla.groove.rebuild import remade_kit
from bompla.groove.remainder import remaining, with_remainder
from bompla.groove.slice_kit import kit_of_slices
from bompla.groove.takes import QUANTISE
from bompla.model.document import PADS_PER_PAGE, Document, Layer
from bompla.model.kit_edits import UNHEARD_VELOCITY, remove_pad, set_kit_tail
from bompla.model.pattern_edits import usual_velocity
from bompla.model.shape import KIT_TAILS
from bompla.model.wording import counted

HOVER_MS = 450
"""What is dragged over the number of a page for so long shows it."""

MOST_PAGES = 8


class KitStage(Stage):
    """The third stage."""

    key = "kit"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        self.practice: PracticePads | None = None
        self.kits: KitFrom | None = None
        layout, left = self.columns()
        pads = Panel()
        self.pages = Chips("Pages of pads")
        self.pages.chosen.connect(self._show_page)
        self.added_pages, self._hovered_page = 1, 0
        self.more_pages = button("+", self.add_page, name="Add a page of pads", tip="Add a page of sixteen pads")
        self.more_pages.setFixedWidth(32)
        self._over_page = QTimer(self)
        self._over_page.setSingleShot(True)
        self._over_page.setInterval(HOVER_MS)
        self._over_page.timeout.connect(self._open_page)
        pads.body.addLayout(self._top_row())
        pads.body.addLayout(self._playing_row())
        self.grid = PadGrid(session)
        self.grid.struck.connect(self.strike)
        self.grid.let_go.connect(playback.pads.let_go)
        self.grid.files_dropped.connect(self.load_files)
        self.grid.menu_wanted.connect(lambda at: self.pad_menu().popup(at))
        pads.body.addWidget(self.grid, 1)
        left.addWidget(pads, 1)
        tray = Panel("Unused slices · drag one to a pad")
        self.tray = TrayView(session)
        self.tray.heard.connect(self._hear)
        scroll = QScrollArea()
        scroll.setWidget(self.tray)
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setFixedHeight(98)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.rest = button("", self.add_remainder, tip="One pad for the slices in which no drum is sure, played where they were")
        tray.title_row(self.rest)
        tray.body.addWidget(scroll)
        left.addWidget(tray)
        layout.addLayout(self._right_side())
        self.command("pad_rename", lambda: edit_text(self.panel.name))
        self.command("pad_clear", self.panel.clear)
        self.command("pad_file", self.panel.choose_file)
        self.command("pad_remove", self.remove_pad)
        self.command("kit_remake", self.remake)
        self.command("kit_from", self.choose_kit)
        self.command("pads_all", self.panel.select_all)
        self.command("shape_copy", self.panel.copy_shape)
        self.command("shape_paste", self.panel.paste_shape)
        self.connect_all()

    def _top_row(self) -> QHBoxLayout:
        top = QHBoxLayout()
        top.setSpacing(3)
        top.addWidget(button("Rebuild", self.remake, tip=tip("kit_remake"), name="Rebuild kit"))
        top.addWidget(self._kit_menu())
        top.addWidget(label("tails", "dim"))
        self.tail = combo("Tails", [(words, key) for key, words in KIT_TAILS.items()],
                          tip="How slices go on after they end, on all pads that follow the kit")
        self.tail.activated.connect(lambda _: self._set_tail(str(self.tail.currentData())))
        top.addWidget(self.tail)
        top.addWidget(notes_button(self.session, self))
        top.addStretch(1)
        top.addWidget(self.pages)
        top.addWidget(self.more_pages)
        return top

    def _kit_menu(self) -> QPushButton:
        made = button("Kit from…", lambda: None, tip="Other drums under the same groove: an instrument, a font, a folder, another sound")
        menu = QMenu(made)
        entries = (("Choose a kit…", self.choose_kit), ("Save this kit", self.save_kit), ("One pad per slice", self.slices_in_order))
        for text, act in entries:
            entry = menu.addAction(text)
            assert entry is not None
            entry.triggered.connect(lambda _=False, act=act: act())
        made.setMenu(menu)
        return made

    def _kits(self) -> KitFrom:
        if self.kits is None:
            self.kits = KitFrom(self.session, self.playback, self)
        return self.kits

    def choose_kit(self) -> None:
        """Show kits from elsewhere, beside the window."""
        self._kits().open_kits()

    def load_files(self, paths: list[Path]) -> None:
        """Show what several files, or a folder, are, to be put onto the pads."""
        self._kits().open_files(paths)

    def save_kit(self) -> None:
        """Save the kit under the project's name, to be found again in any project."""
        document, clip = self.session.store.document, self.session.project.clip
        if document is None or clip is None:
            return
        export = ExportRequest(document, clip, ExportOptions(rate=clip.sample_rate), self.session.project.borrowed)
        hub = self.session.hub
        self.session.threads.run(keep_kit, SaveKit(export, document.title), failed=hub.trouble,
                                 done=lambda path: hub.note(f"{path.stem} is saved; Kit from… has it in every project."))

    def _right_side(self) -> QVBoxLayout:
        right = QVBoxLayout()
        right.setSpacing(6)
        self.view = Chips("Pad, playing or colour")
        self.view.offer([("pad", "sound"), ("more", "playing"), ("colour", "colour")], "pad")
        self.view.chosen.connect(self._show_view)
        right.addWidget(self.view, 0, Qt.AlignmentFlag.AlignLeft)
        self.panel = PadPanel(self.session, remove=self.remove_pad, hear_layer=self._hear_layer,
                              listen=self._listen, leave_field=self.grid.setFocus)
        self.more = PadMore(self.session, pad=self.panel.pad, strike=self.playback.pads.strike, learn=self.playback.pads.learn_note)
        self.colour = ColourPanel(self.session, bounce=self.playback.bouncer.bounce_loop)
        self.areas = {"pad": scrolling(self.panel), "more": scrolling(self.more), "colour": scrolling(self.colour)}
        for area in self.areas.values():
            area.setFixedWidth(400)
            right.addWidget(area, 1)
        self._show_view("pad")
        return right

    def _playing_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(5)
        self.record = button("Record", self._record, checkable=True, tip=tip("record"))
        self.count_in = button("count in", self._set_ways, chip=True, checkable=True, tip="Count in one bar before recording")
        self.count_in.setChecked(True)
        self.replacing = button("replace", self._set_ways, chip=True, checkable=True,
                                tip="Replace what the played pads had; otherwise add to it")
        row.addWidget(self.record)
        row.addWidget(self.count_in)
        row.addWidget(self.replacing)
        self.quantise = ValueBar(QUANTISE)
        self.quantise.setFixedWidth(78)
        self.quantise.chosen.connect(self._set_input_quantise)
        row.addWidget(self.quantise)
        row.addWidget(button("Capture", self.playback.recorder.capture, tip=tip("capture")))
        row.addStretch(1)
        row.addWidget(button("Practice", self.show_practice_pads, tip="A simulated controller that sends MIDI to these pads"))
        self.playback.recorder.changed.connect(self.record.setChecked)
        self.playback.pads.struck.connect(lambda pad_id, _: self.grid.light(pad_id))
        return row

    def _set_tail(self, tail: str) -> None:
        self.session.store.edit(f"tails: {KIT_TAILS[tail]}", lambda d: set_kit_tail(d, tail))

    def _record(self) -> None:
        if self.record.isChecked():
            self.playback.transport.record()
        else:
            self.playback.recorder.end()

    def _set_input_quantise(self, amount: float) -> None:
        self.playback.recorder.input_quantise = amount

    def _set_ways(self) -> None:
        self.playback.recorder.count_in = self.count_in.isChecked()
        self.playback.recorder.replacing = self.replacing.isChecked()

    def show_practice_pads(self) -> None:
        """Show the simulated controller beside the window."""
        if self.practice is None:
            self.practice = PracticePads(self.session, self.playback, self)
        self.practice.show()
        self.practice.raise_()

    def state_line(self, document: Document | None) -> str:
        """Return how many pads there are."""
        return counted(len(document.pads), "pad") if document else ""

    def picture(self) -> QWidget:
        """Return the picture that takes the keys."""
        return self.grid

    def refresh(self, document: Document) -> None:
        """Show the selected pad."""
        used = max((pad.slot for pad in document.pads), default=0) // PADS_PER_PAGE + 1
        pages = max(used, self.added_pages)
        if self.grid.page >= pages:  # an edit that made it was taken back
            self._show_page(used - 1)
        self.pages.offer([(page, str(page + 1)) for page in range(pages)], self.grid.page, tip="Show this page; drag a pad or a slice here")
        for page, made in enumerate(self.pages.buttons):
            made.setAcceptDrops(True)
            made.installEventFilter(self)
            made.setAccessibleName(f"Page {page + 1}")
        self.more_pages.setEnabled(pages < MOST_PAGES)
        self.tail.setCurrentIndex(self.tail.findData(document.tail))
        left = len(remaining(document))
        self.rest.setText(f"Put {left} without a sure drum on a pad")
        self.rest.setVisible(left > 0)
        self.panel.refresh(document)
        self.more.refresh(document)
        self.colour.refresh(document)

    def add_page(self) -> None:
        """Show an empty page more, to be filled."""
        self.added_pages = min(MOST_PAGES, len(self.pages.keys) + 1)
        self._show_page(self.added_pages - 1)
        document = self.session.store.document
        if document is not None:
            self.refresh(document)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:  # noqa: N802  # Qt's name
        """Show a page that something is dragged over for a moment."""
        buttons = self.pages.buttons
        if event is not None and watched in buttons:
            if event.type() == QEvent.Type.DragEnter and isinstance(event, QDragEnterEvent):
                event.accept()
                self._hovered_page = buttons.index(watched)
                self._over_page.start()
                return True
            if event.type() in (QEvent.Type.DragLeave, QEvent.Type.Drop):
                self._over_page.stop()
        return super().eventFilter(watched, event)

    def _open_page(self) -> None:
        self._show_page(self._hovered_page)

    def remove_pad(self) -> None:
        """Remove the selected pad with its hits."""
        pad, document = self.panel.pad(), self.session.store.document
        if pad is None or document is None:
            return
        hits = sum(1 for v in document.variations for hit in v.hits if hit.pad_id == pad.id)
        if self.session.store.edit(f"remove {pad.name.lower()}", lambda d: remove_pad(d, pad.id)) and hits:
            self.session.hub.note(f"{pad.name} is gone with its {counted(hits, 'hit')}; undo brings them back.")

    def strike(self, pad_id: int, velocity: int) -> None:
        """Play a pad and show it; the slice as it was, where that is asked for."""
        document = self.session.store.document
        if self.panel.compare.isChecked() and document is not None:
            layer = document.pad(pad_id).layer_for(velocity)
            sound = self.session.project.sound_of(layer) if layer is not None and layer.of else None
            if sound is not None:
                self.playback.previews.play(sound, 0, sound.frames)
            elif layer is not None:
                self.playback.pads.audition_span(*document.layer_bounds(layer))
            return
        if self.playback.pads.strike(pad_id, velocity):
            self.grid.light(pad_id)

    def pad_menu(self) -> QMenu:
        """Return the menu of the selected pad, or pads."""
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        pad, panel = self.panel.pad(), self.panel
        usual = pad.layer_for(UNHEARD_VELOCITY) if pad is not None else None
        entries: list[tuple[str, Callable[[], object], bool]] = [
            ("Listen", self._listen, True), ("Rename", lambda: edit_text(panel.name), True),
            ("Copy shape", panel.copy_shape, True), ("Paste shape", panel.paste_shape, panel.copied is not None),
            ("One slice for all velocities",
             lambda: panel.strip.use_alone(pad.id, usual) if pad is not None and usual is not None else None,
             pad is not None and len(pad.layers) > 1),
            ("Clear", panel.clear, True), ("Remove", self.remove_pad, True)]
        for text, act, enabled in entries:
            entry = menu.addAction(text)
            assert entry is not None
            entry.setEnabled(enabled)
            entry.triggered.connect(lambda _=False, act=act: act())
            if text in ("Rename", "One slice for all velocities"):
                menu.addSeparator()
        return menu

    def remake(self) -> None:
        """Make the kit anew from the slices; what was done by hand stays."""
        self.session.store.edit("rebuild kit", remade_kit)

    def add_remainder(self) -> None:
        """Put the slices in which no drum is sure on a pad of their own."""
        if self.session.store.edit("pad of the remainder", with_remainder):
            document = self.session.store.document
            if document is not None:
                self.session.shown.select(pad_id=max(pad.id for pad in document.pads))

    def slices_in_order(self) -> None:
        """Put every slice on a pad of its own."""
        if self.session.store.edit("one pad per slice", kit_of_slices):
            document = self.session.store.document
            if document is not None and document.pads:
                self.session.shown.select(pad_id=document.pads[0].id)

    def strike_key(self, key: str) -> bool:
        """Play the pad of a computer key; False where that key has none."""
        place = PAD_KEYS.find(key.upper())
        pad = self.grid.pad_in(self.grid.page * PADS_PER_PAGE + place) if place >= 0 else None
        document = self.session.store.document
        if pad is None or document is None:
            return False
        self.session.shown.select(pad_id=pad.id)
        self.strike(pad.id, usual_velocity(document, pad.id))
        return True

    def _show_view(self, key: object) -> None:
        for name, area in self.areas.items():
            area.setVisible(name == key)

    def _show_page(self, page: object) -> None:
        self.grid.page = int(str(page))
        self.grid.update()
        self.pages.offer([(key, str(int(str(key)) + 1)) for key in self.pages.keys], self.grid.page,
                         tip="Show this page; drag a pad or a slice here")

    def _hear(self, cut_id: int) -> None:
        document = self.session.store.document
        piece = next((p for p in document.slices() if p.cut.id == cut_id), None) if document else None
        if piece is not None:
            self.playback.pads.audition(piece)

    def _hear_layer(self, layer: Layer) -> None:
        """Play one layer of a pad as it is in its source."""
        document, sound = self.session.store.document, self.session.project.sound_of(layer)
        if document is not None and sound is not None:
            self.playback.previews.play(sound, *document.layer_bounds(layer))

    def _listen(self) -> None:
        pad, document = self.panel.pad(), self.session.store.document
        if pad is not None and document is not None:
            self.strike(pad.id, usual_velocity(document, pad.id))
