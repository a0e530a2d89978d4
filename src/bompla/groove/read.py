"""The groove read: what makes it work, as facts with numbers, the hits that carry them, and a sentence where the evidence bears it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bompla.groove.feel import felt_pattern
from bompla.groove.grid import EARLY_BEATS, beat_divisions
from bompla.model.detected_pattern import pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document, Hit
from bompla.model.drums import DRUMS, Family, Meter
from bompla.model.groove_print import syncopation
from bompla.model.wording import counted

FEWEST = 4
"""So many hits are needed to say anything of a drum's timing or force."""

KNOWN_MS = 2.0
"""A hit's place is known to so much: less is not said."""

SURE = 2.6
"""An effect is said where it is so many times its standard error."""

SWING_SPREAD, LEAST_SWING = 3.2, 2.0
"""How far off-beats may lie apart, in per cent of their pair, to be one place; how far that must be from the middle to be swing."""

SECOND_WIDTH, BY_CHANCE = 31.0, 1e-4
"""How wide, in per cent of a pair, the place is where a second note may lie, and how rarely chance may say what is said."""

ALIKE, SAME_FIGURE = 0.80, 0.6
GHOST_SHARE = 0.55
SAME_PLACES = 5
"""A hit is that of a slice where their beats are the same to so many decimals."""

HIGH = (Family.HATS, Family.CYMBALS, Family.EXTRAS)
STEPS = 12
"""Steps a beat is read in: a multiple of 3 and 4."""

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Fact:
    """One thing that is so: its key, value, unit and spread, what it is about, the hits that carry it, and a sentence, empty for none."""

    key: str
    value: float
    unit: str = ""
    spread: float = 0.0
    text: str = ""
    about: dict[str, str] = field(default_factory=dict)
    hit_ids: tuple[int, ...] = ()


@dataclass(frozen=True, eq=False)
class GrooveRead:
    """All facts of a pattern, a letter a bar, and how alike each two bars are, shape (bars, bars), from 0 to 1."""

    facts: tuple[Fact, ...]
    form: str
    likeness: Floats

    def sentences(self) -> list[Fact]:
        """Return the facts that are said."""
        return [fact for fact in self.facts if fact.text]


@dataclass(frozen=True, eq=False)
class Seen:
    """A pattern as it is read: hits in order, with their drums, beats, forces, and the step of the grid each belongs to.

    Those that are not `timed` have the time of another drum that they fall together with.
    """

    hits: tuple[Hit, ...]
    drums: tuple[str, ...]
    at: Floats
    force: Floats
    step: NDArray[np.int64]
    meter: Meter
    beats: int
    beat_ms: float
    timed: NDArray[np.bool_]

    def of(self, *drums: str) -> NDArray[np.bool_]:
        """Return which hits are of some drums."""
        return np.array([drum in drums for drum in self.drums], dtype=bool)

    def timed_of(self, drum: str) -> NDArray[np.bool_]:
        """Return the hits of a drum, or of all, whose times are their own; all of it where too few are."""
        every = np.ones(self.at.size, dtype=bool) if drum == "all" else self.of(drum)
        own = every & self.timed
        return own if np.count_nonzero(own) >= FEWEST else every

    def families(self, *families: Family) -> NDArray[np.bool_]:
        """Return which hits are of drums of some families."""
        return np.array([DRUMS[drum].family in families for drum in self.drums], dtype=bool)

    def ids(self, chosen: NDArray[np.bool_]) -> tuple[int, ...]:
        """Return the ids of some hits."""
        return tuple(hit.id for hit, there in zip(self.hits, chosen.tolist(), strict=True) if there)


