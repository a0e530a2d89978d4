"""The report: one HTML file of what Study says, with pictures, notation and sound, that needs nothing else."""

from __future__ import annotations

import base64
import html
import io
from collections.abc import Iterator

import numpy as np
import soundfile

from bompla.audio.clip import Clip
from bompla.export.loops import rebuilt_sound
from bompla.export.paper import on_paper, part_score
from bompla.export.request import Check, ExportRequest, Made, Part, base_name, parts_of
from bompla.groove.feel import felt_pattern
from bompla.groove.grid import EARLY_BEATS
from bompla.groove.read import GrooveRead, read_groove
from bompla.model.detected_pattern import pattern_bars, pattern_meter
from bompla.model.document import Document
from bompla.model.drums import DRUMS, Family
from bompla.model.wording import counted
from bompla.render.speed import at_rate

INK = {Family.DRUMS: "#a4541c", Family.SNARES: "#8a6400", Family.HATS: "#1f7568", Family.CYMBALS: "#4453b8", Family.EXTRAS: "#8f4580"}
WIDTH, LANE, LABEL = 760.0, 34.0, 96.0
SOUND_RATE = 44_100

_STYLE = """
body { font: 17px/1.5 system-ui, sans-serif; color: #1d2a2a; background: #f4eee0; margin: 0 auto; max-width: 820px; padding: 20px; }
h1 { font-size: 26px; margin: 0 0 2px; } h2 { font-size: 18px; margin: 28px 0 8px; } p { margin: 4px 0; }
svg, audio { max-width: 100%; height: auto; } audio { width: 100%; height: 40px; } table { border-collapse: collapse; width: 100%; }
td, th { text-align: left; padding: 3px 8px; border-bottom: 1px solid #d8d0bd; } .dim { color: #55625c; }
@media print { body { background: #fff; } audio { display: none; } }
"""


