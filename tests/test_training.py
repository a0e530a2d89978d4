"""Training learns from what the analysis sees, and never from what it is judged by."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from bompla.analysis.network import features_of
from bompla.analysis.spectrum import LOW_HOP, spectrum_of
from bompla.audio.clip import Clip

sys.path[:0] = [str(Path(__file__).parents[1] / folder) for folder in ("benchmarks", "training")]

from corpus import RATE
from corpus.kits import LEARNED
from learner import average
from runs import (
    AFTER_RUNS,
    ANEW_RUNS,
    BESIDE_RUNS,
    CONTEXT_RUNS,
    FURTHER_RUNS,
    NETWORK_RUNS,
    ONWARD_RUNS,
    RECURRING_RUNS,
    REFINE_RUNS,
    RUN,
    tasks_of,
)
from train_hearing import CHECK_SEED, JUDGE_SEED, sounding_in


@pytest.mark.parametrize("lead_s", [0.0, 1.0, 3.0])
def test_learning_takes_for_sounding_what_the_analysis_does(lead_s: float, demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    for _, clip, _ in demo_loops[:4]:
        sound = np.concatenate([np.zeros(round(lead_s * RATE)), clip.mono, np.zeros(RATE)]).astype(np.float32)
        spectrum = spectrum_of(Clip(sound, RATE))
        assert spectrum is not None
        frames = np.arange(spectrum.low.shape[0])
        features = features_of(spectrum, frames, spectrum.loud_db_at(2 * frames)[:, None]).astype(np.float16)
        said, known = sounding_in(features) > 0.5, spectrum.sounding[np.minimum(2 * frames, spectrum.frames - 1)]
        assert (said != known).mean() < 0.01
        assert not said[: max(0, round(lead_s * RATE / LOW_HOP) - 4)].any()


def test_the_mean_of_weights_is_of_the_same_kinds_and_leaves_names_alone(tmp_path: Path) -> None:
    kept = {"weight": np.array([1.0, 3.0], np.float16), "bias": np.array([0.0, 1.0], np.float32), "dilations": np.array([1, 2])}
    np.savez(tmp_path / "one.npz", **kept, drums=np.array(["kick", "snare"]))
    np.savez(tmp_path / "other.npz", **{name: 3 * value for name, value in kept.items()}, drums=np.array(["kick", "snare"]))
    average([tmp_path / "one.npz", tmp_path / "other.npz"], tmp_path / "one.npz")
    with np.load(tmp_path / "one.npz") as made:
        assert made["weight"].dtype == np.float16
        assert made["weight"].tolist() == [2.0, 6.0]
        assert made["bias"].tolist() == [0.0, 2.0]
        assert made["dilations"].tolist() == [1, 2]
        assert made["drums"].tolist() == ["kick", "snare"]


CONTEXT = (CONTEXT_RUNS, FURTHER_RUNS, AFTER_RUNS, RECURRING_RUNS, ONWARD_RUNS, BESIDE_RUNS, ANEW_RUNS)
NAMES = sorted({name for runs in (*NETWORK_RUNS.values(), *CONTEXT, REFINE_RUNS) for name, _ in runs})


@pytest.mark.parametrize("name", NAMES)
def test_a_run_takes_no_loop_from_kits_to_judge_with(name: str) -> None:
    tasks = tasks_of(name, 1_000, 64)
    assert [task.seed for task in tasks] == list(range(1_000, 1_064))
    assert {task.group for task in tasks} <= set(LEARNED) - {"denemo", "plain"}
    assert tasks == tasks_of(name, 1_000, 64)


def test_what_hears_attacks_together_learns_from_no_loop_of_the_network_and_nobody_from_those_to_check_with() -> None:
    network = {first for runs in NETWORK_RUNS.values() for _, firsts in runs for first in firsts}
    together = [first for runs in CONTEXT for _, firsts in runs for first in firsts]
    assert len(together) == len(set(together))
    assert not network & set(together)
    assert all(first % 1_000 == 0 and first + RUN <= CHECK_SEED < JUDGE_SEED for first in network | set(together))
