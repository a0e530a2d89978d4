"""The whole analysis of a clip: attacks, tempo, loop and drums."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.analysis.hearing.attacks import CANDIDATE_FLOOR, PEAK_FRAMES, FoundAttacks, find_attacks
from bompla.analysis.hearing.context import DrumOdds, load_context
from bompla.analysis.hearing.drums import CUT_THRESHOLD, heard_of, heard_together, strength_of, strengths_of
from bompla.analysis.hearing.network import Activations, load_model, run
from bompla.analysis.hearing.recurring import BarGrid, load_recurring, recurring
from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, HOP, LOW_HOP, Spectrum, spectrum_of
from bompla.analysis.params import AnalysisParams
from bompla.analysis.tempo.evidence import Evidence, evidence_of, excerpt
from bompla.analysis.tempo.readings import Reading, confidence_of, read_tempo, shares_of
from bompla.audio.clip import Clip
from bompla.errors import AnalysisError
from bompla.model.analysis_result import AnalysisResult
from bompla.model.document import Attack, Heard, Loop, Source, TempoReading
from bompla.model.drums import BANDS_HZ
from bompla.units import ms_to_samples

MIN_DURATION_S = 0.05
MAX_REGION_BARS = 16
QUIET_MS = 1.2
HEARD_AROUND_S = 6.0
SAME_ATTACK_MS = 12.0
"""Places so near are one attack."""

SURE_OF_BARS = 0.5
"""How sure the tempo must be for what recurs from bar to bar to count."""

Progress = Callable[[float, str], None]


def _silent(_share: float, _what: str) -> None:
    """Report to nobody."""


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
    if clip.duration_s < MIN_DURATION_S:
        raise AnalysisError(f"{name or 'This sound'} is too short to hold a hit ({1000.0 * clip.duration_s:.0f} ms).")
    source = Source(name, clip.content_hash, clip.sample_rate, clip.channels, clip.frames, path)
    progress(0.02, "looking at the sound")
    spectrum = spectrum_of(clip)
    if spectrum is None:
        return _nothing_heard(source, clip, params, started)
    progress(0.4, "finding attacks")
    model = load_model()
    heard = listened(spectrum, run(model, spectrum), clip.duration_s, params, progress)
    readings, threshold = heard.readings, _threshold(params)
    scale, found = clip.sample_rate / ANALYSIS_RATE, heard.attacks
    drums, clear = heard_of(heard.drums, model), clear_db(spectrum, found.samples)
    attacks = tuple(
        _attack(clip, min(clip.frames - 1, round(int(found.samples[i]) * scale)), float(found.strengths[i]), drums[i], float(clear[i]))
        for i in np.flatnonzero(found.strengths >= CANDIDATE_FLOOR)  # so weak a place is none now: nothing shall snap to it
    )
    progress(1.0, "done")
    return AnalysisResult(
        source=source,
        loop=_loop_of(readings[0], clip, [a for a in attacks if a.strength >= threshold], heard.evidence),
        readings=_as_tempo_readings(readings),
        tempo_confidence=round(confidence_of(readings), 3),
        attacks=attacks,
        threshold=threshold,
        elapsed_s=time.perf_counter() - started,
    )


@dataclass(frozen=True, eq=False)
class Listened:
    """All that is heard: attacks, as strong as they are once all of them and the bars are known, drums, tempo, what it was read from."""

    attacks: FoundAttacks
    drums: DrumOdds
    readings: list[Reading]
    evidence: Evidence


def listened(
    spectrum: Spectrum, activations: Activations, duration_s: float, params: AnalysisParams, progress: Progress = _silent
) -> Listened:
    """Return all that is heard in a spectrum, with what the network made of it, of a sound so many seconds long."""
    model = load_model()
    found = find_attacks(spectrum, activations, strengths_of(activations, model), params)
    progress(0.6, "hearing drums")
    together = heard_together(activations, model, load_context(), spectrum, found.samples)
    heard = heard_of(together, model)
    progress(0.8, "reading tempo and bars")
    used = np.flatnonzero(strength_of(together) >= _threshold(params))
    evidence = evidence_of(found.samples[used] / ANALYSIS_RATE, [heard[i] for i in used], duration_s)
    part = excerpt(evidence)
    readings = read_tempo(part, params if part is evidence else replace(params, trimmed=False))
    if confidence_of(readings) >= SURE_OF_BARS:
        best = readings[0]
        bars = BarGrid(best.start_s, best.beat_s * best.meter.beats_per_bar, best.bars)
        together = recurring(together, found.samples / ANALYSIS_RATE, bars, model.drums, load_recurring())
    return Listened(FoundAttacks(found.samples, strength_of(together).astype(np.float64)), together, readings, evidence)


def _threshold(params: AnalysisParams) -> float:
    return min(1.0, CUT_THRESHOLD / params.sensitivity)


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


def _attack(clip: Clip, at_sample: int, strength: float, heard: tuple[Heard, ...], clear: float) -> Attack:
    return Attack(at_sample, quiet_before(clip, at_sample), round(strength, 4), heard, round(clear, 1))


def curve_of(clip: Clip) -> tuple[NDArray[np.float32], float]:
    """Return the attack-strength curve of a clip for drawing, and the seconds from point to point."""
    spectrum = spectrum_of(clip)
    step_s = LOW_HOP / ANALYSIS_RATE
    if spectrum is None:
        return np.zeros(1 + round(clip.duration_s * ANALYSIS_RATE) // LOW_HOP, dtype=np.float32), step_s
    model = load_model()
    activations = run(model, spectrum)
    curve = strengths_of(activations, model)
    found = listened(spectrum, activations, clip.duration_s, AnalysisParams()).attacks
    if found.samples.size == 0:
        return curve, step_s
    # Around each attack the curve is as high as the attack is strong, all attacks and bars known; its shape stays.
    centre = np.round(found.samples / LOW_HOP).astype(np.int64)
    before = curve[np.clip(centre[:, None] + np.arange(-PEAK_FRAMES, PEAK_FRAMES + 1), 0, curve.size - 1)].max(axis=1)
    nearest = np.searchsorted((centre[1:] + centre[:-1]) / 2.0, np.arange(curve.size))
    gain = (found.strengths / np.maximum(before, CANDIDATE_FLOOR))[nearest]
    return np.clip(curve * gain, 0.0, 1.0).astype(np.float32), step_s


def bands_of(clip: Clip) -> tuple[NDArray[np.float32], float]:
    """Return the levels of low, mid and high sound for drawing, and the seconds from point to point.

    Shape (3, frames), each row from 0 to 1.
    """
    spectrum = spectrum_of(clip)
    if spectrum is None:
        return np.zeros((3, 1 + round(clip.duration_s * ANALYSIS_RATE) // HOP), dtype=np.float32), HOP / ANALYSIS_RATE
    rows = []
    for low, high in BANDS_HZ.values():
        level = np.sqrt(spectrum.between(low, high))
        rows.append(level / max(float(level.max()), 1e-6))
    return np.stack(rows).astype(np.float32), HOP / ANALYSIS_RATE


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
    return [heard[index] for index in np.searchsorted(among, samples)]


def _loop_of(reading: Reading, clip: Clip, attacks: list[Attack], evidence: Evidence) -> Loop:
    """Return the region of a reading: the whole file if it is trimmed, else from attack to whole bars."""
    if reading.trimmed:
        return Loop(0, clip.frames, reading.bars, reading.meter.name)
    bars = reading.bars if reading.bars <= MAX_REGION_BARS else 4
    rate = clip.sample_rate
    start_s = reading.start_s
    if reading.bars > MAX_REGION_BARS:
        start_s = _busiest(reading, evidence, bars)
    start = round(start_s * rate)
    near = [a.at_sample for a in attacks if abs(a.at_sample - start) <= 0.03 * rate]
    start = min(near, key=lambda at: abs(at - start), default=start)
    start = max(0, start)
    length = round(bars * reading.meter.beats_per_bar * reading.beat_s * rate)
    end = min(clip.frames, start + length)
    return Loop(start, max(end, start + 1), bars, reading.meter.name)


def _busiest(reading: Reading, evidence: Evidence, bars: int) -> float:
    """Return where the bars with the strongest attacks start."""
    bar_s = reading.beat_s * reading.meter.beats_per_bar
    bar = np.floor((evidence.times_s - reading.start_s) / bar_s + 0.02).astype(int)
    inside = (bar >= 0) & (bar < reading.bars)
    strength = np.bincount(bar[inside], evidence.weights[inside], minlength=reading.bars)
    runs = np.convolve(strength, np.ones(bars), mode="valid")
    return float(reading.start_s + int(runs.argmax()) * bar_s)


def _as_tempo_readings(readings: list[Reading]) -> tuple[TempoReading, ...]:
    return tuple(
        TempoReading(round(r.bpm, 4), r.bars, r.meter.name, round(share, 4))
        for r, share in zip(readings, shares_of(readings), strict=True)
    )


def _nothing_heard(source: Source, clip: Clip, params: AnalysisParams, started: float) -> AnalysisResult:
    reading = read_tempo(evidence_of(np.zeros(0), [], clip.duration_s), params)[0]
    loop = Loop(0, clip.frames, reading.bars, reading.meter.name)
    only = TempoReading(round(reading.bpm, 4), reading.bars, reading.meter.name, 0.0)
    return AnalysisResult(source, loop, (only,), 0.0, (), CUT_THRESHOLD, time.perf_counter() - started)
