"""The document: everything a project holds, as one immutable value."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from math import isfinite
from typing import Literal

import msgspec

from bompla.errors import EditError
from bompla.model.beatmap import BeatMap
from bompla.model.drums import DRUMS, METERS, Meter
from bompla.units import bpm_of, ms_to_samples

Origin = Literal["heard", "even", "hand"]

MIN_CUT_DISTANCE_MS = 5.0
PADS_PER_PAGE = 16
PAD_COLUMNS = 4


class Heard(msgspec.Struct, frozen=True):
    """A drum recognised in a slice; `confidence` from 0 to 1, `velocity` from 1 to 127."""

    drum: str
    confidence: float
    velocity: int


class Attack(msgspec.Struct, frozen=True):
    """A place where sound rises: the sample, the strength from 0 to 1, the drums heard there.

    `cut_sample` is the quiet sample just ahead of it, where a cut belongs. `clear_db` is how far
    the sound stands above what still rings from before.
    """

    at_sample: int
    cut_sample: int
    strength: float
    heard: tuple[Heard, ...] = ()
    clear_db: float = 0.0


class Cut(msgspec.Struct, frozen=True):
    """A boundary between slices, and what is known of the slice that begins there.

    `attack_sample` is where the sound of the slice begins to rise, at or just after the cut;
    `clear_db` how far it stands above what still rings from before.
    """

    id: int
    at_sample: int
    attack_sample: int
    strength: float
    origin: Origin
    held: bool = False
    name: str = ""
    heard: tuple[Heard, ...] = ()
    left_out: bool = False
    clear_db: float = 0.0


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
    bars: int
    meter: str
    score: float


class Loop(msgspec.Struct, frozen=True):
    """The region of the source that is whole bars: `start_sample` up to `end_sample`."""

    start_sample: int
    end_sample: int
    bars: int
    meter_name: str

    @property
    def meter(self) -> Meter:
        """The meter of the loop."""
        return METERS[self.meter_name]

    @property
    def beats(self) -> int:
        """The number of beats in the loop."""
        return self.bars * self.meter.beats_per_bar

    @property
    def frames(self) -> int:
        """Length in samples."""
        return self.end_sample - self.start_sample


class Layer(msgspec.Struct, frozen=True):
    """A slice on a pad: its cut and attack, the velocity it was played at, the highest it answers to."""

    at_sample: int
    attack_sample: int
    velocity: int
    up_to: int


class Pad(msgspec.Struct, frozen=True):
    """A pad of the kit; `slot` counts from the lower left, four to a row."""

    id: int
    slot: int
    drum: str
    name: str
    note: int
    level_db: float = 0.0
    layers: tuple[Layer, ...] = ()

    def layer_for(self, velocity: int) -> Layer | None:
        """Return the layer that answers to a velocity, None where the pad is empty."""
        for layer in self.layers:
            if velocity <= layer.up_to:
                return layer
        return self.layers[-1] if self.layers else None


class Hit(msgspec.Struct, frozen=True):
    """A hit of a pattern: when, in beats from the loop's start, on which pad, how hard (1 to 127).

    A hit outside the loop is kept, and neither shown nor played until the loop reaches it again.
    """

    id: int
    pad_id: int
    at_beats: float
    velocity: int


class Variation(msgspec.Struct, frozen=True):
    """One pattern of the loop; its hits are in order of time."""

    letter: str
    name: str
    hits: tuple[Hit, ...] = ()


class Document(msgspec.Struct, frozen=True):
    """A whole project. Cuts and hits are sorted by time; edits live in the modules beside this one.

    `attacks` are all places where the analysis saw sound rise, of which those at least as strong
    as `threshold` became cuts. `offers` are cuts whose hits the pattern does not have yet.
    """

    title: str
    source: Source
    loop: Loop
    readings: tuple[TempoReading, ...] = ()
    tempo_confidence: float = 0.0
    attacks: tuple[Attack, ...] = ()
    threshold: float = 0.1
    cuts: tuple[Cut, ...] = ()
    pads: tuple[Pad, ...] = ()
    variations: tuple[Variation, ...] = ()
    offers: tuple[int, ...] = ()
    next_id: int = 1

    @property
    def bpm(self) -> float:
        """The tempo of the loop in beats per minute."""
        return bpm_of(beats=self.loop.beats, seconds=self.loop.frames / self.source.sample_rate)

    @property
    def beat_map(self) -> BeatMap:
        """The map between samples of the source and beats of the loop."""
        return BeatMap.steady(self.loop.start_sample, self.loop.end_sample, self.loop.beats)

    @property
    def pattern(self) -> Variation:
        """The variation that is shown and played."""
        return self.variations[0] if self.variations else Variation("A", "as heard")

    def slices(self) -> tuple[Slice, ...]:
        """Return the slices of the loop in order; they tile it from the first cut to its end."""
        start, end = self.loop.start_sample, self.loop.end_sample
        inside = [cut for cut in self.cuts if start <= cut.at_sample < end]
        ends = [cut.at_sample for cut in inside[1:]] + [end]
        return tuple(Slice(n, cut, stop) for n, (cut, stop) in enumerate(zip(inside, ends, strict=True), 1))

    def slice_at(self, at_sample: int) -> Slice | None:
        """Return the slice that a sample lies in, None outside of all."""
        slices = self.slices()
        index = bisect_right([s.start_sample for s in slices], at_sample) - 1
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

    def hit(self, hit_id: int) -> Hit:
        """Return a hit of the shown pattern by id; raises EditError where there is none."""
        for hit in self.pattern.hits:
            if hit.id == hit_id:
                return hit
        raise EditError("That hit is no longer there.")

    def layer_bounds(self, layer: Layer) -> tuple[int, int]:
        """Return where a layer's sound starts and ends in the source: to the next cut, or the loop's end."""
        times = [cut.at_sample for cut in self.cuts]
        near = self.min_cut_frames
        after = bisect_left(times, layer.at_sample + near)
        end = times[after] if after < len(times) else self.loop.end_sample
        if layer.at_sample < self.loop.end_sample < end:
            end = self.loop.end_sample
        end = min(end, self.source.frames)
        return layer.at_sample, max(end, layer.at_sample)

    @property
    def min_cut_frames(self) -> int:
        """The smallest distance of two cuts, in samples."""
        return max(1, ms_to_samples(MIN_CUT_DISTANCE_MS, self.source.sample_rate))


def check_document(document: Document) -> None:
    """Raise EditError with a sentence where a document contradicts itself."""
    loop, frames = document.loop, document.source.frames
    if not 0 <= loop.start_sample < loop.end_sample <= frames:
        raise EditError("The loop must lie inside the sound and have a length.")
    if loop.bars < 1 or loop.meter_name not in METERS:
        raise EditError("The loop needs at least one bar of a known meter.")
    times = [cut.at_sample for cut in document.cuts]
    if times != sorted(set(times)):
        raise EditError("Cuts must be in order, each at a time of its own.")
    pad_ids = {pad.id for pad in document.pads}
    if len(pad_ids) != len(document.pads) or len({pad.slot for pad in document.pads}) != len(pad_ids):
        raise EditError("Each pad needs a place of its own.")
    for pad in document.pads:
        if pad.drum not in DRUMS or not 0 <= pad.note <= 127:
            raise EditError(f"The pad {pad.name} has no usable drum or note.")
    for variation in document.variations:
        _check_hits(variation, pad_ids)
    ids = [item.id for group in (document.cuts, document.pads, document.pattern.hits) for item in group]
    if len(set(ids)) != len(ids) or any(item >= document.next_id for item in ids):
        raise EditError("Every cut, pad and hit needs an id of its own.")


def _check_hits(variation: Variation, pad_ids: set[int]) -> None:
    beats = [hit.at_beats for hit in variation.hits]
    if beats != sorted(beats):
        raise EditError("Hits must be in order of time.")
    for hit in variation.hits:
        if hit.pad_id not in pad_ids or not 1 <= hit.velocity <= 127 or not isfinite(hit.at_beats):
            raise EditError("A hit needs a pad, a time and a velocity from 1 to 127.")
