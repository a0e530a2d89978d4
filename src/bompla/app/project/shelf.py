"""The shelf as the window asks it: which folder it is, and its index off the interface thread."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from bompla.app.preferences import preferences
from bompla.app.project.tasks import Token
from bompla.demo import loop_paths
from bompla.export.gathered import Found, write_hits
from bompla.export.options import ExportOptions
from bompla.shelf import asking
from bompla.shelf.asking import HitsRequest, NearFound, NearRequest
from bompla.shelf.index import ShelfHit


def shelf_folder() -> Path:
    """Return the folder of the shelf: the one that was chosen, or that of the loops that ship with Bompla."""
    kept = preferences().value.shelf_folder
    return Path(kept) if kept and Path(kept).is_dir() else loop_paths()[0].parent


@dataclass(frozen=True)
class WriteHits:
    """Hits to be written into a folder."""

    found: tuple[Found, ...]
    folder: Path
    options: ExportOptions


def find_hits(request: HitsRequest, _token: Token) -> list[tuple[Path, ShelfHit]]:
    """Return the hits of a drum, those that stand clearest first."""
    return asking.find_hits(request)


def find_near(request: NearRequest, token: Token) -> NearFound:
    """Return the loops that are most alike."""
    return asking.find_near(request, token.check)


def put_hits(request: WriteHits, token: Token) -> list[Path]:
    """Write hits, and return the files."""
    return write_hits(request.found, request.folder, request.options, token.check)
