"""The document: everything a project holds, as one immutable value."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from typing import Literal

import msgspec

from bompla.errors import EditError
from bompla.model.beatmap import BeatMap
from bompla.model.drums import DRUMS, METERS, Meter
from bompla.model.loop import Loop, Tempo
from bompla.model.memo import LastMade
from bompla.model.shape import PLAIN, Shape
from bompla.model.stretches import Proposed, Stretch
from bompla.units import bpm_of, ms_to_samples

Origin = Literal["detected", "even", "hand"]

MIN_CUT_DISTANCE_MS = 5.0
MAX_CUT_DISTANCE_MS = 500.0
SAME_ATTACK_MS = 12.0
"""Places nearer than this are one attack: for hits, cuts and what is listened to alike."""

PADS_PER_PAGE = 16
PAD_COLUMNS = 4


class Heard(msgspec.Struct, frozen=True):
    """A drum recognised in a slice; `confidence` from 0 to 1, `velocity` from 1 to 127; it begins `late_ms` after the attack."""

    drum: str
    confidence: float
    velocity: int
    late_ms: float = 0.0

    @property
    def sure(self) -> bool:
        """Whether it is likely enough to be played."""
        return self.confidence >= DRUMS[self.drum].sure_from


class Cutting(msgspec.Struct, frozen=True):
    """Where a loop is cut by itself: at hits, at even steps, both, or, with neither, by hand alone.

    Hits are weighed by what is struck: `low`, `mid` and `high` from 0 to 2. Even steps are
    `even_beats` apart and go to the nearest attack within `pull_ms`.
    """

    hits: bool = True
    even: bool = False
    even_beats: float = 0.5
    pull_ms: float = 0.0
    min_distance_ms: float = MIN_CUT_DISTANCE_MS
    low: float = 1.0
    mid: float = 1.0
    high: float = 1.0


class Attack(msgspec.Struct, frozen=True):
    """A place where sound rises: the sample, the strength from 0 to 1, the drums heard there.

    `cut_sample` is the quiet sample just ahead of it, where a cut belongs. `clear_db` is how far
    the sound stands above what still rings from before, `levels` how loud it is by time and band, as `strike_levels` keeps them.
    """

    at_sample: int
    cut_sample: int
    strength: float
    heard: tuple[Heard, ...] = ()
    clear_db: float = 0.0
    levels: bytes = b""


class Cut(msgspec.Struct, frozen=True):
    """A boundary between slices, and what is known of the slice that begins there.

    `attack_sample` is where the sound of the slice begins to rise, at or just after the cut;
    `clear_db` how far it stands above what still rings from before. `kept` names the doubts that
    the user has looked at and found well, `before` the drums that it had until it was changed, while that is offered.
    `levels` are those of its attack; none for a cut that was not heard as one.
    """

    id: int
    at_sample: int
    attack_sample: int
    strength: float
    origin: Origin
    locked: bool = False
    name: str = ""
    heard: tuple[Heard, ...] = ()
    left_out: bool = False
    clear_db: float = 0.0
    kept: tuple[str, ...] = ()
    before: tuple[str, ...] = ()
    levels: bytes = b""


class Slice(msgspec.Struct, frozen=True):
    """The sound from one cut to the next, or to the loop's end; `number` counts from 1."""

    number: int
    cut: Cut
    end_sample: int

    @property
    def start_sample(self) -> int:
        """Where the slice begins in the source."""
        return self.cut.at_sample


class Source(msgspec.Struct, frozen=True):
    """The sound file a project is made from; `path` is where it was read, if it was a file."""

    name: str
    content_hash: str
    sample_rate: int
    channels: int
    frames: int
    path: str = ""


class TempoReading(msgspec.Struct, frozen=True):
    """One way to read the region: its tempo, bars and meter, and how well it fits, from 0 to 1."""

    bpm: float
    bars: float
    meter: str
    score: float


