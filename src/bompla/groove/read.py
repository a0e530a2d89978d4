"""The groove read: what makes it work, as facts with numbers, the hits that carry them, and a sentence where the evidence bears it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bompla.groove.grid import EARLY_BEATS
from bompla.groove.read_drums import SURE, facts_of_drums
from bompla.groove.read_hands import facts_of_hands
from bompla.groove.seen import FEWEST, HIGH, STEPS, Fact, Floats, Seen, seen_in, syllable
from bompla.model.document import Document
from bompla.model.drums import DRUMS
from bompla.model.wording import counted

KNOWN_MS = 2.0
"""A hit's place is known to so much: less is not said."""

SWING_SPREAD, LEAST_SWING = 3.2, 2.0
"""How far off-beats may lie apart, in per cent of their pair, to be one place; how far that must be from the middle to be swing."""

SAME_PLACE = 0.03
"""Drums whose second notes lie no further apart, as a share of the pair, play the same ones."""

SECOND_WIDTH, BY_CHANCE = 31.0, 1e-4
"""How wide, in per cent of a pair, the place is where a second note may lie, and how rarely chance may say what is said."""

ALIKE = 0.80
MOST_DIFFERENT, LOUD, SURE_ENOUGH, MOST_SAID = 2, 50.0, 0.8, 3
"""So few hits may be different in bars that are told apart, so loud and so sure; and of so few bars it is said."""



@dataclass(frozen=True, eq=False)
class GrooveRead:
    """All facts of a pattern, a letter a bar, and how alike each two bars are, shape (bars, bars), from 0 to 1.

    `late_ms` has for each hit how far it is behind its place, as far as that is known; `second_places` for each level of swing where the
    second notes of pairs fall, in per cent of the pair.
    """

    facts: tuple[Fact, ...]
    form: str
    likeness: Floats
    late_ms: Mapping[int, float]
    second_places: Mapping[str, tuple[float, ...]]

    def sentences(self) -> list[Fact]:
        """Return the facts that are said."""
        return [fact for fact in self.facts if fact.text]


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
    late = _expected(seen, swing)
    facts += _offsets(seen, late)
    facts += [*_differing_bars(seen, form), *facts_of_drums(seen), *facts_of_hands(seen)]
    placed = zip(seen.hits, (late - _centre(seen, late)[0]).tolist(), seen.timed.tolist(), strict=True)
    by_hit = {hit.id: ms for hit, ms, known in placed if known}
    return GrooveRead(tuple(facts), form, likeness, by_hit, {} if seen.meter.compound else _second_places(seen))


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
        unit = _repeated(form)
        times = len(form) // len(unit)
        again = "twice" if times == 2 else f"{times} times"
        text = f"The bars go {form}: those of one letter repeat." if times == 1 else f"The bars go {unit}, {again}."
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


