"""How true what Study says is: `python benchmarks/study.py [--grooves N] [--jobs N]`, on made grooves whose truth is known.

Each is drawn over wide ranges (tempo, swing, ahead and behind, ghosts, which bars are alike), read as it is written, and heard:
rendered on a kit of its own, analysed, and read from what was heard, where its tempo was heard right. And as many that have nothing to
say: struck by chance, free or on the grid. Seeds of this table are used by no test and nothing is tuned on them.
"""

from __future__ import annotations

import argparse
import os

for _name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(_name, "1")

from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from bompla.demo.synth import draw_kit, strike
from bompla.groove.read import read_groove
from bompla.groove.rebuild import document_from
from bompla.groove.seen import Fact
from bompla.model.document import Document, Hit, Pad, Variation
from bompla.model.drums import DRUMS

RATE = 44_100
FIRST_SEED = 780_000
BARS, BEATS = 4, 4
SWING_OFF, OFFSET_OFF_MS = 1.0, 2.0
FILL = ("tom_high", "tom_high", "tom_mid", "tom_low")
FEEL = ("swing", "back_beat", "form")
Strikes = list[tuple[float, str, int]]


@dataclass(frozen=True)
class Truth:
    """What was made: swing in per cent, 50 for none, how late the snare is in ms, letters of the bars, and how many ghosts."""

    swing: float
    late_ms: float
    form: str
    ghosts: int


class Row(NamedTuple):
    """What one groove showed: whether each answer was right, None where there was none to give, and how many false sentences were said."""

    swing: bool | None
    offset: bool | None
    form: bool | None
    ghosts: bool | None
    false: int


def drawn(seed: int) -> tuple[Strikes, float, Truth]:
    """Return a groove as (beat, drum, velocity), its tempo, and its truth."""
    rng = np.random.default_rng(seed)
    bpm = float(rng.uniform(72.0, 150.0))
    swing = 50.0 if rng.random() < 0.4 else float(rng.uniform(54.0, 67.0))
    late_ms = 0.0 if rng.random() < 0.4 else float(rng.choice([-1, 1]) * rng.uniform(5.0, 16.0))
    loose_ms = float(rng.uniform(0.2, 1.5))
    fill, ghosts = rng.random() < 0.5, int(rng.integers(0, 3))
    kicks = sorted({0.0, *rng.choice([0.5, 1.5, 2.0, 2.5, 3.5], 2, replace=False).tolist()})
    ghost_at = rng.choice([0.75, 1.75, 2.25, 3.75], ghosts, replace=False).tolist()
    per_ms = bpm / 60_000.0

    def place(at: float) -> float:
        return at + (swing / 100.0 - 0.5 if abs(at % 1.0 - 0.5) < 1e-9 else 0.0)

    strikes: Strikes = []
    for bar in range(BARS):
        own: Strikes = [(place(at), "kick", 108) for at in kicks]
        own += [(at + late_ms * per_ms, "snare", 110) for at in (1.0, 3.0)]
        own += [(at + late_ms * per_ms, "snare", 34) for at in ghost_at]
        own += [(place(n / 2.0), "hat_closed", 92 if n % 2 == 0 else 74) for n in range(8)]
        if fill and bar == BARS - 1:
            own = [strike for strike in own if strike[0] < 2.9] + [(3.0 + n / 4.0, drum, 104) for n, drum in enumerate(FILL)]
        strikes += [(bar * BEATS + at, drum, velocity) for at, drum, velocity in own]
    loose = [(max(0.0, at + rng.normal(0.0, loose_ms) * per_ms), drum, int(np.clip(v + rng.normal(0.0, 2.0), 1, 127)))
             for at, drum, v in strikes]
    count = ghosts * BARS - (sum(at >= 2.9 for at in ghost_at) if fill else 0)
    return sorted(loose), bpm, Truth(swing, late_ms, "AAAB" if fill else "AAAA", count)


def by_chance(seed: int) -> tuple[Strikes, float]:
    """Return strikes that mean nothing, free or on sixteenths, and a tempo."""
    rng = np.random.default_rng(seed)
    times = rng.uniform(0.0, BARS * BEATS - 0.1, int(rng.integers(16, 80)))
    times = np.floor(times * 4.0) / 4.0 if rng.random() < 0.5 else times
    made = {(float(at), str(rng.choice(["kick", "snare", "hat_closed"]))): int(rng.integers(30, 127)) for at in times}
    return sorted((at, drum, velocity) for (at, drum), velocity in made.items()), float(rng.uniform(72.0, 150.0))


