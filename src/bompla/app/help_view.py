"""The manual beside the window: a page a stage, the stage's keys first, searched by words; it needs no network."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QImage, QTextCursor
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QVBoxLayout, QWidget

from bompla.app.commands import COMMANDS, EVERYWHERE, GESTURES, STAGES
from bompla.app.theme import theme
from bompla.app.ui.controls import label

SHIPPED = Path(__file__).parents[1] / "manual"
IN_SOURCE = Path(__file__).parents[3] / "docs" / "manual"
WIDTH = 600
PAGES = {**STAGES, "listening": "Listening, undo, files", "command-line": "The command line"}


def manual_folder() -> Path:
    """Return where the manual's pages are: in the package as it is installed, or beside its source."""
    return SHIPPED if SHIPPED.is_dir() else IN_SOURCE


@dataclass(frozen=True)
class Found:
    """A line of the manual in which words were found: its page and the line."""

    page: str
    line: str


def page_text(page: str, folder: Path) -> str:
    """Return a page as Markdown, its keys first; a sentence where it cannot be read."""
    try:
        text = (folder / f"{page}.md").read_text(encoding="utf-8")
    except OSError:
        return f"# {PAGES.get(page, page)}\n\nThis page of the manual is not there; install Bompla again."
    heading, _, rest = text.partition("\n")
    keys = keys_of(page)
    return f"{heading}\n\n{keys}\n\n{rest}" if keys else text


def keys_of(page: str) -> str:
    """Return the keys and gestures of a stage as a table, empty for a page that is none."""
    title = STAGES.get(page, EVERYWHERE if page == "listening" else "")
    rows = [(c.shortcut, c.label) for c in COMMANDS if c.where == title] + [(how, what) for where, how, what in GESTURES if where == title]
    if not rows:
        return ""
    lines = [f"| {keys.replace('|', chr(92) + '|')} | {what} |" for keys, what in rows]
    return "\n".join(["| key | what it does |", "|---|---|", *lines])


def search(words: str, folder: Path) -> list[Found]:
    """Return the lines that have all the words, page by page."""
    wanted = words.lower().split()
    if not wanted:
        return []
    return [Found(page, _plain(line)) for page in PAGES for line in page_text(page, folder).splitlines()
            if _plain(line) and all(word in _plain(line).lower() for word in wanted)]


def _plain(line: str) -> str:
    """Return a line of Markdown without its marks; nothing for a picture or a rule."""
    if line.startswith("![") or set(line) <= set("|-: "):
        return ""
    plain = re.sub(r"\[([^\]]*)\]\([^)]*\)", r"\1", line)
    return re.sub(r"[*`#]|^\||\|$", "", plain).replace("|", " · ").strip()


class HelpView(QDialog):
    """Shows a page, and the lines in which words were found; a click goes to one."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Help")
        self.resize(960, 720)
        self._folder = manual_folder()
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 14, 16, 14)
        row.setSpacing(14)
        column = QVBoxLayout()
        self.words = QLineEdit()
        self.words.setAccessibleName("Search the manual")
        self.words.setToolTip("Find words in all pages of the manual")
        self.words.setPlaceholderText("search the manual")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(self._look)
        self.list = QListWidget()
        self.list.setAccessibleName("Pages of the manual")
        self.list.setFixedWidth(260)
        self.list.setWordWrap(True)
        self.list.currentItemChanged.connect(lambda item, _: self._open(item))
        for widget in (self.words, self.list, label("Shift+F1 finds a command by its words", "dim")):
            column.addWidget(widget)
        row.addLayout(column)
        self.page = _Page(self._folder)
        row.addWidget(self.page, 1)
        self.shown = ""
        theme().changed.connect(self._redraw)
        self._look("")

    def show_page(self, page: str) -> None:
        """Show a page from its top."""
        self.words.clear()
        keys = [self.list.item(n) for n in range(self.list.count())]
        for item in keys:
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == (page, ""):
                self.list.setCurrentItem(item)

    def _look(self, words: str) -> None:
        found = search(words, self._folder)
        self.list.blockSignals(True)
        self.list.clear()
        if not words.strip():
            rows = [((page, ""), title) for page, title in PAGES.items()]
        else:
            rows = [((one.page, one.line), f"{PAGES[one.page]}: {one.line}") for one in found]
        for data, text in rows or [(("", ""), "Nothing has these words.")]:
            item = QListWidgetItem(text)
            item.setData(Qt.ItemDataRole.UserRole, data)
            self.list.addItem(item)
        self.list.blockSignals(False)

    def _open(self, item: QListWidgetItem | None) -> None:
        page, line = item.data(Qt.ItemDataRole.UserRole) if item is not None else ("", "")
        if not page:
            return
        if page != self.shown:
            self.shown = page
            self._redraw()
        self.page.moveCursor(QTextCursor.MoveOperation.Start)
        if line:
            self.page.find(line.split(" · ")[-1][:60])
        self.page.ensureCursorVisible()

    def _redraw(self) -> None:
        if self.shown:
            self.page.setMarkdown(page_text(self.shown, self._folder))


class _Page(QTextBrowser):
    """A page of Markdown whose pictures fit its width."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self._folder = folder
        self.setObjectName("page")
        self.setAccessibleName("Page of the manual")
        self.setOpenLinks(False)
        self.anchorClicked.connect(self._follow)

    def loadResource(self, kind: int, name: QUrl) -> object:  # noqa: N802  # Qt's name
        path = (self._folder / name.toString()).resolve()
        if path.suffix == ".png" and path.is_file():
            return QImage(str(path)).scaledToWidth(WIDTH, Qt.TransformationMode.SmoothTransformation)
        return super().loadResource(kind, name)

    def _follow(self, url: QUrl) -> None:
        """Go to another page of the manual; what lies outside it is not opened."""
        view = self.parent()
        page = Path(url.path()).stem
        while view is not None and not isinstance(view, HelpView):
            view = view.parent()
        if view is not None and page in PAGES:
            view.show_page(page)
