"""Engraving a score: MusicXML to SVG and PDF, in a process of its own, as the engraver holds the interpreter while it works.

The engraver's own SVG nests pictures and sets text in ways that few readers take; here it becomes one plain picture, with title, tempo
and bar numbers set anew.
"""

from __future__ import annotations

import base64
import copy
import io
import json
import os
import subprocess
import sys
import tempfile
import time
import xml.etree.ElementTree as ET
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from bompla.errors import ExportError

SVG = "http://www.w3.org/2000/svg"
XLINK = "http://www.w3.org/1999/xlink"
PAGE = {"pageHeight": 60_000, "scale": 40, "adjustPageHeight": True, "header": "none", "footer": "none", "breaks": "encoded",
        "minLastJustification": 0.5}
NARROWEST, WIDEST, CLEF, COLUMN = 1_000, 2_400, 320, 62
"""The page is as wide as its fullest line wants, in the engraver's units: room for clef and meter, and for each place of a note."""

HEAD_PX, MARGIN_PX = 64.0, 12.0
PAGE_MARGIN_PT, MOST_ENLARGED, PT_A_PX = 42.0, 1.15, 0.75
"""Round what is printed; how much larger than its own size a picture may become on paper; 96 px are an inch."""

WORDS_RIGHT_PX, WORDS_UP_PX = 14.0, 26.0
INK = "#141414"
WAIT_S, ASKED_EVERY_S = 60.0, 0.1
"""How long an answer may take, and how often is asked whether it is still wanted."""

_FONT = "Helvetica, Arial, sans-serif"
_READ_AS = {"title", "line", "musicxml", "words"}


@dataclass(frozen=True)
class BarBox:
    """Where a bar stands in an engraved picture, in its own units."""

    left: float
    top: float
    right: float
    bottom: float


@dataclass(frozen=True)
class Engraved:
    """A score on paper as SVG, and where each bar is in it."""

    svg: bytes
    bars: tuple[BarBox, ...]


def engraved(
    musicxml: bytes, *, title: str, line: str, words: Sequence[tuple[int, str]] = (), check: Callable[[], object] = lambda: None
) -> Engraved:
    """Return a MusicXML file engraved, under a title and a line of text; raises ExportError where the engraver fails.

    `words` stand over written bars, which are counted from 0. `check` is called now and then, and may raise to give it up.
    """
    found = _asked({"title": title, "line": line, "musicxml": musicxml.decode("utf-8"), "words": list(words)}, check)
    return Engraved(found["svg"].encode(), tuple(BarBox(*box) for box in found["bars"]))


def as_pdf(svg: bytes, check: Callable[[], object] = lambda: None) -> bytes:
    """Return an engraved picture as PDF, on pages of A4; raises ExportError where that fails."""
    return base64.b64decode(_asked({"svg": svg.decode()}, check)["pdf"])


