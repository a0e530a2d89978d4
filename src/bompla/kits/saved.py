"""Kits that were saved, to be found again: each a folder with an SFZ instrument and its samples."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from bompla.errors import KitError
from bompla.export.folder import free_name
from bompla.export.kit import sfz
from bompla.export.request import ExportRequest, file_name
from bompla.files import reason_of, write_atomically

MOST_SAVED = 400


def kits_folder() -> Path:
    """Return the folder of the kits that this user saved, where the desktop keeps such data."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "bompla" / "kits"


def saved_kits(folder: Path) -> tuple[Path, ...]:
    """Return the instruments of the kits saved in a folder, by name."""
    try:
        return tuple(sorted(folder.glob("*/*.sfz"), key=lambda path: path.stem.lower())[:MOST_SAVED])
    except OSError:
        return ()


def save_kit(request: ExportRequest, name: str, folder: Path, check: Callable[[], object] = lambda: None) -> Path:
    """Save a document's kit under a name, with a number where a kit has it already, and return its instrument.

    Raises KitError with a sentence where it cannot be written, ExportError where no pad has a sound.
    """
    own = free_name(folder / file_name(name or "kit"))
    instrument = own / f"{own.name}.sfz"
    made = list(sfz(request, check))
    try:
        for one in made:
            below = Path(one.path).relative_to("kit")
            place = instrument if below.suffix == ".sfz" else own / below
            place.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(place, one.content, KitError)
    except OSError as error:
        raise KitError(f"The kit could not be saved: {reason_of(error)}.") from error
    return instrument
