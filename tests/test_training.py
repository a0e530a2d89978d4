"""Training learns from what the analysis sees, and never from what it is judged by."""

from __future__ import annotations

import sys
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bompla.analysis.hearing.context import CONTEXT_FILE, DrumOdds, load_context, read_context, reheard
from bompla.analysis.hearing.network import features_of
from bompla.analysis.hearing.spectrum import LOW_HOP, spectrum_of
from bompla.audio.clip import Clip
from bompla.model.drums import DRUMS, METERS

sys.path[:0] = [str(Path(__file__).parents[1] / folder) for folder in ("benchmarks", "training")]

from corpus import RATE
from corpus.book import book, booked_groove
from corpus.grooves import DrawnGroove
from corpus.kits import LEARNED
from corpus.patterns import STOPPED_BY, pattern_groove
from corpus.written import CHECKED, JUDGED, JUDGED_FROM, Lesson, written_groove
from learner import average
from runs import (
    AFTER_RUNS,
    AMID_RUNS,
    ANEW_RUNS,
    BESIDE_RUNS,
    BOOKED_RUNS,
    CONTEXT_RUNS,
    FREED_RUNS,
    FURTHER_RUNS,
    NETWORK_RUNS,
    ONWARD_RUNS,
    RECURRING_RUNS,
    REFINE_RUNS,
    RUN,
    RUNG_RUNS,
    tasks_of,
)
from train_context import MEMBERS
from train_heads import write
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
    average([tmp_path / "one.npz", tmp_path / "other.npz"], tmp_path / "one.npz", (0.75, 0.25))
    with np.load(tmp_path / "one.npz") as made:
        assert made["weight"].tolist() == [2.25, 6.75]


CONTEXT = (
    CONTEXT_RUNS, FURTHER_RUNS, AFTER_RUNS, RECURRING_RUNS, ONWARD_RUNS, BESIDE_RUNS, ANEW_RUNS, FREED_RUNS, RUNG_RUNS, BOOKED_RUNS,
    AMID_RUNS,
)
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


@pytest.mark.parametrize("lesson", [*CHECKED, *JUDGED, *book()], ids=lambda lesson: lesson.name)
def test_a_lesson_is_of_whole_bars_and_known_drums(lesson: Lesson) -> None:
    steps = METERS[lesson.meter].beats_per_bar * lesson.steps_a_beat
    assert set(lesson.lanes) <= set(DRUMS)
    assert {len(bar) for lane in lesson.lanes.values() for bar in lane.split()} == {steps}


def test_lessons_to_judge_by_are_others_than_those_to_check_with() -> None:
    checked, judged = ({written_groove(first + n).kind for n in range(100)} for first in (JUDGED_FROM - 100, JUDGED_FROM))
    assert not checked & judged
    assert not {str(lesson.lanes) for lesson in CHECKED} & {str(lesson.lanes) for lesson in JUDGED}


def test_no_lesson_is_in_the_book_that_is_learned_from() -> None:
    learned = {str(sorted(groove.lanes.items())) for groove in book()}
    assert len(learned) == len({groove.name for groove in book()}) > 100
    assert not learned & {str(sorted(lesson.lanes.items())) for lesson in (*CHECKED, *JUDGED)}


@pytest.mark.parametrize("groove_of", [pattern_groove, written_groove, booked_groove])
@given(seed=st.integers(0, 100_000))
def test_a_groove_ends_within_its_bars_and_strikes_a_hat_in_one_way_at_once(groove_of: Callable[[int], DrawnGroove], seed: int) -> None:
    groove = groove_of(seed)
    assert groove == groove_of(seed)
    assert groove.notes[0].time_s >= 0.0
    assert groove.notes[-1].time_s < groove.duration_s + 0.02
    assert [note.time_s for note in groove.notes] == sorted(note.time_s for note in groove.notes)
    struck = {(note.beat, note.drum) for note in groove.notes}
    assert not any((beat, other) in struck for beat, drum in struck for other in STOPPED_BY.get(drum, ()))


def test_last_layers_written_anew_as_they_were_are_heard_as_before(tmp_path: Path) -> None:
    shipped = Path(str(files("bompla.analysis.hearing").joinpath(CONTEXT_FILE)))
    with np.load(shipped) as data:
        out, bias = ([data[f"{n}/ends/out{end}"].astype(np.float32) for n in range(len(MEMBERS))] for end in ("", "_bias"))
        seen = np.random.default_rng(1).normal(size=(9, data["0/ends/first"].shape[0])).astype(np.float32)
    layer = np.hstack([*(weight.T for weight in out), sum(bias)[:, None]]) / len(MEMBERS)
    alone = DrumOdds(*(np.zeros(shape, np.float32) for shape in ((9, len(DRUMS)), (9, len(DRUMS)), 9)))
    last = []
    for name, changed in (("same", layer), ("other", layer + 0.1)):
        write(changed, shipped, tmp_path / f"{name}.npz")
        with (tmp_path / f"{name}.npz").open("rb") as stream:
            last.append(reheard(read_context(stream), seen, alone))
    before = reheard(load_context(), seen, alone)
    for part in ("odds", "force", "attack"):
        assert np.allclose(getattr(last[0], part), getattr(before, part), atol=2e-3)
        assert not np.allclose(getattr(last[1], part), getattr(before, part), atol=2e-3)
