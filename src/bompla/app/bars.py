"""The bars around the stages: top, listening and messages; the path stands beside."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QProgressBar, QSizePolicy, QSlider, QWidget

from bompla.app.commands import tip
from bompla.app.messages import Message, Weight
from bompla.app.opened import Work
from bompla.app.playback import Playback
from bompla.app.session import Session
from bompla.app.theme import theme
from bompla.app.widgets.controls import button, combo, label
from bompla.model.cut_edits import choose_reading
from bompla.model.document import Document, TempoReading
from bompla.render.sounds import WAYS

SPEEDS = (25, 50, 60, 70, 80, 90, 100, 110, 125, 150, 200)
"""Listening speeds in percent."""

MOST_BARS_OFFERED = 16
NARROW = 1180
SHOWN_STEPS = 24



class TopBar(QWidget):
    """The project, saving, and undo by name."""

    def __init__(self, session: Session, actions: dict[str, Callable[[], object]]) -> None:
        super().__init__()
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(44)
        self._session, self._actions = session, actions
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 0, 16, 0)
        row.setSpacing(9)
        self.title = label("Bompla", "title")
        row.addWidget(self.title)
        self.source = button("", self._choose_sound, chip=True, tip=tip("next_sound"))
        self.source.hide()
        row.addWidget(self.source)
        self.facts = label("", "dim")
        row.addWidget(self.facts)
        row.addStretch(1)
        self.saved = label("", "dim")
        row.addWidget(self.saved)
        self.undo = button("Undo", actions["undo"], tip=tip("undo"))
        self.redo = button("Redo", actions["redo"], tip=tip("redo"))
        self.steps = button("Steps", self._choose_step, tip="What was done, step by step; go back to any of them")
        for made in (
            button("Open", actions["open"], tip=tip("open")), button("Save", actions["save"], tip=tip("save")),
            self.undo, self.redo, self.steps, button("Keys", actions["keys"], tip=tip("keys")),
        ):
            row.addWidget(made)
        session.document_changed.connect(lambda _: self._refresh())
        session.saved_changed.connect(self._refresh)
        self._refresh()

    def sounds_menu(self) -> QMenu:
        """Return the menu of the project's sounds."""
        session, menu = self._session, QMenu(self)
        for index, sound in enumerate(session.sounds):
            entry = menu.addAction(sound.history.document.source.name)
            assert entry is not None
            entry.setCheckable(True)
            entry.setChecked(index == session.current)
            entry.triggered.connect(lambda _=False, index=index: session.switch(index))
        menu.addSeparator()
        for text, action, able in (
            ("Add a sound…", self._actions["add_sound"], True),
            ("Take this one out of the project", lambda: session.take_out(session.current), len(session.sounds) > 1),
            ("Bring back the one taken out", session.bring_back, bool(session.taken_out)),
        ):
            entry = menu.addAction(text)
            assert entry is not None
            entry.setEnabled(able)
            entry.triggered.connect(lambda _=False, action=action: action())
        return menu

    def steps_menu(self) -> QMenu:
        """Return the menu of what was done, newest first, with what was undone above; a click goes there."""
        menu, history = QMenu(self), self._session.history
        if history is None:
            return menu
        undone = [(f"redo: {step.label}", -n) for n, step in enumerate(reversed(history.undone), 1)][:SHOWN_STEPS]
        done = [(step.label, n) for n, step in enumerate(reversed(history.done))][:SHOWN_STEPS]
        for text, back in [*reversed(undone), *done, ("as it was opened" if len(history.done) <= SHOWN_STEPS else "", len(history.done))]:
            if text:
                entry = menu.addAction(text)
                assert entry is not None
                entry.setCheckable(True)
                entry.setChecked(back == 0)
                entry.triggered.connect(lambda _=False, back=back: self._session.go_back(back))
        return menu

    def _choose_step(self) -> None:
        menu = self.steps_menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.steps.mapToGlobal(self.steps.rect().bottomLeft()))

    def _choose_sound(self) -> None:
        menu = self.sounds_menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.source.mapToGlobal(self.source.rect().bottomLeft()))

    def _refresh(self) -> None:
        session = self._session
        document, history = session.document, session.history
        if document is not None:
            self.title.setText(document.title)
            self.source.setVisible(True)
            count = len(session.sounds)
            self.source.setText(f"{document.source.name} · {session.current + 1} of {count}" if count > 1 else document.source.name)
            self.source.setAccessibleName(f"Sound: {document.source.name}")
            bars = "1 bar" if document.loop.bars == 1 else f"{document.loop.bars} bars"
            self.facts.setText(f"{bars} · {document.loop.meter_name}")
        undo, redo = (history.undo_label, history.redo_label) if history else ("", "")
        self.undo.setEnabled(bool(undo))
        self.undo.setText(f"Undo: {undo}" if undo else "Undo")
        self.redo.setEnabled(bool(redo))
        self.steps.setEnabled(bool(undo or redo))
        self.redo.setText(f"Redo: {redo}" if redo else "Redo")
        if document is None:
            self.saved.setText("")
        elif session.dirty:
            self.saved.setText("not saved")
        elif session.path is None:
            self.saved.setText("")
        else:
            self.saved.setText(f"saved {session.saved_at}".strip())