class Layer(msgspec.Struct, frozen=True):
    """A slice on a pad: its cut and attack, the velocity it was played at, the highest it answers to.

    Where `of` is the content hash of a borrowed sound, that sound is on the pad, and places are its own.
    """

    at_sample: int
    attack_sample: int
    velocity: int
    up_to: int
    of: str = ""


class Borrowed(msgspec.Struct, frozen=True):
    """A sound from another file that a pad plays, at the source's rate."""

    name: str
    content_hash: str
    frames: int


class Pad(msgspec.Struct, frozen=True, rename={"edited": "own"}):
    """A pad of the kit; `slot` counts from the lower left, four to a row.

    Its layers are in order of the highest velocity they answer to; those of one height take turns.
    A pad that was changed by hand (`edited`) stays when the kit is made anew. `stacked` is the id of a pad
    that sounds with it, 0 for none. `keys` are the lowest and highest note that play it at their pitch,
    its own note at its own; (0, 0) where only its note does. `hardest` is how hard its drum is struck at most in the loop, 0 where that
    is not known: it sounds little louder than that, however hard it is struck. `sound_edited` says that its slices, shape or level are
    no longer as they were made; `remainder` that it stands for slices in which no drum is sure.
    """

    id: int
    slot: int
    drum: str
    name: str
    note: int
    level_db: float = 0.0
    layers: tuple[Layer, ...] = ()
    shape: Shape = PLAIN
    edited: bool = False
    stacked: int = 0
    keys: tuple[int, int] = (0, 0)
    hardest: int = 0
    sound_edited: bool = False
    remainder: bool = False

    @property
    def choke_set(self) -> int:
        """The set whose pads silence each other, 0 for none."""
        return DRUMS[self.drum].choke_set if self.shape.choke < 0 else self.shape.choke

    @property
    def shared_how(self) -> str:
        """How several slices share the pad: by how hard it is struck, or, where all answer to one velocity, in turn."""
        return "soft to hard" if len({layer.up_to for layer in self.layers}) > 1 else "in turn"

    def layer_for(self, velocity: int, turn: int = 0) -> Layer | None:
        """Return the layer that answers to a velocity at the pad's so-manyth hit, None where the pad is empty."""
        if not self.layers:
            return None
        up_to = next((layer.up_to for layer in self.layers if velocity <= layer.up_to), self.layers[-1].up_to)
        same = [layer for layer in self.layers if layer.up_to == up_to]
        return same[turn % len(same)]


class Hit(msgspec.Struct, frozen=True):
    """A hit of a pattern: when, in beats from the loop's start, on which pad, how hard (1 to 127).

    It is `pitch` semitones off its pad's, let go after `length_beats` (0 lets it ring), and plays in `chance`
    of the passes, 0 to 1. It sounds `gain_db` louder than its velocity says. `moment` is the attack of the cut that it was detected in,
    in samples, -1 for one of none; see `model.moments`.
    A hit outside the loop is kept, and neither shown nor played until the loop reaches it again.
    """

    id: int
    pad_id: int
    at_beats: float
    velocity: int
    pitch: float = 0.0
    length_beats: float = 0.0
    chance: float = 1.0
    gain_db: float = 0.0
    moment: int = -1


class Feel(msgspec.Struct, frozen=True):
    """Timing and accent by step of a bar, apart from which hits are played, as taken from a groove.

    `late` holds for each of `steps` steps how far behind it a hit falls, in beats; `accent` how hard
    against the middle, 1 for as hard.
    """

    name: str
    steps_per_beat: int
    late: tuple[float, ...]
    accent: tuple[float, ...]


