"""The analysis as JSON: a stable contract for other programs."""

from __future__ import annotations

from typing import Any

from bompla.analysis.loop.passages import Proposal, proposals_of
from bompla.formats.schemas import (
    Analysis,
    Candidate,
    CutFound,
    HeardSource,
    HitFound,
    PassageFound,
    Region,
    StretchFound,
    TempoFound,
    plain,
)
from bompla.model.analysis_result import AnalysisResult
from bompla.model.detected_pattern import played
from bompla.model.document import Document
from bompla.model.drums import DRUMS, METERS
from bompla.model.stretches import Proposed, Stretch
from bompla.model.wording import as_number
from bompla.units import bpm_of


def analysis_object(heard: AnalysisResult, document: Document) -> dict[str, Any]:
    """Return an analysis as plain values, times in seconds in the file.

    `document` is the project made from `heard`. A cut's time is that of its attack.
    """
    rate, loop = heard.source.sample_rate, document.loop
    bpm = round(document.bpm, 4) if heard.readings else None
    return plain(Analysis(
        source=HeardSource(path=heard.source.path, sample_rate=rate, channels=heard.source.channels,
                           duration_s=_seconds(heard.source.frames, rate)),
        region=Region(start_s=_seconds(loop.start_sample, rate), end_s=_seconds(loop.end_sample, rate), bars=as_number(loop.bars),
                      beats_per_bar=loop.meter.beats_per_bar, meter=loop.meter_name),
        tempo=TempoFound(bpm=bpm, confidence=heard.tempo_confidence, candidates=tuple(
            Candidate(bpm=r.bpm, score=r.score, bars=as_number(r.bars), meter=r.meter) for r in heard.readings)),
        stretches=_stretches(heard, document),
        passages=_passages(heard, document),
        downbeat_s=_seconds(loop.start_sample, rate),
        cuts=tuple(CutFound(time_s=_seconds(cut.attack_sample, rate), strength=cut.strength) for cut in document.cuts
                   if cut.origin == "detected"),
        hits=_hits(document, rate),
        elapsed_s=round(heard.elapsed_s, 4),
    ))


def _hits(document: Document, rate: int) -> tuple[HitFound, ...]:
    beat_map = document.beat_map
    return tuple(
        HitFound(time_s=_seconds(cut.attack_sample, rate), beat=round(beat_map.beat_at(cut.attack_sample), 4), drum=drum.drum,
                 midi_note=DRUMS[drum.drum].note, velocity=drum.velocity, confidence=drum.confidence)
        for cut in document.cuts for drum in played(cut))


def _stretches(heard: AnalysisResult, document: Document) -> tuple[StretchFound, ...]:
    loop, rate = document.loop, heard.source.sample_rate
    whole = Stretch(loop.start_sample, loop.end_sample, round(document.bpm, 4), loop.meter_name, heard.tempo_confidence)
    return tuple(
        StretchFound(start_s=_seconds(one.start_sample, rate), end_s=_seconds(one.end_sample, rate),
                     bpm=one.bpm if heard.readings else None, beats_per_bar=METERS[one.meter_name].beats_per_bar, confidence=one.confidence)
        for one in heard.stretches or (whole,))


def _passages(heard: AnalysisResult, document: Document) -> tuple[PassageFound, ...]:
    loop, rate = document.loop, heard.source.sample_rate
    others = sorted(proposals_of(document), key=lambda one: one.loop != loop)
    whole = others if others and others[0].loop == loop else [Proposal(loop, 0.0), *others]
    return tuple(
        PassageFound(start_s=_seconds(one.loop.start_sample, rate), end_s=_seconds(one.loop.end_sample, rate),
                     bars=as_number(one.loop.bars), beats_per_bar=one.loop.meter.beats_per_bar,
                     bpm=round(bpm_of(beats=one.loop.length_beats, seconds=one.loop.frames / rate), 4) if heard.readings else None,
                     clarity=one.clarity)
        for one in heard.passages or tuple(Proposed(found.loop, round(found.score, 4)) for found in whole))


def _seconds(sample: int, rate: int) -> float:
    return round(sample / rate, 6)
