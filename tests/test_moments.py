"""That a moment is the original while it is untouched, by what is done to its hits; and that pads play what is left of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.engine.bounce import bounce_rebuilt
from bompla.groove.feel import felt_pattern, write_in
from bompla.groove.order import order_passages, passage_hits
from bompla.model.cut_edits import nudge_cuts, set_left_out
from bompla.model.detected_pattern import pattern_beats, pattern_of, played
from bompla.model.document import Document, FeelLayer, OrderStep
from bompla.model.kit_edits import rename_pad, set_pad_level, set_pad_note, set_shape
from bompla.model.moments import bearing, counted_moments, untouched
from bompla.model.pattern_edits import add_hit, delete_hits, move_hits, set_velocity
from bompla.model.phrase_edits import quantised_by, set_values
from bompla.model.variation_edits import duplicate_variation, set_layer, set_untouched
from bompla.render.bake import bake
from bompla.render.events import BakeRequest
from conftest import settle

RATE = 48_000


def kick_with_more(document: Document) -> list[int]:
    """Return the ids of the hits of one cut that has a kick and another drum."""
    cut = next(c for c in document.cuts if len(played(c)) > 1 and any(h.drum == "kick" for h in played(c)))
    return [hit.id for hit in pattern_of(document).hits if hit.moment == cut.attack_sample]


def every(document: Document) -> list[int]:
    return [hit.id for hit in pattern_of(document).hits]


def kick(document: Document) -> int:
    return next(pad.id for pad in document.pads if pad.drum == "kick")


def with_kick(document: Document) -> int:
    """Return how many moments hold a kick."""
    return sum(kick(document) in one.velocities for one in bearing(document).values())


def shape_of(document: Document, **values: float) -> Document:
    return set_shape(document, kick(document), replace(document.pad(kick(document)).shape, **values))


CHANGES: dict[str, tuple[Callable[[Document], Document], Callable[[Document], int]]] = {
    "all hits moved": (lambda d: move_hits(d, every(d), by_beats=0.01), lambda _: 0),
    "one moment moved": (lambda d: move_hits(d, kick_with_more(d), by_beats=0.0625), lambda _: 0),
    "swung and drawn to the grid": (lambda d: set_layer(d, FeelLayer(swing=58.0, swing_beats=0.25, pull=0.7)), lambda _: 0),
    "loose": (lambda d: set_layer(d, FeelLayer(loose_ms=8.0)), lambda _: 0),
    "quantised": (lambda d: quantised_by(d, every(d), lambda _: 0.25, 1.0), lambda _: 0),
    "a moment softer": (lambda d: set_values(d, "gain", dict.fromkeys(kick_with_more(d), -4.0), lambda _: 0.25), lambda _: 0),
    "another variation": (duplicate_variation, lambda _: 0),
    "a pad at another note": (lambda d: set_pad_note(rename_pad(d, kick(d), "boom"), kick(d), 24), lambda _: 0),
    "a copy of a moment": (lambda d: set_layer(write_in(d), FeelLayer()), lambda _: 0),
    "a cut nudged": (lambda d: nudge_cuts(d, [d.cuts[4].id], 90), lambda _: 0),
    "one hit moved": (lambda d: move_hits(d, kick_with_more(d)[:1], by_beats=0.0625), lambda _: 1),
    "one hit softer": (lambda d: set_velocity(d, kick_with_more(d)[:1], 20), lambda _: 1),
    "one hit higher": (lambda d: set_values(d, "pitch", {kick_with_more(d)[0]: 2.0}, lambda _: 0.25), lambda _: 1),
    "one hit by chance": (lambda d: set_values(d, "chance", {kick_with_more(d)[0]: 0.5}, lambda _: 0.25), lambda _: 1),
    "one hit deleted": (lambda d: delete_hits(d, kick_with_more(d)[:1]), lambda _: 1),
    "a hit drawn beside it": (lambda d: add_hit(d, kick(d), next(
        one.home_beats for one in bearing(d).values() if kick(d) not in one.velocities)), lambda _: 1),
    "a pad softer": (lambda d: set_pad_level(d, kick(d), -3.0), with_kick),
    "a pad's shape": (lambda d: shape_of(d, tune=1.0), with_kick),
    "a pad with more room than the others": (lambda d: shape_of(d, room=0.5), lambda d: sum(
        kick(d) in one.velocities and len(one.velocities) > 1 for one in bearing(d).values())),
    "a slice left out": (lambda d: set_left_out(d, [d.cuts[2].id], True), lambda _: 1),
}


@pytest.mark.parametrize("name", CHANGES)
def test_a_moment_is_the_loop_itself_until_one_of_its_hits_is_touched(demo: tuple[Document, Clip], name: str) -> None:
    document = demo[0]
    change, touched = CHANGES[name]
    whole = len(bearing(document))
    assert counted_moments(document, felt_pattern(document), pattern_beats(document)) == (whole, whole)
    changed = change(document)
    assert len(untouched(changed, felt_pattern(changed))) == whole - touched(document)


def test_an_order_plays_the_moments_of_each_turn_and_muted_ones_from_their_pads(demo: tuple[Document, Clip]) -> None:
    document, _ = demo
    whole = len(bearing(document))
    twice = replace(document, order=(OrderStep("A", 2),))
    hits = passage_hits(twice, order_passages(twice))
    assert len(untouched(twice, hits)) == 2 * whole
    assert len(untouched(document, felt_pattern(document), frozenset({kick(document)}))) == whole - with_kick(document)
    padded = set_untouched(twice, "pads")
    assert untouched(padded, passage_hits(padded, order_passages(padded))) == ()


@pytest.mark.parametrize(
    ("speed", "way"),
    [(1.0, "stretch"), (0.8, "stretch"), (0.5, "stretch"), (1.25, "slices"), (0.7, "slices"), (1.2, "tape")],
)
def test_while_nothing_is_touched_the_rebuilt_loop_is_the_original_at_every_speed(
    demo: tuple[Document, Clip], speed: float, way: str
) -> None:
    document, clip = demo
    baked = bake(BakeRequest(document, clip, RATE, speed=speed, way=way))
    rebuilt = bounce_rebuilt(baked, passes=2).samples
    assert len(rebuilt) == len(baked.original)
    assert np.abs(rebuilt - baked.original).max() < 1e-6


def test_a_moved_moment_leaves_no_click_and_sounds_once(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    before = bake(BakeRequest(document, clip, RATE))
    moved = move_hits(document, kick_with_more(document), by_beats=0.125)
    after = bake(BakeRequest(moved, clip, RATE, before=before))
    assert sum(bool(event.stands_for) for event in after.events) == len(bearing(document))
    kept = [key for key in after.sounds if key in before.sounds]
    assert all(after.sounds[key] is before.sounds[key] for key in kept), "what is not changed is not made anew"
    sound = bounce_rebuilt(after, passes=2).samples
    steps = np.abs(np.diff(sound, axis=0)).max()
    assert steps <= 1.05 * np.abs(np.diff(before.original, axis=0)).max()


def test_it_is_said_what_the_rebuilt_loop_is_made_of(demo_window: Any, qtbot: Any) -> None:
    window, session = demo_window, demo_window.session
    settle(qtbot, window)
    assert "the loop itself" in window.listening.rebuilt.toolTip()
    window.go_to_stage("groove")
    whole = len(bearing(session.store.document))
    assert len(window.groove.lanes.threads()) == whole
    assert window.groove.moments.text() == f"{whole} of {whole}"
    first = kick_with_more(session.store.document)[0]
    session.store.edit("softer", lambda d: set_velocity(d, [first], 20))
    settle(qtbot, window)
    assert len(window.groove.lanes.threads()) == whole - 1
    assert window.groove.moments.text() == f"{whole - 1} of {whole}"
    assert "from the pads" in window.listening.rebuilt.toolTip()
    window.groove.untouched.click("pads")
    settle(qtbot, window)
    assert window.groove.lanes.threads() == []
    assert session.store.history.undo_label == "untouched moments play the pads"
    assert "made: from the pads" in window.listening.rebuilt.toolTip().replace("only:", "made:")
    window.playback.bouncer.bounce_loop("rebuilt")
    settle(qtbot, window)
    assert "from the pads" in window.messages.text.text()
    assert np.abs(session.project.clip.samples).max() <= 1.0, "a bounce stays under the ceiling"
