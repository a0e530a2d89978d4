"""Small true pictures of what each export will hold."""

from __future__ import annotations

from collections.abc import Callable
from heapq import nsmallest

from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QWidget

from bompla.app.project.session import Session
from bompla.app.theme import theme
from bompla.app.ui.noteheads import draw_head
from bompla.app.ui.raster import wave_pixmap
from bompla.export.request import ExportRequest
from bompla.groove.feel import feel_of, felt_pattern
from bompla.groove.score import score_of
from bompla.model.detected_pattern import is_inside, pattern_beats
from bompla.model.document import Hit, Layer
from bompla.model.drums import DRUMS
from bompla.model.phrase_edits import with_first_bars

SIZE = QSize(188, 46)
MOST_DRAWN = 400
"""More sounds than these on so little room are one grey; of more only some are drawn."""

STAFF_STEPS = "CDEFGAB"


class ExportPicture(QWidget):
    """Paints what an export will hold, from the document as it stands."""

    def __init__(self, session: Session, key: str) -> None:
        super().__init__()
        self._session, self._key = session, key
        self.setFixedSize(SIZE)
        self.setAccessibleName("")

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme().colour("sunk"))
        request = self._session.outgoing.request()
        if request is not None:
            _PAINTERS[self._key](painter, QRectF(self.rect()).adjusted(6, 5, -6, -5), request, self._session)


def _ratio(painter: QPainter) -> float:
    device = painter.device()
    return device.devicePixelRatioF() if device is not None else 1.0


def _marks(request: ExportRequest, wide: float) -> list[tuple[float, Hit]]:
    """Return the hits that leave, each with where it is in a picture so wide; of those of a pad on one pixel the hardest."""
    beats, silent = pattern_beats(request.document), request.left_silent
    hardest: dict[tuple[int, int], tuple[float, Hit]] = {}
    for hit in felt_pattern(request.document):
        if hit.pad_id in silent or not is_inside(hit.at_beats, beats):
            continue
        x = wide * max(0.0, hit.at_beats) / beats
        known = hardest.get((hit.pad_id, int(x)))
        if known is None or known[1].velocity < hit.velocity:
            hardest[hit.pad_id, int(x)] = (x, hit)
    return list(hardest.values())


def _paint_pattern(painter: QPainter, area: QRectF, request: ExportRequest, _session: Session) -> None:
    """Paint hits as marks, a row a pad."""
    document = request.document
    marks = _marks(request, area.width())
    rows = sorted({hit.pad_id for _, hit in marks}, key=lambda pad_id: document.pad(pad_id).slot)
    places = {pad_id: (row, theme().drum(document.pad(pad_id).drum)) for row, pad_id in enumerate(rows)}
    tall = area.height() / max(1, len(rows))
    for x, hit in marks:
        row, colour = places[hit.pad_id]
        height = (tall - 1.5) * (0.35 + 0.65 * hit.velocity / 127.0)
        painter.fillRect(QRectF(area.left() + x, area.bottom() - row * tall - height, 2.4, height), colour)


def _paint_loop(painter: QPainter, area: QRectF, request: ExportRequest, session: Session) -> None:
    """Paint the loop's waveform with its cuts."""
    summary, loop = session.project.summary, request.document.loop
    if summary is None or loop.frames <= 0:
        return
    painter.drawPixmap(area.topLeft(), wave_pixmap(summary, loop.start_sample, loop.end_sample, int(area.width()), int(area.height()),
                                                   theme().colour("paper", 0.8), ratio=_ratio(painter)))
    painter.setPen(QPen(theme().colour("dim"), 1.0))
    for piece in request.document.slices():
        x = area.left() + area.width() * (piece.start_sample - loop.start_sample) / loop.frames
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.top() + 5.0))


def _paint_slices(painter: QPainter, area: QRectF, request: ExportRequest, session: Session) -> None:
    """Paint the first slices, each in its drum's colour, apart from one another."""
    summary = session.project.summary
    pieces = [piece for piece in request.document.slices() if not piece.cut.left_out][:9]
    if summary is None or not pieces:
        return
    _paint_parts(painter, area, session, [(piece.start_sample, piece.end_sample, piece.cut.heard[0].drum if piece.cut.heard else "perc")
                                          for piece in pieces])