def read_groove(document: Document) -> GrooveRead:
    """Return what is to be said of the shown pattern.

    Swing is where the second of two notes falls, in per cent of the pair; ahead and behind are in ms against a grid that most of the
    hits lie on, off-beats against their own swung place. Bars are alike by what is played on their steps (Jaccard, 1901).
    """
    seen = seen_in(document)
    form, likeness = _form(seen)
    facts = [*_basics(document, seen, form, likeness)]
    swing = _swing(seen)
    facts += swing
    facts += _offsets(seen, swing)
    facts += [*_back_beat(seen), *_kick(seen), *_hats(seen), *_accents(seen), *_ghosts(seen), *_density(seen)]
    return GrooveRead(tuple(facts), form, likeness)


def seen_in(document: Document) -> Seen:
    """Return the shown pattern as it is read.

    Where what was heard says that a drum of a slice begins after its attack, so does its hit, as long as that was not moved.
    """
    beats, meter = pattern_beats(document), pattern_meter(document)
    beat_ms = 60_000.0 / document.bpm
    late, shared = _within_slices(document, beat_ms)
    hits = tuple(sorted((h for h in felt_pattern(document) if -EARLY_BEATS < h.at_beats < beats),
                        key=lambda h: h.at_beats + late.get(h.id, 0.0)))
    at = np.array([hit.at_beats + late.get(hit.id, 0.0) for hit in hits], dtype=np.float64)
    divisions = beat_divisions([hit.at_beats for hit in hits], beats, compound=meter.compound)
    beat = np.clip(np.floor(at + EARLY_BEATS).astype(np.int64), 0, beats - 1)
    own = divisions[beat] if at.size else np.zeros(0, np.int64)
    step = np.round(np.round(at * own) / np.maximum(own, 1) * STEPS).astype(np.int64)
    return Seen(hits, tuple(document.pad(hit.pad_id).drum for hit in hits), at, np.array([float(h.velocity) for h in hits]),
                np.clip(step, 0, beats * STEPS - 1), meter, beats, beat_ms, np.array([hit.id not in shared for hit in hits], dtype=bool))


def _within_slices(document: Document, beat_ms: float) -> tuple[dict[int, float], set[int]]:
    """Return by hit how many beats after its slice's attack it was heard to begin, and hits whose own time is not known.

    A hat that falls with a kick or a snare has the time of what came first, its own or the other's.
    """
    inside = [cut for cut in document.cuts if not cut.left_out and len(cut.heard) > 1]
    places = document.beat_map.beats_at([cut.attack_sample for cut in inside]).tolist() if inside else []
    by_place = {(round(place, SAME_PLACES), heard.drum): (heard, cut) for place, cut in zip(places, inside, strict=True)
                for heard in cut.heard if heard.sure}
    late, shared = {}, set()
    for hit in pattern_of(document).hits:
        drum = document.pad(hit.pad_id).drum
        found = by_place.get((round(hit.at_beats, SAME_PLACES), drum))
        if found is None:
            continue
        heard, cut = found
        late[hit.id] = heard.late_ms / beat_ms
        if DRUMS[drum].family in HIGH and any(h.sure and DRUMS[h.drum].family not in HIGH for h in cut.heard):
            shared.add(hit.id)
    return late, shared


