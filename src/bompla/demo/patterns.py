"""The grooves of Night Ferry, a band that does not exist, written step by step.

In a lane `X` is an accent, `x` a plain hit, `-` a soft one, `o` a ghost note, `f` a flam (an accent
with a softer hit just ahead of it), `,` a hit that is hardly there, and `.` a rest.
Blanks only help the eye.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from bompla.model.drums import METERS

STEP_VELOCITY = {"X": 118, "x": 98, "-": 66, "o": 36, "f": 116, ",": 16}
FLAM_S, FLAM_VELOCITY = 0.031, 84


@dataclass(frozen=True)
class Groove:
    """A groove to be played: lanes of steps, its meter and tempo, and how it is felt.

    `swing` is where the second of two steps falls within the pair, 0.5 for straight. `late_ms`
    holds, by drum, how far a lane lies behind the beat. `hot` is how far the recording was driven
    over full scale, where it is cut off flat.
    """

    title: str
    bpm: float
    bars: int
    lanes: dict[str, str]
    meter: str = "4/4"
    steps_per_beat: int = 4
    swing: float = 0.5
    late_ms: dict[str, float] = field(default_factory=dict)
    loose_ms: float = 3.0
    seed: int = 1
    lead_in_s: float = 0.0
    tail_s: float = 0.0
    hot: float = 0.0

    @property
    def beats(self) -> int:
        """The number of beats."""
        return self.bars * METERS[self.meter].beats_per_bar

    @property
    def duration_s(self) -> float:
        """The length of the bars in seconds, without lead-in and tail."""
        return self.beats * 60.0 / self.bpm


@dataclass(frozen=True)
class Played:
    """A hit as it was played: its acoustic onset in seconds from the first downbeat."""

    time_s: float
    beat: float
    drum: str
    velocity: int


def perform(groove: Groove) -> tuple[Played, ...]:
    """Play a groove as a person would: swung, a little loose in time and force; the same every time.

    A step that is late is late in all limbs; between limbs there is a third of that looseness.
    """
    rng = np.random.default_rng(groove.seed)
    drift = np.clip(rng.normal(0.0, groove.loose_ms, groove.beats * groove.steps_per_beat), -9.0, 9.0)
    hits = []
    for drum, lane in groove.lanes.items():
        steps = lane.replace(" ", "")
        if len(steps) != groove.beats * groove.steps_per_beat:
            raise ValueError(f"{groove.title}: the lane {drum} has {len(steps)} steps")
        for step, mark in enumerate(steps):
            if mark == ".":
                continue
            pair, second = divmod(step, 2)
            beat = (2.0 * pair + second * 2.0 * groove.swing) / groove.steps_per_beat
            limb = float(np.clip(rng.normal(0.0, groove.loose_ms / 3.0), -4.0, 4.0))
            late = groove.late_ms.get(drum, 0.0) + drift[step] + limb
            if step == 0:
                late = abs(late) * 0.3
            velocity = int(np.clip(STEP_VELOCITY[mark] + rng.normal(0.0, 4.0), 12, 127))
            time_s = max(0.0, beat * 60.0 / groove.bpm + late / 1000.0)
            hits.append(Played(time_s, beat, drum, velocity))
            if mark == "f":
                hits.append(Played(time_s - FLAM_S, beat - FLAM_S * groove.bpm / 60.0, drum, FLAM_VELOCITY))
    hits.sort(key=lambda hit: (hit.time_s, hit.drum))
    first = hits[0].time_s
    return tuple(Played(hit.time_s - first, hit.beat, hit.drum, hit.velocity) for hit in hits)


QUAY_BREAK = Groove(
    "quay break",
    96.02,
    4,
    {
        "hat_closed": "X.-.X.-.X.-.X.-. X.-.X.-.X.-.X... X.-.X.-.X.-.X.-. X.-.X.-.X.......",
        "hat_open": "................ ..............x. ................ ..............X.",
        "snare": "....X..o.o..X..o ....X..o.o..X... ....X..o.o..X..o ....X..o.o..X.xx",
        "kick": "X.x.......xx.... X.x....x..x..... X.x.......xx.... X.x....x..x.x...",
        "crash": "................ ................ ................ ............X...",
    },
    late_ms={"snare": 5.0, "hat_closed": -1.0},
    seed=11,
)

LAMPLIGHT_SHUFFLE = Groove(
    "lamplight shuffle",
    118.0,
    4,
    {
        "ride": "X.xX.xX.xX.x X.xX.xX.xX.x X.xX.xX.xX.x X.xX.xX.x...",
        "hat_pedal": "...x.....x.. ...x.....x.. ...x.....x.. ...x........",
        "snare": "..o X.o ..o X.. ..o X.o ..o X.o ..o X.o ..o X.. ..o X.o xx- X.x",
        "kick": "X.. ..x X.. ... X.. ..x X.. ..x X.. ..x X.. ... X.. ..x X.. ...",
        "tom_low": "............ ............ ............ ........x...",
    },
    steps_per_beat=3,
    late_ms={"snare": 4.0},
    loose_ms=3.5,
    seed=12,
)

TIN_ROOF_RIM = Groove(
    "tin roof rim",
    104.0,
    4,
    {
        "shaker": "x-X-x-X-x-X-x-X- x-X-x-X-x-X-x-X- x-X-x-X-x-X-x-X- x-X-x-X-x-X-x-X-",
        "rim": "....X.......X..x ....X......xX... ....X.......X..x ....X..x..x.X...",
        "kick": "X......x..X..... X......x..X....x X......x..X..... X......x..X..x..",
        "perc": "................ ..........x..x.. ................ ..x..x..........",
    },
    late_ms={"shaker": 2.0},
    seed=13,
)

GANGWAY_HATS = Groove(
    "gangway hats",
    126.0,
    4,
    {
        "hat_closed": "x...x...x...x... x...x...x...x... x...x...x...x... x...x...x...x...",
        "hat_open": "..X...X...X...X. ..X...X...X...X. ..X...X...X...X. ..X...X...X...X.",
        "snare": "....X.......X... ....X.......X... ....X.......X... ....X.......X.X.",
        "kick": "X...x...x...x... X...x...x...x..x X...x...x...x... X...x...x...x.x.",
        "clap": "............X... ............X... ............X... ............X...",
    },
    loose_ms=2.0,
    seed=14,
)

SLACK_TIDE = Groove(
    "slack tide 6-8",
    76.0,
    4,
    {
        "hat_closed": "X-x X-x X-x X-x X-x X-x X-x X..",
        "hat_open": "... ... ... ..x ... ... ... ...",
        "snare": "... X.o ... X.. ..o X.o ... X.x",
        "kick": "X.. ..x X.x ... X.. ..x X.x ...",
        "tom_mid": "... ... ... ... ... ... ... .x.",
    },
    meter="6/8",
    steps_per_beat=3,
    late_ms={"snare": 4.0},
    seed=15,
)

HALF_TIME_PIER = Groove(
    "half-time pier",
    140.0,
    4,
    {
        "ride": "..x.x.x.x.x.x.x. x.x.x.x.x.x.x.x. x.x.x.x.x.x.x.x. x.x.x.x.x.......",
        "snare": "........X....... ........X.....o. ........X....... ........X.......",
        "kick": "X.....x......... X..x..x......x.. X.....x......... X..x..x.........",
        "tom_high": "................ ................ ................ ..........X.x...",
        "tom_low": "................ ................ ................ .............Xx.",
    },
    loose_ms=3.0,
    seed=16,
)

REHEARSAL_TAPE = Groove(
    "rehearsal tape",
    101.3,
    4,
    {
        "hat_closed": "x.x.x.x.x.x.x.x. x.x.x.x.x.x.x... x.x.x.x.x.x.x.x. x.x.x.x.x.x.x.x.",
        "hat_open": "................ ..............X. ................ ................",
        "snare": "....X.......X... ....X..o....X... ....X.......X..o ....X..o....X.X.",
        "kick": "X.......X.x..... X..x....X.x..... X.......X.x..... X..x....X.x.....",
    },
    late_ms={"snare": 6.0},
    loose_ms=4.0,
    seed=17,
    lead_in_s=2.37,
    tail_s=2.6,
)

ROUGH_DUB = Groove(
    "rough dub",
    92.4,
    2,
    {
        "hat_closed": "X.x.X.x.X.x.X.x. X.x.X.x.X.x.....",
        "snare": "....f......,X... ....f..,....f...",
        "kick": "X.....x.X....... X.....x.X.x.....",
    },
    late_ms={"snare": 4.0},
    loose_ms=2.0,
    seed=18,
    hot=1.45,
)

GROOVES = (
    QUAY_BREAK,
    LAMPLIGHT_SHUFFLE,
    TIN_ROOF_RIM,
    GANGWAY_HATS,
    SLACK_TIDE,
    HALF_TIME_PIER,
    REHEARSAL_TAPE,
    ROUGH_DUB,
)
"""The demo set; the first is the one the demo project opens with."""
