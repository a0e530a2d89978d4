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
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from bompla.app.theme import theme
from bompla.audio.clip import Clip
from bompla.cli import cli
from bompla.demo import loop_paths
from bompla.groove.by_ear import answered, begin, hinted, lane_counts, round_of
from bompla.groove.compare import Struck, compared, struck_in
from bompla.groove.lesson import lesson_of
from bompla.groove.mends import mended
from bompla.groove.read import read_groove
from bompla.groove.score import score_of
from bompla.groove.seen import Fact, syllable
from bompla.groove.sticking import Stroke, sticking
from bompla.model.detected_pattern import detected_pattern, pattern_of
from bompla.model.document import Document, Hit, Pad, Variation
from bompla.model.drums import DRUMS, METERS
from bompla.model.groove_print import GroovePrint, groove_print, likenesses, why_alike
from bompla.model.pattern_edits import add_hit, delete_hits
from bompla.model.phrase_edits import repeated_to_end
from bompla.model.variation_edits import set_bars
from conftest import captured, settle

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
    loop = replace(document.loop, start_sample=0, end_sample=round(4 * bars * 60 / BPM * rate), length_beats=4.0 * bars)
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


@settings(max_examples=60, deadline=None)
@given(hits=st.lists(st.tuples(st.floats(-0.45, 15.99), st.sampled_from(sorted(DRUMS)), st.integers(1, 127)), max_size=7,
                     unique_by=lambda hit: hit[0]))
def test_any_few_hits_are_read_written_and_taught(demo: tuple[Document, Clip], hits: list[tuple[float, str, int]]) -> None:
    document = groove(demo, hits)
    read = read_groove(document)
    assert len(read.form) == 4
    assert {hit_id for fact in read.facts for hit_id in fact.hit_ids} <= {hit.id for hit in pattern_of(document).hits}
    assert not [fact.text for fact in read.sentences() if fact.key in ("swing", "offset")]
    assert len(score_of(document).bars) == 4
    assert compared(struck_in(document), struck_in(document), bpm=document.bpm).differences == ()
    lesson_of(document)


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


@settings(max_examples=40, deadline=None)
@given(seed=st.integers(0, 9_999), strokes=st.integers(2, 60))
def test_no_hand_is_in_two_places_and_every_stroke_of_two_has_one(seed: int, strokes: int) -> None:
    rng = np.random.default_rng(seed)
    drums = [drum for drum in DRUMS if DRUMS[drum].place_m is not None]
    made = [Stroke(n, str(rng.choice(drums)), 0.05 * int(at)) for n, at in enumerate(rng.integers(0, 80, strokes))]
    hands = sticking(made, 4.0)
    by_place: dict[tuple[float, str], int] = {}
    for stroke in made:
        if stroke.hit_id in hands:
            key = (stroke.at_s, hands[stroke.hit_id])
            by_place[key] = by_place.get(key, 0) + 1
    assert set(by_place.values()) <= {1}
    together = [sum(1 for other in made if abs(other.at_s - stroke.at_s) < 1e-9) for stroke in made]
    assert all(stroke.hit_id in hands for stroke, count in zip(made, together, strict=True) if count <= 2)


def test_hands_feet_flams_and_rolls_are_read(demo: tuple[Document, Clip]) -> None:
    plain = groove(demo, backbone())
    (hands,) = facts(plain, "hands")
    assert hands.text == "One hand keeps the closed hat, the other plays the snare."
    assert hands.about == {"drum": "hat_closed"}
    fast = [(at, drum, velocity) for at, drum, velocity in backbone() if drum != "hat_closed"]
    fast = groove(demo, fast + [(n / 6, "hat_closed", 80) for n in range(96)])
    assert facts(fast, "hands")[0].text.startswith("Both hands share the closed hat: it comes 10 times a second")
    quick = groove(demo, [*backbone(), (4.0 - 0.25, "kick", 100)])
    (feet,) = facts(quick, "feet")
    assert feet.text == "The quickest the foot has to be is 4a to 1: 156 ms."
    assert feet.value == pytest.approx(0.25 * 60_000 / BPM, abs=0.1)
    per_ms = BPM / 60_000
    flams = groove(demo, [*backbone(), (1.0 - 25 * per_ms, "snare", 50), (9.0 - 25 * per_ms, "snare", 50)])
    assert facts(flams, "flams", drum="snare")[0].text == "2 flams on the snare, at 2."
    rolled = groove(demo, [*backbone(), *((14.0 + n / 8, "snare", 60 + 6 * n) for n in range(8))])
    (roll,) = facts(rolled, "roll", drum="snare")
    assert roll.text == "A roll of 9 on the snare from 4.3, 13 a second."
    assert not any(fact.key in ("flams", "roll") for fact in read_groove(plain).facts)


