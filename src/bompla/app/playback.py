"""What is heard: keeps the engine in step with the document, and the window in step with the engine."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from bompla.app.jobs import Threads
from bompla.app.session import Session
from bompla.engine.bounce import matching_gain
from bompla.engine.host import Engine, EngineState
from bompla.errors import EngineError
from bompla.model.document import Document, Slice
from bompla.model.drums import DRUMS
from bompla.render.sounds import Baked, Baker, sound_key, strike_gain

FRAME_MS = 16
WATCH_EVERY = 16
MATCH_DELAY_MS = 250


class Playback(QObject):
    """Plays original, rebuilt and pads, and tells where the playhead is.

    `moved` carries the playhead as a sample of the source, `state_changed` whether it plays,
    `device_changed` what plays.
    """

    moved = pyqtSignal(float)
    state_changed = pyqtSignal(bool)
    device_changed = pyqtSignal(str)
    shown = pyqtSignal()

    def __init__(self, session: Session, engine: Engine, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.engine = engine
        self._threads = Threads(self)
        self._baker = Baker(engine.sample_rate)
        self._baked: Baked | None = None
        self._baking = False
        self._stale = False
        self.blend = 0.0
        self.equal_loudness = True
        self.looping = True
        self.click = False
        self._match = 1.0
        self._playing = False
        self._ticks = 0
        self._said = ""
        self._last: tuple[bool, int] = (False, -1)
        self._match_timer = QTimer(self)
        self._match_timer.setSingleShot(True)
        self._match_timer.setInterval(MATCH_DELAY_MS)
        self._match_timer.timeout.connect(self._measure_match)
        self._timer = QTimer(self)
        self._timer.setInterval(FRAME_MS)
        self._timer.timeout.connect(self._tick)
        session.document_changed.connect(self._document_changed)
        session.opened.connect(self._opened)

    def start(self) -> None:
        """Start the engine."""
        try:
            self.engine.start()
        except EngineError as error:
            self._session.hub.trouble(str(error))
        self._timer.start()

    def close(self) -> None:
        """End the engine."""
        self._timer.stop()
        self._match_timer.stop()
        self._threads.close()
        self.engine.shut()

    @property
    def playing(self) -> bool:
        """Whether it plays, or is about to."""
        return self._playing

    @property
    def busy(self) -> bool:
        """Whether sounds are being made that the engine does not have yet."""
        return self._baking or self._threads.busy

    def toggle(self) -> None:
        """Play or stop."""
        if self._playing:
            self.stop()
        else:
            self.play()

    def play(self) -> None:
        """Play from the playhead on."""
        if self._session.document is None:
            return
        self._playing = True
        self.engine.play()
        self.state_changed.emit(True)

    def stop(self) -> None:
        """Stop at the playhead."""
        self._playing = False
        self.engine.stop()
        self.state_changed.emit(False)

    def seek(self, at_sample: float) -> None:
        """Move the playhead to a sample of the source."""
        document = self._session.document
        if document is not None:
            rate = self.engine.sample_rate / document.source.sample_rate
            self.engine.seek(round((at_sample - document.loop.start_sample) * rate))

    def set_looping(self, on: bool) -> None:
        """Choose whether the loop begins again at its end."""
        self.looping = on
        self.engine.set_looping(on)

    def set_click(self, on: bool) -> None:
        """Choose whether the beats are clicked."""
        self.click = on
        self.engine.set_click(on)

    def set_blend(self, share: float) -> None:
        """Set how much of the rebuilt groove is heard: 0 only the original, 1 only the rebuilt."""
        self.blend = max(0.0, min(1.0, share))
        self._send_balance()

    def set_equal_loudness(self, on: bool) -> None:
        """Choose whether original and rebuilt are brought to equal loudness."""
        self.equal_loudness = on
        self._send_balance()

    def strike(self, pad_id: int, velocity: int = 100) -> bool:
        """Play a pad; False where it has no sound."""
        document, clip = self._session.document, self._session.clip
        if document is None or clip is None:
            return False
        pad = document.pad(pad_id)
        layer = pad.layer_for(velocity)
        if layer is None:
            return False
        key = sound_key(document, layer, clip)
        return self.engine.strike(
            key, pad=pad_id % 30_000, choke=DRUMS[pad.drum].choke_set, gain=strike_gain(pad, layer, velocity)
        )

    def audition(self, piece: Slice) -> None:
        """Play one slice of the original."""
        document = self._session.document
        if document is not None:
            rate = self.engine.sample_rate / document.source.sample_rate
            start = round((piece.start_sample - document.loop.start_sample) * rate)
            self.engine.audition(start, round((piece.end_sample - piece.start_sample) * rate))

    def playhead_sample(self) -> float:
        """Return where the playhead is, as a sample of the source."""
        document = self._session.document
        if document is None:
            return 0.0
        rate = document.source.sample_rate / self.engine.sample_rate
        return document.loop.start_sample + self.engine.state.position * rate

    def _opened(self) -> None:
        if self._playing:
            self.stop()
        self.engine.seek(0)
        self._match = 1.0

    def _document_changed(self, _document: Document) -> None:
        self._stale = True
        if not self._baking:
            self._bake()

    def _bake(self) -> None:
        document, clip = self._session.document, self._session.clip
        if document is None or clip is None:
            return
        self._stale, self._baking = False, True
        self._threads.run(lambda: self._baker.bake(document, clip), self._take, self._fail)

    def _take(self, baked: Baked) -> None:
        self._baking = False
        if self._stale:
            self._bake()
        try:
            self.engine.show(baked)
        except EngineError as error:
            self._session.hub.trouble(str(error))
            return
        self._baked = baked
        self._match_timer.start()
        self.shown.emit()

    def _fail(self, sentence: str) -> None:
        self._baking = False
        self._session.hub.trouble(sentence)

    def _measure_match(self) -> None:
        baked = self._baked
        if baked is not None:
            self._threads.run(lambda: matching_gain(baked), self._take_match, self._session.hub.trouble)

    def _take_match(self, gain: Any) -> None:
        self._match = float(gain)
        self._send_balance()

    def _send_balance(self) -> None:
        gain = self._match if self.equal_loudness else 1.0
        self.engine.set_balance(1.0 - self.blend, self.blend * gain)

    def _tick(self) -> None:
        self._ticks += 1
        if self._ticks % WATCH_EVERY == 0:
            sentence = self.engine.watch()
            if sentence:
                self._session.hub.trouble(sentence)
        state = self.engine.state
        self._tell_device(state)
        if self._playing and not self.looping and not state.playing and self._last[0]:
            self._playing = False
            self.state_changed.emit(False)
        now = (state.playing, state.position)
        if now != self._last:
            self._last = now
            self.moved.emit(self.playhead_sample())

    def _tell_device(self, state: EngineState) -> None:
        text = f"{state.device}, {1000.0 * state.latency_s:.0f} ms" if state.ready else "starting sound"
        if text != self._said:
            self._said = text
            self.device_changed.emit(text)
            if state.message:
                self._session.hub.note(state.message)
