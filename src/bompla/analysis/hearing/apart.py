"""Drums that fall together but not quite: how long after an attack its lower drum begins, where a hat or a cymbal begins it.

A snare a few milliseconds after a hat is one attack and one slice. In the band of its body the hat has nearly nothing, so that there the
rise of the snare is seen by itself: when the envelope of that band comes near its peak, less the time a drum like it takes to rise.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.analysis.hearing.spectrum import ANALYSIS_RATE
from bompla.model.document import Heard
from bompla.model.drums import DRUMS, Family

BEFORE_S, AFTER_S, PEAK_S, LEAD_S, EVERY = 0.060, 0.060, 0.035, 0.006, 4
NEAR_PEAK = 0.35
"""The rise is where the envelope comes to this share of its peak."""

LEAST_RISE_DB = 9.0
"""By so much the band must rise above what was there, for its rise to be a drum's."""

LONGEST_MS, SHORTEST_MS, MAYBE = 24.0, 3.0, 0.2
"""Further off it is another hit; nearer it is together."""


@dataclass(frozen=True)
class Body:
    """The band of a drum's body in Hz, and how long it takes to rise there, in ms."""

    low_hz: float
    high_hz: float
    rise_ms: float


BODIES = {"snare": Body(160.0, 700.0, -0.5), "kick": Body(40.0, 160.0, -1.9)}
"""Bodies that are known; their rise, on made drums by themselves, is less than nothing, as the filter looks ahead."""

FEWEST_ALONE, MOST_RISE_MS = 2, 6.0
"""So many strikes alone tell the rise of a loop's own drum, where it is no longer than this."""

HIGH = (Family.HATS, Family.CYMBALS, Family.EXTRAS)


def apart(signal: NDArray[np.float32], at_samples: Sequence[int], heard: Sequence[tuple[Heard, ...]]) -> list[tuple[Heard, ...]]:
    """Return the drums of attacks, the lower one of each with how late it begins, in ms, where that can be told.

    How long a body takes to rise is known from where the loop has the drum alone, or else from made drums.
    """
    rises = {drum: _own_rise(signal, at_samples, heard, drum) for drum in BODIES}
    return [_apart_at(signal, at, one, rises) for at, one in zip(at_samples, heard, strict=True)]


def _own_rise(signal: NDArray[np.float32], at_samples: Sequence[int], heard: Sequence[tuple[Heard, ...]], drum: str) -> float:
    alone = [at for at, one in zip(at_samples, heard, strict=True) if [h.drum for h in one if h.confidence >= MAYBE] == [drum]]
    found = [rise for at in alone if (rise := rise_after_ms(signal, at, replace_rise(BODIES[drum], 0.0))) is not None]
    middle = float(np.median(found)) if len(found) >= FEWEST_ALONE else BODIES[drum].rise_ms
    return middle if abs(middle) <= MOST_RISE_MS else BODIES[drum].rise_ms


def replace_rise(body: Body, rise_ms: float) -> Body:
    """Return a body that rises in another time."""
    return Body(body.low_hz, body.high_hz, rise_ms)


def _apart_at(signal: NDArray[np.float32], at_sample: int, heard: tuple[Heard, ...], rises: Mapping[str, float]) -> tuple[Heard, ...]:
    sure = [one for one in heard if one.sure]
    low = [one for one in sure if one.drum in BODIES]
    others = [one for one in sure if one not in low]
    if len(low) != 1 or not others or any(DRUMS[one.drum].family not in HIGH for one in others):
        return heard
    late_ms = rise_after_ms(signal, at_sample, replace_rise(BODIES[low[0].drum], rises[low[0].drum]))
    if late_ms is None or not SHORTEST_MS <= late_ms <= LONGEST_MS:
        return heard
    return tuple(replace(one, late_ms=round(late_ms, 2)) if one is low[0] else one for one in heard)


@lru_cache(maxsize=2)
def _window(size: int) -> NDArray[np.float64]:
    return np.asarray(np.hanning(size) ** 0.25)


@lru_cache(maxsize=4)
def _edge(size: int, low_hz: float, high_hz: float) -> NDArray[np.float64]:
    """Return what each bin above 0 Hz counts of the analytic signal in a band."""
    hz = np.fft.rfftfreq(size, 1.0 / ANALYSIS_RATE)
    edge = np.clip((hz / low_hz - 0.7) / 0.3, 0.0, 1.0) * np.clip((1.3 - hz / high_hz) / 0.3, 0.0, 1.0)
    return np.asarray(edge * np.where(hz > 0.0, 2.0, 1.0))


def rise_after_ms(signal: NDArray[np.float32], at_sample: int, body: Body) -> float | None:
    """Return how long after a place a body rises, None where nothing rises in its band."""
    before = round(BEFORE_S * ANALYSIS_RATE)
    first, last = at_sample - before, at_sample + round(AFTER_S * ANALYSIS_RATE)
    part = np.zeros(last - first, np.float64)
    inside = slice(max(0, first), min(len(signal), last))
    part[inside.start - first : inside.stop - first] = signal[inside]
    edge = _edge(len(part), body.low_hz, body.high_hz)
    # so low a band is told in full by a sample in four
    envelope = np.abs(np.fft.ifft((np.fft.rfft(part * _window(len(part))) * edge)[: len(part) // EVERY])) / EVERY
    peak_at = before // EVERY + int(envelope[before // EVERY : (before + round(PEAK_S * ANALYSIS_RATE)) // EVERY].argmax())
    floor = float(np.median(envelope[before // 4 // EVERY : (before - 100) // EVERY]))
    peak = float(envelope[peak_at])
    if peak <= 0.0 or 20.0 * np.log10(peak / max(floor, 1e-9)) < LEAST_RISE_DB:
        return None
    level = floor + NEAR_PEAK * (peak - floor)
    begin = (before - round(LEAD_S * ANALYSIS_RATE)) // EVERY
    if envelope[begin] >= level:
        return None  # what was there before is as loud
    over = begin + int((envelope[begin : peak_at + 1] >= level).argmax())
    rise = over - (envelope[over] - level) / (envelope[over] - envelope[over - 1])
    return 1_000.0 * (EVERY * float(rise) - before) / ANALYSIS_RATE - body.rise_ms
