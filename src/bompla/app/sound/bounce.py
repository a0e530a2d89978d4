"""Bouncing what plays to a new loop of the project."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from PyQt6.QtCore import QObject

from bompla.app.project.session import Session
from bompla.app.project.tasks import Threads, Token
from bompla.app.sound.bake import Baking
from bompla.audio.clip import Clip
from bompla.groove.bounce_analysis import heard_from_original, heard_from_pattern
from bompla.groove.order import Passage, passage_hits
from bompla.model.analysis_result import AnalysisResult
from bompla.model.document import Document
from bompla.render.events import Baked, made_of

What = Literal["rebuilt", "original"]


@dataclass(frozen=True, eq=False)
class BounceRequest:
    """What is bounced, `rebuilt` or the `original` through the colour, and the document that tells what is heard in it."""

    what: What
    document: Document
    baked: Baked
    passages: tuple[Passage, ...]
    name: str


def _bounce(request: BounceRequest, _token: Token) -> tuple[AnalysisResult, Clip]:
    from bompla.engine.bounce import bounce_rebuilt, coloured

    document, baked = request.document, request.baked
    if request.what == "rebuilt":
        clip = _under_ceiling(bounce_rebuilt(baked, passes=2))
        hits = passage_hits(document, request.passages) if request.passages else None
        return heard_from_pattern(document, clip, request.name, hits, baked.beats), clip
    clip = Clip(coloured(baked.original, baked.sample_rate, {**baked.colour, "on": True}), baked.sample_rate)
    return heard_from_original(document, clip, request.name), clip


def _under_ceiling(clip: Clip) -> Clip:
    """Return a sound as it is where it stays within full scale, else with its peaks under the ceiling, as it is cut and played again."""
    from bompla.engine.ceiling import BLOCK, held_below

    level = np.abs(clip.samples).max(axis=1, initial=0.0)
    peaks = np.maximum.reduceat(level, np.arange(0, len(level), BLOCK)).astype(np.float64) if len(level) else level.astype(np.float64)
    return clip if float(peaks.max(initial=0.0)) <= 1.0 else Clip(held_below(clip.samples, clip.sample_rate, peaks)[0], clip.sample_rate)


class Bouncer(QObject):
    """Makes new loops of what plays; all that is in them is known, and need not be heard again."""

    def __init__(self, session: Session, baking: Baking, threads: Threads, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._baking, self._threads = session, baking, threads

    def bounce_loop(self, what: What) -> None:
        """Make a new loop of the `rebuilt` pattern, or of the `original` through the colour, and add it to the project."""
        document, baked = self._session.store.document, self._baking.baked
        if document is None or baked is None:
            return
        name = f"{document.title} {'bounced' if what == 'rebuilt' else 'coloured'}"
        request = BounceRequest(what, document, baked, self._baking.playing_passages, name)

        def done(made: tuple[AnalysisResult, Clip]) -> None:
            self._session.openings.add_known(*made)
            if what == "rebuilt":
                self._session.hub.note(f"{name} is in the project: {made_of(baked)}.")

        self._threads.run(_bounce, request, done=done, failed=self._session.hub.trouble)
