"""The whole analysis of a clip, as a pipeline of named steps: attacks, drums, tempo and loop."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.analysis.hearing.apart import apart
from bompla.analysis.hearing.attacks import CANDIDATE_FLOOR, FoundAttacks, find_attacks
from bompla.analysis.hearing.context import DrumOdds, load_context
from bompla.analysis.hearing.drums import CUT_THRESHOLD, heard_of, heard_together, strength_of, strengths_of
from bompla.analysis.hearing.network import Activations, load_model, run
from bompla.analysis.hearing.recurring import BarGrid, load_recurring, recurring
from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, HOP, Spectrum, spectrum_of
from bompla.analysis.hearing.strikes import strike_levels
from bompla.analysis.loop.passage import passages_in
from bompla.analysis.loop.region import loop_of
from bompla.analysis.params import AnalysisParams
from bompla.analysis.tempo.evidence import Evidence, evidence_of, excerpt
from bompla.analysis.tempo.pieces import readings_of
from bompla.analysis.tempo.readings import Reading, confidence_of, read_tempo, shares_of
from bompla.analysis.tempo.stretches import HeardStretch, stretches_of
from bompla.audio.clip import Clip
from bompla.audio.memory import release_pages
from bompla.errors import AnalysisError
from bompla.files import as_text, is_text
from bompla.model.analysis_result import AnalysisResult
from bompla.model.document import SAME_ATTACK_MS, Attack, Heard, Source, TempoReading
from bompla.model.loop import Loop
from bompla.model.stretches import Proposed, Stretch
from bompla.units import ms_to_samples

MIN_DURATION_S = 0.05
QUIET_MS = 1.2
HEARD_AROUND_S = 6.0
NAMED_FROM = 0.3
"""A place in a tail, where no drum is likelier than this, is none."""

SURE_OF_BARS = 0.5
"""How sure the tempo must be for what recurs from bar to bar to count."""

Progress = Callable[[float, str], None]


def _silent(_share: float, _what: str) -> None:
    """Report to nobody."""


@dataclass(frozen=True, eq=False)
class Listening:
    """All that one pass over a sound gives: what was seen, and what was heard in it.

    Of `attacks` the strengths, and of `drums` the odds, are those once all attacks and the bars are known; `readings` are the ways
    to read the tempo, best first, and `evidence` what they were read from; `stretches` are the parts of a recording, none of a loop.
    """

    spectrum: Spectrum
    activations: Activations
    attacks: FoundAttacks
    drums: DrumOdds
    readings: list[Reading]
    evidence: Evidence
    stretches: list[HeardStretch]


def analyse(
    clip: Clip, params: AnalysisParams | None = None, *, name: str = "", path: str = "", progress: Progress = _silent
) -> AnalysisResult:
    """Return everything heard in a clip.

    The same clip and parameters give the same result, except `elapsed_s`, the time it took.
    `progress` is called with a share from 0 to 1 and what is being done; it may raise to cancel.
    Raises AnalysisError for a clip too short to hold a hit. Silence gives a result without
    attacks.
    """
    started = time.perf_counter()
    params = (params or AnalysisParams()).checked()
    heard = listen(clip, params, name=name, progress=progress)
    result = result_of(clip, heard, params, name=name, path=path)
    progress(1.0, "done")
    return replace(result, elapsed_s=time.perf_counter() - started)


def listen(clip: Clip, params: AnalysisParams, *, name: str = "", progress: Progress = _silent) -> Listening | None:
    """Return all that is heard in a clip, None in silence; raises AnalysisError for a clip too short to hold a hit."""
    if clip.duration_s < MIN_DURATION_S:
        raise AnalysisError(f"{name or 'This sound'} is too short to hold a hit ({1000.0 * clip.duration_s:.0f} ms).")
    progress(0.02, "looking at the sound")
    spectrum = spectrum_of(clip)
    if spectrum is None:
        return None
    progress(0.4, "finding attacks")
    activations = run(load_model(), spectrum)
    return listened(spectrum, activations, clip.duration_s, params, progress)


def listened(
    spectrum: Spectrum, activations: Activations, duration_s: float, params: AnalysisParams, progress: Progress = _silent
) -> Listening:
    """Return all that is heard in a spectrum, with what the network made of it, of a sound so many seconds long."""
    found = find_attacks(spectrum, activations, strengths_of(activations, load_model()), params)
    release_pages(spectrum.signal)
    progress(0.6, "hearing drums")
    drums = heard_together(activations, load_model(), load_context(), spectrum, found.samples)
    progress(0.8, "reading tempo and bars")
    evidence = _evidence(found, drums, duration_s, params)
    readings = _readings(evidence, params)
    stretches = stretches_of(evidence, params) if readings[0].anywhere else []
    drums = _with_other_bars(drums, found, readings)
    attacks = FoundAttacks(found.samples, strength_of(drums).astype(np.float64))
    return Listening(spectrum, activations, attacks, drums, readings, evidence, stretches)


def _evidence(found: FoundAttacks, drums: DrumOdds, duration_s: float, params: AnalysisParams) -> Evidence:
    """Return what tempo is read from: the attacks that are cut at, and their drums."""
    heard = heard_of(drums, load_model())
    used = np.flatnonzero(strength_of(drums) >= threshold_of(params))
    return evidence_of(found.samples[used] / ANALYSIS_RATE, [heard[i] for i in used], duration_s)


def _readings(evidence: Evidence, params: AnalysisParams) -> list[Reading]:
    part = excerpt(evidence)
    return readings_of(part, params, whole=part is evidence)


def _with_other_bars(drums: DrumOdds, found: FoundAttacks, readings: list[Reading]) -> DrumOdds:
    """Return drums in which what other bars have in the same place counts, where the bars are sure."""
    if confidence_of(readings) < SURE_OF_BARS:
        return drums
    best = readings[0]
    bars = BarGrid(best.start_s, best.beat_s * best.meter.beats_per_bar, best.bars)
    return recurring(drums, found.samples / ANALYSIS_RATE, bars, load_model().drums, load_recurring())


def result_of(clip: Clip, heard: Listening | None, params: AnalysisParams, *, name: str = "", path: str = "") -> AnalysisResult:
    """Return what was heard as the value that documents are made from; without anything heard, the whole clip without attacks."""
    source = named(Source("", clip.content_hash, clip.sample_rate, clip.channels, clip.frames), name, path)
    if heard is None:
        return _nothing_heard(source, clip, params)
    threshold = threshold_of(params)
    attacks = _attacks(clip, heard, threshold)
    cut_at = [attack for attack in attacks if attack.strength >= threshold]
    readings, loop, passages = _best_of(heard, clip, cut_at)
    known = not readings[0].unknown
    return AnalysisResult(
        source=source,
        loop=loop,
        readings=_as_tempo_readings(readings) if known else (),
        tempo_confidence=round(confidence_of(readings), 3) if known else 0.0,
        attacks=attacks,
        threshold=threshold,
        stretches=tuple(_as_stretch(stretch, clip) for stretch in heard.stretches),
        passages=passages,
    )


def named(source: Source, name: str, path: str) -> Source:
    """Return a source of a name and a path, both text: a path that is none is not kept."""
    return replace(source, name=as_text(name), path=path if is_text(Path(path)) else "")


def _best_of(heard: Listening, clip: Clip, cut_at: list[Attack]) -> tuple[list[Reading], Loop, tuple[Proposed, ...]]:
    """Return the readings that count, the loop, and all loops that are proposed, best first; of several stretches those of the best."""
    found = [(value, n, one) for n, stretch in enumerate(heard.stretches)
             for value, one in passages_in(stretch, clip, cut_at, heard.evidence)]
    if not found:
        return heard.readings, loop_of(heard.readings[0], clip, cut_at, heard.evidence), ()
    found.sort(key=lambda row: -row[0])
    return heard.stretches[found[0][1]].readings, found[0][2].loop, tuple(one for _, _, one in found)


def _as_stretch(stretch: HeardStretch, clip: Clip) -> Stretch:
    best, rate = stretch.readings[0], clip.sample_rate
    start, end = max(0, round(stretch.start_s * rate)), min(clip.frames, round(stretch.end_s * rate))
    return Stretch(start, end, round(best.bpm, 4), best.meter.name, round(stretch.confidence, 3))


def threshold_of(params: AnalysisParams) -> float:
    """Return the attack strength from which cuts are made."""
    return min(1.0, CUT_THRESHOLD / params.sensitivity)


def _attacks(clip: Clip, heard: Listening, threshold: float) -> tuple[Attack, ...]:
    """Return the attacks as values of the model, in samples of the clip; those too weak for anything to snap to are left out."""
    scale, found = clip.sample_rate / ANALYSIS_RATE, heard.attacks
    drums, clear = list(heard_of(heard.drums, load_model())), clear_db(heard.spectrum, found.samples)
    cut_at = np.flatnonzero(found.strengths >= threshold).tolist()
    told = apart(heard.spectrum.signal, [int(found.samples[i]) for i in cut_at], [drums[i] for i in cut_at])
    for place, one in zip(cut_at, told, strict=True):
        drums[place] = one
    levels = strike_levels(heard.spectrum, found.samples, _next_strike(found, threshold, heard.spectrum.signal.size))
    release_pages(heard.spectrum.signal)
    made = []
    for i in np.flatnonzero(found.strengths >= CANDIDATE_FLOOR):
        at_sample = min(clip.frames - 1, round(int(found.samples[i]) * scale))
        strength, clear_by = round(float(found.strengths[i]), 4), round(float(clear[i]), 1)
        made.append(Attack(at_sample, quiet_before(clip, at_sample), strength, drums[i], clear_by, levels[i]))
    release_pages(clip.mono)
    return tuple(made)


def _next_strike(found: FoundAttacks, threshold: float, end: int) -> NDArray[np.int64]:
    """Return for each attack when the next that is cut at begins, or the end of the sound."""
    cut_at = np.append(found.samples[found.strengths >= threshold], end)
    return np.asarray(cut_at[np.minimum(np.searchsorted(cut_at, found.samples, side="right"), cut_at.size - 1)], np.int64)


def quiet_before(clip: Clip, at_sample: int) -> int:
    """Return the quietest sample within `QUIET_MS` ahead of a place: where a cut makes no click."""
    first = max(0, at_sample - ms_to_samples(QUIET_MS, clip.sample_rate))
    before = np.abs(clip.mono[first : at_sample + 1])
    return first + int(before.argmin()) if before.size else at_sample


def clear_db(spectrum: Spectrum, samples: NDArray[np.int64]) -> NDArray[np.float64]:
    """Return how far each attack stands above what rings before it: the loudest of 30 ms after against 25 ms before."""
    total = spectrum.power.sum(axis=1)
    frame = np.round(samples / HOP).astype(np.int64)
    last = total.size - 1
    after = total[np.clip(frame[:, None] + np.arange(2, 11), 0, last)].max(axis=1)
    before = total[np.clip(frame[:, None] + np.arange(-12, -4), 0, last)].mean(axis=1)
    before = np.where(frame < 5, 0.0, before)
    return np.asarray(10.0 * np.log10((after + 1e-9) / (before + 1e-9)))


def _as_tempo_readings(readings: list[Reading]) -> tuple[TempoReading, ...]:
    return tuple(
        TempoReading(round(r.bpm, 4), r.bars, r.meter.name, round(share, 4))
        for r, share in zip(readings, shares_of(readings), strict=True)
    )


def _nothing_heard(source: Source, clip: Clip, params: AnalysisParams) -> AnalysisResult:
    nothing = evidence_of(np.zeros(0), [], clip.duration_s)
    return AnalysisResult(source, loop_of(read_tempo(nothing, params)[0], clip, [], nothing), (), 0.0, (), CUT_THRESHOLD)


def hear_at(clip: Clip, at_samples: list[int]) -> list[tuple[Heard, ...]]:
    """Return the drums heard at places in a clip, such as cuts made by hand; none in silence.

    Of a long clip only what is around each place is listened to.
    """
    around = round(HEARD_AROUND_S * clip.sample_rate)
    if clip.frames > 4 * around:
        starts = [max(0, min(place - around, clip.frames - 2 * around)) for place in at_samples]
        parts = [(clip.part(start, start + 2 * around), place - start) for start, place in zip(starts, at_samples, strict=True)]
        return [_heard_in(part, [place])[0] for part, place in parts]
    return _heard_in(clip, at_samples)


def _heard_in(clip: Clip, at_samples: list[int]) -> list[tuple[Heard, ...]]:
    spectrum = spectrum_of(clip)
    if spectrum is None:
        return [() for _ in at_samples]
    scale = clip.sample_rate / ANALYSIS_RATE
    samples = np.array([round(place / scale) for place in at_samples], dtype=np.int64)
    model = load_model()
    activations = run(model, spectrum)
    known = find_attacks(spectrum, activations, strengths_of(activations, model), AnalysisParams()).samples
    # A place at an attack is that attack; any other is heard among them.
    away = np.abs(known[:, None] - samples[None, :]).min(axis=1, initial=spectrum.signal.size)
    other = away > ms_to_samples(SAME_ATTACK_MS, ANALYSIS_RATE)
    among = np.unique(np.concatenate([samples, known[other]]))
    heard = heard_of(heard_together(activations, model, load_context(), spectrum, among), model)
    found = [heard[index] for index in np.searchsorted(among, samples)]
    return [drums if any(one.confidence >= NAMED_FROM for one in drums) else () for drums in found]
