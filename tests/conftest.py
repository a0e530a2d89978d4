"""What all tests share: a window on the simulated device, the demo loops, and a watch for what leaks."""

from __future__ import annotations

import functools
import json
import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["QT_SCALE_FACTOR"] = "1"
_HOME = tempfile.mkdtemp(prefix="bompla-tests-")
for _name in ("XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME"):
    os.environ[_name] = _HOME

import numpy as np
import pytest
from hypothesis import settings

from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.demo import loop_paths
from bompla.export.request import ExportRequest, Made
from bompla.formats.project import open_project
from bompla.model.document import Document

# The same examples in each run, however slow the machine; HYPOTHESIS_PROFILE=searching draws new ones.
settings.register_profile("steady", derandomize=True, deadline=None, database=None)
settings.register_profile("searching", deadline=None)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "steady"))


def children() -> set[int]:
    """Return the processes that this one has started and that still run."""
    found: set[int] = set()
    for task in Path("/proc/self/task").iterdir():
        try:
            found |= {int(pid) for pid in (task / "children").read_text().split()}
        except OSError:
            continue
    return found


@pytest.fixture(autouse=True)
def nothing_leaks() -> Iterator[None]:
    """Fail a test that leaves a thread or a process behind."""
    threads, processes = set(threading.enumerate()), children()
    yield
    if "bompla.app.project.processes" in sys.modules:
        sys.modules["bompla.app.project.processes"].wait_for_processes()
    left = [t.name for t in threading.enumerate() if t not in threads and t.is_alive() and not isinstance(t, threading._DummyThread)]
    assert not left, f"threads left behind: {left}"
    assert not children() - processes, "a process was left behind"


@pytest.fixture
def qtbot(qtbot: Any) -> Any:
    """Qt's driver, patient enough for a machine that has much else to do."""
    qtbot.waitUntil = functools.partial(qtbot.waitUntil, timeout=60_000)
    return qtbot


@pytest.fixture(scope="session")
def demo() -> tuple[Document, Clip]:
    """The demo project."""
    from bompla.demo import DEMO_PROJECT

    return open_project(DEMO_PROJECT).sources[0]


@pytest.fixture(scope="session")
def demo_loops() -> list[tuple[str, Clip, dict[str, Any]]]:
    """Every demo loop with its truth."""
    return [(path.stem, read_clip(path), json.loads(path.with_suffix(".json").read_text())) for path in loop_paths()]


@pytest.fixture
def make_tone() -> Callable[..., Clip]:
    """Return a maker of clips: bursts of a decaying tone at times in seconds."""

    def made(times_s: list[float], *, duration_s: float = 2.0, rate: int = 44_100, channels: int = 1, hz: float = 180.0) -> Clip:
        sound = np.zeros((round(duration_s * rate), channels), np.float32)
        t = np.arange(round(0.3 * rate)) / rate
        hiss = np.random.default_rng(5).standard_normal(len(t)) * np.exp(-t / 0.02)
        burst = (0.5 * np.cos(2 * np.pi * hz * t) * np.exp(-t / 0.04) + 0.15 * hiss).astype(np.float32)
        for time_s in times_s:
            start = round(time_s * rate)
            part = burst[: len(sound) - start]
            sound[start : start + len(part)] += part[:, np.newaxis]
        return Clip(sound, rate)

    return made


