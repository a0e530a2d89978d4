"""Runs of loops that the groups of sounds play in turn, to learn from and to check."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import NamedTuple

import numpy as np

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "benchmarks"))

from corpus.kits import LEARNED  # noqa: E402
from corpus.render import LabelledLoop, at_other_tempo, make_loop, repitched  # noqa: E402

GROUPS = tuple(group for group in LEARNED if group not in ("chip", "machine"))
"""Groups that runs take in turn; machines have runs of their own."""

STRAIGHT = tuple(group for group in GROUPS if group not in ("synth", "freepats"))
"""Groups whose grooves FluidSynth renders in one piece."""

WITH_MACHINES = (*GROUPS, "machine")
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
    ("learn", (178_000, 179_000, 180_000, 181_000)), ("learn chance", (157_000, 158_000)),
    ("learn wide", (199_000, 231_000, 232_000, 233_000)), ("learn ringing", (187_000,)),
    ("learn untrimmed", (250_000, 251_000, 252_000, 253_000)), ("learn repitched", (260_000, 261_000, 262_000, 263_000)),
)
"""What hears attacks together goes on with from the weights that ship: loops not trimmed and repitched, too."""

BESIDE_RUNS: Runs = (
    ("learn ringing", (188_000, 189_000, 248_000)), ("learn untrimmed", (254_000,)), ("learn repitched", (264_000, 265_000)),
)
"""What it goes on with besides a second time, from the same weights; the mean of both ships."""

ANEW_RUNS: Runs = (
    ("learn", (280_000,)), ("learn ringing", (285_000,)), ("learn untrimmed", (286_000,)),
    ("learn repitched", (288_000,)), ("learn treated", (289_000, 290_000)), ("learn machine", (292_000,)),
)
"""What it goes on with after the network has gone on with loops not trimmed, repitched and treated."""

FREED_RUNS: Runs = (
    ("learn patterned", (242_000, 243_000)), ("learn straight", (245_000,)), ("learn machine", (276_000,)),
    ("learn treated", (273_000,)),
)
"""What it goes on with so that it expects less: figures that know nothing of one another, in one piece, machines, treated."""

RUNG_RUNS: Runs = (("learn ringing", (295_000,)),)
"""And last, as figures had made it forget hats that ring."""

BOOKED_RUNS: Runs = (("learn booked", (246_000, 287_000)), ("learn booked straight", (291_000, 293_000, 294_000)))
"""What it goes on with so that it knows many styles, and hears how hard hats are struck: grooves of the book."""

AMID_RUNS: Runs = (
    ("learn", (182_000,)), ("learn patterned", (244_000,)), ("learn straight", (247_000,)),
    ("learn repitched", (268_000,)), ("learn machine", (278_000,)), ("learn ringing", (281_000, 296_000)),
    ("learn treated", (283_000, 297_000)), ("learn untrimmed", (284_000,)),
)
"""Loops of all other kinds, to be learned from beside them so that nothing is forgotten."""

BROUGHT_RUNS: Runs = (
    ("learn booked", (400_000,)), ("learn booked straight", (402_000,)), ("learn stretched", (404_000,)), ("learn mixed", (405_000,)),
    ("learn ringing", (406_000,)), ("learn untrimmed", (407_000,)), ("learn", (408_000,)), ("learn treated", (410_000,)),
)
"""What its last layers learn from after the network has gone on with the book, and with loops brought to another tempo."""

OF_ALL_GROUPS = ("learn wide", "learn ringing", "learn untrimmed", "learn repitched", "learn treated",
                 "learn patterned", "learn booked", "learn stretched", "learn mixed")
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
    "onward": (
        ("learn chance", (159_000,)), ("learn ringing", (227_000,)), ("learn machine", (274_000, 275_000)),
        ("learn untrimmed", (255_000,)), ("learn repitched", (266_000, 267_000)), ("learn treated", (270_000, 271_000, 272_000)),
    ),
    "brought": (
        ("learn booked", (225_000,)), ("learn booked straight", (228_000,)), ("learn patterned", (229_000,)),
        ("learn ringing", (235_000,)), ("learn untrimmed", (236_000,)), ("learn treated", (237_000,)), ("learn mixed", (238_000,)),
        ("learn stretched", (239_000, 249_000)),
    ),
}
"""First seeds of runs. What hears attacks together learns from loops that the network did not learn from, to know how unsure it is.

