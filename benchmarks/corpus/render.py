"""A drawn groove played on a kit, in a room, onto a tape: sound and truth from a seed."""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray
from scipy.fft import next_fast_len
from scipy.signal import fftconvolve, lfilter

from bompla.model.drums import METERS
from corpus import RATE
from corpus.book import booked_groove
from corpus.grooves import DrawnGroove, Note, chance_groove, draw_groove
from corpus.kits import MADE, VELOCITIES, Bank, Voice, font_bank, font_kits, nearest_level
from corpus.patterns import pattern_groove
from corpus.straight import played_straight
from corpus.stretch import stretched
from corpus.vary import Variety, draw_voices
from corpus.work import worked
from corpus.written import written_groove

Mono = NDArray[np.float64]
LEVELS_DB = {
    "kick": 0.0, "snare": -1.5, "rim": -5.0, "clap": -5.0, "hat_closed": -10.0, "hat_pedal": -12.0, "hat_open": -10.0, "ride": -10.0,
    "crash": -6.0, "tom_low": -2.0, "tom_mid": -2.5, "tom_high": -3.0, "shaker": -14.0, "perc": -6.0,
}
"""The peak of a hit at velocity 127 in a usual mix, before it varies by loop."""

MADE_LOOPS_A_KIT = 4
CODED_AT_ONCE = 16_384


@dataclass(frozen=True, eq=False)
class LabelledLoop:
    """A loop with its truth: `hits` as (time in the file, drum, velocity), and the region."""

    samples: NDArray[np.float32]
    groove: DrawnGroove
    kit: str
    start_s: float
    end_s: float
    hits: tuple[tuple[float, str, int], ...]
    mixed: bool

    def truth(self) -> dict[str, Any]:
        """Return the truth as plain values."""
        return {
            "bpm": self.groove.bpm, "meter": self.groove.meter, "kind": self.groove.kind, "kit": self.kit, "mixed": self.mixed,
            "region": {"start_s": self.start_s, "end_s": self.end_s, "bars": self.groove.bars,
                       "beats_per_bar": METERS[self.groove.meter].beats_per_bar},
            "hits": [{"time_s": t, "drum": d, "velocity": v} for t, d, v in self.hits],
        }


def repitched(loop: LabelledLoop, ratio: float) -> LabelledLoop:
    """Return a loop played so many times as fast, and as high, as a record is."""
    samples = soxr.resample(loop.samples, RATE * ratio, RATE)
    return _as_fast(loop, ratio, samples, tuple((at / ratio, drum, velocity) for at, drum, velocity in loop.hits))


def at_other_tempo(loop: LabelledLoop, ratio: float, seed: int) -> LabelledLoop:
    """Return a loop played so many times as fast and as high as it was, in one of the ways that a seed draws (`stretch.py`)."""
    hits_s = np.array([at for at, _, _ in loop.hits])
    samples, when_s = stretched(loop.samples.astype(float), ratio, hits_s, np.random.default_rng((seed, 3)))
    samples = samples * (np.abs(loop.samples).max() / (np.abs(samples).max() + 1e-9))
    hits = sorted((float(at), drum, velocity) for at, (_, drum, velocity) in zip(when_s, loop.hits, strict=True))
    return _as_fast(loop, ratio, samples, tuple(hits))


def _as_fast(loop: LabelledLoop, ratio: float, samples: Mono, hits: tuple[tuple[float, str, int], ...]) -> LabelledLoop:
    """Return a loop of these samples and hits with all else so many times as fast."""
    notes = tuple(replace(note, time_s=note.time_s / ratio) for note in loop.groove.notes)
    return replace(
        loop, samples=samples.astype(np.float32), start_s=loop.start_s / ratio, end_s=loop.end_s / ratio, hits=hits,
        groove=replace(loop.groove, bpm=loop.groove.bpm * ratio, notes=notes),
    )


