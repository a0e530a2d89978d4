"""What single drums do: back beat, kick figure, hats, accents, ghosts, and how busy and how syncopated they are together."""

from __future__ import annotations

from collections import Counter

import numpy as np
from numpy.typing import NDArray

from bompla.groove.seen import FEWEST, STEPS, Fact, Seen, syllable
from bompla.model.drums import DRUMS, Family
from bompla.model.groove_print import syncopation, syncopation_of_voices
from bompla.model.wording import counted

SURE = 2.6
"""An effect is said where it is so many times its standard error."""

SAME_FIGURE = 0.6
GHOST_SHARE = 0.55
WORTH_KICK, WORTH_SNARE = 2.0, 1.0
"""What it is worth to go against the others: a kick more than a snare."""


def facts_of_drums(seen: Seen) -> list[Fact]:
    """Return what the drums of a pattern do."""
    return [*_back_beat(seen), *_kick(seen), *_hats(seen), *_accents(seen), *_ghosts(seen), *_density(seen)]


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
    """Return how many strokes a bar has, and how syncopated it is, by two published measures."""
    bars = max(1, seen.beats // seen.meter.beats_per_bar)
    made = [Fact("density", round(len(seen.hits) / bars, 3), "hits per bar")]
    if seen.meter.compound or not seen.hits:
        return made
    sixteenths = np.round(seen.step / 3.0).astype(int)
    kick, snares = (sixteenths[seen.of(*drums)].tolist() for drums in (("kick",), ("snare", "clap", "rim")))
    time = sixteenths[seen.families(Family.HATS, Family.CYMBALS)].tolist()
    grid = {"beats": seen.beats, "beats_per_bar": seen.meter.beats_per_bar}
    made.append(Fact("syncopation", round(syncopation(kick + snares, **grid), 3), "per bar"))
    voices = [(WORTH_KICK, kick), (WORTH_SNARE, snares), (0.0, time)]
    made.append(Fact("syncopation_of_voices", round(syncopation_of_voices(voices, **grid), 3), "per bar"))
    return made