class FeelLayer(msgspec.Struct, frozen=True):
    """How a pattern is felt: heard and shown at once, and no part of its hits until it is written in.

    `swing` is where the second of two steps of `swing_beats` falls, in percent: 50 is straight. `pull`
    is how far hits are drawn to the grid, 0 to 1. `accent` deepens or flattens how loudness
    differs, 1 leaves it. `loose_ms` is drawn by chance from `seed`. `ahead_ms` moves pads, by id; late
    is positive. Of `feel`, `timing` and `force` say how much, 0 to 1; it lies over
    the pads in `lanes`, by id, or over all for none.
    """

    swing: float = 50.0
    swing_beats: float = 0.5
    pull: float = 0.0
    accent: float = 1.0
    loose_ms: float = 0.0
    seed: int = 1
    ahead_ms: tuple[tuple[int, float], ...] = ()
    feel: Feel | None = None
    timing: float = 0.0
    force: float = 0.0
    lanes: tuple[int, ...] = ()


class Variation(msgspec.Struct, frozen=True):
    """One pattern of the loop; its hits are in order of time, before the layer of feel; `bars` is 0 for as long as the loop.

    `meter_name` is a meter of its own, of the same beat as the loop's; empty for the loop's. `untouched` says what moments play that
    stand as they were detected: the `loop` itself, or the `pads`.
    """

    letter: str
    name: str
    hits: tuple[Hit, ...] = ()
    layer: FeelLayer = FeelLayer()
    note: str = ""
    bars: int = 0
    meter_name: str = ""
    untouched: Literal["loop", "pads"] = "loop"


class OrderStep(msgspec.Struct, frozen=True):
    """A variation in the order, by its letter, and how often it plays there."""

    letter: str
    repeats: int = 1


class WanderRule(msgspec.Struct, frozen=True):
    """When a variation hands over: how likely, 0 to 1, each time it has played so many beats, and to which; to any without `to`."""

    letter: str
    chance: float = 0.5
    after_beats: float = 4.0
    to: tuple[str, ...] = ()


class Wander(msgspec.Struct, frozen=True):
    """An order by chance: its seed, how many bars a run has, and the rules of variations that have their own."""

    seed: int = 1
    bars: int = 16
    rules: tuple[WanderRule, ...] = ()


class EarRound(msgspec.Struct, frozen=True):
    """A groove written down by ear, as a variation, by its letter: how long it took, hints, and, once it is `answered`, how it went.

    Of `of` hits `right` were found without help; `extra` ones were placed where there is none.
    """

    letter: str
    seconds: float = 0.0
    hints: int = 0
    answered: bool = False
    right: int = 0
    extra: int = 0
    of: int = 0


class Treatment(msgspec.Struct, frozen=True):
    """One treatment of a colour: its kind, whether it is on, and its values by key; a dictionary that is never changed in place."""

    kind: str
    on: bool = False
    values: dict[str, float] = {}


class Colour(msgspec.Struct, frozen=True):
    """The sound treatment of the whole kit: its treatments in order, with all pads tuned, and a share left dry."""

    on: bool = False
    tune: float = 0.0
    dry: float = 0.0
    chain: tuple[Treatment, ...] = ()