def _asked(what: dict[str, Any], check: Callable[[], object]) -> dict[str, Any]:
    """Return the answer of the engraver's process; one that is not wanted any more is ended."""
    command = [sys.executable, "-P", "-m", "bompla.export.engrave"]
    until = time.monotonic() + WAIT_S
    try:
        with tempfile.TemporaryFile() as content:  # a pipe that is full would wait for us, as we do for the answer
            content.write(json.dumps(what).encode())
            content.seek(0)
            with subprocess.Popen(command, stdin=content, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
                try:
                    answer, said = _answer(process, until, check)
                except BaseException:
                    process.kill()
                    raise
    except (OSError, subprocess.TimeoutExpired) as error:
        raise ExportError("The notation could not be engraved: the engraver did not answer; try again.") from error
    if process.returncode != 0:
        last = said.decode(errors="replace").strip().splitlines()[-1:] or ["no reason given"]
        raise ExportError(f"The notation could not be engraved ({last[0]}).")
    return dict(json.loads(answer))


def _answer(process: subprocess.Popen[bytes], until: float, check: Callable[[], object]) -> tuple[bytes, bytes]:
    while True:
        check()
        try:
            return process.communicate(timeout=ASKED_EVERY_S)
        except subprocess.TimeoutExpired:
            if time.monotonic() > until:
                raise


def main() -> None:
    """Engrave what comes in on standard input, or make a PDF of it, and answer on standard output; all are JSON."""
    asked = json.loads(sys.stdin.buffer.read())
    answer = os.dup(1)
    os.dup2(2, 1)  # whatever the engraver prints is no answer
    if set(asked) == {"svg"}:
        made = {"pdf": base64.b64encode(_pdf(asked["svg"].encode())).decode()}
    elif set(asked) == _READ_AS:
        made = _engraved(asked)
    else:
        raise SystemExit("What is to be engraved has title, line, musicxml and words.")
    with os.fdopen(answer, "wb") as stream:
        stream.write(json.dumps(made).encode())


def _engraved(asked: dict[str, Any]) -> dict[str, Any]:
    import verovio

    toolkit = verovio.toolkit()
    toolkit.setOptions({**PAGE, "pageWidth": min(WIDEST, max(NARROWEST, CLEF + COLUMN * _columns(asked["musicxml"])))})
    if not toolkit.loadData(asked["musicxml"]):
        raise SystemExit("the engraver did not take it")
    svg, bars = _plain(toolkit.renderToSVG(1), asked["title"], asked["line"], asked["words"])
    return {"svg": svg.decode(), "bars": bars}


def _columns(musicxml: str) -> int:
    """Return how many notes and rests the fullest line has in its busiest voice."""
    lines: list[Counter[str]] = [Counter()]
    for measure in ET.fromstring(musicxml).iter("measure"):
        if measure.find("print[@new-system='yes']") is not None:
            lines.append(Counter())
        lines[-1].update(note.findtext("voice", "1") for note in measure.iter("note") if note.find("chord") is None)
    return max((count for line in lines for count in line.values()), default=1)


def _plain(text: str, title: str, line: str, words: Sequence[tuple[int, str]]) -> tuple[bytes, list[tuple[float, float, float, float]]]:
    """Return the engraver's SVG as one plain picture, and where its bars are."""
    _use_plain_names()
    root = ET.fromstring(text)
    width, height = (float(root.get(name, "0").removesuffix("px")) for name in ("width", "height"))
    inner = root.find(f"{{{SVG}}}svg")
    if inner is None:
        raise SystemExit("the engraver made another kind of picture")
    for parent in list(root.iter()):
        for child in list(parent):
            kind = child.tag.rpartition("}")[2]
            if kind in ("text", "style", "desc") or "placeholder" in child.get("class", ""):
                parent.remove(child)
            for name, value in child.attrib.items():
                if value == "currentColor":
                    child.set(name, INK)
    scale = width / float(inner.get("viewBox", "0 0 1 1").split()[2])
    inner.tag, inner.attrib = f"{{{SVG}}}g", {"transform": f"translate(0, {HEAD_PX}) scale({scale:.6f})", "fill": INK, "stroke": INK}
    _stroke_lines_only(inner)
    bars, numbers = _bar_boxes(inner, scale)
    total = height + HEAD_PX + MARGIN_PX
    root.attrib = {"width": f"{width:g}", "height": f"{total:g}", "viewBox": f"0 0 {width:g} {total:g}", "version": "1.1"}
    _write(root, title, 22.0, 30.0, 20, bold=True)
    _write(root, line, 22.0, 52.0, 13)
    for number, x, y in numbers:
        _write(root, str(number), x, y, 10)
    for bar, said in words:
        _write(root, said, bars[bar][0] + WORDS_RIGHT_PX, bars[bar][1] - WORDS_UP_PX, 12)
    return ET.tostring(root, encoding="utf-8"), bars


def _use_plain_names() -> None:
    """Have SVG written without prefixes, as viewers like it."""
    ET.register_namespace("", SVG)
    ET.register_namespace("xlink", XLINK)


def _stroke_lines_only(inner: ET.Element) -> None:
    """Leave glyphs without an outline of their own."""
    for use in inner.iter(f"{{{SVG}}}use"):
        use.set("stroke", "none")


def _bar_boxes(inner: ET.Element, scale: float) -> tuple[list[tuple[float, float, float, float]], list[tuple[int, float, float]]]:
    """Return where bars are, and for the first of each line its number and where that stands."""
    margin = next((one for one in inner.iter() if one.get("class") == "page-margin"), None)
    shift = _shift(margin.get("transform", "")) if margin is not None else (0.0, 0.0)
    boxes: list[tuple[float, float, float, float]] = []
    numbers: list[tuple[int, float, float]] = []
    for system in (one for one in inner.iter() if "system" in one.get("class", "").split()):
        first = True
        for measure in (one for one in system.iter() if one.get("class") == "measure"):
            lines = [path.get("d", "") for path in measure.iter(f"{{{SVG}}}path")][:5]
            ends = [[float(number) for number in line.replace("M", " ").replace("L", " ").split()] for line in lines]
            left, right = min(end[0] for end in ends), max(end[2] for end in ends)
            top, bottom = min(end[1] for end in ends), max(end[1] for end in ends)
            box = [scale * (left + shift[0]), scale * (top + shift[1]) + HEAD_PX, scale * (right + shift[0]),
                   scale * (bottom + shift[1]) + HEAD_PX]
            boxes.append((box[0], box[1], box[2], box[3]))
            if first:
                numbers.append((len(boxes), box[0], box[1] - 4.0))
                first = False
    return boxes, numbers


def _shift(transform: str) -> tuple[float, float]:
    inside = transform.partition("(")[2].partition(")")[0].replace(",", " ").split()
    return (float(inside[0]), float(inside[1])) if len(inside) == 2 else (0.0, 0.0)


def _write(root: ET.Element, words: str, x: float, y: float, size: int, *, bold: bool = False) -> None:
    made = ET.SubElement(root, f"{{{SVG}}}text", {"x": f"{x:.1f}", "y": f"{y:.1f}", "font-size": str(size), "font-family": _FONT,
                                                  "fill": INK})
    if bold:
        made.set("font-weight", "bold")
    made.text = words


def strips(svg: bytes, most: float) -> list[bytes]:
    """Return an engraved picture in parts of whole lines of music, each no taller than `most` in its own units, unless one line is."""
    _use_plain_names()
    root = ET.fromstring(svg)
    inner = root.find(f"{{{SVG}}}g")
    if inner is None:
        return [svg]
    scale = float(inner.get("transform", "scale(1)").rpartition("scale(")[2].rstrip(")"))
    lines = sorted({(box[1], box[3]) for box in _bar_boxes(inner, scale)[0]})
    middles = [(before[1] + after[0]) / 2.0 for before, after in pairwise(lines)]
    edges = [0.0, *middles, float(root.get("height", "0"))]
    made, first = [], 0
    while first < len(lines):
        last = first + 1
        while last < len(lines) and edges[last + 1] - edges[first] <= most:
            last += 1
        made.append(_strip(root, range(first, last), edges[first], edges[last]))
        first = last
    return made or [svg]


def _strip(root: ET.Element, lines: range, top: float, bottom: float) -> bytes:
    """Return a picture with only so many of its lines of music, from one height to another."""
    part = copy.deepcopy(root)
    systems = [one for one in part.iter() if "system" in one.get("class", "").split()]
    gone = {id(one) for number, one in enumerate(systems) if number not in lines}
    for parent in list(part.iter()):
        for child in list(parent):
            if id(child) in gone:
                parent.remove(child)
    for text in part.findall(f"{{{SVG}}}text"):
        y = float(text.get("y", "0"))
        if top <= y < bottom:
            text.set("y", f"{y - top:.1f}")
        else:
            part.remove(text)
    inner = part.find(f"{{{SVG}}}g")
    if inner is not None:
        inner.set("transform", inner.get("transform", "").replace(f"translate(0, {HEAD_PX})", f"translate(0, {HEAD_PX - top:.3f})"))
    part.set("height", f"{bottom - top:g}")
    part.set("viewBox", f"0 0 {part.get('width')} {bottom - top:g}")
    return bytes(ET.tostring(part, encoding="utf-8"))


def _pdf(svg: bytes) -> bytes:
    """Return an engraved picture as PDF, on as many pages of A4 as it needs."""
    from reportlab.graphics import renderPDF
    from reportlab.lib.pagesizes import A4
    from reportlab.pdfgen.canvas import Canvas
    from svglib.svglib import svg2rlg

    wide, tall = A4[0] - 2.0 * PAGE_MARGIN_PT, A4[1] - 2.0 * PAGE_MARGIN_PT
    width = float(ET.fromstring(svg).get("width", "1"))
    scale = min(MOST_ENLARGED, wide / (PT_A_PX * width))
    target = io.BytesIO()
    canvas = Canvas(target, pagesize=A4, invariant=1)
    for part in strips(svg, tall / (PT_A_PX * scale)):
        drawing = svg2rlg(io.BytesIO(part))
        if drawing is None:
            raise SystemExit("the picture could not be made a page")
        own = min(scale, tall / drawing.height)  # one line may be taller than a page
        canvas.saveState()
        canvas.translate(PAGE_MARGIN_PT, A4[1] - PAGE_MARGIN_PT - own * drawing.height)
        canvas.scale(own, own)
        renderPDF.draw(drawing, canvas, 0, 0)
        canvas.restoreState()
        canvas.showPage()
    canvas.save()
    return target.getvalue()


if __name__ == "__main__":
    main()
