"""The colour of the kit, and what else pads do: as values, in the mixer, and through the window."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.audio.clip import Clip
from bompla.audio.loudness import loudness_db
from bompla.engine.bounce import bounce_rebuilt, coloured
from bompla.engine.colour import Rack
from bompla.engine.commands import Op, command
from bompla.engine.layout import ZONE
from bompla.engine.mixer import MixerState, apply, play_midi, render
from bompla.errors import EditError, ProjectError
from bompla.formats.midi import midi_bytes
from bompla.formats.note_list import read_note_list, write_note_list
from bompla.formats.project import Project, project_bytes, read_project
from bompla.groove.bounce_analysis import heard_from_pattern
from bompla.groove.rebuild import document_from
from bompla.model.colour import SETTINGS, TREATMENTS, colour_of, move_treatment, set_colour
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Colour, Document, Treatment
from bompla.model.kit_edits import notes_by_drum, notes_from_list, notes_in_order, set_keys, set_stacked
from bompla.model.pattern_edits import with_pattern
from bompla.render.bake import bake
from bompla.render.events import BakeRequest, key_notes, played_notes
from conftest import captured

RATE = 48_000


def rack_of(*chain: tuple[str, tuple[float, ...]], dry: float = 0.0) -> Rack:
    rack = Rack(RATE)
    by_key = [(kind, dict(zip(TREATMENTS[kind].params, values, strict=True))) for kind, values in chain]
    rack.set({"on": True, "dry": dry, "beat_s": 0.5, "chain": by_key})
    return rack


def run(rack: Rack, sound: np.ndarray, kick: np.ndarray | None = None, room: np.ndarray | None = None) -> np.ndarray:
    none = np.zeros_like(sound)
    parts = [
        rack.process(sound[at : at + 256], (none if kick is None else kick)[at : at + 256], (none if room is None else room)[at : at + 256],
                     none[at : at + 256]).copy()
        for at in range(0, len(sound), 256)
    ]
    return np.concatenate(parts)


def tone(hz: float, seconds: float = 0.5, level: float = 0.3) -> np.ndarray:
    wave = level * np.sin(2.0 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)
    return np.repeat(wave[:, None], 2, axis=1).astype(np.float32)


def rms(sound: np.ndarray) -> float:
    return float(np.sqrt(np.square(sound[len(sound) // 2 :]).mean()))


def test_each_treatment_does_what_its_name_says() -> None:
    low, high = tone(60.0), tone(9_000.0)
    assert rms(run(rack_of(("tone", (6.0, 0.0, 0.0))), low)) == pytest.approx(2.0 * rms(low), rel=0.06)
    assert rms(run(rack_of(("tone", (0.0, 0.0, -12.0))), high)) == pytest.approx(0.25 * rms(high), rel=0.15)
    loud, soft = tone(300.0, level=0.8), tone(300.0, level=0.05)
    squeezed = [rms(run(rack_of(("squeeze", (0.8, 80.0, 1.0))), one)) for one in (loud, soft)]
    assert squeezed[0] / squeezed[1] < 0.5 * rms(loud) / rms(soft)
    driven = np.abs(np.fft.rfft(run(rack_of(("drive", (18.0,))), tone(1_000.0))[:24_000, 0]))
    assert driven[1_500] > 0.05 * driven[500], "a third harmonic"
    assert np.unique(run(rack_of(("grit", (5.0, 48_000.0))), low)).size < 40
    held = run(rack_of(("grit", (16.0, 4_800.0))), low)[:, 0]
    assert (np.diff(held) != 0).sum() <= len(held) / 10 + 2
    wobbled = np.abs(np.fft.rfft(run(rack_of(("wobble", (40.0, 5.0))), tone(1_000.0, 1.0))[:, 0] * np.hanning(48_000)))
    assert wobbled[970:996].max() > 0.05 * wobbled.max(), "side bands beside the tone"
    click = np.zeros((RATE, 2), np.float32)
    click[100] = 0.9
    echoed = run(rack_of(("echo", (0.75, 0.5, 0.5))), click)
    assert np.abs(echoed[100 + round(0.375 * RATE) - 3 :][:6]).max() == pytest.approx(0.45, rel=0.1)
    roomy = run(rack_of(("room", (0.7, 0.3, 0.0))), click, room=click)
    assert np.abs(roomy[5_000:20_000]).max() > 0.002, "a pad's own share rings, though all pads send none"
    assert np.abs(run(rack_of(("ceiling", (-12.0, 50.0))), loud)).max() <= 10 ** (-12 / 20) + 1e-6


def test_the_squeeze_can_leave_the_kick_out() -> None:
    kick, hat = tone(60.0, level=0.9), tone(8_000.0, level=0.05)
    with_kick = run(rack_of(("squeeze", (0.8, 80.0, 1.0))), kick + hat, kick=kick)
    without = run(rack_of(("squeeze", (0.8, 80.0, 0.0))), kick + hat, kick=kick)
    assert rms(without) > 1.8 * rms(with_kick)


@settings(max_examples=25, deadline=None)
@given(kinds=st.permutations(list(TREATMENTS)), values=st.lists(st.floats(-100.0, 100_000.0), min_size=3, max_size=3),
       place=st.integers(-2, 12))
def test_any_colour_is_held_to_its_ranges_and_keeps_each_treatment_once(
    demo: tuple[Document, Clip], kinds: list[str], values: list[float], place: int
) -> None:
    document = set_colour(demo[0], Colour(True, 99.0, 2.0, tuple(
        Treatment(kind, True, dict(zip(TREATMENTS[kind].params, values, strict=False))) for kind in kinds)))
    document = move_treatment(document, kinds[0], place)
    assert sorted(t.kind for t in document.colour.chain) == sorted(TREATMENTS)
    for treatment in document.colour.chain:
        for key, param in TREATMENTS[treatment.kind].params.items():
            assert param.low - 1e-4 <= treatment.values[key] <= param.high + 1e-4
    assert (document.colour.tune, document.colour.dry) == (12.0, 1.0)
    assert read_project(project_bytes(Project(((document, demo[1]),))), "it").sources[0][0].colour == document.colour


def test_a_colour_that_cannot_be_is_refused(demo: tuple[Document, Clip]) -> None:
    for chain in ((Treatment("tone"), Treatment("tone")), (Treatment("sparkle"),)):
        with pytest.raises(EditError):
            set_colour(demo[0], Colour(True, chain=chain))


@pytest.mark.parametrize("name", list(SETTINGS))
def test_a_setting_changes_the_bounce_and_stays_below_full_scale(demo: tuple[Document, Clip], name: str) -> None:
    plain = bounce_rebuilt(bake(BakeRequest(*demo, RATE)))
    baked = bake(BakeRequest(set_colour(demo[0], SETTINGS[name]), demo[1], RATE))
    made = bounce_rebuilt(baked, passes=2)
    assert 0.1 < np.abs(made.samples).max() <= 1.0
    assert np.abs(made.samples - plain.samples).max() > 0.02
    assert abs(loudness_db(made) - loudness_db(plain)) < 14.0
    folded = coloured(baked.original, RATE, baked.colour)
    assert folded.shape == baked.original.shape


def test_a_bounced_loop_knows_its_hits(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    clip = bounce_rebuilt(bake(BakeRequest(*demo, RATE)), passes=2)
    made = document_from(heard_from_pattern(document, clip, "bounced"), "bounced")
    assert made.loop.bars == document.loop.bars
    drums = {pad.id: pad.drum for pad in document.pads}
    old = sorted((round(hit.at_beats, 1), drums[hit.pad_id]) for hit in pattern_of(document).hits)
    new_drums = {pad.id: pad.drum for pad in made.pads}
    new = sorted((round(hit.at_beats, 1), new_drums[hit.pad_id]) for hit in pattern_of(made).hits)
    assert len(set(new) & set(old)) >= 0.9 * len(set(old))


def test_held_pads_end_with_their_note_stacked_ones_sound_together_and_keys_have_their_pitch(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    kick, snare = (next(p for p in document.pads if p.drum == drum) for drum in ("kick", "snare"))
    changed = set_stacked(set_keys(document, snare.id, snare.note - 3, snare.note + 5), snare.id, kick.id)
    notes = played_notes(changed, clip, RATE)
    taken = {pad.note for pad in document.pads}
    for note in range(snare.note - 3, snare.note + 6):
        here = [n for n in notes if n.note == note and n.pad == snare.id]
        if note != snare.note and note in taken:
            assert not here
        else:
            assert here
            assert all(n.pitch == note - snare.note and n.sound.shape.tune == float(note - snare.note) for n in here)
            assert any(n.pad == kick.id for n in notes if n.note == note)
    assert set(key_notes(changed, changed.pad(snare.id))) == set(range(snare.note - 3, snare.note + 6)) - taken
    baked = bake(BakeRequest(changed, clip, RATE))
    assert all(n.sound in baked.sounds for n in notes)
    with pytest.raises(EditError):
        set_keys(document, snare.id, snare.note + 1, snare.note + 5)
    with pytest.raises(EditError):
        set_stacked(document, snare.id, snare.id)

    zones = np.zeros(1, ZONE)
    zones[0] = (38, 127, 7, 0, 0, 40_000, 100.0, 100, 1.0, 2.0, 0, 480)
    pool = np.zeros((50_000, 2), np.float32)
    pool[100:40_100] = 0.2
    pool[:6] = np.frombuffer(zones.tobytes(), "<f4").reshape(-1, 2)
    state = MixerState(pool)
    apply(state, command(Op.ZONES, offset=0, count=1))
    play_midi(state, bytes([0x99, 38, 100]))
    assert render(state, 2_000)[-1, 0] == pytest.approx(0.2, abs=1e-6)
    play_midi(state, bytes([0x89, 38, 0]))
    ending = render(state, 1_000)[:, 0]
    assert ending[0] > 0.19
    assert not ending[480:].any()
    assert np.abs(np.diff(ending)).max() < 0.001


def test_chance_length_and_pitch_of_hits_are_played_and_written(demo: tuple[Document, Clip]) -> None:
    document, clip = demo
    kick = next(p for p in document.pads if p.drum == "kick")
    first = next(h for h in pattern_of(document).hits if h.pad_id == kick.id and h.at_beats < 1.0)
    base = replace(first, at_beats=0.5, velocity=110)

    def with_hit(**what: float) -> Document:
        return with_pattern(replace(document, tail="end"), replace(pattern_of(document), hits=(replace(base, **what),)))

    whole = bounce_rebuilt(bake(BakeRequest(with_hit(), clip, RATE))).samples
    short = bounce_rebuilt(bake(BakeRequest(with_hit(length_beats=0.1), clip, RATE))).samples
    assert np.square(short).sum() < 0.9 * np.square(whole).sum()
    higher = bounce_rebuilt(bake(BakeRequest(with_hit(pitch=12.0), clip, RATE))).samples
    hz = [np.abs(np.fft.rfft(s[:, 0])).argmax() for s in (whole, higher)]
    assert hz[1] == pytest.approx(2 * hz[0], rel=0.06)
    half = bake(BakeRequest(with_hit(chance=0.5), clip, RATE))
    played = [float(np.abs(bounce_rebuilt(half, passes=n).samples).max()) > 0.05 for n in range(1, 25)]
    assert 6 <= sum(played) <= 18
    assert played == [float(np.abs(bounce_rebuilt(half, passes=n).samples).max()) > 0.05 for n in range(1, 25)], "the same each time"
    never = bake(BakeRequest(with_hit(chance=0.0), clip, RATE))
    assert not any(np.abs(bounce_rebuilt(never, passes=n).samples).max() > 0.05 for n in range(1, 9))
    keyed = set_keys(with_hit(pitch=3.0, length_beats=0.5), kick.id, kick.note - 1, kick.note + 7)
    content = midi_bytes(keyed)
    assert bytes([0x99, kick.note + 3, 110]) in content


def test_lists_of_notes(demo: tuple[Document, Clip], tmp_path: Path) -> None:
    document = demo[0]
    ordered = notes_in_order(document)
    assert [pad.note for pad in ordered.pads] == list(range(36, 36 + len(document.pads)))
    path = tmp_path / "mine.json"
    write_note_list(ordered, path)
    assert [p.note for p in notes_from_list(notes_by_drum(document), read_note_list(path)).pads] == [p.note for p in ordered.pads]
    kick = next(p for p in document.pads if p.drum == "kick")
    learned = notes_from_list(document, {kick.name: document.pads[-1].note})
    assert learned.pad(kick.id).note == document.pads[-1].note
    assert len({p.note for p in learned.pads}) == len(learned.pads)
    path.write_text("{}")
    with pytest.raises(ProjectError, match="not a list of notes"):
        read_note_list(path)
    with pytest.raises(ProjectError, match="Could not open"):
        read_note_list(tmp_path / "none.json")


def test_the_kit_is_coloured_through_the_window(demo_window: Any, qtbot: Any) -> None:
    window, session, playback = demo_window, demo_window.session, demo_window.playback
    window.go_to(2)
    window.kit.view.click("colour")
    panel = window.kit.colour
    panel.settings.click("far corner")
    assert session.store.document.colour == SETTINGS["far corner"]
    panel.rows["grit"].switch.click()
    assert {t.kind: t.on for t in session.store.document.colour.chain}["grit"]
    order = [t.kind for t in colour_of(session.store.document).chain]
    QTest.keyClick(panel.rows["grit"].grip, Qt.Key.Key_Up)
    place = order.index("grit")
    assert [t.kind for t in session.store.document.colour.chain].index("grit") == place - 1
    session.store.undo()
    assert [t.kind for t in colour_of(session.store.document).chain] == order
    qtbot.waitUntil(lambda: not playback.busy)
    kick = next(p for p in session.store.document.pads if p.drum == "kick")
    engine = playback.engine
    start = engine.state.rendered_frames
    assert playback.pads.strike(kick.id, 120)
    qtbot.waitUntil(lambda: engine.state.rendered_frames > start + 60_000)
    echoed = captured(engine, since_frame=start)
    panel.on.click()
    assert not session.store.document.colour.on
    qtbot.waitUntil(lambda: not playback.busy)
    start = engine.state.rendered_frames
    assert playback.pads.strike(kick.id, 120)
    qtbot.waitUntil(lambda: engine.state.rendered_frames > start + 60_000)
    plain = captured(engine, since_frame=start)
    assert np.abs(echoed[45_000:60_000]).max() > np.abs(plain[45_000:60_000]).max() + 0.001
    sounds = len(session.project.sounds)
    playback.bouncer.bounce_loop("rebuilt")
    qtbot.waitUntil(lambda: len(session.project.sounds) == sounds + 1)
    assert session.store.document.source.name.endswith("bounced")
    assert pattern_of(session.store.document).hits


def test_how_a_pad_plays_through_the_window(demo_window: Any, qtbot: Any) -> None:
    window, session, playback = demo_window, demo_window.session, demo_window.playback
    window.go_to(2)
    window.kit.view.click("more")
    snare = next(p for p in session.store.document.pads if p.drum == "snare")
    session.shown.select(pad_id=snare.id)
    more = window.kit.more
    more.gated.click()
    assert session.store.document.pad(snare.id).shape.gated
    keyboard = more.keyboard
    y = 10
    start, end = (QPoint(round(keyboard.x_of(note + 0.6)), y) for note in (snare.note, snare.note + 7))
    QTest.mousePress(keyboard, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    QTest.mouseMove(keyboard, end)
    QTest.mouseRelease(keyboard, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)
    assert session.store.document.pad(snare.id).keys == (snare.note, snare.note + 7)
    qtbot.waitUntil(lambda: not playback.busy)
    free = key_notes(session.store.document, session.store.document.pad(snare.id))[0]
    before = len(playback.recorder.takes.strikes)
    playback.engine.midi(bytes([0x99, free, 100]))
    qtbot.waitUntil(lambda: len(playback.recorder.takes.strikes) > before)
    assert playback.recorder.takes.strikes[-1].pad_id == snare.id
    assert playback.recorder.takes.strikes[-1].pitch == float(free - snare.note)
    playback.engine.midi(bytes([0x89, free, 0]))
    more.learning.click()
    playback.engine.midi(bytes([0x99, 99, 100]))
    qtbot.waitUntil(lambda: session.store.document.pad(snare.id).note == 99)
    more._level(-30.0)
    qtbot.waitUntil(lambda: not playback.busy)
    more._match()
    assert session.store.document.pad(snare.id).level_db > -20.0
    for _ in range(5):
        session.store.undo()
    assert session.store.document.pad(snare.id) == snare
