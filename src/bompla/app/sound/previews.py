"""Sounds heard beside whatever plays: a stretch of a sound, a seam, a file on the shelf."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.messages import MessageHub
from bompla.app.project.tasks import Newest, Threads, Token
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.engine.host import Engine
from bompla.errors import EngineError
from bompla.model.document import Document, Slice
from bompla.model.loop import Loop
from bompla.render.events import SoundKey, drum_key
from bompla.render.seam import seamless

MOST_PREVIEW_S = 30.0
MOST_KEPT = 8


@dataclass(frozen=True, eq=False)
class StretchRequest:
    """A stretch of a sound, so many times on end, at a speed."""

    clip: Clip
    start: int
    end: int
    times: int
    speed: float
    sample_rate: int

    @property
    def key(self) -> tuple[object, ...]:
        """All that the sound depends on."""
        return self.clip.content_hash, self.start, self.end, self.times, self.speed, self.sample_rate


@dataclass(frozen=True, eq=False)
class DrumRequest:
    """A drum of a slice, without what sounds with it."""

    clip: Clip
    sound: SoundKey
    sample_rate: int

    @property
    def key(self) -> tuple[object, ...]:
        """All that the sound depends on."""
        return self.clip.content_hash, self.sound, self.sample_rate


@dataclass(frozen=True)
class FileRequest:
    """A sound file at a speed, or from one second of it to another."""

    path: Path
    speed: float
    sample_rate: int
    part_s: tuple[float, float] | None = None

    @property
    def key(self) -> tuple[object, ...]:
        """A file may change: what was made of it is not kept."""
        return ()


def _stretch(request: StretchRequest, _token: Token) -> NDArray[np.float32]:
    from bompla.render.speed import for_listening

    last = min(request.end, request.start + round(MOST_PREVIEW_S * request.clip.sample_rate))
    sound = for_listening(request.clip, request.start, last, request.sample_rate, speed=request.speed)
    return np.tile(sound, (request.times, 1)) if request.times > 1 else sound


@dataclass(frozen=True, eq=False)
class PatternRequest:
    """The shown pattern of a document, played once."""

    document: Document
    clip: Clip
    borrowed: Mapping[str, Clip]
    sample_rate: int

    @property
    def key(self) -> tuple[object, ...]:
        """A pattern is soon another: what was made of it is not kept."""
        return ()


def _pattern(request: PatternRequest, token: Token) -> NDArray[np.float32]:
    from bompla.engine.bounce import bounce_ringing
    from bompla.render.bake import bake
    from bompla.render.events import BakeRequest

    baked = bake(BakeRequest(request.document, request.clip, request.sample_rate, request.borrowed), token.check)
    return bounce_ringing(baked).samples


@dataclass(frozen=True, eq=False)
class TurnsRequest:
    """A stretch of original and shown pattern in turn, from one beat of the loop to another."""

    document: Document
    clip: Clip
    borrowed: Mapping[str, Clip]
    first_beat: float
    last_beat: float
    sample_rate: int

    @property
    def key(self) -> tuple[object, ...]:
        """A pattern is soon another: what was made of it is not kept."""
        return ()


def _turns(request: TurnsRequest, token: Token) -> NDArray[np.float32]:
    from bompla.engine.turns import in_turn
    from bompla.render.events import BakeRequest

    baked = BakeRequest(request.document, request.clip, request.sample_rate, request.borrowed)
    return in_turn(baked, request.first_beat, request.last_beat, token.check)


def _drum(request: DrumRequest, _token: Token) -> NDArray[np.float32]:
    from bompla.render.bake import made_sound

    return made_sound(request.clip, request.sound, request.sample_rate)


def _file(request: FileRequest, token: Token) -> NDArray[np.float32]:
    clip = read_clip(request.path)
    token.check()
    start_s, end_s = request.part_s or (0.0, clip.duration_s)
    start, end = (max(0, min(clip.frames, round(at_s * clip.sample_rate))) for at_s in (start_s, end_s))
    return _stretch(StretchRequest(clip, start, end, 1, request.speed, request.sample_rate), token)


class Previews(QObject):
    """Makes what is previewed off the interface thread; what is asked for last is what is heard. The last few are kept.

    `alone` tells that something is to be heard that would make no sense beside a loop that plays.
    """

    alone = pyqtSignal()

    def __init__(self, hub: MessageHub, engine: Engine, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._hub, self._engine = hub, engine
        self._threads = Threads(self)
        self._newest = Newest()
        self._kept: dict[tuple[object, ...], NDArray[np.float32]] = {}

    @property
    def busy(self) -> bool:
        """Whether a sound is being made."""
        return self._threads.busy

    def close(self) -> None:
        """End all work."""
        self._threads.close()

    def play(self, clip: Clip, start: int, end: int, *, times: int = 1, speed: float = 1.0, alone: bool = False) -> None:
        """Play a stretch of any sound, so many times on end; beside what plays, or `alone`."""
        if alone:
            self.alone.emit()
        self._hear(_stretch, StretchRequest(clip, start, end, times, speed, self._engine.sample_rate))

    def play_drum(self, document: Document, clip: Clip, piece: Slice, drum: str) -> None:
        """Play a drum of a slice without what sounds with it."""
        self._hear(_drum, DrumRequest(clip, drum_key(document, piece, drum), self._engine.sample_rate))

    def play_seam(self, clip: Clip, loop: Loop, reach: int, times: int) -> None:
        """Play so many samples before a loop's end and after its start on end, so many times."""
        part = seamless(clip, loop)
        reach = min(reach, len(part) // 2)
        joined = Clip(np.concatenate([part[-reach:], part[:reach]]), clip.sample_rate)
        self.play(joined, 0, joined.frames, times=times, alone=True)

    def play_pattern(self, document: Document, clip: Clip | None, borrowed: Mapping[str, Clip]) -> None:
        """Play the shown pattern of a document once."""
        if clip is not None:
            self.alone.emit()
            self._hear(_pattern, PatternRequest(document, clip, borrowed, self._engine.sample_rate))

    def play_turns(self, document: Document, clip: Clip, borrowed: Mapping[str, Clip], first_beat: float, last_beat: float) -> None:
        """Play a stretch of the original and of the shown pattern in turn, equally loud."""
        self.alone.emit()
        self._hear(_turns, TurnsRequest(document, clip, borrowed, first_beat, last_beat, self._engine.sample_rate))

    def play_file(self, path: Path, *, speed: float = 1.0, part_s: tuple[float, float] | None = None) -> None:
        """Play a sound file, alone, or a part of it, such as a hit, beside what plays."""
        if part_s is None:
            self.alone.emit()
        self._hear(_file, FileRequest(path, speed, self._engine.sample_rate, part_s))

    def stop(self) -> None:
        """End what is previewed."""
        self._newest.cancel("preview")
        self._engine.stop_preview()

    def _hear(self, function: Any, request: StretchRequest | DrumRequest | FileRequest | PatternRequest | TurnsRequest) -> None:
        self._newest.cancel("preview")
        known = self._kept.get(request.key) if request.key else None
        if known is not None:
            self._send(known)
            return

        def done(sound: NDArray[np.float32]) -> None:
            if request.key:
                self._kept[request.key] = sound
                while len(self._kept) > MOST_KEPT:
                    del self._kept[next(iter(self._kept))]
            self._send(sound)

        self._newest.keep("preview", self._threads.run(function, request, done=done, failed=self._hub.trouble))

    def _send(self, sound: NDArray[np.float32]) -> None:
        try:
            self._engine.preview(sound)
        except EngineError as error:
            self._hub.trouble(str(error))
