"""The transport: play, stop and seek, and where the playhead is."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from bompla.app.project.session import Session
from bompla.app.sound.bake import Baking
from bompla.app.sound.recording import Recorder
from bompla.engine.choice import SoundChoice
from bompla.engine.devices import SIMULATED_NAME
from bompla.engine.host import Engine, EngineState
from bompla.engine.layout import DeviceKind
from bompla.errors import EngineError

FRAME_MS = 16
WATCH_EVERY = 16


class Transport(QObject):
    """Starts and stops what plays, and looks at the engine at the frame rate.

    `moved` carries the playhead as a sample of the source, `state_changed` whether it plays,
    `device_changed` what plays, `looked_at` the engine's state, a frame each.
    """

    moved = pyqtSignal(float)
    state_changed = pyqtSignal(bool)
    begun_by_hand = pyqtSignal()
    device_changed = pyqtSignal(str)
    looked_at = pyqtSignal(object)

    def __init__(self, session: Session, engine: Engine, baking: Baking, recorder: Recorder, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._engine, self._baking, self._recorder = session, engine, baking, recorder
        self.looping = True
        self.click = False
        self._playing = False
        self._ticks = 0
        self._device = ""
        self._last: tuple[bool, int] = (False, -1)
        self._timer = QTimer(self)
        self._timer.setInterval(FRAME_MS)
        self._timer.timeout.connect(self._tick)
        session.project.sound_changed.connect(self._opened)
        baking.speed_changed.connect(self._keep_place)

    def start(self) -> None:
        """Start the engine."""
        try:
            self._engine.start()
        except EngineError as error:
            self._session.hub.trouble(str(error))
        self._timer.start()

    def close(self) -> None:
        """Stop looking at the engine."""
        self._timer.stop()

    @property
    def playing(self) -> bool:
        """Whether it plays, or is about to."""
        return self._playing

    def toggle(self) -> None:
        """Play or stop."""
        if self._playing:
            self.stop()
        else:
            self.begun_by_hand.emit()
            self.play()

    def play(self, delay_frames: int = 0) -> None:
        """Play from the playhead on, so many frames from now."""
        if self._session.store.document is None:
            return
        self._playing = True
        self._engine.play(delay_frames)
        self.state_changed.emit(True)

    def record(self) -> None:
        """Begin to record what is played by hand, after a bar counted in where that is wanted; stopping ends it."""
        if self._recorder.begin() and not self._playing:
            counted = self._recorder.counted_in()
            if len(counted):
                self._engine.preview(counted)
            self.play(len(counted))

    def stop(self) -> None:
        """Stop at the playhead."""
        self._recorder.end()
        self._playing = False
        self._engine.stop()
        self.state_changed.emit(False)

    def seek(self, at_sample: float) -> None:
        """Move the playhead to a sample of the source."""
        document = self._session.store.document
        if document is not None:
            self._engine.seek(round((at_sample - document.loop.start_sample) * self._baking.frames_per_sample(document)))

    def set_looping(self, on: bool) -> None:
        """Choose whether the loop begins again at its end."""
        self.looping = on
        self._engine.set_looping(on)

    def set_click(self, on: bool) -> None:
        """Choose whether the beats are clicked."""
        self.click = on
        self._engine.set_click(on)

    def use_device(self, choice: SoundChoice) -> None:
        """Play to another device, or to and from other MIDI ports."""
        try:
            self._engine.use(choice)
        except EngineError as error:
            self._session.hub.trouble(str(error))

    def playhead_sample(self) -> float:
        """Return where the playhead is, as a sample of the source."""
        document = self._session.store.document
        if document is None:
            return 0.0
        start, frames = document.loop.start_sample, document.loop.frames
        return start + self._engine.state.position / self._baking.frames_per_sample(document) % frames

    def pattern_sample(self) -> float:
        """Return where the playhead is in what plays, which may be longer than the loop, as a sample counted from the loop's start on."""
        document = self._session.store.document
        if document is None:
            return 0.0
        return document.loop.start_sample + self._engine.state.position / self._baking.frames_per_sample(document)

    def _opened(self) -> None:
        if self._playing:
            self.stop()
        self._recorder.takes.clear()
        self._engine.seek(0)

    def _keep_place(self, before: float, after: float) -> None:
        """Stay at the same place of the loop, as it plays at another speed."""
        self._engine.seek(round(self._engine.state.position * before / after))

    def _tick(self) -> None:
        self._ticks += 1
        if self._ticks % WATCH_EVERY == 0:
            sentence = self._engine.watch()
            if sentence:
                self._session.hub.trouble(sentence)
        state = self._engine.state
        self.looked_at.emit(state)
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
        if text != self._device:
            self._device = text
            self.device_changed.emit(text)
            if state.message:
                again = state.kind == DeviceKind.SIMULATED and self._engine.chosen.device != SIMULATED_NAME
                self._session.hub.note(state.message, button="Try again" if again else "",
                                       action=(lambda: self.use_device(self._engine.chosen)) if again else None)
