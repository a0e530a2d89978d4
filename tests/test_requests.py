"""What the window asks of workers: the last wish is what holds, giving up holds, and nothing that goes wrong stays in the way."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from bompla.app.sound import bake as baking_module
from bompla.demo import loop_paths
from bompla.model.detected_pattern import pattern_of
from bompla.model.drums import Band
from bompla.model.kit_edits import set_pad_level
from bompla.render.bake import bake
from bompla.render.events import BakeRequest
from conftest import settle


def test_the_band_that_was_chosen_last_is_the_one_that_plays(demo_window: Any, qtbot: Any) -> None:
    """Kick, hat, kick while a bake runs, and off: what plays is always what is shown."""
    baking, session = demo_window.playback.baking, demo_window.session
    for _ in range(3):
        for band in (Band.LOW, Band.HIGH, Band.LOW):
            baking.set_band(band)
        settle(qtbot, demo_window)
        low = bake(BakeRequest(session.store.document, session.project.clip, demo_window.playback.engine.sample_rate, band=Band.LOW))
        assert np.array_equal(baking.baked.original, low.original)
        baking.set_band(Band.HIGH)
        baking.set_band(None)
        settle(qtbot, demo_window)
        whole = bake(BakeRequest(session.store.document, session.project.clip, demo_window.playback.engine.sample_rate))
        assert np.array_equal(baking.baked.original, whole.original)


def test_a_bake_that_goes_wrong_is_told_and_the_next_one_is_heard(
    demo_window: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    said: list[str] = []
    demo_window.session.hub.posted.connect(lambda message: said.append(message.text))
    pad = demo_window.session.store.document.pads[0]

    def broken(_request: object, _token: object) -> None:
        raise ZeroDivisionError("no beats")

    with monkeypatch.context() as patch:
        patch.setattr(baking_module, "_bake", broken)
        demo_window.session.store.edit("level", lambda d: set_pad_level(d, pad.id, -3.0))
        settle(qtbot, demo_window)
    assert any("ZeroDivisionError" in text for text in said)
    assert "no beats" in capsys.readouterr().err
    before = demo_window.playback.baking.baked
    demo_window.session.store.edit("level", lambda d: set_pad_level(d, pad.id, -6.0))
    settle(qtbot, demo_window)
    assert demo_window.playback.baking.baked is not before


def test_listening_that_is_cancelled_brings_nothing(demo_window: Any, qtbot: Any) -> None:
    heard: list[Any] = []
    openings, work, requests = demo_window.session.openings, demo_window.session.work, demo_window.session.requests
    openings.hear(loop_paths()[2], heard.append)
    qtbot.waitUntil(lambda: requests.analysis.busy)
    demo_window.messages.cancel.click()
    assert work.work is None
    settle(qtbot, demo_window)
    assert heard == []
    openings.hear(loop_paths()[2], heard.append)
    settle(qtbot, demo_window)
    assert len(heard) == 1


def test_a_project_with_a_flipped_bit_is_a_sentence_and_saving_goes_on(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    """The packed JSON of a project does not unpack: opening it fails in words, and what is open can be saved and closed."""
    session, path = demo_window.session, tmp_path / "kept.bompla"
    session.project.save(path)
    settle(qtbot, demo_window)
    content = bytearray(path.read_bytes())
    with zipfile.ZipFile(path) as archive:
        info = archive.getinfo("project.json")
    content[info.header_offset + 30 + len(info.filename) + 40] ^= 0xFF
    broken = tmp_path / "broken.bompla"
    broken.write_bytes(content)
    said: list[str] = []
    session.hub.posted.connect(lambda message: said.append(message.text))
    hits = len(pattern_of(session.store.document).hits)
    demo_window.open_path(broken)
    settle(qtbot, demo_window)
    assert said
    assert said[-1].endswith((".", "again."))
    assert session.work.work is None
    assert len(pattern_of(session.store.document).hits) == hits
    session.store.edit("level", lambda d: set_pad_level(d, d.pads[0].id, -3.0))
    task = session.project.save(path)
    settle(qtbot, demo_window)
    assert task.ending == "done"
    assert not session.project.dirty
