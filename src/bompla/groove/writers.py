"""Writers: rules that write hits into a pattern. Each is a function from document and choices to hits to add and take out.

A draft is shown and heard before it is written; writing it is one edit.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import pairwise

from msgspec.structs import replace

from bompla.model.detected_pattern import hits_inside, pattern_beats, pattern_of
from bompla.model.document import Document, Hit
from bompla.model.drums import DRUMS, METERS, ONE_AT_A_TIME, Band, Family
from bompla.model.loop import whole_beats
from bompla.model.params import Param
from bompla.model.pattern_edits import add_played, delete_hits, usual_velocity, with_pattern
from bompla.model.variation_edits import add_variation, meters_for, set_pattern_meter
from bompla.units import clamped_velocity

NEAR = 1.0 / 32.0
LANE, NO_LANE = "lane", -1.0
"""The value that is the id of a pad whose lane is followed, and that of none: the original is followed."""



@dataclass(frozen=True)
class Place:
    """Where a writer writes: a pad, and from one beat up to another."""

    pad_id: int
    start: float
    end: float


@dataclass(frozen=True)
class Draft:
    """What a writer would do: hits to add as (pad id, beat, velocity), ids of hits to take out, and lengths in beats by id.

    `pitches` are those of the hits to add, in their order, where they are not all as the pad is.
    """

    add: tuple[tuple[int, float, int], ...] = ()
    remove: frozenset[int] = field(default_factory=frozenset)
    lengths: tuple[tuple[int, float], ...] = ()
    pitches: tuple[float, ...] = ()


Values = dict[str, float]


@dataclass(frozen=True)
class Writer:
    """A rule with its name, what it does in a line, and what it asks for."""

    key: str
    label: str
    help: str
    params: tuple[Param, ...]
    write: Callable[[Document, Place, Values], Draft]
    follows: bool = False
    """Whether it can follow another lane, by the value `LANE`."""

    def defaults(self) -> Values:
        """Return the values as they are at first."""
        return {param.key: param.default for param in self.params} | ({LANE: NO_LANE} if self.follows else {})


def written(document: Document, draft: Draft) -> Document:
    """Return the document with a draft written into its shown pattern."""
    left = tuple(hit for hit in pattern_of(document).hits if hit.id not in draft.remove)
    lengths, pattern = dict(draft.lengths), pattern_of(document)
    left = tuple(replace(hit, length_beats=lengths[hit.id]) if hit.id in lengths else hit for hit in left)
    pitches = draft.pitches or (0.0,) * len(draft.add)
    added = [(*hit, pitch) for hit, pitch in zip(draft.add, pitches, strict=True)]
    return add_played(with_pattern(document, replace(pattern, hits=left)), added)


def _inside(document: Document, place: Place, pad_id: int | None = None) -> list[Hit]:
    wanted = place.pad_id if pad_id is None else pad_id
    return [h for h in pattern_of(document).hits if h.pad_id == wanted and place.start - 1e-6 <= h.at_beats < place.end - 1e-6]


def roll(document: Document, place: Place, v: Values) -> Draft:
    """Strokes at a rate that may double once, twice, from soft to hard or back, with a gap before the end."""
    usual = usual_velocity(document, place.pad_id)
    length = place.end - place.start
    end = place.end - v["gap"] * length
    at, hits = place.start, []
    while at < end - 1e-6:
        share = (at - place.start) / max(1e-6, end - place.start)
        doubled = 2.0 ** min(v["doublings"], int(share * (v["doublings"] + 1.0)))
        velocity = usual * (v["from"] + (v["to"] - v["from"]) * share) / 100.0
        hits.append((place.pad_id, round(at, 6), clamped_velocity(velocity)))
        at += 1.0 / (v["rate"] * doubled)
    rise = [v.get("pitch", 0.0) * n / max(1, len(hits) - 1) for n in range(len(hits))]
    return Draft(tuple(hits), frozenset(h.id for h in _inside(document, place)), pitches=tuple(round(2.0 * p) / 2.0 for p in rise))


def ghosts(document: Document, place: Place, v: Values) -> Draft:
    """Soft strokes before and after accents, where a hand is free: never two within a 32nd, never on another accent."""
    rng = random.Random(int(v["seed"]))
    usual = usual_velocity(document, place.pad_id)
    own = _inside(document, place)
    accents = [h for h in own if h.velocity >= 0.75 * usual]
    taken = [h.at_beats for h in own]
    hits = []
    for hit in accents:
        for offset in (-0.25, 0.25, -0.5, 0.5):
            at = hit.at_beats + offset
            weight = v["density"] / 100.0 * (1.0 if abs(offset) < 0.3 else 0.5)
            free = all(abs(at - other) > 0.2 for other in taken)
            if place.start <= at < place.end and free and rng.random() < weight:
                taken.append(at)
                hits.append((place.pad_id, round(at, 6), clamped_velocity(usual * v["loudness"] / 100.0 * rng.uniform(0.85, 1.15))))
    return Draft(tuple(hits))


def shadow(document: Document, place: Place, v: Values) -> Draft:
    """Follow the original's low, mid or high drums, or another lane: an accent where they hit, soft strokes between."""
    step = 1.0 / v["rate"]
    usual = usual_velocity(document, place.pad_id)
    if v.get(LANE, NO_LANE) != NO_LANE:
        struck = [hit.at_beats for hit in pattern_of(document).hits if hit.pad_id == int(v[LANE])]
    else:
        band = (Band.LOW, Band.MID, Band.HIGH)[int(v["band"])]
        heard = [document.beat_map.beat_at(cut.attack_sample) for cut in document.cuts
                 if any(DRUMS[h.drum].band is band and h.sure for h in cut.heard)]
        turns = range(whole_beats(pattern_beats(document) / document.loop.length_beats))  # under a longer pattern the loop goes round
        struck = [at + turn * document.loop.length_beats for turn in turns for at in heard]
    count = round((place.end - place.start) / step)
    hits = []
    for n in range(count):
        at = place.start + n * step
        hit = any(abs(at - other) < 0.3 * step for other in struck)
        soft = v["between"] / 100.0
        if hit or soft > 0.01:
            hits.append((place.pad_id, round(at, 6), clamped_velocity(usual * (1.1 if hit else soft))))
    return Draft(tuple(hits), frozenset(h.id for h in _inside(document, place)))


