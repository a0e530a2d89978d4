"""The analysis process, the jobs that speak to it, and small widgets by themselves."""

from __future__ import annotations

import io
import pickle
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QWheelEvent
from PyQt6.QtTest import QTest

from bompla.app.project.analysis_process import AnalysisProcess
from bompla.app.project.tasks import Task
from bompla.app.ui.raster import level_pixmap, spans_pixmap
from bompla.app.ui.time_axis import TimeAxis
from bompla.audio.clip import Clip
from bompla.model.memo import Kept
from bompla.worker.process import answer_to
from bompla.worker.protocol import LENGTH, Answer, Request, packed

ROOT = Path(__file__).parents[1]


def answers(requests: list[Request]) -> list[Answer]:
    """Return what the process answers to requests, to the last."""
    done = subprocess.run(
        [sys.executable, "-m", "bompla.worker.process"], input=b"".join(packed(r) for r in requests), capture_output=True, check=True
    )
    found, content = [], done.stdout
    while content:
        size = LENGTH.unpack_from(content)[0]
        found.append(pickle.loads(content[LENGTH.size : LENGTH.size + size]))  # noqa: S301  # our own child process
        content = content[LENGTH.size + size :]
    return found


def test_a_bad_request_does_not_end_the_process(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    clip = demo_loops[1][1]
    found = answers([
        Request(1, "analyse", np.ones((30, 1), np.float32), 44_100, name="blip.wav"),
        Request(2, "pictures", clip.samples, clip.sample_rate),
        Request(3, "analyse", clip.samples, clip.sample_rate, name="it.flac"),
        Request(4, "hear_at", clip.samples, clip.sample_rate, places=(0, 40_000)),
    ])
    last = {answer.number: answer for answer in found if answer.kind != "progress"}
    assert last[1].kind == "failed"
    assert "blip.wav is too short" in last[1].value
    drawn = last[2].value
    assert len(drawn.curve) * drawn.curve_step_s == pytest.approx(clip.duration_s, abs=0.02)
    assert drawn.bands.shape[0] == 3
    assert last[3].value.source.name == "it.flac"
    assert len(last[4].value) == 2
    shares = [answer.share for answer in found if answer.number == 3 and answer.kind == "progress"]
    assert shares == sorted(shares)
    assert len(shares) >= 4


def test_what_is_not_known_is_refused_and_what_was_made_is_kept(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    clip, kept, out = demo_loops[0][1], Kept(), io.BytesIO()
    answer_to(Request(1, "listen", clip.samples, clip.sample_rate), out, kept)  # type: ignore[arg-type]
    refused = pickle.loads(out.getvalue()[LENGTH.size :])  # noqa: S301  # made here
    assert (refused.kind, "does not know" in refused.value) == ("failed", True)
    answer_to(Request(2, "analyse", clip.samples, clip.sample_rate, name="a.wav"), io.BytesIO(), kept)
    for kind, name in (("pictures", ""), ("analyse", "b.wav")):
        out = io.BytesIO()
        answer_to(Request(3, kind, clip.samples, clip.sample_rate, name=name), out, kept)
    assert out.getvalue().count(b"b.wav") == 1
    assert b"finding attacks" not in out.getvalue(), "the same sound is not listened to again"


def test_requests_are_superseded_and_cancelled(qtbot: Any, demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    process = AnalysisProcess()
    clip = demo_loops[0][1]
    said: list[str] = []

    def ask(name: str) -> Task:
        return process.ask("analyse", clip, name=name, done=lambda heard: said.append(heard.source.name), failed=said.append,
                           cancelled=lambda: said.append(f"not {name}"))

    first = ask("first")
    second = ask("second")
    third = ask("third")
    first.cancel()
    qtbot.waitUntil(lambda: not process.busy)
    assert said == ["not second", "not first", "third"]
    assert [task.ending for task in (first, second, third)] == ["cancelled", "cancelled", "done"]
    process.close()


def test_a_process_that_dies_is_told_and_started_again(qtbot: Any, demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    process = AnalysisProcess()
    clip = demo_loops[0][1]
    told: list[str] = []
    process.ask("analyse", clip, done=lambda _: told.append("done"), failed=told.append)
    assert process._process is not None
    process._process.kill()
    qtbot.waitUntil(lambda: bool(told))
    assert "stopped unexpectedly" in told[0]
    process.ask("pictures", clip, done=lambda _: told.append("done"), failed=told.append)
    qtbot.waitUntil(lambda: len(told) == 2)
    assert told[1] == "done"
    process.close()


@settings(max_examples=80)
@given(
    start=st.floats(0.0, 9_000.0), span=st.floats(100.0, 9_000.0), factor=st.floats(0.05, 20.0), share=st.floats(0.0, 1.0),
    by=st.floats(-20_000.0, 20_000.0),
)
def test_zoom_keeps_its_place_and_nothing_outside_is_shown(start: float, span: float, factor: float, share: float, by: float) -> None:
    axis = TimeAxis(start, start + span, 70.0, 800.0).kept_inside(0.0, 18_000.0)
    x = 70.0 + 800.0 * share
    zoomed = axis.zoomed(factor, x, 0.0, 18_000.0)
    assert zoomed.start >= -1e-6
    assert zoomed.end <= 18_000.0 + 1e-6
    assert zoomed.end - zoomed.start >= 63.999
    inside = zoomed.start > 1e-6 and zoomed.end < 18_000.0 - 1e-6
    if inside:
        assert zoomed.sample(x) == pytest.approx(axis.sample(x), abs=1e-3)
    assert axis.x(axis.sample(x)) == pytest.approx(x)
    moved = axis.moved(by, 0.0, 18_000.0)
    assert moved.end - moved.start == pytest.approx(axis.end - axis.start)
    assert moved.start >= -1e-6


@pytest.mark.usefixtures("qtbot")
def test_a_level_curve_is_as_high_as_its_levels() -> None:
    levels = np.zeros(100, np.float32)
    levels[40], levels[80] = 1.0, 0.5
    image = level_pixmap(levels, 0.0, 100.0, 200, 50, QColor("#ffffff")).toImage()

    def height(x: int) -> int:
        return sum(image.pixelColor(x, y).alpha() > 128 for y in range(50))

    assert height(81) == pytest.approx(49, abs=1)
    assert height(161) == pytest.approx(25, abs=1)
    assert height(20) <= 1
    spans = spans_pixmap(np.array([10.0], np.float32), np.array([20.5], np.float32), 50, QColor("#ffffff")).toImage()
    assert [spans.pixelColor(0, y).alpha() for y in (9, 10, 19, 20, 21)] == [0, 255, 255, 127, 0]


def wheel(widget: Any, x: float, y: float, turn: int, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    from PyQt6.QtWidgets import QApplication

    point = QPointF(x, y)
    there = QPointF(widget.mapToGlobal(point.toPoint()))
    event = QWheelEvent(point, there, QPoint(), QPoint(0, turn), Qt.MouseButton.NoButton, modifier, Qt.ScrollPhase.NoScrollPhase, False)
    QApplication.sendEvent(widget, event)


@pytest.mark.parametrize("stage", [0, 1, 3])
def test_the_wheel_zooms_about_the_pointer_and_scrolls_with_shift(demo_window: Any, stage: int) -> None:
    demo_window.go_to(stage)
    picture = demo_window.stages[stage].picture()
    whole = picture.axis
    x = whole.left + whole.width * 0.4
    place = whole.sample(x)
    for _ in range(5):
        wheel(picture, x, 100.0, 120)
    near = picture.axis
    assert near.end - near.start < 0.4 * (whole.end - whole.start)
    assert near.sample(x) == pytest.approx(place, abs=2.0)
    wheel(picture, x, 100.0, -120, Qt.KeyboardModifier.ShiftModifier)
    assert picture.axis.start > near.start
    for _ in range(12):
        wheel(picture, x, 100.0, -120)
    assert (picture.axis.start, picture.axis.end) == (whole.start, whole.end)


def test_send_out_shows_and_keeps_its_choices(demo_window: Any, tmp_path: Path) -> None:
    import mido

    demo_window.go_to_stage("send-out")
    send, outgoing = demo_window.send_out, demo_window.session.outgoing
    send.options.controls["quantise"].setValue(100)
    notes = send.options.controls["notes"]
    notes.setCurrentIndex(notes.findData("drums"))
    notes.activated.emit(notes.currentIndex())
    assert (outgoing.options.quantise, outgoing.options.notes) == (1.0, "drums")
    assert "quantised by 100 %" in send.rows["midi"].about.text()
    path = tmp_path / "it.mid"
    assert send.write_to(path)
    for track in mido.MidiFile(path).tracks:
        ticks = np.cumsum([message.time for message in track])
        assert all(tick % 240 == 0 or tick % 320 == 0 for tick, m in zip(ticks, track, strict=True) if m.type == "note_on")
    demo_window.bring_in.loop.double.click()
    assert send.state_line(demo_window.session.store.document) == "changed since"
    assert not send.write_to(tmp_path / "no folder" / "it.mid")
    assert "does not exist" in demo_window.messages.text.text()
    demo_window.messages.close_button.click()
    assert not demo_window.messages.isVisible()


def test_keys_reach_stages_and_toggles(demo_window: Any) -> None:
    window = demo_window
    control = Qt.KeyboardModifier.ControlModifier
    for index, key in enumerate((Qt.Key.Key_1, Qt.Key.Key_2, Qt.Key.Key_3, Qt.Key.Key_4, Qt.Key.Key_5, Qt.Key.Key_6)):
        QTest.keyClick(window, key, control)
        assert window.pages.currentIndex() == index
        assert window.path.buttons[index].isChecked()
    QTest.keyClick(window, Qt.Key.Key_B, control)
    assert window.playback.balance.blend == 0.0
    QTest.keyClick(window, Qt.Key.Key_B, control)
    assert window.playback.balance.blend == 1.0
    QTest.keyClick(window, Qt.Key.Key_K, control)
    assert window.playback.transport.click
    QTest.keyClick(window, Qt.Key.Key_L, control)
    assert not window.playback.transport.looping
    QTest.keyClick(window, Qt.Key.Key_T, control)
    QTest.keyClick(window, Qt.Key.Key_T, control)


def test_the_set_up_script_says_how_it_is_used() -> None:
    done = subprocess.run(["bash", str(ROOT / "run")], capture_output=True, text=True, check=False)
    assert done.returncode == 2
    assert "./run demo" in done.stderr
    assert subprocess.run(["bash", "-n", str(ROOT / "run")], check=False).returncode == 0
