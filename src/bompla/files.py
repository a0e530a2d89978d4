"""Writing files so that a reader never meets half of one."""

from __future__ import annotations

import contextlib
import errno
import io
import os
import stat
import tempfile
import unicodedata
from collections.abc import Callable
from pathlib import Path
from typing import IO

from bompla.errors import BomplaError

PRIVATE = 0o600
"""Rights of what concerns nobody but the user."""

_NO_TEXT = "\ufffe\uffff"

_REASONS = {
    errno.ENOSPC: "the disk is full; free some space and try again",
    errno.EDQUOT: "your share of the disk is full; free some space and try again",
    errno.EACCES: "you have no right to write there; choose another folder",
    errno.EPERM: "you have no right to write there; choose another folder",
    errno.EROFS: "the folder is read-only; choose another one",
    errno.ENOENT: "the folder does not exist; choose another one",
    errno.ENOTDIR: "part of the path is a file, not a folder; choose another one",
    errno.EISDIR: "there is a folder of that name; choose another name",
    errno.ENAMETOOLONG: "the name is too long; choose a shorter one",
}


_READING = {
    errno.ENOENT: "it is not there; it may have been moved or renamed",
    errno.EISDIR: "it is a folder; open a file from inside it",
    errno.EACCES: "it may not be read; check the rights of the file",
    errno.ENODEV: "it is no file but a device or a pipe; record or copy it into a file first",
}
"""Of those that mean another thing where a file is read."""


def reason_of(error: OSError, *, reading: bool = False) -> str:
    """Return why a file operation failed and what to do, in plain words."""
    if reading and error.errno in _READING:
        return _READING[error.errno]
    return _REASONS.get(error.errno or 0, (error.strerror or str(error)).lower())


def read_regular(path: Path, most_bytes: int, error_type: type[BomplaError]) -> bytes:
    """Return what is in a regular file of at most so many bytes.

    Raises `error_type` with a sentence for what is none (a pipe or a device would be waited for, or never end), is larger, or cannot be
    read.
    """
    try:
        with open_regular(path) as stream:
            size = os.fstat(stream.fileno()).st_size
            if size > most_bytes:
                raise error_type(f"{name_of(path)} is too large to be right: {size >> 20:,} MB, and {most_bytes >> 20:,} at most can be.")
            return stream.read(most_bytes)
    except OSError as error:
        raise error_type(f"Could not open {name_of(path)}: {reason_of(error, reading=True)}.") from error


def open_regular(path: Path) -> io.BufferedReader:
    """Open a regular file to be read; raises OSError for what is none, without waiting for it, and where it cannot be opened."""
    if "\0" in str(path):
        raise OSError(errno.EINVAL, "no file can have this name")
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    kind = os.fstat(handle).st_mode
    if stat.S_ISREG(kind):
        return os.fdopen(handle, "rb")
    os.close(handle)
    raise OSError(errno.EISDIR if stat.S_ISDIR(kind) else errno.ENODEV, "it is no file but a device or a pipe")


def name_of(path: Path) -> str:
    """Return a file's name as text: bytes of it that are none become �, and control characters spaces."""
    return as_text(path.name)


def as_text(words: str) -> str:
    """Return words that a file or a label can hold: what is no text becomes �, and control characters spaces."""
    whole = words.encode("utf-8", "surrogateescape").decode("utf-8", "replace") if not words.isascii() else words
    return "".join(" " if one in _NO_TEXT or unicodedata.category(one) == "Cc" else one for one in whole)


def is_text(path: Path) -> bool:
    """Whether a path can be written down as text, and read back as the same path."""
    try:
        str(path).encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


def write_atomically(
    path: Path, content: bytes | Callable[[IO[bytes]], object], error_type: type[BomplaError], *, mode: int | None = None,
    check: Callable[[Path], object] | None = None,
) -> None:
    """Write `content` to `path` under a temporary name, flush it, and rename it into place.

    Raises `error_type` with a sentence where the file cannot be written; whatever stood at
    `path` before is then still there, whole. A link stays a link, and a file keeps its rights and its owner where that can be; what is
    no regular file is not written over. With a `mode` it has those rights, whatever it had. Content that is large is a function that
    writes it. What `check` raises when it has looked at the temporary file keeps that from taking the place of what was there.
    """
    temporary: str | None = None
    try:
        path = Path(os.path.realpath(path)) if path.is_symlink() else path  # a link stays one
        there = os.lstat(path) if os.path.lexists(path) else None
        if there is not None and not stat.S_ISREG(there.st_mode):
            raise error_type(f"Could not write {path.name}: there is something else of that name that is no file; choose another name.")
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name[:40]}.", dir=path.parent)
        with os.fdopen(handle, "wb") as stream:
            if callable(content):
                content(stream)
            else:
                stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())
        if check is not None:
            check(Path(temporary))
        usual = stat.S_IMODE(there.st_mode) if there is not None else 0o666 & ~umask()
        os.chmod(temporary, usual if mode is None else mode)
        if there is not None and (there.st_uid, there.st_gid) != (os.geteuid(), os.getegid()):
            with contextlib.suppress(OSError):
                os.chown(temporary, there.st_uid, there.st_gid)
        os.replace(temporary, path)
        sync_folder(path.parent)
    except OSError as error:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)
        raise error_type(f"Could not write {path.name}: {reason_of(error)}.") from error
    except BaseException:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)
        raise


def sync_folder(folder: Path) -> None:
    """Have the names in a folder on the disk, so that a power cut finds the files that were put there; not every file system can."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def umask() -> int:
    """Return which rights new files lack, without changing it for a moment as asking the system would."""
    with contextlib.suppress(OSError), open("/proc/self/status") as status:
        for line in status:
            if line.startswith("Umask:"):
                return int(line.split()[1], 8)
    return 0o022
