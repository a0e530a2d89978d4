"""Lists of notes for pads, as JSON: which MIDI note belongs to which pad or drum."""

from __future__ import annotations

import json
from pathlib import Path

from bompla.errors import ExportError, ProjectError
from bompla.files import read_regular, write_atomically
from bompla.model.document import Document

FORMAT = "bompla notes"
MOST_BYTES = 1 << 20


def write_note_list(document: Document, path: Path) -> None:
    """Write the notes of a kit by the names of its pads; raises ExportError."""
    notes = {pad.name: pad.note for pad in document.pads}
    write_atomically(path, (json.dumps({"format": FORMAT, "version": 1, "notes": notes}, indent=1) + "\n").encode(), ExportError)


def read_note_list(path: Path) -> dict[str, int]:
    """Return a list of notes by name; raises ProjectError for a file that is none."""
    try:
        content = json.loads(read_regular(path, MOST_BYTES, ProjectError))
    except (ValueError, RecursionError) as error:
        raise ProjectError(f"{path.name} is not a list of notes; choose one that was saved here.") from error
    notes = content.get("notes") if isinstance(content, dict) and content.get("format") == FORMAT else None
    if not isinstance(notes, dict) or not all(isinstance(n, int) and 0 <= n <= 127 for n in notes.values()):
        raise ProjectError(f"{path.name} is not a list of notes; choose one that was saved here.")
    return {str(name): int(note) for name, note in notes.items()}
