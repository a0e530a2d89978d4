"""A sound that is being analysed: its waveform is there at once, and can be listened to meanwhile."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPixmap, QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from bompla.app.bring_in.overview import clock, paint_times
from bompla.app.project.project_state import Arriving
from bompla.app.sound.playback import Playback
from bompla.app.sound_picture import RULER
from bompla.app.theme import theme
from bompla.app.ui.controls import Panel, button, label
from bompla.app.ui.raster import wave_pixmap
from bompla.app.ui.time_axis import TimeAxis
from bompla.audio.clip import Clip

HEARD_S = 20.0
"""How much of it is played at a click."""

MARGIN = 10.0


class ArrivingPanel(Panel):
    """Stands where the loop will be: what the file is, and its waveform; a click plays it from there."""

    def __init__(self, playback: Playback) -> None:
        super().__init__()
        self._playback = playback
        self._sound: Arriving | None = None
        column = QVBoxLayout()
        self.body.addLayout(column, 1)
        row = QHBoxLayout()
        self.name, self.facts = label("", "heading"), label("", "dim")
        for shown in (self.name, self.facts):
            row.addWidget(shown)
        row.addStretch(1)
        self.stop = button("Stop", playback.previews.stop, tip="Stop playing", small=True)
        row.addWidget(self.stop)
        column.addLayout(row)
        self.wave = ArrivingWave()
        self.wave.heard.connect(self._hear)
        column.addWidget(self.wave, 1)
        self.hint = label("A click plays it from there. Tempo, bars and the best loops follow in a moment.", "dim")
        column.addWidget(self.hint)
        column.addStretch(1)

    def show_sound(self, sound: Arriving) -> None:
        """Show a sound."""
        self._sound = sound
        clip = sound.clip
        self.name.setText(sound.name)
        channels = {1: "mono", 2: "stereo"}.get(clip.channels, f"{clip.channels} channels")
        self.facts.setText(f"{clock(clip.duration_s, False)} · {clip.sample_rate / 1000.0:g} kHz {channels}")
        self.wave.show_sound(sound)

    def _hear(self, at_sample: float) -> None:
        if self._sound is not None:
            clip: Clip = self._sound.clip
            start = max(0, min(clip.frames - 1, round(at_sample)))
            self._playback.previews.play(clip, start, min(clip.frames, start + round(HEARD_S * clip.sample_rate)), alone=True)


class ArrivingWave(QWidget):
    """The waveform of a sound that is being analysed. A click plays it from there, Return from its start."""

    heard = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__()
        self._sound: Arriving | None = None
        self._drawn: QPixmap | None = None
        self.setMinimumHeight(170)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName("Waveform of the sound that is being analysed")
        theme().changed.connect(self._redraw)

    @property
    def axis(self) -> TimeAxis:
        """What is shown where: all of it."""
        frames = self._sound.clip.frames if self._sound is not None else 1
        return TimeAxis(0.0, float(frames), MARGIN, max(1.0, self.width() - 2.0 * MARGIN))

    def show_sound(self, sound: Arriving) -> None:
        """Show a sound."""
        self._sound = sound
        self.setAccessibleDescription(f"{sound.name}; Return plays it")
        self._redraw()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        self.heard.emit(self.axis.sample(event.position().x()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802  # Qt's name
        assert event is not None
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.heard.emit(0.0)
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, _event: QResizeEvent | None) -> None:  # noqa: N802  # Qt's name
        self._redraw()

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        if self._sound is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        summary, axis = self._sound.summary, self.axis
        paint_times(painter, axis, self._sound.clip.sample_rate, self.height(), self.width())
        if self._drawn is None:
            gain = summary.gain
            self._drawn = wave_pixmap(summary, axis.start, axis.end, round(axis.width), max(1, round(self.height() - RULER - 6)),
                                      theme().colour("paper", 0.8), ratio=self.devicePixelRatioF(), gain=gain)
        painter.drawPixmap(QPointF(axis.left, RULER + 3.0), self._drawn)

    def _redraw(self) -> None:
        self._drawn = None
        self.update()
