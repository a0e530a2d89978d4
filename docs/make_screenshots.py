"""Write the pictures of the main views from the demo set: `xvfb-run -a python docs/make_screenshots.py`."""

from __future__ import annotations

import sys
from pathlib import Path

from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication, QWidget

from bompla.app.main import make_application, make_window, open_demo, when_settled
from bompla.app.theme import DAY, NIGHT, theme
from bompla.app.window import MainWindow
from bompla.demo import loop_paths
from bompla.engine.devices import SIMULATED_NAME

FOLDER = Path(__file__).parent / "screenshots"


def settled(window: MainWindow, application: QApplication) -> None:
    """Wait until everything is drawn."""
    done: list[bool] = []
    when_settled(window, lambda: done.append(True))
    while not done:
        application.processEvents()


def hover(widget: QWidget, x: float, y: float) -> None:
    """Move the pointer over a place."""
    point = QPointF(x, y)
    there = QPointF(widget.mapToGlobal(point.toPoint()))
    none = Qt.MouseButton.NoButton
    QApplication.sendEvent(widget, QMouseEvent(QEvent.Type.MouseMove, point, there, none, none, Qt.KeyboardModifier.NoModifier))


def main() -> None:
    """Open the demo, go through the stages, and write a picture of each."""
    application = make_application()
    window = make_window(device=SIMULATED_NAME)
    window.show()
    window.playback.start()
    open_demo(window)
    settled(window, application)

    def shoot(name: str) -> None:
        application.processEvents()
        window.grab().save(str(FOLDER / f"{name}.png"))

    document = window.session.document
    assert document is not None
    window.playback.seek(document.beat_map.sample_at(5.5))
    window.listening.blend.setValue(72)
    window.go_to(1)
    window.session.select(cut_id=document.slices()[9].cut.id)
    settled(window, application)
    view = window.slice.view
    hover(view, view.axis.left + 300, view.threshold_y())
    shoot("slice")
    window.go_to(2)
    snare = next(pad for pad in document.pads if pad.drum == "snare")
    window.session.select(pad_id=snare.id)
    shoot("kit")
    window.go_to(3)
    ghosts = frozenset(h.id for h in document.pattern.hits if h.pad_id == snare.id and h.velocity < 60)
    window.session.select(hit_ids=ghosts)
    shoot("groove")
    theme().use(DAY)
    shoot("groove-day")
    theme().use(NIGHT)
    window.go_to(4)
    shoot("send-out")
    window.go_to(0)
    window.session.open(next(path for path in loop_paths() if path.stem == "rehearsal tape"))
    settled(window, application)
    shoot("bring-in")
    window.shut()


if __name__ == "__main__":
    sys.exit(main())
