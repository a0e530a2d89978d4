"""Waveforms and curves as pixmaps, made by NumPy in one go."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QColor, QImage, QPixmap

from bompla.audio.summary import WaveSummary


def spans_pixmap(low: NDArray[np.float32], high: NDArray[np.float32], height: int, colour: QColor) -> QPixmap:
    """Return a pixmap with one vertical span a column, from `low` to `high` in pixels from the top.

    Edges are smoothed; the rest is transparent.
    """
    low, high = np.clip(low, 0.0, height), np.clip(high, 0.0, height)
    first, last = np.floor(low).astype(np.int16), np.floor(high).astype(np.int16)
    rows = np.arange(height, dtype=np.int16)[:, np.newaxis]
    pixels = np.zeros((height + 1, -(-low.size // 4) * 4), np.uint8)  # a row over for spans that end at the bottom; lines of whole words
    within = pixels[:height, : low.size]
    np.multiply((rows > first) & (rows < last), np.uint8(255), out=within, casting="unsafe")
    columns = np.arange(low.size)
    pixels[last, columns] = 255.0 * (high - np.maximum(last, low))
    pixels[first, columns] = 255.0 * np.maximum(0.0, np.minimum(first + 1.0, high) - low)
    image = QImage(pixels.data, low.size, height, pixels.shape[1], QImage.Format.Format_Indexed8)  # type: ignore[call-overload]
    image.setColorTable(_shades(colour.rgba()))
    return QPixmap.fromImage(image)


@lru_cache(maxsize=64)
def _shades(rgba: int) -> list[int]:
    """Return a colour 0xaarrggbb from not there to whole, as 256 values."""
    alpha, rgb = rgba >> 24, rgba & 0xFFFFFF
    return [alpha * level // 255 << 24 | rgb for level in range(256)]


@lru_cache(maxsize=64)
def _mixed_shades(colours: tuple[int, ...]) -> list[int]:
    """Return the shades of several colours in turn, from the faintest to whole, after one that is not there."""
    shades = 255 // len(colours)
    return [0, *(_shades(rgba)[255 * (n + 1) // shades] for n in range(shades) for rgba in colours)]


def dots_pixmap(
    xs: NDArray[np.float64], ys: NDArray[np.float64], *, width: int, height: int, size: float, colours: Sequence[QColor],
    kinds: NDArray[np.int8] | None = None,
) -> QPixmap:
    """Return round dots of a size about places in pixels, thousands as quickly as a few.

    `kinds` says which of up to 32 colours each has; where dots meet, the one that covers more of a
    pixel has it, and of equals the later colour. The picture reaches half a dot, rounded up, over `width` and `height` on each side.
    """
    shades = 255 // len(colours)
    reach = int(np.ceil(size / 2.0))
    grid = np.arange(-reach, reach + 1)
    away = np.hypot(*np.meshgrid(grid, grid))
    stamp = np.round(shades * np.clip(size / 2.0 + 0.5 - away, 0.0, 1.0)).astype(np.int64)
    columns = -(-(width + 2 * reach) // 4) * 4
    pixels = np.zeros((height + 2 * reach) * columns, np.uint8)
    column, row = np.round(xs).astype(np.int64), np.round(ys).astype(np.int64)
    inside = (column >= 0) & (column < width) & (row >= 0) & (row < height)
    place = (row * columns + column)[inside]
    base = np.uint8(1) if kinds is None else kinds[inside].astype(np.uint8) + np.uint8(1)
    for dy, line in enumerate(stamp.tolist()):
        for dx, level in enumerate(line):
            if level:
                np.maximum.at(pixels, place + (dy * columns + dx), base + np.uint8((level - 1) * len(colours)))
    image = QImage(pixels.data, width + 2 * reach, height + 2 * reach, columns, QImage.Format.Format_Indexed8)  # type: ignore[call-overload]
    image.setColorTable(_mixed_shades(tuple(colour.rgba() for colour in colours)))
    return QPixmap.fromImage(image)


def marks_pixmap(
    xs: NDArray[np.float64], ys: NDArray[np.float64], colours: NDArray[np.uint32], *, width: float, height: float,
    mark: tuple[float, float], ratio: float = 1.0,
) -> QPixmap:
    """Return marks of one size in points, each with its upper left corner and its colour (0xaarrggbb), later ones on top."""
    columns, rows = max(1, round(width * ratio)), max(1, round(height * ratio))
    across, down = (max(1, round(size * ratio)) for size in mark)
    pixels = np.zeros((rows + down, columns + across), np.uint32)
    left, top = np.clip((xs * ratio).astype(np.intp), 0, columns - 1), np.clip((ys * ratio).astype(np.intp), 0, rows - 1)
    for dy in range(down):
        for dx in range(across):
            pixels[top + dy, left + dx] = colours
    shown = np.ascontiguousarray(pixels[:rows, :columns])
    pixmap = QPixmap.fromImage(QImage(shown.tobytes(), columns, rows, 4 * columns, QImage.Format.Format_ARGB32).copy())
    pixmap.setDevicePixelRatio(ratio)
    return pixmap


def lines_image(xs: NDArray[np.float64], width: int, colours: NDArray[np.uint32]) -> QImage:
    """Return a picture one pixel high with a dot of its colour (0xaarrggbb) at each place; drawn tall, they are upright lines."""
    pixels = np.zeros(width, np.uint32)
    column = np.floor(xs).astype(np.intp)
    inside = (column >= 0) & (column < width)
    pixels[column[inside]] = colours[inside]
    return QImage(pixels.tobytes(), width, 1, 4 * width, QImage.Format.Format_ARGB32).copy()


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
    near = int(start[0])  # only what is shown is copied
    padded = np.append(levels[near : int(stop[-1])], np.float32(0.0))
    heights = np.maximum.reduceat(padded, np.stack([start, stop], axis=1).ravel() - near)[::2]
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


def heat_pixmap(
    levels: NDArray[np.uint8], first: float, last: float, width: int, height: int, ramp: NDArray[np.uint32], *, ratio: float = 1.0
) -> QPixmap:
    """Return levels of shape (frames, rows) as colours, from frame `first` to `last`, row 0 at the bottom.

    `ramp` has 256 colours as 0xffrrggbb. Each column shows the frame in its middle.
    """
    columns, rows = max(1, round(width * ratio)), max(2, round(height * ratio))
    frames = np.floor(np.linspace(first, last, columns, endpoint=False) + 0.5 * (last - first) / columns).astype(np.int64)
    inside = (frames >= 0) & (frames < levels.shape[0])
    places = np.floor((np.arange(rows)[::-1] + 0.5) / rows * levels.shape[1]).astype(np.int64)
    picked = levels[np.clip(frames, 0, max(0, levels.shape[0] - 1))][:, places].T
    pixels = np.ascontiguousarray(ramp[np.where(inside[np.newaxis, :], picked, 0)])
    image = QImage(pixels.tobytes(), columns, rows, 4 * columns, QImage.Format.Format_RGB32)
    pixmap = QPixmap.fromImage(image.copy())
    pixmap.setDevicePixelRatio(ratio)
    return pixmap