def _differing_bars(seen: Seen, form: str) -> list[Fact]:
    """Return what bars that are called alike do differently, where it is little, and loud and sure enough to have been heard."""
    per_bar = seen.meter.beats_per_bar * STEPS
    of_bar: list[dict[tuple[str, int], int]] = [{} for _ in form]
    for index, (drum, step) in enumerate(zip(seen.drums, seen.step.tolist(), strict=True)):
        if step // per_bar < len(form):
            of_bar[step // per_bar].setdefault((drum, step % per_bar), index)
    made: list[Fact] = []
    for bar, letter in enumerate(form):
        like = form.index(letter)
        more, less = of_bar[bar].keys() - of_bar[like].keys(), of_bar[like].keys() - of_bar[bar].keys()
        if like == bar or not 0 < len(more) + len(less) <= MOST_DIFFERENT:
            continue
        carrying = [of_bar[bar][key] for key in more] + [of_bar[like][key] for key in less]
        if any(seen.force[n] < LOUD or seen.confidence[n] < SURE_ENOUGH for n in carrying) or _only_moved(more, less):
            continue
        parts = [f"{word} the {DRUMS[drum].label.lower()} on {syllable(step, seen.meter)}"
                 for word, keys in (("with", more), ("without", less)) for drum, step in sorted(keys, key=lambda key: key[1])]
        made.append(Fact("differing_bar", float(len(parts)), "hits", text=f"Bar {bar + 1} is bar {like + 1} {' and '.join(parts)}.",
                         about={"bar": str(bar + 1), "like": str(like + 1)}, hit_ids=tuple(seen.hits[n].id for n in carrying)))
    return made[:MOST_SAID]


def _repeated(form: str) -> str:
    """Return the shortest form that is repeated to make a form; itself where nothing is."""
    lengths = (length for length in range(1, len(form) // 2 + 1) if len(form) % length == 0)
    return next((form[:length] for length in lengths if form[:length] * (len(form) // length) == form), form)


def _only_moved(more: Collection[tuple[str, int]], less: Collection[tuple[str, int]]) -> bool:
    """Whether a drum is there and not there on neighbouring steps: the same stroke, read to either side."""
    return any(drum == other and abs(step - place) <= STEPS // 4 for drum, step in more for other, place in less)


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
            chosen = seen.timed_of(drum) if drum != "all" else _together(seen, length)
            place, first, second = _pairs(seen, chosen, length)
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


def _together(seen: Seen, length: float) -> NDArray[np.bool_]:
    """Return the timed hits without the drums whose second notes are another's place: sixteenths that come early are no late eighths."""
    chosen = seen.timed_of("all")
    place, _, second = _pairs(seen, chosen, length)
    own = {drum: place[second & seen.of(drum)] for drum in dict.fromkeys(seen.drums)}
    middles = {drum: 100.0 * float(np.median(places)) for drum, places in own.items() if places.size}
    if not middles:
        return chosen
    heaviest = max(middles, key=lambda drum: own[drum].size)
    apart = [drum for drum, middle in middles.items() if abs(middle - middles[heaviest]) > 2.0 * SWING_SPREAD]
    return chosen & ~(seen.of(*apart) & second)


def _pairs(seen: Seen, chosen: NDArray[np.bool_], length: float) -> tuple[Floats, NDArray[np.bool_], NDArray[np.bool_]]:
    """Return where hits fall in pairs so many beats long, as a share, and which of those chosen may be first and second notes."""
    place = np.mod(seen.at, length) / length
    return place, chosen & ((place < 0.2) | (place > 0.88)), chosen & (place > 0.42) & (place < 0.73)


def _second_places(seen: Seen) -> dict[str, tuple[float, ...]]:
    """Return where the second notes of pairs fall, by level, against the first ones, in per cent of the pair."""
    made = {}
    for level, length in LEVELS.items():
        place, first, second = _pairs(seen, seen.timed_of("all"), length)
        shift = _shift_of_firsts(seen, first, second, place) if np.count_nonzero(first) >= FEWEST else 0.0
        made[level] = tuple((100.0 * (place[second] - shift)).tolist())
    return made


def _shift_of_firsts(seen: Seen, first: NDArray[np.bool_], second: NDArray[np.bool_], place: Floats) -> float:
    """Return where the first notes of pairs lie, as a share of the pair.

    It is the middle of the drums that play second notes, too, of the hats where they do, so that a snare that is late on 2 and 4 does not
    count, nor one whose second notes are elsewhere and so something else; where none plays both, the kick's.
    """
    early = np.where(place > 0.5, place - 1.0, place)
    by_drum = {drum: first & seen.of(drum) for drum in dict.fromkeys(seen.drums)}
    both = {drum: place[second & seen.of(drum)] for drum, own in by_drum.items() if np.count_nonzero(own) >= 2}
    both = {drum: places for drum, places in both.items() if places.size >= 2}
    if both:
        usual = float(np.median(place[second]))
        near = [drum for drum, places in both.items() if abs(float(np.median(places)) - usual) <= SAME_PLACE] or list(both)
        clear = [drum for drum in near if DRUMS[drum].family in HIGH] or near  # their attacks are the sharpest
        return float(np.median([np.median(early[by_drum[drum]]) for drum in clear]))
    kicks = by_drum.get("kick", first)
    return float(np.median(early[kicks if np.count_nonzero(kicks) >= 2 else first]))


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


def _offsets(seen: Seen, late: Floats) -> list[Fact]:
    """Return how far ahead or behind each drum is, against the grid and against the hats."""
    middles = _middles(seen, late)
    centre, doubt = _centre(seen, late)
    hats = next((drum for drum in ("hat_closed", "ride", "shaker", "hat_pedal") if drum in middles), "")
    made = []
    for drum, (middle, spread, error) in middles.items():
        value = middle - centre
        unsure = float(np.hypot(error, doubt))
        said = abs(value) > max(KNOWN_MS + 2.0 * unsure, SURE * unsure) and drum != hats
        made.append(Fact("offset", round(value, 2), "ms", round(spread, 2), _offset_in_words(drum, value, spread) if said else "",
                         {"drum": drum, "against": "grid"}, seen.ids(seen.of(drum))))
        if hats and drum != hats:
            made.append(Fact("offset", round(middle - middles[hats][0], 2), "ms", round(float(np.hypot(spread, middles[hats][1])), 2), "",
                             {"drum": drum, "against": hats}, seen.ids(seen.of(drum))))
    return made


def _middles(seen: Seen, late: Floats) -> dict[str, tuple[float, float, float]]:
    """Return the median, spread and error of how late each drum is that has hits enough."""
    return {drum: _middle(late[seen.timed_of(drum)]) for drum in dict.fromkeys(seen.drums) if np.count_nonzero(seen.of(drum)) >= FEWEST}


def _centre(seen: Seen, late: Floats) -> tuple[float, float]:
    """Return how late the grid is that most hits lie on, the median of the drums, each as heavy as it has hits, and its error."""
    middles = _middles(seen, late)
    if not middles:
        return 0.0, 0.0
    weights = np.array([np.count_nonzero(seen.timed_of(drum)) for drum in middles], dtype=float)
    values = [(middle, error) for middle, _, error in middles.values()]
    order = np.argsort([middle for middle, _ in values])
    ranked = np.cumsum(weights[order])
    return values[int(order[int(np.searchsorted(ranked, ranked[-1] / 2.0))])]


def _offset_in_words(drum: str, value: float, spread: float) -> str:
    steady = ", every time" if spread < 2.5 else f", give or take {spread:.0f} ms"
    return f"The {DRUMS[drum].label.lower()} comes {abs(value):.0f} ms {'late' if value > 0 else 'early'}{steady}."
