"""Help, settings, and a window that opens again at another scale."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QFileDialog,
)

from bompla.app.help_view import PAGES
from bompla.app.preferences import preferences
from bompla.app.theme import PALETTES, theme
from bompla.model.variation_edits import duplicate_variation
from conftest import settle

LEFT = Qt.MouseButton.LeftButton


def test_help_opens_at_the_stage_with_its_keys_first_and_is_searched(demo_window: Any) -> None:
    window = demo_window
    window.go_to_stage("groove")
    window.show_help()
    view = window.help
    assert view.shown == "groove"
    text = view.page.toPlainText()
    assert text.index("Quantise the selected hits") < text.index("Each hit is a pin")
    assert view.list.count() == len(PAGES)
    view.words.setText("missing hit lane")
    assert 0 < view.list.count() < 30
    view.list.setCurrentRow(0)
    assert view.shown
    view.words.setText("nothing has such words at all")
    assert view.list.item(0).text() == "Nothing has these words."
    for page in PAGES:
        view.show_page(page)
        assert view.shown == page
        assert len(view.page.toPlainText()) > 300
    view.close()


def test_settings_are_by_topic_hold_at_once_and_are_kept(demo_window: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    window = demo_window
    window.show_settings()
    settings = window.settings
    for topic in settings.topics.keys:
        settings.topics.click(topic)
        assert not settings.grab().isNull()
    settings.appearance.themes.click("contrast")
    assert theme().palette is PALETTES["contrast"]
    window.grab()
    settings.appearance.themes.click("night")
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path))
    settings.files.choose(dragged=True)
    assert window.session.outgoing.drag_folder == tmp_path
    assert settings.files.dragged.text() == str(tmp_path)
    preferences().path.parent.chmod(0o500)
    try:
        preferences().set(stage="kit")
        if preferences().problem:  # root may write anywhere
            assert "could not be kept" in preferences().problem
    finally:
        preferences().path.parent.chmod(0o700)
    settings.close()


def disk_is_full(_handle: int) -> None:
    raise OSError(28, "No space left on device")


def test_another_scale_opens_the_window_again_with_all_that_is_open(demo_window: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    from bompla.app.main import make_window, start_again
    from bompla.app.project.recovery import resume
    from bompla.engine.devices import SIMULATED_NAME

    started: list[list[str]] = []
    monkeypatch.setenv("QT_SCALE_FACTOR", "1")
    monkeypatch.setattr("os.execv", lambda _program, arguments: started.append(arguments))
    demo_window.again.connect(lambda: start_again(demo_window))
    demo_window.session.store.edit("copy", duplicate_variation)
    before = demo_window.session.store.document
    demo_window.show_settings()
    demo_window.settings.topics.click("appearance")
    page = demo_window.settings.appearance
    assert not page.use.isEnabled(), "there is nothing new to use"
    page.scale.setCurrentIndex(page.scale.findData(1.25))
    page.scale.activated.emit(page.scale.currentIndex())
    with monkeypatch.context() as full:
        full.setattr("os.fsync", disk_is_full)
        QTest.mouseClick(page.use, LEFT)
    assert started == []
    assert "not opened again" in demo_window.messages.text.text(), "nothing is left behind that could not be kept"
    QTest.mouseClick(page.use, LEFT)
    assert os.environ["QT_SCALE_FACTOR"] == "1.25"
    assert started[0][-3:-1] == ["window", "--go-on"]
    again = make_window(device=SIMULATED_NAME)
    resume(again.session, Path(started[0][-1]))
    assert again.session.store.document == before
    assert again.session.project.dirty, "it is as unsaved as it was"
    settle(qtbot, again)
    saved = Path(os.environ["XDG_STATE_HOME"]) / "mine.bompla"
    again.session.project.save(saved)
    settle(qtbot, again)
    assert not again.session.journal.folder.exists(), "what is saved is not offered"
    start_again(again)
    assert started[1][-2:] == ["window", str(saved)], "what is saved is opened from its file, and stays saved"
    again.session.project.sounds = ()
    again.close()
    again.deleteLater()