def written(strikes: Strikes, bpm: float, like: Document) -> Document:
    """Return a document whose pattern is these strikes."""
    pads = tuple(Pad(n, n - 1, drum, DRUMS[drum].label, DRUMS[drum].note) for n, drum in enumerate(sorted({d for _, d, _ in strikes}), 1))
    ids = {pad.drum: pad.id for pad in pads}
    hits = tuple(Hit(100 + n, ids[drum], at, velocity) for n, (at, drum, velocity) in enumerate(strikes))
    rate = like.source.sample_rate
    loop = replace(like.loop, start_sample=0, end_sample=round(BARS * BEATS * 60.0 / bpm * rate), length_beats=4.0 * BARS, meter_name="4/4")
    source, variations = replace(like.source, frames=10**9), (Variation("A", "made", hits),)
    return replace(like, source=source, loop=loop, pads=pads, variations=variations, shown=0, cuts=(), next_id=10_000)


def played(strikes: Strikes, bpm: float, seed: int) -> Clip:
    """Return strikes as sound, trimmed to its bars, on a kit of its own."""
    rng, kit = np.random.default_rng(seed + 1), draw_kit(np.random.default_rng(seed + 2), RATE, width=0.7)
    frames = round(BARS * BEATS * 60.0 / bpm * RATE)
    mix = np.zeros(frames + 5 * RATE)
    for at, drum, velocity in strikes:
        sound = strike(kit, drum, velocity, rng)
        start = round(at * 60.0 / bpm * RATE)
        mix[start : start + len(sound)] += sound[: len(mix) - start]
    loop = mix[:frames]
    rest = mix[frames : 2 * frames]
    loop[: len(rest)] += rest
    return Clip((0.9 * loop / np.abs(loop).max()).astype(np.float32)[:, None], RATE)


def judged(facts: tuple[Fact, ...], form: str, truth: Truth) -> Row:
    """Return whether what was read is true."""
    all_swing = {fact.about["level"]: fact for fact in facts if fact.key == "swing" and fact.about["drum"] == "all"}
    eighth = all_swing.get("eighth")
    swing = abs(eighth.value - truth.swing) <= SWING_OFF if eighth is not None else None
    offset = next((fact for fact in facts if fact.key == "offset" and fact.about == {"drum": "snare", "against": "grid"}), None)
    right = abs(offset.value - truth.late_ms) <= OFFSET_OFF_MS if offset is not None else None
    ghosts = next((fact.value for fact in facts if fact.key == "ghosts"), 0.0)
    false = sum(1 for one in all_swing.values() if one.text and (truth.swing == 50.0 or one.about["level"] == "sixteenth"))
    false += sum(1 for fact in facts if fact.key == "offset" and fact.text and (fact.about["drum"] != "snare" or truth.late_ms == 0.0))
    return Row(swing, right, form == truth.form, abs(ghosts - truth.ghosts) <= 1, false)


def one(seed: int) -> tuple[Row, Row | None, int]:
    """Return what a groove showed as written and as heard, and how many sentences of feel strikes by chance brought."""
    strikes, bpm, truth = drawn(seed)
    clip = played(strikes, bpm, seed)
    heard = document_from(analyse(clip, name="made"), "made")
    as_written, as_heard = read_groove(written(strikes, bpm, heard)), read_groove(heard)
    chance, chance_bpm = by_chance(seed + 500_000)
    said = [fact.key for fact in read_groove(written(chance, chance_bpm, heard)).sentences() if fact.key in FEEL]
    tempo_right = abs(heard.bpm / bpm - 1.0) < 0.005
    from_sound = judged(as_heard.facts, as_heard.form, truth) if tempo_right else None
    return judged(as_written.facts, as_written.form, truth), from_sound, len(said)


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--grooves", type=int, default=100)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    chosen = parser.parse_args()
    with ProcessPoolExecutor(chosen.jobs) as pool:
        rows = list(pool.map(one, range(FIRST_SEED, FIRST_SEED + chosen.grooves)))
    print(f"{chosen.grooves} made grooves, seeds from {FIRST_SEED}")
    print("             swing, 1 %   snare's place, 2 ms   form   ghosts   false sentences")
    for name, which in (("as written", 0), ("from sound", 1)):
        table = [row for one_groove in rows if (row := one_groove[which]) is not None]
        shares = []
        for key in ("swing", "offset", "form", "ghosts"):
            known = [getattr(row, key) for row in table if getattr(row, key) is not None]
            shares.append(f"{100.0 * np.mean(known):.0f} of {len(known)}" if known else "none")
        print(f"{name:12s} {shares[0]:>10s} {shares[1]:>19s} {shares[2]:>9s} {shares[3]:>8s} {sum(row.false for row in table):>12d}")
    print(f"tempo heard right in {sum(row[1] is not None for row in rows)} of {len(rows)}")
    print(f"by chance: {sum(row[2] for row in rows)} sentences of swing, back beat or form in {len(rows)} patterns that have none")


if __name__ == "__main__":
    main()