def make_loop(
    seed: int,
    groups: tuple[str, ...],
    *,
    untrimmed: bool = False,
    mix_share: float = 0.2,
    clean: bool = False,
    varied: bool = False,
    chance: bool = False,
    anywhere: tuple[str, ...] = (),
    ringing: bool = False,
    treated: bool = False,
    straight: bool = False,
    written: bool = False,
    patterned: bool = False,
    booked: bool = False,
    without: frozenset[Note] = frozenset(),
    moved_s: Mapping[Note, float] | None = None,
) -> LabelledLoop:
    """Return a loop drawn by seed, on a kit of one of these groups of sounds.

    Its strikes are made over if `varied`, by those of any kit of the groups `anywhere`, its closed hats at times held half open
    if `ringing`. It is struck by chance, not as a groove, if `chance`; figures that know nothing of one another if `patterned`; one of
    the book if `booked`; a lesson if `written`. FluidSynth renders it in one piece if `straight`, its strikes as they are. What is recorded
    is `treated` as producers do, if it shall be. Notes `without` which it is played make no sound, those of `moved_s` sound so much
    later; all else is as it would be with them.
    """
    rng = np.random.default_rng(seed + 5_000_000)
    groove_of = {written: written_groove, booked: booked_groove, patterned: pattern_groove, chance: chance_groove}.get(True, draw_groove)
    groove = groove_of(seed)
    if straight:
        dry, groove, name = played_straight(groove, str(rng.choice(groups)), rng)
        played = frozenset(note.drum for note in groove.notes)
    else:
        group, bank = _bank(groups, seed, rng, varied=varied)
        dry, played = _play(groove, bank, rng, Variety(group, seed, anywhere, ringing) if varied else None, without, moved_s or {})
        name = bank.name
    frames = round(groove.duration_s * RATE)
    lead_s, tail_s = (float(rng.uniform(0.1, 3.0)), float(rng.uniform(0.2, 3.0))) if untrimmed else (0.0, 0.0)
    if untrimmed:
        sound = np.concatenate([np.zeros(round(lead_s * RATE)), dry])[: round((lead_s + tail_s) * RATE) + frames]
        sound = _count_in(sound, groove, lead_s, rng)
    else:
        sound = dry[:frames].copy()
        rest = dry[frames : 2 * frames]
        sound[: len(rest)] += rest
    mixed = bool(rng.random() < mix_share)
    if mixed:
        sound = sound + _band(groove, len(sound), lead_s, rng)
    if not clean:
        sound = _recorded(sound, rng, wrapped=not untrimmed)
    if treated:
        sound = worked(sound, 60.0 / groove.bpm, np.random.default_rng((seed, 2)))
    sound = sound / (np.abs(sound).max() + 1e-9) * rng.uniform(0.3, 0.99)
    lead = round(lead_s * RATE) / RATE
    hits = tuple((lead + round(n.time_s * RATE) / RATE, n.drum, n.velocity) for n in groove.notes if n.drum in played)
    return LabelledLoop(sound.astype(np.float32), groove, name, lead, lead + frames / RATE, hits, mixed)


