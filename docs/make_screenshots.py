"""Write the pictures of the main views from the demo set: `xvfb-run -a python docs/make_screenshots.py`."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp()  # as at a first start, whatever this user prefers

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication, QWidget

from bompla.app.main import make_application, make_window, open_demo, when_settled
from bompla.app.theme import DAY, NIGHT, theme
from bompla.app.window import MainWindow
from bompla.audio.clip import Clip
from bompla.audio.files import encode_clip, read_clip
from bompla.audio.resample import resampled
from bompla.demo import loop_paths
from bompla.engine.devices import SIMULATED_NAME
from bompla.groove.writers import with_starter
from bompla.model.colour import SETTINGS, set_colour
from bompla.model.cut_edits import take_bars
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import FeelLayer, OrderStep
from bompla.model.kit_edits import set_shape
from bompla.model.order_edits import set_order
from bompla.model.pattern_edits import delete_hits
from bompla.model.shape import Shape
from bompla.model.variation_edits import duplicate_variation, set_layer

FOLDER = Path(__file__).parent / "screenshots"
RECORDED_RATE = 48_000


def settled(window: MainWindow, application: QApplication) -> None:
    """Wait until everything is drawn."""
    done: list[bool] = []
    when_settled(window, lambda: done.append(True))
    while not done:
        application.processEvents()


def wait_until(application: QApplication, done: Callable[[], bool]) -> None:
    """Let the application work until something is so."""
    while not done():
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
    settled(window, application)
    wait_until(application, lambda: not window.bring_in.shelf.scanner.busy)
    window.grab().save(str(FOLDER / "first.png"))
    open_demo(window)
    settled(window, application)

    def shoot(name: str) -> None:
        for _ in range(3):  # a panel in a scrolled column settles after the column does
            application.processEvents()
        window.grab().save(str(FOLDER / f"{name}.png"))

    shoot_all(window, application, shoot)
    window.shut()


def shoot_all(window: MainWindow, application: QApplication, shoot: Callable[[str], None]) -> None:
    """Go through the stages."""
    document = window.session.store.document
    assert document is not None
    window.playback.transport.seek(document.beat_map.sample_at(5.5))
    window.listening.blend.setValue(72)
    window.go_to(1)
    window.session.shown.select(cut_id=document.slices()[9].cut.id)
    settled(window, application)
    view = window.slice.view
    hover(view, view.axis.left + 300, view.threshold_y())
    shoot("slice")
    shuffle = next(path for path in loop_paths() if path.stem == "lamplight shuffle")
    window.session.openings.open(shuffle, add=True)
    settled(window, application)
    window.slice.bar.shown["spectrogram"].click()
    window.slice.bar.shown["strength"].click()
    press = max(window.session.review.questions, key=lambda question: len(question.doubts)).first.cut_id
    window.session.shown.select(cut_id=press)
    settled(window, application)
    shoot("slice-doubts")
    window.slice.bar.shown["spectrogram"].click()
    window.slice.bar.shown["strength"].click()
    window.session.project.switch(0)
    settled(window, application)
    shoot_kit(window, application, shoot)
    shoot_groove(window, application, shoot)
    window.go_to_stage("study")
    wait_until(application, lambda: window.study.studied is not None and not window.study.busy)
    shoot("study")
    shoot_study(window, application, shoot)
    window.go_to_stage("send-out")
    shoot("send-out")
    window.show_settings()
    dialog = window.settings
    assert dialog is not None
    wait_until(application, lambda: dialog.looked)
    dialog.grab().save(str(FOLDER / "settings.png"))
    dialog.close()
    shoot_bring_in(window, application, shoot)


def shoot_kit(window: MainWindow, application: QApplication, shoot: Callable[[str], None]) -> None:
    """The third stage."""
    document = window.session.store.document
    assert document is not None
    window.go_to(2)
    snare = next(pad for pad in document.pads if pad.drum == "snare")
    window.session.shown.select(pad_id=snare.id)
    shape = Shape(start_ms=2.0, end_ms=60.0, fade_out_ms=90.0, hold_ms=60.0, decay_ms=240.0, sustain=0.35, filter="low",
                  cutoff_hz=6_500.0, resonance=1.6, tune=-1.5, clean=0.7)
    window.session.store.edit("shape pad", lambda d: set_shape(d, snare.id, shape))
    settled(window, application)
    shoot("kit")
    window.session.store.undo()
    window.kit.view.click("colour")
    window.session.store.edit("colour", lambda d: set_colour(d, SETTINGS["far corner"]))
    settled(window, application)
    shoot("colour")
    window.session.store.undo()
    window.kit.view.click("pad")


def shoot_groove(window: MainWindow, application: QApplication, shoot: Callable[[str], None]) -> None:
    """The fourth stage, and what it opens."""
    document = window.session.store.document
    assert document is not None
    snare = next(pad for pad in document.pads if pad.drum == "snare")
    window.go_to(3)
    ghosts = frozenset(h.id for h in pattern_of(document).hits if h.pad_id == snare.id and h.velocity < 60)
    window.session.shown.select(hit_ids=ghosts)
    shoot("groove")
    theme().use(DAY)
    shoot("groove-day")
    theme().use(NIGHT)
    window.session.store.edit("copy variation", duplicate_variation)
    window.session.store.edit("half time", lambda d: with_starter(d, "half time"))
    window.groove.show_variation(1)
    window.session.shown.select(pad_id=snare.id)
    gone = frozenset(h.id for h in pattern_of(window.session.store.document).hits if h.pad_id == snare.id and 4.0 < h.at_beats < 7.0)
    window.session.store.edit("take out", lambda d: delete_hits(d, gone))
    window.session.store.edit("swing", lambda d: set_layer(d, FeelLayer(swing=57.0, swing_beats=0.25)))
    window.groove.writer.show_writer("roll")
    settled(window, application)
    shoot("groove-writer")
    window.groove.writer.cancel()
    window.groove.order.sequence.click("wander")
    window.groove.details.click("chance")
    settled(window, application)
    shoot("groove-wander")
    steps = (OrderStep("A", 2), OrderStep("B"), OrderStep("A"), OrderStep("C", 2))
    window.session.store.edit("order", lambda d: set_order(d, steps))
    window.groove.order.sequence.click("order")
    window.groove.details.click("velocity")
    settled(window, application)
    shoot("groove-order")
    window.session.store.undo()
    window.groove.details.click("chance")
    window.groove.order.sequence.click("variation")
    window.groove.feel.compare.click()
    settled(window, application)
    window.groove.show_part("feel")
    application.processEvents()
    shoot("groove-feels")
    window.groove.feel.compare.click()
    window.go_to(2)
    window.kit.show_practice_pads()
    application.processEvents()
    window.kit.practice.grab().save(str(FOLDER / "practice-pads.png"))


def shoot_study(window: MainWindow, application: QApplication, shoot: Callable[[str], None]) -> None:
    """Compared, and by ear."""
    study = window.study
    study.modes.click("compare")
    study.step(1)
    wait_until(application, lambda: not study.busy)
    settled(window, application)
    shoot("study-compare")
    study.modes.click("ear")
    study.ear.start.click()
    for _ in range(11):
        study.ear.hint.click()
    study.ear.ask.click()
    settled(window, application)
    shoot("study-ear")
    study.modes.click("words")


def rehearsal(folder: Path) -> Path:
    """Write a recording of three of the demo loops, each at its own tempo, with rests between them; return where it is."""
    parts: list[np.ndarray] = []
    for name, times, rest_s in (("quay break", 3, 1.6), ("gangway hats", 4, 2.2), ("lamplight shuffle", 4, 0.8)):
        clip = resampled(read_clip(next(path for path in loop_paths() if path.stem == name)), RECORDED_RATE)
        parts += [np.tile(clip.stereo, (times, 1)), np.zeros((round(rest_s * RECORDED_RATE), 2), np.float32)]
    path = folder / "night rehearsal.flac"
    path.write_bytes(encode_clip(Clip(np.concatenate([np.zeros((RECORDED_RATE, 2), np.float32), *parts]), RECORDED_RATE)))
    return path


def shoot_bring_in(window: MainWindow, application: QApplication, shoot: Callable[[str], None]) -> None:
    """The first stage, with a recording of several tempos; the seam of a loop that has to be trimmed."""
    window.go_to(0)
    with tempfile.TemporaryDirectory() as folder:
        window.session.openings.open(rehearsal(Path(folder)))
        settled(window, application)
    wait_until(application, lambda: len(window.bring_in.loop.proposed.keys) > 0)
    shoot("bring-in")
    window.session.openings.open(next(path for path in loop_paths() if path.stem == "rehearsal tape"))
    settled(window, application)
    window.bring_in.seam.zoom(0.05)
    window.session.store.edit("take 2 bars", lambda d: take_bars(d, 2))
    settled(window, application)
    shoot("seam")


if __name__ == "__main__":
    sys.exit(main())
