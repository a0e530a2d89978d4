"""That the rebuilt loop sounds like the loop: levels, layers, what rings on, every slice played, nothing over full scale."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from bompla.audio.loudness import loudness_db
from bompla.engine.bounce import bounce_rebuilt
from bompla.engine.ceiling import CEILING_DB, Ceiling
from bompla.engine.commands import Op, command
from bompla.engine.layout import SLICE_PAD
from bompla.engine.mixer import MixerState, apply, render
from bompla.groove.rebuild import document_from, remade_kit
from bompla.groove.slice_kit import kit_of_slices
from bompla.model.detected_pattern import pattern_of, played
from bompla.model.document import Cut, Document, Pad
from bompla.model.kit_edits import put_on_slot, set_pad_level
from bompla.model.pattern_edits import add_played
from bompla.model.strike_levels import BAND_COUNT, SIZE, STRETCHES_MS, decoded, encoded, fall_db, level_db
from bompla.model.variation_edits import set_untouched
from bompla.render.bake import bake
from bompla.render.events import BakeRequest, strike_gain
from bompla.render.shaping import ringing
from bompla.render.stretch import stretched_by_attacks
from bompla.units import db_to_gain, gain_to_db
from conftest import captured

RATE = 48_000


@pytest.fixture(scope="module")
def rebuilt_demos(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> list[tuple[str, Clip, Document]]:
    """Three demo loops as they are heard."""
    return [(name, clip, document_from(analyse(clip, name=name), name)) for name, clip, _ in demo_loops[:3]]


def spectra_db(sound: np.ndarray) -> np.ndarray:
    """Return levels by 40 ms and third of an octave, shape (frames, bands), floored 60 dB under the loudest."""
    frames = sound.mean(axis=1)[: len(sound) // 1920 * 1920].reshape(-1, 1920) * np.hanning(1920)
    power = np.abs(np.fft.rfft(frames, axis=1)) ** 2
    edges = np.unique(np.round(np.geomspace(2, 640, 26)).astype(int))
    bands = np.stack([power[:, a:b].sum(axis=1) for a, b in pairwise(edges)], axis=1)
    return np.maximum(10.0 * np.log10(bands + 1e-12), 10.0 * np.log10(bands.max()) - 60.0)


def apart_db(document: Document, clip: Clip) -> tuple[float, float]:
    """Return how far the rebuilt loop is from the original: mean difference of levels in dB, and of loudness in LU."""
    baked = bake(BakeRequest(document, clip, RATE))
    rebuilt = bounce_rebuilt(baked, passes=2)
    far = np.abs(spectra_db(baked.original) - spectra_db(rebuilt.samples)).mean()
    return float(far), loudness_db(rebuilt) - loudness_db(Clip(baked.original, RATE))


def test_one_pad_per_slice_is_the_loop_and_the_kit_is_near_it(rebuilt_demos: list[tuple[str, Clip, Document]]) -> None:
    for name, clip, document in rebuilt_demos:
        far, loud = apart_db(kit_of_slices(document), clip)
        assert far < 0.5, name
        assert abs(loud) < 0.3, name
        far, loud = apart_db(document, clip)
        assert far < 0.05, f"{name}: while nothing is touched it is the loop itself"
        assert abs(loud) < 0.01, name
        far, loud = apart_db(set_untouched(document, "pads"), clip)
        assert far < 4.0, name
        assert abs(loud) < 3.0, name


def test_every_slice_is_played_where_each_has_its_pad(rebuilt_demos: list[tuple[str, Clip, Document]]) -> None:
    _, _, document = rebuilt_demos[0]
    silent = document.cuts[3]
    unheard = replace(document, cuts=tuple(replace(cut, heard=()) if cut is silent else cut for cut in document.cuts))
    kit = kit_of_slices(unheard)
    struck = {hit.pad_id for hit in pattern_of(kit).hits}
    assert struck == {pad.id for pad in kit.pads}
    fewer = replace(unheard, variations=(replace(pattern_of(unheard), hits=pattern_of(unheard).hits[:4]),))
    assert len(pattern_of(kit_of_slices(fewer)).hits) <= 4, "a pattern that does not follow the loop gets no hits"
    for cut, pad in zip([piece.cut for piece in document.slices()], kit_of_slices(document).pads, strict=True):
        assert pad.layers[0].velocity == max((h.velocity for h in played(cut)), default=pad.layers[0].velocity)


def test_what_no_drum_was_heard_in_is_offered_as_a_pad(demo_window: Any) -> None:
    window, kit = demo_window, demo_window.kit
    document: Document = window.session.store.document
    window.go_to_stage("kit")
    lost = [piece.cut.id for piece in document.slices()[3:6]]
    gone = {cut.attack_sample for cut in document.cuts if cut.id in lost}
    near = document.source.sample_rate // 50
    places = {hit.id: float(document.beat_map.sample_at(hit.at_beats)) for hit in pattern_of(document).hits}
    unheard = remade_kit(replace(
        document,
        cuts=tuple(replace(cut, heard=()) if cut.id in lost else cut for cut in document.cuts),
        variations=(replace(pattern_of(document), hits=tuple(
            hit for hit in pattern_of(document).hits if min(abs(places[hit.id] - at) for at in gone) > near)),),
    ))
    window.session.store.edit("unheard", lambda _: unheard)
    assert kit.rest.isVisibleTo(kit)
    assert kit.rest.text() == "Put 3 without a sure drum on a pad"
    kit.rest.click()
    whole: Document = window.session.store.document
    assert not kit.rest.isVisibleTo(kit)
    pad = next(pad for pad in whole.pads if pad.name == "Remainder")
    assert [pad.note for pad in whole.pads].count(pad.note) == 1
    hits = [hit for hit in pattern_of(whole).hits if hit.pad_id == pad.id]
    assert {round(float(whole.beat_map.sample_at(hit.at_beats))) for hit in hits} == gone
    clip = window.session.project.clip
    whole, unheard = (set_untouched(one, "pads") for one in (whole, unheard))
    assert apart_db(whole, clip)[0] < apart_db(unheard, clip)[0] - 0.1
    unheard = replace(unheard, variations=(replace(pattern_of(unheard), untouched="loop"),))
    window.session.store.undo()
    assert window.session.store.document == unheard


def test_harder_is_louder_and_no_strike_is_far_over_the_hardest_of_its_loop(rebuilt_demos: list[tuple[str, Clip, Document]]) -> None:
    for name, _, document in rebuilt_demos:
        for pad in document.pads:
            levels = {layer.at_sample: level_db(cut_of(document, layer.at_sample).levels) for layer in pad.layers}
            assert all(level is not None for level in levels.values())
            assert [layer.up_to for layer in pad.layers] == sorted(layer.up_to for layer in pad.layers)
            assert own_gains_db(pad, 127)[0] <= own_gains_db(pad, pad.hardest)[0] + 3.01, f"no {name} {pad.name} is far over its hardest"
            for layer in pad.layers:
                inside = [gain_to_db(strike_gain(pad, layer, velocity)) for velocity in range(1, 128)]
                assert inside == sorted(inside)


def cut_of(document: Document, at_sample: int) -> Cut:
    return next(cut for cut in document.cuts if cut.at_sample == at_sample)


def own_gains_db(pad: Pad, velocity: int) -> list[float]:
    layer = pad.layer_for(velocity)
    assert layer is not None
    return [gain_to_db(strike_gain(pad, layer, velocity))]


@given(st.lists(st.one_of(st.none(), st.floats(-55.0, 60.0)), min_size=SIZE, max_size=SIZE))
def test_levels_survive_being_bytes(levels: list[float | None]) -> None:
    known = np.array([np.nan if level is None else 10.0 ** (level / 10.0) for level in levels]).reshape(len(STRETCHES_MS), BAND_COUNT)
    again = decoded(encoded(known))
    assert np.array_equal(np.isnan(again), np.isnan(known))
    assert np.nanmax(np.abs(10.0 * np.log10(again / known)), initial=0.0) <= 0.26
    assert (level_db(encoded(known)) is None) == bool(np.isnan(known).all())
    assert level_db(b"") is None
    assert fall_db(b"") is None


def test_what_rings_on_falls_band_by_band() -> None:
    t = np.arange(RATE // 5) / RATE
    kick = np.sin(2 * np.pi * 60.0 * t) * np.exp(-t / 0.03)
    cymbal = 0.2 * np.sin(2 * np.pi * 9_000.0 * t) * np.exp(-t / 0.5)
    sound = np.repeat((kick + cymbal).astype(np.float32)[:, np.newaxis], 2, axis=1)
    out = ringing(sound, RATE)
    blend = RATE // 50
    assert np.allclose(out[: len(sound) - blend], sound[:-blend], atol=1e-6)
    after = np.abs(np.fft.rfft(out[len(sound) : len(sound) + RATE // 10, 0]))
    assert after[900] > 20.0 * after[6], "the cymbal rings, the kick is gone"
    assert np.abs(np.diff(out[:, 0])).max() <= 1.05 * np.abs(np.diff(sound[:, 0])).max(), "without a step"


@settings(max_examples=40)
@given(st.lists(st.tuples(st.floats(0.0, 4.0), st.integers(1, 600)), min_size=1, max_size=20))
def test_nothing_leaves_over_full_scale_and_what_is_below_the_ceiling_is_left_alone(blocks: list[tuple[float, int]]) -> None:
    rng, ceiling = np.random.default_rng(7), Ceiling(RATE)
    for peak, frames in blocks:
        block = (peak * rng.uniform(-1.0, 1.0, (frames, 2))).astype(np.float32)
        assert ceiling.apply(block) <= peak + 1e-6
        assert np.abs(block).max() <= 1.0
    fresh, quiet = Ceiling(RATE), (0.99 * db_to_gain(CEILING_DB) * rng.uniform(-1.0, 1.0, (512, 2))).astype(np.float32)
    same = quiet.copy()
    fresh.apply(same)
    assert np.array_equal(same, quiet)
    loud = np.full((480, 2), 2.0, np.float32)
    for _ in range(20):
        fresh.apply(held := loud.copy())
    assert held.max() == pytest.approx(db_to_gain(CEILING_DB), abs=1e-3), "held at the ceiling while it lasts"
    for _ in range(60):
        fresh.apply(same := quiet.copy())
    assert np.array_equal(same, quiet), "and let go"


def test_a_slice_that_is_listened_to_ends_without_a_step() -> None:
    state = MixerState(np.full((4_000, 2), 0.5, np.float32))
    apply(state, command(Op.STRIKE, offset=0, length=3_000, pad=SLICE_PAD, gain=1.0))
    played = np.concatenate([render(state, 500).copy() for _ in range(8)])[:, 0]
    assert played[1_000] == 0.5
    assert np.abs(np.diff(played[10:])).max() < 0.01


def test_recording_over_a_bar_leaves_the_others(demo: tuple[Document, Clip]) -> None:
    document, _ = demo
    kick = next(pad for pad in document.pads if pad.drum == "kick")
    after = add_played(document, [(kick.id, 4.5, 90, 0.0), (kick.id, 6.0, 90, 0.0)], replacing=True)

    def outside(one: Document) -> list[float]:
        return [hit.at_beats for hit in pattern_of(one).hits if hit.pad_id == kick.id and not 4.0 <= hit.at_beats < 8.0]

    assert outside(after) == outside(document)
    assert [hit.at_beats for hit in pattern_of(after).hits if hit.pad_id == kick.id and 4.0 <= hit.at_beats < 8.0] == [4.5, 6.0]


def test_a_slice_put_on_an_empty_pad_gets_a_note_of_its_own(demo: tuple[Document, Clip]) -> None:
    document, _ = demo
    kicks = [cut for cut in document.cuts if cut.heard and cut.heard[0].drum == "kick"]
    for slot, cut in zip((13, 14, 15), kicks, strict=False):
        document = put_on_slot(document, slot, cut.id)
    notes = [pad.note for pad in document.pads]
    assert len(notes) == len(set(notes))


def test_the_meter_holds_a_peak_over_full_scale_and_names_the_pad(demo_window: Any, qtbot: Any) -> None:
    window = demo_window
    document = window.session.store.document
    kick = next(pad for pad in document.pads if pad.drum == "kick")
    window.session.store.edit("louder", lambda d: set_pad_level(d, kick.id, 12.0))
    qtbot.waitUntil(lambda: not window.playback.busy, timeout=20_000)
    window.listening.blend.setValue(100)
    window.listening.equal.click()
    window.listening.play.click()
    qtbot.waitUntil(lambda: window.listening.meter.over, timeout=20_000)
    window.listening.play.click()
    assert window.listening.meter.loudest in {pad.name for pad in document.pads}
    assert "over full scale" in window.listening.meter.toolTip()
    assert np.abs(captured(window.playback.engine, since_frame=0)).max() <= 1.0
    qtbot.waitUntil(lambda: window.listening.meter.level_db < 0.0, timeout=20_000)
    QTest.mouseClick(window.listening.meter, Qt.MouseButton.LeftButton)
    assert not window.listening.meter.over


def test_rests_do_not_make_a_loop_softer() -> None:
    tone = 0.25 * np.sin(2 * np.pi * 997.0 * np.arange(4 * RATE) / RATE)
    sparse = tone.copy()
    sparse[RATE : 3 * RATE] = 0.0
    whole, with_rests = (loudness_db(Clip(one.astype(np.float32)[:, np.newaxis], RATE)) for one in (tone, sparse))
    assert with_rests == pytest.approx(whole, abs=0.8), "ungated it would be 3 LU softer"


def test_stretched_far_attacks_stay_and_low_tones_keep_their_pitch(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    whole = bake(BakeRequest(document, clip, RATE)).original[: 2 * RATE]
    starts = [(piece.start_sample - document.loop.start_sample) * RATE / clip.sample_rate for piece in document.slices()]
    starts = [start for start in starts if start < len(whole)]
    slow = stretched_by_attacks(whole, RATE, 0.25, starts)
    assert len(slow) == round(4 * len(whole))
    for start in (round(one) for one in starts[:-1]):
        attack = slow[4 * start + 48 : 4 * start + 480]
        assert np.abs(attack - whole[start + 48 : start + 480]).max() < 0.02, "an attack is what it was"
    t = np.arange(2 * RATE) / RATE
    tone = np.repeat(np.sin(2 * np.pi * 55.0 * t).astype(np.float32)[:, np.newaxis], 2, axis=1)
    part = stretched_by_attacks(tone, RATE, 0.25, [0.0, RATE / 2])[3 * RATE : 5 * RATE, 0]
    spectrum = np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 20))
    assert 1200 * np.log2(spectrum.argmax() * RATE / (1 << 20) / 55.0) == pytest.approx(0.0, abs=2.0), "cents"
    assert np.array_equal(slow, stretched_by_attacks(whole, RATE, 0.25, starts)), "the same sound each time"
