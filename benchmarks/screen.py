"""How long the pictures take to draw: `python benchmarks/screen.py`, ten minutes of sound with 2,000 cuts, 64 bars with 4,000 pins.

Each figure is the middle and the slowest of many repaints, in ms; the bars are 8 ms while
scrolling and 1 ms for a playhead that moves. Drawn offscreen, without a graphics card.
"""

from __future__ import annotations

import os
import statistics
import time
from collections.abc import Callable

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from bompla.app.main import make_application, make_window
from bompla.app.project.project_state import Loaded, ProjectSound
from bompla.app.window import MainWindow
from bompla.audio.clip import Clip
from bompla.audio.summary import WaveSummary
from bompla.engine.devices import SIMULATED_NAME
from bompla.model.cut_edits import recut
from bompla.model.document import Attack, Document, Heard, Hit, Pad, Source, Variation
from bompla.model.drums import DRUMS
from bompla.model.history import History
from bompla.model.loop import Loop
from bompla.model.pattern_edits import change_velocity

MINUTES, CUTS, RATE = 10, 2_000, 44_100
TIMES = 40


def long_document() -> tuple[Document, Clip]:
    """Return ten minutes of bursts, each an attack."""
    frames = MINUTES * 60 * RATE
    rng = np.random.default_rng(1)
    sound = (0.02 * rng.standard_normal((frames, 2))).astype(np.float32)
    places = np.linspace(0, frames - RATE, CUTS).astype(int)
    burst = (rng.standard_normal((4_000, 2)) * np.exp(-np.arange(4_000) / 900.0)[:, None] * 0.4).astype(np.float32)
    attacks = []
    for n, place in enumerate(places):
        sound[place : place + 4_000] += burst
        attacks.append(Attack(int(place), int(place), 0.5 + 0.4 * ((n * 7) % 10) / 10, (Heard("kick", 0.9, 100),), 20.0))
    clip = Clip(sound, RATE)
    document = Document("long", Source("long", clip.content_hash, RATE, 2, frames), Loop.of_bars(0, frames, 240, "4/4"),
                        attacks=tuple(attacks), threshold=0.5)
    return recut(replace(document, pads=())), clip


def timed(act: Callable[[int], object], grab: Callable[[], object]) -> str:
    """Return middle and slowest of many repaints after an action."""
    spent = []
    for n in range(TIMES):
        began = time.perf_counter()
        act(n)
        grab()
        spent.append(1000.0 * (time.perf_counter() - began))
    return f"{statistics.median(spent):7.2f} {max(spent):7.2f}"


def nothing(_: int) -> None:
    """Change nothing."""


def main() -> None:
    """Measure and print."""
    application = make_application()
    window = make_window(device=SIMULATED_NAME)
    window.show()
    document, clip = long_document()
    window.session.project.load(Loaded((ProjectSound(History(document), clip, WaveSummary.of(clip)),), 0, {}), path=None)
    session = window.session
    while session.requests.analysis.busy or session.threads.busy:
        application.processEvents()
    window.go_to(1)
    view = window.slice.view
    application.processEvents()
    print(f"{'Slice, ' + str(len(session.store.document.slices())) + ' cuts':<34} middle slowest  (ms)")  # type: ignore[union-attr]
    paint = view.repaint
    print(f"{'repaint, nothing changed':<34}{timed(nothing, paint)}")
    print(f"{'playhead moves (its strip)':<34}{timed(lambda n: view.set_playhead(1e6 + 3e4 * n), application.processEvents)}")
    print(f"{'zoom, in and out':<34}{timed(lambda n: view.zoom(0.7 if n % 20 < 10 else 1 / 0.7), paint)}")
    for _ in range(9):
        view.zoom(0.6)

    def scroll(n: int) -> None:
        view.scroll_by(9_000.0 if n % 2 else -9_000.0)

    print(f"{'scroll, zoomed in':<34}{timed(scroll, paint)}")
    view.show_all()
    y = round(view.threshold_y())
    QTest.mousePress(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(400, y))
    print(f"{'threshold dragged, cuts and paint':<34}"
          f"{timed(lambda n: QTest.mouseMove(view, QPoint(400, y - n)), paint)}")
    session.store.drop_preview()
    window.go_to(0)
    application.processEvents()
    overview = window.bring_in.overview
    print(f"{'Bring in: repaint':<34}{timed(nothing, overview.repaint)}")
    print(f"{'Bring in: zoom':<34}{timed(lambda n: overview.zoom(0.7 if n % 20 < 10 else 1 / 0.7), overview.repaint)}")
    groove(window, application)
    window.shut()


def groove(window: MainWindow, application: QApplication) -> None:
    """Measure the lanes: 64 bars of 4,000 hits on sixteen pads, as they play, are scrolled, and are edited."""
    session = window.session
    pads = tuple(Pad(10**6 + n, n, drum, drum, 36 + n) for n, drum in enumerate([*DRUMS, "kick", "snare"][:16]))
    rng = np.random.default_rng(3)
    hits = tuple(Hit(2 * 10**6 + n, pads[n % 16].id, float(at), int(rng.integers(20, 127)))
                 for n, at in enumerate(np.sort(rng.uniform(0.0, 255.9, 4_000))))
    many = (Variation("A", "many", hits),)
    session.store.edit("many", lambda d: replace(d, pads=pads, loop=replace(d.loop, length_beats=256.0), variations=many))
    window.go_to(3)
    application.processEvents()
    lanes = window.groove.lanes
    print(f"{'Groove, 64 bars, 4000 pins':<34} middle slowest  (ms)")
    print(f"{'playhead moves (its strip)':<34}{timed(lambda n: lanes.set_playhead(1e6 + 3e4 * n), application.processEvents)}")
    print(f"{'repaint, nothing changed':<34}{timed(nothing, lanes.repaint)}")

    def again(_: int) -> None:
        lanes.redraw()

    print(f"{'all drawn anew':<34}{timed(again, lanes.repaint)}")
    lanes.zoom(0.25)
    print(f"{'scroll, 16 bars in view':<34}{timed(lambda n: lanes.scroll_by(9e5 if n % 2 else -9e5), lanes.repaint)}")
    chosen = [hit.id for hit in hits[1_000:1_010]]
    print(f"{'ten pins dragged':<34}{timed(lambda n: session.store.preview(lambda d: change_velocity(d, chosen, n)), lanes.repaint)}")
    session.store.drop_preview()


if __name__ == "__main__":
    main()
