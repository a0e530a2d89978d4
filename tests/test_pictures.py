"""Pictures made by arrays: each against a slow, plain reference, and a scroll against a drawing made anew."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtTest import QTest

from bompla.app.groove.feel_plot import FeelList
from bompla.app.groove.order_row import OrderRow
from bompla.app.kit.colour_panel import ColourPanel
from bompla.app.kit.keyboard import FIRST, LAST, KeyboardBar
from bompla.app.ui.raster import dots_pixmap, level_pixmap, lines_image, spans_pixmap
from bompla.app.ui.value_bar import ValueBar
from bompla.groove.feel import FEEL_PARAMS, own_feels
from bompla.groove.takes import QUANTISE
from bompla.groove.writers import WRITERS
from bompla.model.colour import TREATMENTS, colour_of
from bompla.model.document import OrderStep
from bompla.model.kit_edits import LEVEL
from bompla.model.order_edits import CHANCE
from bompla.model.phrase_edits import AMOUNT
from bompla.model.shape import SHAPE_PARAMS

NONE, SHIFT = Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier
LEFT = Qt.MouseButton.LeftButton
ARROWS = (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down)


def alphas(image: QImage) -> np.ndarray:
    """Return how opaque each pixel is, 0 to 1, shape (rows, columns)."""
    image = image.convertToFormat(QImage.Format.Format_ARGB32)
    bits = image.constBits()
    assert bits is not None
    bits.setsize(image.sizeInBytes())
    pixels = np.frombuffer(bytes(bits), np.uint32).reshape(image.height(), image.bytesPerLine() // 4)[:, : image.width()]
    return (pixels >> 24) / 255.0


def rgb_of(image: QImage) -> np.ndarray:
    plain = image.convertToFormat(QImage.Format.Format_RGB32)
    pixels = np.frombuffer(plain.constBits().asstring(plain.sizeInBytes()), np.uint8)
    return pixels.reshape(plain.height(), plain.width(), 4)[:, :, :3].astype(np.int16)


@pytest.mark.usefixtures("qapp")
@settings(max_examples=40, deadline=None)
@given(data=st.data(), height=st.integers(2, 40), columns=st.integers(1, 23))
def test_spans_cover_as_much_of_each_pixel_as_they_should(data: st.DataObject, height: int, columns: int) -> None:
    ends = st.lists(st.floats(-3.0, height + 3.0), min_size=columns, max_size=columns)
    a, b = np.array(data.draw(ends), np.float32), np.array(data.draw(ends), np.float32)
    low, high = np.minimum(a, b), np.maximum(a, b)
    got = alphas(spans_pixmap(low, high, height, QColor(200, 100, 50)).toImage())
    rows = np.arange(height)[:, None]
    wanted = np.clip(np.minimum(rows + 1.0, np.clip(high, 0, height)) - np.maximum(rows, np.clip(low, 0, height)), 0.0, 1.0)
    assert np.abs(got - wanted).max() < 0.012


@pytest.mark.usefixtures("qapp")
@settings(max_examples=30, deadline=None)
@given(places=st.lists(st.tuples(st.integers(-5, 60), st.integers(-5, 40), st.integers(0, 2)), min_size=1, max_size=30))
def test_dots_stand_at_their_places_in_their_colours(places: list[tuple[int, int, int]]) -> None:
    xs, ys, kinds = (np.array(column) for column in zip(*places, strict=True))
    colours = [QColor(255, 0, 0), QColor(0, 255, 0), QColor(0, 0, 255)]
    made = dots_pixmap(xs.astype(float), ys.astype(float), width=55, height=35, size=4.6, colours=colours, kinds=kinds.astype(np.int8))
    image = made.toImage()
    for x, y, kind in places:
        if not (0 <= x < 55 and 0 <= y < 35):
            continue
        near = [(x2, y2, k2) for x2, y2, k2 in places if abs(x2 - x) <= 6 and abs(y2 - y) <= 6 and 0 <= x2 < 55 and 0 <= y2 < 35]
        pixel = image.pixelColor(x + 3, y + 3)
        assert pixel.alpha() == 255
        if all(k2 == kind for _, _, k2 in near):
            assert (pixel.red(), pixel.green(), pixel.blue()) == tuple(255 if n == kind else 0 for n in range(3))
    far = [(c, r) for c in range(61) for r in range(41) if all(abs(c - 3 - x) > 4 or abs(r - 3 - y) > 4 for x, y, _ in places)]
    assert all(image.pixelColor(c, r).alpha() == 0 for c, r in far)


@pytest.mark.usefixtures("qapp")
def test_lines_stand_where_their_cuts_are_and_curves_show_the_greatest_level() -> None:
    image = lines_image(np.array([0.4, 3.0, 7.9, 40.0, -2.0]), 10, np.full(5, 0xFF00FF00, np.uint32))
    assert [image.pixelColor(x, 0).alpha() > 0 for x in range(10)] == [x in (0, 3, 7) for x in range(10)]
    levels = np.zeros(1_000, np.float32)
    levels[437] = 1.0
    got = alphas(level_pixmap(levels, 0.0, 1_000.0, 100, 50, QColor(255, 255, 255)).toImage())
    assert [int(n) for n in np.flatnonzero(got[5] > 0.5)] == [43], "one peak in a thousand points is not lost"
    beyond = alphas(level_pixmap(levels, 900.0, 1_400.0, 100, 50, QColor(255, 255, 255)).toImage())
    assert not (beyond[:40] > 0.1).any(), "past the end there is nothing"


def test_a_scroll_shows_what_a_new_drawing_would(demo_window: Any) -> None:
    window = demo_window
    window.go_to(1)
    view = window.slice.view
    for _ in range(4):
        view.zoom(0.6)
    view.scroll_by(40.0 * view.axis.samples_per_point)
    for by in (37, -52, 211, 1, -400):
        view.grab()
        view.scroll_by(by * view.axis.samples_per_point)
        slid = rgb_of(view.grab().toImage())
        view.redraw()
        anew = rgb_of(view.grab().toImage())
        assert (np.abs(slid - anew).max(axis=2) > 60).mean() < 0.004, by


@pytest.mark.usefixtures("qapp")
def test_the_order_is_edited_by_dragging() -> None:
    row = OrderRow()
    row.resize(400, 28)
    told: list[tuple[OrderStep, ...]] = []
    row.changed.connect(told.append)
    row.show_steps((OrderStep("A", 2), OrderStep("B"), OrderStep("C", 3)))
    row.grab()

    def drag(start: QPointF, end: QPointF) -> None:
        QTest.mousePress(row, LEFT, NONE, start.toPoint())
        QTest.mouseMove(row, end.toPoint())
        QTest.mouseRelease(row, LEFT, NONE, end.toPoint())

    drag(row.cell(0).center(), row.cell(2).center())
    assert [step.letter for step in told[-1]] == ["B", "C", "A"]
    row.show_steps(told[-1])
    drag(row.cell(0).center(), row.cell(0).center() - QPointF(0.0, 43.0))
    assert told[-1][0] == OrderStep("B", 4)
    row.show_steps(told[-1])
    drag(row.cell(2).center(), row.cell(2).center() + QPointF(0.0, 100.0))
    assert told[-1][2].repeats == 1, "never less than once"
    row.show_steps(told[-1])
    QTest.mouseDClick(row, LEFT, NONE, row.cell(1).center().toPoint())
    assert [step.letter for step in told[-1]] == ["B", "A"]
    row.show_steps(told[-1])
    row.chosen = 0
    QTest.keyClick(row, Qt.Key.Key_Right, SHIFT)
    assert [step.letter for step in told[-1]] == ["A", "B"]
    assert row.accessibleDescription()


@pytest.mark.usefixtures("qapp")
@settings(max_examples=30, deadline=None)
@given(root=st.integers(FIRST, LAST), moves=st.lists(st.sampled_from(ARROWS), max_size=30))
def test_a_range_of_keys_always_holds_its_own_note(root: int, moves: list[Qt.Key]) -> None:
    bar = KeyboardBar()
    bar.resize(365, 40)
    bar.chosen.connect(lambda low, high: bar.show_range(root, (low, high)))
    bar.show_range(root, (0, 0))
    for key in moves:
        QTest.keyClick(bar, key)
        assert FIRST <= bar.low <= root <= bar.high <= LAST
    for note in (FIRST, root, LAST):
        assert bar.note_at(bar.x_of(note + 0.5)) == note
    bar.grab()
    QTest.mouseDClick(bar, LEFT, NONE, QPoint(5, 10))
    assert (bar.low, bar.high) == (root, root)


@pytest.mark.usefixtures("qapp")
def test_feels_are_chosen_by_keys() -> None:
    plots = FeelList()
    plots.resize(220, 400)
    feels = own_feels()
    plots.show_feels(feels, -1)
    told: list[int] = []
    plots.chosen.connect(told.append)
    for key in (Qt.Key.Key_Down, Qt.Key.Key_Down, Qt.Key.Key_Up, Qt.Key.Key_Return):
        QTest.keyClick(plots, key)
    assert told == [1]
    plots.grab()
    swung = next(n for n, feel in enumerate(feels) if "66" in feel.name)
    width = (plots.width() - 12.0) / 16
    assert plots.step_place(swung, 1).x() > 6.0 + 1.5 * width, "late is to the right"
    assert plots.step_place(swung, 0).x() == pytest.approx(6.0 + 0.5 * width)


EVERY_PARAM = [
    *SHAPE_PARAMS.values(), *(p for facts in TREATMENTS.values() for p in facts.params.values()), *FEEL_PARAMS.values(),
    *(p for writer in WRITERS.values() for p in writer.params), LEVEL, CHANCE, AMOUNT, QUANTISE,
]


@pytest.mark.usefixtures("qapp")
@pytest.mark.parametrize("param", EVERY_PARAM,
                         ids=lambda param: f"{param.label} {param.key}")
def test_every_bar_stays_in_its_range_and_comes_back_to_its_default(param: Any) -> None:
    bar = ValueBar(param)
    bar.resize(120, 30)
    told: list[float] = []
    bar.chosen.connect(told.append)
    for x in (0, 37, 119):
        QTest.mousePress(bar, LEFT, NONE, QPoint(x, 25))
        QTest.mouseRelease(bar, LEFT, NONE, QPoint(x, 25))
    assert told[0] == pytest.approx(param.low, abs=0.05 * (param.high - param.low))
    assert told[-1] == pytest.approx(param.high, rel=0.06, abs=0.02 * (param.high - param.low))
    assert all(param.low - 1e-6 <= value <= param.high + 1e-6 for value in told)
    if param.step == 0.0 or (param.high - param.low) / param.step > 4:  # in fewer steps a third may be the first
        assert told[0] < told[1] < told[2]
    assert told[0] < told[2]
    assert all(param.clamped(value) == pytest.approx(value, abs=1e-4) for value in told)
    for _ in range(300):
        QTest.keyClick(bar, Qt.Key.Key_Right)
    assert bar.amount == pytest.approx(param.high)
    QTest.keyClick(bar, Qt.Key.Key_Delete)
    assert told[-1] == param.default
    assert param.in_words(param.default)


def test_a_treatment_is_dragged_down_the_chain(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(2)
    window.kit.view.click("colour")
    panel: ColourPanel = window.kit.colour
    before = [t.kind for t in colour_of(session.store.document).chain]
    grip = panel.rows[before[0]].grip
    below = panel.rows[before[3]]
    target = grip.mapFromGlobal(below.mapToGlobal(QPoint(5, below.height() - 1)))
    QTest.mousePress(grip, LEFT, NONE, QPoint(5, 5))
    QTest.mouseMove(grip, target)
    QTest.mouseRelease(grip, LEFT, NONE, target)
    after = [t.kind for t in session.store.document.colour.chain]
    assert after.index(before[0]) == 3
    assert [kind for kind in after if kind != before[0]] == before[1:]
    session.store.undo()
    assert [t.kind for t in colour_of(session.store.document).chain] == before
