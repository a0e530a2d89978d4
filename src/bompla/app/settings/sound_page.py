"""Settings of sound: what plays, in what blocks, and the input latency."""

from __future__ import annotations

import json
import sys
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QProcess, QTimer
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from bompla.app.preferences import preferences
from bompla.app.project.processes import end_process
from bompla.app.settings.choosing import use_sound
from bompla.app.sound.device_watch import DeviceLister
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import button, combo, label
from bompla.engine.bounce import click_sounds
from bompla.engine.devices import SIMULATED_NAME
from bompla.groove.takes import latency_of
from bompla.model.wording import counted

CHANNELS = (2, 4, 6, 8)
BLOCKS = (64, 128, 256, 512, 1024)
TEST_CLICKS, TEST_BEAT_S = 10, 0.6


class SoundPage(QWidget):
    """What plays; each change is heard at once."""

    def __init__(self, playback: Playback, lister: DeviceLister) -> None:
        super().__init__()
        self._playback, self._lister = playback, lister
        lister.found.connect(lambda outputs, _inputs, _midi_outputs: self._fill(outputs))
        self._loopback: QProcess | None = None
        self._problem = ""
        self._test_from = 0.0
        self._test_strikes: list[float] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
        self.output, self.channels, self.block = (combo(name) for name in ("Output device", "Outputs", "Block length"))
        for row, (text, box) in enumerate((("output device", self.output), ("outputs", self.channels), ("block length", self.block))):
            name = label(text, "dim")
            name.setBuddy(box)
            grid.addWidget(name, row, 0)
            grid.addWidget(box, row, 1)
            box.activated.connect(self._use)
        for count in CHANNELS:
            self.channels.addItem("2 (stereo)" if count == 2 else f"{count} (pads can be routed)", count)
        for frames in BLOCKS:
            self.block.addItem(f"{frames} frames", frames)
        self.now = label("", "value")
        self.now.setWordWrap(True)
        column.addWidget(self.now)
        row_box = QHBoxLayout()
        row_box.addWidget(button("Scan again", lister.look, tip="Scan for newly connected devices and ports"))
        self.again = button("Try again", playback.devices.try_again, tip="Play to the chosen device, if it is there again")
        row_box.addWidget(self.again)
        row_box.addStretch(1)
        column.addLayout(row_box)
        self._lateness(column)
        column.addStretch(1)
        playback.transport.device_changed.connect(lambda _: self.refresh())
        playback.pads.struck.connect(self._struck)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._end_test)
        self._fill([])

    def _lateness(self, column: QVBoxLayout) -> None:
        column.addWidget(label("Input latency", "heading"))
        self.late = label("", "value")
        self.late.setWordWrap(True)
        column.addWidget(self.late)
        row_box = QHBoxLayout()
        self.test = button("Measure", self.measure, tip="Ten clicks: hit any pad with each click")
        row_box.addWidget(self.test)
        self.cable = button("Measure with a cable", self.measure_cable,
                            tip="Connect output to input with a cable: plays a sound and times its return")
        row_box.addWidget(self.cable)
        row_box.addWidget(button("Use reported latency", self._forget, tip="Use the latency the device reports"))
        row_box.addStretch(1)
        column.addLayout(row_box)

    def close_all(self) -> None:
        """End what is being measured."""
        self._timer.stop()
        if self._loopback is not None:
            process, self._loopback = self._loopback, None
            end_process(process)
            self._playback.transport.use_device(self._playback.engine.chosen)  # the device is the engine's again

    def measure(self) -> None:
        """Play the clicks that are to be followed."""
        rate = self._playback.engine.sample_rate
        beat = round(TEST_BEAT_S * rate)
        sound = np.zeros((beat * TEST_CLICKS, 2), np.float32)
        click = click_sounds(rate)[1]
        for n in range(TEST_CLICKS):
            sound[n * beat : n * beat + len(click)] += click
        self._test_strikes = []
        self._test_from = self._playback.engine.state.rendered_frames / rate
        self._playback.engine.preview(sound)
        self.late.setText("Hit a pad with each click…")
        self._timer.start(round(1000 * TEST_BEAT_S * TEST_CLICKS + 400))

    def measure_cable(self) -> None:
        """Have a process of its own play and listen, while the engine leaves the device to it."""
        if self._loopback is not None:
            return
        engine = self._playback.engine
        device, block = engine.chosen.device, engine.chosen.block_frames
        self._playback.transport.stop()
        engine.close()
        process = QProcess(self)
        process.setProgram(sys.executable)
        name = "" if device == SIMULATED_NAME else device
        process.setArguments(["-P", "-m", "bompla.engine.loopback", name, str(engine.sample_rate), str(block)])
        process.finished.connect(lambda: self._cable_measured(process))
        self._loopback = process
        self.late.setText("Listening to the cable…")
        process.start()

    def _cable_measured(self, process: QProcess) -> None:
        self._loopback = None
        try:
            found = json.loads(bytes(process.readAllStandardOutput().data()).decode() or "{}")
        except ValueError:
            found = {}
        process.deleteLater()
        self._playback.transport.use_device(self._playback.engine.chosen)
        if "late_s" in found:
            self._keep_late(float(found["late_s"]))
        else:
            self._say(str(found.get("problem", "That could not be measured.")))

    def _say(self, problem: str) -> None:
        """Show why nothing was measured, until something is; the engine starting again does not hide it."""
        self._problem = problem
        self.late.setText(problem)

    def _keep_late(self, late_s: float) -> None:
        self._problem = ""
        self._playback.recorder.late_s = max(0.0, late_s)
        preferences().set(input_latency_s=min(2.0, self._playback.recorder.late_s))
        self.refresh()

    def _struck(self, _pad_id: int, _velocity: int) -> None:
        if self._timer.isActive() and self._playback.recorder.takes.strikes:
            self._test_strikes.append(self._playback.recorder.takes.strikes[-1].at_s)

    def _end_test(self) -> None:
        clicks = [self._test_from + n * TEST_BEAT_S for n in range(TEST_CLICKS)]
        late = latency_of(self._test_strikes, clicks)
        if late is None:
            self._say("That could not be measured: hit with at least four of the clicks, evenly.")
            return
        self._keep_late(late)

    def _forget(self) -> None:
        self._playback.recorder.late_s, self._problem = None, ""
        preferences().set(input_latency_s=-1.0)
        self.refresh()

    def _fill(self, outputs: list[str]) -> None:
        chosen = self._playback.engine.chosen
        self.output.clear()
        for text, key in [("system default", ""), *((name, name) for name in outputs), (SIMULATED_NAME, SIMULATED_NAME)]:
            self.output.addItem(text, key)
        self.output.setCurrentIndex(max(0, self.output.findData(chosen.device)))
        self.block.setCurrentIndex(max(0, self.block.findData(chosen.block_frames)))
        self.channels.setCurrentIndex(max(0, self.channels.findData(chosen.channels)))

    def _use(self, _index: int) -> None:
        made = replace(self._playback.engine.chosen, device=str(self.output.currentData()), block_frames=int(self.block.currentData()),
                       channels=int(self.channels.currentData()))
        if use_sound(self._playback, made, even_if_same=self._playback.devices.missing):
            self.now.setText("restarting")

    def refresh(self) -> None:
        """Show what is so."""
        state = self._playback.engine.state
        self.again.setVisible(self._playback.devices.missing)
        if state.ready:
            missed = f"{counted(state.underruns, 'dropout')} since it started." if state.underruns else "No dropouts."
            self.now.setText(f"{state.device}: {state.channels} outputs, {state.sample_rate} Hz, {state.block_frames} frames, "
                             f"{1000.0 * state.latency_s:.1f} ms of latency. {missed}")
        late_ms = 1000.0 * self._playback.recorder.latency_s
        source = "measured" if self._playback.recorder.late_s is not None else "as reported by the device"
        self.late.setText(self._problem or f"{late_ms:.0f} ms, {source}; recordings are shifted by it.")
