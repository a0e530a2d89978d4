"""What the shelf's index knows: hits of a drum in all its loops, and loops that are alike."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from bompla.model.groove_print import GroovePrint, Likeness, likenesses, share_below
from bompla.shelf.index import ShelfEntry, ShelfHit, ShelfIndex

MOST_NEAR = 40


def index_path() -> Path:
    """Return where the index of the shelf is kept."""
    return Path(platformdirs.user_cache_dir("bompla")) / "shelf.sqlite"


@dataclass(frozen=True)
class HitsRequest:
    """A drum that is looked for in the loops of a folder."""

    folder: Path
    drum: str
    index: Path


@dataclass(frozen=True)
class NearRequest:
    """A groove at a tempo, which loops of a folder are compared with; the loop itself, by its path, is left out."""

    groove: GroovePrint
    bpm: float
    folder: Path
    hits_per_bar: float
    own_path: str
    index: Path


@dataclass(frozen=True)
class Near:
    """A loop of the shelf, and how alike it is."""

    path: Path
    entry: ShelfEntry
    likeness: Likeness


@dataclass(frozen=True)
class NearFound:
    """Loops, the most alike first, of how many; and how the groove stands among them: shares of loops less syncopated, and less dense."""

    near: tuple[Near, ...]
    of: int
    less_syncopated: float
    fewer_hits: float


def find_hits(request: HitsRequest) -> list[tuple[Path, ShelfHit]]:
    """Return the hits of a drum, those that stand clearest first."""
    with closing(ShelfIndex(request.index)) as index:
        return index.hits_under(request.folder, request.drum)


def find_near(request: NearRequest, check: Callable[[], object]) -> NearFound:
    """Return the loops that are most alike; `check` may raise to give it up."""
    with closing(ShelfIndex(request.index)) as index:
        rows = [(path, entry) for path, entry in index.under(request.folder) if str(path) != request.own_path]
    check()
    alike = likenesses(request.groove, request.bpm, [(entry.groove, entry.bpm) for _, entry in rows])
    found = [Near(path, entry, likeness) for (path, entry), likeness in zip(rows, alike, strict=True) if likeness.score > 0.0]
    found.sort(key=lambda near: -near.likeness.score)
    return NearFound(tuple(found[:MOST_NEAR]), len(rows),
                     share_below((entry.groove.syncopation for _, entry in rows), request.groove.syncopation),
                     share_below((entry.hits_per_bar for _, entry in rows), request.hits_per_bar))