class BlendSlider(QSlider):
    """The balance of original and rebuilt, with a mark at the middle; a double click goes there."""

    def __init__(self) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self.setRange(0, 100)
        self.setPageStep(25)
        self.setMinimumWidth(90)
        self.setMaximumWidth(210)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Balance of original and rebuilt")

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        painter = QPainter(self)
        painter.setPen(QPen(theme().colour("line"), 1.0))
        middle = self.width() // 2
        painter.drawLine(middle, 2, middle, self.height() - 2)
        painter.end()
        super().paintEvent(event)

    def mouseDoubleClickEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.setValue(50)


class ListeningBar(QWidget):
    """Play, loop, click, position; original against rebuilt; tempo; what plays."""

    def __init__(self, session: Session, playback: Playback, actions: dict[str, Callable[[], object]]) -> None:
        super().__init__()
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(60)
        self._session, self._playback = session, playback
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 0, 16, 0)
        row.setSpacing(9)
        self.play = button("Play", actions["play"], tip=tip("play"), primary=True)
        self.play.setFixedSize(66, 38)
        self.loop = button("Loop", actions["loop"], tip=tip("loop"), checkable=True)
        self.loop.setChecked(True)
        self.click = button("Click", actions["click"], tip=tip("click"), checkable=True)
        for made in (self.play, self.loop, self.click):
            row.addWidget(made)
        self.position = label("1.1.00", "large")
        self.position.setFixedWidth(84)
        self.position.setAccessibleName("Position in bars and beats")
        row.addWidget(self.position)
        row.addStretch(1)
        row.addWidget(label("Original", "dim"))
        self.blend = BlendSlider()
        self.blend.setToolTip(tip("flip"))
        self.blend.valueChanged.connect(lambda value: playback.set_blend(value / 100.0))
        row.addWidget(self.blend, 6)
        row.addWidget(label("Rebuilt", "dim"))
        self.equal = button("equal loudness", self._equal, chip=True, checkable=True,
                            tip="Bring the rebuilt groove to the loudness of the original, so that louder does not pass for better")
        self.equal.setChecked(True)
        row.addWidget(self.equal)
        row.addStretch(1)
        self._speed_boxes(row)
        self.device = button("starting sound", actions["sound"], tip=tip("sound"))
        self.device.setObjectName("small")
        row.addWidget(self.device)
        row.addSpacing(6)
        self.tempo = label("–", "large")
        row.addWidget(self.tempo)
        row.addWidget(label("BPM", "dim"))
        self.half = button("half", lambda: self._scale(0.5), tip="Read the loop as half as many bars")
        self.double = button("double", lambda: self._scale(2.0), tip="Read the loop as twice as many bars")
        row.addWidget(self.half)
        row.addWidget(self.double)
        self._bars_offered = 0
        playback.moved.connect(self._moved)
        playback.shown.connect(self._show_tempo)
        playback.state_changed.connect(self._state_changed)
        playback.device_changed.connect(self._device_changed)
        session.document_changed.connect(self._document_changed)

    def resizeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        narrow = self.width() < NARROW
        self.device.setVisible(not narrow)
        self.equal.setText("equal" if narrow else "equal loudness")

    def _speed_boxes(self, row: QHBoxLayout) -> None:
        playback = self._playback
        self.speed = combo("Listening speed", [(f"{percent} %", percent / 100.0) for percent in SPEEDS], width=74)
        self.speed.setCurrentIndex(SPEEDS.index(100))
        self.speed.setToolTip("How fast it plays; at the same pitch where the original is stretched")
        self.speed.activated.connect(lambda _: playback.set_speed(float(self.speed.currentData())))
        self.way = combo("The original at another speed", [(way, way) for way in WAYS], width=96)
        self.way.setToolTip("How the original goes along at another speed")
        self.way.activated.connect(lambda _: playback.set_speed(playback.speed, str(self.way.currentData())))
        self.bars = combo("Bars to play", [("all bars", (0, 0))], width=82)
        self.bars.setToolTip("Play only some of the bars")
        self.bars.activated.connect(lambda _: playback.loop_bars(*self.bars.currentData()))
        row.addWidget(self.bars)
        row.addWidget(self.speed)
        row.addWidget(self.way)
        self.way.hide()
        self.speed.activated.connect(lambda _: self.way.setVisible(playback.speed != 1.0))

    def _show_tempo(self) -> None:
        document = self._session.document
        if document is not None:
            self.tempo.setText(f"{document.bpm * self._playback.speed:.2f}")

    def _equal(self) -> None:
        self._playback.set_equal_loudness(self.equal.isChecked())

    def _state_changed(self, playing: bool) -> None:
        self.play.setText("Stop" if playing else "Play")

    def _device_changed(self, text: str) -> None:
        self.device.setText(text)
        self.device.setToolTip(f"What plays: {text} of latency. {tip('sound')}")

    def _document_changed(self, document: Document) -> None:
        self.tempo.setText(f"{document.bpm * self._playback.speed:.2f}")
        bars = document.pattern_beats // document.pattern_meter.beats_per_bar
        if bars != self._bars_offered:
            self._offer_bars(bars)
        self.half.setEnabled(document.loop.bars % 2 == 0)

    def _offer_bars(self, bars: int) -> None:
        self._bars_offered = bars
        self.bars.clear()
        self.bars.addItem("all bars", (0, 0))
        for count in (1, 2, 4):
            if count < bars <= MOST_BARS_OFFERED:
                for first in range(0, bars - count + 1, count):
                    text = f"bar {first + 1}" if count == 1 else f"bars {first + 1} to {first + count}"
                    self.bars.addItem(text, (first, count))
        self._playback.loop_bars(0, 0)

    def _moved(self, at_sample: float) -> None:
        document = self._session.document
        if document is None:
            return
        beats = max(0.0, document.beat_map.beat_at(at_sample))
        meter = document.pattern_meter if self._playback.sequence == "variation" else document.loop.meter
        per_bar = meter.beats_per_bar
        self.position.setText(f"{int(beats // per_bar) + 1}.{int(beats % per_bar) + 1}.{int(beats % 1 * 100):02d}")

    def _scale(self, factor: float) -> None:
        document = self._session.document
        if document is None:
            return
        reading = TempoReading(document.bpm * factor, round(document.loop.bars * factor), document.loop.meter_name, 0.0)
        self._session.edit(f"read as {reading.bpm:.1f} BPM", lambda d: choose_reading(d, reading))


