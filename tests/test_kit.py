"""The kit: made, remade and by hand; pads shaped, cleaned, copied; and what is heard of it."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.app.kit.pad_grid import PAD_MIME, SLICE_MIME
from bompla.app.ui.number_box import NumberBox
from bompla.audio.clip import Clip
from bompla.errors import EditError
from bompla.groove.rebuild import remade_kit, tray
from bompla.groove.slice_kit import kit_of_slices
from bompla.model.checks import check_document
from bompla.model.cut_edits import correct_heard, set_underneath
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.kit_edits import (
    add_layer,
    copy_pad,
    put_on_slot,
    rename_pad,
    set_kit_tail,
    set_layer_range,
    set_shape,
    take_off,
)
from bompla.model.reshape import with_shape
from bompla.model.shape import CHOKE_SETS, DIRECTIONS, FILTERS, PLAIN, SHAPE_PARAMS, TAILS, Shape, clamped
from bompla.render.bake import bake, made_sound
from bompla.render.events import WAYS, BakeRequest, SoundKey, sound_key
from bompla.render.shaping import envelope, lead_ms, response, ringing, shaped
from bompla.render.underneath import alone, underneath_pad
from conftest import captured, settle

RATE = 48_000
LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier


def strike_like(seconds: float = 0.4, hz: float = 200.0) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    sound = 0.6 * np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.08)
    return np.stack([sound, sound], axis=1).astype(np.float32)


SHAPES = st.builds(
    Shape,
    **{key: st.floats(p.low, p.high) for key, p in SHAPE_PARAMS.items()},
    filter=st.sampled_from(tuple(FILTERS)), direction=st.sampled_from(tuple(DIRECTIONS)), tail=st.sampled_from(tuple(TAILS)),
    choke=st.sampled_from(tuple(CHOKE_SETS)),
)


@settings(max_examples=60, deadline=None)
@given(SHAPES, st.integers(1, 9_000))
def test_any_shape_of_any_sound_is_finite_and_keeps_its_kind(shape: Shape, frames: int) -> None:
    sound = shaped(strike_like()[:frames], RATE, clamped(shape))
    assert sound.ndim == 2
    assert sound.shape[1] == 2
    assert len(sound) >= 1
    assert sound.dtype == np.float32
    assert np.isfinite(sound).all()
    assert np.abs(sound).max() < 40.0


def test_a_plain_shape_changes_nothing() -> None:
    sound = strike_like()
    assert shaped(sound, RATE, PLAIN) is sound
    assert clamped(PLAIN) == PLAIN
    assert clamped(Shape(tune=99.0, filter="x", sustain=-3.0)) == Shape(tune=24.0, filter="none", sustain=0.0)


@pytest.mark.parametrize("semitones", [-12.0, -1.5, 7.0, 12.0])
def test_a_tuned_pad_sounds_so_much_higher_and_is_so_much_shorter(semitones: float) -> None:
    made = shaped(strike_like(), RATE, Shape(tune=semitones))
    ratio = 2.0 ** (semitones / 12.0)
    assert len(made) == pytest.approx(0.4 * RATE / ratio, abs=2)
    spectrum = np.abs(np.fft.rfft(made[:, 0] * np.hanning(len(made)), 1 << 17))
    assert np.argmax(spectrum) * RATE / (1 << 17) == pytest.approx(200.0 * ratio, rel=0.03)


def test_trim_fades_direction_and_pan() -> None:
    sound = strike_like()
    cut = shaped(sound, RATE, Shape(start_ms=10.0, end_ms=100.0))
    assert np.array_equal(cut, sound[480 : len(sound) - 4800])
    back = shaped(sound, RATE, Shape(direction="reverse"))
    assert np.array_equal(back, sound[::-1])
    both = shaped(sound, RATE, Shape(direction="both"))
    assert len(both) == 2 * len(sound)
    faded = shaped(sound, RATE, Shape(fade_in_ms=20.0, fade_out_ms=50.0))
    assert abs(float(faded[0, 0])) < 1e-6 > abs(float(faded[-1, 0]))
    left = shaped(sound, RATE, Shape(pan=-1.0))
    assert np.abs(left[:, 1]).max() < 1e-6
    assert np.abs(left[:, 0]).max() == pytest.approx(np.sqrt(2.0) * np.abs(sound).max(), rel=1e-4)
    assert lead_ms(Shape(start_ms=1.0, tune=12.0), 3.0) == pytest.approx(1.0)
    assert lead_ms(Shape(direction="reverse"), 3.0) == 0.0


def test_the_envelope_rises_holds_falls_and_stays() -> None:
    gain = envelope(Shape(attack_ms=10.0, hold_ms=20.0, decay_ms=100.0, sustain=0.25), RATE, RATE)
    at = lambda ms: float(gain[round(ms * RATE / 1000.0)])  # noqa: E731  # a name for reading a curve
    assert at(0.0) == 0.0
    assert at(5.0) == pytest.approx(0.5, abs=0.01)
    assert at(11.0) == at(29.0) == 1.0
    assert 0.3 < at(70.0) < 0.9
    assert at(140.0) == pytest.approx(0.25, abs=1e-3) == at(900.0)
    assert (np.diff(gain[round(0.03 * RATE) :]) <= 1e-7).all()


@pytest.mark.parametrize(("kind", "kept", "gone"), [("low", 100.0, 15_000.0), ("high", 15_000.0, 60.0), ("band", 1_000.0, 50.0)])
def test_a_filter_lets_through_what_it_should(kind: str, kept: float, gone: float) -> None:
    shape = Shape(filter=kind, cutoff_hz=1_000.0)
    levels = 20.0 * np.log10(np.abs(response(shape, np.array([kept, gone]), RATE)))
    assert abs(levels[0]) < 1.0
    assert levels[1] < -20.0
    t = np.arange(RATE) / RATE
    tone = np.stack([np.sin(2 * np.pi * gone * t)] * 2, axis=1).astype(np.float32)
    made = shaped(tone, RATE, shape)
    assert np.abs(made[RATE // 4 : RATE // 2]).max() < 0.12
    assert abs(complex(response(Shape(filter="notch", cutoff_hz=1_000.0), np.array([1_000.0]), RATE)[0])) < 1e-6


@pytest.mark.parametrize("back_and_forth", [False, True])
def test_a_sound_that_rings_on_has_no_step_and_dies_away(back_and_forth: bool) -> None:
    sound = strike_like(0.3)
    made = ringing(sound, RATE, back_and_forth=back_and_forth)
    assert len(sound) + 0.2 * RATE < len(made) <= len(sound) + round(1.2 * RATE)
    kept = len(sound) - round(0.02 * RATE)
    assert np.array_equal(made[:kept], sound[:kept])
    usual = float(np.abs(np.diff(sound[:, 0])).max())
    assert float(np.abs(np.diff(made[:, 0])).max()) <= usual * 1.05
    assert np.abs(made[-100:]).max() < 1e-3


def test_a_hit_is_cleaned_of_what_is_under_it(demo: tuple[Document, Clip]) -> None:
    """A kick with a hat on it loses most of its highs, and keeps its lows."""
    document, clip = demo
    piece = next(s for s in document.slices() if {h.drum for h in s.cut.heard if h.confidence > 0.2} == {"kick", "hat_closed"})
    kick = next(p for p in document.pads if p.drum == "kick")
    document = put_on_slot(document, kick.slot, piece.cut.id)
    plain_key = sound_key(document, document.pad(kick.id), document.pad(kick.id).layers[0], clip)
    document = set_shape(document, kick.id, Shape(clean=1.0))
    clean_key = sound_key(document, document.pad(kick.id), document.pad(kick.id).layers[0], clip)
    assert clean_key.others == ("hat_closed",)
    plain, clean = made_sound(clip, plain_key, RATE), made_sound(clip, clean_key, RATE)

    def level(sound: np.ndarray, low: float, high: float) -> float:
        power = np.abs(np.fft.rfft(sound[: RATE // 8, 0])) ** 2
        hz = np.fft.rfftfreq(min(RATE // 8, len(sound)), 1 / RATE)
        return float(10 * np.log10(power[(hz >= low) & (hz < high)].sum()))

    assert level(clean, 6_000, 16_000) < level(plain, 6_000, 16_000) - 5.0
    assert abs(level(clean, 30, 200) - level(plain, 30, 200)) < 1.0


def test_a_hit_is_cleaned_by_where_its_drums_are_heard_alone(demo: tuple[Document, Clip]) -> None:
    """A hat that is played from a sample comes off a snare whole; a slice that has been corrected is gone by no longer."""
    document, clip = demo
    pair = ("snare", "hat_closed")
    under = next(s for s in document.slices() if {h.drum for h in s.cut.heard if h.confidence > 0.3} == set(pair))
    begin, length = under.cut.attack_sample, under.end_sample - under.cut.attack_sample
    snare, hat = (clip.mono[at:end][:length] for _, ((at, end), *_) in alone(document, pair))
    snare, hat = (np.pad(one, (0, length - len(one))) for one in (0.9 * snare, 0.5 * hat))
    samples = clip.samples.copy()
    samples[begin : begin + length] = (snare + hat)[:, None]
    played = Clip(samples, clip.sample_rate)
    pad = next(p for p in document.pads if p.drum == "snare")
    document = set_shape(put_on_slot(document, pad.slot, under.cut.id), pad.id, Shape(clean=1.0))
    key = sound_key(document, document.pad(pad.id), document.pad(pad.id).layers[0], played)
    got = made_sound(played, key, clip.sample_rate)[begin - under.start_sample :, 0]
    kept = slice(44, round(0.8 * length))  # it begins and ends with a fade
    assert ((got[kept] - snare[kept]) ** 2).sum() < 0.03 * (hat[kept] ** 2).sum()
    gone_by = next(s.cut for s in document.slices() if s.cut.attack_sample == dict(key.alone)["hat_closed"][0][0])
    corrected = correct_heard(document, gone_by.id, "ride")
    other = sound_key(corrected, corrected.pad(pad.id), corrected.pad(pad.id).layers[0], played)
    assert gone_by.attack_sample not in [at for at, _ in dict(other.alone).get("hat_closed", ())]


def test_a_kit_is_made_again_around_what_was_done_by_hand(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    snare = next(p for p in document.pads if p.drum == "snare")
    hat = next(p for p in document.pads if p.drum == "hat_closed")
    by_hand = rename_pad(document, snare.id, "mine")
    by_hand = replace(by_hand, pads=tuple(replace(p, layers=()) if p.id == hat.id else p for p in by_hand.pads))
    again = remade_kit(by_hand)
    check_document(again)
    assert again.pad(snare.id) == by_hand.pad(snare.id)
    assert again.pad(hat.id).layers == remade_kit(document).pad(hat.id).layers != ()
    assert pattern_of(again) == pattern_of(document)
    assert remade_kit(again) == again


def test_every_slice_on_a_pad_of_its_own_plays_the_same_pattern(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    made = kit_of_slices(document)
    check_document(made)
    slices = document.slices()
    assert [p.note for p in made.pads] == list(range(36, 36 + len(slices)))
    assert [p.layers[0].at_sample for p in made.pads] == [s.start_sample for s in slices]
    assert tray(made) == ()
    pads = {p.id: p for p in made.pads}
    near = 0.02 * clip.sample_rate
    assert all(abs(pads[h.pad_id].layers[0].attack_sample - made.beat_map.sample_at(h.at_beats)) < near for h in pattern_of(made).hits)
    assert {round(h.at_beats, 2) for h in pattern_of(made).hits} <= {round(h.at_beats, 2) for h in pattern_of(document).hits}


def test_equals_take_turns_and_layers_answer_to_their_velocities(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    snares = [s.cut for s in document.slices() if s.cut.heard and s.cut.heard[0].drum == "snare"]
    loud = sorted(snares, key=lambda c: -c.heard[0].velocity)
    document = put_on_slot(document, 13, loud[0].id)
    pad = next(p for p in document.pads if p.slot == 13)
    document = add_layer(document, pad.id, loud[1].id)
    assert document.pad(pad.id).shared_how == "in turn"
    document = add_layer(document, pad.id, loud[-1].id)
    assert document.pad(pad.id).shared_how == "soft to hard"
    layers = document.pad(pad.id).layers
    assert [layer.up_to for layer in layers] == sorted(layer.up_to for layer in layers)
    turns = {document.pad(pad.id).layer_for(127, turn).at_sample for turn in range(4)}
    assert turns == {loud[0].at_sample, loud[1].at_sample}
    assert document.pad(pad.id).layer_for(1).at_sample == loud[-1].at_sample
    with pytest.raises(EditError, match="already"):
        add_layer(document, pad.id, loud[0].id)
    left = take_off(take_off(document, pad.id, layers[-1]), pad.id, layers[-2])
    assert left.pad(pad.id).layer_for(127).at_sample == loud[-1].at_sample
    assert copy_pad(document, pad.id, 14).pads[-1].layers == layers
    with pytest.raises(EditError, match="clear it"):
        copy_pad(document, pad.id, 13)


def test_shapes_are_given_to_any_pads_and_tails_set_for_the_kit(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    hats = [p for p in document.pads if p.drum.startswith("hat")]
    document = with_shape(document, [hat.id for hat in hats], Shape(tune=3.0))
    assert all(document.pad(p.id).shape.tune == 3.0 for p in hats)
    before = {p.id: p.shape for p in demo[0].pads}
    assert all(p.shape == before[p.id] for p in document.pads if not p.drum.startswith("hat"))
    rings = set_kit_tail(demo[0], "ring")
    short, long = bake(BakeRequest(set_kit_tail(demo[0], "end"), clip, RATE)), bake(BakeRequest(rings, clip, RATE))
    pads = [{key.start: len(sound) for key, sound in one.sounds.items() if isinstance(key, SoundKey)} for one in (short, long)]
    assert all(pads[1][start] > length + 0.05 * RATE for start, length in pads[0].items())
    with pytest.raises(EditError, match="ring on"):
        set_kit_tail(demo[0], "for ever")


def test_a_pad_is_shaped_on_its_picture_and_heard_so(demo_window: Any, qtbot: Any) -> None:
    """Grips, bars and choices of the panel; each one step of undo; the change is in what the device plays."""
    window, session = demo_window, demo_window.session
    window.go_to(2)
    panel = window.kit.panel
    kick = next(p for p in session.store.document.pads if p.drum == "kick")
    session.shown.select(pad_id=kick.id)

    def heard() -> np.ndarray:
        settle(qtbot, window)
        engine = window.playback.engine
        qtbot.waitUntil(lambda: engine.state.voices == 0)
        start = engine.state.rendered_frames
        window.kit.strike(kick.id, 110)
        qtbot.waitUntil(lambda: engine.state.rendered_frames > start + 14_000)
        return captured(engine, since_frame=start)

    plain = heard()
    grip = panel.trim.grips()["end"]
    QTest.mousePress(panel.trim, LEFT, NONE, grip.toPoint())
    QTest.mouseMove(panel.trim, QPoint(panel.trim.width() // 4, round(grip.y())))
    QTest.mouseRelease(panel.trim, LEFT, NONE, QPoint(panel.trim.width() // 4, round(grip.y())))
    assert session.store.history.undo_label == "trim kick"
    assert session.store.document.pad(kick.id).shape.end_ms > 0.5 * panel.trim.length_ms
    short = heard()
    assert (short**2).sum() < 0.9 * (plain**2).sum()
    panel.kind.setCurrentIndex(panel.kind.findData("high"))
    panel.kind.activated.emit(1)
    grip = panel.filter.grips()["cutoff"].toPoint()
    QTest.mousePress(panel.filter, LEFT, NONE, grip)
    QTest.mouseMove(panel.filter, QPoint(panel.filter.width() - 20, grip.y()))
    QTest.mouseRelease(panel.filter, LEFT, NONE, QPoint(panel.filter.width() - 20, grip.y()))
    assert session.store.document.pad(kick.id).shape.cutoff_hz > 5_000
    assert (heard() ** 2).sum() < 0.2 * (short**2).sum()
    panel.bars["tune"].setFocus()
    QTest.keyClick(panel.bars["tune"], Qt.Key.Key_Right)
    assert session.store.document.pad(kick.id).shape.tune == 0.5
    QTest.keyClick(panel.bars["tune"], Qt.Key.Key_Delete)
    assert session.store.document.pad(kick.id).shape.tune == 0.0
    QTest.mouseDClick(panel.bars["clean"], LEFT)
    QTest.keyClicks(panel.bars["clean"].field, "100 %")
    QTest.keyClick(panel.bars["clean"].field, Qt.Key.Key_Return)
    assert session.store.document.pad(kick.id).shape.clean == 1.0, "what is typed is what is had"
    session.store.undo()
    grip = panel.envelope.grips()["decay"].toPoint()
    QTest.mousePress(panel.envelope, LEFT, NONE, grip)
    QTest.mouseMove(panel.envelope, QPoint(grip.x() - 10, panel.envelope.height() - 10))
    QTest.mouseRelease(panel.envelope, LEFT, NONE, QPoint(grip.x() - 10, panel.envelope.height() - 10))
    assert session.store.document.pad(kick.id).shape.sustain < 0.2
    QTest.mouseDClick(panel.envelope, LEFT, NONE, panel.envelope.grips()["decay"].toPoint())
    assert session.store.document.pad(kick.id).shape.sustain == 1.0
    panel.direction.click("reverse")
    assert session.store.document.pad(kick.id).shape.direction == "reverse"
    while session.store.history.done:
        session.store.undo()
    assert np.abs(heard()[:8_000] - plain[:8_000]).max() < 1e-6 or (heard() ** 2).sum() == pytest.approx((plain**2).sum(), rel=0.3)


def test_what_is_underneath_a_pad_is_told(demo_window: Any) -> None:
    """And told anew once a slice is put on the pad, or corrected."""
    window = demo_window
    session, panel = window.session, window.kit.panel
    kick = next(p for p in session.store.document.pads if p.drum == "kick")
    session.shown.select(pad_id=kick.id)
    window.go_to(2)
    both = next(s for s in session.store.document.slices() if {h.drum for h in s.cut.heard if h.confidence > 0.3} == {"kick", "hat_closed"})
    session.store.edit("put on pad", lambda d: put_on_slot(d, kick.slot, both.cut.id))
    counts = underneath_pad(session.store.document, session.store.document.pad(kick.id))
    assert counts["hat_closed"] > 1
    assert panel.under.text() == f"Underneath: closed hat (alone in {counts['hat_closed']} slices)"
    session.store.edit("correct", lambda d: set_underneath(d, both.cut.id, "hat_closed", sounds=False))
    assert panel.under.text() == "Nothing underneath to clean"


def test_the_kit_is_remade_and_dropped_on_by_hand(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(2)
    grid, before = window.kit.grid, session.store.document
    cut = tray(before)[0]
    grid.drop(SLICE_MIME, cut.id, before.pads[0].slot, more=True)
    assert any(layer.at_sample == cut.at_sample for layer in session.store.document.pads[0].layers)
    grid.drop(PAD_MIME, before.pads[0].id, 3, more=True)
    assert any(p.slot == 3 for p in session.store.document.pads)
    window.kit.slices_in_order()
    assert len(session.store.document.pads) == len(before.slices())
    assert window.kit.pages.isVisible()
    for _ in range(3):
        session.store.undo()
    assert session.store.document == before
    window.kit.remake()
    window.kit.tail.setCurrentIndex(window.kit.tail.findData("ring"))
    window.kit.tail.activated.emit(window.kit.tail.currentIndex())
    assert session.store.document.tail == "ring"


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("speed", [0.5, 0.8, 1.25])
def test_the_original_goes_along_at_another_speed(demo: tuple[Document, Clip], way: str, speed: float) -> None:
    """As long as it should be; each attack at its new time; the pattern's hits with them."""
    document, clip = demo
    usual, baked = bake(BakeRequest(document, clip, RATE)), bake(BakeRequest(document, clip, RATE, speed=speed, way=way))
    assert baked.frames == round(usual.frames / speed)
    assert len(baked.events) == len(usual.events)
    lead = 0.01 * RATE
    for a, b in zip(usual.events, baked.events, strict=True):
        assert abs(b.at_frame - a.at_frame / speed) < lead
    for piece in document.slices()[4:12]:
        at = round((piece.cut.attack_sample - document.loop.start_sample) * RATE / clip.sample_rate / speed)
        before, after = baked.original[at - 1_200 : at - 300], baked.original[at : at + 1_200]
        if piece.cut.clear_db > 15.0:
            assert np.abs(after).max() > 1.5 * np.abs(before).max()


