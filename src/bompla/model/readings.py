"""The ways to read a loop's tempo that are offered."""

from __future__ import annotations

from msgspec.structs import replace

from bompla.model.document import Document, TempoReading
from bompla.model.drums import METERS
from bompla.model.wording import in_bars
from bompla.units import bpm_of

SHOWN_READINGS = 3
WORTH_SHOWING = 0.03
SURE, LIKELY = 0.8, 0.5
TOLD_APART_BPM = 0.05
EVERY_TEMPO = (0.0, 1e9)


def reading_choices(
    document: Document, tempo_range: tuple[float, float] = EVERY_TEMPO
) -> tuple[list[tuple[object, str]], object]:
    """Return the tempo readings to offer for the loop as it stands, and the one that holds.

    Those the analysis found are taken over to the loop's present length; half and double are
    among them where they are in the range of tempo that is looked at.
    """
    loop = document.loop
    here = TempoReading(round(document.bpm, 4), loop.bars, loop.meter_name, 1.0)
    offered = [here]
    found = [
        replace(r, bpm=_bpm_of(document, r.bars, r.meter))
        for r in document.readings
        if r.score >= WORTH_SHOWING and _near_length(document, r)
    ]
    for bars in (2.0 * loop.bars, loop.bars / 2.0 if loop.whole_bars % 2 == 0 else 0.0):
        if bars:
            found.append(TempoReading(_bpm_of(document, bars, loop.meter_name), bars, loop.meter_name, 0.0))
    for reading in found:
        fits = tempo_range[0] <= reading.bpm <= tempo_range[1]
        if fits and all((reading.bars, reading.meter) != (other.bars, other.meter) for other in offered):
            offered.append(reading)
    shown = offered[:SHOWN_READINGS]
    return [(reading, _words(reading, loop.meter_name)) for reading in shown], here


def _bpm_of(document: Document, bars: float, meter: str) -> float:
    beats = bars * METERS[meter].beats_per_bar
    return round(bpm_of(beats=beats, seconds=document.loop.frames / document.source.sample_rate), 4)


def _near_length(document: Document, reading: TempoReading) -> bool:
    """Whether a reading of the analysis fills the loop as it stands."""
    return abs(_bpm_of(document, reading.bars, reading.meter) / reading.bpm - 1.0) < 0.02


def _words(reading: TempoReading, usual_meter: str) -> str:
    length = in_bars(reading.bars * METERS[reading.meter].beats_per_bar, METERS[reading.meter])
    return f"{reading.bpm:.1f} · {length}" + ("" if reading.meter == usual_meter else f" {reading.meter}")


def bar_choices(document: Document) -> list[int]:
    """Return the numbers of bars that the sound has room for from the loop's start, and the present one."""
    bar = document.loop.bar_frames
    room = (document.source.frames - document.loop.start_sample) / bar + 0.01
    return sorted({n for n in (1, 2, 4, 8) if n <= room} | ({document.loop.whole_bars} if document.loop.is_whole_bars else set()))


def sureness(document: Document) -> str:
    """Return how sure the tempo is, in a word; only what was detected can be sure."""
    if document.tempo.by_hand:
        return "set by you"
    if not document.readings:
        return "no tempo detected"
    if document.tempo_confidence >= SURE:
        return "sure"
    return "likely" if document.tempo_confidence >= LIKELY else "please check"


def detected_beside(document: Document) -> str:
    """Return the tempo that was detected, to stand beside one that a hand has set; empty where there is nothing to tell."""
    if not document.tempo.by_hand or not document.readings or abs(document.readings[0].bpm - document.bpm) < TOLD_APART_BPM:
        return ""
    return f" · detected {document.readings[0].bpm:.2f}"


def reading_near(document: Document, bpm: float) -> TempoReading:
    """Return the reading of the loop as it stands whose tempo is nearest to one that was tapped."""
    loop = document.loop
    bars = max(1, round(loop.bars * bpm / document.bpm))
    return TempoReading(_bpm_of(document, bars, loop.meter_name), bars, loop.meter_name, 0.0)