class MessageStrip(QWidget):
    """What the user is told, and long work with its progress; nothing modal."""

    cancelled = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 14, 6)
        self.text = label("", "value")
        self.text.setWordWrap(True)
        row.addWidget(self.text, 1)
        self.progress = QProgressBar()
        self.progress.setRange(0, 100)
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(220)
        self.progress.setAccessibleName("Progress")
        row.addWidget(self.progress)
        self.cancel = button("Cancel", self.cancelled.emit, tip="Give this up; the project stays as it was")
        row.addWidget(self.cancel)
        self.close_button = button("Close", self._close, tip="Put this message away")
        row.addWidget(self.close_button)
        self._message: Message | None = None
        self._work: Work | None = None
        session.work_changed.connect(self._work_changed)
        session.hub.posted.connect(self.show_message)
        for message in session.hub.listen():
            self.show_message(message)
        self._refresh()

    def show_message(self, message: Message) -> None:
        """Show a message until it is put away."""
        self._message = message
        self._refresh()

    def _close(self) -> None:
        self._message = None
        self._refresh()

    def _work_changed(self, work: Work | None) -> None:
        if work is not None and self._work is None:
            self._message = None
        self._work = work
        self._refresh()

    def _refresh(self) -> None:
        work, message = self._work, self._message
        self.setVisible(work is not None or message is not None)
        self.progress.setVisible(work is not None)
        self.cancel.setVisible(work is not None)
        self.close_button.setVisible(work is None)
        if work is not None:
            self.text.setText(work.label[:1].upper() + work.label[1:])
            self.progress.setValue(round(100 * work.share))
        elif message is not None:
            self.text.setText(message.text)
            self.text.setStyleSheet(f"color: {theme().palette.signal if message.weight is Weight.TROUBLE else theme().palette.paper}")