def _form(seen: Seen) -> tuple[str, Floats]:
    """Return a letter a bar and how alike bars are."""
    per_bar = seen.meter.beats_per_bar * STEPS
    bars = max(1, seen.beats // seen.meter.beats_per_bar)
    played: list[set[tuple[str, int]]] = [set() for _ in range(bars)]
    for drum, step in zip(seen.drums, seen.step.tolist(), strict=True):
        if step // per_bar < bars:
            played[step // per_bar].add((drum, step % per_bar))
    likeness = np.array([[_jaccard(one, other) for other in played] for one in played])
    letters: list[str] = []
    first: list[int] = []
    for bar in range(bars):
        best = max(range(len(first)), key=lambda n, bar=bar: likeness[first[n], bar], default=-1)  # type: ignore[misc]
        if best >= 0 and likeness[first[best], bar] >= ALIKE:
            letters.append(chr(ord("A") + best))
        else:
            first.append(bar)
            letters.append(chr(ord("A") + min(25, len(first) - 1)))
    return "".join(letters), likeness


def _jaccard(one: set[tuple[str, int]], other: set[tuple[str, int]]) -> float:
    return len(one & other) / len(one | other) if one or other else 1.0


def _basics(document: Document, seen: Seen, form: str, likeness: Floats) -> list[Fact]:
    bars = len(form)
    made = [Fact("tempo", round(document.bpm, 3), "BPM", 0.0, f"{counted(bars, 'bar')} of {seen.meter.name} at {document.bpm:.4g} BPM."),
            Fact("meter", float(seen.meter.beats_per_bar), "beats", about={"meter": seen.meter.name})]
    if bars < 2:
        return made
    kinds = Counter(form)
    common, count = kinds.most_common(1)[0]
    others = [bar for bar, letter in enumerate(form, 1) if letter != common]
    if len(kinds) == 1:
        text = f"All {bars} bars are alike."
    elif count >= 2 and len(others) == 1:
        bar = others[0]
        text = (f"Bar {bar} is the fill; the others repeat." if bar == bars or _is_fill(seen, bar - 1, likeness)
                else f"Bar {bar} is another than the rest, which repeat.")
    elif count >= 2:
        text = f"The bars go {form}: those of one letter repeat."
    else:
        text = ""
    made.append(Fact("form", float(len(kinds)), "kinds of bar", text=text, about={"form": form}))
    return made


def _is_fill(seen: Seen, bar: int, likeness: Floats) -> bool:
    """Whether a bar has toms, or clearly more strokes of the snare than the others."""
    per_bar = seen.meter.beats_per_bar * STEPS
    inside = seen.step // per_bar == bar
    toms = sum(1 for drum, there in zip(seen.drums, inside.tolist(), strict=True) if there and drum.startswith("tom"))
    snares = seen.of("snare", "rim", "clap")
    usual = np.count_nonzero(snares) / max(1, len(likeness))
    return toms >= 2 or bool(np.count_nonzero(snares & inside) > 1.5 * usual + 1.0)


def _middle(values: Floats) -> tuple[float, float, float]:
    """Return the median of values, their spread, and the standard error of the median."""
    middle = float(np.median(values))
    spread = 1.4826 * float(np.median(np.abs(values - middle)))
    plain = float(values.std()) if values.size > 1 else 0.0
    spread = max(spread, 0.5 * plain)
    return middle, spread, 1.2533 * max(spread, 1e-9) / np.sqrt(values.size)


LEVELS = {"eighth": 1.0, "sixteenth": 0.5}


def _swing(seen: Seen) -> list[Fact]:
    """Return where off-beats fall, by level, for all drums and for each."""
    made: list[Fact] = []
    if seen.meter.compound:
        return made
    for level, length in LEVELS.items():
        for drum in ("all", *dict.fromkeys(seen.drums)):
            chosen = seen.timed_of(drum)
            place = np.mod(seen.at, length) / length
            second = chosen & (place > 0.42) & (place < 0.73)
            first = chosen & ((place < 0.2) | (place > 0.88))
            if np.count_nonzero(second) < FEWEST:
                continue
            shift = _shift_of_firsts(seen, first, second, place) if np.count_nonzero(first) >= FEWEST else 0.0
            middle, spread, error = _middle(100.0 * (place[second] - shift))
            if spread > SWING_SPREAD:
                continue
            swung = middle - 50.0 > max(LEAST_SWING, SURE * error) and _in_one_place(100.0 * place[second])
            made.append(Fact("swing", round(middle, 2), "%", round(spread, 2), _swing_in_words(drum, level, middle, swung=swung),
                             {"drum": drum, "level": level}, seen.ids(second)))
    return made


def _shift_of_firsts(seen: Seen, first: NDArray[np.bool_], second: NDArray[np.bool_], place: Floats) -> float:
    """Return where the first notes of pairs lie, as a share of the pair.

    It is the middle of the drums that play second notes, too, so that a snare that is late on 2 and 4 does not count.
    """
    early = np.where(place > 0.5, place - 1.0, place)
    by_drum = {drum: first & seen.of(drum) for drum in dict.fromkeys(seen.drums)}
    middles = [float(np.median(early[own])) for drum, own in by_drum.items()
               if np.count_nonzero(own) >= 2 and np.count_nonzero(second & seen.of(drum)) >= 2]
    return float(np.median(middles)) if middles else float(np.median(early[first]))


def _in_one_place(places: Floats) -> bool:
    """Whether off-beats lie nearer together than as many would by chance, one time in ten thousand; a tenth at either end may stray."""
    ordered = np.sort(places)
    stray = places.size // 10
    kept = ordered[stray : places.size - stray]
    share = max(0.02, float(kept[-1] - kept[0]) / SECOND_WIDTH)
    return kept.size * share ** (kept.size - 1) < BY_CHANCE


def _swing_in_words(drum: str, level: str, middle: float, *, swung: bool) -> str:
    if not swung or drum != "all":
        return ""
    near = " (a triplet)" if abs(middle - 66.7) < 1.5 else ""
    return f"The {level}s swing: each second one falls at {middle:.0f} % of its pair{near}; 50 % would be straight."


def _expected(seen: Seen, swing: Sequence[Fact]) -> Floats:
    """Return how far each hit lies behind its place, in ms; off-beats that are swung have their swung place."""
    places = {fact.about["level"]: fact.value / 100.0 for fact in swing if fact.about["drum"] == "all" and fact.text}
    if not places:
        return np.asarray((seen.at - seen.step / STEPS) * seen.beat_ms)
    beat = np.floor(seen.at + EARLY_BEATS)
    wanted = np.full(seen.at.size, np.inf)
    for place in _places_of_a_beat(places):
        nearer = np.abs(seen.at - beat - place) < np.abs(seen.at - wanted)
        wanted = np.where(nearer, beat + place, wanted)
    return np.asarray((seen.at - wanted) * seen.beat_ms)


def _places_of_a_beat(swung: Mapping[str, float]) -> list[float]:
    """Return where strokes of a beat belong, where eighths or sixteenths swing: the swung places, and the others as they are."""
    eighth = swung.get("eighth", 0.5)
    half = swung.get("sixteenth", 0.5)
    return [0.0, 0.5 * half, eighth, 0.5 + 0.5 * half, 1.0]


def _offsets(seen: Seen, swing: Sequence[Fact]) -> list[Fact]:
    """Return how far ahead or behind each drum is, against the grid and against the hats."""
    late = _expected(seen, swing)
    usual = {drum: late[seen.timed_of(drum)] for drum in dict.fromkeys(seen.drums) if np.count_nonzero(seen.of(drum)) >= FEWEST}
    if not usual:
        return []
    middles = {drum: _middle(values) for drum, values in usual.items()}
    weights = np.array([len(values) for values in usual.values()], dtype=float)
    order = np.argsort([middle for middle, _, _ in middles.values()])
    ranked = np.cumsum(weights[order])
    centre = [middle for middle, _, _ in middles.values()][int(order[int(np.searchsorted(ranked, ranked[-1] / 2.0))])]
    hats = next((drum for drum in ("hat_closed", "ride", "shaker", "hat_pedal") if drum in middles), "")
    made = []
    for drum, (middle, spread, error) in middles.items():
        value = middle - centre
        said = abs(value) > max(KNOWN_MS, SURE * error) and drum != hats
        made.append(Fact("offset", round(value, 2), "ms", round(spread, 2), _offset_in_words(drum, value, spread) if said else "",
                         {"drum": drum, "against": "grid"}, seen.ids(seen.of(drum))))
        if hats and drum != hats:
            made.append(Fact("offset", round(middle - middles[hats][0], 2), "ms", round(float(np.hypot(spread, middles[hats][1])), 2), "",
                             {"drum": drum, "against": hats}, seen.ids(seen.of(drum))))
    return made


def _offset_in_words(drum: str, value: float, spread: float) -> str:
    steady = ", every time" if spread < 2.5 else f", give or take {spread:.0f} ms"
    return f"The {DRUMS[drum].label.lower()} comes {abs(value):.0f} ms {'late' if value > 0 else 'early'}{steady}."


def _back_beat(seen: Seen) -> list[Fact]:
    """Return how much of the snares falls on the beats that answer the first."""
    snares = seen.of("snare", "clap", "rim")
    if np.count_nonzero(snares) < FEWEST or seen.meter.beats_per_bar != 4:
        return []
    beat = np.mod(seen.step, 4 * STEPS)
    on = snares & ((beat == STEPS) | (beat == 3 * STEPS))
    bars = max(1, seen.beats // 4)
    share = len({(int(step) // STEPS) for step, there in zip(seen.step.tolist(), on.tolist(), strict=True) if there}) / (2.0 * bars)
    weight = float(seen.force[on].sum() / max(1.0, seen.force[snares].sum()))
    text = "The snare answers on 2 and 4." if share >= 0.85 and weight > 0.45 else ""
    return [Fact("back_beat", round(share, 3), "share", 0.0, text, {"drum": "snare"}, seen.ids(on))]


def _kick(seen: Seen) -> list[Fact]:
    """Return the figure that the kick plays in most bars, counted."""
    kicks = seen.of("kick")
    per_bar = seen.meter.beats_per_bar * STEPS
    bars = max(1, seen.beats // seen.meter.beats_per_bar)
    if np.count_nonzero(kicks) < FEWEST:
        return []
    steps = seen.step[kicks]
    counts = Counter(int(step) % per_bar for step in steps.tolist())
    figure = sorted(step for step, count in counts.items() if count >= SAME_FIGURE * bars)
    share = sum(counts[step] for step in figure) / len(steps)
    if not figure:
        return []
    words = ", ".join(syllable(step, seen.meter) for step in figure)
    always = share > 0.95 and all(counts[step] == bars for step in figure)
    where = "" if bars == 1 else " in every bar" if always else " in most bars"
    return [Fact("kick", round(share, 3), "share", 0.0, f"The kick plays {words}{where}.", {"figure": words}, seen.ids(kicks))]


def syllable(step: int, meter: Meter) -> str:
    """Return a step of a bar as it is counted: “2”, “2e”, “2&”, “2a”, or for thirds “2t” and “2l”."""
    beat, within = step // STEPS + 1, step % STEPS
    if meter.compound:
        return f"{beat}" + {0: "", 4: "t", 8: "l"}.get(within, f"+{within}")
    return f"{beat}" + {0: "", 3: "e", 6: "&", 9: "a", 4: "t", 8: "l"}.get(within, f"+{within}")


def _hats(seen: Seen) -> list[Fact]:
    """Return how often the hats, or whatever keeps time, are struck."""
    made = []
    for group in (("hat_closed", "hat_open", "hat_pedal"), ("ride",), ("shaker",)):
        chosen = seen.of(*group)
        if np.count_nonzero(chosen) < 2 * FEWEST:
            continue
        per_beat = np.count_nonzero(chosen) / max(1, seen.beats)
        name, note = ("hats", "") if len(group) > 1 else (DRUMS[group[0]].label.lower(), "")
        rates = {1.0: "quarters", 2.0: "eighths", 4.0: "sixteenths", 3.0: "triplets"}
        rate = min(rates, key=lambda one: abs(one - per_beat))
        steady = abs(per_beat - rate) <= 0.12 * rate
        if steady and not seen.meter.compound:
            note = f"The {name} keep time in {rates[rate]}." if name.endswith("s") else f"The {name} keeps time in {rates[rate]}."
        made.append(Fact("hats", round(per_beat, 3), "hits per beat", 0.0, note, {"drum": group[0]}, seen.ids(chosen)))
    opened = seen.of("hat_open")
    if np.count_nonzero(opened) > 0:
        per_bar = seen.meter.beats_per_bar * STEPS
        places = Counter(int(step) % per_bar for step in seen.step[opened].tolist())
        words = ", ".join(syllable(step, seen.meter) for step in sorted(places))
        text = f"The hat opens on {words}." if len(places) <= 3 else ""
        made.append(Fact("open_hats", float(np.count_nonzero(opened)), "hits", 0.0, text, {"drum": "hat_open"}, seen.ids(opened)))
    return made


def _accents(seen: Seen) -> list[Fact]:
    """Return how much harder beats are struck than what is between, by drum."""
    made = []
    for drum in dict.fromkeys(seen.drums):
        if DRUMS[drum].family not in (Family.HATS, Family.CYMBALS, Family.EXTRAS):
            continue
        chosen = seen.of(drum)
        on = chosen & (np.mod(seen.step, STEPS) == 0)
        off = chosen & ~on
        if min(np.count_nonzero(on), np.count_nonzero(off)) < FEWEST:
            continue
        difference = float(seen.force[on].mean() - seen.force[off].mean())
        error = float(np.sqrt(seen.force[on].var() / on.sum() + seen.force[off].var() / off.sum())) + 1.0
        said = abs(difference) > max(8.0, SURE * error)
        where = "on the beat" if difference > 0 else "between the beats"
        text = f"The {DRUMS[drum].label.lower()} is struck harder {where}: by {abs(difference):.0f} of 127." if said else ""
        carried = seen.ids(on if difference > 0 else off)
        made.append(Fact("accent", round(difference, 2), "velocity", round(error, 2), text, {"drum": drum}, carried))
    return made


def _ghosts(seen: Seen) -> list[Fact]:
    """Return the soft strokes of the snare, and what they lead to."""
    snares = seen.of("snare", "rim")
    if np.count_nonzero(snares) < 2:
        return [Fact("ghosts", 0.0, "hits", about={"drum": "snare"})]
    loud = float(np.percentile(seen.force[snares], 90))
    usual = float(np.median(seen.force[snares & (seen.force >= GHOST_SHARE * loud)]))
    soft = snares & (seen.force < GHOST_SHARE * usual)
    count = int(np.count_nonzero(soft))
    text = ""
    if count:
        force = float(seen.force[soft].mean())
        text = (f"{counted(count, 'ghost note')} of the snare, at about {force:.0f} of 127 against {usual:.0f}"
                f"{_led_to(seen, soft)}.")
    return [Fact("ghosts", float(count), "hits", 0.0, text, {"drum": "snare"}, seen.ids(soft))]


def _led_to(seen: Seen, soft: NDArray[np.bool_]) -> str:
    """Return what most ghosts lead to: the beat that comes next after them."""
    per_bar = seen.meter.beats_per_bar
    next_beats = Counter(int(np.floor(at + 0.999)) % per_bar + 1 for at in seen.at[soft].tolist())
    common = [beat for beat, count in next_beats.most_common(2) if count >= 2]
    return f"; most lead into {' and '.join(f'beat {beat}' for beat in sorted(common))}" if common else ""


def _density(seen: Seen) -> list[Fact]:
    """Return how many strokes a bar has, and how much of it is syncopated (Longuet-Higgins and Lee, 1984)."""
    bars = max(1, seen.beats // seen.meter.beats_per_bar)
    made = [Fact("density", round(len(seen.hits) / bars, 3), "hits per bar")]
    if not seen.meter.compound and seen.hits:
        made.append(Fact("syncopation", round(_syncopation(seen), 3), "per bar"))
    return made


def _syncopation(seen: Seen) -> float:
    """Return the syncopation of kick and snare a bar."""
    chosen = seen.of("kick", "snare", "clap", "rim")
    struck = np.round(seen.step[chosen] / 3.0).astype(int).tolist()
    return syncopation(struck, beats=seen.beats, beats_per_bar=seen.meter.beats_per_bar)
