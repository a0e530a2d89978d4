"""Feel: timing and accent apart from which hits are played; taken from a groove, laid over another, written in."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np
from msgspec.structs import replace

from bompla.errors import BomplaError, EditError, ExportError
from bompla.files import read_regular, write_atomically
from bompla.groove.grid import EARLY_BEATS, beat_divisions
from bompla.model.detected_pattern import EARLIEST_BEATS, is_inside, pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document, Feel, FeelLayer, Hit
from bompla.model.drums import Meter
from bompla.model.memo import LastMade
from bompla.model.moments import labelled
from bompla.model.params import Param, table
from bompla.model.pattern_edits import with_pattern
from bompla.units import clamped_velocity

PLAIN_LAYER = FeelLayer()
_FELT: LastMade[tuple[Hit, ...]] = LastMade(8)
FEEL_PARAMS = table((
    Param("swing", "Swing", "%", 50.0, 75.0, "Where the second of two steps falls; 50 % is straight, 67 % a triplet", default=50.0),
    Param("pull", "Pull to grid", "share", 0.0, 1.0, "How far hits are drawn to their own beat's grid"),
    Param("ahead", "Ahead / behind", "ms", -40.0, 40.0, "Moves the chosen lane; to the right is behind the beat"),
    Param("accent", "Accents", "share", 0.0, 2.0, "How much loudness differs; 100 % is as played", default=1.0),
    Param("loose_ms", "Looseness", "ms", 0.0, 30.0, "How far hits stray by chance"),
    Param("timing", "Timing of the feel", "share", 0.0, 1.0, "How much of the chosen feel's timing is taken"),
    Param("force", "Accents of the feel", "share", 0.0, 1.0, "How much of the chosen feel's accents is taken"),
))
"""The numbers of a layer by field; `ahead` is one of `ahead_ms`, that of a lane."""

STEPS_A_BEAT = 96
"""Looseness tells a moment from the same one in other bars by steps so fine."""

FORMAT = "bompla feel"
MOST_KEPT = 200
MOST_FILE_BYTES = 8 << 20


def felt(hits: Sequence[Hit], layer: FeelLayer, *, beats: float, bpm: float, meter: Meter) -> tuple[Hit, ...]:
    """Return hits as a layer makes them felt, in order of time; the plain layer leaves them as they are.

    First hits are drawn to their own beat's grid, then come swing, the taken feel, what each pad is
    ahead or behind, and looseness; the same seed gives the same looseness. None leaves the loop, which begins up to half a
    beat early. Where a pad's accents would go over
    the hardest velocity, all of its hits are softer by as much: accents that differ go on differing.
    """
    if layer == PLAIN_LAYER or not hits:
        return tuple(hits)
    divisions = beat_divisions([hit.at_beats for hit in hits], beats, compound=meter.compound)
    ahead = dict(layer.ahead_ms)
    middle = float(np.median([hit.velocity for hit in hits]))
    per_ms = bpm / 60_000.0
    made: list[Hit] = []
    force: dict[int, float] = {}
    hardest: dict[int, float] = {}
    for hit in hits:
        if not is_inside(hit.at_beats, beats):
            made.append(hit)
            continue
        at = _pulled(hit.at_beats, layer.pull, divisions)
        at = _swung(at, layer)
        velocity = middle + (hit.velocity - middle) * layer.accent
        if layer.feel is not None and (not layer.lanes or hit.pad_id in layer.lanes):
            step = _step_of(at, layer.feel)
            at += layer.timing * layer.feel.late[step]
            velocity *= 1.0 + layer.force * (layer.feel.accent[step] - 1.0)
        at += per_ms * (ahead.get(hit.pad_id, 0.0) + _loose_ms(hit, layer))
        at = min(max(EARLIEST_BEATS, at), beats - 1e-6)
        force[hit.id] = velocity
        hardest[hit.pad_id] = max(hardest.get(hit.pad_id, 0.0), velocity)
        made.append(replace(hit, at_beats=round(at, 9)))
    gain = {pad_id: min(1.0, 127.0 / max(1.0, most)) for pad_id, most in hardest.items()}
    made = [replace(h, velocity=clamped_velocity(force[h.id] * gain[h.pad_id])) if h.id in force else h for h in made]
    return tuple(sorted(made, key=lambda hit: (hit.at_beats, hit.pad_id, hit.id)))


def felt_pattern(document: Document) -> tuple[Hit, ...]:
    """Return the hits of the shown variation as they are felt."""
    pattern = pattern_of(document)

    def made() -> tuple[Hit, ...]:
        hits = labelled(document, pattern)
        return felt(hits, pattern.layer, beats=pattern_beats(document), bpm=document.bpm, meter=pattern_meter(document))

    return _FELT.get((pattern, document.loop, document.source, document.cuts, document.pads), made)


def write_in(document: Document) -> Document:
    """Make the feel part of the hits, and the layer plain again: what is heard stays the same."""
    pattern = pattern_of(document)
    return with_pattern(document, replace(pattern, hits=felt_pattern(document), layer=PLAIN_LAYER))


def feel_of(document: Document, name: str) -> Feel:
    """Return the feel of the shown pattern: by step of the bar, the middle of how late and how hard its hits are.

    Steps without hits are as late as the steps around them. Raises EditError for a pattern without hits.
    """
    struck = [(hit.at_beats, hit.pad_id, hit.velocity) for hit in pattern_of(document).hits]
    return feel_from(struck, pattern_meter(document), pattern_beats(document), name)


def feel_from(struck: Sequence[tuple[float, int, int]], meter: Meter, beats: float, name: str) -> Feel:
    """Return the feel of what was struck, as (beat, pad or note, velocity), see `feel_of`.

    How hard is counted against the middle of each pad. Raises EditError where nothing was struck.
    """
    struck = [one for one in struck if is_inside(one[0], beats)]
    if not struck:
        raise EditError("There are no hits to take a feel from.")
    divisions = beat_divisions([at for at, _, _ in struck], beats, compound=meter.compound)
    per_beat = 3 if int((divisions == 3).sum()) * 2 > divisions.size else 4
    steps = meter.beats_per_bar * per_beat
    late: list[list[float]] = [[] for _ in range(steps)]
    force: list[list[float]] = [[] for _ in range(steps)]
    middle = {pad: float(np.median([v for _, other, v in struck if other == pad])) for pad in {pad for _, pad, _ in struck}}
    for at, pad, velocity in struck:
        nearest = round(at * per_beat)
        late[nearest % steps].append(at - nearest / per_beat)
        force[nearest % steps].append(velocity / max(1.0, middle[pad]))
    usual = float(np.median([value for values in late for value in values]))
    return Feel(
        name, per_beat,
        tuple(round(float(np.median(values)) if values else usual, 5) for values in late),
        tuple(round(float(np.median(values)) if values else 1.0, 4) for values in force),
    )


def own_feels() -> tuple[Feel, ...]:
    """Return the feels that ship with Bompla: swings in small steps, a late back beat, pushed hats."""
    made = []
    for percent in (54, 57, 60, 63, 66):
        late = tuple(2.0 * (percent - 50.0) / 100.0 * 0.25 if step % 2 else 0.0 for step in range(16))
        made.append(Feel(f"sixteenths swung {percent} %", 4, late, tuple(0.86 if step % 2 else 1.0 for step in range(16))))
    back = tuple(0.035 if step in (4, 12) else 0.0 for step in range(16))
    made.append(Feel("late back beat", 4, back, tuple(1.08 if step in (4, 12) else 1.0 for step in range(16))))
    pushed = tuple(-0.02 if step % 4 == 2 else 0.0 for step in range(16))
    made.append(Feel("pushed off-beats", 4, pushed, tuple(1.06 if step % 4 == 2 else 1.0 for step in range(16))))
    down = tuple({0: 1.15, 8: 1.06}.get(step, 0.97 if step % 4 == 0 else 0.9) for step in range(16))
    made.append(Feel("leaning on the one", 4, (0.0,) * 16, down))
    return tuple(made)


def kept_feels(folder: Path) -> tuple[Feel, ...]:
    """Return the feels that were kept in a folder, by name; what is there and is no feel does not count."""
    found = []
    with contextlib.suppress(OSError):
        for path in sorted(folder.glob("*.json"))[:MOST_KEPT]:
            with contextlib.suppress(BomplaError):
                found.append(load_feel(path))
    return tuple(found)


def save_feel(feel: Feel, path: Path) -> None:
    """Write a feel as JSON; raises ExportError with a sentence."""
    write_atomically(path, feel_text(feel).encode(), ExportError)


def feel_text(feel: Feel) -> str:
    """Return a feel as JSON."""
    return json.dumps({"format": FORMAT, "version": 1, "feel": msgspec.to_builtins(feel)}, indent=1) + "\n"


def load_feel(path: Path) -> Feel:
    """Read a feel; raises BomplaError with a sentence for a file that holds none."""
    try:
        content = json.loads(read_regular(path, MOST_FILE_BYTES, BomplaError))
        if content.get("format") != FORMAT:
            raise BomplaError(f"{path.name} holds no feel.")
        feel = msgspec.convert(content["feel"], Feel)
    except (ValueError, KeyError, AttributeError, TypeError, RecursionError, msgspec.ValidationError) as error:
        raise BomplaError(f"{path.name} holds no feel, or it is damaged.") from error
    if feel.steps_per_beat < 1 or not feel.late or len(feel.late) != len(feel.accent):
        raise BomplaError(f"{path.name} holds no feel, or it is damaged.")
    return feel


def _pulled(at_beats: float, pull: float, divisions: np.ndarray) -> float:
    beat = int(np.clip(np.floor(at_beats + EARLY_BEATS), 0, len(divisions) - 1))
    steps = int(divisions[beat])
    return at_beats + pull * (round(at_beats * steps) / steps - at_beats)


def _swung(at_beats: float, layer: FeelLayer) -> float:
    """Return a time with its pair of steps divided unevenly: the middle moves, the ends stay."""
    pair = 2.0 * layer.swing_beats
    start = np.floor((at_beats + 1e-9) / pair) * pair
    share = (at_beats - start) / pair
    middle = layer.swing / 100.0
    bent = share * 2.0 * middle if share < 0.5 else middle + (share - 0.5) * 2.0 * (1.0 - middle)
    return float(start + bent * pair)


def _step_of(at_beats: float, feel: Feel) -> int:
    return round(at_beats * feel.steps_per_beat) % len(feel.late)


def _loose_ms(hit: Hit, layer: FeelLayer) -> float:
    if layer.loose_ms <= 0.0:
        return 0.0
    step = max(0, round((hit.at_beats + 1.0) * STEPS_A_BEAT))
    number = (hit.id,) if hit.moment < 0 else (hit.moment, step, 1)  # hits of a moment stay together
    draw = np.random.default_rng((layer.seed, *number)).normal(0.0, layer.loose_ms / 2.0)
    return float(np.clip(draw, -layer.loose_ms, layer.loose_ms))

