"""Runs of loops that the groups of sounds play in turn, to learn from and to check."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "benchmarks"))

from corpus.kits import LEARNED  # noqa: E402
from corpus.render import LabelledLoop, make_loop  # noqa: E402

GROUPS = tuple(group for group in LEARNED if group != "chip")
RUN = 904
"""Loops in a run: as many of each group of sounds."""

Runs = tuple[tuple[str, tuple[int, ...]], ...]
CONTEXT_RUNS: Runs = (
    ("learn", (140_000, 141_000, 142_000, 143_000, 144_000, 165_000, 166_000, 167_000, 168_000, 169_000, 172_000)),
    ("learn chance", (150_000, 151_000, 154_000, 155_000)),
    ("learn wide", (190_000, 191_000, 192_000, 193_000, 194_000, 195_000, 196_000, 197_000)),
)
FURTHER_RUNS: Runs = (("learn ringing", (183_000, 184_000)),)
AFTER_RUNS: Runs = (
    ("learn", (173_000, 174_000, 175_000)), ("learn chance", (156_000,)), ("learn wide", (198_000,)), ("learn ringing", (185_000,)),
)
"""What it goes on with after the network has gone on."""

RECURRING_RUNS: Runs = (("learn", (176_000, 177_000)), ("learn wide", (230_000,)), ("learn ringing", (186_000,)))
"""What other bars count is learned from these first, and then what hears attacks together goes on with them as well."""

ONWARD_RUNS: Runs = (
    ("learn", (178_000, 179_000, 180_000, 181_000, 182_000)), ("learn chance", (157_000, 158_000)),
    ("learn wide", (199_000, 231_000, 232_000, 233_000, 234_000)), ("learn ringing", (187_000, 188_000)),
)
"""What hears attacks together goes on with from the weights that ship, once over."""

OF_ALL_GROUPS = ("learn wide", "learn ringing")
"""Runs whose drums may come from any group: left out where a group is to stay unheard."""

REFINE_RUNS: Runs = (("learn", (240_000,)), ("learn wide", (241_000,)))
"""What places attacks to the sample learns from these, new to the network as well."""

NETWORK_RUNS: dict[str, Runs] = {
    "anew": (("learn", (145_000, 146_000, 147_000, 148_000, 149_000)), ("learn chance", (152_000, 153_000))),
    "further": (("learn", (160_000, 161_000, 162_000, 163_000, 164_000)), ("learn chance", (170_000, 171_000))),
    "wider": (
        ("learn wide", (220_000, 221_000, 222_000, 223_000, 224_000)), ("learn ringing", (226_000,)),
        ("learn", (160_000, 161_000, 162_000, 163_000, 164_000)), ("learn chance", (170_000, 171_000)),
    ),
}
"""First seeds of runs. What hears attacks together learns from loops that the network did not learn from, to know how unsure it is.

It goes on with `FURTHER_RUNS` as well."""

MADE_OVER, CLEAN = 0.8, 0.25
"""How many loops have their strikes made over, and how many come as they are played, without room, desk or tape."""

Task = tuple[int, str, bool, bool, float, bool, bool, bool, bool]


def tasks_of(name: str, first: int, count: int) -> list[Task]:
    """Return how loops are made.

    Seed, group, made over, as played, share of full mixes, by chance, drums of any group, hats that ring, and not trimmed.
    """
    tasks = []
    for seed in range(first, first + count):
        varied, clean = np.random.default_rng(seed + 9).random(2)
        learn = (bool(varied < MADE_OVER), bool(clean < CLEAN), 0.2)
        ways = {"learn": (*learn, False, False, False, False), "learn chance": (*learn, True, False, False, False),
                "learn wide": (*learn, False, True, False, False), "learn ringing": (*learn, False, True, True, False),
                "learn untrimmed": (*learn, False, seed % 2 == 0, False, True),
                "check": (False, False, 0.2, False, False, False, False), "check clean": (False, True, 0.0, False, False, False, False),
                "check chance": (False, False, 0.2, True, False, False, False),
                "check ringing": (True, True, 0.0, False, True, True, False),
                "check untrimmed": (False, False, 0.2, False, False, False, True)}
        tasks.append((seed, GROUPS[(seed - first) % len(GROUPS)], *ways[name]))
    return tasks


def loop_of(task: Task) -> LabelledLoop:
    """Return the loop of a task."""
    seed, group, varied, clean, mix_share, chance, wide, ringing, untrimmed = task
    anywhere = GROUPS if wide else ()
    return make_loop(
        seed, (group,), untrimmed=untrimmed, varied=varied, clean=clean, mix_share=mix_share, chance=chance, anywhere=anywhere,
        ringing=ringing,
    )
