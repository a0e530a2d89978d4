"""A groove in few numbers, so that thousands can be compared at once: what is played where in the bar, how late and how hard."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import pairwise

import msgspec
import numpy as np
from numpy.typing import NDArray

from bompla.model.drums import DRUMS, Family, Meter

STEPS, FEEL_STEPS = 12, 4
"""Steps of a beat: where hits are, and for timing and force."""

GROUPS = ("kick", "snares", "hats", "cymbals", "others")
LATE_UNIT_MS = 0.25
NO_HIT = -128
SMOOTH = (0.25, 0.6, 1.0, 0.6, 0.25)
"""A hit counts for the steps beside its own, too: a twelfth of a beat is less than what a groove is told by."""

FEEL_MS, FEEL_FORCE = 8.0, 48.0
TEMPO_WIDTH = 0.12
GROOVE_SHARE, FEEL_SHARE = 0.6, 0.25
ALONE = 5.0
"""What a stroke that is followed by silence on a stronger place is worth."""

Floats = NDArray[np.float32]


class GroovePrint(msgspec.Struct, frozen=True):
    """What is played in the mean of all bars: `played` as bytes of shape (groups, beats of a bar times 12), 255 for every bar, full force.

    `late` has for each sixteenth how late it is, in quarters of a ms, -128 where nothing is struck, and `force` its velocity, 0 for none.
    `syncopation` is a bar's, of kick and snare.
    """

    beats_per_bar: int = 4
    played: bytes = b""
    late: bytes = b""
    force: bytes = b""
    syncopation: float = 0.0


class Likeness(msgspec.Struct, frozen=True):
    """How alike two grooves are, each from 0 to 1: in all, in what is played, in timing and force, in tempo.

    `groups` has for each of `GROUPS` how alike it is played, 0 where either groove has nothing of it.
    """

    score: float
    groove: float
    feel: float
    tempo: float
    groups: tuple[float, ...] = ()


def group_of(drum: str) -> int:
    """Return which of `GROUPS` a drum belongs to."""
    if drum == "kick":
        return 0
    by_family = {Family.SNARES: 1, Family.HATS: 2, Family.CYMBALS: 3}
    return by_family.get(DRUMS[drum].family, 4)


def groove_print(hits: Iterable[tuple[str, float, int]], *, beats: int, meter: Meter, bpm: float) -> GroovePrint:
    """Return the print of hits as (drum, beat, velocity) over so many beats."""
    rows = [hit for hit in hits if -0.1 < hit[1] < beats]
    per_bar = meter.beats_per_bar
    bars = max(1, beats // per_bar)
    played = np.zeros((len(GROUPS), per_bar * STEPS))
    late: dict[int, list[float]] = {}
    force: dict[int, list[float]] = {}
    for drum, at, velocity in rows:
        step = round(at * STEPS) % (per_bar * STEPS)
        played[group_of(drum), step] += velocity / 127.0 / bars
        fine = 3 if meter.compound else FEEL_STEPS
        sixteenth = round(at * fine)
        place = sixteenth % (per_bar * fine)
        late.setdefault(place, []).append((at - sixteenth / fine) * 60_000.0 / bpm)
        force.setdefault(place, []).append(float(velocity))
    places = per_bar * FEEL_STEPS
    lates = [max(-127, min(127, round(float(np.mean(late[n])) / LATE_UNIT_MS))) if n in late else NO_HIT for n in range(places)]
    forces = [max(1, min(127, round(float(np.mean(force[n]))))) if n in force else 0 for n in range(places)]
    struck = [round(at * FEEL_STEPS) for drum, at, _ in rows if group_of(drum) < 2]
    return GroovePrint(
        per_bar, np.round(255.0 * np.minimum(played, 1.0)).astype(np.uint8).tobytes(), np.array(lates, np.int8).tobytes(),
        np.array(forces, np.uint8).tobytes(), 0.0 if meter.compound else round(syncopation(struck, beats=beats, beats_per_bar=per_bar), 3))


def syncopation(struck: Sequence[int], *, beats: int, beats_per_bar: int) -> float:
    """Return the syncopation a bar of hits on sixteenths, counted from the first.

    As Fitch and Rosenfeld ("Perception and production of syncopated rhythms", 2007) use Longuet-Higgins and Lee's (1984): each rest of more
    weight than the note before it counts by how much more.
    """
    per_bar = FEEL_STEPS * beats_per_bar
    weights = _weights(per_bar)
    there = np.zeros(FEEL_STEPS * beats, bool)
    there[np.clip(np.asarray(struck, dtype=np.int64), 0, there.size - 1)] = bool(len(struck))
    places = np.flatnonzero(there)
    total = 0.0
    for place, after in pairwise([*places.tolist(), there.size]):
        rests = [weights[rest % per_bar] for rest in range(place + 1, after)]
        if rests and max(rests) > weights[place % per_bar]:
            total += max(rests) - weights[place % per_bar]
    return total / max(1, beats // beats_per_bar)


def syncopation_of_voices(voices: Sequence[tuple[float, Sequence[int]]], *, beats: int, beats_per_bar: int) -> float:
    """Return the syncopation a bar of several voices on sixteenths, each with what going against the others is worth.

    After Witek, Clarke, Wallentin, Kringelbach and Vuust ("Syncopation, body-movement and pleasure in groove music", 2014): a stroke
    counts where its voice then leaves out a stronger place, by how much stronger that is and its voice's worth; and by `ALONE` where no
    voice at all has that place. What voices are worth is chosen here.
    """
    per_bar = FEEL_STEPS * beats_per_bar
    weights = _weights(per_bar)
    size = FEEL_STEPS * beats
    struck = [sorted({min(max(0, step), size - 1) for step in steps}) for _, steps in voices]
    everything = set().union(*struck) if struck else set()
    total = 0.0
    for (worth, _), own in zip(voices, struck, strict=True):
        for place, after in pairwise([*own, size]):
            rests = range(place + 1, after)
            if not rests:
                continue
            strongest = max(rests, key=lambda rest: weights[rest % per_bar])
            stronger = weights[strongest % per_bar] - weights[place % per_bar]
            if stronger > 0:
                total += stronger + (worth if strongest in everything else ALONE)
    return total / max(1, beats // beats_per_bar)


def _weights(per_bar: int) -> list[int]:
    """Return how strong the sixteenths of a bar are: 0 for its first, less for what is between."""
    return [0 if place == 0 else -1 if place % (per_bar // 2) == 0 and per_bar % 8 == 0 else -2 if place % 4 == 0
            else -3 if place % 2 == 0 else -4 for place in range(per_bar)]


def likenesses(one: GroovePrint, bpm: float, others: Sequence[tuple[GroovePrint, float]]) -> list[Likeness]:
    """Return how alike a groove at a tempo is to each of others with theirs; one of another bar has no likeness in groove or feel.

    Grooves are compared by the cosine of what is played, smoothed over neighbouring steps (as drum patterns are in Toussaint, "The Geometry
    of Musical Rhythm", 2013, chapter on similarity); tempos to the octave.
    """
    alike = [n for n, (other, _) in enumerate(others) if other.beats_per_bar == one.beats_per_bar and other.played]
    found = [Likeness(0.0, 0.0, 0.0, 0.0)] * len(others)
    if not alike or not one.played:
        return found
    mine, theirs = _smoothed([one])[0], _smoothed([others[n][0] for n in alike])
    by_group = np.where((np.linalg.norm(theirs, axis=-1) > 0.0) & (np.linalg.norm(mine, axis=-1) > 0.0), _cosines(mine, theirs), 0.0)
    whole = _cosines(mine.reshape(1, -1), theirs.reshape(len(alike), 1, -1))[:, 0]
    feel = _feels(one, [others[n][0] for n in alike])
    octaves = np.log2(np.array([max(1e-6, others[n][1]) for n in alike]) / bpm)
    tempo = np.exp(-(((octaves + 0.5) % 1.0 - 0.5) / TEMPO_WIDTH) ** 2)
    score = GROOVE_SHARE * whole + FEEL_SHARE * feel + (1.0 - GROOVE_SHARE - FEEL_SHARE) * tempo
    for row, n in enumerate(alike):
        found[n] = Likeness(float(score[row]), float(whole[row]), float(feel[row]), float(tempo[row]), tuple(by_group[row].tolist()))
    return found


def _smoothed(prints: Sequence[GroovePrint]) -> Floats:
    """Return what is played, spread over neighbouring steps round the bar, shape (prints, groups, steps)."""
    steps = prints[0].beats_per_bar * STEPS
    played = np.frombuffer(b"".join(one.played for one in prints), np.uint8).reshape(len(prints), len(GROUPS), steps) / np.float32(255.0)
    middle = len(SMOOTH) // 2
    return np.asarray(sum(weight * np.roll(played, n - middle, axis=2) for n, weight in enumerate(SMOOTH)), np.float32)


def _cosines(mine: Floats, theirs: Floats) -> Floats:
    """Return the cosine of each row of `mine` with that of each of `theirs`; 1 where both are empty."""
    inner = (theirs * mine).sum(axis=-1)
    norms = np.linalg.norm(theirs, axis=-1) * np.linalg.norm(mine, axis=-1)
    empty = (np.linalg.norm(theirs, axis=-1) + np.linalg.norm(mine, axis=-1)) == 0.0
    return np.asarray(np.where(empty, 1.0, inner / np.maximum(norms, 1e-9)), np.float32)


def _feels(one: GroovePrint, others: Sequence[GroovePrint]) -> Floats:
    """Return how alike timing and force are where both strike; nothing where they hardly share a place."""
    mine_late, mine_force = np.frombuffer(one.late, np.int8).astype(np.float32), np.frombuffer(one.force, np.uint8).astype(np.float32)
    late = np.frombuffer(b"".join(other.late for other in others), np.int8).reshape(len(others), -1).astype(np.float32)
    force = np.frombuffer(b"".join(other.force for other in others), np.uint8).reshape(len(others), -1).astype(np.float32)
    both = (late != NO_HIT) & (mine_late != NO_HIT)
    count = np.maximum(both.sum(axis=1), 1)
    apart = np.where(both, (late - mine_late) * LATE_UNIT_MS, 0.0)
    middle = apart.sum(axis=1) / count  # a groove that is late as a whole is the same groove
    rms = np.sqrt(np.where(both, (apart - middle[:, np.newaxis]) ** 2, 0.0).sum(axis=1) / count)
    harder = np.where(both, np.abs(force - mine_force), 0.0).sum(axis=1) / count
    shared = both.sum(axis=1) / max(1, int((mine_late != NO_HIT).sum()))
    return np.asarray(np.minimum(1.0, 1.5 * shared) * (0.6 * np.exp(-rms / FEEL_MS) + 0.4 * np.exp(-harder / FEEL_FORCE)), np.float32)


def why_alike(likeness: Likeness, bpm: float, other_bpm: float) -> str:
    """Return in words what two grooves share, and how their tempos differ."""
    named = list(zip(likeness.groups, GROUPS, strict=False))[:-1]
    same = [name for share, name in named if share >= 0.9]
    words = [f"same {' and '.join(same[:2])}"] if same else []
    near = max(named, default=(0.0, ""))
    if not same and near[0] > 0.6:
        words.append(f"{near[1]} alike")
    if likeness.feel >= 0.75:
        words.append("like feel")
    ratio = other_bpm / bpm
    octave = 2.0 ** round(float(np.log2(max(1e-6, ratio))))
    off = 100.0 * (ratio / octave - 1.0)
    feel = {1.0: "", 2.0: " at double time", 0.5: " at half time"}.get(octave, "")
    words.append(f"{'same tempo' if abs(off) < 0.5 else f'{off:+.0f} % tempo'}{feel}")
    return ", ".join(words)


def share_below(values: Iterable[float], value: float) -> float:
    """Return which share of values lies below one, 0 where there are none."""
    every = np.array(list(values), dtype=float)
    return float((every < value).mean()) if every.size else 0.0
