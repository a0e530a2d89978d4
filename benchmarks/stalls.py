"""How long the window stands still: `python benchmarks/stalls.py [WORD]`, only what has the word in its name; `--where` says in what.

A beat of 2 ms runs in the window's own loop; the longest time between two of them, and the longest call that an act is, is what
somebody at the screen would feel. The bar is 50 ms for any act, on files up to an hour, with 20,000 hits and 10,000 cuts.
"""

from __future__ import annotations

import cProfile
import os
import pstats
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
for _name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(_name, "1")

import numpy as np
import soundfile
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from bompla.app.main import make_application, make_window, open_demo
from bompla.app.project.project_state import Loaded, ProjectSound
from bompla.app.window import MainWindow
from bompla.audio.files import read_clip
from bompla.demo import loop_paths
from bompla.engine.devices import SIMULATED_NAME
from bompla.model.cut_edits import recut, set_loop
from bompla.model.document import Attack, Heard, Hit, Variation
from bompla.model.loop import Loop
from bompla.model.pattern_edits import change_velocity
from bompla.model.variation_edits import rename_variation

BEAT_MS = 2
RATE = 44_100
Act = Callable[[], object]


class Heart:
    """Beats in the window's loop, and remembers the longest time between two beats."""

    def __init__(self, window: MainWindow, application: QApplication, *, where: bool) -> None:
        self.window, self.application, self.where = window, application, where
        self.longest_ms, self._last = 0.0, time.perf_counter()
        self._timer = QTimer()
        self._timer.setInterval(BEAT_MS)
        self._timer.timeout.connect(self._beat)
        self._timer.start()

    def _beat(self) -> None:
        now = time.perf_counter()
        self.longest_ms = max(self.longest_ms, 1000.0 * (now - self._last))
        self._last = now

    def settle(self) -> None:
        """Let everything end that was asked for."""
        quiet = 0
        while quiet < 30:
            self.application.processEvents()
            busy = self.window.session.busy or self.window.playback.busy
            quiet = 0 if busy else quiet + 1
            time.sleep(0.002)

    def feel(self, act: Act) -> float:
        """Return the longest time, in ms, that the window stood still from an act until all that came of it was there."""
        self.settle()
        self.longest_ms, self._last = 0.0, time.perf_counter()
        profile = cProfile.Profile() if self.where else None
        if profile is not None:
            profile.enable()
        QTimer.singleShot(0, act)
        self.application.processEvents()
        self.settle()
        if profile is not None:
            profile.disable()
            pstats.Stats(profile).sort_stats("cumulative").print_stats(28)
        return self.longest_ms


def long_file(folder: Path, minutes: float) -> Path:
    """Write a recording of so many minutes: a loop that ships, over and over."""
    path = folder / f"{minutes:g} minutes.wav"
    clip = read_clip(loop_paths()[0])
    loop = np.repeat(clip.samples, 2, axis=1) if clip.channels == 1 else clip.samples
    with soundfile.SoundFile(path, "w", clip.sample_rate, 2) as stream:
        for _ in range(round(minutes * 60.0 * clip.sample_rate / len(loop))):
            stream.write(loop)
    return path


def many_hits(window: MainWindow, count: int) -> None:
    """Give the shown variation so many hits in 64 bars."""
    rng = np.random.default_rng(3)

    def change(document):  # type: ignore[no-untyped-def]
        pads = document.pads
        at = np.sort(rng.uniform(0.0, 255.9, count))
        hits = tuple(Hit(document.next_id + n, pads[n % len(pads)].id, float(beat), int(rng.integers(20, 127)))
                     for n, beat in enumerate(at))
        return replace(document, variations=(Variation("A", "many", hits, bars=64),), shown=0, next_id=document.next_id + count)

    window.session.store.edit("many hits", change)


