"""Offering what an earlier session left."""

from __future__ import annotations

import time
from pathlib import Path

from bompla.app.project.project_state import loaded_of
from bompla.app.project.session import Session
from bompla.app.ui.pattern_map import pattern_map
from bompla.errors import BomplaError
from bompla.formats.journal import Left, discard, journals_folder, left_behind, recovered, tidy
from bompla.model.detected_pattern import pattern_of
from bompla.model.wording import counted

PICTURE_SIZE = (110.0, 32.0)


def offer_recovery(session: Session, folder: Path | None = None) -> bool:
    """Offer the newest unsaved work that a session left, with *go on* and *put away*; return whether there is any.

    What is gone on with stays in the journal of this window until it is saved.
    """
    where = folder or journals_folder()
    left = left_behind(where)
    if not left:
        tidy(where)
        return False
    newest = left[0]
    more = f" {counted(len(left) - 1, 'older one')} can be had with “bompla recover”." if len(left) > 1 else ""
    shown = newest.document
    picture = pattern_map(shown, pattern_of(shown), *PICTURE_SIZE)
    session.hub.ask(f"“{newest.title}” was left with {counted(newest.edits, 'unsaved edit')}, {_when(newest.at)}.{more}",
                    button="Go on", action=lambda: _go_on(session, newest),
                    other_button="Put away", other_action=lambda: _discard(session, newest), picture=picture)
    return True


def resume(session: Session, folder: Path) -> None:
    """Go on with what was left in a folder, without asking, as after a start that the user asked for."""
    for left in left_behind(folder.parent):
        if left.folder == folder:
            _go_on(session, left)


def _go_on(session: Session, left: Left) -> None:
    try:
        project = recovered(left)
    except BomplaError as error:
        session.hub.trouble(str(error))
        return
    session.project.load(loaded_of(project, saved=False), path=Path(left.path) if left.path else None)
    session.project.mark_unsaved()
    session.journal.keep_at_once()
    discard(left)


def _discard(session: Session, left: Left) -> None:
    discard(left)
    session.hub.note(f"Put “{left.title}” away.")


def _when(at: float) -> str:
    day = "today" if time.strftime("%F", time.localtime(at)) == time.strftime("%F") else time.strftime("on %F", time.localtime(at))
    return f"{day} at {time.strftime('%H:%M', time.localtime(at))}"
