"""The small things that everything rests on: units, the axis of time, undo, tables, bands and crossings."""

from __future__ import annotations

import itertools
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtGui import QColor, QImage, QPainter

from bompla import units
from bompla.analysis.spectrogram import spectrogram
from bompla.app.messages import MessageHub, Weight
from bompla.app.ui.noteheads import draw_head
from bompla.app.ui.time_axis import MIN_SAMPLES, TimeAxis
from bompla.audio.clip import Clip
from bompla.groove.grid import beat_divisions, offset_beats, quantised
from bompla.model.document import Cut, Document, Hit
from bompla.model.drums import DRUMS, FAMILY_LABELS, METERS
from bompla.model.history import MAX_STEPS, History
from bompla.model.loop import Loop
from bompla.model.variation_edits import meters_for
from bompla.render.band import only_band
from bompla.render.seam import seamless, zero_crossing

RATE = 48_000


@given(st.floats(-90.0, 40.0))
def test_levels_and_gains_are_each_others_inverse(level_db: float) -> None:
    assert units.gain_to_db(units.db_to_gain(level_db)) == pytest.approx(level_db, abs=1e-6)


@given(st.integers(1, 127))
def test_a_velocity_survives_being_a_level(velocity: int) -> None:
    assert units.db_to_velocity(units.velocity_to_db(velocity)) == velocity


@given(st.integers(0, 10**8), st.sampled_from([8_000, 44_100, 48_000, 96_000, 192_000]))
def test_samples_survive_being_times(samples: int, rate: int) -> None:
    assert units.ms_to_samples(units.samples_to_ms(samples, rate), rate) == samples
    assert units.samples_to_s(samples, rate) * rate == pytest.approx(samples, rel=1e-12)


@given(st.floats(20.0, 400.0), st.integers(1, 64))
def test_a_tempo_is_beats_in_a_time(bpm: float, beats: int) -> None:
    assert units.bpm_of(beats=beats, seconds=60.0 * beats / bpm) == pytest.approx(bpm, rel=1e-9)


AXES = st.builds(lambda start, span, left, width: TimeAxis(start, start + span, left, width), st.floats(-1e5, 1e6), st.floats(100.0, 1e7),
                 st.floats(0.0, 300.0), st.floats(10.0, 3_000.0))


@given(AXES, st.floats(-0.5, 1.5))
def test_places_and_samples_are_each_others_inverse(axis: TimeAxis, share: float) -> None:
    x = axis.left + share * axis.width
    assert axis.x(axis.sample(x)) == pytest.approx(x, abs=1e-6 * axis.width)


@given(AXES, st.lists(st.tuples(st.floats(0.05, 20.0), st.floats(0.0, 1.0), st.floats(-1e6, 1e6)), max_size=12))
def test_however_it_is_zoomed_and_scrolled_the_axis_stays_inside(axis: TimeAxis, moves: list[tuple[float, float, float]]) -> None:
    first, last = 0.0, 2e6
    axis = axis.kept_inside(first, last) if axis.end - axis.start <= last - first else replace_span(axis, first, last)
    for factor, share, by in moves:
        x = axis.left + share * axis.width
        under = axis.sample(x)
        zoomed = axis.zoomed(factor, x, first, last)
        span = zoomed.end - zoomed.start
        assert MIN_SAMPLES - 1e-6 <= span <= last - first + 1e-6
        free = zoomed.start > first + 1e-6 and zoomed.end < last - 1e-6
        if free:
            assert zoomed.sample(x) == pytest.approx(under, abs=1e-6 * (last - first)), "what is under the pointer stays there"
        axis = zoomed.moved(by, first, last)
        assert first - 1e-6 <= axis.start
        assert axis.end <= last + 1e-6
        assert axis.end - axis.start == pytest.approx(span)


def replace_span(axis: TimeAxis, first: float, last: float) -> TimeAxis:
    return TimeAxis(first, last, axis.left, axis.width)