def test_what_bars_that_are_alike_do_differently_is_said(demo: tuple[Document, Clip]) -> None:
    (found,) = facts(groove(demo, [*backbone(), (9.5, "kick", 100)]), "differing_bar")
    assert found.text == "Bar 3 is bar 1 with the kick on 2&."
    without = [hit for hit in backbone() if hit[:2] != (14.5, "kick")]
    assert facts(groove(demo, without), "differing_bar")[0].text == "Bar 4 is bar 1 without the kick on 3&."
    soft = groove(demo, [*backbone(), (9.75, "snare", 30)])
    assert not facts(soft, "differing_bar"), "what is soft may have been missed in the other bar"


def test_going_against_the_others_counts_more_where_nothing_else_sounds(demo: tuple[Document, Clip]) -> None:
    def count(*hits: tuple[float, str, int]) -> float:
        return facts(groove(demo, [(0.0, "kick", 110), *hits], bars=1), "syncopation_of_voices")[0].value

    answered = ((1.0, "snare", 110), (3.0, "snare", 110))
    assert count(*answered, (2.0, "kick", 110)) < count(*answered, (1.5, "kick", 110))
    assert count((1.5, "kick", 110), (2.0, "hat_closed", 90)) < count((1.5, "kick", 110))
    assert count((1.5, "snare", 110), (2.0, "hat_closed", 90)) < count((1.5, "kick", 110), (2.0, "hat_closed", 90))


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
    assert [syllable(step, METERS["4/4"]) for step in (0, 3, 6, 9, 16, 44)] == ["1", "1e", "1&", "1a", "2 trip", "4 let"]
    assert [syllable(step, METERS["4/4"]) for step in (1, 17, 47)] == ["just after 1", "just before 2&", "just before 1"]


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
    qtbot.waitUntil(lambda: float(np.abs(captured(studying.playback.engine, since_frame=before)).max()) > 0.05)
    stage.all_hits.click()
    assert stage.steps._lit == frozenset()
    stage.grab()


def test_heights_mean_late_and_hard_and_small_pictures_count_and_measure(studying: Any) -> None:
    study, document = studying.study, studying.session.store.document
    late, hits = study.studied.read.late_ms, {hit.id: hit for hit in pattern_of(document).hits}
    study.views.click("offset")
    lane = [hit for hit in hits.values() if hit.id in late and document.pad(hit.pad_id).drum == "snare"]
    by_height = sorted(lane, key=lambda hit: study.steps.place(document, hit).y())
    assert [late[hit.id] for hit in by_height] == sorted(late[hit.id] for hit in lane), "early above, late below"
    study.views.click("velocity")
    by_height = sorted(lane, key=lambda hit: study.steps.place(document, hit).y())
    assert [hit.velocity for hit in by_height] == sorted((hit.velocity for hit in lane), reverse=True)
    study.small.click("density")
    counts = [sum(4 * bar - 0.1 <= hit.at_beats < 4 * bar + 3.9 for hit in hits.values()) for bar in range(4)]
    assert study.density.accessibleDescription() == ", ".join(f"bar {n}: {count}" for n, count in enumerate(counts, 1))
    picture = study.density.grab().toImage()
    tall = [sum(picture.pixelColor(round(study.density.column(bar).center().x()), y) != picture.pixelColor(2, 2)
                for y in range(18, picture.height() - 24)) for bar in range(4)]
    assert np.argsort(tall).tolist()[-1] == int(np.argmax(counts)), "the busiest bar is the tallest"
    heard: list[int] = []
    study.density.chosen.connect(heard.append)
    QTest.mouseClick(study.density, Qt.MouseButton.LeftButton, pos=study.density.column(2).center().toPoint())
    assert heard == [2]
    study.small.click("swing")
    assert study.swing.accessibleDescription().startswith("eighths: ")
    assert study.swing.x_at(50.0) < study.swing.x_at(66.7)


