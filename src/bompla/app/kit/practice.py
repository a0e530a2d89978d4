"""The practice pads: a simulated controller that sends MIDI bytes, played by hand or by a player of its own."""

from __future__ import annotations

import random
from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.theme import theme
from bompla.app.ui.controls import button, label
from bompla.app.ui.gesture import GestureWidget
from bompla.app.ui.number_box import NumberBox
from bompla.engine.midi_port import KEY_PRESSURE, NOTE_OFF, NOTE_ON
from bompla.model.detected_pattern import is_inside, pattern_beats, pattern_of
from bompla.model.document import PAD_COLUMNS, PADS_PER_PAGE, Pad
from bompla.units import clamped_velocity

GAP = 8.0
TICK_MS = 4
AHEAD_MS = 150.0
CHANNEL = 9
GLOW_FRAMES = 8


class _Surface(GestureWidget):
    """Sixteen rubber pads; the nearer to the middle, the harder."""

    def __init__(self, session: Session, send: Callable[[bytes, int], object]) -> None:
        super().__init__()
        self._session, self._send = session, send
        self._pressed = -1
        self.glow: dict[int, int] = {}
        self.setAccessibleName("Practice pads")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 340)
        session.store.document_changed.connect(lambda _: self.update())

    def cell(self, slot: int) -> QRectF:
        """Return where a pad is."""
        row, column = divmod(slot % PADS_PER_PAGE, PAD_COLUMNS)
        side = (min(self.width(), self.height()) - GAP * (PAD_COLUMNS + 1)) / PAD_COLUMNS
        return QRectF(GAP + column * (side + GAP), GAP + (3 - row) * (side + GAP), side, side)

    def pads(self) -> dict[int, Pad]:
        """Return the pads of the first page by their slot."""
        document = self._session.store.document
        return {pad.slot: pad for pad in document.pads if pad.slot < PADS_PER_PAGE} if document else {}

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        pads = self.pads()
        for slot in range(PADS_PER_PAGE):
            cell, pad = self.cell(slot), pads.get(slot)
            lit = self.glow.get(slot, 0) / GLOW_FRAMES
            painter.setPen(QPen(theme().colour("line"), 1.0))
            painter.setBrush(theme().drum(pad.drum, 0.25 + 0.7 * lit) if pad else theme().colour("sunk"))
            painter.drawRoundedRect(cell, 9.0, 9.0)
            painter.setFont(theme().font(14))
            painter.setPen(theme().colour("paper" if pad else "dim"))
            text = f"{pad.name}\n{pad.note}" if pad else "no note"
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, text)

    def press(self, event: QMouseEvent) -> Pad | None:
        """Strike a pad, the harder the nearer to its middle."""
        for slot, pad in self.pads().items():
            cell = self.cell(slot)
            if cell.contains(event.position()):
                self._pressed = -1
                self.strike(slot, pad, round(45 + 82 * self._pressure(cell, event.position())))
                return pad
        return None

    def drag(self, gesture: Pad, event: QMouseEvent) -> None:
        """Press harder towards the middle of the pad that is held down."""
        pressure = round(127 * self._pressure(self.cell(gesture.slot), event.position()))
        if pressure != self._pressed:
            self._pressed = pressure
            self._send(bytes((KEY_PRESSURE | CHANNEL, gesture.note, pressure)), 0)

    def commit(self, gesture: Pad, event: QMouseEvent) -> None:
        """Let the pad go."""
        self.cancel(gesture)

    def cancel(self, gesture: Pad) -> None:
        """Let the pad go."""
        self._send(bytes((NOTE_OFF | CHANNEL, gesture.note, 0)), 0)

    @staticmethod
    def _pressure(cell: QRectF, at: QPointF) -> float:
        off = (at - cell.center()) / (cell.width() / 2.0)
        return float(max(0.0, 1.0 - (off.x() ** 2 + off.y() ** 2) ** 0.5))

    def strike(self, slot: int, pad: Pad, velocity: int, at_frame: int = 0) -> None:
        """Send a note as the controller does, now or to arrive at a frame of the engine's count."""
        self._send(bytes((NOTE_ON | CHANNEL, pad.note, clamped_velocity(velocity))), at_frame)
        self.glow[slot] = GLOW_FRAMES
        self.update()

    def fade(self) -> None:
        """Let what glows go dark."""
        if self.glow:
            self.glow = {slot: left - 1 for slot, left in self.glow.items() if left > 1}
            self.update()