def even_hats(document: Document, place: Place, v: Values) -> Draft:
    """Even strokes at a rate, the beats a little harder, and the off-beats on the open hat if wanted."""
    usual = usual_velocity(document, place.pad_id)
    open_hat = next((pad.id for pad in document.pads if pad.drum == "hat_open"), place.pad_id)
    step = 1.0 / v["rate"]
    hits, removed = [], [h.id for h in _inside(document, place)]
    for n in range(round((place.end - place.start) / step)):
        at = place.start + n * step
        off_beat = abs(at % 1.0 - 0.5) < 1e-6
        depth = v["accent"] / 100.0
        force = 1.0 if abs(at % 1.0) < 1e-6 else 1.0 - depth * (0.35 if off_beat else 0.55)
        opens = v["open"] >= 0.5 and off_beat
        hits.append((open_hat if opens else place.pad_id, round(at, 6), clamped_velocity(usual * force)))
    if v["open"] >= 0.5:
        removed += [h.id for h in _inside(document, place, open_hat)]
    return Draft(tuple(hits), frozenset(removed))


def build_up(document: Document, place: Place, v: Values) -> Draft:
    """From soft to hard and from slow to fast: the rate doubles through the stretch."""
    values = {"rate": v["rate"], "doublings": v["doublings"], "from": v["from"], "to": 115.0, "gap": v["gap"]}
    return roll(document, place, values)


