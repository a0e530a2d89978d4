"""The shelf: what is known of the loops of a folder, kept by content so that a second visit is quick."""

from __future__ import annotations

import contextlib
import hashlib
import os
import sqlite3
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from bompla.audio.files import SUFFIXES
from bompla.errors import BomplaError

WAVE_COLUMNS = 96
INDEX_VERSION = 2
MAX_FILES = 50_000


class ShelfEntry(msgspec.Struct, frozen=True):
    """What the shelf shows of a file.

    `wave` holds `WAVE_COLUMNS` heights from 0 to 255. `swing` is where off-beat eighths fall in
    their beat, in percent: 50 is straight, 67 a triplet; 0 where there are none, and
    where beats are in three, as they are in 6/8. `problem` is a
    sentence where the file could not be read or holds no hits.
    """

    bpm: float = 0.0
    bars: int = 0
    meter: str = ""
    duration_s: float = 0.0
    hits_per_bar: float = 0.0
    swing: float = 0.0
    sureness: float = 0.0
    wave: bytes = b""
    problem: str = ""


def files_under(folder: Path) -> Iterator[Path]:
    """Yield the sound files of a folder and its subfolders, newest first within each, hidden ones left out.

    Links to folders are not followed; a folder that may not be read is passed over.
    """
    count = 0
    for place, folders, names in os.walk(folder, onerror=lambda _: None):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        here = [Path(place) / name for name in names if not name.startswith(".") and name.lower().endswith(SUFFIXES)]
        for path in sorted(here, key=lambda p: (-_changed(p), p.name)):
            yield path
            count += 1
            if count >= MAX_FILES:
                return


def content_key(path: Path) -> str:
    """Return what names a file's content, whatever it is called; raises OSError where it cannot be read."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "blake2b").hexdigest()[:32]


def _changed(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0


class ShelfIndex:
    """What was found out about files, in a SQLite file: by content, and by path for a quick second visit.

    An index that cannot be opened, or is damaged, is made anew; where even that fails it is kept in
    memory only.
    """

    def __init__(self, path: Path | None) -> None:
        self._db = _opened(path)

    def close(self) -> None:
        """Close the file."""
        self._db.close()

    def known(self, paths: Iterable[Path]) -> dict[Path, ShelfEntry]:
        """Return the entries of files that are unchanged since they were looked at, by size and time of change."""
        rows = self._db.execute("select path, size, changed, entry from files join entries using (content)")
        kept = {path: (size, changed, entry) for path, size, changed, entry in rows}
        found = {}
        for path in paths:
            row = kept.get(str(path))
            if row is not None and _stamp(path) == (row[0], row[1]) and (entry := _decoded(row[2])) is not None:
                found[path] = entry
        return found

    def of_content(self, content: str) -> ShelfEntry | None:
        """Return the entry of a content that was looked at under whatever name."""
        row = self._db.execute("select entry from entries where content = ?", (content,)).fetchone()
        return _decoded(row[0]) if row else None

    def keep(self, found: Iterable[tuple[Path, str, ShelfEntry]]) -> None:
        """Keep entries, with the path and content of each; a full or read-only disk is no reason to stop."""
        with contextlib.suppress(sqlite3.Error), self._db:
            for path, content, entry in found:
                stamp = _stamp(path)
                if stamp is None or not content:
                    continue
                self._db.execute("insert or replace into entries values (?, ?)", (content, msgspec.msgpack.encode(entry)))
                self._db.execute("insert or replace into files values (?, ?, ?, ?)", (str(path), *stamp, content))


def _opened(path: Path | None) -> sqlite3.Connection:
    for place in (path, path, None):
        try:
            if place is not None:
                place.parent.mkdir(parents=True, exist_ok=True)
            made = sqlite3.connect(place or ":memory:", check_same_thread=False)
            version = made.execute("pragma user_version").fetchone()[0]
            if version not in (0, INDEX_VERSION):
                raise sqlite3.DatabaseError("another version")
            made.execute("create table if not exists entries (content text primary key, entry blob)")
            made.execute("create table if not exists files (path text primary key, size integer, changed integer, content text)")
            made.execute(f"pragma user_version = {INDEX_VERSION}")
            made.commit()
        except (sqlite3.Error, OSError):
            if place is not None:
                with contextlib.suppress(OSError):
                    place.unlink()
            continue
        return made
    raise BomplaError("The shelf's index could not be made.")


def _stamp(path: Path) -> tuple[int, int] | None:
    try:
        stat = path.stat()
    except OSError:
        return None
    return stat.st_size, stat.st_mtime_ns


def _decoded(blob: bytes) -> ShelfEntry | None:
    try:
        return msgspec.msgpack.decode(blob, type=ShelfEntry)
    except msgspec.DecodeError:
        return None
