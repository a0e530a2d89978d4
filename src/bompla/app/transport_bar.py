"""The bar at the bottom: play, loop, click, position; original against rebuilt; tempo; what plays."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QSlider, QWidget

from bompla.app.commands import tip
from bompla.app.project.session import Session
from bompla.app.sound.playback import Playback
from bompla.app.theme import theme
from bompla.app.ui.controls import button, combo, label
from bompla.app.ui.level_meter import LevelMeter
from bompla.app.ui.number_box import NumberBox
from bompla.engine.host import EngineState
from bompla.model.detected_pattern import pattern_bars, pattern_meter
from bompla.model.document import Document
from bompla.model.wording import position
from bompla.render.events import WAYS, made_of
from bompla.render.levels import loudest_pad

SPEEDS = (25, 50, 60, 70, 80, 90, 100, 110, 125, 150, 200)
"""Listening speeds in percent."""


HEARD_AT = {"bring-in": 0, "slice": 0, "kit": 100, "groove": 100, "study": 50, "send-out": 100}
"""What plays at each stage until the user chooses: how much of the rebuilt loop, in percent."""

MOST_BARS_OFFERED = 16

NARROW = 1180


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
        self.meter = LevelMeter()
        row.addWidget(self.meter)
        row.addStretch(1)
        self._chosen, self._suggesting = False, False
        self.blend = BlendSlider()
        self.original = button("Original", lambda: self._hear(0), tip=f"Play the original only. {tip('flip')}", chip=True, checkable=True)
        self.rebuilt = button("Rebuilt", lambda: self._hear(100), tip=f"Play the rebuilt loop only. {tip('flip')}", chip=True,
                              checkable=True)
        self.original.setChecked(True)
        self.blend.setToolTip(tip("flip"))
        self.blend.valueChanged.connect(self._balanced)
        row.addWidget(self.original)
        row.addWidget(self.blend, 6)
        row.addWidget(self.rebuilt)
        self.equal = button("equal loudness", self._equal, chip=True, checkable=True,
                            tip="Match the loudness of rebuilt and original, so that louder does not pass for better")
        self.equal.setChecked(True)
        row.addWidget(self.equal)
        row.addStretch(1)
        self._speed_boxes(row)
        self.device = button("starting sound", actions["settings"], tip=tip("settings"))
        self.device.setObjectName("small")
        row.addWidget(self.device)
        row.addSpacing(6)
        self.tempo = NumberBox("Listening tempo", 1.0, 999.0, decimals=2, unit=" BPM", width=104,
                               tip="Type a tempo to hear the loop at, at the same pitch; Tempo in Send out writes at it, too")
        self.tempo.setSpecialValueText("– BPM")  # before anything is open
        self.tempo.typed.connect(self._set_tempo)
        row.addWidget(self.tempo)
        self._bars_offered = 0
        self._listen()
        self._switch(False)

    def _switch(self, on: bool) -> None:
        """Switch what plays on or off: there is nothing to play before something is open."""
        for made in (self.play, self.loop, self.click, self.original, self.blend, self.rebuilt, self.equal, self.bars, self.speed,
                     self.way, self.tempo):
            made.setEnabled(on)

    def _listen(self) -> None:
        playback, session = self._playback, self._session
        playback.transport.moved.connect(self._moved)
        playback.transport.looked_at.connect(self._metered)
        playback.baking.baked_changed.connect(self._show_tempo)
        playback.baking.baked_changed.connect(self._show_made_of)
        playback.baking.speed_chosen.connect(self._show_speed)
        playback.baking.bars_changed.connect(self._show_bars)
        playback.transport.state_changed.connect(self._state_changed)
        playback.transport.device_changed.connect(self._device_changed)
        session.store.document_changed.connect(self._document_changed)

    def resizeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        narrow = self.width() < NARROW
        self.device.setVisible(not narrow)
        self.equal.setText("equal" if narrow else "equal loudness")

    def _speed_boxes(self, row: QHBoxLayout) -> None:
        playback = self._playback
        self.speed = combo("Listening speed", [(f"{percent} %", percent / 100.0) for percent in SPEEDS], width=74)
        self.speed.setCurrentIndex(SPEEDS.index(100))
        self.speed.setToolTip("Listening speed, at the same pitch")
        self.speed.activated.connect(lambda _: playback.baking.set_speed(float(self.speed.currentData())))
        self.way = combo("How the original is slowed down", [(words, way) for way, words in WAYS.items()], width=96)
        self.way.setToolTip("How the original follows another speed")
        self.way.activated.connect(lambda _: playback.baking.set_speed(playback.baking.speed, str(self.way.currentData())))
        self.bars = combo("Bars to play", [("all bars", (0, 0))], width=82)
        self.bars.setToolTip("Bars to loop")
        self.bars.activated.connect(lambda _: playback.baking.loop_bars(*self.bars.currentData()))
        row.addWidget(self.bars)
        row.addWidget(self.speed)
        row.addWidget(self.way)
        self.way.hide()
        self.speed.activated.connect(lambda _: self.way.setVisible(playback.baking.speed != 1.0))

    def _show_bars(self) -> None:
        """Show which bars loop, wherever that was chosen; bars that are not in the list join it."""
        first, count = self._playback.baking.listened.bars
        place = next((n for n in range(self.bars.count()) if tuple(self.bars.itemData(n)) == (first, count)), -1)
        if place < 0:
            self.bars.addItem(f"bar {first + 1}" if count == 1 else f"bars {first + 1} to {first + count}", (first, count))
            place = self.bars.count() - 1
        self.bars.setCurrentIndex(place)

    def _show_speed(self) -> None:
        """Show the speed that was chosen, wherever that was; one that is not in the list joins it."""
        percent = round(100 * self._playback.baking.speed, 1)
        if self.speed.findData(percent / 100.0) < 0:
            self.speed.addItem(f"{percent:g} %", percent / 100.0)
        self.speed.setCurrentIndex(self.speed.findData(percent / 100.0))
        self.way.setVisible(self._playback.baking.speed != 1.0)

    def _show_tempo(self) -> None:
        document = self._session.store.document
        if document is not None:
            self.tempo.show_number(round(document.bpm * self._playback.baking.speed, 2))

    def _set_tempo(self, bpm: float) -> None:
        """Listen at a tempo, no slower or faster than can be."""
        document = self._session.store.document
        if document is not None:
            self._playback.baking.set_speed(bpm / document.bpm)
            self._show_tempo()

    def suggest(self, stage: str) -> None:
        """Play what a stage is about, until the user has chosen what to hear."""
        if not self._chosen and stage in HEARD_AT:
            self._suggesting = True
            self.blend.setValue(HEARD_AT[stage])
            self._suggesting = False

    def _show_made_of(self) -> None:
        """Say on the button what the rebuilt loop is made of."""
        baked = self._playback.baking.baked
        if baked is not None:
            self.rebuilt.setToolTip(f"Play the rebuilt loop only: {made_of(baked)}. {tip('flip')}")

    def _hear(self, blend: int) -> None:
        self._chosen = True
        self.blend.setValue(blend)
        self._balanced(blend)

    def _balanced(self, blend: int) -> None:
        self._chosen = self._chosen or not self._suggesting
        self.original.setChecked(blend == 0)
        self.rebuilt.setChecked(blend == 100)
        self._playback.balance.set_blend(blend / 100.0)

    def _equal(self) -> None:
        self._playback.balance.set_equal_loudness(self.equal.isChecked())

    def _state_changed(self, playing: bool) -> None:
        self.play.setText("Stop" if playing else "Play")

    def _device_changed(self, text: str) -> None:
        self.device.setText(text)
        self.device.setToolTip(f"What plays: {text} of latency. {tip('settings')}")

    def _document_changed(self, document: Document) -> None:
        self._switch(True)
        self.tempo.show_number(round(document.bpm * self._playback.baking.speed, 2))
        bars = pattern_bars(document)
        if bars != self._bars_offered:
            self._offer_bars(bars)

    def _offer_bars(self, bars: int) -> None:
        self._bars_offered = bars
        self.bars.clear()
        self.bars.addItem("all bars", (0, 0))
        for count in (1, 2, 4):
            if count < bars <= MOST_BARS_OFFERED:
                for first in range(0, bars - count + 1, count):
                    text = f"bar {first + 1}" if count == 1 else f"bars {first + 1} to {first + count}"
                    self.bars.addItem(text, (first, count))
        self._playback.baking.loop_bars(0, 0)

    def _moved(self, at_sample: float) -> None:
        document = self._session.store.document
        if document is None:
            return
        beats = max(0.0, document.beat_map.beat_at(at_sample))
        meter = pattern_meter(document) if self._playback.baking.sequence == "variation" else document.loop.meter
        self.position.setText(position(beats, meter))

    def _metered(self, state: EngineState) -> None:
        loudest = ""
        document, baked = self._session.store.document, self._playback.baking.baked
        if state.peak > 1.0 and document is not None and baked is not None:
            pad_id = loudest_pad(baked, state.position)
            loudest = next((pad.name for pad in document.pads if pad.id == pad_id), "")
        self.meter.show_peak(state.peak if state.playing or state.voices else 0.0, loudest)