class Document(msgspec.Struct, frozen=True, rename={"set_aside": "put_by"}):
    """A whole project. Cuts and hits are sorted by time; edits live in the modules beside this one.

    `tempo` is the beat that the loop is counted by.
    `attacks` are all places where the analysis saw sound rise, of which those at least as strong
    as `threshold` became cuts; `set_aside` are cuts that are not made now, and what was said of them. `offers` are cuts whose hits the
    pattern does not have yet. `tail` is
    how slices go on past their end on pads that leave it to the kit, one of `TAILS`. Of a recording of several tempos
    `stretches` are its parts, and `proposed` loops of them, best first.
    """

    title: str
    source: Source
    loop: Loop
    tempo: Tempo = Tempo()
    readings: tuple[TempoReading, ...] = ()
    tempo_confidence: float = 0.0
    attacks: tuple[Attack, ...] = ()
    threshold: float = 0.1
    cutting: Cutting = Cutting()
    cuts: tuple[Cut, ...] = ()
    pads: tuple[Pad, ...] = ()
    variations: tuple[Variation, ...] = ()
    offers: tuple[int, ...] = ()
    tail: str = "ring"
    colour: Colour = Colour()
    order: tuple[OrderStep, ...] = ()
    wander: Wander = Wander()
    borrowed: tuple[Borrowed, ...] = ()
    by_ear: tuple[EarRound, ...] = ()
    set_aside: tuple[Cut, ...] = ()
    stretches: tuple[Stretch, ...] = ()
    proposed: tuple[Proposed, ...] = ()
    shown: int = 0
    next_id: int = 1

    @property
    def bpm(self) -> float:
        """The tempo of the loop in beats per minute."""
        return bpm_of(beats=self.loop.length_beats, seconds=self.loop.frames / self.source.sample_rate)

    @property
    def beat_frames(self) -> float:
        """How long a beat is in samples by the tempo that holds, which the loop's ends may be off by a little."""
        return 60.0 / self.tempo.bpm * self.source.sample_rate if self.tempo.bpm > 0.0 else self.loop.beat_frames

    @property
    def beat_map(self) -> BeatMap:
        """The map between samples of the source and beats of the loop."""
        return BeatMap.steady(self.loop.start_sample, self.loop.end_sample, self.loop.length_beats)

    def beats_of(self, variation: Variation) -> float:
        """Return how long a variation is in beats."""
        return float(variation.bars * self.meter_of(variation).beats_per_bar) if variation.bars else self.loop.length_beats

    def meter_of(self, variation: Variation) -> Meter:
        """Return the meter of a variation: its own, where the loop's beat is its beat too, or else the loop's."""
        own = METERS.get(variation.meter_name, self.loop.meter)
        return own if own.beat_quarters == self.loop.meter.beat_quarters else self.loop.meter

    def slices(self) -> tuple[Slice, ...]:
        """Return the slices of the loop in order; they tile it from the first cut to its end."""
        return _SLICES.get((self.cuts, self.loop), self._made_slices)

    def _made_slices(self) -> tuple[Slice, ...]:
        start, end = self.loop.start_sample, self.loop.end_sample
        inside = [cut for cut in self.cuts if start <= cut.at_sample < end]
        ends = [*(cut.at_sample for cut in inside[1:]), end]
        return tuple(Slice(n, cut, stop) for n, (cut, stop) in enumerate(zip(inside, ends, strict=False), 1))

    def slice_at(self, at_sample: int) -> Slice | None:
        """Return the slice that a sample lies in, None outside of all."""
        slices = self.slices()
        index = bisect_right(slices, at_sample, key=lambda s: s.start_sample) - 1
        return slices[index] if index >= 0 and at_sample < slices[index].end_sample else None

    def cut(self, cut_id: int) -> Cut:
        """Return a cut by id; raises EditError where there is none."""
        for cut in self.cuts:
            if cut.id == cut_id:
                return cut
        raise EditError("That cut is no longer there.")

    def pad(self, pad_id: int) -> Pad:
        """Return a pad by id; raises EditError where there is none."""
        for pad in self.pads:
            if pad.id == pad_id:
                return pad
        raise EditError("That pad is no longer there.")

    def layer_bounds(self, layer: Layer) -> tuple[int, int]:
        """Return where a layer's sound starts and ends: to the next cut or the loop's end, or all of a borrowed one."""
        if layer.of:
            return 0, next((one.frames for one in self.borrowed if one.content_hash == layer.of), 0)
        after = bisect_left(self.cuts, layer.at_sample + self.min_cut_frames, key=lambda cut: cut.at_sample)
        end = self.cuts[after].at_sample if after < len(self.cuts) else self.loop.end_sample
        if layer.at_sample < self.loop.end_sample < end:
            end = self.loop.end_sample
        end = min(end, self.source.frames)
        return layer.at_sample, max(end, layer.at_sample)

    @property
    def min_cut_frames(self) -> int:
        """The smallest distance of two cuts, in samples."""
        return max(1, ms_to_samples(self.cutting.min_distance_ms, self.source.sample_rate))


_SLICES: LastMade[tuple[Slice, ...]] = LastMade(6)
