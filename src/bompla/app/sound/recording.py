"""What is played by hand, recorded as it comes or taken back afterwards, and put into the pattern."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.project.session import Session
from bompla.engine.bounce import click_sounds
from bompla.engine.host import Engine
from bompla.groove.grid import quantised
from bompla.groove.takes import Strike, Takes, hits_from_strikes
from bompla.model.detected_pattern import pattern_beats, pattern_meter
from bompla.model.pattern_edits import add_played
from bompla.model.wording import counted


class Recorder(QObject):
    """Keeps the strikes of the last minutes, and those since `begin` apart.

    `speed` tells how fast is played; `changed` carries whether it records.
    """

    changed = pyqtSignal(bool)

    def __init__(self, session: Session, engine: Engine, speed: Callable[[], float], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._engine, self._speed = session, engine, speed
        self.takes = Takes()
        self.recording = False
        self.replacing = False
        self.input_quantise = 0.0
        self.count_in = True
        self.late_s: float | None = None
        self._recorded: list[Strike] = []

    @property
    def latency_s(self) -> float:
        """How late strikes arrive: what was measured, or what the device says of itself."""
        return self.late_s if self.late_s is not None else self._engine.state.latency_s

    def begin(self) -> bool:
        """Record from now on; False where nothing is open or it records already."""
        if self._session.store.document is None or self.recording:
            return False
        self.recording, self._recorded = True, []
        self.changed.emit(True)
        return True

    def counted_in(self) -> NDArray[np.float32]:
        """Return the clicks of a bar to count in, shape (frames, 2); no frames where that is not wanted."""
        document = self._session.store.document
        if document is None or not self.count_in:
            return np.zeros((0, 2), np.float32)
        beats = pattern_meter(document).beats_per_bar
        beat = round(60.0 / document.bpm / self._speed() * self._engine.sample_rate)
        sound = np.zeros((beat * beats, 2), np.float32)
        for n, click in enumerate([0] + [1] * (beats - 1)):
            part = click_sounds(self._engine.sample_rate)[click][:beat]
            sound[n * beat : n * beat + len(part)] += part
        return sound

    def add(self, strike: Strike) -> None:
        """Take what was just played."""
        self.takes.add(strike)
        if self.recording:
            self._recorded.append(strike)

    def end(self) -> None:
        """Put what was recorded into the pattern, as one step."""
        if not self.recording:
            return
        self.recording = False
        self.changed.emit(False)
        strikes, self._recorded = self._recorded, []
        self.put_in([strike for strike in strikes if strike.beat is not None], "record")

    def capture(self) -> None:
        """Put what was played last into the pattern, though nobody pressed record."""
        phrase = self.takes.last_phrase()
        if not phrase:
            self._session.hub.note("Nothing was played on the pads in the last five minutes.")
            return
        self.put_in(phrase, "capture")
        self.takes.clear()

    def put_in(self, strikes: list[Strike], words: str) -> None:
        """Put strikes into the pattern as one step that is called by these words."""
        document = self._session.store.document
        if document is None or not strikes:
            return
        hits = hits_from_strikes(strikes, bpm=document.bpm * self._speed(), beats=pattern_beats(document), late_s=self.latency_s)
        if self.input_quantise > 0.0:
            steps = quantised([beat for _, beat, _, _ in hits], pattern_beats(document), compound=pattern_meter(document).compound)
            hits = [(pad_id, beat + self.input_quantise * (float(step) - beat), velocity, pitch)
                    for (pad_id, beat, velocity, pitch), step in zip(hits, steps, strict=True)]
        replacing = self.replacing
        self._session.store.edit(f"{words} {counted(len(hits), 'hit')}", lambda d: add_played(d, hits, replacing=replacing))
