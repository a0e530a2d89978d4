"""Drums in doubt: what is asked about a slice, what each answer does, and how answers are given to all alike at once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton

from bompla.analysis.review.doubts import Doubt, doubts_of
from bompla.analysis.review.unsure import CERTAIN, PERHAPS, other_way, unsure_of
from bompla.audio.clip import Clip
from bompla.demo import loop_paths
from bompla.groove.rebuild import gone_hits, offered_hits
from bompla.model.cut_edits import correct_heard, set_heard, set_left_out, set_underneath
from bompla.model.detected_pattern import detected_pattern, pattern_of, played
from bompla.model.document import Cut, Document, Heard, Hit
from bompla.model.drums import DRUMS
from bompla.model.pattern_edits import drop_offers, take_offers, with_hits
from bompla.model.variation_edits import show_variation
from conftest import captured, settle
from test_slicing import SHIFT, press

Told = list[tuple[str, float]]


def cut_of(heard: Told) -> Cut:
    return Cut(7, 0, 0, 0.9, "detected", heard=tuple(Heard(drum, share, 80) for drum, share in heard))


def with_heard(document: Document, heard: dict[int, Told]) -> Document:
    """Return the document in which nothing but these slices, by number, is in doubt."""
    cuts = {s.cut.id: tuple(Heard(d, c, 80) for d, c in heard.get(s.number, [("kick", 1.0)])) for s in document.slices()}
    return replace(document, cuts=tuple(replace(cut, heard=cuts.get(cut.id, ())) for cut in document.cuts))


def asked(document: Document, clip: Clip) -> list[Doubt]:
    return [doubt for doubt in doubts_of(document, clip) if doubt.kind == "unsure"]


@pytest.mark.parametrize(
    ("heard", "reason", "label", "words", "sounds"),
    [
        ([("kick", 1.0), ("snare", 0.35)], "maybe snare underneath, 35 %", "add", "add snare", {"kick", "snare"}),
        ([("kick", 1.0), ("ride", 0.52)], "ride underneath, only 52 %", "remove", "remove ride", {"kick"}),
        ([("rim", 0.33), ("snare", 0.1)], "maybe rim, 33 %", "add", "add rim", {"rim"}),
        ([("snare", 0.55), ("rim", 0.25)], "snare, only 55 %", "rim", "name it rim", {"rim"}),
        ([("snare", 0.55), ("hat_closed", 0.5)], "closed hat underneath, only 50 %", "remove", "remove closed hat", {"snare"}),
        ([("perc", 0.5)], "percussion, only 50 %", "leave out", "leave slice out", set()),
        ([("hat_closed", 0.8), ("hat_open", 0.2)], "closed hat, or open hat?", "open hat", "name it open hat", {"hat_open"}),
        (
            [("kick", 1.0), ("hat_open", 0.7), ("hat_pedal", 0.2)], "open hat underneath, or pedal hat?", "pedal hat", "name it pedal hat",
            {"kick", "hat_pedal"},
        ),
        ([("kick", 1.0), ("hat_open", 1.0), ("hat_pedal", 0.2)], "", "", "", {"kick", "hat_open"}),
        ([("hat_closed", 0.33), ("hat_open", 0.31)], "maybe closed hat, 33 %", "add", "add closed hat", {"hat_closed"}),
        ([("kick", 0.97), ("snare", 0.2), ("hat_closed", 0.9), ("hat_open", 0.08)], "", "", "", {"kick", "hat_closed"}),
    ],
)
def test_what_is_asked_and_what_the_other_way_does(
    demo: tuple[Document, Clip], heard: Told, reason: str, label: str, words: str, sounds: set[str]
) -> None:
    document = with_heard(demo[0], {3: heard})
    cut_id = document.slices()[2].cut.id
    if not reason:
        assert asked(document, demo[1]) == []
        return
    (doubt,) = asked(document, demo[1])
    mend = doubt.mends[0]
    assert (doubt.cut_id, doubt.reason, mend.label, mend.words) == (cut_id, reason, label, words)
    mended = doubt.mends[0].edit(document)
    assert {h.drum for h in played(mended.cut(cut_id)) if not mended.cut(cut_id).left_out} == sounds
    kept = doubt.mends[-1].edit(document)
    assert played(kept.cut(cut_id)) == played(document.cut(cut_id)), "kept as it is"
    assert not any(d.reason == reason for d in asked(kept, demo[1]))
    assert document.variations == mended.variations


TOLD = st.lists(st.sampled_from(list(DRUMS)), min_size=1, max_size=5, unique=True).flatmap(
    lambda drums: st.tuples(*(st.tuples(st.just(drum), st.integers(5, 100).map(lambda n: n / 100.0)) for drum in drums))
)


@given(told=TOLD, answers=st.lists(st.booleans(), min_size=12, max_size=12))
def test_however_it_is_answered_a_slice_is_soon_done(
    demo: tuple[Document, Clip], told: tuple[tuple[str, float], ...], answers: list[bool]
) -> None:
    """Each answer settles its drum: it is never asked again, and no drum that was sure changes by it."""
    heard = sorted(told, key=lambda one: -one[1])
    document = with_heard(demo[0], {3: heard})
    cut_id = document.slices()[2].cut.id
    sure = {drum for drum, share in heard if share >= CERTAIN and not drum.startswith("hat_")}
    never = {drum for drum, share in heard if share < PERHAPS / 2}
    for other in answers:
        doubted = unsure_of(document.cut(cut_id))
        if doubted is None or document.cut(cut_id).left_out:
            break
        doubt = next(d for d in asked(document, demo[1]) if d.cut_id == cut_id)
        assert doubt.reason == doubted.reason
        document = doubt.mends[0 if other else -1].edit(document)
    else:
        pytest.fail("a slice goes on asking")
    sounding = {h.drum for h in played(document.cut(cut_id))}
    assert sure <= sounding
    assert not never & sounding


def test_slices_in_the_same_doubt_are_answered_together(demo: tuple[Document, Clip]) -> None:
    soft = [("kick", 1.0), ("snare", 0.36)]
    document = with_heard(demo[0], {2: soft, 4: [("kick", 1.0), ("snare", 0.55)], 5: soft, 9: [("kick", 1.0), ("snare", 0.31)]})
    found = asked(document, demo[1])
    assert [d.mends[1].label for d in found if len(d.mends) == 3] == ["add to all 3"] * 3
    every = found[0].mends[1]
    assert every.words == "add snare, 3 slices"
    mended = every.edit(document)
    numbers = {s.number: {h.drum for h in played(s.cut)} for s in mended.slices()}
    assert {n for n, drums in numbers.items() if "snare" in drums} == {2, 4, 5, 9}
    assert [d.reason for d in asked(mended, demo[1])] == ["snare underneath, only 55 %"]
    snare = next(pad.id for pad in document.pads if pad.drum == "snare")
    assert sum(hit.pad_id == snare for hit in detected_pattern(mended).hits) == 4
    unsure = unsure_of(document.slices()[1].cut)
    assert unsure is not None
    assert other_way(document, (), unsure) == document
    assert found[0].alike == found[2].alike != found[1].alike


CORRECTIONS = st.lists(
    st.tuples(st.integers(0, 44), st.sampled_from(["kick", "snare", "hat_closed", "hat_open", "crash"]), st.integers(0, 4)), max_size=8
)


@given(first=CORRECTIONS, then=CORRECTIONS)
def test_what_is_corrected_is_offered_to_the_pattern(
    demo: tuple[Document, Clip], first: list[tuple[int, str, int]], then: list[tuple[int, str, int]]
) -> None:
    """Taken, the pattern is as it is heard now, but for what was played by hand; left, nothing of it is offered again."""
    own = Hit(demo[0].next_id, next(pad.id for pad in demo[0].pads if pad.drum == "crash"), 1.37, 90)
    document = replace(with_hits(demo[0], [*pattern_of(demo[0]).hits, own]), next_id=own.id + 1)
    for corrections in (first, then):
        for index, drum, way in corrections:
            cut_id = document.slices()[index].cut.id
            if way < 2:
                document = set_underneath(document, cut_id, drum, bool(way))
            elif way == 2:
                document = correct_heard(document, cut_id, drum)
            else:
                document = set_left_out(document, [cut_id], way == 3)
        kept = pattern_of(document).hits
        left = drop_offers(document)
        assert (offered_hits(left), gone_hits(left), pattern_of(left).hits) == ([], [], kept)
        document = take_offers(document, offered_hits(document), gone_hits(document))
        assert (offered_hits(document), gone_hits(document)) == ([], [])
        wanted = Counter((hit.pad_id, round(hit.at_beats, 6)) for hit in (*detected_pattern(document).hits, own))
        assert Counter((hit.pad_id, round(hit.at_beats, 6)) for hit in pattern_of(document).hits) == wanted


def test_keys_answer_one_slice_or_all_alike(window: Any, qtbot: Any) -> None:
    session, stage = window.session, window.slice
    session.openings.open(next(path for path in loop_paths() if path.stem == "lamplight shuffle"))
    settle(qtbot, window)
    window.go_to(1)
    first, pattern = session.store.document, pattern_of(session.store.document)
    feet = [d for d in session.review.found if len(d.mends) == 3 and d.reason.startswith("pedal hat underneath")]
    count = len(feet)
    assert count > 2
    session.shown.select(cut_id=feet[0].cut_id)
    press(stage.view, Qt.Key.Key_F5)
    settle(qtbot, window)
    assert not any(h.drum == "hat_pedal" for h in session.store.document.cut(feet[0].cut_id).heard)
    session.shown.select(cut_id=feet[1].cut_id)
    document = session.store.document
    press(stage.view, Qt.Key.Key_F6)
    assert session.store.document is document, "a key acts on the slice that is heard, never on all alike"
    press(stage.view, Qt.Key.Key_F5, Qt.KeyboardModifier.ShiftModifier)
    settle(qtbot, window)
    assert not any(h.drum == "hat_pedal" and h.sure for d in feet for h in session.store.document.cut(d.cut_id).heard)
    assert session.shown.selection.cut_id not in {d.cut_id for d in feet}, "the next doubt is of another kind"
    assert session.store.history.undo_label == f"remove pedal hat, {count - 1} slices"
    assert (stage.offer_line.text(), stage.offer_add.text()) == (f"{count} hits gone", "Change A")
    stage.offer_add.click()
    foot = next(pad.id for pad in session.store.document.pads if pad.drum == "hat_pedal")
    before, after = (sum(hit.pad_id == foot for hit in hits) for hits in (pattern.hits, pattern_of(session.store.document).hits))
    assert before - after == count
    assert not stage.offer_add.isVisible()
    session.store.undo()
    session.store.undo()
    session.store.undo()
    settle(qtbot, window)
    assert session.store.document == first
    session.shown.select(cut_id=feet[0].cut_id)
    press(stage.view, Qt.Key.Key_F7, SHIFT)
    settle(qtbot, window)
    assert not any(d.reason.startswith("pedal hat underneath") for d in session.review.found)
    assert pattern_of(session.store.document) == pattern
    session.store.undo()
    assert session.store.document == first, "to keep all is one step"


def test_a_drum_that_has_no_pad_gets_one_with_its_hits(demo_window: Any, qtbot: Any) -> None:
    session, stage = demo_window.session, demo_window.slice
    demo_window.go_to(1)
    first = session.store.document
    ids = [piece.cut.id for piece in first.slices()[4:6]]
    for cut_id in ids:
        session.store.edit("hear a shaker", lambda d, cut_id=cut_id: set_underneath(d, cut_id, "shaker", True))
    settle(qtbot, demo_window)
    assert (stage.offer_line.text(), stage.offer_add.text()) == ("2 new hits, 1 new pad", "Add to A")
    session.store.edit("show as heard", lambda d: show_variation(d, -1))
    assert not stage.offer_line.isVisible(), "what was heard cannot be changed"
    session.store.undo()
    stage.offer_add.click()
    settle(qtbot, demo_window)
    made = session.store.document
    (shaker,) = [pad for pad in made.pads if pad.drum == "shaker"]
    assert {layer.at_sample for layer in shaker.layers} <= {made.cut(cut_id).at_sample for cut_id in ids}
    assert shaker.layers
    assert sum(hit.pad_id == shaker.id for hit in pattern_of(made).hits) == 2
    assert [pad for pad in made.pads if pad.drum != "shaker"] == list(first.pads), "no other pad changes"
    assert not stage.offer_line.isVisible()


def test_a_drum_of_a_slice_is_heard_without_the_others(demo_window: Any, qtbot: Any) -> None:
    """What leads has no hat on it, by a key; the hat has no kick under it, by its button; what is in doubt comes before what leads."""
    session, stage, engine = demo_window.session, demo_window.slice, demo_window.playback.engine
    demo_window.go_to(1)
    slices = [s for s in session.store.document.slices() if not unsure_of(s.cut)]
    piece = next(s for s in slices if [h.drum for h in s.cut.heard if h.confidence > PERHAPS] == ["kick", "hat_closed"])
    session.shown.select(cut_id=piece.cut.id)
    settle(qtbot, demo_window)

    def low_share(hear: Callable[[], None]) -> float:
        start = engine.state.rendered_frames
        hear()
        settle(qtbot, demo_window)
        made = engine.state.rendered_frames
        qtbot.waitUntil(lambda: engine.state.rendered_frames > made + 24_000)
        sound = captured(engine, since_frame=start)[:, 0]
        power = np.abs(np.fft.rfft(sound)) ** 2
        return float(power[np.fft.rfftfreq(len(sound), 1.0 / engine.sample_rate) < 200.0].sum() / power.sum())

    hat = next(b for b in stage.panel.findChildren(QPushButton) if b.accessibleName() == "Play the closed hat alone")
    assert low_share(hat.click) < 0.01
    assert low_share(lambda: press(stage.view, Qt.Key.Key_F4)) > 0.9
    doubted = (Heard("kick", 1.0, 100), Heard("hat_closed", 0.5, 80))
    session.store.edit("doubt it", lambda d: set_heard(d, piece.cut.id, doubted))
    settle(qtbot, demo_window)
    assert low_share(lambda: press(stage.view, Qt.Key.Key_F4)) < 0.01
