"""The row of variations: cards with a plus, names edited in place, length and meter in the card's menu, and what plays at its end."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QMenu, QWidget, QWidgetAction

from bompla.app.groove.cards import VariationCards
from bompla.app.groove.order_panel import OrderPanel
from bompla.app.project.session import Session
from bompla.app.ui.controls import button, label
from bompla.app.ui.number_box import give_focus_back
from bompla.groove.taken_groove import with_groove_of
from bompla.groove.writers import STARTERS, with_starter
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document, Variation
from bompla.model.variation_edits import (
    add_variation,
    delete_variation,
    duplicate_variation,
    move_variation,
    note_down,
    rename_variation,
)


class VariationsRow(QWidget):
    """Cards, a plus, and what plays; `show` is called with the place of the card that is to be shown."""

    def __init__(self, session: Session, order: OrderPanel, show: Callable[[int], object]) -> None:
        super().__init__()
        self._session, self._order = session, order
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        self.cards = VariationCards(session)
        self.cards.chosen.connect(show)
        self.cards.moved.connect(lambda at, to: session.store.edit("move variation", lambda d: move_variation(d, at, to)))
        self.cards.renaming.connect(self.rename)
        self.cards.menu_wanted.connect(self.show_menu)
        row.addWidget(self.cards, 1)
        self.new = button("+", self._choose_new, name="New variation", tip="New variation: a copy, an empty one, or a starter")
        self.new.setFixedSize(34, 30)
        row.addWidget(self.new)
        row.addSpacing(6)
        row.addWidget(label("plays", "dim"))
        row.addWidget(order.sequence)
        self.name = QLineEdit(self.cards)
        self.name.setAccessibleName("Name of the variation")
        self.name.setMaxLength(40)
        self.name.editingFinished.connect(self._rename)
        self.name.hide()
        self.note = QLineEdit()
        self.note.setPlaceholderText("notes on this variation")
        self.note.setAccessibleName("Note on this variation")
        self.note.setToolTip("What differs here, for yourself")
        self.note.editingFinished.connect(self.note_down)
        self.take_out = order.delete_action(self, self._take_out)

    def refresh(self, document: Document) -> None:
        """Show what is so."""
        own = document.shown >= 0
        self.name.setEnabled(own)
        self.take_out.setEnabled(own and len(document.variations) > 1)
        self.note.setEnabled(own)
        if not self.note.hasFocus():
            self.note.setText(pattern_of(document).note)

    def rename(self, _index: int = -1) -> None:
        """Edit the name of the shown variation on its card."""
        document = self._session.store.document
        if document is None or document.shown < 0:
            return
        card = self.cards.card(document.shown)
        self.name.setText(pattern_of(document).name)
        self.name.setGeometry(round(card.left()) + 3, 2, max(90, round(card.width()) - 6), 28)
        self.name.show()
        self.name.setFocus()
        self.name.selectAll()

    def menu(self) -> QMenu:
        """Return the menu of the shown variation's card: name, length and meter, copy, delete."""
        menu = QMenu(self)
        document = self._session.store.document
        own = document is not None and document.shown >= 0
        for text, act in (("Rename", self.rename), ("Duplicate", partial(self._edit, "copy variation", duplicate_variation))):
            entry = menu.addAction(text)
            assert entry is not None
            entry.setEnabled(own or text == "Duplicate")
            entry.triggered.connect(lambda _=False, act=act: act())
        menu.addSeparator()
        for widget in (self._order.own,):
            held = QWidgetAction(menu)
            held.setDefaultWidget(widget)
            held.setEnabled(own)
            menu.addAction(held)
            menu.aboutToHide.connect(partial(self._keep, held))
        menu.addSeparator()
        menu.addAction(self.take_out)
        return menu

    def show_menu(self, _index: int, at: QPoint) -> None:
        """Open the menu of the shown card."""
        self.menu().popup(at)

    def new_menu(self) -> QMenu:
        """Return the menu of ways to begin a variation."""
        menu = QMenu(self)

        def offer(text: str, words: str, change: Callable[[Document], Document]) -> None:
            entry = menu.addAction(text)
            assert entry is not None
            entry.triggered.connect(lambda _=False: self._edit(words, change))

        offer("Duplicate", "copy variation", duplicate_variation)
        offer("Empty", "empty variation", lambda d: add_variation(d, [], "empty"))
        menu.addSeparator()
        for name in STARTERS:
            offer(name.capitalize(), f"variation {name}", partial(with_starter, name=name))
        others = [sound.history.document for sound in self._session.project.sounds if sound is not self._session.project.sound]
        if others:
            menu.addSeparator()
        for other in others:
            for variation in other.variations:
                entry = menu.addAction(f"Groove from {other.title}: {variation.letter} {variation.name}"[:80])
                assert entry is not None
                entry.triggered.connect(lambda _=False, other=other, variation=variation: self.take_groove(other, variation))
        return menu

    def take_groove(self, other: Document, variation: Variation) -> None:
        """Add a pattern of another sound of the project, played on this kit."""
        document = self._session.store.document
        if document is None:
            return
        _, said = with_groove_of(document, other, variation)
        if self._edit(f"groove from {other.title}"[:60], lambda d: with_groove_of(d, other, variation)[0]) and said:
            self._session.hub.note(said)

    def note_down(self) -> None:
        """Keep the note that was typed."""
        document = self._session.store.document
        if document is not None and self.note.text().strip() != pattern_of(document).note:
            self._edit("edit notes", lambda d: note_down(d, self.note.text()))

    def _keep(self, held: QWidgetAction) -> None:
        """Take the widget out of the menu again, which would delete it with itself."""
        held.releaseWidget(self._order.own)
        self._order.own.setParent(self._order)
        self._order.own.hide()

    def _choose_new(self) -> None:
        menu = self.new_menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.new.mapToGlobal(self.new.rect().bottomLeft()))

    def _take_out(self) -> None:
        document = self._session.store.document
        if document is None:
            return
        letter = pattern_of(document).letter
        steps = sum(1 for step in document.order if step.letter == letter)
        if self._edit(f"delete variation {letter}", lambda d: delete_variation(d, d.shown)) and steps:
            self._session.hub.note(f"{letter} is gone from the order, too; undo brings both back.")

    def _rename(self) -> None:
        document = self._session.store.document
        give_focus_back(self)
        self.name.hide()
        if document is not None and self.name.text().strip() != pattern_of(document).name:
            self._edit("rename variation", lambda d: rename_variation(d, self.name.text()))

    def _edit(self, words: str, change: Callable[[Document], Document]) -> bool:
        return self._session.store.edit(words, change)
