"""A loop made from a project's own sound, whose hits are known and need not be heard again."""

from __future__ import annotations

from collections.abc import Iterable

from bompla.audio.clip import Clip
from bompla.groove.feel import felt_pattern
from bompla.model.analysis_result import AnalysisResult
from bompla.model.detected_pattern import is_inside, pattern_beats
from bompla.model.document import SAME_ATTACK_MS, Attack, Document, Heard, Hit, Source, TempoReading
from bompla.model.loop import Loop

AHEAD_MS = 1.0


def heard_from_pattern(
    document: Document, clip: Clip, name: str, hits: Iterable[Hit] | None = None, beats: float | None = None
) -> AnalysisResult:
    """Return what is known of a clip that plays the shown pattern, or these hits, from its first sample to its last."""
    chosen = felt_pattern(document) if hits is None else hits
    beats = pattern_beats(document) if beats is None else beats
    inside = [hit for hit in chosen if is_inside(hit.at_beats, beats)]
    drums = {pad.id: pad.drum for pad in document.pads}
    groups: list[tuple[int, list[Hit]]] = []
    for hit in sorted(inside, key=lambda h: h.at_beats):
        at = max(0, round(hit.at_beats / beats * clip.frames))
        if groups and at - groups[-1][0] < SAME_ATTACK_MS * clip.sample_rate / 1000.0:
            groups[-1][1].append(hit)
        else:
            groups.append((at, [hit]))
    attacks = []
    for at, together in groups:
        loudest: dict[str, int] = {}
        for hit in together:
            loudest[drums[hit.pad_id]] = max(loudest.get(drums[hit.pad_id], 0), hit.velocity)
        heard = tuple(Heard(drum, 1.0, velocity) for drum, velocity in sorted(loudest.items(), key=lambda item: -item[1]))
        attacks.append(_attack(at, 0.3 + 0.7 * max(loudest.values()) / 127.0, heard, clip))
    return _whole(document, clip, name, tuple(attacks), beats, threshold=0.2)


def heard_from_original(document: Document, clip: Clip, name: str) -> AnalysisResult:
    """Return what is known of a clip that is the loop's original made over: its attacks and drums, where they were."""
    loop = document.loop
    share = clip.frames / loop.frames
    attacks = tuple(
        _attack(round((cut.attack_sample - loop.start_sample) * share), max(cut.strength, document.threshold), cut.heard, clip,
                cut.clear_db)
        for cut in document.cuts
        if loop.start_sample <= cut.attack_sample < loop.end_sample
    )
    return _whole(document, clip, name, attacks, loop.length_beats, threshold=min([document.threshold, *(a.strength for a in attacks)]))


def heard_from_mix(document: Document, clip: Clip, name: str) -> AnalysisResult:
    """Return what is known of a clip that is the document's sound with something taken away: all that was heard in the mix.

    Cuts and hits come from the mix, always: what is taken away is sound.
    """
    source = Source(name, clip.content_hash, clip.sample_rate, clip.channels, clip.frames)
    return AnalysisResult(source, document.loop, document.readings, document.tempo_confidence, document.attacks, document.threshold,
                          document.stretches, document.proposed)


def _attack(at: int, strength: float, heard: tuple[Heard, ...], clip: Clip, clear_db: float = 20.0) -> Attack:
    ahead = round(AHEAD_MS * clip.sample_rate / 1000.0)
    return Attack(at, max(0, at - ahead), min(1.0, strength), heard, clear_db)


def _whole(document: Document, clip: Clip, name: str, attacks: tuple[Attack, ...], beats: float, *, threshold: float) -> AnalysisResult:
    loop = Loop(0, clip.frames, float(beats), document.loop.meter_name)
    bpm = 60.0 * loop.length_beats / clip.duration_s
    source = Source(name, clip.content_hash, clip.sample_rate, clip.channels, clip.frames)
    return AnalysisResult(source, loop, (TempoReading(bpm, loop.bars, loop.meter_name, 1.0),), 1.0, attacks, threshold)
