"""The balance of original and rebuilt, at equal loudness."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QTimer

from bompla.app.project.session import Session
from bompla.app.project.tasks import Newest, Threads, Token
from bompla.app.sound.bake import Baking
from bompla.engine.host import Engine
from bompla.render.events import Baked

MATCH_DELAY_MS = 250


def _match(baked: Baked, _token: Token) -> float:
    from bompla.engine.bounce import matching_gain

    return matching_gain(baked)


class Balance(QObject):
    """How much of the rebuilt groove is heard against the original; measures by how much they differ in loudness."""

    def __init__(self, session: Session, engine: Engine, baking: Baking, threads: Threads, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._engine, self._baking, self._threads = session, engine, baking, threads
        self.blend = 0.0
        self.equal_loudness = True
        self._match = 1.0
        self._newest = Newest()
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.setInterval(MATCH_DELAY_MS)
        self.timer.timeout.connect(self._measure)
        baking.baked_changed.connect(self.timer.start)
        session.project.sound_changed.connect(self._opened)

    def close(self) -> None:
        """Measure no more."""
        self.timer.stop()

    def set_blend(self, share: float) -> None:
        """Set how much of the rebuilt groove is heard: 0 only the original, 1 only the rebuilt."""
        self.blend = max(0.0, min(1.0, share))
        self._send()

    def set_equal_loudness(self, on: bool) -> None:
        """Choose whether original and rebuilt are brought to equal loudness."""
        self.equal_loudness = on
        self._send()

    def _measure(self) -> None:
        baked = self._baking.baked
        if baked is not None:
            self._newest.keep("match", self._threads.run(_match, baked, done=self._take, failed=self._session.hub.trouble))

    def _take(self, gain: float) -> None:
        self._match = gain
        self._send()

    def _send(self) -> None:
        gain = self._match if self.equal_loudness else 1.0
        self._engine.set_balance(1.0 - self.blend, self.blend * gain)

    def _opened(self) -> None:
        self._match = 1.0