def test_some_bars_are_played_at_some_speed(demo_window: Any, qtbot: Any) -> None:
    window, session = demo_window, demo_window.session
    bar = window.listening
    bar.speed.setCurrentIndex(bar.speed.findText("50 %"))
    bar.speed.activated.emit(0)
    settle(qtbot, window)
    assert bar.tempo.value() == pytest.approx(session.store.document.bpm / 2, abs=0.01)
    assert bar.way.isVisible()
    window.playback.transport.seek(session.store.document.beat_map.sample_at(4.0))
    qtbot.waitUntil(lambda: abs(session.store.document.beat_map.beat_at(window.playback.transport.playhead_sample()) - 4.0) < 0.02)
    bar.bars.setCurrentIndex(bar.bars.findText("bar 3"))
    bar.bars.activated.emit(0)
    bar.play.click()
    beats = []
    window.playback.transport.moved.connect(lambda at: beats.append(session.store.document.beat_map.beat_at(at)))
    start = window.playback.engine.state.rendered_frames
    qtbot.waitUntil(lambda: window.playback.engine.state.rendered_frames > start + 6.5 * RATE)
    bar.play.click()
    assert 8.0 <= min(beats[2:]) < 8.5, "a turn begins a little ahead of its bar, which is not shown"
    assert 11.0 < max(beats[2:]) <= 12.05
    bar.bars.setCurrentIndex(0)
    bar.bars.activated.emit(0)
    assert window.playback.baking.listened.bars == (0, 0)


