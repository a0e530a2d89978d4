"""Pads and slices played by hand, and what comes in from MIDI."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QObject, pyqtSignal

from bompla.app.project.session import Session
from bompla.app.sound.bake import Baking
from bompla.app.sound.recording import Recorder
from bompla.engine.host import Engine, EngineState
from bompla.engine.layout import sends_of
from bompla.groove.takes import Strike
from bompla.model.detected_pattern import pattern_beats
from bompla.model.document import Slice
from bompla.render.events import SoundKey, sound_key, strike_gain, with_stacked
from bompla.units import ms_to_samples


class Pads(QObject):
    """Strikes pads and auditions slices; `struck` carries a pad that was played, by whatever hand, and how hard."""

    struck = pyqtSignal(int, int)

    def __init__(self, session: Session, engine: Engine, baking: Baking, recorder: Recorder, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._engine, self._baking, self._recorder = session, engine, baking, recorder
        self._turns: dict[int, int] = {}
        self._last: dict[tuple[str, int], SoundKey] = {}
        self._learner: tuple[int, Callable[[int], object]] | None = None

    def strike(self, pad_id: int, velocity: int = 100, pitch: float = 0.0) -> bool:
        """Play a pad, some semitones off if wanted; False where it has no sound."""
        document, clip = self._session.store.document, self._session.project.clip
        if document is None or clip is None:
            return False
        pads = {pad.id: pad for pad in document.pads}
        sounded = False
        for pad in with_stacked(pads, pads[pad_id]):
            layer = pad.layer_for(velocity, self._turns.get(pad.id, 0))
            self._turns[pad.id] = self._turns.get(pad.id, 0) + 1
            if layer is None:
                continue
            shape = pad.shape
            strike = partial(
                self._engine.strike, pad=pad.id, choke=pad.choke_set, gain=strike_gain(pad, layer, velocity), velocity=velocity,
                sends=sends_of(shape.room, shape.echo, kick=pad.drum == "kick", output=shape.output),
                release=ms_to_samples(shape.release_ms, self._engine.sample_rate) if shape.gated else 0, told=pad.id == pad_id)
            key = sound_key(document, pad, layer, clip, pitch)
            if strike(key):
                self._last[clip.content_hash, pad.id] = key
                sounded = True
            elif (clip.content_hash, pad.id) in self._last:  # until the changed sound is made, the pad plays the one it had
                sounded |= strike(self._last[clip.content_hash, pad.id])
        return sounded

    def let_go(self, pad_id: int) -> None:
        """End what a pad plays, where it sounds only as long as it is held down."""
        document = self._session.store.document
        pads = {pad.id: pad for pad in document.pads} if document is not None else {}
        for one in with_stacked(pads, pads[pad_id]) if pad_id in pads else ():
            self._engine.let_go(one.id)
        if pad_id not in pads:  # it is gone since, and may still sound
            self._engine.let_go(pad_id)

    def audition(self, piece: Slice) -> None:
        """Play one slice of the original."""
        self.audition_span(piece.start_sample, piece.end_sample)

    def audition_span(self, start_sample: float, end_sample: float) -> None:
        """Play a stretch of the loop as it is in the original."""
        document = self._session.store.document
        if document is not None:
            rate = self._baking.frames_per_sample(document)
            start = max(0.0, start_sample - document.loop.start_sample)
            end = min(float(document.loop.frames), end_sample - document.loop.start_sample)
            self._engine.audition(round(start * rate), round(max(0.0, end - start) * rate))

    def learn_note(self, told: Callable[[int], object]) -> None:
        """Tell the next MIDI note that comes in, once."""
        self._learner = (self._engine.state.last_note, told)

    def look(self, state: EngineState) -> None:
        """Take what the engine says was played by hand."""
        document, baked = self._session.store.document, self._baking.baked
        for at_frame, position, pad_id, velocity, playing, pitch in self._engine.played():
            beat = None
            if playing and baked is not None and document is not None:
                beat = position / baked.total_frames * baked.beats % pattern_beats(document)
            self._recorder.add(Strike(at_frame / self._engine.sample_rate, beat, pad_id, max(1, velocity), float(pitch)))
            self.struck.emit(pad_id, velocity)
        if self._learner is not None and state.last_note != self._learner[0]:
            told, self._learner = self._learner[1], None
            told(state.last_note & 127)
