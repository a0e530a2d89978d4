"""Every edit is on disk soon after it is made: through kills, cut records, several windows, and into the next start."""

from __future__ import annotations

import itertools
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from bompla.app.project.recovery import offer_recovery
from bompla.audio.clip import Clip
from bompla.cli import cli
from bompla.demo import DEMO_PROJECT
from bompla.formats.journal import EDITS, LOCK, SOUNDS, JournalWriter, Written, discard, journals_folder, left_behind, recovered, tidy
from bompla.formats.project import Project, open_project, save_project
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.pattern_edits import add_hit, delete_hits
from conftest import settle
from power_cut import Disk


def edited(document: Document, n: int) -> Document:
    return add_hit(document, document.pads[n % len(document.pads)].id, round(0.013 + 0.05 * n, 4))


def written(document: Document, edits: int) -> Written:
    return Written((document,), 0, (), "", edits)


def test_what_was_written_comes_back_and_an_edit_is_small(demo: tuple[Document, Clip], tmp_path: Path) -> None:
    document, clip = demo
    writer = JournalWriter(tmp_path)
    sounds = {document.source.content_hash: clip}
    sizes = []
    for n in range(12):
        document = edited(document, n)
        sizes.append(writer.write(written(document, n + 1), sounds))
    assert left_behind(tmp_path) == [], "a journal that is being written belongs to its window"
    writer.close()
    (left,) = left_behind(tmp_path)
    assert (left.title, left.edits, left.path) == ("Night Ferry", 12, "")
    project = recovered(left)
    assert project.sources[0][0] == document
    assert project.sources[0][1].content_hash == clip.content_hash
    assert max(sizes[1:]) < 50_000
    assert len(list((tmp_path / SOUNDS).iterdir())) == 1
    assert {path.stat().st_mode & 0o777 for path in tmp_path.rglob("*") if path.is_file()} == {0o600}
    assert {path.stat().st_mode & 0o777 for path in tmp_path.iterdir()} == {0o700}
    discard(left)
    tidy(tmp_path)
    assert list((tmp_path / SOUNDS).iterdir()) == [], "sounds that nothing needs go with it"


