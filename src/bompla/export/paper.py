"""The pattern on paper: MusicXML, engraved SVG and PDF, drum tab."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from functools import lru_cache
from threading import Lock

from bompla.errors import BomplaError
from bompla.export.engrave import Engraved, engraved
from bompla.export.request import Check, ExportRequest, Made, Part, base_name, parts_of
from bompla.formats.drum_tab import drum_tab
from bompla.formats.musicxml import musicxml_bytes
from bompla.groove.order import bounced
from bompla.groove.repeats import folded, sign_words
from bompla.groove.score import Score, score_of

_ENGRAVING = Lock()


def part_score(request: ExportRequest, part: Part) -> Score:
    """Return a pattern that leaves as a score; an order is written out as one long pattern."""
    document = bounced(part.document, part.passages, part.name) if part.passages else part.document
    return score_of(document, f"{request.document.title} {part.letter}".strip())


def paper_line(score: Score) -> str:
    """Return what stands under the title: tempo, meter, swing."""
    swing = f" · {score.swing_of} swung {score.swing:.0f} %" if score.swing else ""
    return f"{score.bpm:.4g} BPM · {score.meter.name}{swing}"


def on_paper(score: Score, *, signs: bool = False) -> Engraved:
    """Return a score engraved, like bars as repeats with `signs`; the last few are kept, and two that ask at once wait for one.

    Raises ExportError.
    """
    with _ENGRAVING:
        return _on_paper(score, signs)


@lru_cache(maxsize=16)
def _on_paper(score: Score, signs: bool) -> Engraved:  # what the cache keys by
    written, repeats = folded(score) if signs else (score, ())
    return engraved(musicxml_bytes(written, repeats), title=score.title, line=paper_line(score), words=sign_words(repeats))


def engrave_ahead(request: ExportRequest, _check: Check) -> None:
    """Engrave the patterns that leave, so that they are at hand; what goes wrong is told when they are asked for."""
    with contextlib.suppress(BomplaError):
        for part in parts_of(request.document, request.options.patterns):
            on_paper(part_score(request, part), signs=request.options.repeat_signs)


def musicxml(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a MusicXML file of each pattern that leaves."""
    yield from _each(request, check, "musicxml", ".musicxml",
                     lambda score: musicxml_bytes(*folded(score)) if request.options.repeat_signs else musicxml_bytes(score))


def score_svg(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make an engraved SVG of each pattern that leaves."""
    yield from _each(request, check, "score-svg", ".svg", lambda score: on_paper(score, signs=request.options.repeat_signs).svg)


def score_pdf(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make an engraved PDF of each pattern that leaves."""
    yield from _each(request, check, "score-pdf", ".pdf", lambda score: on_paper(score, signs=request.options.repeat_signs).pdf)


def tab(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make drum tab of each pattern that leaves."""
    yield from _each(request, check, "tab", " tab.txt", lambda score: drum_tab(score).encode("utf-8"), what="drum tab")


def _each(request: ExportRequest, check: Check, kind: str, ending: str, write: Callable[[Score], bytes], *,
          what: str = "notation") -> Iterator[Made]:
    for part in parts_of(request.document, request.options.patterns):
        check()
        score = part_score(request, part)
        yield Made(f"{base_name(request, part)}{ending}", kind, f"{what} of {part.letter}", write(score), {"bars": len(score.bars)})
