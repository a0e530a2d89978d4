"""Keeping unsaved work when something goes wrong."""

from __future__ import annotations

import time
from pathlib import Path

from bompla.app.project.session import Session
from bompla.errors import BomplaError
from bompla.formats.project import SUFFIX, save_project


def rescue(session: Session, folder: Path) -> Path | None:
    """Write unsaved work to a folder before the application ends in an error; None if there is none."""
    if not session.project.dirty:
        return None
    try:
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"rescued {time.strftime('%Y-%m-%d %H.%M.%S')}{SUFFIX}"
        save_project(session.project.as_file(), path)
    except (BomplaError, OSError):
        return None
    return path