def fill(document: Document, place: Place, v: Values) -> Draft:
    """A fill at the end of the stretch, over the kit's snare and toms, ending where the next bar begins."""
    rng = random.Random(int(v["seed"]))
    start = max(place.start, place.end - v["beats"])
    order = ("snare", "tom_high", "tom_mid", "tom_low")
    drums = [pad for drum in order for pad in document.pads if pad.drum == drum] or [document.pad(place.pad_id)]
    removed = [
        h.id for h in pattern_of(document).hits
        if start - 1e-6 <= h.at_beats < place.end - 1e-6 and any(h.pad_id == pad.id for pad in drums)
    ]
    hits = []
    step = 0.25
    count = round((place.end - start) / step)
    for n in range(count):
        share = n / max(1, count - 1)
        if n and rng.random() * 100.0 > v["density"]:
            continue
        pad = drums[min(len(drums) - 1, int(share * len(drums)))]
        velocity = usual_velocity(document, pad.id) * (0.75 + 0.35 * share) * (1.0 if n % 2 == 0 else 0.85)
        hits.append((pad.id, round(start + n * step, 6), clamped_velocity(velocity)))
    return Draft(tuple(hits), frozenset(removed))


def staccato(document: Document, place: Place, v: Values) -> Draft:
    """Lengths as a share of the way to the pad's next hit, in the end 100 % is legato; the hits stay where they are."""
    own = [h for h in pattern_of(document).hits if h.pad_id == place.pad_id]
    following = {a.id: b.at_beats for a, b in pairwise(own)}
    lengths = []
    for hit in _inside(document, place):
        way = following.get(hit.id, float(pattern_beats(document))) - hit.at_beats
        lengths.append((hit.id, round(max(0.02, min(v["longest"], way * v["share"] / 100.0)), 4)))
    return Draft(lengths=tuple(lengths))


def shuffle_slices(document: Document, place: Place, v: Values) -> Draft:
    """Change which pad speaks at which time, strong beats kept: what stands on a beat stays where it is."""
    rng = random.Random(int(v["seed"]))
    inside = [h for h in pattern_of(document).hits if place.start - 1e-6 <= h.at_beats < place.end - 1e-6]
    free = [h for h in inside if abs(h.at_beats - round(h.at_beats)) > 0.06]
    free = [h for h in free if rng.random() * 100.0 < v["amount"]]
    places = [round(h.at_beats / NEAR) for h in free]
    pads = [h.pad_id for h in free]
    taken = {(h.pad_id, round(h.at_beats / NEAR)) for h in inside}
    for _ in range(4 * len(free)):  # hits change places two by two, so that none is lost, and never two of a pad at once
        i, j = rng.randrange(len(free)), rng.randrange(len(free))
        new = {(pads[j], places[i]), (pads[i], places[j])}
        if pads[i] != pads[j] and not new & taken:
            taken = (taken - {(pads[i], places[i]), (pads[j], places[j])}) | new
            pads[i], pads[j] = pads[j], pads[i]
    hits = tuple((pad_id, hit.at_beats, hit.velocity) for hit, pad_id in zip(free, pads, strict=True))
    return Draft(hits, frozenset(h.id for h in free))


RATE = Param("rate", "Strokes per beat", "", 1.0, 16.0, "How many strokes fall into a beat", default=4.0, step=1.0)
SEED = Param("seed", "Another one", "", 1.0, 99.0, "Another way to draw the same by chance", default=1.0, step=1.0)
GAP = Param("gap", "Gap before the end", "share", 0.0, 0.5, "How much of its end stays empty", default=0.0)

