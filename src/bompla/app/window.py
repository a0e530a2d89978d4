"""The main window."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QByteArray, QPoint, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QGuiApplication, QKeyEvent, QKeySequence, QResizeEvent
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from bompla.app.bring_in.stage import BringIn
from bompla.app.commands import COMMANDS, EVERYWHERE
from bompla.app.groove.stage import GrooveStage
from bompla.app.help_view import HelpView
from bompla.app.key_sheet import KeySheet
from bompla.app.kit.pad_grid import PAD_KEYS
from bompla.app.kit.stage import KitStage
from bompla.app.message_strip import MessageStrip
from bompla.app.preferences import Preferences, preferences
from bompla.app.project.opening import Opening
from bompla.app.project.processes import wait_for_processes
from bompla.app.project.session import Session
from bompla.app.project.tasks import Task
from bompla.app.send_out.stage import SendOut
from bompla.app.settings.dialog import SettingsDialog
from bompla.app.slice.stage import SliceStage
from bompla.app.sound.playback import Playback
from bompla.app.sound_picture import SoundPicture
from bompla.app.stage import Stage, WindowActions
from bompla.app.stage_nav import StageNav
from bompla.app.study.stage import StudyStage
from bompla.app.tables.table_window import TableWindow
from bompla.app.theme import DAY, palette_of, theme
from bompla.app.top_bar import TopBar
from bompla.app.transport_bar import ListeningBar
from bompla.audio.files import SUFFIXES
from bompla.files import as_text
from bompla.formats.midi_read import MidiNotes
from bompla.formats.project import SUFFIX
from bompla.groove.from_midi import variation_from_notes
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document

SIZE = (1280, 800)
MIDI_SUFFIXES = (".mid", ".midi")
OPENABLE = " ".join(f"*{suffix}" for suffix in (*SUFFIXES, SUFFIX, *MIDI_SUFFIXES))


class MainWindow(QMainWindow):
    """The one window: the path of stages, the bars, and the stage at work. `again` asks for it to be opened anew."""

    again = pyqtSignal()

    def __init__(self, session: Session, playback: Playback) -> None:
        super().__init__()
        self.session, self.playback = session, playback
        self.keys_sheet: KeySheet | None = None
        self.help: HelpView | None = None
        self.table: TableWindow | None = None
        self.settings: SettingsDialog | None = None
        self._left = self._shut = False
        self.setWindowTitle("Bompla")
        self.setAcceptDrops(True)
        self.resize(*SIZE)
        self.setMinimumSize(1024, 680)
        actions = WindowActions(self.choose_file, self.open_path, self.go_to_stage)
        self.bring_in, self.slice, self.kit, self.groove, self.study, self.send_out = (
            BringIn(session, playback, actions), SliceStage(session, playback, actions), KitStage(session, playback, actions),
            GrooveStage(session, playback, actions), StudyStage(session, playback, actions), SendOut(session, playback, actions))
        self.stages: list[Stage] = [self.bring_in, self.slice, self.kit, self.groove, self.study, self.send_out]
        self._lay_out()
        self._make_actions()
        session.project.sound_changed.connect(self._opened)
        session.openings.begun.connect(self._begun)
        session.project.saved_changed.connect(self._show_title)
        theme().changed.connect(self._use_theme)
        preferences().changed.connect(self._preferences_changed)
        hints = QGuiApplication.styleHints()
        if hints is not None:
            hints.colorSchemeChanged.connect(self._desktop_changed)
        self._use_theme()
        self.go_to(0)

    def _lay_out(self) -> None:
        actions: dict[str, Callable[[], object]] = {
            "open": self.choose_file, "add_sound": self.choose_sound_to_add, "save": self.save,
            "undo": self.session.store.undo, "redo": self.session.store.redo,
            "keys": self.show_keys, "help": self.show_help, "table": self.show_table,
            "settings": self.show_settings, "play": self.playback.transport.toggle, "loop": self._set_loop, "click": self._set_click,
        }
        ground = QWidget()
        ground.setObjectName("ground")
        column = QVBoxLayout(ground)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        self.top_bar = TopBar(self.session, actions, self.open_path)
        column.addWidget(self.top_bar)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        self.path = StageNav(self.session, self.stages)
        self.path.chosen.connect(self.go_to)
        middle.addWidget(self.path)
        self.pages = QStackedWidget()
        for stage in self.stages:
            self.pages.addWidget(stage)
        page = QVBoxLayout()
        page.setContentsMargins(14, 12, 14, 12)
        page.setSpacing(10)
        page.addWidget(self.pages, 1)
        middle.addLayout(page, 1)
        column.addLayout(middle, 1)
        self.listening = ListeningBar(self.session, self.playback, actions)
        column.addWidget(self.listening)
        self.setCentralWidget(ground)
        self.messages = MessageStrip(self.session, ground)
        self.messages.cancelled.connect(self.session.work.cancel)
        self.messages.resized.connect(self._place_messages)

    def _make_actions(self) -> None:
        run: dict[str, Callable[[], object]] = {
            "open": self.choose_file, "add_sound": self.choose_sound_to_add, "next_sound": self._next_sound,
            "save": self.save, "save_as": self.save_as, "undo": self.session.store.undo,
            "redo": self.session.store.redo, "to_start": self._to_start, "loop": self.listening.loop.click,
            "click": self.listening.click.click, "flip": self._flip, "write_midi": self.choose_midi,
            "record": self.kit.record.click,
            "colour": self.kit.colour.toggle, "capture": self.playback.recorder.capture, "settings": self.show_settings,
            "zoom_in": partial(self._zoom, 0.6), "zoom_out": partial(self._zoom, 1.0 / 0.6), "zoom_all": partial(self._zoom, 0.0),
            "light": self._change_light, "keys": self.show_keys, "help": self.show_help, "table": self.show_table,
        }
        for index, stage in enumerate(self.stages):
            run[f"stage_{stage.key}"] = partial(self.go_to, index)
        for entry in COMMANDS:
            if entry.where == EVERYWHERE and entry.key in run:
                action = QAction(entry.label, self)
                action.setShortcut(QKeySequence(entry.shortcut))
                action.triggered.connect(lambda _=False, key=entry.key: run[key]())
                self.addAction(action)

    def go_to(self, index: int) -> None:
        """Show a stage."""
        self.pages.setCurrentIndex(index)
        self.path.buttons[index].setChecked(True)
        self.path.refresh()
        self.listening.suggest(self.stages[index].key)
        self.stages[index].picture().setFocus()

    def picture(self) -> QWidget:
        """Return the picture of the stage that is shown: what has the focus when nothing else needs it."""
        return self.stages[self.pages.currentIndex()].picture()

    def go_to_stage(self, key: str) -> None:
        """Show the stage of a key."""
        self.go_to([stage.key for stage in self.stages].index(key))

    def open_path(self, path: Path) -> None:
        """Open a sound or a project, after asking about unsaved work; a MIDI file becomes a variation of what is open."""
        if path.suffix.lower() in MIDI_SUFFIXES:
            self.open_midi(path)
            return
        self._leave(lambda: self.session.openings.open(path))

    def open_midi(self, path: Path) -> None:
        """Make a variation of a MIDI file's notes."""
        document = self.session.store.document
        if document is None:
            self.session.hub.trouble("Open a loop first: a MIDI file becomes a variation of it, played by its pads.")
            return
        self.session.requests.read_notes(path, partial(self._take_notes, as_text(path.stem)))

    def _take_notes(self, name: str, found: MidiNotes) -> None:
        missing: list[str] = []

        def make(document: Document) -> Document:
            made, left_out = variation_from_notes(document, found.notes, beats=found.beats, meter=found.meter, name=name)
            missing.append(left_out)
            return made

        if self.session.store.edit(f"variation from {name}", make):
            document = self.session.store.document
            assert document is not None
            self.go_to_stage("groove")
            self.session.hub.note(missing[-1] or f"Made variation {pattern_of(document).letter} of {name}.")

    def choose_file(self) -> None:
        """Ask which file to open."""
        kinds = f"Sounds, projects and MIDI files ({OPENABLE});;All files (*)"
        name, _ = QFileDialog.getOpenFileName(self, "Open a sound or a project", preferences().value.last_folder, kinds)
        if name:
            self.open_path(Path(name))

    def choose_sound_to_add(self) -> None:
        """Ask which sound to add to the project."""
        name, _ = QFileDialog.getOpenFileName(self, "Add a sound to the project", preferences().value.last_folder,
                                              f"Sounds ({OPENABLE});;All files (*)")
        if name:
            self.session.openings.open(Path(name), add=True)

    def _next_sound(self) -> None:
        if self.session.project.sounds:
            self.session.project.switch((self.session.project.current + 1) % len(self.session.project.sounds))

    def save(self) -> Task | None:
        """Save the project where it was saved before, or ask where; None where nothing is saved."""
        path = self.session.project.path
        if path is None:
            return self.save_as()
        if self.session.project.changed_on_disk(path):
            box = QMessageBox(self)
            box.setTextFormat(Qt.TextFormat.PlainText)
            box.setWindowTitle("Bompla")
            box.setText(f"{path.name} was changed by another program since it was opened here.")
            over = box.addButton("Save over it", QMessageBox.ButtonRole.DestructiveRole)
            beside = box.addButton("Save under another name…", QMessageBox.ButtonRole.AcceptRole)
            box.addButton(QMessageBox.StandardButton.Cancel)
            box.setDefaultButton(beside)
            box.exec()
            if box.clickedButton() is beside:
                return self.save_as()
            if box.clickedButton() is not over:
                return None
        return self.session.project.save(path)

    def save_as(self) -> Task | None:
        """Ask where to save the project; None where nothing is saved."""
        document = self.session.store.document
        if document is None:
            return None
        name, _ = QFileDialog.getSaveFileName(self, "Save the project", _in_last_folder(f"{document.title}{SUFFIX}"),
                                              f"Bompla projects (*{SUFFIX})")
        if not name:
            return None
        path = Path(name)
        return self.session.project.save(path if path.suffix.lower() == SUFFIX else path.with_name(path.name + SUFFIX))

    def choose_midi(self) -> None:
        """Ask where to write the MIDI file, and write it."""
        document = self.session.store.document
        if document is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, "Write a MIDI file", _in_last_folder(f"{document.title}.mid"), "MIDI files (*.mid)")
        if name:
            path = Path(name)
            self.send_out.write_to(path if path.suffix.lower() in (".mid", ".midi") else path.with_name(path.name + ".mid"))

    def show_settings(self) -> None:
        """Show the settings beside the window."""
        if self.settings is None:
            self.settings = SettingsDialog(self.session, self.playback, self.show_keys, self)
            self.settings.again.connect(self.again)
        self.settings.show()
        self.settings.raise_()

    def show_help(self) -> None:
        """Show the manual beside the window, at the page of the stage that one is on."""
        if self.help is None:
            self.help = HelpView(self)
        self.help.show_page(self.stages[self.pages.currentIndex()].key)
        self.help.show()
        self.help.raise_()

    def show_table(self) -> None:
        """Show the slices, pads or hits of the stage as a table beside the window."""
        if self.table is None:
            self.table = TableWindow(self.session, self)
        self.table.show_stage(self.stages[self.pages.currentIndex()].key)
        self.table.show()
        self.table.raise_()
        self.table.activateWindow()

    def show_keys(self) -> None:
        """Show the sheet of keys beside the window."""
        if self.keys_sheet is None:
            self.keys_sheet = KeySheet(self)
        self.keys_sheet.show_place(self.stages[self.pages.currentIndex()].title)
        self.keys_sheet.show()
        self.keys_sheet.raise_()

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802  # Qt's name
        super().resizeEvent(event)
        self._place_messages()

    def _place_messages(self) -> None:
        """Lay what the user is told over the bottom edge of the page: nothing moves under the hand."""
        ground = self.centralWidget()
        if ground is None:
            return
        corner = self.pages.mapTo(ground, QPoint(0, 0))
        width = self.pages.width()
        height = self.messages.height_for(width)
        self.messages.setGeometry(corner.x(), corner.y() + self.pages.height() - height, width, height)
        self.messages.raise_()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)
        if plain and not event.isAutoRepeat():
            if event.key() == Qt.Key.Key_Space:
                self.playback.transport.toggle()
                return
            slot = PAD_KEYS.find(event.text().upper()) if event.text() else -1
            if slot >= 0 and self.pages.currentWidget() is self.slice and self.slice.strike_key(slot):
                return
            if event.text() and self.kit.strike_key(event.text()):
                return
        super().keyPressEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        data = event.mimeData()
        if data is not None and any(url.isLocalFile() for url in data.urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        data = event.mimeData()
        files = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()] if data is not None else []
        if files:
            event.acceptProposedAction()
            if files[0].is_dir():
                self.go_to(0)
                self.bring_in.shelf.show_folder(files[0])
                return
            self.open_path(files[0])
            if len(files) > 1:
                self.session.hub.note(f"Opened the first of {len(files)} files; drop a folder to look through all of them.")

    def closeEvent(self, event: QCloseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        if self._left or not self.session.project.dirty:
            self.shut()
            event.accept()
            return
        event.ignore()  # it closes by itself once it is settled what becomes of the edits
        self._leave(self._close_at_last)

    def _close_at_last(self) -> None:
        self._left = True
        self.close()

    def shut(self, *, left: bool = False) -> None:
        """End all work and sound; unsaved edits are kept for the next start where they are `left`."""
        if self._shut:
            return
        self._shut = True
        placed = bytes(self.saveGeometry().toHex().data()).decode()
        preferences().set(placed=placed, stage=self.stages[self.pages.currentIndex()].key)
        self.bring_in.shelf.close_all()
        self.study.close_all()
        if self.kit.kits is not None:
            self.kit.kits.close_all()
        for beside in (self.keys_sheet, self.help, self.settings, self.kit.practice, self.kit.kits):
            if beside is not None:  # before the engine: one that lent its device gives it back
                beside.close()
        self.playback.close()
        self.session.close(left=left)
        wait_for_processes()

    def _leave(self, go: Callable[[], object]) -> None:
        """Go on once it is settled what becomes of unsaved edits; stay where the user wants to, or they could not be saved."""
        if not self.session.project.dirty:
            go()
            return
        box = QMessageBox(self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setWindowTitle("Bompla")
        box.setText("Save the edits to this project first?")
        save, drop, stay = QMessageBox.StandardButton.Save, QMessageBox.StandardButton.Discard, QMessageBox.StandardButton.Cancel
        box.setStandardButtons(save | drop | stay)
        answer = box.exec()
        if answer == drop:
            go()
        elif answer == save and (task := self.save()) is not None:
            task.when_over(lambda ended: QTimer.singleShot(0, go) if ended.ending == "done" else None)

    def _begun(self, opening: Opening) -> None:
        """A sound that comes is shown as it comes: in Bring in."""
        if opening.way != "hear" and opening.path.suffix.lower() != SUFFIX and opening.in_memory is None:
            self.go_to(0)

    def _opened(self) -> None:
        self.path.refresh()
        self._show_title()

    def _show_title(self) -> None:
        document = self.session.store.document
        mark = " *" if self.session.project.dirty else ""
        self.setWindowTitle(f"{document.title}{mark} · Bompla" if document else "Bompla")

    def _use_theme(self) -> None:
        self.setStyleSheet(theme().style_sheet())

    def _set_loop(self) -> None:
        self.playback.transport.set_looping(self.listening.loop.isChecked())

    def _set_click(self) -> None:
        self.playback.transport.set_click(self.listening.click.isChecked())

    def _to_start(self) -> None:
        document = self.session.store.document
        if document is not None:
            self.playback.transport.seek(document.loop.start_sample)

    def _flip(self) -> None:
        self.listening.blend.setValue(0 if self.listening.blend.value() >= 50 else 100)

    def _zoom(self, factor: float) -> None:
        """Zoom the long picture of the stage that is shown; 0 shows all of it."""
        shown = next((p for p in self.stages[self.pages.currentIndex()].findChildren(SoundPicture) if p.isVisible()), None)
        if shown is not None and factor:
            shown.zoom(factor)
        elif shown is not None:
            shown.show_all()

    def _change_light(self) -> None:
        preferences().set(theme="day" if theme().palette is not DAY else "night")

    def _preferences_changed(self, before: Preferences, now: Preferences) -> None:
        if before.theme != now.theme:
            theme().use(palette_of(now.theme))

    def _desktop_changed(self) -> None:
        if preferences().value.theme == "system":
            theme().use(palette_of("system"))

    def place_as_before(self) -> None:
        """Put the window where it was when it was last closed."""
        self.restoreGeometry(QByteArray.fromHex(preferences().value.placed.encode()))


def _in_last_folder(name: str) -> str:
    """Return a file's name in the folder that was used last."""
    return str(Path(preferences().value.last_folder) / name)