class PracticePads(QDialog):
    """The controller's window. Its player performs the pattern with a person's timing and the latency set."""

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Practice pads")
        self.resize(420, 480)
        self._session, self._playback = session, playback
        self._random = random.Random(1)
        self._due: list[tuple[float, int, Pad, int]] = []
        self._started = 0
        self._ends_ms = 0.0
        column = QVBoxLayout(self)
        column.addWidget(label("A simulated controller: it sends MIDI like a real one", "dim"))
        self.surface = _Surface(session, playback.engine.midi)
        column.addWidget(self.surface, 1)
        row = QHBoxLayout()
        self.perform = button("Play the pattern for me", self.toggle, checkable=True,
                              tip="A simulated player plays the pattern once, with human timing")
        row.addWidget(self.perform)
        self.loose, self.late = self._spin("looseness", 6), self._spin("delay", 0)
        for text, box in (("looseness", self.loose), ("delay", self.late)):
            row.addWidget(label(text, "dim"))
            row.addWidget(box)
        row.addStretch(1)
        column.addLayout(row)
        self._timer = QTimer(self)
        self._timer.setTimerType(Qt.TimerType.PreciseTimer)
        self._timer.setInterval(TICK_MS)
        self._timer.timeout.connect(self._tick)
        self._fading = QTimer(self)
        self._fading.setInterval(30)
        self._fading.timeout.connect(self.surface.fade)
        self._fading.start()

    def _spin(self, name: str, value: int) -> NumberBox:
        box = NumberBox(name, 0, 80, unit=" ms", arrows=True)
        box.show_number(value)
        return box

    def toggle(self) -> None:
        """Begin or end the player's performance."""
        if not self.perform.isChecked():
            self._timer.stop()
            return
        document = self._session.store.document
        if document is None:
            self.perform.setChecked(False)
            return
        pads = {pad.id: pad for pad in document.pads if pad.slot < PADS_PER_PAGE}
        beat_ms = 60_000.0 / document.bpm / self._playback.baking.speed
        self._due = sorted(
            (
                (max(0.0, hit.at_beats * beat_ms + self._random.gauss(0.0, self.loose.value() / 2.0) + self.late.value()),
                 pads[hit.pad_id].slot, pads[hit.pad_id], hit.velocity)
                for hit in pattern_of(document).hits
                if hit.pad_id in pads and is_inside(hit.at_beats, pattern_beats(document))
            ),
            key=lambda due: due[0],
        )
        self._ends_ms = self._due[-1][0] + 2.0 * TICK_MS if self._due else 0.0
        self._started = self._playback.engine.state.rendered_frames
        self._timer.start()

    def _tick(self) -> None:
        """Strike what is due, by the engine's own clock and a little ahead, so that a busy screen does not make the player late."""
        engine = self._playback.engine
        now_ms = 1000.0 * (engine.state.rendered_frames - self._started) / engine.sample_rate
        while self._due and self._due[0][0] <= now_ms + AHEAD_MS:
            due_ms, slot, pad, velocity = self._due.pop(0)
            self.surface.strike(slot, pad, velocity, self._started + round(due_ms * engine.sample_rate / 1000.0))
        if not self._due and now_ms > self._ends_ms:
            self._timer.stop()
            self.perform.setChecked(False)

    def closeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._timer.stop()
        self._fading.stop()
        self.perform.setChecked(False)

    def showEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._fading.start()