WRITERS: dict[str, Writer] = {
    writer.key: writer
    for writer in (
        Writer("roll", "Roll", "Even strokes, from soft to hard", (
            RATE,
            Param("doublings", "Doubled", "times", 0.0, 2.0, "How often the rate doubles on the way", default=0.0, step=1.0),
            Param("from", "From", "%", 5.0, 130.0, "How hard it begins, of what is usual", default=40.0),
            Param("to", "To", "%", 5.0, 130.0, "How hard it ends, of what is usual", default=110.0),
            Param("pitch", "Pitch rises", "st", -12.0, 12.0, "How far the pitch has risen at the end", default=0.0, step=0.5),
            GAP,
        ), roll),
        Writer("ghosts", "Ghosts", "Soft strokes before and after accents", (
            Param("density", "How many", "%", 0.0, 100.0, "How likely each stroke is", default=60.0),
            Param("loudness", "How loud", "%", 5.0, 60.0, "How loud, of what is usual", default=28.0),
            SEED,
        ), ghosts),
        Writer("shadow", "Shadow", "Follow the original's low, mid or high, or another lane", (
            Param("band", "Low, mid or high", "", 0.0, 2.0, "Which drums of the original are followed", default=2.0, step=1.0,
                  names=("low", "mid", "high")),
            RATE,
            Param("between", "Strokes between", "%", 0.0, 80.0, "How loud the strokes between are", default=30.0),
        ), shadow, follows=True),
        Writer("hats", "Even hats", "Even strokes, open ones on the off-beats", (
            Param("rate", "Strokes per beat", "", 1.0, 8.0, "How many strokes fall into a beat", default=2.0, step=1.0),
            Param("accent", "Accents", "%", 0.0, 100.0, "How much the beats stand out", default=50.0),
            Param("open", "Open off-beats", "", 0.0, 1.0, "Whether off-beats are struck open", default=0.0, step=1.0, names=("no", "yes")),
        ), even_hats),
        Writer("build", "Build-up", "Ever faster and harder", (
            Param("rate", "Begins with", "a beat", 1.0, 4.0, "How many strokes fall into a beat", default=2.0, step=1.0),
            Param("doublings", "Doubled", "times", 1.0, 3.0, "How often the rate doubles on the way", default=2.0, step=1.0),
            Param("from", "From", "%", 5.0, 100.0, "How hard it begins, of what is usual", default=35.0),
            GAP,
        ), build_up),
        Writer("fill", "Fill", "The last beats over snare and toms", (
            Param("beats", "Beats", "", 1.0, 8.0, "How many beats it fills", default=2.0, step=1.0),
            Param("density", "How many", "%", 20.0, 100.0, "How likely each stroke is", default=90.0),
            SEED,
        ), fill),
        Writer("short", "Staccato", "Each stroke is cut short, or rings up to the next", (
            Param("share", "How much of the way", "%", 5.0, 100.0, "How far each stroke reaches to the next", default=35.0),
            Param("longest", "At most", "beats", 0.1, 4.0, "How long a stroke is at most", default=1.0, step=0.1),
        ), staccato),
        Writer("shuffle", "Shuffle slices", "Other sounds at the same times, beats kept", (
            Param("amount", "How many", "%", 0.0, 100.0, "How many of the sounds are changed", default=70.0),
            SEED,
        ), shuffle_slices),
    )
}

_STARTERS: tuple[tuple[str, str, dict[str, str]], ...] = (
    ("back beat", "4/4", {"hat_closed": "x-x-x-x-x-x-x-x-", "snare": "....X.......X...", "kick": "X.......X.x....."}),
    ("half time", "4/4", {"hat_closed": "x-x-x-x-x-x-x-x-", "snare": "........X.......", "kick": "X.....x...x....."}),
    ("four on the floor", "4/4", {"hat_open": "..x...x...x...x.", "snare": "....X.......X...", "kick": "X...X...X...X..."}),
    ("busy sixteenths", "4/4", {"hat_closed": "X-x-X-x-X-x-X-x-", "snare": "....X..-.-..X..-", "kick": "X.x.......xx...."}),
    ("rim and shaker", "4/4", {"shaker": "x-X-x-X-x-X-x-X-", "rim": "....X.......X...", "kick": "X.....x.X......."}),
    ("shuffle", "4/4", {"ride": "X.xX.xX.xX.x", "snare": "...X.....X..", "kick": "X....xX....."}),
    ("click groove", "4/4", {"rim": "X...x...x...x...", "hat_closed": "..-...-...-...-."}),
    ("late kick", "4/4", {"hat_closed": "x.x.x.x.x.x.x.x.", "snare": "....X.......X...", "kick": "X..x......x..x.."}),
    ("tom pattern", "4/4", {"tom_low": "X..x..x.........", "tom_high": "........X..x..x.", "kick": "X...X...X...X..."}),
    ("six-eight", "6/8", {"hat_closed": "X-xX-x", "snare": "...X..", "kick": "X....x"}),
    ("waltz", "3/4", {"hat_closed": "x.-.x.-.x.-.", "snare": "....X...X...", "kick": "X..........."}),
    ("clap on two and four", "4/4", {"hat_closed": "x.x.x.x.x.x.x.x.", "clap": "....X.......X...", "kick": "X.....x..x......"}),
)
STARTERS = tuple(name for name, _, _ in _STARTERS)
_FORCE = {"X": 1.1, "x": 0.92, "-": 0.6}
_STAND_IN = {
    "rim": ("snare",), "clap": ("snare",), "shaker": ("hat_closed", "ride"), "ride": ("hat_closed",), "hat_open": ("hat_closed",),
    "hat_closed": ("ride", "shaker"), "tom_low": ("tom_mid", "kick"), "tom_high": ("tom_mid", "snare"),
}