def test_a_power_cut_at_any_moment_leaves_the_old_project_or_the_new_and_every_edit_that_was_written(
    demo: tuple[Document, Clip], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    document, clip = demo
    root = tmp_path / "disk"
    root.mkdir()
    path = root / "mine.bompla"
    save_project(Project(((document, clip),)), path)
    disk, cuts = Disk(root, monkeypatch), itertools.count()
    states: list[Document] = [document]

    def whole() -> None:
        for names_as_they_are in (False, True):
            left = disk.left(tmp_path / f"cut {next(cuts)}", names_as_they_are=names_as_they_are)
            assert open_project(left / path.name).sources[0][0] in states, "the old project or the new one"

    disk.at_each = whole
    states.append(edited(document, 1))
    save_project(Project(((states[1], clip),)), path)
    left = disk.left(tmp_path / "saved")
    assert open_project(left / path.name).sources[0][0] == states[1], "what is said to be saved is on the disk"
    disk.at_each = lambda: None
    writer = JournalWriter(root / "state" / "journal")
    for n in range(2, 5):
        states.append(edited(states[-1], n))
        writer.write(written(states[-1], n), {document.source.content_hash: clip})
        kept = disk.left(tmp_path / f"edit {n}") / "state" / "journal"
        (one,) = left_behind(kept)
        assert recovered(one).sources[0][0] == states[-1], "each edit that was written is on the disk, with its sound"
    writer.close()


@settings(max_examples=25, deadline=None)
@given(edits=st.integers(1, 8), cut=st.integers(0, 4_000), flipped=st.booleans(), seed=st.integers(0, 99))
def test_a_journal_cut_or_damaged_anywhere_gives_an_earlier_edit_or_nothing(
    demo: tuple[Document, Clip], tmp_path_factory: pytest.TempPathFactory, edits: int, cut: int, flipped: bool, seed: int
) -> None:
    folder = tmp_path_factory.mktemp("journal")
    document, clip = demo
    writer = JournalWriter(folder)
    states = []
    for n in range(edits):
        document = edited(document, n + seed)
        states.append(document)
        writer.write(written(document, n + 1), {document.source.content_hash: clip})
    writer.close()
    path = writer.folder / EDITS
    content = bytearray(path.read_bytes())
    at = max(0, len(content) - 1 - cut)
    if flipped:
        content[at] ^= 0x55
    else:
        del content[at:]
    path.write_bytes(bytes(content))
    for left in left_behind(folder):
        assert recovered(left).sources[0][0] in states


def test_sounds_that_are_gone_are_read_again_from_where_they_were(demo: tuple[Document, Clip], tmp_path: Path) -> None:
    import soundfile

    from bompla.errors import ProjectError

    document, clip = demo
    path = tmp_path / "source.wav"
    soundfile.write(path, clip.samples, clip.sample_rate, subtype="FLOAT")
    writer = JournalWriter(tmp_path / "journal")
    here = replace(document, source=replace(document.source, path=str(path)))
    writer.write(written(here, 1), {})
    writer.close()
    (left,) = left_behind(tmp_path / "journal")
    assert recovered(left).sources[0][0] == here
    path.unlink()
    with pytest.raises(ProjectError, match="cannot be gone on with"):
        recovered(left)


def test_edits_are_offered_at_the_next_start_and_gone_on_with(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    session = demo_window.session
    assert not session.journal.folder.exists()
    document = session.store.document
    session.store.edit("draw hit", lambda d: edited(d, 1))
    qtbot.waitUntil(lambda: not session.journal.busy)
    assert (session.journal.folder / EDITS).exists()
    assert not offer_recovery(session), "what this window has open is not offered to it"
    session.journal.close(left=True)
    assert offer_recovery(session)
    assert "Night Ferry” was left with 1 unsaved edit" in demo_window.messages.text.text()
    assert (demo_window.messages.mend.text(), demo_window.messages.other.text()) == ("Go on", "Put away")
    picture = demo_window.messages.picture.pixmap().toImage()
    lit = {x for x in range(picture.width()) for y in range(picture.height()) if picture.pixelColor(x, y).alpha() > 0}
    beats = document.loop.length_beats
    assert demo_window.messages.picture.isVisible()
    assert all(round(hit.at_beats / beats * picture.width()) in lit for hit in pattern_of(document).hits if 0 <= hit.at_beats < beats)
    demo_window.messages.mend.click()
    settle(qtbot, demo_window)
    assert session.store.document == edited(document, 1)
    assert session.project.dirty
    target = tmp_path / "saved.bompla"
    session.project.save(target)
    settle(qtbot, demo_window)
    qtbot.waitUntil(lambda: not session.journal.busy)
    assert not session.project.dirty
    assert not session.journal.folder.exists(), "what is saved is not kept twice"
    assert left_behind(journals_folder()) == []


def test_unsaved_work_that_is_put_away_is_gone(demo_window: Any) -> None:
    session = demo_window.session
    session.store.edit("draw hit", lambda d: edited(d, 2))
    session.journal.keep_at_once()
    session.journal.close(left=True)
    offer_recovery(session)
    demo_window.messages.other.click()
    assert left_behind(journals_folder()) == []


KILLED = """
import sys, time
from bompla.app.main import make_application, make_window, open_demo, _end_on_signals
from bompla.engine.devices import SIMULATED_NAME
from bompla.model.pattern_edits import add_hit
from PyQt6.QtCore import QTimer
application = make_application()
window = make_window(device=SIMULATED_NAME)
_end_on_signals(window, application)
open_demo(window)
window.show()
window.playback.start()
count = [0]
def edit():
    count[0] += 1
    window.session.store.edit("draw", lambda d: add_hit(d, d.pads[0].id, round(0.011 + 0.03 * count[0], 4)))
    print(count[0], time.time(), flush=True)
timer = QTimer()
timer.timeout.connect(edit)
timer.start(150)
sys.exit(application.exec())
"""


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_a_killed_window_loses_no_edit_older_than_five_seconds(number: signal.Signals, tmp_path: Path) -> None:
    environment = {**os.environ, "XDG_STATE_HOME": str(tmp_path), "QT_QPA_PLATFORM": "offscreen"}
    process = subprocess.Popen([sys.executable, "-P", "-c", KILLED], env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                               text=True)
    try:
        assert process.stdout is not None
        lines = []
        for line in process.stdout:
            lines.append((int(line.split()[0]), float(line.split()[1])))
            if len(lines) == 24:
                break
        killed_at = time.time()
        process.send_signal(number)
        process.wait(20)
    finally:
        process.kill()
        process.communicate()
    (left,) = left_behind(tmp_path / "bompla" / "journal")
    had = len(pattern_of(open_project(DEMO_PROJECT).sources[0][0]).hits)
    kept = len(pattern_of(recovered(left).sources[0][0]).hits) - had
    older = sum(at < killed_at - (5.0 if number == signal.SIGKILL else 0.2) for _, at in lines)
    assert kept >= older
    if number == signal.SIGKILL:
        assert kept >= 12, "and far less than five seconds, on a machine with nothing else to do"
    else:
        assert process.returncode == 128 + number
        assert kept >= len(lines) - 1


def test_the_command_line_lists_and_writes_what_was_left(
    demo: tuple[Document, Clip], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    result = CliRunner().invoke(cli, ["recover"])
    assert (result.exit_code, result.stdout) == (0, "nothing to recover\n")
    document, clip = demo
    for n in range(2):
        writer = JournalWriter(journals_folder())
        writer.write(written(edited(document, n), n + 1), {document.source.content_hash: clip})
        writer.close()
        os.utime(writer.folder / EDITS, (1_000_000 + n, 1_000_000 + n))
    result = CliRunner().invoke(cli, ["recover"])
    assert result.exit_code == 0
    said = [line.split("  ")[1] for line in result.stdout.splitlines()]
    assert said == ["Night Ferry, 2 edits, never saved", "Night Ferry, 1 edit, never saved"]
    assert CliRunner().invoke(cli, ["recover", "--to", str(tmp_path / "newest.bompla")]).exit_code == 0
    assert open_project(tmp_path / "newest.bompla").sources[0][0] == edited(document, 1)
    result = CliRunner().invoke(cli, ["recover", "--all", str(tmp_path / "all")])
    assert sorted(path.name for path in (tmp_path / "all").iterdir()) == ["Night Ferry 2.bompla", "Night Ferry.bompla"]
    assert len(left_behind(journals_folder())) == 2, "listing and writing take nothing away"


def test_what_pads_borrow_and_hits_taken_out_come_back_too(demo: tuple[Document, Clip], tmp_path: Path) -> None:
    document, clip = demo
    writer = JournalWriter(tmp_path)
    first = edited(document, 3)
    writer.write(written(first, 1), {document.source.content_hash: clip})
    less = delete_hits(first, [pattern_of(first).hits[0].id])
    writer.write(Written((less, document), 1, (), "/somewhere/it.bompla", 2), {document.source.content_hash: clip})
    writer.write(Written((less,), 0, (), "/somewhere/it.bompla", 3), {document.source.content_hash: clip})
    (writer.folder / LOCK).chmod(0o600)
    writer.close()
    (left,) = left_behind(tmp_path)
    assert left.path == "/somewhere/it.bompla"
    assert [one for one, _ in recovered(left).sources] == [less]
