"""State that cannot contradict itself: openings in a queue, steps that know what was selected, sounds that are handed over whole."""

from __future__ import annotations

import gc
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from msgspec.structs import replace

from bompla.app.project.tasks import Task
from bompla.audio import memory
from bompla.demo import loop_paths
from bompla.errors import EditError, ProjectError
from bompla.formats import journal as journal_module
from bompla.formats.journal import JournalWriter, Written
from bompla.model.detected_pattern import hits_inside, pattern_of
from bompla.model.kit_edits import set_pad_level
from bompla.model.pattern_edits import delete_hits
from bompla.model.selection import Selection, within
from bompla.model.variation_edits import duplicate_variation, set_bars, show_variation
from conftest import settle


def strikes(path: Path, seed: int, seconds: float = 1.2) -> Path:
    """Write a short sound with a few clear strikes."""
    rng, rate = np.random.default_rng(seed), 22_050
    sound = np.zeros((round(seconds * rate), 1), np.float32)
    for at in np.arange(0.0, seconds - 0.2, 0.3):
        t = np.arange(round(0.2 * rate)) / rate
        burst = (0.5 * np.cos(2 * np.pi * (90 + 10 * seed) * t) + 0.2 * rng.standard_normal(t.size)) * np.exp(-t / 0.04)
        sound[round(at * rate) : round(at * rate) + t.size, 0] += burst.astype(np.float32)
    soundfile.write(path, sound, rate)
    return path


