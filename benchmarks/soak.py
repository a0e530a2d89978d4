"""A window in chance use for a long time: `python benchmarks/soak.py [--minutes 60] [--seed 1]`.

Commands, clicks, drags and turns of the wheel on every stage, in any order, while it plays; now and then everything is undone,
another loop is added and all is begun anew, or the project is saved and opened again. Each minute a line: steps made, memory of the
window and of its processes, descriptors, threads. What is printed at the end compares the middle of the run with its end: what only
grows is a leak.
"""

from __future__ import annotations

import argparse
import os
import random
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp(prefix="bompla-soak-")
for name in ("XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME"):
    os.environ[name] = HOME

from typing import Any

from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QAction, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from bompla.app.commands import COMMANDS
from bompla.app.main import make_application, make_window, open_demo
from bompla.demo import loop_paths
from bompla.engine.devices import SIMULATED_NAME
from bompla.model.checks import check_document

LEFT, RIGHT = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton
KEYS = (*(Qt.KeyboardModifier.NoModifier,) * 3, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier)
ASKING = {"open", "add_sound", "save", "save_as", "write_midi", "settings", "pad_file", "quit"}
"""Commands that wait for an answer."""

SETTLE_S = 120.0


def main() -> None:
    """Walk, and print how it went."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--minutes", type=float, default=60.0)
    parser.add_argument("--seed", type=int, default=1)
    chosen = parser.parse_args()
    raised: list[str] = []
    sys.excepthook = lambda kind, error, _trace: raised.append(f"{kind.__name__}: {error}")
    application = make_application()
    window = make_window(device=SIMULATED_NAME)
    window.show()
    window.playback.start()
    open_demo(window)
    settled(window)
    rng = random.Random(chosen.seed)
    began, lines, steps, shown_at = time.monotonic(), [], 0, 0.0
    print(f"{'minute':>7}{'steps':>8}{'window MB':>11}{'others MB':>11}{'files':>7}{'threads':>9}", flush=True)
    while time.monotonic() - began < 60.0 * chosen.minutes:
        try:
            step(window, rng)
        except Exception as error:  # noqa: BLE001  # said with what led to it, and gone on from
            raised.append(f"{type(error).__name__}: {error}, after {[one.label for one in window.session.store.history.done[-6:]]}")
            print(raised[-1], flush=True)
            open_demo(window)
            settled(window)
        steps += 1
        application.processEvents()
        if steps % 40 == 0:
            settled(window)
        if time.monotonic() - shown_at >= 60.0:
            shown_at = time.monotonic()
            lines.append((steps, *used()))
            said = "".join(f"{one:{wide}d}" for one, wide in zip(lines[-1][1:], (11, 11, 7, 9), strict=True))
            print(f"{(shown_at - began) / 60.0:7.1f}{steps:8d}{said}", flush=True)
    window.shut()
    half = len(lines) // 2
    for n, what in enumerate(("MB of the window", "MB of its processes", "open files", "threads"), 1):
        middle, end = (sorted(line[n] for line in part)[len(part) // 2] for part in (lines[half // 2 : half + 1], lines[-half - 1 :]))
        print(f"{what}: {middle} in the middle, {end} at the end")
    print(f"{steps} steps; what was raised: {raised or 'nothing'}")
    os._exit(0)


def step(window: Any, rng: random.Random) -> None:
    """Do one thing that a user could do."""
    kind, store = rng.random(), window.session.store
    if kind < 0.004:
        while len(window.session.project.sounds) < 2:  # a loop beside what is edited stays in the project, so that begins anew
            window.session.openings.open(rng.choice(loop_paths()), add=True)
            settled(window)
        open_demo(window)
        settled(window)
    elif kind < 0.008 and store.document is not None:
        place = Path(HOME) / "walk.bompla"
        window.session.project.save(place)
        settled(window)
        window.session.openings.open(place)
        settled(window)
    elif kind < 0.02:
        while store.history is not None and store.history.done:
            store.undo()
    elif kind < 0.04:
        window.go_to(rng.randrange(len(window.stages)))
    elif kind < 0.06:
        window.playback.transport.toggle()
    else:
        on_the_picture(window, rng)
    if store.document is not None:
        check_document(store.document)


def on_the_picture(window: Any, rng: random.Random) -> None:
    """A command, click, drag or turn of the wheel on the stage that is shown."""
    picture = window.stages[window.pages.currentIndex()].picture()
    spot, to = (QPoint(rng.randrange(max(1, picture.width())), rng.randrange(max(1, picture.height()))) for _ in range(2))
    kind, keys = rng.random(), rng.choice(KEYS)
    if kind < 0.5:
        labels = {command.label for command in COMMANDS if command.key not in ASKING}
        actions: list[QAction] = [one for one in picture.actions() if one.text() in labels]
        if actions:
            rng.choice(actions).trigger()
    elif kind < 0.7:
        QTest.mouseClick(picture, rng.choice((LEFT, LEFT, RIGHT)), keys, spot)
    elif kind < 0.9:
        QTest.mousePress(picture, LEFT, keys, spot)
        for part in (0.3, 0.6, 1.0):
            QTest.mouseMove(picture, spot + (to - spot) * part)
        QTest.mouseRelease(picture, LEFT, keys, to)
    else:
        turn = QPoint(0, rng.choice((-240, -120, 120, 240)))
        QApplication.sendEvent(picture, QWheelEvent(
            QPointF(spot), picture.mapToGlobal(QPointF(spot)), QPoint(), turn, Qt.MouseButton.NoButton, keys,
            Qt.ScrollPhase.NoScrollPhase, False))
    for popup in QApplication.topLevelWidgets():
        if popup.isVisible() and popup is not window and popup.windowType() == Qt.WindowType.Popup:
            popup.close()


def settled(window: Any) -> None:
    """Wait until nothing is under way."""
    end = time.monotonic() + SETTLE_S
    while time.monotonic() < end:
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        QTest.qWait(20)
        if not (window.session.busy or window.playback.busy):
            return
    raise SystemExit("it never came to rest")


def used() -> tuple[int, int, int, int]:
    """Return memory of this process and of those it started in MB, its open files, and its threads."""
    pids = Path(f"/proc/self/task/{os.getpid()}/children").read_text().split()
    files, threads = (sum(1 for _ in Path(f"/proc/self/{what}").iterdir()) for what in ("fd", "task"))
    return resident("self"), sum(resident(pid) for pid in pids), files, threads


def resident(pid: str) -> int:
    try:
        status = Path(f"/proc/{pid}/status").read_text()
    except OSError:
        return 0
    return next((int(line.split()[1]) // 1024 for line in status.splitlines() if line.startswith("VmRSS")), 0)


if __name__ == "__main__":
    main()