@given(st.lists(st.sampled_from(["edit", "same", "undo", "redo", "amend"]), max_size=60))
def test_undo_is_a_list_with_a_place_in_it(acts: list[str]) -> None:
    """Against the plainest model there is: the documents so far, and where one stands among them."""
    history = History(plain_document(0.1))
    known, at = [0.1], 0
    count = itertools.count(1)
    for act in acts:
        if act == "edit":
            value = 0.1 + next(count) / 1_000.0
            history = history.after(replace(history.document, threshold=value), f"to {value:.3f}")
            known, at = [*known[: at + 1], value], at + 1
        elif act == "same":
            assert history.after(history.document, "nothing") is history
        elif act == "undo":
            history, at = history.undo()[0], max(0, at - 1)
        elif act == "redo":
            history, at = history.redo()[0], min(len(known) - 1, at + 1)
        else:
            value = 0.1 + next(count) / 1_000.0
            history = history.amended(lambda d, value=value: replace(d, threshold=value))
            known[at] = value
        assert history.document.threshold == known[at]
        assert len(history.done) == at
        assert len(history.undone) == len(known) - 1 - at
        assert bool(history.undo_label) == (at > 0)
        assert bool(history.redo_label) == (at < len(known) - 1)


def test_undo_keeps_the_last_five_hundred_steps() -> None:
    history = History(plain_document(0.0))
    for n in range(MAX_STEPS + 40):
        history = history.after(replace(history.document, threshold=(n + 1) / 1_000.0), f"step {n}")
    assert len(history.done) == MAX_STEPS
    while history.done:
        history, _ = history.undo()
    assert history.document.threshold == pytest.approx(40 / 1_000.0)


def plain_document(threshold: float) -> Document:
    from bompla.model.document import Source

    return Document("plain", Source("plain.wav", "", RATE, 1, 4 * RATE), Loop.of_bars(0, 4 * RATE, 2, "4/4"), threshold=threshold)


@given(st.sampled_from(sorted(METERS)), st.integers(1, 8), st.lists(st.tuples(st.floats(0.0, 1.0), st.integers(1, 127)), max_size=24))
def test_a_document_survives_being_text(meter: str, bars: int, places: list[tuple[float, int]]) -> None:
    document = plain_document(0.2)
    beats = bars * METERS[meter].beats_per_bar
    hits = tuple(Hit(n, 7, round(share * beats, 6), velocity) for n, (share, velocity) in enumerate(sorted(places), 1))
    from bompla.model.document import Pad, Variation

    made = replace(document, loop=Loop.of_bars(0, 4 * RATE, bars, meter), pads=(Pad(7, 0, "kick", "Kick", 36),), next_id=99,
                   variations=(Variation("A", "main", hits),), cuts=(Cut(50, 10, 12, 0.5, "detected"),))
    assert msgspec.convert(msgspec.to_builtins(made), Document) == made
    assert msgspec.json.decode(msgspec.json.encode(made), type=Document) == made
    offered = meters_for(made)
    assert meter in offered
    assert {METERS[name].beat_quarters for name in offered} == {METERS[meter].beat_quarters}


@given(beats=st.integers(1, 12), data=st.data())
def test_the_grid_holds_what_lies_on_it(beats: int, data: Any) -> None:
    """Sixteenths and triplets, a beat of either, stay where they are, and are told apart."""
    kinds = data.draw(st.lists(st.sampled_from([3, 4]), min_size=beats, max_size=beats))
    times = [beat + step / kind for beat, kind in enumerate(kinds) for step in range(kind)]
    divisions = beat_divisions(times, beats)
    assert list(divisions) == kinds
    assert quantised(times, beats) == pytest.approx(times, abs=1e-9)
    for n, at in enumerate(times):
        assert abs(offset_beats(Hit(n, 1, at, 100), divisions)) < 1e-9


@given(st.lists(st.floats(0.0, 7.999), min_size=1, max_size=40))
def test_what_is_put_onto_the_grid_moves_less_than_half_a_step_and_stays(times: list[float]) -> None:
    moved = quantised(sorted(times), 8)
    assert np.abs(moved - np.sort(times)).max() <= 0.5 + 1e-9
    assert (moved >= 0.0).all()
    assert (moved < 8.0 + 1e-9).all()
    assert (np.diff(moved) >= -1e-9).all(), "nothing overtakes anything"


