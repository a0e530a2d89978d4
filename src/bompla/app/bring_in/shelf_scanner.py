"""Scanning the shelf: a worker process for each core, what is known shown at once, the rest as it is found."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.project.analysis_process import AnalysisProcess
from bompla.app.project.tasks import Threads, Token
from bompla.shelf.index import ShelfEntry, ShelfHit, ShelfIndex, files_under

KEEP_EVERY = 32


Found = tuple[Path, str, ShelfEntry, tuple[ShelfHit, ...]]
"""A file that was looked at, its content key, its entry and its hits."""


@dataclass(frozen=True)
class ListRequest:
    """Folders to be listed, and the index that knows files of them."""

    folders: tuple[Path, ...]
    index: Path


@dataclass(frozen=True)
class IndexRequest:
    """What was found, to be kept in an index."""

    found: tuple[Found, ...]
    index: Path


def _list(request: ListRequest, token: Token) -> tuple[list[Path], dict[Path, ShelfEntry]]:
    paths = [path for folder in request.folders for path in files_under(folder)]
    token.check()
    with closing(ShelfIndex(request.index)) as index:
        return paths, index.known(paths)


def _keep(request: IndexRequest, _token: Token) -> None:
    with closing(ShelfIndex(request.index)) as index:
        index.keep(request.found)


class ShelfScanner(QObject):
    """Looks at the sound files of a folder.

    `listed` carries all its files, `looked_at` a file with its entry, `finished` nothing. A file
    that is known and unchanged is told at once from the index.
    """

    listed = pyqtSignal(object)
    looked_at = pyqtSignal(object, object)
    progressed = pyqtSignal(int, int)
    finished = pyqtSignal()

    def __init__(self, index: Path, trouble: Callable[[str], object], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._index, self._trouble = index, trouble
        self._threads = Threads(self)
        self._workers: list[AnalysisProcess] = []
        self._waiting: list[Path] = []
        self._found: list[Found] = []
        self._tried: set[Path] = set()
        self._scan = 0
        self._running = self._done = self._total = 0

    @property
    def busy(self) -> bool:
        """Whether a scan goes on."""
        return self._running > 0 or bool(self._waiting) or self._threads.busy

    def scan(self, folders: list[Path]) -> None:
        """Look at all sound files of folders and their subfolders; a scan under way is given up."""
        self.cancel()
        self._scan += 1
        scan = self._scan

        request = ListRequest(tuple(folders), self._index)
        self._threads.run(_list, request, done=lambda found: self._take_list(scan, *found), failed=self._trouble)

    def cancel(self) -> None:
        """Give up the scan; what was found is kept."""
        self._scan += 1
        self._waiting = []
        self._running = 0
        for worker in self._workers:
            worker.close()
        self._keep()

    def close(self) -> None:
        """End all work."""
        self.cancel()
        self._threads.close(finish=True)

    def _take_list(self, scan: int, paths: list[Path], known: dict[Path, ShelfEntry]) -> None:
        if scan != self._scan:
            return
        self.listed.emit(paths)
        for path, entry in known.items():
            self.looked_at.emit(path, entry)
        self._tried = set()
        self._waiting = [path for path in paths if path not in known]
        self._done, self._total = len(known), len(paths)
        self.progressed.emit(self._done, self._total)
        if not self._waiting:
            self.finished.emit()
            return
        while len(self._workers) < max(1, os.cpu_count() or 1):
            self._workers.append(AnalysisProcess(self))
        for worker in self._workers:
            self._next(scan, worker)

    def _next(self, scan: int, worker: AnalysisProcess) -> None:
        if scan != self._scan:
            return
        if not self._waiting:
            worker.close()
            if self._running == 0:
                self._keep()
                self.finished.emit()
            return
        path = self._waiting.pop(0)
        self._running += 1

        def done(found: tuple[str, ShelfEntry, tuple[ShelfHit, ...]]) -> None:
            self._take(scan, worker, path, *found)

        def failed(sentence: str) -> None:
            if scan == self._scan and path not in self._tried:  # a process that was ended says nothing of the file
                self._tried.add(path)
                self._running -= 1
                self._waiting.append(path)
                self._next(scan, worker)
                return
            self._take(scan, worker, path, "", ShelfEntry(problem=sentence), ())

        worker.ask_scan(path, done=done, failed=failed)

    def _take(self, scan: int, worker: AnalysisProcess, path: Path, content: str, entry: ShelfEntry,
              hits: tuple[ShelfHit, ...]) -> None:
        if scan != self._scan:
            return
        self._running -= 1
        self._done += 1
        self._found.append((path, content, entry, hits))
        if len(self._found) >= KEEP_EVERY:
            self._keep()
        self.looked_at.emit(path, entry)
        self.progressed.emit(self._done, self._total)
        self._next(scan, worker)

    def _keep(self) -> None:
        found, self._found = tuple(self._found), []
        if found:
            self._threads.run(_keep, IndexRequest(found, self._index), done=lambda _: None, failed=self._trouble)