def with_starter(document: Document, name: str) -> Document:
    """Add a variation that is a starter, on this kit's drums or those that can stand in for them, and show it.

    It is in the starter's own meter, as long as the loop to the nearest bar; where the beat is another one, as of 6/8 in a loop of
    quarters, its bar goes round in its own length.
    """
    _, meter, lanes = next(one for one in _STARTERS if one[0] == name)
    document = add_variation(document, [], name)
    if meter in meters_for(document):
        document = set_pattern_meter(document, meter)
    hits = [(*hit, 0.0) for hit in _laid_out(document, lanes, METERS[meter].beats_per_bar)]
    return add_played(document, hits)


def _laid_out(document: Document, lanes: dict[str, str], beats_per_bar: int) -> list[tuple[int, float, int]]:
    """Return a starter's bar laid bar by bar over the shown pattern, as (pad id, beat, velocity)."""
    by_drum = {pad.drum: pad for pad in reversed(document.pads)}
    hits = []
    for drum, lane in lanes.items():
        pad = next((by_drum[one] for one in (drum, *_STAND_IN.get(drum, ())) if one in by_drum), None)
        if pad is None:
            continue
        usual = usual_velocity(document, pad.id)
        per_beat = len(lane) // beats_per_bar
        for n in range(int(pattern_beats(document) * per_beat)):
            mark = lane[n % len(lane)]
            if mark != ".":
                hits.append((pad.id, round(n / per_beat, 6), clamped_velocity(usual * _FORCE[mark])))
    return hits


def one_at_a_time(document: Document) -> frozenset[int]:
    """Return the hits to take out so that closed and open hats never sound at once: of two within a 32nd the open one stays.

    Where neither is open, the one that was drawn last stays.
    """
    hats = {pad.id: pad.drum == "hat_open" for pad in document.pads if pad.drum in ONE_AT_A_TIME}
    hits = [h for h in pattern_of(document).hits if h.pad_id in hats]
    gone: set[int] = set()
    for first, second in pairwise(hits):
        if first.id not in gone and second.at_beats - first.at_beats < NEAR and first.pad_id != second.pad_id:
            gone.add(min(first, second, key=lambda h: (hats[h.pad_id], h.id)).id)
    return frozenset(gone)


def tidied(document: Document) -> Document:
    """Return the document without the hats that sound while another one does."""
    return delete_hits(document, one_at_a_time(document))


def unplayable(document: Document) -> list[tuple[float, str]]:
    """Return places that no drummer could play, as (beat, reason): more than two hands or two feet at once.

    It advises and never forbids.
    """
    drums = {pad.id: pad.drum for pad in document.pads}
    hits = hits_inside(document)
    found: list[tuple[float, str]] = []
    index = 0
    times = [hit.at_beats for hit in hits]
    while index < len(hits):
        if index + 1 == len(hits) or times[index + 1] - times[index] >= NEAR:
            index += 1
            continue
        end = index + 2
        while end < len(hits) and times[end] - times[index] < NEAR:
            end += 1
        together = hits[index:end]
        hands = {h.pad_id for h in together if not DRUMS[drums[h.pad_id]].foot and DRUMS[drums[h.pad_id]].family is not Family.EXTRAS}
        kicks = [h for h in together if drums[h.pad_id] == "kick"]
        if len(hands) > 2:
            found.append((hits[index].at_beats, f"{_count(len(hands))} hands"))
        elif len(kicks) > 1:
            found.append((hits[index].at_beats, "two kicks at once"))
        index += len(together)
    return found


def _count(number: int) -> str:
    return {3: "three", 4: "four", 5: "five"}.get(number, str(number))
