"""More of the window: what each stage shows and what is kept of a gesture that is given up."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from bompla.app.bring_in.overview import clock
from bompla.audio.clip import Clip
from bompla.model.cut_edits import set_loop
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.loop import Loop
from bompla.model.readings import reading_choices
from bompla.render.seam import seam_of
from conftest import settle

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


def test_the_path_says_where_the_work_stands(demo_window: Any, qtbot: Any) -> None:
    lines = [button._line for button in demo_window.path.buttons]
    document = demo_window.session.store.document
    assert lines[0] == "4 bars"
    assert lines[1] == f"{len(document.slices())} · 1 to check"
    assert lines[2] == f"{len(document.pads)} pads"
    assert lines[3] == f"A · {len(pattern_of(document).hits)} hits"
    assert lines[4] == "", "the groove is read when the stage is shown"
    assert lines[5] == "not yet"
    demo_window.session.store.edit("keep", demo_window.session.review.found[0].mends[-1].edit)
    settle(qtbot, demo_window)
    assert demo_window.path.buttons[1]._line == f"{len(document.slices())} slices"


def test_readings_offered_fill_the_loop_and_the_one_that_holds_is_first(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    choices, current = reading_choices(document)
    assert choices[0][0] == current
    assert 1 < len(choices) <= 3
    for reading, words in choices:
        assert f"{reading.bpm:.1f}" in words
        beats = reading.bpm * document.loop.frames / document.source.sample_rate / 60
        assert beats == pytest.approx(reading.bars * {"4/4": 4, "3/4": 3, "6/8": 2, "12/8": 4, "5/4": 5, "7/8": 7}[reading.meter], rel=1e-4)


@pytest.mark.parametrize(("shift_ms", "well", "words"), [(0.0, True, "on its attack"), (-12.0, False, "after"), (None, False, "without")])
def test_the_seam_is_judged_in_words(demo: tuple[Document, Clip], shift_ms: float | None, well: bool, words: str) -> None:
    document, clip = demo
    loop, rate = document.loop, document.source.sample_rate
    if shift_ms is None:
        quiet = next(p for p in document.slices() if p.end_sample - p.start_sample > 0.28 * rate)
        start = (quiet.start_sample + quiet.end_sample) // 2
    else:
        start = document.slices()[6].cut.attack_sample - round(shift_ms * rate / 1000)
    moved = set_loop(document, Loop.of_bars(start, loop.end_sample, 3, loop.meter_name))
    seam = seam_of(moved, clip)
    assert words in seam.words
    assert seam.well is (well and not seam.steps), "a click is nothing that is well"


def test_a_gesture_given_up_leaves_no_trace(demo_window: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to(1)
    view, before = window.slice.view, session.store.document
    y = round(view.threshold_y())
    QTest.mousePress(view, LEFT, NONE, QPoint(400, y))
    session.store.preview(lambda document: set_loop(document, Loop.of_bars(0, 100_000, 1, "4/4")))
    assert session.store.document is not before
    QTest.keyClick(view, Qt.Key.Key_Escape)
    assert session.store.document is before
    assert not session.store.history.done
    QTest.mouseRelease(view, LEFT, NONE, QPoint(400, y))


def test_silence_is_opened_and_told(window: Any, qtbot: Any, tmp_path: Path) -> None:
    path = tmp_path / "silence.wav"
    soundfile.write(path, np.zeros((44_100, 2)), 44_100)
    window.open_path(path)
    settle(qtbot, window)
    assert "silent" in window.messages.text.text()
    assert pattern_of(window.session.store.document).hits == ()
    for index in range(len(window.stages)):
        window.go_to(index)
        assert not window.grab().isNull()
    window.send_out.write_to(tmp_path / "it.mid")
    assert "no hits" in window.messages.text.text()
    assert window.slice.panel.wave._gain <= 12.0


def test_six_channels_at_a_low_rate_are_opened_and_drawn(window: Any, qtbot: Any, tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    t = np.arange(4_000) / 8_000
    hit = np.exp(-t / 0.05) * (np.sin(2 * np.pi * 80 * t) + 0.3 * rng.standard_normal(len(t)))
    sound = np.tile(hit, 8)[:, np.newaxis] * np.linspace(0.1, 0.6, 6)
    path = tmp_path / "six.wav"
    soundfile.write(path, sound, 8_000)
    window.open_path(path)
    settle(qtbot, window)
    document = window.session.store.document
    assert document.source.channels == 6
    assert len(document.slices()) == pytest.approx(8, abs=1)
    assert document.bpm == pytest.approx(120.0, rel=0.01) or document.bpm == pytest.approx(60.0, rel=0.01)
    window.go_to(1)
    assert not window.grab().isNull()
    settle(qtbot, window)


def test_groove_shows_what_is_selected(demo_window: Any) -> None:
    window, document = demo_window, demo_window.session.store.document
    window.go_to(3)
    groove = window.groove
    assert not groove.selected.velocity.isEnabled()
    assert not groove.selected.velocity.text()
    hits = pattern_of(document).hits[:3]
    window.session.shown.select(hit_ids=frozenset(hit.id for hit in hits))
    low, high = min(h.velocity for h in hits), max(h.velocity for h in hits)
    assert groove.selected.velocity.value() == hits[0].velocity
    assert groove.selected.spans["velocity"].text() == (f"{low} to {high}" if low != high else "")
    assert groove.selected.heading.text().startswith("3 hits of")
    assert groove.selected.offset.suffix() == " ms"
    groove.grids.click(0.5)
    assert window.session.shown.grid.step_near(1.3) == pytest.approx(1.5)
    groove.grids.click(-1.0)
    assert window.session.shown.grid.step_near(1.3) == 1.3


def test_times_are_written_as_clocks() -> None:
    assert clock(61.5) == "1:01.500"
    assert clock(61.5, fine=False) == "1:01"
