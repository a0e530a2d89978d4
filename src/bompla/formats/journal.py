"""The journal: every edit on disk as it is made, so that a session that ends in whatever way can be gone on with.

A journal is a folder of one window: `lock`, held by its process for as long as that lives; `edits`, a row of records, each with its
length and a checksum, a compressed message of what an edit changed; and `sounds` beside it, by content, shared by all journals and
never written twice. A record that a kill cut short is left out, and so is whatever follows it.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import struct
import threading
import time
import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import msgspec
import platformdirs

from bompla.audio.clip import Clip
from bompla.audio.files import decode_clip, encode_clip
from bompla.errors import BomplaError, ProjectError
from bompla.files import open_regular, reason_of, sync_folder, write_atomically
from bompla.formats.migrations import document_to_4, document_to_5
from bompla.formats.project import Project
from bompla.model.checks import check_document
from bompla.model.document import Document

LOCK, EDITS, SOUNDS = "lock", "edits", "sounds"
SOUND_SUFFIX = ".wav"
FOLDER_MODE, FILE_MODE = 0o700, 0o600
MOST_RECORD_BYTES = 200_000_000
TURN_S = 15.0
_HEAD = struct.Struct("<II")
_VERSION = 3
"""Of records; those of version 1 hold documents of format 3."""



@dataclass(frozen=True, eq=False)
class Written:
    """A project as the journal has it: its documents in order, which is shown, what pads borrow, where it is saved, and how many edits."""

    documents: tuple[Document, ...]
    current: int = 0
    borrowed: tuple[str, ...] = ()
    path: str = ""
    edits: int = 0


@dataclass(frozen=True)
class Left:
    """What a session left: its folder, the project's name, its last edit in seconds since 1970, how many edits, where it is saved.

    `document` is what was shown.
    """

    folder: Path
    title: str
    at: float
    edits: int
    path: str
    document: Document


def journals_folder() -> Path:
    """Return where journals are kept."""
    return Path(platformdirs.user_state_dir("bompla")) / "journal"


class JournalWriter:
    """Writes the journal of one window, from any thread, one write at a time; raises ProjectError where it cannot."""

    def __init__(self, folder: Path) -> None:
        self._root = folder
        self._folder = folder / f"{time.time_ns():x}-{os.getpid()}"
        self._lock: IO[bytes] | None = None
        self._edits: IO[bytes] | None = None
        self._before: Written | None = None
        self._turn = threading.Lock()

    @property
    def folder(self) -> Path:
        """Where this journal is."""
        return self._folder

    def write(self, now: Written, sounds: Mapping[str, Clip]) -> int:
        """Append what changed since the last time, and sounds that are not there yet; return how many bytes an edit took.

        One writes at a time; raises ProjectError where another is not done after a while, or it cannot be written.
        """
        if not self._turn.acquire(timeout=TURN_S):
            raise ProjectError("Edits are still being kept beside the project; the disk is slow. Save it by hand once it answers.")
        try:
            return self._write(now, sounds)
        finally:
            self._turn.release()

    def _write(self, now: Written, sounds: Mapping[str, Clip]) -> int:
        try:
            edits = self._begun()
            for key, clip in sounds.items():
                _keep_sound(self._root / SOUNDS, key, clip)
            record = _changes(self._before, now)
            content = zlib.compress(msgspec.msgpack.encode(record), 3)
            edits.write(_HEAD.pack(len(content), zlib.crc32(content)) + content)
            edits.flush()
            os.fsync(edits.fileno())
        except OSError as error:
            raise ProjectError(f"Edits could not be kept beside the project ({reason_of(error)}); save it by hand, and often.") from error
        self._before = now
        return len(content) + _HEAD.size

    def forget(self) -> None:
        """Remove what was kept: all of it is saved, or is not wanted; a full disk is no reason to keep it."""
        with self._turn:
            self._close()
            shutil.rmtree(self._folder, ignore_errors=True)
            self._before = None

    def close(self) -> None:
        """Let go of the journal and leave it where it is."""
        with self._turn:
            self._close()

    def _begun(self) -> IO[bytes]:
        if self._edits is None:
            made = [folder for folder in (self._root, *self._root.parents) if not folder.exists()]
            for folder in (self._root, self._root / SOUNDS, self._folder):
                folder.mkdir(mode=FOLDER_MODE, parents=True, exist_ok=True)
            self._lock = _opened(self._folder / LOCK)
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            self._edits = _opened(self._folder / EDITS)
            for folder in (self._folder, self._root, *(folder.parent for folder in made)):
                sync_folder(folder)
        return self._edits

    def _close(self) -> None:
        for stream in (self._edits, self._lock):
            if stream is not None:
                with contextlib.suppress(OSError):  # what it still had to write goes with the rest
                    stream.close()
        self._edits = self._lock = None


def left_behind(folder: Path) -> list[Left]:
    """Return what sessions that are gone left, the newest first; journals of windows that are open are theirs."""
    found = []
    for journal in sorted(folder.iterdir()) if folder.is_dir() else []:
        if journal.name == SOUNDS or not (journal / EDITS).is_file() or _is_held(journal):
            continue
        last = _last(journal)
        if last is not None:
            at = (journal / EDITS).stat().st_mtime
            found.append(Left(journal, last.documents[last.current].title, at, last.edits, last.path, last.documents[last.current]))
    return sorted(found, key=lambda one: -one.at)


def recovered(left: Left) -> Project:
    """Return the project that a session left, as it was at its last edit that is whole; raises ProjectError."""
    last = _last(left.folder)
    if last is None:
        raise ProjectError(f"Nothing whole is left of {left.title}.")
    sounds = left.folder.parent / SOUNDS
    try:
        for document in last.documents:
            check_document(document)
        sources = tuple((document, _sound(sounds, document.source.content_hash, document.source.path)) for document in last.documents)
        borrowed = {key: _sound(sounds, key, "") for key in last.borrowed}
    except BomplaError as error:
        raise ProjectError(f"{left.title} cannot be gone on with: {error}") from error
    return Project(sources, last.current, borrowed)


def discard(left: Left) -> None:
    """Take away what a session left."""
    shutil.rmtree(left.folder, ignore_errors=True)


def tidy(folder: Path) -> None:
    """Take away sounds that no journal needs any more, and folders that hold nothing."""
    needed: set[str] = set()
    for journal in folder.iterdir() if folder.is_dir() else []:
        if journal.name == SOUNDS:
            continue
        if _is_held(journal):
            return  # another window may be about to write the sounds that it needs
        last = _last(journal)
        if last is None:
            shutil.rmtree(journal, ignore_errors=True)
        else:
            needed |= {document.source.content_hash for document in last.documents} | set(last.borrowed)
    for sound in (folder / SOUNDS).glob("*") if (folder / SOUNDS).is_dir() else []:
        if sound.stem not in needed:
            sound.unlink(missing_ok=True)


def _changes(before: Written | None, now: Written) -> dict[str, Any]:
    """Return of each document the fields that are another object than before: documents are never changed in place."""
    documents = []
    for index, document in enumerate(now.documents):
        old = before.documents[index] if before is not None and index < len(before.documents) else None
        fields = {one.encode_name: value for one in msgspec.structs.fields(Document)
                  if (value := getattr(document, one.name)) is not (getattr(old, one.name) if old is not None else _NEW)}
        documents.append({"all": old is None, "set": msgspec.to_builtins(fields)})
    return {"version": _VERSION, "documents": documents, "current": now.current, "borrowed": now.borrowed, "path": now.path,
            "edits": now.edits}


_NEW = object()


def _records(journal: Path) -> Iterator[dict[str, Any]]:
    """Yield the records of a journal up to the first that is not whole."""
    with (journal / EDITS).open("rb") as stream:
        while len(head := stream.read(_HEAD.size)) == _HEAD.size:
            size, checksum = _HEAD.unpack(head)
            content = stream.read(size) if size <= MOST_RECORD_BYTES else b""
            if len(content) != size or zlib.crc32(content) != checksum:
                return
            unpacked = zlib.decompressobj().decompress(content, MOST_RECORD_BYTES)
            record = msgspec.msgpack.decode(unpacked)
            if not isinstance(record, dict) or record.get("version") not in range(1, _VERSION + 1):
                return
            yield record


def _last(journal: Path) -> Written | None:
    """Return the last state of a journal that is whole; None where there is none."""
    documents: list[dict[str, Any]] = []
    last: dict[str, Any] | None = None
    try:
        for record in _records(journal):
            changed = record["documents"]
            del documents[len(changed) :]
            for index, one in enumerate(changed):
                if one["all"] or index >= len(documents):
                    documents[index:] = [dict(one["set"]), *documents[index + 1 :]]
                else:
                    documents[index] = {**documents[index], **one["set"]}
            last = record
        if last is None or not documents:
            return None
        for plain in documents:
            if last["version"] < 2:
                document_to_4(plain)
            if last["version"] < 3:
                document_to_5(plain)
        made = tuple(msgspec.convert(plain, Document) for plain in documents)
        current = max(0, min(int(last["current"]), len(made) - 1))
        return Written(made, current, tuple(last["borrowed"]), str(last["path"]), int(last["edits"]))
    except (OSError, zlib.error, msgspec.DecodeError, msgspec.ValidationError, KeyError, TypeError, ValueError):
        return None


def _is_held(journal: Path) -> bool:
    """Whether the window that writes a journal is still there."""
    try:
        with (journal / LOCK).open("rb") as stream:
            fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    return False


def _keep_sound(folder: Path, key: str, clip: Clip) -> None:
    """Write a sound, unless it is there."""
    path = folder / f"{key}{SOUND_SUFFIX}"
    if not path.exists():
        write_atomically(path, encode_clip(clip, container="RF64", subtype="FLOAT"), ProjectError, mode=FILE_MODE)


def _sound(folder: Path, key: str, path: str) -> Clip:
    """Return a sound by its content: as the journal kept it, or from where it was read."""
    from bompla.audio.files import read_clip

    kept = folder / f"{key}{SOUND_SUFFIX}"
    if kept.is_file():
        with open_regular(kept) as stream:
            clip = decode_clip(stream, "its sound")
        if clip.content_hash == key:
            return clip
    if path and Path(path).is_file():
        clip = read_clip(Path(path))
        if clip.content_hash == key:
            return clip
    raise ProjectError("its sound is not there any more.")


def _opened(path: Path) -> IO[bytes]:
    return os.fdopen(os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND, FILE_MODE), "ab")


def in_words(left: Sequence[Left]) -> str:
    """Return what was left as lines of text."""
    lines = []
    for one in left:
        where = f"of {one.path}" if one.path else "never saved"
        when = time.strftime("%Y-%m-%d %H:%M", time.localtime(one.at))
        lines.append(f"{when}  {one.title}, {one.edits} edit{'' if one.edits == 1 else 's'}, {where}")
    return "\n".join(lines)
