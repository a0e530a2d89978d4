"""Looking at files for the shelf: what the analysis makes of each."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.errors import BomplaError
from bompla.model.analysis_result import AnalysisResult
from bompla.model.beatmap import BeatMap
from bompla.model.drums import METERS
from bompla.model.groove_print import groove_print
from bompla.shelf.index import WAVE_COLUMNS, ShelfEntry, ShelfHit, content_key
from bompla.units import bpm_of

LOOKED_AT_S = 120.0
"""Of a longer file only its middle is analysed for the shelf."""

SWING_RANGE = (0.5, 0.8)


LONGEST_HIT_S = 3.0

Scanned = tuple[ShelfEntry, tuple[ShelfHit, ...]]


def scanned(path: Path) -> tuple[str, ShelfEntry, tuple[ShelfHit, ...]]:
    """Return the content key, entry and hits of a file; the key is empty where the file cannot be read at all."""
    try:
        content = content_key(path)
    except OSError:
        content = ""
    return content, *looked_at(path)


def looked_at(path: Path) -> Scanned:
    """Return what the shelf shows of a file, and its hits; a file that cannot be read gives its reason."""
    try:
        clip = read_clip(path)
        part, offset_s = _middle(clip)
        heard = analyse(part, name=path.name)
        return heard_entry(heard, clip), heard_hits(heard, offset_s)
    except BomplaError as error:
        return ShelfEntry(problem=str(error)), ()
    except MemoryError:
        return ShelfEntry(problem=f"There is not enough memory to look at {path.name}."), ()


def heard_hits(heard: AnalysisResult, offset_s: float) -> tuple[ShelfHit, ...]:
    """Return every hit of a sound that is sure enough to be played, each as long as its slice; `offset_s` is where the sound starts."""
    rate = heard.source.sample_rate
    cut = [a for a in heard.attacks if a.strength >= heard.threshold]
    ends = [a.cut_sample for a in cut[1:]] + [heard.source.frames]
    return tuple(
        ShelfHit(one.drum, round(offset_s + a.cut_sample / rate, 5),
                 round(offset_s + min(end, a.cut_sample + LONGEST_HIT_S * rate) / rate, 5), one.velocity,
                 round(one.confidence, 3), round(min(99.0, a.clear_db), 1))
        for a, end in zip(cut, ends, strict=True) for one in a.heard if one.sure)


def heard_entry(heard: AnalysisResult, clip: Clip) -> ShelfEntry:
    """Return the entry of a sound that has been analysed."""
    loop = heard.loop
    cut = [a for a in heard.attacks if a.strength >= heard.threshold and loop.start_sample <= a.at_sample < loop.end_sample]
    bpm = bpm_of(beats=loop.length_beats, seconds=loop.frames / heard.source.sample_rate)
    beat_map = BeatMap.steady(loop.start_sample, loop.end_sample, loop.length_beats)
    beats = beat_map.beats_at(np.array([a.at_sample for a in cut], dtype=float))
    return ShelfEntry(
        bpm=round(bpm, 2) if heard.readings else 0.0,
        bars=loop.whole_bars,
        meter=loop.meter_name,
        duration_s=round(clip.duration_s, 3),
        hits_per_bar=round(len(cut) / loop.bars, 2),
        swing=0.0 if METERS[loop.meter_name].compound else swing_percent(beats),
        sureness=heard.tempo_confidence,
        wave=_wave(clip),
        groove=groove_print(
            [(one.drum, float(beat), one.velocity) for a, beat in zip(cut, beats, strict=True) for one in a.heard if one.sure],
            beats=loop.whole_bars * loop.meter.beats_per_bar, meter=METERS[loop.meter_name], bpm=bpm),
        problem="" if cut else "No hits were found in it.",
    )


def swing_percent(beats: np.ndarray) -> float:
    """Return where off-beat eighths lie in their beat, in percent, 0 where there are too few to say."""
    places = np.asarray(beats) % 1.0
    off = places[(places > SWING_RANGE[0] - 0.06) & (places < SWING_RANGE[1] - 0.06)]
    return round(100.0 * float(np.median(off)), 1) if off.size >= 2 else 0.0


def _middle(clip: Clip) -> tuple[Clip, float]:
    wanted = round(LOOKED_AT_S * clip.sample_rate)
    if clip.frames <= 2 * wanted:
        return clip, 0.0
    start = (clip.frames - wanted) // 2
    return clip.part(start, start + wanted), start / clip.sample_rate


def _wave(clip: Clip) -> bytes:
    level = np.abs(clip.mono)
    edges = np.linspace(0, level.size, WAVE_COLUMNS, endpoint=False).astype(np.int64)
    peaks = np.maximum.reduceat(level, edges)
    return np.round(255.0 * peaks / max(float(peaks.max()), 1e-9)).astype(np.uint8).tobytes()