def test_pages_are_added_and_left_and_a_pad_is_removed_with_its_hits(demo_window: Any, qtbot: Any) -> None:
    window, session, kit = demo_window, demo_window.session, demo_window.kit
    window.go_to(2)
    assert kit.pages.keys == [0]
    kit.more_pages.click()
    assert kit.pages.keys == [0, 1]
    assert kit.grid.page == 1
    kick = next(p for p in session.store.document.pads if p.drum == "kick")
    kit.grid.drop("application/x-bompla-pad", kick.id, 16)
    assert session.store.document.pad(kick.id).slot == 16
    session.store.undo()
    kit.slices_in_order()
    kit.pages.click(2)
    session.store.undo()
    assert kit.grid.page <= 1, "a page that is gone is not shown"
    kit.pages.click(0)
    session.shown.select(pad_id=kick.id)
    hits = sum(h.pad_id == kick.id for h in pattern_of(session.store.document).hits)
    assert hits
    QTest.keyClick(kit.grid, Qt.Key.Key_Delete, Qt.KeyboardModifier.ControlModifier)
    assert all(p.id != kick.id for p in session.store.document.pads)
    assert all(h.pad_id != kick.id for h in pattern_of(session.store.document).hits)
    check_document(session.store.document)
    assert "gone with its" in window.messages.text.text()
    session.store.undo()
    kit.strike(kick.id, 100)
    assert kit.grid._lit
    qtbot.waitUntil(lambda: not kit.grid._lit)