@pytest.fixture
def jack(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A JACK server of our own with the dummy driver, in short periods, as it hands MIDI over by the period."""
    if shutil.which("jackd") is None:
        pytest.skip("needs jackd for MIDI through JACK")
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "bompla-test")
    monkeypatch.setenv("JACK_NO_START_SERVER", "1")
    server = subprocess.Popen(["jackd", "--no-realtime", "-n", "bompla-test", "-d", "dummy", "-r", "48000", "-p", "64"],
                              stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        for _ in range(100):
            if subprocess.run(["jack_wait", "-s", "bompla-test", "-c"], capture_output=True, check=False).stdout.strip() == b"running":
                break
            if server.poll() is not None:
                pytest.skip("JACK does not run here")
            time.sleep(0.05)
        else:
            pytest.skip("JACK did not come up")
        yield
    finally:
        server.terminate()
        server.wait(5)


@pytest.fixture
def window(qtbot: Any) -> Iterator[Any]:
    """The application's window, playing to the simulated device, with nothing open yet."""
    from bompla.app import preferences
    from bompla.app.main import make_application, make_window
    from bompla.engine.devices import SIMULATED_NAME

    make_application()
    preferences.preferences().path.unlink(missing_ok=True)
    preferences.STORE = None
    made = make_window(device=SIMULATED_NAME)
    made.show()
    made.playback.start()
    qtbot.waitUntil(lambda: made.playback.engine.state.ready)
    settle(qtbot, made)
    yield made
    made.shut()
    made.session.project.sounds = ()
    made.close()
    made.deleteLater()


@pytest.fixture(scope="session")
def demo_drawn(demo: tuple[Document, Clip]) -> tuple[Any, Any]:
    """The demo loop's waveform and what is drawn beside it, made once for all windows."""
    from bompla.audio.summary import WaveSummary

    clip = demo[1]
    return WaveSummary.of(clip), pictures_of(clip)


@pytest.fixture
def demo_window(window: Any, demo: tuple[Document, Clip], demo_drawn: tuple[Any, Any], qtbot: Any) -> Any:
    """The window with the demo project, everything drawn and ready to be heard."""
    from bompla.app.project.project_state import Loaded, ProjectSound
    from bompla.model.history import History

    document, clip = demo
    summary, pictures = demo_drawn
    window.session.project.load(Loaded((ProjectSound(History(document), clip, summary, document, pictures),), 0, {}), path=None)
    settle(qtbot, window)
    return window


def settle(qtbot: Any, window: Any) -> None:
    """Wait until everything that was asked of the window is done."""
    session, playback = window.session, window.playback
    qtbot.waitUntil(lambda: not (session.busy or playback.busy or playback.balance.timer.isActive()))


def struck(drum: str, seed: int, peak: float, frames: int = 11_025) -> np.ndarray:
    """Return a quarter of a second, or so many frames, of one strike of a kit drawn by seed."""
    from bompla.demo.synth import draw_kit, strike

    rng = np.random.default_rng(seed)
    sound = np.zeros(frames)
    voice = strike(draw_kit(rng), drum, 110, rng)[: len(sound)]
    sound[: len(voice)] = voice
    return peak * sound / np.abs(sound).max()


def captured(engine: Any, *, since_frame: int, pair: int = 0) -> np.ndarray:
    """Return what the simulated device has played to a pair of outputs from a rendered frame on, shape (frames, 2)."""
    from bompla.engine.layout import Capture

    before = engine.process.frames_before
    return Capture(engine.capture).read(max(0, since_frame - before), engine.state.rendered_frames - before, pair)


def captured_sound(qtbot: Any, engine: Any, *, since_frame: int, frames: int, level: float = 0.0) -> np.ndarray:
    """Return so many frames of what the device has played from its first sample above a level on, waiting for it however slow the day."""
    made = np.zeros((0, 2), np.float32)

    def ready() -> bool:
        nonlocal made
        made = captured(engine, since_frame=since_frame)
        loud = np.abs(made).max(axis=1, initial=0.0) > level
        made = made[int(np.argmax(loud)) :] if loud.any() else made[:0]
        return len(made) >= frames

    qtbot.waitUntil(ready)
    return made[:frames]


def process_id(engine: Any) -> int:
    """Return the audio process, 0 where none runs."""
    return int(engine.process.pid)


def free_frames(engine: Any) -> int:
    """Return how much of the pool is free."""
    return sum(place.length for place in engine.pool._plan._free)


def hit_of(document: Document, hit_id: int) -> Any:
    """Return a hit of the shown pattern by id."""
    from bompla.model.detected_pattern import pattern_of

    return next(hit for hit in pattern_of(document).hits if hit.id == hit_id)


def pictures_of(clip: Clip) -> Any:
    """Return what is drawn beside the waveform of a clip."""
    from bompla.analysis.analyse import listen
    from bompla.analysis.draw import drawn_from
    from bompla.analysis.params import AnalysisParams

    return drawn_from(clip, listen(clip, AnalysisParams()))


def none() -> None:
    """Nothing gives the work up."""


def made(key: str, request: ExportRequest) -> list[Made]:
    """Return what one row of the exports writes."""
    from bompla.export.table import EXPORTS

    return list(EXPORTS[key].make(request, none))
