"""The groove read and compared: what is true of made grooves is said, nothing of chance ones, and all of it can be heard."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.audio.clip import Clip
from bompla.cli import cli
from bompla.demo import loop_paths
from bompla.groove.compare import Struck, compared, struck_in
from bompla.groove.mends import mended
from bompla.groove.read import Fact, read_groove, syllable
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document, Hit, Pad, Variation
from bompla.model.drums import DRUMS, METERS
from bompla.model.pattern_edits import delete_hits
from conftest import settle

BPM = 96.0


def groove(demo: tuple[Document, Clip], hits: list[tuple[float, str, int]], *, bars: int = 4) -> Document:
    """A document whose pattern is these hits, as (beat, drum, velocity), at 96 BPM."""
    document = demo[0]
    drums = sorted({drum for _, drum, _ in hits})
    pads = tuple(Pad(n + 1, n, drum, DRUMS[drum].label, DRUMS[drum].note) for n, drum in enumerate(drums))
    ids = {pad.drum: pad.id for pad in pads}
    made = tuple(Hit(100 + n, ids[drum], at, velocity) for n, (at, drum, velocity) in enumerate(sorted(hits)))
    rate = document.source.sample_rate
    source = replace(document.source, frames=10**9)
    loop = replace(document.loop, start_sample=0, end_sample=round(4 * bars * 60 / BPM * rate), bars=bars)
    variations = (Variation("A", "made", made),)
    return replace(document, source=source, loop=loop, pads=pads, variations=variations, shown=0, cuts=(), next_id=10_000)


def backbone(bars: int = 4) -> list[tuple[float, str, int]]:
    made = []
    for bar in range(bars):
        at = 4.0 * bar
        made += [(at, "kick", 110), (at + 2.5, "kick", 100), (at + 1, "snare", 112), (at + 3, "snare", 112)]
        made += [(at + n / 2, "hat_closed", 90) for n in range(8)]
    return made


def facts(document: Document, key: str, **about: str) -> list[Fact]:
    return [fact for fact in read_groove(document).facts if fact.key == key and about.items() <= fact.about.items()]


@settings(max_examples=60, deadline=None)
@given(swing=st.floats(53.0, 68.0), level=st.sampled_from(["eighth", "sixteenth"]), seed=st.integers(0, 999), loose_ms=st.floats(0.0, 3.0))
def test_swing_is_found_within_a_per_cent_and_said(
    demo: tuple[Document, Clip], swing: float, level: str, seed: int, loose_ms: float
) -> None:
    rng = np.random.default_rng(seed)
    length = 1.0 if level == "eighth" else 0.5
    hits = []
    for bar in range(4):
        for pair in range(round(4 / length)):
            at = 4.0 * bar + pair * length
            hits += [(at, "hat_closed", 100), (at + length * swing / 100, "hat_closed", 80)]
        hits += [(4.0 * bar, "kick", 110), (4.0 * bar + 1, "snare", 110), (4.0 * bar + 3, "snare", 110)]
    loose = [(max(0.0, at + rng.normal(0, loose_ms) * BPM / 60_000), drum, velocity) for at, drum, velocity in hits]
    (found,) = facts(groove(demo, loose), "swing", drum="all", level=level)
    assert found.value == pytest.approx(swing, abs=1.0)
    assert "swing" in found.text


@settings(max_examples=40, deadline=None)
@given(late=st.floats(-18.0, 18.0), drum=st.sampled_from(["snare", "kick"]), seed=st.integers(0, 99))
def test_ahead_and_behind_are_found_within_two_ms(demo: tuple[Document, Clip], late: float, drum: str, seed: int) -> None:
    rng = np.random.default_rng(seed)
    per_ms = BPM / 60_000
    hits = [(max(0.0, at + (late if which == drum and at > 0.2 else 0.0) * per_ms + rng.normal(0, 0.8) * per_ms), which, velocity)
            for at, which, velocity in backbone(8)]
    document = groove(demo, hits, bars=8)
    for against in ("grid", "hat_closed"):
        (found,) = facts(document, "offset", drum=drum, against=against)
        assert found.value == pytest.approx(late, abs=2.0)
    (said,) = facts(document, "offset", drum=drum, against="grid")
    assert bool(said.text) == (abs(said.value) > 2.0) or abs(abs(late) - 2.0) < 1.5


@settings(max_examples=80, deadline=None)
@given(seed=st.integers(0, 100_000), quantised=st.booleans(), hits=st.integers(12, 90))
def test_what_is_made_by_chance_has_no_feel_no_swing_and_no_form(
    demo: tuple[Document, Clip], seed: int, quantised: bool, hits: int
) -> None:
    rng = np.random.default_rng(seed)
    times = rng.uniform(0, 15.9, hits)
    times = np.floor(times * 4) / 4 if quantised else times
    made = list({(float(at), str(rng.choice(["kick", "snare", "hat_closed"]))): int(rng.integers(30, 127)) for at in times}.items())
    read = read_groove(groove(demo, [(at, drum, velocity) for (at, drum), velocity in made]))
    said = {fact.key for fact in read.sentences()}
    assert not said & {"swing", "back_beat", "form"}
    if quantised:
        assert "offset" not in said


def test_form_figure_ghosts_and_back_beat_are_read(demo: tuple[Document, Clip]) -> None:
    hits = backbone() + [(4.0 * bar + 1.75, "snare", 34) for bar in range(4)]
    hits += [(15.0 + n / 4, "tom_mid", 100) for n in range(4)]
    read = read_groove(groove(demo, hits))
    said = {fact.key: fact.text for fact in read.sentences()}
    assert read.form == "AAAB"
    assert said["form"] == "Bar 4 is the fill; the others repeat."
    assert said["kick"] == "The kick plays 1, 3& in every bar."
    assert said["back_beat"] == "The snare answers on 2 and 4."
    assert said["hats"] == "The hats keep time in eighths."
    assert said["ghosts"].startswith("4 ghost notes of the snare, at about 34 of 127 against 112; most lead into beat 3")
    (ghosts,) = [fact for fact in read.facts if fact.key == "ghosts"]
    assert len(ghosts.hit_ids) == 4
    assert [syllable(step, METERS["4/4"]) for step in (0, 3, 6, 9, 16, 44)] == ["1", "1e", "1&", "1a", "2t", "4l"]


def test_differences_are_matched_one_to_one_and_the_most_heard_comes_first() -> None:
    one = [Struck("kick", 0.0, 120), Struck("snare", 1.0, 110), Struck("hat_closed", 1.5, 40), Struck("snare", 3.0, 100),
           Struck("rim", 3.5, 90)]
    other = [Struck("snare", 1.02, 110, 1), Struck("hat_closed", 1.5, 40, 2), Struck("snare", 3.0, 60, 3), Struck("clap", 3.5, 90, 4),
             Struck("kick", 2.0, 30, 5)]
    found = compared(one, other, bpm=120.0)
    assert (found.found, found.of) == (3, 5)
    assert [d.kind for d in found.differences][:2] == ["missing", "other drum"]
    assert {d.kind for d in found.differences} == {"missing", "other drum", "softer", "extra", "moved"}
    moved = next(d for d in found.differences if d.kind == "moved")
    assert moved.amount == pytest.approx(10.0)
    assert compared(one, one, bpm=120.0).differences == ()


@settings(max_examples=30, deadline=None)
@given(seed=st.integers(0, 999))
def test_mending_every_difference_makes_the_pattern_the_original(demo: tuple[Document, Clip], seed: int) -> None:
    rng = np.random.default_rng(seed)
    document = demo[0]
    original = struck_in(replace(document, shown=-1))
    pattern = pattern_of(document)
    hits = [replace(hit, at_beats=hit.at_beats + float(rng.choice([0.0, 0.0, 0.02])), velocity=int(rng.choice([hit.velocity, 60])))
            for hit in pattern.hits if rng.random() > 0.15]
    changed = replace(document, variations=(replace(pattern, hits=tuple(sorted(hits, key=lambda h: h.at_beats))),), shown=0)
    for _ in range(400):
        found = compared(original, struck_in(changed), bpm=document.bpm).differences
        if not found:
            break
        changed = mended(changed, found[0])
    assert compared(original, struck_in(changed), bpm=document.bpm).differences == ()


@pytest.fixture
def studying(demo_window: Any, qtbot: Any) -> Any:
    demo_window.go_to_stage("study")
    qtbot.waitUntil(lambda: demo_window.study.studied is not None and not demo_window.study.busy)
    return demo_window


def sentences(window: Any) -> list[Any]:
    layout = window.study.sentences
    return [layout.itemAt(n).widget() for n in range(layout.count())]


def test_a_sentence_lights_its_hits_and_plays_them_alone(studying: Any, qtbot: Any) -> None:
    stage = studying.study
    shown = sentences(studying)
    assert [one.accessibleName() for one in shown] == [fact.text for fact in stage.studied.read.sentences()]
    kick = next(one for one in shown if "kick plays" in one.accessibleName())
    before = studying.playback.engine.state.rendered_frames
    QTest.mouseClick(kick, Qt.MouseButton.LeftButton)
    fact = next(fact for fact in stage.studied.read.sentences() if fact.key == "kick")
    assert stage.steps._lit == frozenset(fact.hit_ids)
    settle(qtbot, studying)
    qtbot.waitUntil(lambda: float(np.abs(studying.playback.engine.captured(since_frame=before)).max()) > 0.05)
    stage.all_hits.click()
    assert stage.steps._lit == frozenset()
    stage.grab()


def test_differences_are_stepped_through_mended_and_undone(studying: Any, qtbot: Any) -> None:
    stage, session = studying.study, studying.session
    document = session.store.document
    heard = len(struck_in(replace(document, shown=-1)))
    assert stage.facts.get("hits found") == f"{heard} of {heard}"
    session.store.edit("delete", lambda d: delete_hits(d, [hit.id for hit in pattern_of(d).hits[4:7]]))
    qtbot.waitUntil(lambda: stage.studied.document is session.store.document and stage.list.count() == 3)
    for row in range(3):
        stage.step(1)
        assert stage.list.currentRow() == row
    fewer = session.store.document
    QTest.keyClick(stage.list, Qt.Key.Key_F5)
    assert len(pattern_of(session.store.document).hits) == len(pattern_of(fewer).hits) + 1
    qtbot.waitUntil(lambda: stage.list.count() == 2)
    session.store.undo()
    assert session.store.document == fewer


def test_the_part_on_paper_and_the_bars_are_heard_by_a_click(studying: Any, qtbot: Any) -> None:
    stage = studying.study
    qtbot.waitUntil(lambda: not stage.paper.bar_box(1).isEmpty())
    heard: list[int] = []
    stage.paper.chosen.connect(heard.append)
    stage.bars.chosen.connect(heard.append)
    QTest.mouseClick(stage.paper, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, stage.paper.bar_box(1).center().toPoint())
    QTest.mouseClick(stage.bars, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, stage.bars.field(0, 2).center().toPoint())
    assert heard == [1, 2]
    assert "the bars go" in stage.bars.accessibleDescription()
    stage.paper.show_bar(1)
    stage.bars.show_bar(1)
    stage.steps.show_beat(1.5)
    assert not stage.grab().isNull()
    hit = pattern_of(studying.session.store.document).hits[3]
    QTest.mouseClick(stage.steps, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier,
                     stage.steps.place(studying.session.store.document, hit).toPoint() + QPoint(1, 0))


def test_study_on_the_command_line(tmp_path: Path) -> None:
    by_name = {path.stem: path for path in loop_paths()}
    result = CliRunner().invoke(cli, ["study", str(by_name["lamplight shuffle"])])
    assert result.exit_code == 0
    assert "swing" in result.stdout
    result = CliRunner().invoke(cli, ["study", str(by_name["quay break"]), "--json", "--against", str(by_name["gangway hats"])])
    said = json.loads(result.stdout)
    assert len(said["form"]) == 4
    assert {"tempo", "meter", "ghosts", "density", "syncopation", "offset", "swing"} <= {fact["key"] for fact in said["facts"]}
    assert all({"key", "value", "unit", "spread", "text", "beats"} <= set(fact) for fact in said["facts"])
    assert said["differences"]
    assert CliRunner().invoke(cli, ["study", str(tmp_path / "gone.wav")]).exit_code == 1