def test_sounds_added_quickly_are_all_there_in_order_and_a_broken_one_is_told(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    session = demo_window.session
    said: list[str] = []
    lines: list[str] = []
    session.hub.posted.connect(lambda message: said.append(message.text))
    session.work.changed.connect(lambda work: lines.append(work.label if work is not None else ""))
    paths = [strikes(tmp_path / f"one {n}.wav", n) for n in range(6)]
    (tmp_path / "no sound.wav").write_bytes(b"nothing of the kind")
    paths.insert(3, tmp_path / "no sound.wav")
    for path in paths:
        session.openings.open(path, add=True)
    settle(qtbot, demo_window)
    assert [sound.history.document.title for sound in session.project.sounds[1:]] == [f"one {n}" for n in range(6)]
    assert [text for text in said if "no sound.wav" in text], "the one that could not be read is told"
    assert any("3 of 7" in line for line in lines), "one line says how many are left"
    assert lines[-1] == ""


def test_a_sound_that_is_opened_gives_up_those_before_it_and_is_shown_in_bring_in(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    session = demo_window.session
    demo_window.go_to_stage("slice")
    states: list[Any] = []
    session.openings.begun.connect(states.append)
    session.openings.open(strikes(tmp_path / "first.wav", 1))
    session.openings.open(strikes(tmp_path / "second.wav", 2))
    assert demo_window.pages.currentWidget() is demo_window.bring_in, "what comes is seen, not the slices of what goes"
    settle(qtbot, demo_window)
    assert [opening.state for opening in states] == ["cancelled", "done"]
    assert session.store.document.title == "second"
    assert all(opening.sound is None for opening in states), "nothing holds their sounds any more"


def test_a_callback_that_raises_does_not_keep_the_next_request_waiting(demo_window: Any, qtbot: Any) -> None:
    analysis, clip = demo_window.session.analysis, demo_window.session.project.clip
    answers: list[Any] = []

    def broken(_value: object) -> None:
        raise ZeroDivisionError("in the callback")

    with qtbot.captureExceptions() as caught:
        analysis.ask("hear_at", clip, done=broken, failed=answers.append, places=(1_000,))
        analysis.ask("hear_at", clip, done=answers.append, failed=answers.append, places=(2_000,))
        qtbot.waitUntil(lambda: not analysis.busy)
    assert [kind for kind, _, _ in caught] == [ZeroDivisionError]
    assert len(answers) == 1


def test_a_long_sound_that_nobody_else_holds_reaches_the_analysis(demo_window: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch,
                                                                 tmp_path: Path) -> None:
    """Compared with a long file: its descriptor stays until the analysis has it, and no other sound takes its place."""
    monkeypatch.setattr(memory, "LARGE_BYTES", 1 << 16)
    session, heard, said = demo_window.session, [], []
    session.hub.posted.connect(lambda message: said.append(message.text))
    for n in range(3):
        session.openings.hear(strikes(tmp_path / f"beside {n}.wav", n, 3.0), heard.append)
    gc.collect()
    settle(qtbot, demo_window)
    assert not said
    assert [document.title for document in heard] == ["beside 0", "beside 1", "beside 2"]
    assert len({document.source.content_hash for document in heard}) == 3
    session.requests.ask_drums_only()
    settle(qtbot, demo_window)
    assert session.project.sound.drums_only.frames == session.project.clip.frames, "a long answer comes back in the same way"


def test_undo_brings_back_what_was_selected_however_long_the_history(demo_window: Any) -> None:
    session = demo_window.session
    pads = session.store.document.pads
    for n in range(520):
        session.shown.select(pad_id=pads[n % len(pads)].id)
        assert session.store.edit(f"level {n}", lambda d, n=n: set_pad_level(d, pads[0].id, -0.01 * (n % 50 + 1)))
    for n in (519, 518, 517):
        session.shown.select(pad_id=pads[0].id)
        session.store.undo()
        assert session.shown.selection.pad_id == pads[n % len(pads)].id
    session.shown.select(pad_id=pads[1].id)
    session.store.redo()
    assert session.shown.selection.pad_id == pads[0].id, "what was selected when it was undone"


def test_undo_that_goes_to_another_variation_says_so_and_redo_goes_where_the_edit_was(demo_window: Any) -> None:
    session, said = demo_window.session, []
    session.hub.posted.connect(lambda message: said.append(message.text))
    session.store.edit("copy", duplicate_variation)
    second = session.store.document.shown
    session.store.edit("delete hit", lambda d: delete_hits(d, [pattern_of(d).hits[0].id]))
    session.store.amend(lambda d: show_variation(d, 0))
    session.store.edit("level", lambda d: set_pad_level(d, d.pads[0].id, -3.0))
    session.store.undo()
    assert session.store.document.shown == 0
    session.store.undo()
    assert session.store.document.shown == second
    assert f"variation {pattern_of(session.store.document).letter}" in said[-1]
    session.store.amend(lambda d: show_variation(d, 0))
    session.store.redo()
    assert session.store.document.shown == second, "the hit is deleted where it was"


def test_what_is_selected_is_among_what_is_there_and_seen(demo_window: Any) -> None:
    session = demo_window.session
    every = frozenset(hit.id for hit in pattern_of(session.store.document).hits)
    session.shown.select(hit_ids=every)
    session.store.edit("one bar", lambda d: set_bars(d, 1))
    seen = frozenset(hit.id for hit in hits_inside(session.store.document))
    assert session.shown.selection.hit_ids == seen < every
    session.store.edit("delete", lambda d: delete_hits(d, session.shown.selection.hit_ids))
    assert len(pattern_of(session.store.document).hits) == len(every) - len(seen), "no hit goes that is not seen"
    session.store.edit("copy", duplicate_variation)
    assert not session.shown.selection.hit_ids, "a copy has hits of its own"


def test_a_selection_holds_only_what_a_document_has(demo: Any) -> None:
    document = demo[0]
    gone = Selection(cut_id=99_999, more_cuts=frozenset({88_888}), pad_id=77_777, hit_ids=frozenset({66_666}))
    assert within(gone, document) == Selection(document.slices()[0].cut.id, frozenset(), document.pads[0].id, frozenset())
    assert within(Selection(), document) == Selection(), "nothing stays nothing"


def test_what_comes_from_the_analysis_leaves_a_gesture_in_progress(demo_window: Any) -> None:
    store = demo_window.session.store
    pad = store.document.pads[0]
    store.preview(lambda d: set_pad_level(d, pad.id, -9.0))
    store.amend(lambda d: d)
    assert store.previewing
    store.amend(lambda d: replace(d, tempo_confidence=0.25))
    assert store.previewing
    assert (store.document.pad(pad.id).level_db, store.document.tempo_confidence) == (-9.0, 0.25)

    def gone(_document: Any) -> Any:
        raise EditError("That cut is no longer there.")

    store.amend(gone)
    assert store.previewing
    store.drop_preview()
    assert (store.document.pad(pad.id).level_db, store.document.tempo_confidence) == (pad.level_db, 0.25)


def test_a_pad_that_is_undone_while_it_is_held_can_be_let_go(demo_window: Any) -> None:
    from bompla.model.kit_edits import put_on_slot

    session, pads = demo_window.session, demo_window.playback.pads
    free = next(slot for slot in range(64) if all(pad.slot != slot for pad in session.store.document.pads))
    session.store.edit("put", lambda d: put_on_slot(d, free, d.cuts[0].id))
    made = next(pad for pad in session.store.document.pads if pad.slot == free)
    pads.strike(made.id)
    session.store.undo()
    pads.let_go(made.id)


def test_one_journal_write_waits_for_another(tmp_path: Path, demo: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    document, clip = demo
    writer = JournalWriter(tmp_path)
    now = Written((document,))
    under_way, go_on = threading.Event(), threading.Event()
    keep = journal_module._keep_sound

    def slow(folder: Path, key: str, sound: Any) -> None:
        under_way.set()
        go_on.wait(30)
        keep(folder, key, sound)

    monkeypatch.setattr(journal_module, "_keep_sound", slow)
    first = threading.Thread(target=writer.write, args=(now, {document.source.content_hash: clip}))
    first.start()
    assert under_way.wait(30)
    monkeypatch.setattr(journal_module, "TURN_S", 0.05)
    with pytest.raises(ProjectError, match="still being kept"):
        writer.write(now, {})
    go_on.set()
    first.join(30)
    writer.forget()
    assert not writer.folder.exists()


def test_a_journal_on_a_full_disk_is_forgotten_all_the_same(tmp_path: Path, demo: Any) -> None:
    class Full:
        """A file on a full disk: what it still had to write cannot be."""

        def close(self) -> None:
            raise OSError(28, "No space left on device")

    writer = JournalWriter(tmp_path)
    writer.write(Written((demo[0],)), {demo[0].source.content_hash: demo[1]})
    writer._edits.close()
    writer._edits = Full()  # type: ignore[assignment]
    writer.forget()
    assert not writer.folder.exists()


def test_saving_waits_for_nothing_else(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    session = demo_window.session
    blocked = threading.Event()
    waiting = session.threads.run(_wait, blocked, done=lambda _: None, failed=lambda _: None)
    task: Task = session.project.save(tmp_path / "now.bompla")
    qtbot.waitUntil(lambda: task.over)
    assert (task.ending, waiting.ending) == ("done", "")
    blocked.set()
    settle(qtbot, demo_window)


def _wait(event: threading.Event, _token: Any) -> None:
    event.wait(30)


def test_a_project_that_is_full_is_told_before_a_sound_is_added(window: Any, qtbot: Any) -> None:
    """The limit of a project is told before a sound is added, never after its journal is gone."""
    from bompla.formats.project import MAX_SOURCES, check_fits

    session = window.session
    for path in loop_paths()[:2]:
        session.openings.open(path, add=True)
    settle(qtbot, window)
    assert len(session.project.sounds) == 2
    clip = session.project.clip
    check_fits([clip] * MAX_SOURCES)
    with pytest.raises(ProjectError, match=f"up to {MAX_SOURCES} sounds"):
        check_fits([clip] * (MAX_SOURCES + 1))
    said: list[str] = []
    session.hub.posted.connect(lambda message: said.append(message.text))
    session.project.sounds = session.project.sounds * (MAX_SOURCES // 2)
    session.openings.open(loop_paths()[2], add=True)
    settle(qtbot, window)
    assert f"up to {MAX_SOURCES} sounds" in said[-1]
    session.project.sounds = session.project.sounds[:2]


def test_stretching_keeps_no_other_thread_waiting_and_the_newest_wish_wins() -> None:
    """What stretches holds Python's lock; in its process it is waited for without it, and given up at once."""
    from bompla.app.project.tasks import Cancelled
    from bompla.render.stretch import made_by, made_here, stretched
    from bompla.render.stretch_process import StretchProcess

    sound = np.random.default_rng(3).standard_normal((48_000 * 8, 2)).astype(np.float32)
    given_up = threading.Event()
    looks: list[float] = []

    def check() -> None:
        looks.append(time.monotonic())
        if given_up.is_set():
            raise Cancelled("Cancelled.")

    process = StretchProcess(check)
    beats: list[float] = []
    stop = threading.Event()

    def beat() -> None:
        while not stop.wait(0.01):
            beats.append(time.monotonic())

    heart = threading.Thread(target=beat)
    heart.start()
    try:
        with made_by(process.stretched):
            made = stretched(sound, 48_000, 0.5)
            assert np.array_equal(made, made_here(sound, 48_000, 0.5, 0.0)[: len(made)])
            beats.clear()
            stretched(sound, 48_000, 0.6)
            assert max(np.diff(beats)) < 0.5, "another thread goes on"
            given_up.set()
            with pytest.raises(Cancelled):
                stretched(sound, 48_000, 0.5)
            given_up.clear()
            assert len(stretched(sound[:4_800], 48_000, 0.8)) == 6_000, "and the next is made by another"
    finally:
        stop.set()
        heart.join()
        process.close()
