"""Baking: keeps what the engine plays in step with the document and with how it is listened to."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.project.project_state import ProjectSound
from bompla.app.project.session import Session
from bompla.app.project.tasks import Task, Threads, Token
from bompla.engine.bounce import event_rows
from bompla.engine.host import Engine
from bompla.errors import EngineError
from bompla.groove.order import Passage, order_passages, wander_passages
from bompla.model.document import Document
from bompla.model.drums import Band
from bompla.render.events import FASTEST, SLOWEST, STRETCHED, Baked, BakeRequest, played_notes


def _bake(request: BakeRequest, token: Token) -> Baked:
    from bompla.render.bake import bake  # brings what shapes and stretches sound, which the window need not wait for

    baked = bake(request, token.check)
    event_rows(baked)  # here, so that the window need not
    return baked


@dataclass(frozen=True)
class Listened:
    """What of a sound is listened to: a share of its drums, a band of its original, some hits, some bars; of another sound, all of it."""

    of: ProjectSound | None = None
    drums_share: float = 0.0
    band: Band | None = None
    only: frozenset[int] | None = None
    bars: tuple[int, int] = (0, 0)


def _speed_of(request: BakeRequest) -> tuple[float, str]:
    return request.speed, request.way


class Baking(QObject):
    """Says what plays and how, and has it baked: one request at a time, and the last one last.

    `baked_changed` tells that the engine has other sounds or hits, `speed_chosen` that another speed is
    wanted, `bars_changed` that other bars loop, `speed_changed` carries the speed before and the one that is heard now.
    """

    baked_changed = pyqtSignal()
    speed_changed = pyqtSignal(float, float)
    speed_chosen = pyqtSignal()
    bars_changed = pyqtSignal()

    def __init__(self, session: Session, engine: Engine, threads: Threads, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._engine, self._threads = session, engine, threads
        self.speed, self.way = 1.0, STRETCHED
        self.sequence = "variation"
        self._listened = Listened()
        self.baked: Baked | None = None
        self.playing_passages: tuple[Passage, ...] = ()
        self._baking = False
        self._task: Task | None = None
        self._under_way: BakeRequest | None = None
        self._newest: BakeRequest | None = None
        session.project.sound_changed.connect(self._opened)
        session.store.document_changed.connect(lambda _: self.refresh())
        session.shown.changed.connect(self._mutes_changed)

    @property
    def listened(self) -> Listened:
        """What of the sound that is worked on is listened to."""
        sound = self._session.project.sound
        return self._listened if self._listened.of is sound else Listened(sound)

    def _hear(self, **what: Any) -> bool:
        """Listen to something else of it; False where that is so already."""
        wanted = replace(self.listened, **what)
        changed, self._listened = wanted != self.listened, wanted
        return changed

    @property
    def busy(self) -> bool:
        """Whether what the engine has is not what is wanted yet."""
        return self._baking

    def set_speed(self, speed: float, way: str | None = None) -> None:
        """Play slower or faster at the same pitch, or with the original going along in another of `WAYS`."""
        speed = max(SLOWEST, min(FASTEST, speed))
        way = self.way if way is None else way
        if (speed, way) != (self.speed, self.way):
            self.speed, self.way = speed, way
            self.speed_chosen.emit()
            self.refresh()

    def set_sequence(self, sequence: str) -> None:
        """Play the shown `variation`, the `order`, or what `wander` makes."""
        if sequence != self.sequence:
            self.sequence = sequence
            self.refresh()

    def set_drums_share(self, share: float) -> None:
        """Choose what of a mix is heard as the original: 1 only its drums, 0 all of it, -1 what is left without them."""
        if self._hear(drums_share=share):
            self.refresh()

    def set_band(self, band: Band | None) -> None:
        """Hear only one band of the original, that of a lane's drum; all of it with None."""
        if self._hear(band=band):
            self.refresh()

    def set_only(self, hit_ids: frozenset[int] | None) -> None:
        """Play only some hits of the shown variation, by id; all of them with None."""
        if self._hear(only=hit_ids):
            self.refresh()

    def loop_bars(self, first: int, count: int) -> None:
        """Play only some bars of what plays, counted from 0; a count of 0 plays all."""
        self._hear(bars=(first, count) if count > 0 else (0, 0))
        self._send_bars()
        self.bars_changed.emit()

    def frames_per_sample(self, document: Document) -> float:
        """Return how many frames of the engine a sample of the source lasts, at the speed that is heard."""
        speed = self.baked.speed if self.baked is not None else 1.0
        return self._engine.sample_rate / document.source.sample_rate / speed

    def refresh(self) -> None:
        """Have what is wanted now baked; where something is being baked, after that, or in its place where its speed is another."""
        self._newest = self._request()
        if self._newest is None:
            return
        if not self._baking:
            self._start(self._newest)
        elif self._task is not None and self._under_way is not None and _speed_of(self._under_way) != _speed_of(self._newest):
            self._task.cancel()  # which goes on with the newest

    def _request(self) -> BakeRequest | None:
        document, sound, listened = self._session.store.document, self._session.project.sound, self.listened
        if document is None or sound is None:
            return None
        return BakeRequest(
            document, sound.clip, self._engine.sample_rate, borrowed=self._session.project.borrowed, passages=self._passages(document),
            speed=self.speed, way=self.way, drums_only=sound.drums_only, drums_share=listened.drums_share, band=listened.band,
            silenced=self._session.shown.silenced, only=listened.only, before=self.baked,
        )

    def _start(self, request: BakeRequest) -> None:
        self._baking = True

        def done(baked: Baked) -> None:
            self._take(request, baked)
            self._go_on(request)

        def fail(sentence: str) -> None:
            self._session.hub.trouble(sentence)
            self._go_on(request)

        self._under_way = request
        self._task = self._threads.run(_bake, replace(request, before=self.baked), done=done, failed=fail,
                                       cancelled=lambda: self._go_on(request))

    def _take(self, request: BakeRequest, baked: Baked) -> None:
        """Play what was baked, if it is still what is wanted; while a gesture goes on, what it passed through is heard, too."""
        newest = self._newest
        if request is not newest and not (newest is not None and self._session.store.previewing and newest.clip is request.clip):
            return
        before = self.baked
        try:
            self._engine.show(baked)
        except EngineError as error:
            self._session.hub.trouble(str(error))
            return
        self.baked, self.playing_passages = baked, request.passages
        self._tell(before, baked)

    def _go_on(self, request: BakeRequest) -> None:
        """Bake what was asked for meanwhile; the same again would only end the same way."""
        self._baking = False
        if self._newest is not None and self._newest is not request:
            self._start(self._newest)

    def _tell(self, before: Baked | None, baked: Baked) -> None:
        if before is None or before.beats != baked.beats:
            self._send_bars()
        document, clip = self._session.store.document, self._session.project.clip
        if document is not None and clip is not None:
            self._engine.set_zones(played_notes(document, clip, self._engine.sample_rate))
        if before is not None and before.speed != baked.speed:
            self.speed_changed.emit(before.speed, baked.speed)
        self.baked_changed.emit()

    def _passages(self, document: Document) -> tuple[Passage, ...]:
        """Return what plays as passages; none where it is the shown variation."""
        made = {"order": order_passages, "wander": wander_passages}.get(self.sequence)
        return made(document) if made is not None else ()

    def _send_bars(self) -> None:
        """Tell the engine which part of what plays that is; bars that are not there play all."""
        document, baked = self._session.store.document, self.baked
        total = baked.beats / baked.beats_per_bar if baked is not None else float(document.loop.bars) if document is not None else 1.0
        first, count = self.listened.bars
        if count <= 0 or first >= total:
            self._engine.set_span(0.0, 1.0)
        else:
            self._engine.set_span(first / total, min(1.0, (first + count) / total))

    def _mutes_changed(self) -> None:
        if self._newest is not None and self._newest.silenced != self._session.shown.silenced:
            self.refresh()

    def _opened(self) -> None:
        self._send_bars()
        self.bars_changed.emit()