def test_playing_moves_the_line_and_draws_no_hit_again(studying: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    stage, session = studying.study, studying.session
    session.store.edit("longer", lambda d: set_bars(d, 12))
    session.store.edit("full", lambda d: repeated_to_end(d, {hit.id for hit in pattern_of(d).hits}))
    settle(qtbot, studying)
    picture = stage.steps
    picture.grab()
    drawn: list[int] = []
    paint = picture._painted
    monkeypatch.setattr(picture, "_painted", lambda document: drawn.append(1) or paint(document))
    seen = []
    for beat in (0.5, 1.5, 2.5):
        picture.show_beat(beat)
        image = picture.grab().toImage()
        seen.append(image.pixelColor(round(picture._x_of(beat, 4)), 40))
    assert not drawn
    assert {colour.name() for colour in seen} == {theme().colour("signal").name()}
    fact = next(one for one in read_groove(session.store.document).sentences() if one.hit_ids)
    picture.light(fact.hit_ids)
    picture.grab()
    assert drawn


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


def test_a_long_part_on_paper_is_as_wide_as_its_picture_and_follows_what_plays(studying: Any, qtbot: Any) -> None:
    session, paper = studying.session, studying.study.paper
    hits = frozenset(hit.id for hit in pattern_of(session.store.document).hits)
    session.store.edit("longer", lambda d: repeated_to_end(set_bars(d, 16), hits))
    qtbot.waitUntil(lambda: not paper.bar_box(15).isEmpty())
    inside = QRectF(paper.rect())
    assert inside.contains(paper.bar_box(0).center())
    assert paper.bar_box(15).top() > paper.height(), "notes stay as large as they can be read"
    assert paper.bar_box(1).right() > 0.9 * paper.width()
    paper.show_bar(15)
    assert inside.contains(paper.bar_box(15).center()), "the bar that plays is in view"
    wheel = QWheelEvent(QPointF(20, 20), QPointF(paper.mapToGlobal(QPoint(20, 20))), QPoint(), QPoint(0, 12_000),
                        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)
    QApplication.sendEvent(paper, wheel)
    assert inside.contains(paper.bar_box(0).center())


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


def test_a_lesson_goes_from_the_skeleton_up_and_leaves_nothing_out(demo: tuple[Document, Clip]) -> None:
    hits = backbone() + [(4.0 * bar + 1.75, "snare", 34) for bar in range(4)] + [(15.0 + n / 4, "tom_mid", 100) for n in range(4)]
    document = groove(demo, hits)
    steps = lesson_of(document)
    assert [step.title for step in steps] == ["The skeleton", "What keeps time", "What goes against the beat", "The ghosts", "The fill"]
    assert steps[0].text == "The kick on 1, the snare on 2 and 4."
    assert "two to a beat" in steps[1].text
    assert "the kick on 3&" in steps[2].text
    assert steps[4].text.startswith("Bar 4 leaves the pattern: 4 strokes")
    assert sorted(steps[-1].up_to) == sorted(hit.id for hit in pattern_of(document).hits)
    assert [len(step.up_to) for step in steps] == np.cumsum([len(step.adds) for step in steps]).tolist()


@given(seed=st.integers(0, 9_999), off_ms=st.floats(-25.0, 25.0))
def test_by_ear_counts_what_is_right_too_many_and_missing(demo: tuple[Document, Clip], seed: int, off_ms: float) -> None:
    rng = np.random.default_rng(seed)
    document = begin(demo[0])
    wanted = detected_pattern(document).hits
    kept = [hit for hit in wanted if rng.random() < 0.6]
    per_ms = document.bpm / 60_000
    placed = [(hit.pad_id, max(0.0, hit.at_beats + off_ms * per_ms), 90) for hit in kept]
    free = [(document.pads[0].id, 0.31 + 4 * bar, 90) for bar in range(4)]
    for pad_id, at, velocity in [*placed, *free]:
        document = add_hit(document, pad_id, at, velocity)
    counts = lane_counts(document)
    assert sum(one.right for one in counts) >= 0.97 * len(kept)
    assert sum(one.right + one.missing for one in counts) == len(wanted)
    assert sum(one.right + one.extra for one in counts) == len(pattern_of(document).hits)
    over = answered(hinted(document)) if len(kept) < len(wanted) else answered(document)
    assert sum(one.missing for one in lane_counts(over)) == 0
    result = round_of(over)
    assert result is not None
    assert result.answered
    assert (result.of, result.hints) == (len(wanted), int(len(kept) < len(wanted)))
    assert begin(over).shown != over.shown, "another round is another variation"


def test_grooves_are_found_again_and_told_why() -> None:
    meter = METERS["4/4"]
    rng = np.random.default_rng(3)

    def print_of(hits: list[tuple[float, str, int]], late_ms: float = 0.0) -> GroovePrint:
        return groove_print([(drum, at + late_ms * BPM / 60_000, v) for at, drum, v in hits], beats=16, meter=meter, bpm=BPM)

    one, late = print_of(backbone()), print_of(backbone(), 12.0)
    other = print_of([(float(at) / 4, str(rng.choice(["kick", "snare", "hat_closed"])), 90) for at in rng.integers(0, 64, 40)])
    found = likenesses(one, BPM, [(one, BPM), (late, BPM), (other, BPM), (one, 2 * BPM), (GroovePrint(beats_per_bar=3), BPM)])
    assert found[0].score == pytest.approx(1.0, abs=0.01)
    assert found[1].score > 0.95, "late as a whole is the same groove"
    assert found[2].score < 0.75
    assert found[3].tempo == pytest.approx(1.0)
    assert found[4].score == 0.0
    assert why_alike(found[3], BPM, 2 * BPM) == "same kick and snares, like feel, same tempo at double time"
    assert one.syncopation < other.syncopation


def test_in_layers_only_the_step_plays_as_slowly_as_wanted(studying: Any, qtbot: Any) -> None:
    stage, baking = studying.study, studying.playback.baking
    whole = len(baking.baked.events)
    stage.modes.click("layers")
    first = stage.lesson.steps[0]
    qtbot.waitUntil(lambda: not baking.busy and len(baking.baked.events) < whole)
    assert baking.listened.only == frozenset(first.up_to)
    assert stage.steps._lit == frozenset(first.up_to)
    QTest.keyClick(stage.picture(), Qt.Key.Key_F9)
    assert stage.lesson.at == 1
    assert studying.playback.transport.playing
    stage.lesson.speed.click(60)
    assert baking.speed == pytest.approx(0.6)
    assert "60" in studying.listening.speed.currentText()
    stage.lesson.alone.click()
    assert baking.listened.only == frozenset(stage.lesson.steps[1].adds)
    stage.modes.click("words")
    assert baking.listened.only is None
    studying.playback.transport.stop()


def test_a_round_by_ear_to_its_end_with_mouse_and_keys(studying: Any) -> None:
    stage, session = studying.study, studying.session
    stage.modes.click("ear")
    before = session.store.document
    stage.ear.start.click()
    assert pattern_of(session.store.document).name == "by ear"
    picture = stage.ear_picture
    wanted = detected_pattern(session.store.document).hits
    kick = next(hit for hit in wanted if session.store.document.pad(hit.pad_id).drum == "kick")
    where = picture.place(session.store.document, kick.pad_id, kick.at_beats).toPoint()
    QTest.mouseClick(picture, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, where)
    assert [h.pad_id for h in pattern_of(session.store.document).hits] == [kick.pad_id]
    stage.ear.ask.click()
    assert "Kick: 1 right, 0 too many" in stage.ear.accessibleDescription()
    QTest.mouseClick(picture, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, where)
    assert not pattern_of(session.store.document).hits, "a click on it takes it away"
    picture.setFocus()
    for key in (Qt.Key.Key_Down, Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Return):
        QTest.keyClick(picture, key)
    (placed,) = pattern_of(session.store.document).hits
    assert placed.at_beats == pytest.approx(0.5, abs=0.26)
    assert "a hit" in picture.accessibleDescription() or picture.accessibleDescription()
    stage.ear.hint.click()
    assert round_of(session.store.document).hints == 1
    stage.ear.rest.click()
    assert "by ear" in stage.ear.words.text()
    assert all(one.missing == 0 for one in lane_counts(session.store.document))
    while session.store.history.undo_label:
        session.store.undo()
    assert session.store.document.variations == before.variations
    assert not picture.grab().isNull()


def test_compared_with_another_loop_a_midi_file_and_a_variation(studying: Any, qtbot: Any, tmp_path: Path) -> None:
    from bompla.formats.midi import midi_bytes

    stage, session = studying.study, studying.session
    path = tmp_path / "mine.mid"
    path.write_bytes(midi_bytes(session.store.document))
    stage.modes.click("compare")
    stage.compare.bring(path)
    qtbot.waitUntil(lambda: not stage.busy and stage.compare.keys[0] == "file mine.mid")
    hits = len(struck_in(session.store.document))
    assert stage.facts.get("hits found") == f"{hits} of {hits}"
    stage.compare_with(next(one for one in loop_paths() if one.stem == "gangway hats"))
    qtbot.waitUntil(lambda: stage.compare.keys[0].endswith("gangway hats.flac") and not stage.busy)
    assert stage.list.count() > 5
    stage.compare.one.setCurrentIndex(stage.compare.one.findData("original"))
    stage.compare.one.activated.emit(0)
    qtbot.waitUntil(lambda: not stage.busy and "bands" in stage.facts.get("sound"))
    assert not stage.strip.grab().isNull()
    QTest.mouseClick(stage.strip, Qt.MouseButton.LeftButton)
    settle(qtbot, studying)


def test_the_shelf_is_asked_for_loops_alike_and_for_all_snares(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    window = demo_window
    window.go_to_stage("bring-in")
    qtbot.waitUntil(lambda: window.bring_in.shelf.model.rowCount() > 0 and not window.bring_in.shelf.scanner.busy)
    shelf = window.bring_in.shelf
    shelf.show_hits()
    hits = shelf.hits
    qtbot.waitUntil(lambda: not hits.busy and hits.table.rowCount() > 10)
    assert {hit.drum for _, hit in hits.found} == {"snare"}
    assert len({path for path, _ in hits.found}) > 2
    window.session.outgoing.set_folder(tmp_path / "out")
    window.session.outgoing.set_folder(tmp_path / "dragged", dragged=True)
    hits.table.selectRow(0)
    hits.table.setCurrentCell(1, 0)
    hits.table.selectRow(1)
    assert hits.write.text() == "Write 1 file"
    hits.write.click()
    qtbot.waitUntil(lambda: not hits.busy)
    (written,) = (tmp_path / "out").rglob("*.wav")
    from bompla.audio.files import read_clip

    _, hit = hits.chosen()[0]
    assert read_clip(written).duration_s == pytest.approx(hit.end_s - hit.start_s, abs=0.001)
    pads = len(window.session.store.document.pads)
    hits.put.click()
    qtbot.waitUntil(lambda: len(window.session.store.document.pads) == pads + 1)
    window.go_to_stage("study")
    window.study.modes.click("shelf")
    qtbot.waitUntil(lambda: not window.study.busy and window.study.near.found is not None and window.study.near.list.count() > 2)
    near = window.study.near.found.near
    assert near[0].path.stem == "quay break"
    assert near[0].likeness.score > 0.9
    assert near[0].likeness.score > near[1].likeness.score
    window.study.near.list.setCurrentRow(1)
    settle(qtbot, window)