def _bank(groups: tuple[str, ...], seed: int, rng: np.random.Generator, *, varied: bool) -> tuple[str, Bank]:
    group = str(rng.choice(groups, p=_shares(groups)))
    if group == "synth" and varied:
        return group, Bank(f"synth {seed // MADE_LOOPS_A_KIT + 70_000}", {})
    if group in MADE:
        return group, MADE[group](seed // MADE_LOOPS_A_KIT + (70_000 if group == "synth" else 0))
    kits = font_kits((group,))
    if not kits:
        raise SystemExit(f"No sounds of the group {group} are installed: see benchmarks/corpus/README.md")
    return group, font_bank(*kits[int(rng.integers(len(kits)))])


def _shares(groups: tuple[str, ...]) -> Mono:
    weights = np.array([{"chip": 0.3, "recorded": 1.0}.get(group, 1.0) for group in groups])
    return np.asarray(weights / weights.sum())


def _play(
    groove: DrawnGroove, bank: Bank, rng: np.random.Generator, varied: Variety | None, without: frozenset[Note],
    moved_s: Mapping[Note, float],
) -> tuple[Mono, frozenset[str]]:
    """Mix every hit at its onset, and say which drums there are; a hat's next stroke stops the open one."""
    frames = 2 * round(groove.duration_s * RATE) + 3 * RATE
    mix = np.zeros(frames)
    pitch = float(rng.choice([1.0, 1.0, rng.uniform(0.84, 1.19)]))
    chosen = {}
    for drum in sorted({note.drum for note in groove.notes}):
        loudest = len(VELOCITIES) - 1
        levels = frozenset(nearest_level(note.velocity) for note in groove.notes if note.drum == drum) | {loudest}
        drawn = draw_voices(drum, levels, bank, varied, rng) if varied else None
        options = [] if varied else bank.voices.get(drum, [])
        if drawn or options:
            own = pitch * float(rng.uniform(0.94, 1.06))
            gain_db = LEVELS_DB[drum] + rng.normal(0.0, 2.5)
            strikes = drawn or dict(enumerate(options[int(rng.integers(len(options)))]))
            voices = {n: _pitched(strikes[n], own) for n in levels}
            peak = max(float(np.abs(voices[loudest]).max()), 1e-6)
            chosen[drum] = ({n: v / peak for n, v in voices.items()}, 10.0 ** (gain_db / 20.0), float(rng.uniform(0.75, 1.1)))
    stops = [note.time_s for note in groove.notes if note.drum in ("hat_closed", "hat_pedal")]
    for note in groove.notes:
        if note.drum not in chosen:
            continue
        voices, gain, _ = chosen[note.drum]
        nearest = nearest_level(note.velocity)
        sound = np.asarray(voices[nearest], np.float64)
        scale = gain * (note.velocity / VELOCITIES[nearest]) ** 1.6 * 10.0 ** (rng.normal(0.0, 0.4) / 20.0)
        if note.drum == "hat_open":
            after = [t - note.time_s for t in stops if t > note.time_s + 0.03]
            if after:
                t = np.arange(len(sound)) / RATE
                sound = sound * np.exp(-np.maximum(t - min(after), 0.0) / 0.012)
        if note in without:
            continue
        start = round((note.time_s + moved_s.get(note, 0.0)) * RATE)
        part = sound[: frames - start]
        mix[start : start + len(part)] += scale * part
    return mix, frozenset(chosen)


def _pitched(voice: Voice, ratio: float) -> Voice:
    return soxr.resample(voice, RATE * ratio, RATE) if abs(ratio - 1.0) > 0.01 else voice


def _count_in(sound: Mono, groove: DrawnGroove, lead_s: float, rng: np.random.Generator) -> Mono:
    if rng.random() < 0.25 and lead_s > 4.2 * 60.0 / groove.bpm:
        tick = np.sin(2 * np.pi * 1800.0 * np.arange(900) / RATE) * np.exp(-np.arange(900) / 150.0)
        for beat in range(1, 5):
            at = round((lead_s - beat * 60.0 / groove.bpm) * RATE)
            sound[at : at + 900] += 0.2 * tick
    return sound


def _recorded(sound: Mono, rng: np.random.Generator, *, wrapped: bool) -> Mono:
    """Return the sound as a room, a desk, a tape and a record would have it."""
    if rng.random() < 0.6:
        sound = sound + rng.uniform(0.05, 0.6) * _room(sound, rng, wrapped)
    if rng.random() < 0.4:
        sound = _squeezed(sound, rng)
    if rng.random() < 0.35:
        drive = rng.uniform(1.0, 5.0)
        peak = np.abs(sound).max() + 1e-9
        sound = np.tanh(drive * sound / peak)
    if rng.random() < 0.6:
        sound = _tilted(sound, rng)
    peak = np.abs(sound).max() + 1e-9
    if rng.random() < 0.5:
        hiss = rng.standard_normal(len(sound))
        sound = sound + peak * 10.0 ** rng.uniform(-4.2, -2.4) * hiss
    if rng.random() < 0.12:
        for at in rng.integers(0, len(sound) - 40, size=int(rng.integers(2, 14))):
            sound[at : at + 24] += peak * rng.uniform(0.01, 0.05) * rng.standard_normal(24) * np.exp(-np.arange(24) / 6.0)
    if rng.random() < 0.1:
        steps = 2.0 ** rng.integers(7, 11)
        sound = np.round(sound / peak * steps) / steps * peak
    if rng.random() < 0.12:
        sound = _coded(sound, rng)
    return sound


def _room(sound: Mono, rng: np.random.Generator, wrapped: bool) -> Mono:
    decay = rng.uniform(0.03, 0.35)
    frames = int(min(1.2, 5.0 * decay) * RATE)
    t = np.arange(frames) / RATE
    answer = rng.standard_normal(frames) * np.exp(-t / decay)
    answer = lfilter([1.0 - (damp := rng.uniform(0.2, 0.8))], [1.0, -damp], answer)
    answer[: int(rng.uniform(0.002, 0.03) * RATE)] *= 0.05
    answer /= np.sqrt((answer**2).sum()) + 1e-9
    wet = fftconvolve(sound, answer)
    out = wet[: len(sound)]
    if wrapped:
        rest = wet[len(sound) : 2 * len(sound)]
        out[: len(rest)] += rest
    return np.asarray(out)


def _squeezed(sound: Mono, rng: np.random.Generator) -> Mono:
    """Compress: gain falls with the level over a short time, as fast as it rises over a longer one."""
    hop = 64
    level = np.sqrt(np.maximum(1e-12, np.add.reduceat(sound**2, np.arange(0, len(sound), hop)) / hop))
    release = np.exp(-hop / RATE / rng.uniform(0.04, 0.25))
    held = np.empty_like(level)
    now = 0.0
    for index, value in enumerate(level):
        now = max(value, now * release)
        held[index] = now
    threshold = level.max() * 10.0 ** (rng.uniform(-26.0, -10.0) / 20.0)
    gain = np.minimum(1.0, (threshold / np.maximum(held, 1e-9)) ** (1.0 - 1.0 / rng.uniform(1.5, 6.0)))
    places = np.arange(len(sound)) / hop
    return np.asarray(sound * np.interp(places, np.arange(len(gain)) + 0.5, gain))


def _tilted(sound: Mono, rng: np.random.Generator) -> Mono:
    around = 8192  # a loop goes round; lengths of few small factors are much faster than others
    size = next_fast_len(len(sound) + 2 * around, real=True)
    spectrum = np.fft.rfft(np.pad(sound, (around, size - len(sound) - around), mode="wrap"))
    hz = np.fft.rfftfreq(size, 1.0 / RATE)
    curve = rng.uniform(-3.5, 3.5) * np.log2(np.maximum(hz, 40.0) / 900.0)
    for _ in range(int(rng.integers(0, 4))):
        middle, width = np.exp(rng.uniform(np.log(60.0), np.log(12_000.0))), rng.uniform(0.4, 1.5)
        curve = curve + rng.uniform(-8.0, 8.0) * np.exp(-((np.log2(np.maximum(hz, 20.0) / middle) / width) ** 2))
    gain = 10.0 ** (np.clip(curve, -24.0, 18.0) / 20.0)
    if rng.random() < 0.4:
        gain = gain / (1.0 + (hz / rng.uniform(5_500.0, 16_000.0)) ** 8)
    if rng.random() < 0.25:
        gain = gain * (hz / (hz + rng.uniform(20.0, 110.0))) ** 2
    return np.asarray(np.fft.irfft(spectrum * gain, size)[around : around + len(sound)])


def _coded(sound: Mono, rng: np.random.Generator) -> Mono:
    target = io.BytesIO()
    peak = np.abs(sound).max() + 1e-9
    level = float(rng.uniform(0.5, 0.95))
    with soundfile.SoundFile(target, "w", RATE, 1, format="OGG", subtype="VORBIS", compression_level=level) as file:
        for at in range(0, len(sound), CODED_AT_ONCE):  # its coder overruns the stack with much more at once
            file.write((0.9 * sound[at : at + CODED_AT_ONCE] / peak).astype(np.float32))
    target.seek(0)
    back = soundfile.read(target)[0]
    out = np.zeros(len(sound))
    out[: min(len(back), len(sound))] = back[: len(sound)]
    return out * peak


def _band(groove: DrawnGroove, frames: int, lead_s: float, rng: np.random.Generator, warp: Callable[[float], float] = float) -> Mono:
    """Return a bass and chords in the groove's tempo, which wanders as `warp` says, not always on its hits."""
    out = np.zeros(frames)
    beat_s = 60.0 / groove.bpm
    root = 41.2 * 2.0 ** (int(rng.integers(0, 12)) / 12.0)
    level = 10.0 ** (rng.uniform(-16.0, -4.0) / 20.0)
    at = 0.0
    while at < groove.beats:
        length = float(rng.choice([0.5, 1.0, 1.5, 2.0]))
        if rng.random() < 0.8:
            hz = root * 2.0 ** (int(rng.choice([0, 0, 3, 5, 7, 10, 12])) / 12.0)
            _add(out, lead_s + warp(at * beat_s), _tone(hz, length * beat_s * 0.9, rng.uniform(0.003, 0.02), 6, rng), level)
        at += length
    for bar in range(groove.bars):
        if rng.random() < 0.8:
            length = METERS[groove.meter].beats_per_bar * beat_s
            for step in (0, 3, 7, 10)[: int(rng.integers(2, 5))]:
                hz = root * 4.0 * 2.0 ** (step / 12.0)
                sound = _tone(hz, length * 0.95, rng.uniform(0.005, 0.15), 10, rng)
                _add(out, lead_s + warp(bar * length), sound, 0.35 * level)
    return out


def _tone(hz: float, seconds: float, rise_s: float, partials: int, rng: np.random.Generator) -> Mono:
    t = np.arange(max(64, round(seconds * RATE))) / RATE
    slope = rng.uniform(0.8, 2.0)
    sound = sum(np.sin(2 * np.pi * hz * k * t + rng.uniform(0, 6)) / k**slope for k in range(1, partials + 1) if hz * k < 12_000.0)
    shape = np.minimum(1.0, t / rise_s) * np.exp(-t / rng.uniform(0.4, 3.0)) * np.minimum(1.0, (t[-1] - t) / 0.02 + 1e-3)
    return np.asarray(sound * shape)


def _add(out: Mono, at_s: float, sound: Mono, gain: float) -> None:
    start = round(at_s * RATE)
    part = sound[: max(0, len(out) - start)]
    out[start : start + len(part)] += gain * part
