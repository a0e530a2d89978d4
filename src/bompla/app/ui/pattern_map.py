"""A pattern in small: a mark a hit, by beat and lane."""

from __future__ import annotations

import numpy as np
from PyQt6.QtGui import QPixmap

from bompla.app.theme import theme
from bompla.app.ui.raster import marks_pixmap
from bompla.model.detected_pattern import is_inside
from bompla.model.document import Document, Variation


def pattern_map(document: Document, variation: Variation, width: float, height: float, *, ratio: float = 1.0) -> QPixmap:
    """Return a picture of a variation's hits, so many points wide and tall, stronger where they are harder."""
    rows = {pad.id: n for n, pad in enumerate(sorted(document.pads, key=lambda p: -p.slot))}
    colours = {pad.id: [theme().drum(pad.drum, 0.4 + 0.15 * quarter).rgba() for quarter in range(4)] for pad in document.pads}
    beats = document.beats_of(variation)
    hits = [hit for hit in variation.hits if is_inside(hit.at_beats, beats) and hit.pad_id in rows]
    tall = height / max(1, len(rows))
    return marks_pixmap(
        np.array([max(0.0, hit.at_beats) for hit in hits]) / beats * width, np.array([rows[hit.pad_id] for hit in hits]) * tall,
        np.array([colours[hit.pad_id][hit.velocity // 32] for hit in hits], np.uint32),
        width=width, height=height, mark=(2.0, max(1.5, tall - 1.5)), ratio=ratio)
