"""The shelf: what is known of the loops of a folder, kept by content so that a second visit is quick."""

from __future__ import annotations

import contextlib
import hashlib
import os
import sqlite3
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec

from bompla.audio.files import SUFFIXES
from bompla.errors import BomplaError
from bompla.files import open_regular
from bompla.model.groove_print import GroovePrint

WAVE_COLUMNS = 96
INDEX_VERSION = 3
MAX_FILES = 50_000
LOCK_WAIT_S = 2.0


class ShelfHit(msgspec.Struct, frozen=True, array_like=True):
    """A hit of a file: its drum, where its slice starts and ends, its velocity, how sure it is, and how far it stands clear."""

    drum: str
    start_s: float
    end_s: float
    velocity: int
    confidence: float
    clear_db: float


class ShelfEntry(msgspec.Struct, frozen=True):
    """What the shelf shows of a file.

    `wave` holds `WAVE_COLUMNS` heights from 0 to 255. `swing` is where off-beat eighths fall in
    their beat, in percent: 50 is straight, 67 a triplet; 0 where there are none, and
    where beats are in three, as they are in 6/8. `groove` is what is played, to compare it by. `problem` is a
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
    groove: GroovePrint = GroovePrint()
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
    with open_regular(path) as stream:
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
        self._path = path
        self._db = _opened(path)

    def close(self) -> None:
        """Close the file."""
        self._db.close()

    def known(self, paths: Iterable[Path]) -> dict[Path, ShelfEntry]:
        """Return the entries of files that are unchanged since they were looked at, by size and time of change."""
        rows = self._read("select path, size, changed, entry from files join entries using (content)")
        kept = {path: (size, changed, entry) for path, size, changed, entry in rows}
        found = {}
        for path in paths:
            row = kept.get(_named(path))
            if row is not None and _stamp(path) == (row[0], row[1]) and (entry := _decoded(row[2])) is not None:
                found[path] = entry
        return found

    def under(self, folder: Path) -> list[tuple[Path, ShelfEntry]]:
        """Return the files of a folder and its subfolders that were looked at and are still there, with their entries."""
        return [(path, entry) for path, blob in self._under(folder, "entry", "entries")
                if (entry := _decoded(blob)) is not None and not entry.problem]

    def hits_under(self, folder: Path, drum: str) -> list[tuple[Path, ShelfHit]]:
        """Return the hits of a drum in a folder's files, those that stand clearest first."""
        found = []
        for path, blob in self._under(folder, "hits", "strikes"):
            with contextlib.suppress(msgspec.DecodeError):
                found += [(path, hit) for hit in msgspec.msgpack.decode(blob, type=tuple[ShelfHit, ...]) if hit.drum == drum]
        return sorted(found, key=lambda one: (-round(one[1].confidence, 1), -one[1].clear_db))

    def _under(self, folder: Path, column: str, table: str) -> list[tuple[Path, bytes]]:
        start = f"{_named(folder).rstrip('/')}/"
        query = f"select path, {column} from files join {table} using (content) where substr(path, 1, ?) = ?"  # noqa: S608  # our names
        return [(Path(path), blob) for path, blob in self._read(query, len(start), start) if os.path.isfile(path)]  # noqa: PTH113

    def _read(self, query: str, *values: object) -> list[tuple[Any, ...]]:
        """Return rows; where the file turns out to be damaged the index is begun anew, where it is locked there are none this time."""
        try:
            return self._db.execute(query, values).fetchall()
        except sqlite3.OperationalError as error:
            if _is_lock(error):
                return []
        except sqlite3.DatabaseError:
            pass
        with contextlib.suppress(sqlite3.Error):
            self._db.close()
        if self._path is not None:
            with contextlib.suppress(OSError):
                self._path.unlink()
        self._db = _opened(self._path)
        return []

    def keep(self, found: Iterable[tuple[Path, str, ShelfEntry, tuple[ShelfHit, ...]]]) -> None:
        """Keep entries and hits, with the path and content of each; a full or read-only disk is no reason to stop."""
        with contextlib.suppress(sqlite3.Error), self._db:
            for path, content, entry, hits in found:
                stamp = _stamp(path)
                if stamp is None or not content:
                    continue
                self._db.execute("insert or replace into entries values (?, ?)", (content, msgspec.msgpack.encode(entry)))
                self._db.execute("insert or replace into strikes values (?, ?)", (content, msgspec.msgpack.encode(hits)))
                self._db.execute("insert or replace into files values (?, ?, ?, ?)", (_named(path), *stamp, content))


def _opened(path: Path | None) -> sqlite3.Connection:
    for place in (path, path, None):
        try:
            if place is not None:
                place.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
                place.touch(mode=0o600, exist_ok=True)
            made = sqlite3.connect(place or ":memory:", check_same_thread=False, timeout=LOCK_WAIT_S)
            version = made.execute("pragma user_version").fetchone()[0]
            if version not in (0, INDEX_VERSION):
                raise sqlite3.DatabaseError("another version")
            made.execute("create table if not exists entries (content text primary key, entry blob)")
            made.execute("create table if not exists strikes (content text primary key, hits blob)")
            made.execute("create table if not exists files (path text primary key, size integer, changed integer, content text)")
            made.execute(f"pragma user_version = {INDEX_VERSION}")
            made.commit()
        except (sqlite3.Error, OSError) as error:
            if place is not None and not _is_lock(error):
                with contextlib.suppress(OSError):
                    place.unlink()
            continue
        return made
    raise BomplaError("The shelf's index could not be made.")


def _is_lock(error: Exception) -> bool:
    """Whether another window is at the index: that is never a reason to take it away."""
    return isinstance(error, sqlite3.OperationalError) and ("locked" in str(error) or "busy" in str(error))


def _named(path: Path) -> str:
    """Return a path as the index has it; one whose bytes are no text by the numbers of them."""
    name = str(path)
    try:
        name.encode("utf-8")
    except UnicodeEncodeError:
        return os.fsencode(path).hex()
    return name


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
