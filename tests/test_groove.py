"""From what was heard to kit and pattern, grids, and what the engine is given to play."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from bompla.analysis.review.doubts import doubts_of
from bompla.audio.clip import Clip
from bompla.groove.grid import beat_divisions, offset_beats, quantised
from bompla.groove.rebuild import ROWS, document_from, made_kit, tray
from bompla.model.analysis_result import AnalysisResult
from bompla.model.checks import check_document
from bompla.model.cut_edits import set_cutting, set_left_out, set_threshold
from bompla.model.detected_pattern import detected_hits, pattern_of, played
from bompla.model.document import Attack, Cut, Cutting, Document, Heard, Hit, Source
from bompla.model.drums import DRUMS, Family
from bompla.model.kit_edits import add_layer, clear_pad, put_on_slot, set_pad_level
from bompla.model.loop import Loop
from bompla.render.bake import bake
from bompla.render.events import BakeRequest, SoundKey, played_hits, sound_key, strike_gain
from bompla.units import db_to_gain, db_to_velocity, gain_to_db, note_name, velocity_to_db

RATE = 48_000


def heard_loop(attacks: list[tuple[float, float, list[tuple[str, float, int]]]], *, threshold: float = 0.4) -> AnalysisResult:
    """Return a heard loop of one bar at 120 BPM, with attacks as (beat, strength, drums)."""
    made = []
    for beat, strength, drums in attacks:
        at = round(beat * RATE / 2)
        made.append(Attack(at, max(0, at - 20), strength, tuple(Heard(*drum) for drum in drums)))
    source = Source("bar.wav", "0" * 32, RATE, 1, 2 * RATE)
    return AnalysisResult(source, Loop.of_bars(0, 2 * RATE, 1, "4/4"), (), 0.9, tuple(made), threshold)


BAR = [
    (0.0, 0.9, [("kick", 0.98, 110), ("hat_closed", 0.7, 80)]),
    (0.5, 0.8, [("hat_closed", 0.9, 60)]),
    (1.0, 0.9, [("snare", 0.97, 112), ("hat_closed", 0.3, 40)]),
    (1.75, 0.25, [("snare", 0.8, 34)]),
    (2.0, 0.9, [("kick", 0.9, 100)]),
    (3.0, 0.9, [("snare", 0.9, 116)]),
    (3.5, 0.7, [("hat_open", 0.8, 90), ("shaker", 0.55, 50)]),
]


def test_what_was_heard_becomes_cuts_pads_and_hits() -> None:
    document = document_from(heard_loop(BAR), "bar")
    check_document(document)
    assert [cut.attack_sample for cut in document.cuts] == [round(b * RATE / 2) for b, s, _ in BAR if s >= 0.4]
    pads = {pad.id: pad.drum for pad in document.pads}
    hits = sorted((round(hit.at_beats, 3), pads[hit.pad_id], hit.velocity) for hit in pattern_of(document).hits)
    assert hits == sorted([
        (0.0, "kick", 110), (0.0, "hat_closed", 80), (0.5, "hat_closed", 60), (1.0, "snare", 112), (2.0, "kick", 100),
        (3.0, "snare", 116), (3.5, "hat_open", 90), (3.5, "shaker", 50),
    ])
    assert document.offers == ()
    for pad in document.pads:
        family = DRUMS[pad.drum].family
        assert pad.slot // 4 == (ROWS.index(family) if family is not Family.EXTRAS else 2)


def test_a_lower_threshold_offers_the_ghost_and_changes_no_hit() -> None:
    document = document_from(heard_loop(BAR), "bar")
    more = set_threshold(document, 0.2)
    assert len(more.cuts) == len(document.cuts) + 1
    assert pattern_of(more) == pattern_of(document)
    assert [(round(b, 2), v) for _, b, v in detected_hits(more, [more.cut(i) for i in more.offers])] == [(1.75, 34)]
    assert set_threshold(more, 0.4).offers == ()


def test_where_a_gap_leaves_room_for_one_the_more_structural_stays() -> None:
    """A kick on 3 and a stronger clap a little ahead of it: the kick carries the groove."""
    clap = (1.9, 1.0, [("clap", 0.9, 110)])
    document = document_from(heard_loop(sorted([*BAR, clap], key=lambda one: one[0])), "bar")
    sparse = set_cutting(document, Cutting(min_distance_ms=150.0))
    places = [cut.attack_sample for cut in sparse.cuts]
    assert round(2.0 * RATE / 2) in places
    assert round(1.9 * RATE / 2) not in places
    clip = Clip(np.random.default_rng(2).uniform(-0.5, 0.5, (2 * RATE, 1)).astype(np.float32), RATE)
    by_hand = set_cutting(document, Cutting(hits=False))
    assert all(doubt.kind != "two hits" for doubt in doubts_of(by_hand, clip)), "who cuts by hand is not asked about hits"


def test_a_slice_left_out_gives_neither_hit_nor_pad_nor_tray() -> None:
    document = document_from(heard_loop(BAR), "bar")
    last = document.cuts[-1]
    out = set_left_out(document, [last.id], True)
    assert last.id not in {cut.id for cut in tray(out)}
    assert all(abs(beat - 3.5) > 0.01 for _, beat, _ in detected_hits(out, out.cuts))
    assert {pad.drum for pad in made_kit(out, 1)[0]} == {"kick", "snare", "hat_closed"}


def test_a_sound_with_no_attack_still_makes_a_document() -> None:
    document = document_from(heard_loop([]), "nothing")
    check_document(document)
    assert len(document.slices()) == 1
    assert document.pads == ()
    assert pattern_of(document).hits == ()


def test_only_sure_drums_are_played() -> None:
    cut = Cut(1, 0, 0, 0.9, "detected", heard=(
        Heard("kick", 0.9, 100), Heard("ride", DRUMS["ride"].sure_from - 0.01, 80), Heard("crash", DRUMS["crash"].sure_from, 80)))
    assert [h.drum for h in played(cut)] == ["kick", "crash"]
    soft = (Heard("snare", DRUMS["snare"].sure_from, 30), Heard("snare", DRUMS["snare"].sure_from - 0.01, 30))
    assert [h.sure for h in soft] == [True, False]


@settings(max_examples=80)
@given(steps=st.lists(st.integers(0, 47), min_size=4, max_size=40, unique=True), jitter=st.floats(0.0, 0.02), thirds=st.booleans())
def test_steps_played_loosely_come_back_to_their_steps(steps: list[int], jitter: float, thirds: bool) -> None:
    """Sixteenths or triplets, moved a little, quantise to where they were, in whatever order beats are played."""
    per_beat = 3 if thirds else 4
    steps = sorted(step for step in steps if step < 12 * per_beat)
    exact = np.array(steps) / per_beat
    loose = np.maximum(0.0, exact + jitter * np.resize([1.0, -1.0, 0.5], len(steps)))
    moved = quantised(list(loose), 12, compound=thirds)
    telling = {int(beat) for beat in exact if any(abs(beat * per_beat - round(beat * per_beat)) < 1e-9 and beat % 0.5 for beat in [beat])}
    for at, was in zip(moved, exact, strict=True):
        if int(was) in telling or was % 1 == 0.0:
            assert at == pytest.approx(was, abs=1e-9)


def test_offsets_are_measured_from_each_beats_own_grid() -> None:
    divisions = beat_divisions([0.0, 0.25, 0.5, 1.0, 1.33, 1.67], 2)
    assert list(divisions) == [4, 3]
    assert offset_beats(Hit(1, 1, 0.26, 100), divisions) == pytest.approx(0.01)
    assert offset_beats(Hit(1, 1, 1.32, 100), divisions) == pytest.approx(1.32 - 4 / 3)
    assert offset_beats(Hit(1, 1, 0.99, 100), divisions) == pytest.approx(-0.01)


def test_layers_answer_to_velocity_and_level_to_the_square_of_it(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    snare = next(p for p in document.pads if p.drum == "snare")
    struck = sorted((h.velocity, c.id) for c in document.cuts for h in c.heard if h.drum == "snare" and h.sure)
    document = put_on_slot(document, snare.slot, struck[-1][1])
    for _, cut_id in struck[-2], struck[0]:
        document = add_layer(document, snare.id, cut_id)
    pad = document.pad(snare.id)
    soft, hard = pad.layers[0], pad.layers[-1]
    assert pad.layer_for(1) is soft
    hardest = [layer for layer in pad.layers if layer.up_to == 127]
    assert [pad.layer_for(127, turn) for turn in range(len(hardest) + 1)] == [*hardest, hardest[0]]  # those take turns
    assert strike_gain(pad, hard, hard.velocity) == pytest.approx(1.0)
    assert gain_to_db(strike_gain(pad, hard, 64)) == pytest.approx(40 * np.log10(64 / hard.velocity), abs=1e-6)
    quieter = set_pad_level(document, pad.id, -6.0).pad(pad.id)
    assert gain_to_db(strike_gain(quieter, hard, hard.velocity)) == pytest.approx(-6.0)
    key = sound_key(document, pad, hard, clip)
    assert key.start == hard.at_sample < key.end <= document.loop.end_sample


def test_hits_are_played_where_their_attack_is_heard(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    frames = round(document.loop.frames * RATE / clip.sample_rate)
    events = played_hits(document, clip, pattern_of(document).hits, frames / document.loop.length_beats, RATE)
    assert [e.at_frame for e in events] == sorted(e.at_frame for e in events)
    pad = document.pads[0]
    for turn, hit in enumerate(h for h in pattern_of(document).hits if h.pad_id == pad.id):
        layer = pad.layer_for(hit.velocity, turn)
        assert layer is not None
        lead = (layer.attack_sample - layer.at_sample) * RATE / clip.sample_rate
        wanted = max(0, round(hit.at_beats * frames / document.loop.length_beats - lead))
        assert any(e.pad_id == pad.id and abs(e.at_frame - wanted) <= 1 for e in events)
    silent = clear_pad(document, pad.id)
    assert all(e.pad_id != pad.id for e in played_hits(silent, clip, pattern_of(silent).hits, frames / document.loop.length_beats, RATE))
    outside = replace(document, variations=(replace(pattern_of(document), hits=(Hit(10**6, pad.id, 99.0, 90),)),))
    assert bake(BakeRequest(outside, clip, RATE)).events == ()


@pytest.mark.parametrize("rate", [22_050, 44_100, 48_000, 96_000])
def test_a_loop_is_baked_to_its_length_at_any_rate(rate: int) -> None:
    samples = np.random.default_rng(1).uniform(-0.5, 0.5, (2 * RATE, 1)).astype(np.float32)
    clip = Clip(samples, RATE)
    document = replace(document_from(heard_loop(BAR), "bar"), tail="end")
    baked = bake(BakeRequest(document, clip, rate))
    assert baked.frames == 2 * rate
    assert baked.original.shape[1] == 2
    pads = {key: sound for key, sound in baked.sounds.items() if isinstance(key, SoundKey)}
    assert set(pads) == {sound_key(document, pad, layer, clip) for pad in document.pads for layer in pad.layers}
    for key, sound in pads.items():
        if key.shape.filter == "none":  # a filter rings on a little
            assert len(sound) == pytest.approx((key.end - key.start) * rate / RATE, abs=1)


@given(velocity=st.integers(1, 127))
def test_velocity_and_level_are_each_others_inverse(velocity: int) -> None:
    assert db_to_velocity(velocity_to_db(velocity)) == velocity
    assert gain_to_db(db_to_gain(velocity_to_db(velocity))) == pytest.approx(velocity_to_db(velocity))


def test_notes_have_their_names() -> None:
    assert [note_name(n) for n in (36, 38, 42, 60)] == ["C2", "D2", "F#2", "C4"]
