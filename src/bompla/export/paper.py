"""The pattern on paper: MusicXML, engraved SVG and PDF, drum tab."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from functools import lru_cache
from threading import Lock

from bompla.errors import BomplaError
from bompla.export.engrave import Engraved, engraved
from bompla.export.request import Check, ExportRequest, Made, Part, base_name, parts_of
from bompla.formats.drum_tab import drum_tab
from bompla.formats.musicxml import musicxml_bytes
from bompla.groove.order import bounced
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


def on_paper(score: Score) -> Engraved:
    """Return a score engraved; the last few are kept, and two that ask at once wait for one. Raises ExportError."""
    with _ENGRAVING:
        return _on_paper(score)


@lru_cache(maxsize=16)
def _on_paper(score: Score) -> Engraved:
    return engraved(musicxml_bytes(score), title=score.title, line=paper_line(score))


def engrave_ahead(request: ExportRequest) -> None:
    """Engrave the patterns that leave, so that they are at hand; what goes wrong is told when they are asked for."""
    with contextlib.suppress(BomplaError):
        for part in parts_of(request.document, request.options.patterns):
            on_paper(part_score(request, part))


def musicxml(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a MusicXML file of each pattern that leaves."""
    for part in parts_of(request.document, request.options.patterns):
        check()
        score = part_score(request, part)
        yield Made(f"{base_name(request, part)}.musicxml", "musicxml", f"notation of {part.letter}", musicxml_bytes(score),
                   {"bars": len(score.bars)})


def score_svg(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make an engraved SVG of each pattern that leaves."""
    for part in parts_of(request.document, request.options.patterns):
        check()
        score = part_score(request, part)
        yield Made(f"{base_name(request, part)}.svg", "score-svg", f"notation of {part.letter}", on_paper(score).svg,
                   {"bars": len(score.bars)})


def score_pdf(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make an engraved PDF of each pattern that leaves."""
    for part in parts_of(request.document, request.options.patterns):
        check()
        score = part_score(request, part)
        yield Made(f"{base_name(request, part)}.pdf", "score-pdf", f"notation of {part.letter}", on_paper(score).pdf,
                   {"bars": len(score.bars)})


def tab(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make drum tab of each pattern that leaves."""
    for part in parts_of(request.document, request.options.patterns):
        check()
        text = drum_tab(part_score(request, part))
        yield Made(f"{base_name(request, part)} tab.txt", "tab", f"drum tab of {part.letter}", text.encode("utf-8"))
