"""Looking at files for the shelf: what the analysis makes of each."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from bompla.analysis.analyse import analyse
from bompla.analysis.shelf_index import WAVE_COLUMNS, ShelfEntry, content_key
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.errors import BomplaError
from bompla.model.analysis_result import AnalysisResult
from bompla.model.beatmap import BeatMap
from bompla.model.drums import METERS

LOOKED_AT_S = 120.0
"""Of a longer file only its middle is analysed for the shelf."""

SWING_RANGE = (0.5, 0.8)


def scanned(path: Path) -> tuple[str, ShelfEntry]:
    """Return the content key and entry of a file; the key is empty where the file cannot be read at all."""
    try:
        content = content_key(path)
    except OSError:
        content = ""
    return content, entry_of(path)


def entry_of(path: Path) -> ShelfEntry:
    """Return what the shelf shows of a file; a file that cannot be read gives its reason."""
    try:
        clip = read_clip(path)
        return heard_entry(analyse(_middle(clip), name=path.name), clip)
    except BomplaError as error:
        return ShelfEntry(problem=str(error))
    except MemoryError:
        return ShelfEntry(problem=f"There is not enough memory to look at {path.name}.")


def heard_entry(heard: AnalysisResult, clip: Clip) -> ShelfEntry:
    """Return the entry of a sound that has been analysed."""
    loop = heard.loop
    cut = [a for a in heard.attacks if a.strength >= heard.threshold and loop.start_sample <= a.at_sample < loop.end_sample]
    beat_map = BeatMap.steady(loop.start_sample, loop.end_sample, loop.beats)
    beats = beat_map.beats_at(np.array([a.at_sample for a in cut], dtype=float))
    return ShelfEntry(
        bpm=round(60.0 * loop.beats * heard.source.sample_rate / loop.frames, 2),
        bars=loop.bars,
        meter=loop.meter_name,
        duration_s=round(clip.duration_s, 3),
        hits_per_bar=round(len(cut) / loop.bars, 2),
        swing=0.0 if METERS[loop.meter_name].compound else swing_percent(beats),
        sureness=heard.tempo_confidence,
        wave=_wave(clip),
        problem="" if cut else "No hits were found in it.",
    )


def swing_percent(beats: np.ndarray) -> float:
    """Return where off-beat eighths lie in their beat, in percent, 0 where there are too few to say."""
    places = np.asarray(beats) % 1.0
    off = places[(places > SWING_RANGE[0] - 0.06) & (places < SWING_RANGE[1] - 0.06)]
    return round(100.0 * float(np.median(off)), 1) if off.size >= 2 else 0.0


def _middle(clip: Clip) -> Clip:
    wanted = round(LOOKED_AT_S * clip.sample_rate)
    if clip.frames <= 2 * wanted:
        return clip
    start = (clip.frames - wanted) // 2
    return clip.part(start, start + wanted)


def _wave(clip: Clip) -> bytes:
    level = np.abs(clip.mono)
    edges = np.linspace(0, level.size, WAVE_COLUMNS, endpoint=False).astype(np.int64)
    peaks = np.maximum.reduceat(level, edges)
    return np.round(255.0 * peaks / max(float(peaks.max()), 1e-9)).astype(np.uint8).tobytes()
