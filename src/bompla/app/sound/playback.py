"""What is heard: keeps the engine in step with the document, and the window in step with the engine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from bompla.analysis.separation.mix import mixed
from bompla.app.project.jobs import Threads
from bompla.app.project.session import Session
from bompla.app.sound.previews import Previews
from bompla.app.sound.recording import Recorder
from bompla.audio.clip import Clip
from bompla.engine.bounce import bounce_rebuilt, coloured, matching_gain
from bompla.engine.host import Engine, EngineState
from bompla.engine.layout import sends_of
from bompla.engine.mixer import PADS_END
from bompla.errors import EngineError
from bompla.groove.bounce_analysis import heard_from_original, heard_from_pattern
from bompla.groove.order import Passage, order_passages, passage_hits, wander_passages
from bompla.groove.takes import Strike
from bompla.model.document import Document, Slice
from bompla.model.drums import BANDS_HZ, Band
from bompla.render.band import only_band
from bompla.render.sounds import STRETCHED, Baked, Baker, played_notes, sound_key, strike_gain, with_stacked
from bompla.render.stretch import FASTEST, SLOWEST
from bompla.units import ms_to_samples

FRAME_MS = 16
WATCH_EVERY = 16
MATCH_DELAY_MS = 250


class Playback(QObject):
    """Plays original, rebuilt and pads, and tells where the playhead is.

    `moved` carries the playhead as a sample of the source, `state_changed` whether it plays,
    `device_changed` what plays, `struck` a pad that was played by hand and how hard.
    """

    moved = pyqtSignal(float)
    state_changed = pyqtSignal(bool)
    device_changed = pyqtSignal(str)
    shown = pyqtSignal()
    struck = pyqtSignal(int, int)

    def __init__(self, session: Session, engine: Engine, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.engine = engine
        self._threads = Threads(self)
        self.previews = Previews(session.hub, engine, self)
        self.recorder = Recorder(session, engine, lambda: self.speed, self)
        self._turns: dict[int, int] = {}
        self.drums_share = 0.0
        self.speed, self.way = 1.0, STRETCHED
        self.sequence = "variation"
        self.playing_passages: tuple[Passage, ...] = ()
        self.bars = (0, 0)
        self._silenced: frozenset[int] = frozenset()
        self._mixed: tuple[Clip, Clip | None] | None = None
        self.band: Band | None = None
        self._baker = Baker(engine.sample_rate)
        self._baked: Baked | None = None
        self._baking = False
        self._stale = False
        self.blend = 0.0
        self.equal_loudness = True
        self.looping = True
        self.click = False
        self._match = 1.0
        self._playing = False
        self._ticks = 0
        self._said = ""
        self._learner: tuple[int, Callable[[int], None]] | None = None
        self._last: tuple[bool, int] = (False, -1)
        self._match_timer = QTimer(self)
        self._match_timer.setSingleShot(True)
        self._match_timer.setInterval(MATCH_DELAY_MS)
        self._match_timer.timeout.connect(self._measure_match)
        self._timer = QTimer(self)
        self._timer.setInterval(FRAME_MS)
        self._timer.timeout.connect(self._tick)
        session.document_changed.connect(self._document_changed)
        session.opened.connect(self._opened)

    def start(self) -> None:
        """Start the engine."""
        try:
            self.engine.start()
        except EngineError as error:
            self._session.hub.trouble(str(error))
        self._timer.start()

    def close(self) -> None:
        """End the engine."""
        self._timer.stop()
        self._match_timer.stop()
        self._threads.close()
        self.previews.close()
        self.engine.shut()

    @property
    def playing(self) -> bool:
        """Whether it plays, or is about to."""
        return self._playing

    @property
    def busy(self) -> bool:
        """Whether sounds are being made that the engine does not have yet."""
        return self._baking or self._threads.busy or self.previews.busy

    def toggle(self) -> None:
        """Play or stop."""
        if self._playing:
            self.stop()
        else:
            self.play()

    def play(self, delay_frames: int = 0) -> None:
        """Play from the playhead on, so many frames from now."""
        if self._session.document is None:
            return
        self._playing = True
        self.engine.play(delay_frames)
        self.state_changed.emit(True)

    def record(self) -> None:
        """Begin to record what is played by hand, after a bar counted in where that is wanted; stopping ends it."""
        if self.recorder.begin() and not self._playing:
            counted = self.recorder.counted_in()
            if len(counted):
                self.engine.preview(counted)
            self.play(len(counted))

    def use_device(self, device: str, block_frames: int, midi_input: str, channels: int = 2) -> None:
        """Play to another device, or listen to another MIDI input."""
        try:
            self.engine.use(device=device, block_frames=block_frames, midi_input=midi_input, channels=channels)
        except EngineError as error:
            self._session.hub.trouble(str(error))

    def stop(self) -> None:
        """Stop at the playhead."""
        self.recorder.end()
        self._playing = False
        self.engine.stop()
        self.state_changed.emit(False)

    def seek(self, at_sample: float) -> None:
        """Move the playhead to a sample of the source."""
        document = self._session.document
        if document is not None:
            self.engine.seek(round((at_sample - document.loop.start_sample) * self._frames_per_sample(document)))

    def print_loop(self, what: str) -> None:
        """Make a new loop of the `rebuilt` pattern, or of the `original` through the colour, and add it to the project."""
        document, baked, passages = self._session.document, self._baked, self.playing_passages
        if document is None or baked is None:
            return
        name = f"{document.title} {'printed' if what == 'rebuilt' else 'coloured'}"

        def make() -> Any:
            if what == "rebuilt":
                clip = bounce_rebuilt(baked, passes=2)
                hits = passage_hits(document, passages) if passages else None
                return heard_from_pattern(document, clip, name, hits, baked.beats), clip
            clip = Clip(coloured(baked.original, baked.sample_rate, {**baked.colour, "on": True}), baked.sample_rate)
            return heard_from_original(document, clip, name), clip

        self._threads.run(make, lambda made: self._session.add_known(*made), self._session.hub.trouble)

    def set_looping(self, on: bool) -> None:
        """Choose whether the loop begins again at its end."""
        self.looping = on
        self.engine.set_looping(on)

    def set_click(self, on: bool) -> None:
        """Choose whether the beats are clicked."""
        self.click = on
        self.engine.set_click(on)

    def set_blend(self, share: float) -> None:
        """Set how much of the rebuilt groove is heard: 0 only the original, 1 only the rebuilt."""
        self.blend = max(0.0, min(1.0, share))
        self._send_balance()

    def set_equal_loudness(self, on: bool) -> None:
        """Choose whether original and rebuilt are brought to equal loudness."""
        self.equal_loudness = on
        self._send_balance()

    def strike(self, pad_id: int, velocity: int = 100, pitch: float = 0.0) -> bool:
        """Play a pad, some semitones off if wanted; False where it has no sound."""
        document, clip = self._session.document, self._session.clip
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
            sounded |= self.engine.strike(
                sound_key(document, pad, layer, clip, pitch), pad=pad.id % PADS_END, choke=pad.choke_set,
                gain=strike_gain(pad, layer, velocity), velocity=velocity,
                sends=sends_of(shape.room, shape.echo, kick=pad.drum == "kick", output=shape.output),
                release=ms_to_samples(shape.release_ms, self.engine.sample_rate) if shape.held else 0, told=pad.id == pad_id)
        return sounded

    def let_go(self, pad_id: int) -> None:
        """End what a pad plays, where it sounds only as long as it is held."""
        document = self._session.document
        if document is not None:
            for pad in with_stacked({pad.id: pad for pad in document.pads}, document.pad(pad_id)):
                self.engine.let_go(pad.id % PADS_END)

    def audition(self, piece: Slice) -> None:
        """Play one slice of the original."""
        self.audition_span(piece.start_sample, piece.end_sample)

    def audition_span(self, start_sample: float, end_sample: float) -> None:
        """Play a stretch of the loop as it is in the original."""
        document = self._session.document
        if document is not None:
            rate = self._frames_per_sample(document)
            start = max(0.0, start_sample - document.loop.start_sample)
            end = min(float(document.loop.frames), end_sample - document.loop.start_sample)
            self.engine.audition(round(start * rate), round(max(0.0, end - start) * rate))

    def learn_note(self, told: Callable[[int], None]) -> None:
        """Tell the next MIDI note that comes in, once."""
        self._learner = (self.engine.state.last_note, told)

    def set_drums_share(self, share: float) -> None:
        """Choose what of a mix is heard as the original: 1 only its drums, 0 all of it, -1 what is left without them."""
        if share != self.drums_share:
            self.drums_share = share
            self._mixed = None
            document = self._session.document
            if document is not None:
                self._document_changed(document)

    def _original(self, band: Band | None) -> Clip | None:
        """Return what is heard as the original where it is not the whole sound."""
        sound = self._session.opened_sound
        if sound is None:
            return None
        made = None
        if self.drums_share != 0.0 and sound.drums_only is not None:
            made = Clip(mixed(sound.clip.samples, sound.drums_only.samples, self.drums_share), sound.clip.sample_rate)
        if band is not None:
            made = only_band(made or sound.clip, *BANDS_HZ[band])
        return made

    def set_band(self, band: Band | None) -> None:
        """Hear only one band of the original, that of a lane's drum; all of it with None."""
        if band != self.band:
            self.band, self._mixed = band, None
            document = self._session.document
            if document is not None:
                self._document_changed(document)

    def playhead_sample(self) -> float:
        """Return where the playhead is, as a sample of the source."""
        document = self._session.document
        if document is None:
            return 0.0
        return document.loop.start_sample + self.engine.state.position / self._frames_per_sample(document) % document.loop.frames

    def pattern_sample(self) -> float:
        """Return where the playhead is in what plays, which may be longer than the loop, as a sample counted from the loop's start on."""
        document = self._session.document
        if document is None:
            return 0.0
        return document.loop.start_sample + self.engine.state.position / self._frames_per_sample(document)

    def set_sequence(self, sequence: str) -> None:
        """Play the shown `variation`, the `order`, or what `wander` makes."""
        if sequence != self.sequence:
            self.sequence = sequence
            document = self._session.document
            if document is not None:
                self._document_changed(document)

    def _passages(self, document: Document) -> tuple[Passage, ...]:
        """Return what plays as passages; none where it is the shown variation."""
        made = {"order": order_passages, "wander": wander_passages}.get(self.sequence)
        return made(document) if made is not None else ()

    def _frames_per_sample(self, document: Document) -> float:
        """Return how many frames of the engine a sample of the source lasts, at the speed that is heard."""
        speed = self._baked.speed if self._baked is not None else 1.0
        return self.engine.sample_rate / document.source.sample_rate / speed

    def set_speed(self, speed: float, way: str | None = None) -> None:
        """Play slower or faster at the same pitch, or with the original going along in another of `WAYS`."""
        speed = max(SLOWEST, min(FASTEST, speed))
        way = self.way if way is None else way
        if (speed, way) != (self.speed, self.way):
            self.speed, self.way = speed, way
            document = self._session.document
            if document is not None:
                self._document_changed(document)

    def set_silenced(self, pad_ids: frozenset[int]) -> None:
        """Leave pads out of what is heard of the pattern."""
        if pad_ids != self._silenced:
            self._silenced = pad_ids
            document = self._session.document
            if document is not None:
                self._document_changed(document)

    def loop_bars(self, first: int, count: int) -> None:
        """Play only some bars of what plays, counted from 0; a count of 0 plays all."""
        self.bars = (first, count) if count > 0 else (0, 0)
        self._send_bars()

    def _send_bars(self) -> None:
        """Tell the engine which part of what plays that is; bars that are not there play all."""
        document, baked = self._session.document, self._baked
        total = baked.beats / baked.beats_per_bar if baked is not None else float(document.loop.bars) if document is not None else 1.0
        first, count = self.bars
        if count <= 0 or first >= total:
            self.engine.set_span(0.0, 1.0)
        else:
            self.engine.set_span(first / total, min(1.0, (first + count) / total))

    def _opened(self) -> None:
        if self._playing:
            self.stop()
        self.drums_share, self._mixed, self.band = 0.0, None, None
        self.loop_bars(0, 0)
        self.recorder.takes.clear()
        self.engine.seek(0)
        self._match = 1.0

    def _document_changed(self, _document: Document) -> None:
        self._stale = True
        if not self._baking:
            self._bake()

    def _bake(self) -> None:
        document, clip = self._session.document, self._session.clip
        if document is None or clip is None:
            return
        self._stale, self._baking = False, True
        band, borrowed = self.band, dict(self._session.borrowed)
        speed, way, silenced, passages = self.speed, self.way, self._silenced, self._passages(document)

        def make() -> Baked:
            if self._mixed is None or self._mixed[0] is not clip:
                self._mixed = (clip, self._original(band))
            baked = self._baker.bake(document, clip, self._mixed[1], speed=speed, way=way, passages=passages, borrowed=borrowed)
            heard = tuple(event for event in baked.events if event.pad_id not in silenced)
            return baked if len(heard) == len(baked.events) else replace(baked, events=heard)

        self._threads.run(make, lambda baked: self._take(baked, passages), self._fail)

    def _take(self, baked: Baked, passages: tuple[Passage, ...]) -> None:
        self._baking = False
        if self._stale:
            self._bake()
        before = self._baked.speed if self._baked is not None else baked.speed
        try:
            self.engine.show(baked)
        except EngineError as error:
            self._session.hub.trouble(str(error))
            return
        other_length = self._baked is None or self._baked.beats != baked.beats
        self._baked, self.playing_passages = baked, passages
        if other_length:
            self._send_bars()
        self._send_zones()
        if before != baked.speed:
            self.engine.seek(round(self.engine.state.position * before / baked.speed))
        self._match_timer.start()
        self.shown.emit()

    def _send_zones(self) -> None:
        """Tell the engine what MIDI notes play."""
        document, clip = self._session.document, self._session.clip
        if document is None or clip is None:
            return
        self.engine.set_zones(played_notes(document, clip, self.engine.sample_rate))

    def _take_strikes(self) -> None:
        """Take what the engine says was played by hand."""
        document, baked = self._session.document, self._baked
        for at_frame, position, pad_id, velocity, playing, pitch in self.engine.played():
            beat = None
            if playing and baked is not None and document is not None:
                beat = position / baked.total_frames * baked.beats % document.pattern_beats
            strike = Strike(at_frame / self.engine.sample_rate, beat, pad_id, max(1, velocity), float(pitch))
            self.recorder.add(strike)
            self.struck.emit(pad_id, velocity)

    def _fail(self, sentence: str) -> None:
        self._baking = False
        self._session.hub.trouble(sentence)

    def _measure_match(self) -> None:
        baked = self._baked
        if baked is not None:
            self._threads.run(lambda: matching_gain(baked), self._take_match, self._session.hub.trouble)

    def _take_match(self, gain: Any) -> None:
        self._match = float(gain)
        self._send_balance()

    def _send_balance(self) -> None:
        gain = self._match if self.equal_loudness else 1.0
        self.engine.set_balance(1.0 - self.blend, self.blend * gain)

    def _tick(self) -> None:
        self._ticks += 1
        if self._ticks % WATCH_EVERY == 0:
            sentence = self.engine.watch()
            if sentence:
                self._session.hub.trouble(sentence)
        self._take_strikes()
        state = self.engine.state
        self._tell_device(state)
        if self._learner is not None and state.last_note != self._learner[0]:
            told, self._learner = self._learner[1], None
            told(state.last_note & 127)
        if self._playing and not self.looping and not state.playing and self._last[0]:
            self._playing = False
            self.state_changed.emit(False)
        now = (state.playing, state.position)
        if now != self._last:
            self._last = now
            self.moved.emit(self.playhead_sample())

    def _tell_device(self, state: EngineState) -> None:
        text = f"{state.device}, {1000.0 * state.latency_s:.0f} ms" if state.ready else "starting sound"
        if text != self._said:
            self._said = text
            self.device_changed.emit(text)
            if state.message:
                self._session.hub.note(state.message)
