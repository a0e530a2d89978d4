"""Waveforms and curves as pixmaps, made by NumPy in one go."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QColor, QImage, QPixmap

from bompla.audio.summary import WaveSummary


def spans_pixmap(low: NDArray[np.float32], high: NDArray[np.float32], height: int, colour: QColor) -> QPixmap:
    """Return a pixmap with one vertical span a column, from `low` to `high` in pixels from the top.

    Edges are smoothed; the rest is transparent.
    """
    rows = np.arange(height, dtype=np.float32)[:, np.newaxis]
    cover = np.clip(np.minimum(rows + 1.0, high) - np.maximum(rows, low), 0.0, 1.0)
    alpha = (cover * colour.alpha()).astype(np.uint32)
    red, green, blue = ((channel * alpha) // 255 for channel in (colour.red(), colour.green(), colour.blue()))
    pixels = np.ascontiguousarray((alpha << 24) | (red << 16) | (green << 8) | blue)
    image = QImage(
        pixels.tobytes(), pixels.shape[1], height, 4 * pixels.shape[1], QImage.Format.Format_ARGB32_Premultiplied
    )
    return QPixmap.fromImage(image.copy())


def wave_pixmap(
    summary: WaveSummary, start_sample: float, end_sample: float, width: int, height: int, colour: QColor,
    *, ratio: float = 1.0, gain: float = 1.0,
) -> QPixmap:
    """Return the waveform of a stretch of sound, `width` by `height` in points at a pixel ratio."""
    columns, rows = max(1, round(width * ratio)), max(2, round(height * ratio))
    extremes = summary.columns(start_sample, end_sample, columns) * gain
    middle = rows / 2.0
    top = middle - np.clip(extremes[:, 1], -1.0, 1.0) * (middle - 1.0)
    bottom = middle - np.clip(extremes[:, 0], -1.0, 1.0) * (middle - 1.0)
    half = 0.5 * np.maximum(0.0, 1.2 - (bottom - top))
    pixmap = spans_pixmap(top - half, bottom + half, rows, colour)
    pixmap.setDevicePixelRatio(ratio)
    return pixmap


def level_pixmap(
    levels: NDArray[np.float32], first: float, last: float, width: int, height: int, colour: QColor,
    *, ratio: float = 1.0, mirrored: bool = False,
) -> QPixmap:
    """Return levels from 0 to 1 as a filled curve, from point `first` to point `last` of the array.

    Each column shows the greatest level in it; mirrored curves grow from the middle both ways.
    """
    columns, rows = max(1, round(width * ratio)), max(2, round(height * ratio))
    edges = np.linspace(first, last, columns + 1)
    start = np.clip(np.floor(edges[:-1]).astype(np.int64), 0, max(0, levels.size - 1))
    stop = np.clip(np.ceil(edges[1:]).astype(np.int64), start + 1, levels.size)
    padded = np.append(levels, np.float32(0.0))
    heights = np.maximum.reduceat(padded, np.stack([start, stop], axis=1).ravel())[::2]
    outside = (edges[1:] <= 0.0) | (edges[:-1] >= levels.size)
    heights = np.where(outside, 0.0, np.clip(heights, 0.0, 1.0)).astype(np.float32)
    if mirrored:
        middle = rows / 2.0
        half = np.maximum(0.4, heights * (middle - 1.0))
        low, high = middle - half, middle + half
    else:
        low, high = rows - np.maximum(0.6, heights * (rows - 1.0)), np.full(columns, float(rows))
    pixmap = spans_pixmap(low.astype(np.float32), high.astype(np.float32), rows, colour)
    pixmap.setDevicePixelRatio(ratio)
    return pixmap
