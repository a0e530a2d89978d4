"""The demo set: a made-up band, its patterns, its drum synthesis and its files."""

from __future__ import annotations

from pathlib import Path

LOOP_FOLDER = Path(__file__).parent / "loops"
DEMO_PROJECT = Path(__file__).parent / "night ferry.bompla"
_FIRST = "quay break"


def loop_paths() -> list[Path]:
    """Return the demo loops, the one the demo project uses first."""
    return sorted(LOOP_FOLDER.glob("*.flac"), key=lambda path: (path.stem != _FIRST, path.stem))
