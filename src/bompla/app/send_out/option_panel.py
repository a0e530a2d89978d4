"""The options of the export that is picked, made from the tables of exports."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QWidget

from bompla.app.project.session import Session
from bompla.app.ui.controls import combo, label
from bompla.app.ui.number_box import NumberBox
from bompla.export.options import LABELS, LEAST_PERCENT, MOST_PERCENT
from bompla.export.table import CHOICES, EXPORTS

LOUDNESS = {0.0: "as it is", -14.0: "−14 LUFS", -16.0: "−16 LUFS", -18.0: "−18 LUFS", -23.0: "−23 LUFS"}
SWITCHES = ("muted", "pitch_as_notes", "repeat_signs")


class OptionPanel(QWidget):
    """A row for each option; only those that the picked export looks at are shown."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._outgoing = session.outgoing
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(6)
        grid.setColumnMinimumWidth(0, 88)
        grid.setColumnStretch(1, 1)
        self.controls: dict[str, QWidget] = {}
        self._names: dict[str, QWidget] = {}
        for row, (key, words) in enumerate(LABELS.items()):
            made = self._control(key)
            made.setAccessibleName(words)
            self.controls[key] = made
            if key in SWITCHES:
                grid.addWidget(made, row, 0, 1, 2)
                continue
            name = label(words, "dim")
            name.setBuddy(made)
            self._names[key] = name
            grid.addWidget(name, row, 0)
            grid.addWidget(made, row, 1)

    def show_options(self, key: str) -> None:
        """Show the options of an export, as they stand."""
        looked_at = EXPORTS[key].options
        options = self._outgoing.options
        for field, control in self.controls.items():
            shown = field in looked_at and not (field == "seed" and options.chance != "rolled") and not (
                field == "way" and options.tempo_percent == 100.0)
            control.setVisible(shown)
            if field in self._names:
                self._names[field].setVisible(shown)
            value = getattr(options, field)
            control.blockSignals(True)
            if isinstance(control, QComboBox):
                control.setCurrentIndex(max(0, control.findData(value)))
            elif isinstance(control, QCheckBox):
                control.setChecked(bool(value))
            elif isinstance(control, NumberBox):
                control.show_number(100 * value if field == "quantise" else value)
            control.blockSignals(False)

    def _control(self, key: str) -> QWidget:
        if key in SWITCHES:
            switch = QCheckBox(LABELS[key])
            switch.setToolTip(f"{LABELS[key].capitalize()}, in what is sent out")
            switch.toggled.connect(lambda on: self._set(key, on))
            return switch
        if key in CHOICES or key == "loudness_lufs":
            choices = LOUDNESS if key == "loudness_lufs" else CHOICES[key]
            box = combo(LABELS[key], [(words, value) for value, words in choices.items()])
            box.activated.connect(lambda _: self._set(key, box.currentData()))
            return box
        if key == "tempo_percent":
            number = NumberBox(LABELS[key], LEAST_PERCENT, MOST_PERCENT, decimals=1, unit=" %", arrows=True)
            number.typed.connect(lambda value: self._set(key, value))
        elif key == "quantise":
            number = NumberBox(LABELS[key], 0, 100, unit=" %", arrows=True)
            number.typed.connect(lambda value: self._set(key, value / 100))
        else:
            number = NumberBox(LABELS[key], 1, 9_999, arrows=True)
            number.typed.connect(lambda value: self._set(key, round(value)))
        return number

    def _set(self, key: str, value: object) -> None:
        if not self._outgoing.set_options(**{key: value}):
            self.show_options(next(name for name, one in EXPORTS.items() if key in one.options))