def test_every_layer_of_a_pad_is_heard_ranged_and_taken_off(demo_window: Any) -> None:
    window, session, panel = demo_window, demo_window.session, demo_window.kit.panel
    window.go_to(2)
    pad = next(p for p in session.store.document.pads if p.drum == "snare")
    loud = sorted((c for c in session.store.document.cuts if any(h.drum == "snare" for h in c.heard)), key=lambda c: c.strength)
    for cut in (loud[0], loud[len(loud) // 2], loud[-1]):
        with suppress(EditError):
            session.store.edit("put on", lambda d, cut=cut: add_layer(d, pad.id, cut.id))
    pad = session.store.document.pad(pad.id)
    session.shown.select(pad_id=pad.id)
    boxes = [box for box in panel.findChildren(NumberBox) if box.accessibleName().startswith("Highest velocity")]
    assert len(boxes) == len(pad.layers) > 1
    heights = sorted({layer.up_to for layer in pad.layers})
    first = next(box for box in boxes if round(box.value()) == heights[0])
    first.typed.emit(float(heights[0] - 2))
    changed = session.store.document.pad(pad.id)
    assert sorted({layer.up_to for layer in changed.layers}) == [heights[0] - 2, *heights[1:]]
    with pytest.raises(EditError, match="between its neighbours"):
        set_layer_range(session.store.document, pad.id, changed.layers[0], heights[1] + 1)
    check_document(session.store.document)
