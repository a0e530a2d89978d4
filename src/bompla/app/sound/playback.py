"""What plays, as rooms with one job each."""

from __future__ import annotations

from contextlib import ExitStack

from PyQt6.QtCore import QObject

from bompla.app.project.session import Session
from bompla.app.project.tasks import Threads, check_current
from bompla.app.sound.bake import Baking
from bompla.app.sound.balance import Balance
from bompla.app.sound.bounce import Bouncer
from bompla.app.sound.device_watch import DeviceWatch
from bompla.app.sound.pads import Pads
from bompla.app.sound.previews import Previews
from bompla.app.sound.recording import Recorder
from bompla.app.sound.transport import Transport
from bompla.engine.host import Engine
from bompla.render.stretch import made_by
from bompla.render.stretch_process import StretchProcess


class Playback(QObject):
    """Holds the rooms, and ends them together.

    `transport` starts and stops, `devices` watches for a device that comes back, `baking` says what plays, `balance` how original and
    rebuilt are mixed, `pads` plays by hand, `recorder` keeps what was played, `previews` plays sounds beside all this, `bouncer` makes
    new loops.
    """

    def __init__(self, session: Session, engine: Engine, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.engine = engine
        self._stretching = StretchProcess(check_current)
        self._stretched_by = ExitStack()
        self._stretched_by.enter_context(made_by(self._stretching.stretched))
        self._threads = Threads(self)
        self.baking = Baking(session, engine, self._threads, self)
        self.recorder = Recorder(session, engine, lambda: self.baking.speed, self)
        self.transport = Transport(session, engine, self.baking, self.recorder, self)
        self.devices = DeviceWatch(engine, self.transport, self)
        self.balance = Balance(session, engine, self.baking, self._threads, self)
        self.pads = Pads(session, engine, self.baking, self.recorder, self)
        self.previews = Previews(session.hub, engine, self)
        self.bouncer = Bouncer(session, self.baking, self._threads, self)
        self.transport.looked_at.connect(self.pads.look)
        self.transport.begun_by_hand.connect(self.previews.stop)
        self.previews.alone.connect(self._leave_alone)

    @property
    def busy(self) -> bool:
        """Whether sounds are being made that the engine does not have yet."""
        return self.baking.busy or self._threads.busy or self.previews.busy

    def start(self) -> None:
        """Start the engine."""
        self.transport.start()

    def _leave_alone(self) -> None:
        """Stop, where another sound is to be heard by itself; never while what is played by hand is recorded."""
        if self.transport.playing and not self.recorder.recording:
            self.transport.stop()

    def close(self) -> None:
        """End the engine."""
        self.devices.close()
        self.transport.close()
        self.balance.close()
        self._threads.close()
        self.previews.close()
        self._stretched_by.close()
        self._stretching.close()
        self.engine.shut()
