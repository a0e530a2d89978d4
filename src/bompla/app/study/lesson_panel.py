"""In layers: the groove taught from its skeleton up, each step in a sentence, looped against the original as slowly as wanted."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from bompla.app.commands import tip
from bompla.app.sound.playback import Playback
from bompla.app.ui.controls import Chips, Panel, button, clear_layout, label
from bompla.app.ui.sentence import Sentence
from bompla.groove.lesson import LessonStep

SPEEDS = (50, 60, 70, 80, 90, 100)


class LessonPanel(Panel):
    """`lit` carries the ids of the hits that are to be seen; while it is shown only the hits up to its step play."""

    lit = pyqtSignal(object)

    def __init__(self, playback: Playback) -> None:
        super().__init__("In layers · one step at a time")
        self._playback = playback
        self.steps: tuple[LessonStep, ...] = ()
        self.at = 0
        self._rows = QVBoxLayout()
        self._rows.setSpacing(3)
        self.body.addLayout(self._rows)
        row = QHBoxLayout()
        self.back = button("Back", partial(self.go, -1), tip=tip("lesson_back"))
        self.on = button("Next, when ready", partial(self.go, 1), tip=tip("lesson_next"))
        row.addWidget(self.back)
        row.addWidget(self.on)
        row.addStretch(1)
        self.body.addLayout(row)
        self.alone = button("only what is new", self._use, chip=True, checkable=True, tip="Play only the hits that this step adds")
        self.body.addWidget(self.alone, 0, Qt.AlignmentFlag.AlignLeft)
        self.body.addWidget(label("speed, at the same pitch", "dim"))
        self.speed = Chips("Speed", columns=3)
        self.speed.chosen.connect(lambda percent: self._set_speed(int(str(percent))))
        self.body.addWidget(self.speed)
        words = label("The balance below says how much of the original is heard with it.", "dim")
        words.setWordWrap(True)
        self.body.addWidget(words)
        self.body.addStretch(1)
        playback.baking.speed_chosen.connect(self._show_speed)
        self._show_speed()

    def show_steps(self, steps: tuple[LessonStep, ...]) -> None:
        """Show the steps of a groove; the step one is at stays."""
        self.steps = steps
        self.at = max(0, min(self.at, len(steps) - 1))
        clear_layout(self._rows)
        for number, step in enumerate(steps):
            made = Sentence(step.title, step.text, number == self.at)
            made.clicked.connect(lambda _=False, number=number: self.go_to(number))
            made.pointed.connect(lambda on, step=step: self.lit.emit(step.adds if on else self._shown()))
            self._rows.addWidget(made)
        self.back.setEnabled(self.at > 0)
        self.on.setEnabled(self.at + 1 < len(steps))
        if self.isVisible():
            self._use()

    def go(self, by: int) -> None:
        """Go a step on or back."""
        self.go_to(self.at + by)

    def go_to(self, number: int) -> None:
        """Go to a step, and play up to it."""
        self.at = max(0, min(number, len(self.steps) - 1))
        self.show_steps(self.steps)
        if not self._playback.transport.playing:
            self._playback.transport.play()

    def showEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._use()

    def hideEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._playback.baking.set_only(None)
        self.lit.emit(())

    def _shown(self) -> tuple[int, ...]:
        if not self.steps:
            return ()
        step = self.steps[self.at]
        return step.adds if self.alone.isChecked() else step.up_to

    def _use(self) -> None:
        self.lit.emit(self._shown())
        self._playback.baking.set_only(frozenset(self._shown()) if self.steps else None)

    def _set_speed(self, percent: int) -> None:
        self._playback.baking.set_speed(percent / 100.0)
        self._show_speed()

    def _show_speed(self) -> None:
        self.speed.offer([(percent, f"{percent} %") for percent in SPEEDS], round(100 * self._playback.baking.speed))