It goes on with `FURTHER_RUNS` as well."""

MADE_OVER, CLEAN = 0.8, 0.25
"""How many loops have their strikes made over, and how many come as they are played, without room, desk or tape."""

SLOWEST, FASTEST = 0.7, 1.5
"""Between what loops are repitched, as much of an octave as any other."""

BROUGHT = 0.6
"""How much of that loops are brought to another tempo by at the pitch that they had."""


class Task(NamedTuple):
    """How a loop is made: `wide` with drums of any group, `ringing` hats, `speed` how many times as fast it is played when done.

    `tempo` is the same at the pitch that it had. It is `treated` as producers do once it is recorded, `patterned` of figures that know
    nothing of one another, `straight` from FluidSynth, `booked` as in the book, `written` as lessons are.
    """

    seed: int
    group: str
    varied: bool = False
    clean: bool = False
    mix_share: float = 0.2
    chance: bool = False
    wide: bool = False
    ringing: bool = False
    untrimmed: bool = False
    speed: float = 1.0
    tempo: float = 1.0
    treated: bool = False
    patterned: bool = False
    straight: bool = False
    written: bool = False
    booked: bool = False


def tasks_of(name: str, first: int, count: int) -> list[Task]:
    """Return how the loops of a run of this name are made, the groups of sounds in turn."""
    tasks = []
    for seed in range(first, first + count):
        varied, clean, speed = np.random.default_rng(seed + 9).random(3)
        speed = SLOWEST * (FASTEST / SLOWEST) ** speed
        nearly = float(speed**0.5) if seed % 5 < 2 else 1.0
        task = Task(seed, _in_turn(GROUPS, seed - first))
        learned = task._replace(varied=bool(varied < MADE_OVER), clean=bool(clean < CLEAN))
        one_piece = task._replace(group=_in_turn(STRAIGHT, seed - first), straight=True, clean=True, mix_share=0.0)
        ways = {
            "learn": learned, "learn chance": learned._replace(chance=True), "learn wide": learned._replace(wide=True),
            "learn ringing": learned._replace(wide=True, ringing=True),
            "learn untrimmed": learned._replace(wide=seed % 2 == 0, untrimmed=True),
            "learn repitched": learned._replace(wide=seed % 2 == 0, untrimmed=seed % 3 == 0, speed=float(speed)),
            "learn stretched": learned._replace(
                wide=seed % 2 == 0, untrimmed=seed % 3 == 0, booked=seed % 5 < 2, tempo=float(speed**BROUGHT)
            ),
            "learn mixed": learned._replace(wide=seed % 2 == 0, clean=seed % 8 == 0, booked=seed % 5 < 2, mix_share=1.0),
            "learn treated": learned._replace(wide=seed % 2 == 0, untrimmed=seed % 3 == 0, treated=True),
            "learn machine": learned._replace(group="machine", untrimmed=seed % 3 == 0, treated=seed % 4 == 0),
            "learn patterned": learned._replace(patterned=True, wide=seed % 2 == 0, group=_in_turn(WITH_MACHINES, seed - first)),
            "learn straight": one_piece._replace(patterned=seed % 3 != 0, clean=seed % 2 == 0, speed=nearly),
            "learn booked": learned._replace(booked=True, wide=seed % 2 == 0, group=_in_turn(WITH_MACHINES, seed - first)),
            "learn booked straight": one_piece._replace(booked=True, clean=seed % 2 == 0, speed=nearly),
            "check written": one_piece._replace(written=True), "check straight": one_piece,
            "check": task, "check clean": task._replace(clean=True, mix_share=0.0), "check chance": task._replace(chance=True),
            "check ringing": task._replace(varied=True, clean=True, mix_share=0.0, wide=True, ringing=True),
            "check untrimmed": task._replace(untrimmed=True), "check repitched": task._replace(speed=float(speed)),
            "check treated": task._replace(treated=True), "check machine": task._replace(group="machine"),
            "check stretched": task._replace(tempo=float(speed**BROUGHT)), "check mixed": task._replace(mix_share=1.0),
        }
        tasks.append(ways[name])
    return tasks


def _in_turn(groups: tuple[str, ...], index: int) -> str:
    return groups[index % len(groups)]


def loop_of(task: Task) -> LabelledLoop:
    """Return the loop of a task."""
    anywhere = GROUPS if task.wide else ()
    loop = make_loop(
        task.seed, (task.group,), untrimmed=task.untrimmed, varied=task.varied, clean=task.clean, mix_share=task.mix_share,
        chance=task.chance, anywhere=anywhere, ringing=task.ringing, treated=task.treated, patterned=task.patterned, straight=task.straight,
        written=task.written, booked=task.booked,
    )
    loop = loop if task.speed == 1.0 else repitched(loop, task.speed)
    return loop if task.tempo == 1.0 else at_other_tempo(loop, task.tempo, task.seed)
