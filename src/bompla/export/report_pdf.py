"""The report as a PDF: the same sentences, pictures, notation and numbers, for print."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from html import escape
from typing import Any

from bompla.export.engrave import strips
from bompla.export.paper import on_paper, part_score
from bompla.export.report import bars_picture, fact_rows, facts_line, steps_picture
from bompla.export.request import Check, ExportRequest, Made, base_name, parts_of
from bompla.groove.read import read_groove

MARGIN_PT, COLUMN_SHARES = 42.0, (0.25, 0.45, 0.3)
MOST_STRIP_PX = 900.0
"""So tall may a piece of the notation be, that goes on a page as a whole."""

INK, DIM, LINE = "#1d2a2a", "#4d5a54", "#b9b19c"


def report_pdf(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make the printed report of each pattern that leaves."""
    for part in parts_of(request.document, request.options.patterns):
        if part.passages:
            continue
        check()
        read = read_groove(part.document)
        title = f"{request.document.title} {part.letter}".strip()
        paper = strips(on_paper(part_score(request, part), signs=request.options.repeat_signs, check=check).svg, MOST_STRIP_PX)
        pictures = (("Where each hit falls", steps_picture(part.document)), ("Which bars are alike", bars_picture(read)),
                    *(("On paper" if number == 0 else "", strip.decode("utf-8")) for number, strip in enumerate(paper)))
        content = _pdf(title, facts_line(part.document), [fact.text for fact in read.sentences()], pictures, fact_rows(read))
        yield Made(f"{base_name(request, part)} report.pdf", "report", f"printed report of {part.letter}", content,
                   {"sentences": len(read.sentences())})


def _pdf(title: str, line: str, sentences: list[str], pictures: tuple[tuple[str, str], ...], rows: list[tuple[str, str, str]]) -> bytes:
    from reportlab.lib.colors import HexColor
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.styles import ParagraphStyle
    from reportlab.platypus import KeepTogether, Paragraph, SimpleDocTemplate, Spacer, Table

    target = io.BytesIO()
    page = SimpleDocTemplate(target, pagesize=A4, leftMargin=MARGIN_PT, rightMargin=MARGIN_PT, topMargin=MARGIN_PT, bottomMargin=MARGIN_PT,
                             title=title, author="Bompla", subject=line, invariant=1)
    plain = ParagraphStyle("plain", fontName="Helvetica", fontSize=11, leading=15, textColor=HexColor(INK))
    head = ParagraphStyle("head", parent=plain, fontName="Helvetica-Bold", fontSize=13, leading=18, spaceBefore=12, spaceAfter=4)
    story: list[Any] = [Paragraph(escape(title), ParagraphStyle("title", parent=head, fontSize=20, leading=26, spaceBefore=0)),
                        Paragraph(escape(line), ParagraphStyle("dim", parent=plain, textColor=HexColor(DIM))),
                        Paragraph("What makes it work", head)]
    story += [Paragraph(escape(text), plain) for text in sentences] or [Paragraph("Nothing that the hits bear out.", plain)]
    for heading, svg in pictures:
        titled = [Paragraph(heading, head)] if heading else []
        story.append(KeepTogether([*titled, _drawing(svg[svg.index("<svg"):], page.width), Spacer(1, 4)]))
    small = ParagraphStyle("small", parent=plain, fontSize=9, leading=11, splitLongWords=1)
    cells = [[Paragraph(escape(cell), small) for cell in row] for row in rows]
    widths = [share * page.width for share in COLUMN_SHARES]
    table = Table([["what", "of", "how much"], *cells], colWidths=widths, hAlign="LEFT", repeatRows=1)
    table.setStyle([("FONT", (0, 0), (-1, -1), "Helvetica", 9), ("FONT", (0, 0), (-1, 0), "Helvetica-Bold", 9),
                    ("LINEBELOW", (0, 0), (-1, -1), 0.4, HexColor(LINE)), ("TEXTCOLOR", (0, 0), (-1, -1), HexColor(INK)),
                    ("TOPPADDING", (0, 0), (-1, -1), 2), ("BOTTOMPADDING", (0, 0), (-1, -1), 2)])
    story += [Paragraph("In numbers", head), table]
    page.build(story)
    return target.getvalue()


def _drawing(svg: str, width: float) -> Any:
    """Return a picture as a drawing that is as wide as the page, or as it is where it is narrower."""
    from svglib.svglib import svg2rlg

    if "xmlns=" not in svg[: svg.index(">")]:
        svg = svg.replace("<svg", '<svg xmlns="http://www.w3.org/2000/svg"', 1)
    box = re.search(r'viewBox="0 0 ([\d.]+) ([\d.]+)"', svg)
    if box is not None and " height=" not in svg[: svg.index(">")]:
        svg = svg.replace("<svg", f'<svg height="{box.group(2)}"', 1)
    drawing: Any = svg2rlg(io.BytesIO(svg.encode("utf-8")))
    scale = min(1.0, width / drawing.width)
    drawing.scale(scale, scale)
    drawing.width, drawing.height = drawing.width * scale, drawing.height * scale
    return drawing
