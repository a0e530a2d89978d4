"""Drum tab: a pattern as plain text, a line a drum, a character a step."""

from __future__ import annotations

from bompla.groove.score import Beat, Score
from bompla.model.drums import DRUMS, Family

NAMES = {
    "kick": "BD", "snare": "SD", "rim": "RS", "clap": "CP", "hat_closed": "HH", "hat_open": "HO", "hat_pedal": "HP", "ride": "RD",
    "crash": "CR", "tom_low": "LT", "tom_mid": "MT", "tom_high": "HT", "shaker": "SH", "perc": "PC",
}
"""What the lines are called, as the trade calls them."""

LEGEND = "o drum, x cymbal or hat, O X accent, g ghost, f flam"


def drum_tab(score: Score, *, bars_per_line: int = 2) -> str:
    """Return a score as tab, with its title, tempo and meter ahead and a legend behind."""
    swing = f", {score.swing_of} swung {score.swing:.0f} %" if score.swing else ""
    lines = [score.title, f"{score.bpm:.4g} BPM, {score.meter.name}{swing}", ""]
    drums = [drum for drum in reversed(DRUMS) if any(note.drum == drum for bar in score.bars for beat in (*bar.hands, *bar.feet)
                                                     for chord in beat.chords for note in chord.notes)]
    for first in range(0, len(score.bars), bars_per_line):
        some = score.bars[first : first + bars_per_line]
        lines.append("   " + " ".join(_counts(score, bar_index) for bar_index in range(first, first + len(some))))
        for drum in drums:
            cells = []
            for bar_index in range(first, first + len(some)):
                bar = score.bars[bar_index]
                beats = bar.feet if DRUMS[drum].foot else bar.hands
                cells.append("".join(_beat_cells(score, bar_index, beat, beats, drum) for beat in range(score.meter.beats_per_bar)))
            lines.append(f"{NAMES[drum]}|" + "|".join(cells) + "|")
        lines.append("")
    return "\n".join([*lines, LEGEND]) + "\n"


def _divisions(score: Score, bar_index: int, beat: int) -> int:
    bar = score.bars[bar_index]
    voice = bar.hands or bar.feet
    return voice[beat].divisions if voice else 4


def _counts(score: Score, bar_index: int) -> str:
    return "".join(str(beat + 1).ljust(_divisions(score, bar_index, beat)) for beat in range(score.meter.beats_per_bar))


def _beat_cells(score: Score, bar_index: int, beat: int, beats: tuple[Beat, ...], drum: str) -> str:
    cells = ["-"] * _divisions(score, bar_index, beat)
    for chord in beats[beat].chords if beats else ():
        for note in chord.notes:
            if note.drum == drum:
                metal = DRUMS[drum].family in (Family.HATS, Family.CYMBALS)
                plain = "x" if metal else "o"
                cells[chord.step] = "f" if note.flam else "g" if note.ghost else plain.upper() if note.accent else plain
    return "".join(cells)