def report(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make the report of each pattern that leaves."""
    for part in parts_of(request.document, request.options.patterns):
        if part.passages:
            continue
        check()
        read = read_groove(part.document)
        score = part_score(request, part)
        paper = on_paper(score, signs=request.options.repeat_signs, check=check).svg.decode("utf-8")
        title = f"{request.document.title} {part.letter}".strip()
        body = "\n".join((
            f"<h1>{html.escape(title)}</h1>",
            f"<p class=\"dim\">{html.escape(facts_line(part.document))}</p>",
            "<h2>What makes it work</h2>", *(f"<p>{html.escape(fact.text)}</p>" for fact in read.sentences()),
            "<h2>Hear it</h2>", "<p class=\"dim\">the original</p>", _original(request), "<p class=\"dim\">rebuilt</p>",
            _rebuilt(request, part, check),
            "<h2>Where each hit falls</h2>", steps_picture(part.document), "<h2>Which bars are alike</h2>", bars_picture(read),
            "<h2>On paper</h2>", paper[paper.index("<svg"):], "<h2>In numbers</h2>", _table(read),
        ))
        page = (f"<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">"
                f"<title>{html.escape(title)}</title><style>{_STYLE}</style></head><body>\n{body}\n</body></html>\n")
        yield Made(f"{base_name(request, part)} report.html", "report", f"report of {part.letter}", page.encode("utf-8"),
                   {"sentences": len(read.sentences())})


def sounds_ahead(request: ExportRequest, check: Check) -> None:
    """Encode what is heard in the reports beside other work: the codec lets go of the interpreter."""
    _original(request)
    for part in parts_of(request.document, request.options.patterns):
        if not part.passages:
            _rebuilt(request, part, check)


def _original(request: ExportRequest) -> str:
    loop = request.document.loop
    return request.kept("original heard", lambda: _audio(request.clip, loop.start_sample, loop.end_sample))


def _rebuilt(request: ExportRequest, part: Part, check: Check) -> str:
    def make() -> str:
        sound = rebuilt_sound(request, part, check)
        return _audio(sound, 0, sound.frames)

    return request.kept(("rebuilt heard", part.letter), make)


def facts_line(document: Document) -> str:
    """Return what stands under the title: tempo, bars, meter, and where it is from."""
    bars = counted(pattern_bars(document), "bar")
    return f"{document.bpm:.2f} BPM, {bars} of {pattern_meter(document).name}, from {document.source.name}"


def _audio(clip: Clip, start_sample: int, end_sample: int) -> str:
    """Return a part of a sound as an element that carries it."""
    clip = Clip(at_rate(clip, start_sample, end_sample, SOUND_RATE), SOUND_RATE)
    level = float(np.abs(clip.samples).max(initial=0.0))
    target = io.BytesIO()
    soundfile.write(target, clip.samples / max(1.0, level / 0.98), clip.sample_rate, format="MP3", subtype="MPEG_LAYER_III")
    data = base64.b64encode(target.getvalue()).decode("ascii")
    return f"<audio controls src=\"data:audio/mpeg;base64,{data}\"></audio>"


def steps_picture(document: Document) -> str:
    """Return all bars laid over one, as an SVG."""
    meter = pattern_meter(document)
    hits = felt_pattern(document)
    used = {hit.pad_id for hit in hits}
    lanes = [pad for pad in sorted(document.pads, key=lambda pad: -pad.slot) if pad.id in used]
    steps = 3 if meter.compound else 4
    height = 24.0 + LANE * len(lanes)

    def x_of(beat: float) -> float:
        return LABEL + (WIDTH - LABEL - 10.0) * (beat + EARLY_BEATS) / (meter.beats_per_bar + 2 * EARLY_BEATS)

    drawn = [f'<svg viewBox="0 0 {WIDTH:g} {height:g}" width="{WIDTH:g}" role="img" aria-label="Where each hit falls in the bar">']
    for step in range(meter.beats_per_bar * steps + 1):
        colour = "#b9b19c" if step % steps == 0 else "#e3dbc8"
        x = x_of(step / steps)
        drawn.append(f'<line x1="{x:.1f}" y1="18" x2="{x:.1f}" y2="{height:.1f}" stroke="{colour}"/>')
        if step % steps == 0 and step // steps < meter.beats_per_bar:
            drawn.append(f'<text x="{x - 4:.1f}" y="13" font-size="13">{step // steps + 1}</text>')
    for row, pad in enumerate(lanes):
        y = 24.0 + (row + 0.5) * LANE
        drawn.append(f'<text x="2" y="{y + 5:.1f}" font-size="14">{html.escape(pad.name)}</text>')
        for hit in hits:
            if hit.pad_id == pad.id:
                within = (hit.at_beats + EARLY_BEATS) % meter.beats_per_bar - EARLY_BEATS
                bar = int((hit.at_beats + EARLY_BEATS) // meter.beats_per_bar)
                drawn.append(f'<circle cx="{x_of(within):.1f}" cy="{y + (bar % 5 - 2) * 3.0:.1f}" r="{1.5 + 4.5 * hit.velocity / 127:.1f}" '
                             f'fill="{INK[DRUMS[pad.drum].family]}" fill-opacity="0.75"/>')
    return "".join([*drawn, "</svg>"])


def bars_picture(read: GrooveRead) -> str:
    """Return how alike bars are, as an SVG."""
    bars = len(read.form)
    size = min(44.0, 600.0 / bars)
    side = 30.0 + size * bars
    drawn = [f'<svg viewBox="0 0 {side:g} {side:g}" width="{side:g}" role="img" aria-label="Which bars are alike: {read.form}">']
    for row in range(bars):
        drawn.append(f'<text x="{30 + (row + 0.35) * size:.1f}" y="20" font-size="14">{read.form[row]}</text>')
        drawn.append(f'<text x="6" y="{30 + (row + 0.62) * size:.1f}" font-size="13">{row + 1}</text>')
        for column in range(bars):
            like = float(read.likeness[row, column])
            drawn.append(f'<rect x="{30 + column * size:.1f}" y="{30 + row * size:.1f}" width="{size - 2:.1f}" height="{size - 2:.1f}" '
                         f'fill="#1f7568" fill-opacity="{0.08 + 0.92 * like**2:.3f}"><title>{100 * like:.0f} %</title></rect>')
    return "".join([*drawn, "</svg>"])


def fact_rows(read: GrooveRead) -> list[tuple[str, str, str]]:
    """Return all facts as rows of words: what, of what, how much."""
    rows = []
    for fact in read.facts:
        spread = f" ± {fact.spread:g}" if fact.spread else ""
        rows.append((fact.key.replace("_", " "), ", ".join(fact.about.values()), f"{fact.value:g}{spread} {fact.unit}".strip()))
    return rows


def _table(read: GrooveRead) -> str:
    rows = "".join("<tr>" + "".join(f"<td>{html.escape(cell)}</td>" for cell in row) + "</tr>" for row in fact_rows(read))
    return f"<table><tr><th>what</th><th>of</th><th>how much</th></tr>{rows}</table>"
