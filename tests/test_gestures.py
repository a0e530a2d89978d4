"""One gesture on every picture: until it is let go nothing is changed, and Escape puts everything back."""

from __future__ import annotations

from typing import Any

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.app.ui.gesture import GestureWidget
from bompla.model.document import OrderStep
from bompla.model.order_edits import set_order
from bompla.model.variation_edits import duplicate_variation
from conftest import settle

LEFT, RIGHT, NONE, CONTROL = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton, Qt.KeyboardModifier.NoModifier, (
    Qt.KeyboardModifier.ControlModifier)
ACROSS, DOWN = 6, 4


def classes(kind: type) -> set[type]:
    """Return all that are built on a class and have nothing built on them."""
    below = kind.__subclasses__()
    return {kind} if not below else set().union(*(classes(one) for one in below))


def shown(window: Any) -> list[GestureWidget]:
    return [one for one in window.findChildren(GestureWidget) if one.isVisible() and one.width() > 8]


def points(picture: GestureWidget) -> list[QPoint]:
    """Return places over a picture, and the grips that it tells of."""
    grid = [QPoint(round((n + 0.5) * picture.width() / ACROSS), round((m + 0.5) * picture.height() / DOWN))
            for n in range(ACROSS) for m in range(DOWN if picture.height() > 60 else 2)]
    grips = [point.toPoint() for point in getattr(picture, "grips", dict)().values()]
    if hasattr(picture, "threshold_y"):
        grips.append(QPoint(300, round(picture.threshold_y())))
    return [*grips, *grid]


class Walk:
    """Presses, drags and gives up all over the pictures of a window."""

    def __init__(self, window: Any) -> None:
        self.window, self.store = window, window.session.store
        self.seen: set[type] = set()
        self.gestures = 0

    def over_all(self) -> None:
        for picture in shown(self.window):
            if type(picture) in self.seen and type(picture).__name__ in ("ValueBar", "Grip"):
                continue  # one of each of these is as good as all
            for point in points(picture):
                for button, modifiers in ((LEFT, NONE), (LEFT, CONTROL), (RIGHT, NONE)):
                    self.try_one(picture, point, button, modifiers)
            self.seen.add(type(picture))

    def try_one(self, picture: GestureWidget, point: QPoint, button: Qt.MouseButton, modifiers: Qt.KeyboardModifier) -> None:
        name = f"{type(picture).__name__} at {point.x()}, {point.y()}"
        values = {key: value for key, value in vars(picture).items() if key in ("value", "shape", "low", "high", "steps")}
        QTest.mousePress(picture, button, modifiers, point)
        if picture.gesture is None:
            QTest.mouseRelease(picture, button, modifiers, point)
            return
        before = self.store.history  # which variation is shown is no step, and may change at once
        for step in (3, 19):
            QTest.mouseMove(picture, point + QPoint(step, -step // 2))
        assert self.store.history is before, f"{name} changed the document before it was let go"
        QTest.keyClick(self.window, Qt.Key.Key_Escape)
        assert picture.gesture is None, name
        assert not self.store.previewing, name
        QTest.mouseRelease(picture, button, modifiers, point + QPoint(19, -9))
        assert self.store.history is before, f"{name} did something though Escape was pressed"
        assert {key: value for key, value in vars(picture).items() if key in values} == values, name
        self.gestures += 1


def test_escape_puts_everything_back_on_every_picture(demo_window: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    window, session = demo_window, demo_window.session
    for module in ("kit.pad_grid", "groove.cards"):
        monkeypatch.setattr(f"bompla.app.{module}.start_drag", lambda *_: None)
    session.store.edit("copy", duplicate_variation)
    session.store.edit("order", lambda d: set_order(d, (OrderStep("A"), OrderStep("B"), OrderStep("A", 2))))
    window.kit.show_practice_pads()
    walk = Walk(window)
    for index, stage in enumerate(window.stages):
        window.go_to(index)
        settle(qtbot, window)
        if stage is window.groove:
            window.groove.order.sequence.click("order")
            window.groove.feel.compare.click()
        views = {window.kit: window.kit.view, window.study: window.study.modes}.get(stage)
        for view in {window.kit: ("pad", "more", "colour"), window.study: ("words", "ear")}.get(stage, ("",)):
            if views is not None:
                views.click(view)
            walk.over_all()
    assert walk.gestures > 300
    missing = {kind.__name__ for kind in classes(GestureWidget) - walk.seen}
    assert not missing, missing
