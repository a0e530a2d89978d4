"""Feel, writers and variations: pure functions on patterns."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.errors import BomplaError, EditError
from bompla.groove.feel import PLAIN_LAYER, feel_of, felt, felt_pattern, load_feel, own_feels, save_feel, write_in
from bompla.groove.writers import STARTERS, WRITERS, Place, one_at_a_time, unplayable, with_starter, written
from bompla.model.checks import check_document
from bompla.model.detected_pattern import is_inside, pattern_meter, pattern_of
from bompla.model.document import Document, Feel, FeelLayer, Hit
from bompla.model.drums import METERS
from bompla.model.kit_edits import copy_pad, set_pad_drum
from bompla.model.pattern_edits import add_hit, set_velocity, with_pattern
from bompla.model.variation_edits import (
    add_variation,
    delete_variation,
    duplicate_variation,
    move_variation,
    note_down,
    rename_variation,
    set_layer,
    show_variation,
)
from bompla.render.bake import bake
from bompla.render.events import BakeRequest
from conftest import hit_of

FOUR = METERS["4/4"]


def straight(count: int = 16, step: float = 0.25) -> tuple[Hit, ...]:
    return tuple(Hit(n + 1, 1, n * step, 100 if n % 4 == 0 else 60) for n in range(count))


LAYERS = st.builds(
    FeelLayer, swing=st.floats(50.0, 75.0), swing_beats=st.sampled_from([0.25, 0.5]), pull=st.floats(0.0, 1.0), accent=st.floats(0.0, 2.0),
    loose_ms=st.floats(0.0, 30.0), seed=st.integers(1, 99), feel=st.sampled_from([None, *own_feels()]), timing=st.floats(0.0, 1.0),
    force=st.floats(0.0, 1.0),
)
HITS = st.lists(st.tuples(st.integers(1, 4), st.floats(0.0, 7.9), st.integers(1, 127)), max_size=30).map(
    lambda rows: tuple(sorted((Hit(n + 1, p, b, v) for n, (p, b, v) in enumerate(rows)), key=lambda h: (h.at_beats, h.pad_id, h.id)))
)


@given(HITS, LAYERS)
def test_feel_loses_and_doubles_nothing(hits: tuple[Hit, ...], layer: FeelLayer) -> None:
    made = felt(hits, layer, beats=8, bpm=100.0, meter=FOUR)
    assert sorted(h.id for h in made) == sorted(h.id for h in hits)
    assert [h.at_beats for h in made] == sorted(h.at_beats for h in made)
    assert all(is_inside(h.at_beats, 8.0) and 1 <= h.velocity <= 127 for h in made)
    assert made == felt(hits, layer, beats=8, bpm=100.0, meter=FOUR), "the same seed, the same looseness"


@given(HITS)
def test_the_plain_layer_changes_nothing(hits: tuple[Hit, ...]) -> None:
    assert felt(hits, PLAIN_LAYER, beats=8, bpm=100.0, meter=FOUR) == hits
    assert felt(hits, FeelLayer(swing=50.0, pull=0.0), beats=8, bpm=100.0, meter=FOUR) == hits


@pytest.mark.parametrize(("swing", "second"), [(50.0, 0.5), (62.0, 0.62), (66.667, 2 / 3), (75.0, 0.75)])
def test_swing_moves_the_second_of_two_eighths(swing: float, second: float) -> None:
    made = felt(straight(8, 0.5), FeelLayer(swing=swing), beats=4, bpm=100.0, meter=FOUR)
    assert [h.at_beats % 1 for h in made[1::2]] == pytest.approx([second] * 4, abs=1e-4)
    assert [h.at_beats for h in made[::2]] == pytest.approx([0, 1, 2, 3])


def test_pull_ahead_accent_and_looseness() -> None:
    late = tuple(replace(h, at_beats=h.at_beats + 0.04) for h in straight())
    pulled = felt(late, FeelLayer(pull=0.5), beats=4, bpm=100.0, meter=FOUR)
    assert [h.at_beats for h in pulled] == pytest.approx([h.at_beats - 0.02 for h in late])
    ahead = felt(straight(), FeelLayer(ahead_ms=((1, 12.0),)), beats=4, bpm=60.0, meter=FOUR)
    assert [h.at_beats for h in ahead] == pytest.approx([n * 0.25 + 0.012 for n in range(16)])
    flat = felt(straight(), FeelLayer(accent=0.0), beats=4, bpm=60.0, meter=FOUR)
    assert len({h.velocity for h in flat}) == 1
    loose = felt(straight(), FeelLayer(loose_ms=20.0), beats=4, bpm=60.0, meter=FOUR)
    off = np.array([h.at_beats for h in sorted(loose, key=lambda h: h.id)]) - np.arange(16) * 0.25
    assert 0.002 < np.abs(off).mean() <= 0.02
    assert np.abs(off).max() <= 0.0201


@settings(deadline=None, max_examples=20)
@given(LAYERS)
def test_written_in_is_what_was_heard(demo: tuple[Document, Clip], layer: FeelLayer) -> None:
    document = set_layer(demo[0], layer)
    heard = felt_pattern(document)
    done = write_in(document)
    check_document(done)
    assert pattern_of(done).hits == heard == felt_pattern(done)
    assert pattern_of(done).layer == PLAIN_LAYER


def test_a_feel_is_taken_saved_loaded_and_laid_over_another_pattern(demo: tuple[Document, Clip], tmp_path: Path) -> None:
    document = demo[0]
    late = write_in(set_layer(document, FeelLayer(pull=1.0)))
    swung = write_in(set_layer(late, FeelLayer(swing=62.0, swing_beats=0.25)))
    feel = feel_of(swung, "swung")
    save_feel(feel, tmp_path / "it.json")
    assert load_feel(tmp_path / "it.json") == feel
    again = write_in(set_layer(late, FeelLayer(feel=feel, timing=1.0)))
    by_id = {h.id: h.at_beats for h in pattern_of(swung).hits}
    off = [abs(h.at_beats - by_id[h.id]) for h in pattern_of(again).hits]
    assert np.median(off) < 0.01
    for content in (b"", b"[]", b'{"format": "bompla feel", "feel": {}}', b'{"format": "other"}'):
        (tmp_path / "bad.json").write_bytes(content)
        with pytest.raises(BomplaError, match=r"bad\.json"):
            load_feel(tmp_path / "bad.json")
    with pytest.raises(BomplaError, match="Could not open"):
        load_feel(tmp_path / "gone.json")
    with pytest.raises(EditError, match="no hits"):
        feel_of(replace(document, variations=(replace(pattern_of(document), hits=()),)), "x")


def test_accents_that_go_too_far_stay_told_apart(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    hard = set_velocity(document, [h.id for h in pattern_of(document).hits], 110)
    feel = Feel("leaning", 4, (0.0,) * 16, tuple(1.6 if step % 4 == 0 else 1.3 if step % 2 == 0 else 1.0 for step in range(16)))
    felt = felt_pattern(set_layer(hard, FeelLayer(feel=feel, force=1.0)))
    for pad in document.pads:
        own = {h.velocity for h in felt if h.pad_id == pad.id}
        strengths = {feel.accent[round(4 * h.at_beats) % 16] for h in felt if h.pad_id == pad.id}
        assert len(own) == len(strengths)
        assert max(own, default=127) == 127 or strengths == {1.0}


@settings(deadline=None, max_examples=25)
@given(st.sampled_from(sorted(WRITERS)), st.data())
def test_every_writer_writes_where_it_is_told(demo: tuple[Document, Clip], key: str, data: st.DataObject) -> None:
    document, writer = demo[0], WRITERS[key]
    values = {param.key: param.stepped(data.draw(st.floats(param.low, param.high))) for param in writer.params}
    pad = data.draw(st.sampled_from(document.pads))
    place = Place(pad.id, 4.0, 8.0)
    draft = writer.write(document, place, values)
    assert all(4.0 - 1e-6 <= beat < 8.0 and 1 <= velocity <= 127 for _, beat, velocity in draft.add)
    done = written(document, draft)
    check_document(done)
    outside = [h for h in pattern_of(document).hits if not 4.0 - 1e-6 <= h.at_beats < 8.0]
    assert [h for h in pattern_of(done).hits if not 4.0 - 1e-6 <= h.at_beats < 8.0] == outside
    assert writer.write(document, place, values) == draft, "the same choices, the same hits"
    if key == "shuffle":
        now, was = (sorted(h.at_beats for h in pattern_of(one).hits) for one in (done, document))
        assert now == pytest.approx(was, abs=0.5)


def test_a_roll_doubles_and_grows_and_leaves_a_gap(demo: tuple[Document, Clip]) -> None:
    snare = next(p for p in demo[0].pads if p.drum == "snare")
    values = {"rate": 4.0, "doublings": 1.0, "from": 30.0, "to": 110.0, "gap": 0.25}
    hits = WRITERS["roll"].write(demo[0], Place(snare.id, 0.0, 4.0), values).add
    beats, forces = [b for _, b, _ in hits], [v for _, _, v in hits]
    assert max(beats) < 3.0
    assert beats[1] - beats[0] == pytest.approx(0.25)
    assert beats[-1] - beats[-2] == pytest.approx(0.125)
    assert forces == sorted(forces)


def test_ghosts_stay_off_what_is_there(demo: tuple[Document, Clip]) -> None:
    snare = next(p for p in demo[0].pads if p.drum == "snare")
    draft = WRITERS["ghosts"].write(demo[0], Place(snare.id, 0.0, 16.0), {"density": 100.0, "loudness": 25.0, "seed": 3.0})
    own = [h.at_beats for h in pattern_of(demo[0]).hits if h.pad_id == snare.id]
    assert draft.add
    assert all(min(abs(beat - other) for other in own) > 0.19 for _, beat, _ in draft.add)
    assert max(v for _, _, v in draft.add) < 50


def test_a_shadow_follows_another_lane(demo: tuple[Document, Clip]) -> None:
    kick, hat = (next(p for p in demo[0].pads if p.drum == drum) for drum in ("kick", "hat_closed"))
    values = WRITERS["shadow"].defaults() | {"lane": float(kick.id), "between": 0.0}
    draft = WRITERS["shadow"].write(demo[0], Place(hat.id, 0.0, 16.0), values)
    kicks = [h.at_beats for h in pattern_of(demo[0]).hits if h.pad_id == kick.id]
    assert draft.add
    assert all(min(abs(at - other) for other in kicks) < 0.075 for _, at, _ in draft.add)
    assert draft != WRITERS["shadow"].write(demo[0], Place(hat.id, 0.0, 16.0), WRITERS["shadow"].defaults())


@pytest.mark.parametrize("name", STARTERS)
def test_every_starter_fills_the_loop_in_its_own_meter(demo: tuple[Document, Clip], name: str) -> None:
    document = with_starter(demo[0], name)
    check_document(document)
    assert pattern_of(document).name == name
    meter = pattern_meter(document)
    assert meter.name == ("3/4" if name == "waltz" else "4/4")  # six in a bar of eighths is no meter of a loop in quarters
    bars = {int(h.at_beats // meter.beats_per_bar) for h in pattern_of(document).hits}
    assert bars == set(range(5 if name == "waltz" else 4))


def test_hats_take_turns_and_three_hands_are_told(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    closed, opened = (next(p for p in document.pads if p.drum == drum) for drum in ("hat_closed", "hat_open"))
    both = with_pattern(document, replace(pattern_of(document), hits=()))
    both = add_hit(add_hit(both, closed.id, 1.0, 80), opened.id, 1.0, 90)
    assert {hit_of(both, i).pad_id for i in one_at_a_time(both)} == {closed.id}
    snare = next(p for p in document.pads if p.drum == "snare")
    assert unplayable(both) == []
    crash_id = both.next_id
    both = set_pad_drum(copy_pad(both, snare.id, 15), crash_id, "crash")
    three = add_hit(add_hit(both, snare.id, 1.0, 90), crash_id, 1.0, 90)
    assert unplayable(three) == [(1.0, "four hands")]


def test_variations_are_added_shown_moved_named_and_taken_out(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    two = duplicate_variation(document)
    assert [v.letter for v in two.variations] == ["A", "B"]
    assert pattern_of(two).letter == "B"
    assert [(h.pad_id, h.at_beats) for h in pattern_of(two).hits] == [(h.pad_id, h.at_beats) for h in pattern_of(document).hits]
    three = add_variation(note_down(rename_variation(two, "busy"), "more ghosts"), [], "empty")
    check_document(three)
    edited = add_hit(three, document.pads[0].id, 1.0)
    assert [len(v.hits) for v in edited.variations][:2] == [len(v.hits) for v in three.variations][:2]
    moved = move_variation(edited, 2, 0)
    assert [v.letter for v in moved.variations] == ["C", "A", "B"]
    assert pattern_of(moved).letter == "C"
    shown = show_variation(moved, 2)
    assert (pattern_of(shown).name, pattern_of(shown).note) == ("busy", "more ghosts")
    left = delete_variation(shown, 0)
    assert pattern_of(left) == pattern_of(shown)
    with pytest.raises(EditError, match="last"):
        delete_variation(document, 0)
    with pytest.raises(EditError, match="no longer"):
        show_variation(document, 7)
    full = document
    for _ in range(25):
        full = add_variation(full, [], "x")
    with pytest.raises(EditError, match="up to 26"):
        add_variation(full, [], "x")


def test_the_shown_variation_is_what_is_baked(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    empty = add_variation(document, [(document.pads[0].id, 1.0, 100)], "one")
    assert len(bake(BakeRequest(empty, clip, 48_000)).events) == 1
    events = bake(BakeRequest(show_variation(empty, 0), clip, 48_000)).events
    assert sum(len(event.stands_for) or 1 for event in events) == len(pattern_of(document).hits)
    late = set_layer(empty, FeelLayer(ahead_ms=((document.pads[0].id, 50.0),)))
    at_frames = [bake(BakeRequest(one, clip, 48_000)).events[0].at_frame for one in (late, empty)]
    assert at_frames[0] - at_frames[1] == pytest.approx(2_400, abs=2)
