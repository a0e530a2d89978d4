"""Writing what leaves: whole or not at all, over nothing that is there without a word, with a manifest."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import tempfile
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Literal

from bompla.errors import ExportError
from bompla.export.request import ExportRequest, Made
from bompla.export.table import EXPORTS, Export
from bompla.files import reason_of, sync_folder, umask
from bompla.formats.schemas import Manifest, plain
from bompla.model.wording import as_number

MANIFEST = "manifest.json"
MOST_WAITING = 4
"""So many files may wait to be on the disk while the next is made."""

Taken = Literal["refuse", "keep both", "replace"]
"""What to do where a name is taken."""

Progress = Callable[[float, str], object]


def write_all(
    request: ExportRequest, keys: Sequence[str], folder: Path, *, taken: Taken = "refuse", source: str = "",
    progress: Progress = lambda _share, _what: None, check: Callable[[], object] = lambda: None,
) -> Path:
    """Write exports by key into a new folder, with a manifest, and return where it is.

    All is written under a temporary name beside it, and renamed when it is whole; where anything fails, or `check` raises, nothing is
    left of it and what was there stays. Raises ExportError with a sentence.
    """
    exports = [_export(key) for key in keys]
    target = free_name(folder) if taken == "keep both" else folder
    if taken == "refuse" and os.path.lexists(target):
        what = "folder" if target.is_dir() else "file"
        raise ExportError(f"There is a {what} {target.name} already; choose another name, or replace it.")
    temporary: Path | None = None
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        temporary = Path(tempfile.mkdtemp(prefix=f".{target.name[:40]}.", dir=target.parent))
        temporary.chmod(0o777 & ~umask())
        entries = _write_into(temporary, request, exports, progress, check)
        document = request.document
        content = Manifest(source=source or document.source.name, bpm=round(document.bpm, 4), bars=as_number(document.loop.bars),
                           meter=document.loop.meter_name, files=tuple(entries))
        _write(temporary / MANIFEST, (json.dumps(plain(content), indent=1) + "\n").encode("utf-8"))
        check()
        _put_in_place(temporary, target, replace=taken == "replace")
    except OSError as error:
        raise ExportError(f"Could not write {target}: {reason_of(error)}. Nothing was left of it.") from error
    finally:
        if temporary is not None and temporary.exists():
            shutil.rmtree(temporary, ignore_errors=True)
    return target


def write_some(request: ExportRequest, key: str, folder: Path, *, check: Callable[[], object] = lambda: None) -> list[Path]:
    """Write one export into a folder that is there, beside what is in it, and return the files and folders at its top.

    Names that are taken get a number. Raises ExportError; nothing is left half-written.
    """
    temporary: Path | None = None
    try:
        folder.mkdir(parents=True, exist_ok=True)
        temporary = Path(tempfile.mkdtemp(prefix=".writing.", dir=folder))
        _write_into(temporary, request, [_export(key)], lambda _share, _what: None, check)
        made = []
        _sync_all(temporary)
        for one in sorted(temporary.iterdir()):
            target = free_name(folder / one.name)
            one.replace(target)
            made.append(target)
        sync_folder(folder)
    except OSError as error:
        raise ExportError(f"Could not write to {folder}: {reason_of(error)}.") from error
    finally:
        if temporary is not None:
            shutil.rmtree(temporary, ignore_errors=True)
    return made


def free_name(path: Path) -> Path:
    """Return a path that nothing has: this one, or with the first number from 2 on that is free."""
    stem, suffix, number, free = path.stem, path.suffix, 1, path
    if path.is_dir():
        stem, suffix = path.name, ""
    while os.path.lexists(free):
        number += 1
        free = path.with_name(f"{stem} {number}{suffix}")
    return free


def _export(key: str) -> Export:
    if key not in EXPORTS:
        raise ExportError(f"Nothing that can be sent out is called “{key}”; there are {', '.join(EXPORTS)}.")
    return EXPORTS[key]


def _write_into(
    folder: Path, request: ExportRequest, exports: Sequence[Export], progress: Progress, check: Callable[[], object]
) -> list[dict[str, object]]:
    entries: list[dict[str, object]] = []
    taken: set[str] = set()
    written: deque[Future[None]] = deque()
    with ThreadPoolExecutor(2) as beside, ThreadPoolExecutor(1) as disk:
        for ahead in dict.fromkeys(export.ahead for export in exports if export.ahead is not None):
            beside.submit(ahead, request, check)
        for number, export in enumerate(exports):
            progress(number / len(exports), export.label)
            for made in export.make(request, check):
                check()
                path = _untaken(made, taken)
                target = folder / path
                target.parent.mkdir(parents=True, exist_ok=True)
                written.append(disk.submit(_write, target, made.content))
                if len(written) > MOST_WAITING:
                    written.popleft().result()
                entries.append({"kind": made.kind, "path": path, "label": made.label, **made.facts})
        for one in written:
            one.result()
    progress(1.0, "")
    return entries


def _untaken(made: Made, taken: set[str]) -> str:
    """Return a file's path, with a number where another file of this folder has it."""
    path, number = Path(made.path), 1
    free = path
    while free.as_posix().lower() in taken:
        number += 1
        free = path.with_name(f"{path.stem} {number}{path.suffix}")
    taken.add(free.as_posix().lower())
    return free.as_posix()


def _write(path: Path, content: bytes) -> None:
    with path.open("wb") as stream:
        stream.write(content)
        stream.flush()
        os.fsync(stream.fileno())


def _sync_all(folder: Path) -> None:
    """Have the names in a folder and in those inside it on the disk."""
    for inner, _, _ in os.walk(folder):
        sync_folder(Path(inner))


def _put_in_place(temporary: Path, target: Path, *, replace: bool) -> None:
    """Rename a folder to where it belongs; what is there before goes away only once the new one stands."""
    _sync_all(temporary)
    if not replace or not os.path.lexists(target):
        temporary.rename(target)
        sync_folder(target.parent)
        return
    old = Path(tempfile.mkdtemp(prefix=f".{target.name[:40]}.old.", dir=target.parent))
    target.rename(old / target.name)
    try:
        temporary.rename(target)
        sync_folder(target.parent)
    except OSError:
        (old / target.name).rename(target)
        raise
    finally:
        with contextlib.suppress(OSError):
            shutil.rmtree(old)
