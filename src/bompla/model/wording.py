"""Counts and places in words, the same everywhere."""

from __future__ import annotations

from bompla.model.document import Document
from bompla.model.drums import Meter
from bompla.model.loop import NEARLY_WHOLE_BEATS
from bompla.units import samples_to_ms


def counted(count: int, noun: str) -> str:
    """Return a number with its noun, in the singular or the plural."""
    return f"{count} {noun}" if count == 1 else f"{count} {noun}s"


FRACTIONS = {1 / 4: "¼", 1 / 3: "⅓", 1 / 2: "½", 2 / 3: "⅔", 3 / 4: "¾"}
"""Parts of a bar that are told as such, where they fall on a beat."""


def in_bars(length_beats: float, meter: Meter) -> str:
    """Return a length in bars of a meter: "4 bars", "2½ bars", "5⅓ bars", "1 bar and 2.37 beats"."""
    bars, beats = divmod(length_beats + NEARLY_WHOLE_BEATS, meter.beats_per_bar)
    beats = max(0.0, beats - NEARLY_WHOLE_BEATS)
    share = beats / meter.beats_per_bar
    if abs(beats) <= NEARLY_WHOLE_BEATS:
        return counted(int(bars), "bar")
    for part, sign in FRACTIONS.items():
        on_beat = abs(part * meter.beats_per_bar - round(part * meter.beats_per_bar)) < 1e-9
        if on_beat and abs(share - part) * meter.beats_per_bar <= NEARLY_WHOLE_BEATS:
            return f"{int(bars) or ''}{sign} bar{'s' if bars else ''}"
    rest = f"{beats:.2f}".rstrip("0").rstrip(".")
    over = f"{rest} beat" if rest == "1" else f"{rest} beats"
    return f"{counted(int(bars), 'bar')} and {over}" if bars else over


def as_number(value: float) -> float | int:
    """Return a number as a file holds it: a whole one without a point."""
    return round(value) if abs(value - round(value)) < 1e-9 else round(value, 6)


def of_hits(verb: str, count: int) -> str:
    """Return the name of an edit of so many hits, without the number where it is one."""
    return f"{verb} hit" if count == 1 else f"{verb} {count} hits"


def bar_and_beat(beat: float, meter: Meter) -> str:
    """Return a place as bar and beat, both counted from 1."""
    return f"{int(beat // meter.beats_per_bar) + 1}.{int(beat % meter.beats_per_bar) + 1}"


def position(beat: float, meter: Meter) -> str:
    """Return a place as bar, beat and hundredths of a beat; below 0 they are ahead of the first beat."""
    if beat < 0.0:
        return f"1.1.-{round(-beat * 100):02d}"
    return f"{bar_and_beat(beat, meter)}.{int(beat % 1 * 100):02d}"


def step_and_offset(document: Document, at_sample: int) -> str:
    """Return a place in the loop as bar, beat and step, with how far off the step it is."""
    meter = document.loop.meter
    beats = document.beat_map.beat_at(at_sample)
    steps = 3 if meter.compound else 4
    step = round(beats * steps)
    whole = document.beat_map.sample_at(step / steps)
    off_ms = samples_to_ms(at_sample - whole, document.source.sample_rate)
    return f"{bar_and_beat(step / steps, meter)}.{step % steps + 1}  {off_ms:+.0f} ms"
