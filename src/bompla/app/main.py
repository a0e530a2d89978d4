"""Starting the application."""

from __future__ import annotations

import os
import signal
import socket
import sys
import threading
import traceback
from collections.abc import Callable
from functools import partial
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QObject, QTimer, QtMsgType, pyqtSignal, qInstallMessageHandler
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication, QStyleFactory

from bompla.app.commands import STAGES
from bompla.app.messages import MessageHub
from bompla.app.preferences import preferences
from bompla.app.project.project_state import loaded_of
from bompla.app.project.recovery import offer_recovery, resume
from bompla.app.project.session import Session
from bompla.app.project.tasks import Threads
from bompla.app.settings.choosing import sound_choice
from bompla.app.sound.playback import Playback
from bompla.app.theme import load_fonts, palette_of, theme
from bompla.app.window import MainWindow
from bompla.demo import DEMO_PROJECT
from bompla.engine.host import Engine
from bompla.errors import BomplaError
from bompla.formats.project import open_project

SWITCH_S = 0.0005
"""How soon a thread gives way: at Python's 5 ms the window stood still for as long at each call into Qt while a thread was at work."""

SCREENSHOT_WAIT_MS = 15_000
DEMO_STAGE = "slice"
STYLE = "fusion"
ICON = Path(__file__).parents[1] / "share" / "icons" / "hicolor" / "128x128" / "apps" / "org.bompla.Bompla.png"
X11_SOCKETS = "/tmp/.X11-unix/X"  # noqa: S108  # where X11 has them


class NoDisplay(BomplaError):
    """There is no display to open a window on."""


def run(
    *, file: Path | None = None, demo: bool = False, offscreen: bool = False, screenshot: Path | None = None, stage: str = "",
    go_on: Path | None = None,
) -> int:
    """Open the window and run until it is closed; the process ends with the exit status.

    `go_on` is a journal to go on with without asking. Raises NoDisplay where there is none and none is to be done without.
    """
    if stage and stage not in STAGES:
        raise BomplaError(f"There is no stage {stage}; choose among {', '.join(STAGES)}.")
    if offscreen:
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    elif not has_display():
        raise NoDisplay("There is no display to open the window on; run it with --offscreen, or under xvfb-run.")
    if preferences().value.interface_scale != 1.0:
        os.environ.setdefault("QT_SCALE_FACTOR", f"{preferences().value.interface_scale:g}")
    application = make_application()
    window = make_window()
    if screenshot is None:
        window.place_as_before()
    _catch_errors(window)
    _end_on_signals(window, application)
    window.again.connect(lambda: start_again(window))
    if demo:
        open_demo(window)
    elif file is not None:
        window.session.openings.open(file)
    keys = [s.key for s in window.stages]
    wanted = stage or (DEMO_STAGE if demo else preferences().value.stage if screenshot is None else "")
    if wanted in keys:
        window.go_to(keys.index(wanted))
    window.show()
    QTimer.singleShot(0, window.playback.start)
    QTimer.singleShot(0, window.session.requests.analysis.warm)
    if go_on is not None:
        QTimer.singleShot(0, lambda: resume(window.session, go_on))
    elif screenshot is None:
        QTimer.singleShot(0, lambda: offer_recovery(window.session))
    if screenshot is not None:
        when_settled(window, lambda: _shoot(window, screenshot, application))
    status = application.exec()
    window.shut()
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(status)  # all is shut; Qt, taken apart by Python in any order, now and then ended with a crash


def has_display() -> bool:
    """Whether a window can be opened on this machine."""
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    if chosen in ("offscreen", "minimal", "vnc"):
        return True
    return any(_answers(address) for address in _addresses())


def _addresses() -> list[tuple[int, str | tuple[str, int]]]:
    """Return where the displays that are named should answer, as (socket family, address)."""
    found: list[tuple[int, str | tuple[str, int]]] = []
    display, wayland = os.environ.get("DISPLAY", ""), os.environ.get("WAYLAND_DISPLAY", "")
    if wayland:
        found.append((socket.AF_UNIX, str(Path(os.environ.get("XDG_RUNTIME_DIR", "")) / wayland)))
    host, _, rest = display.partition(":")
    number = rest.partition(".")[0]
    if number.isdigit():
        if host in ("", "unix"):
            found += [(socket.AF_UNIX, f"{X11_SOCKETS}{number}"), (socket.AF_UNIX, f"\0{X11_SOCKETS}{number}")]
        else:
            found.append((socket.AF_INET, (host, 6_000 + int(number))))
    return found


def _answers(address: tuple[int, str | tuple[str, int]]) -> bool:
    """Whether something listens at a display's address: Qt itself would end the program where nothing does."""
    with socket.socket(address[0], socket.SOCK_STREAM) as tried:
        tried.settimeout(2.0)
        try:
            tried.connect(address[1])
        except OSError:
            return False
    return True


