"""Writing files so that a reader never meets half of one."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import tempfile
from pathlib import Path

from bompla.errors import BomplaError

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
}
"""Of those that mean another thing where a file is read."""


def reason_of(error: OSError, *, reading: bool = False) -> str:
    """Return why a file operation failed and what to do, in plain words."""
    if reading and error.errno in _READING:
        return _READING[error.errno]
    return _REASONS.get(error.errno or 0, (error.strerror or str(error)).lower())


def write_atomically(path: Path, content: bytes, error_type: type[BomplaError]) -> None:
    """Write `content` to `path` under a temporary name, flush it, and rename it into place.

    Raises `error_type` with a sentence where the file cannot be written; whatever stood at
    `path` before is then still there, whole. A link stays a link, and a file keeps its rights and its owner where that can be; what is
    no regular file is not written over.
    """
    temporary: str | None = None
    try:
        path = Path(os.path.realpath(path)) if path.is_symlink() else path  # a link stays one
        there = os.lstat(path) if os.path.lexists(path) else None
        if there is not None and not stat.S_ISREG(there.st_mode):
            raise error_type(f"Could not write {path.name}: there is something else of that name that is no file; choose another name.")
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name[:40]}.", dir=path.parent)
        with os.fdopen(handle, "wb") as stream:
            stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())
        os.chmod(temporary, stat.S_IMODE(there.st_mode) if there is not None else 0o666 & ~umask())
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
