"""A groove taught in layers: from its skeleton up, each step in a sentence with the hits that it adds."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bompla.groove.read import read_groove
from bompla.groove.read_drums import GHOST_SHARE
from bompla.groove.seen import STEPS, Seen, seen_in, syllable
from bompla.model.document import Document
from bompla.model.drums import DRUMS, Family
from bompla.model.wording import counted

OFTEN = 0.6
MOST_NAMED = 6


@dataclass(frozen=True)
class LessonStep:
    """One step: its title, a sentence, the hits that it adds, and all hits up to it."""

    title: str
    text: str
    adds: tuple[int, ...]
    up_to: tuple[int, ...]


def lesson_of(document: Document) -> tuple[LessonStep, ...]:
    """Return the steps of the shown pattern: skeleton, time, syncopations, ghosts, fill; a step without hits is left out.

    The skeleton is what kick and snare play on the beats, time is what hats, ride and shaker play, and a fill what a bar that stands
    alone has beside what the other bars have in the same place.
    """
    seen, read = seen_in(document), read_groove(document)
    fill = _fill(seen, read.form)
    ghosts = _ghosts(seen) & ~fill
    time = seen.families(Family.HATS) | seen.of("ride", "shaker")
    skeleton = seen.of("kick", "snare", "clap", "rim") & (np.mod(seen.step, STEPS) == 0) & ~ghosts
    parts = (
        ("The skeleton", skeleton & ~fill, _skeleton_words),
        ("What keeps time", time & ~fill, _time_words),
        ("What goes against the beat", ~(skeleton | time | ghosts) & ~fill, _against_words),
        ("The ghosts", ghosts, _ghost_words),
        ("The fill", fill, lambda s, chosen: _fill_words(s, chosen, read.form)),
    )
    steps: list[LessonStep] = []
    so_far: tuple[int, ...] = ()
    for title, chosen, words in parts:
        adds = seen.ids(chosen)
        if adds:
            so_far = (*so_far, *adds)
            steps.append(LessonStep(title, words(seen, chosen), adds, so_far))
    return tuple(steps)


def _fill(seen: Seen, form: str) -> NDArray[np.bool_]:
    """Return what the one bar that is unlike the others has beside them; nothing where there is no such bar."""
    none = np.zeros(seen.at.size, bool)
    kinds = Counter(form)
    common, count = kinds.most_common(1)[0]
    others = [bar for bar, letter in enumerate(form) if letter != common]
    if count < 2 or len(others) != 1:
        return none
    per_bar = seen.meter.beats_per_bar * STEPS
    bar, within = seen.step // per_bar, np.mod(seen.step, per_bar)
    usual = Counter((drum, int(place)) for drum, place, own in zip(seen.drums, within.tolist(), bar.tolist(), strict=True)
                    if form[min(own, len(form) - 1)] == common)
    often = {key for key, times in usual.items() if times >= OFTEN * count}
    new = [own == others[0] and (drum, place) not in often
           for drum, place, own in zip(seen.drums, within.tolist(), bar.tolist(), strict=True)]
    return np.array(new, dtype=bool) if new else none


def _ghosts(seen: Seen) -> NDArray[np.bool_]:
    snares = seen.of("snare", "rim")
    if np.count_nonzero(snares) < 2:
        return np.zeros(seen.at.size, bool)
    loud = float(np.percentile(seen.force[snares], 90))
    return np.asarray(snares & (seen.force < GHOST_SHARE * loud))


def _places(seen: Seen, chosen: NDArray[np.bool_]) -> str:
    """Return the places in the bar that are struck, counted; those of most bars first, no more than a few."""
    per_bar = seen.meter.beats_per_bar * STEPS
    counts = Counter(int(step) % per_bar for step in seen.step[chosen].tolist())
    bars = max(1, seen.beats // seen.meter.beats_per_bar)
    often = sorted(step for step, count in counts.items() if count >= OFTEN * bars) or [step for step, _ in counts.most_common(2)]
    named = [syllable(step, seen.meter) for step in often[:MOST_NAMED]]
    return f"{', '.join(named[:-1])} and {named[-1]}" if len(named) > 1 else named[0]


def _skeleton_words(seen: Seen, chosen: NDArray[np.bool_]) -> str:
    words = []
    for drums, name in ((("kick",), "kick"), (("snare", "clap", "rim"), "snare")):
        own = chosen & seen.of(*drums)
        if np.any(own):
            words.append(f"the {name} on {_places(seen, own)}")
    return f"{', '.join(words)[:1].upper()}{', '.join(words)[1:]}."


def _time_words(seen: Seen, chosen: NDArray[np.bool_]) -> str:
    per_beat = np.count_nonzero(chosen) / max(1, seen.beats)
    rates = {1.0: "one on each beat", 2.0: "two to a beat", 3.0: "three to a beat", 4.0: "four to a beat"}
    rate = min(rates, key=lambda one: abs(one - per_beat))
    drums = [DRUMS[drum].label.lower() for drum, _ in Counter(d for d, there in zip(seen.drums, chosen.tolist(), strict=True) if there)
             .most_common(2)]
    how = rates[rate] if abs(per_beat - rate) < 0.2 * rate else f"{counted(int(np.count_nonzero(chosen)), 'stroke')} in all"
    return f"Over it the {' and the '.join(drums)}: {how}."


def _against_words(seen: Seen, chosen: NDArray[np.bool_]) -> str:
    kicks, snares = chosen & seen.of("kick"), chosen & seen.of("snare", "clap", "rim")
    words = [f"the {name} on {_places(seen, own)}" for own, name in ((kicks, "kick"), (snares, "snare")) if np.any(own)]
    rest = int(np.count_nonzero(chosen & ~kicks & ~snares))
    words += [f"{counted(rest, 'other stroke')}"] if rest else []
    return f"Between the beats {', '.join(words)}: this is what pulls." if words else ""


def _ghost_words(seen: Seen, chosen: NDArray[np.bool_]) -> str:
    return f"{counted(int(np.count_nonzero(chosen)), 'soft stroke')} of the snare, mostly on {_places(seen, chosen)}: felt more than heard."


def _fill_words(_seen: Seen, chosen: NDArray[np.bool_], form: str) -> str:
    common = Counter(form).most_common(1)[0][0]
    bar = next(n for n, letter in enumerate(form, 1) if letter != common)
    return f"Bar {bar} leaves the pattern: {counted(int(np.count_nonzero(chosen)), 'stroke')} that the other bars do not have."
