"""The document, its edits and its history."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.errors import EditError
from bompla.groove.layers import pad_of
from bompla.groove.order import bounced, order_passages, wander_passages
from bompla.groove.rebuild import offered_hits, tray
from bompla.model.beatmap import BeatMap
from bompla.model.checks import check_document
from bompla.model.colour import TREATMENTS, move_treatment, set_treatment
from bompla.model.cut_edits import (
    add_cut,
    choose_reading,
    correct_heard,
    delete_cuts,
    move_cut,
    rename_slice,
    set_left_out,
    set_loop,
    set_threshold,
)
from bompla.model.detected_pattern import pattern_beats, pattern_of
from bompla.model.document import Cut, Document, Heard, OrderStep, TempoReading, Wander, WanderRule
from bompla.model.drums import DRUMS, Family, drum_of_note
from bompla.model.history import History
from bompla.model.kit_edits import (
    clear_pad,
    copy_pad,
    move_pad,
    notes_by_drum,
    notes_from_list,
    notes_in_order,
    put_on_slot,
    rename_pad,
    set_keys,
    set_pad_drum,
    set_pad_level,
    set_pad_note,
    set_stacked,
)
from bompla.model.loop import Loop
from bompla.model.order_edits import set_order, set_wander, with_rule
from bompla.model.pattern_edits import (
    add_hit,
    change_velocity,
    delete_hits,
    move_hits,
    set_velocity,
    take_offers,
    usual_velocity,
)
from bompla.model.phrase_edits import (
    VALUES,
    at_double_time,
    at_half_time,
    copied,
    merged,
    pasted,
    quantised_by,
    repeated_to_end,
    reversed_in,
    rotated,
    set_values,
    thinned,
    with_empty_bars,
    without_bars,
)
from bompla.model.shape import PLAIN
from bompla.model.variation_edits import delete_variation, duplicate_variation, set_bars, show_variation
from conftest import hit_of

Edit = Callable[[Document, float, float], Document]


def nth(items: tuple, share: float):
    return items[min(len(items) - 1, int(share * len(items)))]


def place(document: Document, share: float) -> int:
    return int(document.loop.start_sample + share * document.loop.frames)


def some(document: Document, share: float) -> list[int]:
    """Return the ids of a part of the hits, from the first on."""
    return [hit.id for hit in pattern_of(document).hits[: 1 + int(12 * share)]]


def bar(document: Document, share: float) -> tuple[float, float]:
    per_bar = document.loop.meter.beats_per_bar
    first = int(share * 0.999 * pattern_beats(document) / per_bar) * per_bar
    return float(first), float(first + per_bar)


EDITS: dict[str, Edit] = {
    "add cut": lambda d, a, _: add_cut(d, place(d, a)),
    "move cut": lambda d, a, b: move_cut(d, nth(d.cuts, a).id, place(d, b)),
    "delete cut": lambda d, a, _: delete_cuts(d, [nth(d.cuts, a).id]),
    "threshold": lambda d, a, _: set_threshold(d, a),
    "rename slice": lambda d, a, b: rename_slice(d, nth(d.cuts, a).id, f"slice {b:.2f}"),
    "correct": lambda d, a, b: correct_heard(d, nth(d.cuts, a).id, nth(tuple(DRUMS), b)),
    "leave out": lambda d, a, b: set_left_out(d, [nth(d.cuts, a).id], b > 0.5),
    "loop": lambda d, a, b: set_loop(d, Loop.of_bars(place(d, a * 0.3), place(d, 0.5 + b * 0.5), 1 + int(a * 8), "4/4")),
    "reading": lambda d, a, b: choose_reading(d, TempoReading(100.0, 1 + int(a * 8), nth(("4/4", "3/4", "6/8", "7/8"), b), 1.0)),
    "rename pad": lambda d, a, b: rename_pad(d, nth(d.pads, a).id, f"pad {b:.2f}"),
    "pad drum": lambda d, a, b: set_pad_drum(d, nth(d.pads, a).id, nth(tuple(DRUMS), b)),
    "pad note": lambda d, a, b: set_pad_note(d, nth(d.pads, a).id, int(b * 127)),
    "pad level": lambda d, a, b: set_pad_level(d, nth(d.pads, a).id, 100.0 * (b - 0.5)),
    "slice to pad": lambda d, a, b: put_on_slot(d, int(a * 20), nth(d.cuts, b).id),
    "move pad": lambda d, a, b: move_pad(d, nth(d.pads, a).id, int(b * 20)),
    "clear pad": lambda d, a, _: clear_pad(d, nth(d.pads, a).id),
    "draw hit": lambda d, a, b: add_hit(d, nth(d.pads, a).id, b * d.loop.length_beats),
    "delete hit": lambda d, a, _: delete_hits(d, [nth(pattern_of(d).hits, a).id]),
    "move hits": lambda d, a, b: move_hits(d, [h.id for h in pattern_of(d).hits[:5]], 40.0 * (a - 0.5), nth(d.pads, b).id),
    "velocity": lambda d, a, _: change_velocity(d, [h.id for h in pattern_of(d).hits], int(300 * (a - 0.5))),
    "set velocity": lambda d, a, b: set_velocity(d, [nth(pattern_of(d).hits, a).id], int(b * 200)),
    "quantise": lambda d, a, b: quantised_by(d, some(d, b), lambda _: nth((0.125, 0.2, 0.25, 1 / 3, 0.5), a), b),
    "values": lambda d, a, b: set_values(d, nth(VALUES, a), dict.fromkeys(some(d, b), 300.0 * (b - 0.5)), lambda _: 0.25),
    "backwards": lambda d, a, b: reversed_in(d, bar(d, a), [nth(d.pads, b).id]),
    "along": lambda d, a, b: rotated(d, bar(d, a), None, by_beats=8.0 * (b - 0.5)),
    "half time": lambda d, a, _: at_half_time(d, bar(d, a)),
    "double time": lambda d, a, _: at_double_time(d, bar(d, a)),
    "repeat": lambda d, a, _: repeated_to_end(d, some(d, a)),
    "paste": lambda d, a, b: pasted(d, copied(d, some(d, a))[0], b * pattern_beats(d))[0],
    "thin": lambda d, a, _: thinned(d, some(d, a)),
    "merge": lambda d, a, _: merged(d, near_beats=a),
    "bars out": lambda d, a, _: without_bars(d, bar(d, a)),
    "bars in": lambda d, a, _: with_empty_bars(d, bar(d, a)),
    "bars": lambda d, a, _: set_bars(d, int(a * 20)),
    "copy variation": lambda d, _, __: duplicate_variation(d),
    "show": lambda d, a, _: show_variation(d, int(a * len(d.variations))),
    "take variation out": lambda d, a, _: delete_variation(d, int(a * len(d.variations))),
    "order": lambda d, a, b: set_order(d, (*d.order, OrderStep(nth(d.variations, a).letter, int(b * 40)))),
    "wander": lambda d, a, b: set_wander(d, with_rule(Wander(int(a * 99), int(b * 99)), WanderRule("A", 2.0 * a - 0.5, 99.0 * b))),
    "bounce": lambda d, a, _: bounced(d, order_passages(d) if a < 0.5 else wander_passages(d), "bounced"),
    "colour": lambda d, a, b: set_treatment(d, nth(tuple(TREATMENTS), a), on=b > 0.3, values={"level": 1e4 * b, "amount": -b, "size": b}),
    "chain": lambda d, a, b: move_treatment(d, nth(tuple(TREATMENTS), a), int(b * 12) - 2),
    "stack": lambda d, a, b: set_stacked(d, nth(d.pads, a).id, nth(d.pads, b).id),
    "keys": lambda d, a, b: set_keys(d, nth(d.pads, a).id, nth(d.pads, a).note - int(9 * b), nth(d.pads, a).note + int(20 * b)),
    "copy pad": lambda d, a, b: copy_pad(d, nth(d.pads, a).id, int(b * 30)),
    "notes": lambda d, a, b: (notes_by_drum(d), notes_in_order(d, int(b * 120)))[a > 0.5],
    "note list": lambda d, a, b: notes_from_list(d, {nth(d.pads, a).name: int(b * 127)}),
    "take offers": lambda d, _, __: take_offers(d, offered_hits(d)),
}


@settings(max_examples=120, deadline=None)
@given(steps=st.lists(st.tuples(st.sampled_from(sorted(EDITS)), st.floats(0, 1), st.floats(0, 1)), max_size=20))
def test_any_edits_leave_a_sound_document_and_undo_to_the_first(demo: tuple[Document, Clip], steps: list) -> None:
    """Cuts stay in order and apart, slices tile the loop, ids stay unique, and every edit is undone and redone."""
    first = demo[0]
    history = History(first)
    seen = [first]
    for name, a, b in steps:
        try:
            history = history.after(EDITS[name](history.document, a, b), name)
        except (EditError, IndexError):
            continue
        document = history.document
        check_document(document)
        if document is not seen[-1]:
            seen.append(document)
        slices = document.slices()
        assert all(one.end_sample == two.start_sample for one, two in pairwise(slices))
        assert all(piece.end_sample > piece.start_sample for piece in slices)
        assert slices, "a loop has a slice, whatever is deleted"
        assert slices[-1].end_sample == document.loop.end_sample
    last = history.document
    while history.undo_label:
        history, _ = history.undo()
    assert history.document is first
    while history.redo_label:
        history, _ = history.redo()
    assert history.document is last


def test_hand_and_held_cuts_survive_every_threshold(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    free = document.slices()[4]
    by_hand = add_cut(document, (free.start_sample + free.end_sample) // 2)
    new = by_hand.next_id - 1
    moved = move_cut(by_hand, document.slices()[8].cut.id, document.slices()[8].start_sample + 400)
    for threshold in (1.0, 0.5, 0.0, document.threshold):
        moved = set_threshold(moved, threshold)
        assert {new, document.slices()[8].cut.id} <= {cut.id for cut in moved.cuts}
        assert pattern_of(moved) == pattern_of(document)
    assert len(set_threshold(document, 0.0).slices()) > len(document.slices()) > len(set_threshold(document, 0.8).slices())
    alone = delete_cuts(document, [cut.id for cut in document.cuts]).slices()
    assert [(one.start_sample, one.end_sample) for one in alone] == [(document.loop.start_sample, document.loop.end_sample)]
    assert set_threshold(set_threshold(document, 0.8), document.threshold).slices()[0].start_sample == document.loop.start_sample


def test_the_pattern_is_never_overwritten_and_new_cuts_are_offered(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    assert document.offers == ()
    piece = document.slices()[3]
    place_ = (piece.start_sample + piece.end_sample) // 2
    cut = add_cut(document, place_)
    heard = replace(cut.cut(cut.next_id - 1), heard=(Heard("snare", 0.9, 80),))
    cut = replace(cut, cuts=tuple(heard if c.id == heard.id else c for c in cut.cuts))
    assert pattern_of(cut) == pattern_of(document)
    assert len(offered_hits(cut)) == 1
    taken = take_offers(cut, offered_hits(cut))
    assert len(pattern_of(taken).hits) == len(pattern_of(document).hits) + 1
    assert offered_hits(taken) == []
    new = next(hit for hit in pattern_of(taken).hits if hit.id == taken.next_id - 1)
    assert taken.beat_map.sample_at(new.at_beats) == pytest.approx(place_, abs=2)
    assert pattern_of(delete_cuts(taken, [heard.id])) == pattern_of(taken)


def test_hits_stay_with_their_sound_when_the_loop_changes(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    loop = document.loop

    def times(d: Document) -> list[int]:
        return [d.beat_map.sample_at(hit.at_beats) for hit in pattern_of(d).hits]

    bar = round(loop.bar_frames)
    later = set_loop(document, Loop.of_bars(loop.start_sample + bar, loop.end_sample, loop.bars - 1, loop.meter_name))
    doubled = choose_reading(document, TempoReading(2 * document.bpm, 2 * loop.bars, loop.meter_name, 1.0))
    assert doubled.bpm == pytest.approx(2 * document.bpm)
    for changed in (later, doubled):
        assert np.abs(np.array(times(changed)) - times(document)).max() <= 1
        assert pattern_of(set_loop(changed, loop)).hits[5].at_beats == pytest.approx(pattern_of(document).hits[5].at_beats, abs=1e-6)


def test_a_pad_follows_its_cut_and_keeps_its_sound_without_it(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    pad = document.pads[0]
    layer = pad.layers[-1]
    cut = next(c for c in document.cuts if c.at_sample == layer.at_sample)
    moved = move_cut(document, cut.id, cut.at_sample - 300) if cut.at_sample > 400 else move_cut(document, cut.id, cut.at_sample + 300)
    new = moved.cut(cut.id).at_sample
    assert moved.pad(pad.id).layers[-1].at_sample == new != layer.at_sample
    gone = delete_cuts(document, [cut.id])
    assert gone.layer_bounds(gone.pad(pad.id).layers[-1]) == document.layer_bounds(layer)


def test_a_pad_is_made_of_the_slices_that_are_its_drum_alone() -> None:
    def cut(number: int, velocity: int, *more: Heard) -> Cut:
        at = number * 10_000
        return Cut(number, at, at, 0.5, "detected", heard=(Heard("snare", 0.9, velocity), *more))

    hat = Heard("hat_closed", 0.8, 90)
    cuts = [cut(1, 100, hat), cut(2, 104), cut(3, 40), cut(4, 42, hat), cut(5, 98, hat)]
    doubtful = Cut(6, 60_000, 60_000, 0.5, "detected", heard=(Heard("kick", 1.0, 110), Heard("snare", 0.42, 72)))
    long_ms = {one.id: 200.0 for one in (*cuts, doubtful)}
    made = pad_of("snare", [(one, one.heard[0]) for one in cuts] + [(doubtful, doubtful.heard[1])], long_ms)
    assert [(layer.at_sample, layer.velocity, layer.up_to) for layer in made.layers] == [(30_000, 40, 72), (20_000, 104, 127)]
    assert made.hardest == 104
    assert made.shape == PLAIN, "it is alone as it is"
    short = pad_of("snare", [(one, one.heard[0]) for one in cuts], {**long_ms, 2: 1.0})
    assert 20_000 not in [layer.at_sample for layer in short.layers], "a slice of a millisecond is no strike"
    hats = pad_of("hat_closed", [(one, hat) for one in cuts if hat in one.heard], long_ms)
    assert (hats.shape.filter, hats.shape.cutoff_hz) == ("high", 500.0), "under a snare it loses what is not its own"
    kick = pad_of("kick", [(doubtful, doubtful.heard[0])], long_ms)
    assert kick.layers, "what is all there is will do"
    assert kick.shape.clean > 0.5


def test_a_drawn_hit_is_as_loud_as_this_drum_is_in_the_original(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    snare = next(pad for pad in document.pads if pad.drum == "snare")
    heard = [h.velocity for c in document.cuts for h in c.heard if h.drum == "snare" and h.sure]
    assert min(heard) < 50, "there are ghosts"
    assert usual_velocity(document, snare.id) == pytest.approx(np.median([v for v in heard if v > 65]), abs=1)
    drawn = add_hit(document, snare.id, 1.7)
    assert next(h for h in pattern_of(drawn).hits if h.at_beats == 1.7).velocity == usual_velocity(document, snare.id)
    with pytest.raises(EditError, match="already"):
        add_hit(drawn, snare.id, 1.7)
    with pytest.raises(EditError, match="inside the loop"):
        add_hit(document, snare.id, float(document.loop.length_beats))


def test_moved_hits_keep_their_distances_and_stay_inside(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    chosen = [hit.id for hit in pattern_of(document).hits[:6]]
    before = [hit_of(document, i).at_beats for i in chosen]
    for by in (-100.0, 0.37, 100.0):
        after = [hit_of(move_hits(document, chosen, by), i).at_beats for i in chosen]
        assert np.diff(after) == pytest.approx(np.diff(before))
        assert 0.0 <= min(after) <= max(after) < document.loop.length_beats


def test_the_tray_holds_what_is_on_no_pad(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    cut = tray(document)[0]
    placed = put_on_slot(document, 15, cut.id)
    assert cut.id not in {c.id for c in tray(placed)}
    assert placed.pads[-1].slot == 15
    swapped = move_pad(placed, placed.pads[-1].id, document.pads[0].slot)
    assert {p.id: p.slot for p in swapped.pads}[document.pads[0].id] == 15


@settings(max_examples=60)
@given(
    steps=st.lists(st.tuples(st.floats(1.0, 1e6), st.floats(0.01, 64.0)), min_size=2, max_size=6),
    beat=st.floats(-10.0, 400.0),
)
def test_the_beat_map_goes_both_ways(steps: list[tuple[float, float]], beat: float) -> None:
    samples, beats = (tuple(np.cumsum([step[i] for step in steps])) for i in (0, 1))
    beat_map = BeatMap(samples, beats)
    assert float(beat_map.beats_at(beat_map.samples_at(beat))) == pytest.approx(beat, abs=1e-6)
    assert beat_map.beat_at(samples[0]) == pytest.approx(beats[0])


def test_the_table_of_drums_is_whole() -> None:
    notes = [note for drum in DRUMS.values() for note in (drum.note, *drum.other_notes)]
    assert len(notes) == len(set(notes))
    assert all(drum_of_note(drum.note) == drum.key for drum in DRUMS.values())
    assert drum_of_note(1) == "perc"
    assert sum(drum.family is family for family in Family for drum in DRUMS.values()) == len(DRUMS)