def many_cuts(window: MainWindow, path: Path, count: int) -> None:
    """Open a long sound as one loop with so many cuts."""
    clip = read_clip(path)
    places = np.linspace(0, clip.frames - RATE, count).astype(int).tolist()
    attacks = tuple(Attack(at, at, 0.6, (Heard(("kick", "snare", "hat_closed")[n % 3], 0.9, 60 + n % 60),), 20.0)
                    for n, at in enumerate(places))
    document = replace(window.session.project.sounds[0].history.document, attacks=attacks, threshold=0.5)
    document = replace(document, source=replace(document.source, frames=clip.frames, content_hash=clip.content_hash))
    document = recut(replace(document, loop=Loop.of_bars(0, clip.frames, 240, "4/4"), cuts=(), set_aside=()))
    window.session.project.load(Loaded((ProjectSound.of(document, clip, saved=True),), 0, {}), path=None)


def acts(window: MainWindow, folder: Path) -> Iterator[tuple[str, Act | None, Act]]:
    """Yield what is done: its name, what comes before it, and itself."""
    session = window.session
    for stage, name in ((4, "Study"), (5, "Send out")):
        yield f"first {name}", None, lambda stage=stage: window.go_to(stage)
    yield "settings", None, window.show_settings
    yield "help", None, window.show_help
    for minutes in (5.0, 20.0, 60.0):
        path = long_file(folder, minutes)
        yield f"opening {minutes:g} minutes", lambda: open_demo(window), lambda path=path: session.openings.open(path)
    five = folder / "5 minutes.wav"
    yield "using a suggested loop", lambda: session.openings.open(five), lambda: window.bring_in.loop.use_proposal(1)
    yield "dragging an end far", lambda: window.go_to(0), lambda: drag_end(window)
    yield "a loop of five minutes", None, lambda: session.store.edit(
        "all", lambda d: set_loop(d, Loop(0, d.source.frames, d.source.frames / d.beat_frames, "4/4")))
    yield "undo of that", None, session.store.undo
    yield "adding a sound", None, lambda: session.openings.open(loop_paths()[1], add=True)
    yield "switching sound", None, lambda: session.project.switch(0)
    yield "back again", None, lambda: session.project.switch(1)
    for stage, name in ((3, "Groove"), (4, "Study"), (2, "Kit"), (5, "Send out")):
        def ready(stage: int = stage) -> None:
            open_demo(window)
            many_hits(window, 20_000)
            window.go_to(stage)

        yield f"an edit of 20,000 hits, {name}", ready, lambda: session.store.edit(
            "softer", lambda d: change_velocity(d, [hit.id for hit in d.variations[0].hits[:10]], -5))
    yield "naming it, Groove", lambda: window.go_to(3), lambda: session.store.edit("name", lambda d: rename_variation(d, "other"))
    for stage, name in ((1, "Slice"), (2, "Kit"), (3, "Groove"), (5, "Send out")):
        def cut() -> None:
            open_demo(window)
            many_cuts(window, five, 10_000)
            window.go_to(0)

        yield f"10,000 cuts, {name}", cut, lambda stage=stage: window.go_to(stage)


def drag_end(window: MainWindow) -> None:
    """Drag the loop's end far along the file."""
    overview = window.bring_in.overview
    overview.show_all()
    document = window.session.project.sounds[0].history.document
    x = round(overview.axis.x(document.loop.end_sample))
    y = overview.height() // 2
    QTest.mousePress(overview, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(x, y))
    for step in range(1, 12):
        QTest.mouseMove(overview, QPoint(min(overview.width() - 14, x + 25 * step), y))
        QApplication.processEvents()
    QTest.mouseRelease(overview, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(min(overview.width() - 14, x + 275), y))


def main() -> None:
    """Measure and print."""
    words = [word for word in sys.argv[1:] if not word.startswith("--")]
    application = make_application()
    window = make_window(device=SIMULATED_NAME)
    window.show()
    window.playback.start()
    open_demo(window)
    heart = Heart(window, application, where="--where" in sys.argv)
    heart.settle()
    print(f"{'':<36}{'stands still, ms':>18}")
    with tempfile.TemporaryDirectory(prefix="bompla-") as folder:
        for name, before, act in acts(window, Path(folder)):
            if words and not any(word in name for word in words):
                if before is not None and "suggested" in name:
                    before()
                continue
            if before is not None:
                before()
            print(f"{name:<36}{heart.feel(act):>18.0f}", flush=True)
    window.shut()


if __name__ == "__main__":
    main()
