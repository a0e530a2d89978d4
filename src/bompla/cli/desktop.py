"""Being a program of the desktop: its menu entry, icon, file type, manual page and completions, put in place for one user."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import click

from bompla.cli.saying import say

SHARE = Path(__file__).parents[1] / "share"
EXIT_FAILED = 1
REFRESH = (("update-desktop-database", "applications"), ("update-mime-database", "mime"), ("gtk-update-icon-cache", "icons/hicolor"))
"""What makes the desktop look again, and on which folder; programs that are not there are not needed."""


@click.group()
def desktop() -> None:
    """Put Bompla into the desktop's menus for this user, or take it out."""


@desktop.command()
def install() -> None:
    """Put the menu entry, icon, file type, manual page and completions in place."""
    target = _data_home()
    try:
        for source in _files():
            path = target / source.relative_to(SHARE)
            path.parent.mkdir(parents=True, exist_ok=True)
            content = source.read_bytes()
            if path.suffix == ".desktop":
                content = content.replace(b"Exec=bompla ", f'Exec="{_program()}" '.encode())
            path.write_bytes(content)
    except OSError as error:
        say(f"Could not write {error.filename}: {error.strerror}.", err=True)
        sys.exit(EXIT_FAILED)
    _refresh(target)
    say(f"Bompla is in the menus of this user: {target}. Take it out with: bompla desktop remove")


@desktop.command()
def remove() -> None:
    """Take away what install has put in place."""
    target, gone = _data_home(), 0
    for source in _files():
        path = target / source.relative_to(SHARE)
        if path.is_file():
            path.unlink()
            gone += 1
    _refresh(target)
    say(f"{gone} files were removed." if gone else "Nothing was installed.")


def _files() -> Iterator[Path]:
    yield from (path for path in sorted(SHARE.rglob("*")) if path.is_file())


def _data_home() -> Path:
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def _program() -> Path:
    """Return where this program is, so that the menu finds it without the shell's path."""
    beside = Path(sys.executable).with_name("bompla")
    found = shutil.which("bompla")
    return beside if beside.is_file() else Path(found or "bompla")


def _refresh(target: Path) -> None:
    for program, folder in REFRESH:
        found = shutil.which(program)
        if found and (target / folder).is_dir():
            subprocess.run([found, str(target / folder)], capture_output=True, check=False, timeout=60)
