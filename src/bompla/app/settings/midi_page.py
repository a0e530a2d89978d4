"""Settings of MIDI: what is played from, how its velocities are taken, and what the pattern plays out to."""

from __future__ import annotations

from dataclasses import replace
from importlib.util import find_spec

from PyQt6.QtWidgets import QCheckBox, QGridLayout, QVBoxLayout, QWidget

from bompla.app.preferences import preferences
from bompla.app.settings.choosing import use_sound
from bompla.app.sound.device_watch import DeviceLister
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import combo, label
from bompla.engine.midi_out import SIMULATED_PORT

CURVES = (("linear", 1.0), ("harder", 0.6), ("softer", 1.6), ("fixed, full velocity", 0.0))
NO_PORTS = "This Python has no MIDI ports: the package python-rtmidi has no build for it. The practice pads, keys and mouse still play."


class MidiPage(QWidget):
    """The ports; each change is used at once."""

    def __init__(self, playback: Playback, lister: DeviceLister) -> None:
        super().__init__()
        self._playback = playback
        lister.found.connect(lambda _outputs, inputs, midi_outputs: self._fill(inputs, midi_outputs))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
        self.input = combo("MIDI input", tip="The keyboard or pads you play from")
        self.curve = combo("Velocity curve", CURVES, tip="How hard a strike of this input counts")
        self.output = combo("MIDI output", tip="Where the pattern plays to, beside its sound: your own instruments")
        self.channel = combo("MIDI channel", [(str(n) if n != 10 else "10 (drums)", n) for n in range(1, 17)])
        rows = (("input", self.input), ("velocity curve", self.curve), ("output", self.output), ("channel", self.channel))
        for row, (text, box) in enumerate(rows):
            name = label(text, "dim")
            name.setBuddy(box)
            grid.addWidget(name, row, 0)
            grid.addWidget(box, row, 1)
        self.clock = QCheckBox("send clock, start and stop")
        self.clock.setToolTip("24 clocks a beat, so that others keep this tempo and start and stop along")
        grid.addWidget(self.clock, len(rows), 1)
        words = label("While a pattern plays, its hits leave as notes of their pads, when they are heard. Muted lanes do not.", "dim")
        words.setWordWrap(True)
        column.addWidget(words)
        self.now = label("", "value")
        self.now.setWordWrap(True)
        column.addWidget(self.now)
        column.addStretch(1)
        for box in (self.input, self.output, self.channel):
            box.activated.connect(lambda _: self._use())
        self.clock.clicked.connect(lambda _: self._use())
        self.curve.activated.connect(lambda _: self._set_curve())
        self._fill([], [])

    def refresh(self) -> None:
        """Show what is so."""
        chosen = self._playback.engine.chosen
        self.curve.setCurrentIndex(max(0, self.curve.findData(preferences().value.velocity_curve(chosen.midi_input))))
        self.channel.setCurrentIndex(self.channel.findData(chosen.midi_channel))
        self.clock.setChecked(chosen.midi_clock)
        self.channel.setEnabled(bool(chosen.midi_output))
        self.clock.setEnabled(bool(chosen.midi_output))
        message = self._playback.engine.state.message
        self.now.setText(NO_PORTS if find_spec("rtmidi") is None else message if "MIDI" in message else "")

    def _fill(self, inputs: list[str], outputs: list[str]) -> None:
        chosen = self._playback.engine.chosen
        for box, names, held in ((self.input, inputs, chosen.midi_input), (self.output, [*outputs, SIMULATED_PORT], chosen.midi_output)):
            box.clear()
            box.addItem("none", "")
            for name in [*names, *([held] if held and held not in names else [])]:
                box.addItem(name, name)
            box.setCurrentIndex(max(0, box.findData(held)))
        self.refresh()

    def _use(self) -> None:
        made = replace(self._playback.engine.chosen, midi_input=str(self.input.currentData()), midi_output=str(self.output.currentData()),
                       midi_channel=int(self.channel.currentData()), midi_clock=self.clock.isChecked())
        use_sound(self._playback, made)
        self.refresh()

    def _set_curve(self) -> None:
        """Keep how velocities of this input are taken."""
        chosen, exponent = self._playback.engine.chosen.midi_input, float(self.curve.currentData())
        preferences().set(velocity_curves={**preferences().value.velocity_curves, chosen: exponent})
        self._playback.engine.set_touch(exponent)
