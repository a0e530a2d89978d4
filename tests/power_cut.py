"""A disk that loses its power: only what was synced is on it, content by content and name by name."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest


class Disk:
    """Follows what is synced below a folder, and shows what a power cut would leave.

    A file's content is what it was at its last sync. Its name is there where the folder it is in was synced since; and a rename may also
    have reached the disk by itself, which `names_as_they_are` takes for granted.
    """

    def __init__(self, root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        self.root = root
        self._content: dict[int, bytes] = {}
        self._names: dict[int, dict[str, int]] = {}
        self.at_each: Callable[[], None] = lambda: None
        for folder, _, files in os.walk(root):
            self._sync(Path(folder))
            for name in files:
                self._sync(Path(folder) / name)
        fsync = os.fsync

        def synced(handle: int) -> None:
            self.at_each()
            fsync(handle)
            self._sync(Path(f"/proc/self/fd/{handle}").readlink())
            self.at_each()

        monkeypatch.setattr("os.fsync", synced)

    def _sync(self, path: Path) -> None:
        if path.is_dir():
            self._names[path.stat().st_ino] = {one.name: one.stat(follow_symlinks=False).st_ino for one in path.iterdir()}
        else:
            self._content[path.stat().st_ino] = path.read_bytes()

    def left(self, to: Path, *, names_as_they_are: bool = False) -> Path:
        """Write what a cut now would leave to a folder, and return it."""
        to.mkdir()
        self._fill(self.root, self.root.stat().st_ino, to, names_as_they_are)
        return to

    def _fill(self, here: Path, folder: int, to: Path, names_as_they_are: bool) -> None:
        for name, inode in self._listed(here, folder, names_as_they_are):
            kind = here / name
            if inode in self._names or kind.is_dir():
                (to / name).mkdir()
                self._fill(kind, inode, to / name, names_as_they_are)
            else:
                (to / name).write_bytes(self._content.get(inode, b""))  # a name without its content: the worst a disk may do

    def _listed(self, here: Path, folder: int, names_as_they_are: bool) -> Iterator[tuple[str, int]]:
        if names_as_they_are and here.is_dir():
            return iter([(one.name, one.stat(follow_symlinks=False).st_ino) for one in here.iterdir()])
        return iter(self._names.get(folder, {}).items())
