"""How loud each hit must sound for a rebuilt loop to be as loud, band by band, as the slices that it was heard in."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.model.document import SAME_ATTACK_MS, Document, Hit, Pad
from bompla.model.strike_levels import STRETCHES_MS, decoded
from bompla.units import ms_to_samples, velocity_to_db

LOWEST_DB, HIGHEST_DB, STEP_DB = -14.0, 9.0, 0.5
FLOOR_DB = 60.0
"""What lies so far under the loudest strike counts as silent."""

OVERLAP_DB = 0.6
"""By so much strikes that ring into one another come out louder than each by itself says."""

SWEEPS = 4
WHOLE_COUNTS = 6.0
"""The level of all bands together counts as much as so many of them: no kick is turned up for a cymbal that rings over it."""

Levels = NDArray[np.float64]


def fitted(document: Document, hits: Sequence[Hit]) -> tuple[Hit, ...]:
    """Return hits with the gain each needs, where its slice and the slice that its pad plays were measured.

    What the pads of a slice's hits play together is brought as near as it comes to the slice itself: the mean difference of levels
    over `strike_levels`' bands and stretches of time, each weighed by its length, and of the level of all bands together, is made least
    by turning one gain after the other (coordinate descent) within `LOWEST_DB` to `HIGHEST_DB`. Other hits stay as they are.
    """
    cuts = [cut for cut in document.cuts if cut.levels and not cut.left_out]
    if not cuts or not hits:
        return tuple(hits)
    known = {cut.at_sample: decoded(cut.levels) for cut in cuts}
    floor = max(float(np.nansum(power, axis=1).max()) for power in known.values()) * 10.0 ** (-FLOOR_DB / 10.0)
    at_cut = np.array([cut.attack_sample for cut in cuts])
    together: dict[int, list[tuple[int, Levels]]] = {}
    times = document.beat_map.samples_at([hit.at_beats for hit in hits])
    near = ms_to_samples(SAME_ATTACK_MS, document.source.sample_rate)
    for index, power in _played_power(document.pads, hits, known):
        place = int(np.abs(at_cut - times[index]).argmin())
        if abs(at_cut[place] - times[index]) <= near:
            together.setdefault(place, []).append((index, power))
    made = list(hits)
    for place, some in together.items():
        gains = _gains(known[cuts[place].at_sample], [power for _, power in some], floor)
        for (index, _), gain_db in zip(some, gains, strict=True):
            made[index] = replace(hits[index], gain_db=gain_db)
    return tuple(made)


def _played_power(pads: Iterable[Pad], hits: Sequence[Hit], known: dict[int, Levels]) -> list[tuple[int, Levels]]:
    """Return for each hit whose pad plays a measured slice its index and what it would sound like."""
    by_id, turns, found = {pad.id: pad for pad in pads}, dict[int, int](), []
    for index, hit in enumerate(hits):
        pad = by_id[hit.pad_id]
        layer = pad.layer_for(hit.velocity, turns.get(pad.id, 0))
        turns[pad.id] = turns.get(pad.id, 0) + 1
        if layer is not None and not layer.of and layer.at_sample in known:
            gain_db = velocity_to_db(hit.velocity) - velocity_to_db(layer.velocity)
            found.append((index, known[layer.at_sample] * 10.0 ** (gain_db / 10.0)))
    return found


def _gains(wanted: Levels, parts: list[Levels], floor: float) -> list[float]:
    """Return the gains in dB at which parts, shape (stretches, bands) each, together come nearest to what is wanted."""
    choices = np.arange(LOWEST_DB, HIGHEST_DB + 0.5 * STEP_DB, STEP_DB)
    factor = 10.0 ** (choices / 10.0)[:, np.newaxis, np.newaxis]
    length = np.array([end - start for start, end in STRETCHES_MS])[:, np.newaxis] * np.ones_like(wanted)
    weight = np.where(np.isnan(wanted) | np.isnan(sum(parts)), 0.0, length)
    if not weight.any():
        return [0.0] * len(parts)
    known = weight > 0.0
    target = np.log10(np.nan_to_num(wanted) + floor)
    whole = np.log10((np.nan_to_num(wanted) * known).sum(axis=1) + floor)
    parts = [np.nan_to_num(part) for part in parts]
    at = [int(np.abs(choices).argmin())] * len(parts)
    for _ in range(SWEEPS if len(parts) > 1 else 1):
        for index, part in enumerate(parts):
            rest = sum((factor[at[n]] * other for n, other in enumerate(parts) if n != index), np.zeros_like(part))
            made = rest + factor * part
            by_band = (weight * np.abs(np.log10(made + floor) - target)).sum(axis=(1, 2))
            as_whole = (weight.max(axis=1) * np.abs(np.log10((made * known).sum(axis=2) + floor) - whole)).sum(axis=1)
            at[index] = int((by_band + WHOLE_COUNTS * as_whole).argmin())
    return [round(float(choices[place]) - OVERLAP_DB, 1) for place in at]