def _paint_parts(painter: QPainter, area: QRectF, session: Session, parts: list[tuple[int, int, str]]) -> None:
    summary = session.project.summary
    if summary is None:
        return
    wide = area.width() / len(parts)
    for n, (start, end, drum) in enumerate(parts):
        pixmap = wave_pixmap(summary, start, max(end, start + 1), max(4, int(wide - 4.0)), int(area.height()), theme().drum(drum, 0.95),
                             ratio=_ratio(painter), gain=1.4)
        painter.drawPixmap(QPointF(area.left() + n * wide, area.top()), pixmap)


def _paint_hits(painter: QPainter, area: QRectF, request: ExportRequest, session: Session) -> None:
    """Paint the hardest layer of the first pads."""
    document = request.document
    parts = [(*document.layer_bounds(pad.layers[-1]), pad.drum) for pad in document.pads if pad.layers and not pad.layers[-1].of][:9]
    if parts:
        _paint_parts(painter, area, session, parts)


def _paint_rebuilt(painter: QPainter, area: QRectF, request: ExportRequest, session: Session) -> None:
    """Paint each hit with its pad's sound, where it plays."""
    document, summary = request.document, session.project.summary
    if summary is None:
        return
    pads = {pad.id: pad for pad in document.pads}
    made: dict[tuple[int, Layer], QPixmap] = {}
    marks = _marks(request, area.width())
    for x, hit in marks[:: 1 + len(marks) // MOST_DRAWN]:
        pad = pads[hit.pad_id]
        layer = pad.layer_for(hit.velocity)
        if layer is None or layer.of:
            continue
        if (pad.id, layer) not in made:
            start, end = document.layer_bounds(layer)
            wide = max(2, int(area.width() * (end - start) / max(1, document.loop.frames)))
            made[pad.id, layer] = wave_pixmap(summary, start, end, wide, int(area.height()), theme().drum(pad.drum, 0.8),
                                              ratio=_ratio(painter))
        painter.drawPixmap(QPointF(area.left() + x, area.top()), made[pad.id, layer])


def _paint_stems(painter: QPainter, area: QRectF, request: ExportRequest, _session: Session) -> None:
    """Paint a line a drum, thick where it sounds."""
    document, loop = request.document, request.document.loop
    heard = [(piece, h) for piece in document.slices() for h in piece.cut.heard if h.sure]
    drums = [drum for drum in DRUMS if any(h.drum == drum for _, h in heard)]
    for row, drum in enumerate(reversed(drums)):
        y = area.top() + (row + 0.5) * area.height() / max(1, len(drums))
        painter.fillRect(QRectF(area.left(), y - 0.5, area.width(), 1.0), theme().drum(drum, 0.35))
        for piece, h in heard:
            if h.drum == drum:
                x = area.left() + area.width() * (piece.start_sample - loop.start_sample) / loop.frames
                tall = min(8.0, area.height() / len(drums) - 1.0) * h.velocity / 127.0
                painter.fillRect(QRectF(x, y - tall / 2.0, max(2.0, area.width() * 0.012), tall), theme().drum(drum))


def _paint_kit(painter: QPainter, area: QRectF, request: ExportRequest, _session: Session) -> None:
    """Paint the first pads as fields, as bright as they have layers."""
    pads = {pad.slot: pad for pad in request.document.pads}
    wide, tall = area.width() / 8.0, area.height() / 2.0
    for place in range(16):
        field = QRectF(area.left() + (place % 8) * wide, area.bottom() - (place // 8 + 1) * tall, wide - 3.0, tall - 3.0)
        pad = pads.get(place)
        painter.fillRect(field, theme().drum(pad.drum, min(1.0, 0.45 + 0.12 * len(pad.layers))) if pad else theme().colour("raised"))


def _paint_score(painter: QPainter, area: QRectF, request: ExportRequest, _session: Session) -> None:
    """Paint the first two bars as notes on a staff."""
    score = request.kept("score of two bars", lambda: score_of(with_first_bars(request.document, 2)))
    painter.setPen(QPen(theme().colour("line"), 1.0))
    gap = 4.0
    top = area.center().y() - 2.0 * gap + 1.0
    for line in range(5):
        painter.drawLine(QPointF(area.left(), top + line * gap), QPointF(area.right(), top + line * gap))
    some = score.bars[:2]
    beats = score.meter.beats_per_bar * max(1, len(some))
    for number, bar in enumerate(some):
        for voice, up in ((bar.hands, True), (bar.feet, False)):
            for index, beat in enumerate(voice):
                for chord in beat.chords:
                    at = number * score.meter.beats_per_bar + index + chord.step / beat.divisions
                    x = area.left() + 4.0 + (area.width() - 8.0) * at / beats
                    _paint_chord(painter, [note.drum for note in chord.notes], x, top, gap, up=up)


def _paint_chord(painter: QPainter, drums: list[str], x: float, top: float, gap: float, *, up: bool) -> None:
    places = []
    for drum in drums:
        staff = DRUMS[drum].staff
        above = STAFF_STEPS.index(staff[0]) + 7 * int(staff[1]) - (STAFF_STEPS.index("F") + 7 * 5)
        places.append(top - above * gap / 2.0)
        draw_head(painter, drum, x, places[-1], 4.6, theme().colour("paper"))
    if places:
        painter.setPen(QPen(theme().colour("paper"), 1.0))
        side, end = (x + 2.0, min(places) - 7.0) if up else (x - 2.0, max(places) + 7.0)
        painter.drawLine(QPointF(side, max(places) if up else min(places)), QPointF(side, end))


def _paint_table(painter: QPainter, area: QRectF, request: ExportRequest, _session: Session) -> None:
    """Paint the first rows of the table as text."""
    painter.setFont(theme().font(11, weight=400))
    document = request.document
    for row, hit in enumerate(nsmallest(3, felt_pattern(document), key=lambda one: one.at_beats)):
        y = area.top() + 11.0 + row * 13.0
        pad = document.pad(hit.pad_id)
        cells = (f"{hit.at_beats * 60.0 / document.bpm:.3f}", f"{hit.at_beats + 1:.2f}", pad.drum, str(hit.velocity))
        for x, words in zip((0.0, 52.0, 88.0, 152.0), cells, strict=True):
            painter.setPen(theme().drum(pad.drum) if x == 88.0 else theme().colour("dim"))
            painter.drawText(QPointF(area.left() + x, y), words)


def _paint_feel(painter: QPainter, area: QRectF, request: ExportRequest, _session: Session) -> None:
    """Paint how late each step is, about the middle, as wide as it is hard."""
    if not felt_pattern(request.document):
        return
    feel = request.kept("feel", lambda: feel_of(request.document, ""))
    most = max(0.02, *(abs(late) for late in feel.late))
    wide = area.width() / len(feel.late)
    painter.fillRect(QRectF(area.left(), area.center().y(), area.width(), 1.0), theme().colour("line"))
    for step, (late, accent) in enumerate(zip(feel.late, feel.accent, strict=True)):
        tall = late / most * area.height() / 2.0
        bar = QRectF(area.left() + step * wide, area.center().y(), max(2.0, (wide - 2.0) * min(1.2, accent) / 1.2), tall).normalized()
        painter.fillRect(bar, theme().colour("paper", 0.8))


_PAINTERS: dict[str, Callable[[QPainter, QRectF, ExportRequest, Session], None]] = {
    "midi": _paint_pattern, "loop": _paint_loop, "slice": _paint_slices, "single-hit": _paint_hits, "rebuilt": _paint_rebuilt,
    "rebuilt-stems": _paint_pattern, "original-stems": _paint_stems, "sfz": _paint_kit, "sf2": _paint_kit, "musicxml": _paint_score,
    "score-svg": _paint_score, "score-pdf": _paint_score, "tab": _paint_score, "hits-csv": _paint_table, "hits-json": _paint_table,
    "report": _paint_score, "report-pdf": _paint_score, "feel": _paint_feel,
}