def make_application() -> QApplication:
    """Return the application with its style, fonts and scale set by us, so that it looks the same everywhere."""
    present = QApplication.instance()
    application = present if isinstance(present, QApplication) else QApplication([sys.argv[0]])
    application.setApplicationName("Bompla")
    sys.setswitchinterval(SWITCH_S)
    style = application.style()
    if style is None or style.objectName() != STYLE:  # to set it anew would dress every widget again
        application.setStyle(QStyleFactory.create(STYLE))
    load_fonts()
    application.setFont(theme().font(15))
    application.setDesktopFileName("org.bompla.Bompla")
    application.setWindowIcon(QIcon(str(ICON)))
    theme().use(palette_of(preferences().value.theme))
    return application


def make_window(*, device: str = "") -> MainWindow:
    """Return a window that is not shown yet, playing to the named device or the system's default."""
    hub = MessageHub()
    session = Session(hub)
    kept = preferences().value
    engine = Engine(sound_choice(kept, device=device or os.environ.get("BOMPLA_DEVICE", "")))
    playback = Playback(session, engine)
    engine.set_touch(kept.velocity_curve(kept.midi_input))
    if kept.input_latency_s >= 0.0:
        playback.recorder.late_s = kept.input_latency_s
    return MainWindow(session, playback)


def open_demo(window: MainWindow) -> None:
    """Show the demo project as a new project of the user's own."""
    window.session.project.load(loaded_of(open_project(DEMO_PROJECT), saved=True), path=None)


def when_settled(window: MainWindow, call: Callable[[], object]) -> None:
    """Call when everything that was asked for is drawn and heard, or after a while."""
    timer = QTimer(window)
    timer.setInterval(60)
    waited = [0, 0]

    def look() -> None:
        session = window.session
        busy = session.requests.analysis.busy or session.threads.busy or session.work.work is not None or window.playback.busy
        ready = window.playback.engine.state.ready
        waited[0] += timer.interval()
        waited[1] = 0 if busy or not ready else waited[1] + 1
        if waited[1] >= 4 or waited[0] >= SCREENSHOT_WAIT_MS:
            timer.stop()
            call()

    timer.timeout.connect(look)
    timer.start()


def _shoot(window: MainWindow, path: Path, application: QApplication) -> None:
    saved = window.grab().save(str(path), "PNG")
    failed = window.messages.trouble
    window.session.store.drop_preview()
    window.shut()
    if not saved:
        sys.stderr.write(f"Could not write the picture {path}; choose another folder.\n")
    if failed:
        sys.stderr.write(f"{failed}\n")
    application.exit(0 if saved and not failed else 1)


def _end_on_signals(window: MainWindow, application: QApplication) -> None:
    """End at once, with unsaved edits kept, when told to by the system, the session's end or Ctrl+C in the terminal."""

    def end(number: int) -> None:
        window.session.journal.keep_at_once()
        window.session.store.drop_preview()
        Threads.brief = True
        window.shut(left=True)
        sys.stdout.flush()
        os._exit(128 + number)  # what a thread is still at, and was given up, is waited for by every other way out

    for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
        # The timer that follows the engine lets the interpreter see it within a frame; what it interrupted is done first.
        signal.signal(number, lambda number, _frame: QTimer.singleShot(0, partial(end, number)))
    application.commitDataRequest.connect(lambda _manager: window.session.journal.keep_at_once())


def start_again(window: MainWindow) -> None:
    """Open the window again with all that is open, for what only a start can change: another program takes this process's place."""
    project = window.session.project
    try:
        journal = window.session.journal.keep_for_next()
    except BomplaError as error:
        window.session.hub.trouble(f"The window was not opened again. {error}")
        return
    opened = ["--go-on", str(journal)] if journal is not None else [] if project.path is None else [str(project.path)]
    window.session.store.drop_preview()
    Threads.brief = True
    window.shut(left=True)
    os.environ["QT_SCALE_FACTOR"] = f"{preferences().value.interface_scale:g}"
    sys.stdout.flush()
    os.execv(sys.executable, [sys.executable, "-P", "-c", "from bompla.cli import main; main()", "window", *opened])  # noqa: S606  # our own


class _FromThreads(QObject):
    """Brings what other threads raise over to the interface thread."""

    raised = pyqtSignal(object, object, object)


def _catch_errors(window: MainWindow) -> None:
    """Keep unsaved work on any uncaught error, tell the user, and go on where it can be."""

    def caught(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
            return
        traceback.print_exception(kind, error, trace)
        window.session.journal.keep_at_once()
        where = " Your unsaved work is kept." if window.session.project.dirty else ""
        window.session.hub.trouble(f"Something went wrong inside Bompla ({kind.__name__}: {error}).{where}")

    def from_qt(kind: QtMsgType, _context: object, text: str | None) -> None:
        sys.stderr.write(f"Qt: {text}\n")
        if kind == QtMsgType.QtFatalMsg:
            window.session.journal.keep_at_once()

    sys.excepthook = caught
    over = _FromThreads(window)
    over.raised.connect(caught)  # widgets belong to the interface thread
    threading.excepthook = lambda args: over.raised.emit(args.exc_type, args.exc_value or RuntimeError(), args.exc_traceback)
    qInstallMessageHandler(from_qt)
