"""Sounds heard beside whatever plays: a stretch of a sound, a seam, a file on the shelf."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject

from bompla.analysis.loop.seam import seamless
from bompla.app.messages import MessageHub
from bompla.app.project.jobs import Threads
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.engine.host import Engine
from bompla.errors import EngineError
from bompla.model.document import Document, Loop, Slice
from bompla.render.sounds import drum_key, for_listening, made_sound

MOST_PREVIEW_S = 30.0


class Previews(QObject):
    """Makes what is previewed off the interface thread; what is asked for last is what is heard."""

    def __init__(self, hub: MessageHub, engine: Engine, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub, self._engine = hub, engine
        self._threads = Threads(self)
        self._asked = 0

    @property
    def busy(self) -> bool:
        """Whether a sound is being made."""
        return self._threads.busy

    def close(self) -> None:
        """End all work."""
        self._threads.close()

    def play(self, clip: Clip, start: int, end: int, *, times: int = 1, speed: float = 1.0) -> None:
        """Play a stretch of any sound, so many times on end."""
        rate = self._engine.sample_rate

        def make() -> Any:
            sound = for_listening(clip, start, min(end, start + round(MOST_PREVIEW_S * clip.sample_rate)), rate, speed=speed)
            return np.tile(sound, (times, 1)) if times > 1 else sound

        self._make(make)

    def play_drum(self, document: Document, clip: Clip, piece: Slice, drum: str) -> None:
        """Play a drum of a slice without what sounds with it."""
        rate = self._engine.sample_rate
        self._make(lambda: made_sound(clip, drum_key(document, piece, drum), rate))

    def play_seam(self, clip: Clip, loop: Loop, reach: int, times: int) -> None:
        """Play so many samples before a loop's end and after its start on end, so many times."""
        part = seamless(clip, loop)
        reach = min(reach, len(part) // 2)
        joined = Clip(np.concatenate([part[-reach:], part[:reach]]), clip.sample_rate)
        self.play(joined, 0, joined.frames, times=times)

    def play_file(self, path: Path, *, speed_for: Callable[[Clip], float] | None = None) -> None:
        """Play a sound file."""
        rate = self._engine.sample_rate

        def make() -> Any:
            clip = read_clip(path)
            speed = speed_for(clip) if speed_for else 1.0
            return for_listening(clip, 0, min(clip.frames, round(MOST_PREVIEW_S * clip.sample_rate)), rate, speed=speed)

        self._make(make)

    def stop(self) -> None:
        """End what is previewed."""
        self._asked += 1
        self._engine.stop_preview()

    def _make(self, make: Callable[[], Any]) -> None:
        self._asked += 1
        wanted = self._asked
        self._threads.run(make, lambda sound: self._hear(wanted, sound), self._hub.trouble)

    def _hear(self, wanted: int, sound: Any) -> None:
        if wanted == self._asked:
            try:
                self._engine.preview(sound)
            except EngineError as error:
                self._hub.trouble(str(error))
