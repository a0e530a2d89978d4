"""The pattern on paper: MusicXML, engraved SVG and PDF, drum tab."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Hashable, Iterator
from threading import Lock
from typing import Any

from bompla.errors import ExportError
from bompla.export.engrave import Engraved, as_pdf, engraved
from bompla.export.request import Check, ExportRequest, Made, Part, base_name, parts_of
from bompla.formats.drum_tab import drum_tab
from bompla.formats.musicxml import musicxml_bytes
from bompla.groove.order import bounced
from bompla.groove.repeats import folded, sign_words
from bompla.groove.score import Score, score_of
from bompla.model.memo import Kept


def part_score(request: ExportRequest, part: Part) -> Score:
    """Return a pattern that leaves as a score; an order is written out as one long pattern."""
    document = bounced(part.document, part.passages, part.name) if part.passages else part.document
    return score_of(document, f"{request.document.title} {part.letter}".strip())


def paper_line(score: Score) -> str:
    """Return what stands under the title: tempo, meter, swing."""
    swing = f" · {score.swing_of} swung {score.swing:.0f} %" if score.swing else ""
    return f"{score.bpm:.4g} BPM · {score.meter.name}{swing}"


def on_paper(score: Score, *, signs: bool = False, check: Check = lambda: None) -> Engraved:
    """Return a score engraved, like bars as repeats with `signs`; the last few are kept, and two that ask at once wait for one.

    Raises ExportError, and whatever `check` raises.
    """

    def make() -> Engraved:
        written, repeats = folded(score) if signs else (score, ())
        return engraved(musicxml_bytes(written, repeats), title=score.title, line=paper_line(score), words=sign_words(repeats), check=check)

    found: Engraved = _PICTURES.get((score, signs), make, check)
    return found


def pdf_on_paper(score: Score, *, signs: bool = False, check: Check = lambda: None) -> bytes:
    """Return a score engraved as PDF; as `on_paper`."""
    page: bytes = _PAGES.get((score, signs), lambda: as_pdf(on_paper(score, signs=signs, check=check).svg, check), check)
    return page


class _Shared:
    """Answers that several threads may ask for: who asks for one that is being made waits, as long as `check` lets."""

    def __init__(self) -> None:
        self._kept, self._lock = Kept(), Lock()

    def get(self, key: Hashable, make: Callable[[], Any], check: Check) -> Any:
        while not self._lock.acquire(timeout=0.1):
            check()
        try:
            return self._kept.get(key, make)
        finally:
            self._lock.release()


_PICTURES, _PAGES = _Shared(), _Shared()


def engrave_ahead(request: ExportRequest, check: Check) -> None:
    """Engrave the patterns that leave, so that they are at hand; what goes wrong is told when they are asked for."""
    with contextlib.suppress(ExportError):
        for part in parts_of(request.document, request.options.patterns):
            on_paper(part_score(request, part), signs=request.options.repeat_signs, check=check)


def pages_ahead(request: ExportRequest, check: Check) -> None:
    """Make the pages of the patterns that leave, as `engrave_ahead`."""
    with contextlib.suppress(ExportError):
        for part in parts_of(request.document, request.options.patterns):
            pdf_on_paper(part_score(request, part), signs=request.options.repeat_signs, check=check)


def musicxml(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a MusicXML file of each pattern that leaves."""
    yield from _each(request, check, "musicxml", ".musicxml",
                     lambda score: musicxml_bytes(*folded(score)) if request.options.repeat_signs else musicxml_bytes(score))


def score_svg(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make an engraved SVG of each pattern that leaves."""
    signs = request.options.repeat_signs
    yield from _each(request, check, "score-svg", ".svg", lambda score: on_paper(score, signs=signs, check=check).svg)


def score_pdf(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make an engraved PDF of each pattern that leaves."""
    signs = request.options.repeat_signs
    yield from _each(request, check, "score-pdf", ".pdf", lambda score: pdf_on_paper(score, signs=signs, check=check))


def tab(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make drum tab of each pattern that leaves."""
    yield from _each(request, check, "tab", " tab.txt", lambda score: drum_tab(score).encode("utf-8"), what="drum tab")


def _each(request: ExportRequest, check: Check, kind: str, ending: str, write: Callable[[Score], bytes], *,
          what: str = "notation") -> Iterator[Made]:
    for part in parts_of(request.document, request.options.patterns):
        check()
        score = part_score(request, part)
        yield Made(f"{base_name(request, part)}{ending}", kind, f"{what} of {part.letter}", write(score), {"bars": len(score.bars)})
