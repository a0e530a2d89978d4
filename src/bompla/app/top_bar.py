"""The bar at the top: the project, saving, undo by name."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QSizePolicy, QWidget

from bompla.app.commands import tip
from bompla.app.preferences import preferences
from bompla.app.project.session import Session
from bompla.app.ui.controls import ShortLabel, button, label
from bompla.model.wording import in_bars

SHOWN_STEPS, LEAST_WIDTH = 24, 64


class TopBar(QWidget):
    """The project, saving, and undo by name."""

    def __init__(self, session: Session, actions: dict[str, Callable[[], object]], open_path: Callable[[Path], object]) -> None:
        super().__init__()
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(44)
        self._session, self._actions, self._open_path = session, actions, open_path
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 0, 16, 0)
        row.setSpacing(9)
        self.title = ShortLabel("title", "Bompla")
        self.title.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)
        row.addWidget(self.title)
        self.source = button("", self._choose_sound, chip=True, tip=tip("next_sound"))
        self.source.hide()
        row.addWidget(self.source)
        self.facts = label("", "dim")
        row.addWidget(self.facts)
        row.addStretch(1)
        self.saved = label("", "dim")
        row.addWidget(self.saved)
        self.undo = button("Undo", actions["undo"], tip=tip("undo"))
        self.redo = button("Redo", actions["redo"], tip=tip("redo"))
        self.steps = button("History", self._choose_step, tip="Undo history: go back to any step")
        self.save = button("Save", actions["save"], tip=tip("save"))
        self.recent = button("Recent", self._choose_recent, tip="Open one of the files opened last")
        for made in (
            button("Open", actions["open"], tip=tip("open")), self.recent, self.save,
            self.undo, self.redo, self.steps, button("Table", actions["table"], tip=tip("table")),
            button("Keys", actions["keys"], tip=tip("keys")),
            button("Help", actions["help"], tip=tip("help")),
        ):
            row.addWidget(made)
        for named in (self.title, self.source, self.undo, self.redo):  # where room is short, the names of things give way
            named.setMinimumWidth(LEAST_WIDTH)
        session.store.document_changed.connect(lambda _: self._refresh())
        session.project.saved_changed.connect(self._refresh)
        self._refresh()

    def sounds_menu(self) -> QMenu:
        """Return the menu of the project's sounds."""
        session, menu = self._session, QMenu(self)
        project = session.project
        for index, sound in enumerate(session.project.sounds):
            entry = menu.addAction(sound.history.document.source.name)
            assert entry is not None
            entry.setCheckable(True)
            entry.setChecked(index == session.project.current)
            entry.triggered.connect(lambda _=False, index=index: session.project.switch(index))
        menu.addSeparator()
        for text, action, able in (
            ("Add a sound…", self._actions["add_sound"], True),
            ("Remove this sound from the project", lambda: project.remove(project.current), len(project.sounds) > 1),
            ("Restore the removed sound", session.project.restore, bool(session.project.removed)),
        ):
            entry = menu.addAction(text)
            assert entry is not None
            entry.setEnabled(able)
            entry.triggered.connect(lambda _=False, action=action: action())
        return menu

    def steps_menu(self) -> QMenu:
        """Return the menu of what was done, newest first, with what was undone above; a click goes there."""
        menu, history = QMenu(self), self._session.store.history
        if history is None:
            return menu
        undone = [(f"redo: {step.label}", -n) for n, step in enumerate(reversed(history.undone), 1)][:SHOWN_STEPS]
        done = [(step.label, n) for n, step in enumerate(reversed(history.done))][:SHOWN_STEPS]
        for text, back in [*reversed(undone), *done, ("as opened" if len(history.done) <= SHOWN_STEPS else "", len(history.done))]:
            if text:
                entry = menu.addAction(text)
                assert entry is not None
                entry.setCheckable(True)
                entry.setChecked(back == 0)
                entry.triggered.connect(lambda _=False, back=back: self._session.store.go_back(back))
        return menu

    def _choose_step(self) -> None:
        menu = self.steps_menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.steps.mapToGlobal(self.steps.rect().bottomLeft()))

    def recent_menu(self) -> QMenu:
        """Return the menu of the files opened last, those that are gone switched off."""
        menu = QMenu(self)
        for name in preferences().value.recent_files:
            path = Path(name)
            entry = menu.addAction(f"{path.name}   {path.parent}")
            assert entry is not None
            entry.setEnabled(path.is_file())
            entry.triggered.connect(lambda _=False, path=path: self._open_path(path))
        if menu.isEmpty():
            entry = menu.addAction("No file was opened yet")
            assert entry is not None
            entry.setEnabled(False)
        return menu

    def _choose_recent(self) -> None:
        menu = self.recent_menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.recent.mapToGlobal(self.recent.rect().bottomLeft()))

    def _choose_sound(self) -> None:
        menu = self.sounds_menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.source.mapToGlobal(self.source.rect().bottomLeft()))

    def _refresh(self) -> None:
        session = self._session
        document, history = session.store.document, session.store.history
        if document is not None:
            self.title.setText(document.title)
            self.source.setVisible(True)
            count = len(session.project.sounds)
            self.source.setText(f"{document.source.name} · {session.project.current + 1} of {count}" if count > 1 else document.source.name)
            self.source.setAccessibleName(f"Sound: {document.source.name}")
            bars = in_bars(document.loop.length_beats, document.loop.meter)
            self.facts.setText(f"{bars} · {document.loop.meter_name}")
        self.save.setEnabled(document is not None)
        undo, redo = (history.undo_label, history.redo_label) if history else ("", "")
        self.undo.setEnabled(bool(undo))
        self.undo.setText(f"Undo: {undo}" if undo else "Undo")
        self.redo.setEnabled(bool(redo))
        self.steps.setEnabled(bool(undo or redo))
        self.redo.setText(f"Redo: {redo}" if redo else "Redo")
        if document is None:
            self.saved.setText("")
        elif session.project.dirty:
            self.saved.setText("not saved")
        elif session.project.path is None:
            self.saved.setText("")
        else:
            self.saved.setText(f"saved {session.project.saved_at}".strip())