def test_every_drum_is_in_one_family_and_has_a_head_of_its_own(qapp: Any) -> None:
    assert qapp is not None
    assert sorted(drum.key for family in FAMILY_LABELS for drum in DRUMS.values() if drum.family is family) == sorted(DRUMS)
    pictures: dict[bytes, list[str]] = {}
    for key in DRUMS:
        image = QImage(40, 40, QImage.Format.Format_ARGB32)
        image.fill(0)
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_head(painter, key, 20.0, 20.0, 16.0, QColor(255, 255, 255))
        painter.end()
        bits = image.constBits()
        assert bits is not None
        content = bits.asstring(image.sizeInBytes())
        assert any(content), f"{key} has no head"
        pictures.setdefault(content, []).append(key)
    heads = {key: picture for picture, keys in pictures.items() for key in keys}
    for one, other in (("kick", "hat_closed"), ("snare", "rim"), ("hat_closed", "hat_open"), ("ride", "snare"), ("tom_mid", "crash")):
        assert heads[one] != heads[other], f"{one} and {other} are told apart without their colours"


@given(hz=st.sampled_from([60.0, 250.0, 1_000.0, 4_000.0, 12_000.0]), low=st.sampled_from([100.0, 700.0, 3_000.0]),
       octaves=st.floats(1.0, 3.0))
def test_a_band_holds_its_own_and_nothing_else(hz: float, low: float, octaves: float) -> None:
    high = min(20_000.0, low * 2.0**octaves)
    t = np.arange(RATE) / RATE
    heard = only_band(Clip(np.sin(2 * np.pi * hz * t).astype(np.float32), RATE), low, high)
    assert heard.frames == RATE
    level = 20.0 * np.log10(np.abs(heard.samples[RATE // 4 : -RATE // 4]).max() + 1e-9)
    if low * 1.3 < hz < high / 1.3:
        assert level > -3.0
    elif hz < low / 2.5 or hz > high * 2.5:
        assert level < -20.0


@given(st.floats(50.0, 900.0), st.integers(500, 4_000))
def test_a_crossing_is_where_the_sign_changes(hz: float, at: int) -> None:
    sound = np.sin(2 * np.pi * hz * np.arange(6_000) / RATE + 0.3).astype(np.float32)
    found = zero_crossing(Clip(sound, RATE), at, 960)
    assert abs(found - at) <= 960
    assert abs(sound[found]) <= 2 * np.pi * hz / RATE + 1e-3, "it is as near to nothing as the samples allow"


@given(st.integers(100, 3_000), st.floats(0.0, 30.0))
def test_a_seamless_loop_is_as_long_as_the_loop(start: int, fade_ms: float) -> None:
    rng = np.random.default_rng(start)
    clip = Clip(rng.uniform(-0.5, 0.5, (9_000, 2)).astype(np.float32), RATE)
    loop = Loop.of_bars(start, start + 4_000, 1, "4/4", fade_ms)
    made = seamless(clip, loop)
    assert made.shape == (4_000, 2)
    fade = min(start, round(fade_ms * RATE / 1_000.0))
    assert np.array_equal(made[: 4_000 - fade - 2], clip.samples[start : start + 4_000 - fade - 2]), "only its end is blended"
    assert np.abs(made).max() <= 1.0


@pytest.mark.parametrize("hz", [120.0, 800.0, 5_000.0])
@pytest.mark.parametrize("scale", ["mel", "linear"])
def test_a_tone_stands_at_its_height(hz: float, scale: Any) -> None:
    t = np.arange(RATE) / RATE
    low = spectrogram(Clip(np.sin(2 * np.pi * hz * t).astype(np.float32), RATE), scale)
    higher = spectrogram(Clip(np.sin(2 * np.pi * 2.0 * hz * t).astype(np.float32), RATE), scale)
    middle = low.levels.shape[0] // 2
    assert int(np.argmax(low.levels[middle])) < int(np.argmax(higher.levels[middle]))


def test_messages_wait_for_who_listens_and_are_told_once(qtbot: Any) -> None:
    hub = MessageHub()
    hub.note("first")
    hub.trouble("second")
    kept = hub.listen()
    assert [(message.text, message.weight) for message in kept] == [("first", Weight.NOTE), ("second", Weight.TROUBLE)]
    assert list(hub.listen()) == []
    with qtbot.waitSignal(hub.posted) as caught:
        hub.note("third")
    assert caught.args[0].text == "third"
    assert list(hub.listen()) == []
