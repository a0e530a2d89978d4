"""Whatever a file, a project, a setting or a name holds: a result or a sentence, soon, in little memory."""

from __future__ import annotations

import io
import json
import os
import random
import socket
import stat
import subprocess
import sys
import zipfile
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

import bompla
from bompla.app.main import has_display
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.cli import cli
from bompla.demo import DEMO_PROJECT
from bompla.errors import BomplaError, EditError, ExportError, ProjectError, SoundFileError
from bompla.files import write_atomically
from bompla.formats.midi_read import read_midi_notes
from bompla.formats.project import PROJECT_ENTRY, Project, open_project, project_bytes, read_project
from bompla.model.checks import check_document
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document, Feel, FeelLayer
from bompla.model.limits import RANGES, check_ranges
from bompla.model.pattern_edits import add_hit
from bompla.model.shape import Shape
from bompla.render.bake import bake
from bompla.render.events import BakeRequest
from conftest import settle

EXTREMES = (0, -1, 1, 1e-300, 1e308, -1e308, float("nan"), float("inf"), 10**9, -(10**9), 2**62)


def holds_numbers(kind: Any) -> bool:
    return kind in (int, float) or any(holds_numbers(inner) for inner in getattr(kind, "__args__", ()))


def test_every_number_of_every_value_has_its_range() -> None:
    for kind in RANGES:
        names = [one.name for one in msgspec.structs.fields(kind) if holds_numbers(one.type)] if kind is not Shape else []
        assert set(names) <= set(RANGES[kind]), kind.__name__
        assert all(low < high for low, high in RANGES[kind].values())


def places_in(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """Return where numbers stand in plain values; of a row the first and the last are enough."""
    if isinstance(value, dict):
        return [place for key, inner in value.items() for place in places_in(inner, (*path, key))]
    if isinstance(value, list | tuple):
        ends = {0, len(value) - 1} if value else set()
        return [place for n in sorted(ends) for place in places_in(value[n], (*path, n))]
    return [path] if isinstance(value, int | float) and not isinstance(value, bool) else []


@pytest.fixture(scope="module")
def full(demo: tuple[Document, Clip]) -> tuple[dict[str, Any], Clip]:
    """The demo as plain values, with a feel layer, an order and everything else that has numbers."""
    document, clip = demo
    layer = FeelLayer(swing=60.0, swing_beats=0.5, feel=Feel("own", 4, (0.0,) * 16, (1.0,) * 16), timing=0.5)
    document = replace(document, variations=(replace(pattern_of(document), layer=layer),), shown=0)
    return msgspec.to_builtins(document), clip


@settings(max_examples=120, deadline=None)
@given(data=st.data())
def test_any_number_anywhere_in_a_project_is_refused_in_words_or_plays(full: tuple[dict[str, Any], Clip], data: st.DataObject) -> None:
    plain, clip = full
    place = data.draw(st.sampled_from(places_in(plain)))
    value = data.draw(st.sampled_from(EXTREMES))
    changed = json.loads(json.dumps(plain))
    inner = changed
    for key in place[:-1]:
        inner = inner[key]
    inner[place[-1]] = int(value) if isinstance(inner[place[-1]], int) and np.isfinite(value) and abs(value) < 1e18 else value
    try:
        document = msgspec.convert(changed, Document)
        check_document(document)
    except (msgspec.ValidationError, EditError):
        return
    if document.source.frames == clip.frames and document.source.sample_rate == clip.sample_rate:
        baked = bake(BakeRequest(document, clip, 48_000))
        assert np.isfinite([event.gain for event in baked.events]).all()


@pytest.mark.parametrize("layer", [
    FeelLayer(swing_beats=0.0), FeelLayer(feel=Feel("x", 4, (), ())), FeelLayer(seed=-1),
    FeelLayer(feel=Feel("x", 4, (0.0,), (float("nan"),))),
])
def test_a_feel_that_cannot_be_is_refused(demo: tuple[Document, Clip], layer: FeelLayer) -> None:
    document = replace(demo[0], variations=(replace(pattern_of(demo[0]), layer=layer),), shown=0)
    with pytest.raises(EditError):
        check_document(document)
    check_ranges(demo[0])


def test_a_project_names_what_is_wrong_in_our_words(demo: tuple[Document, Clip]) -> None:
    content = project_bytes(Project(((demo[0], demo[1]),)))
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    header = json.loads(parts[PROJECT_ENTRY])
    header["sources"][0]["document"]["pads"][0]["note"] = "high"
    with pytest.raises(ProjectError, match="what it says of note of pads is not of the right kind"):
        read_project(zipped({**parts, PROJECT_ENTRY: json.dumps(header).encode()}), "it.bompla")
    longer = io.BytesIO()
    soundfile.write(longer, np.zeros((44_100 * 600, 1), np.float32), 44_100, format="FLAC")
    name = next(name for name in parts if name.startswith("audio/"))
    with pytest.raises(ProjectError, match="not as long"):
        read_project(zipped({**parts, name: longer.getvalue()}), "it.bompla")


def zipped(parts: dict[str, bytes]) -> bytes:
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    return target.getvalue()


@settings(max_examples=150, deadline=None)
@given(seed=st.integers(0, 10_000), kind=st.sampled_from(["stored", "deflated", "lzma", "bzip2"]), flips=st.integers(1, 12))
def test_a_damaged_project_of_any_packing_is_a_sentence(demo: tuple[Document, Clip], seed: int, kind: str, flips: int) -> None:
    short = Clip(demo[1].samples[:2_000], demo[1].sample_rate)
    plain = project_bytes(Project(((demo[0], short),)))
    with zipfile.ZipFile(io.BytesIO(plain)) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    target = io.BytesIO()
    way = {"stored": zipfile.ZIP_STORED, "deflated": zipfile.ZIP_DEFLATED, "lzma": zipfile.ZIP_LZMA, "bzip2": zipfile.ZIP_BZIP2}[kind]
    with zipfile.ZipFile(target, "w", way) as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    rng = random.Random(seed)
    damaged = bytearray(target.getvalue())
    for _ in range(flips):
        damaged[rng.randrange(len(damaged))] = rng.randrange(256)
    with pytest.raises(BomplaError):  # it is too short for its cuts, if nothing else
        read_project(bytes(damaged), "it.bompla")


def test_huge_and_broken_samples_are_silent_and_pipes_are_refused(tmp_path: Path) -> None:
    sound = np.full((4_000, 1), 0.1, np.float32)
    sound[10], sound[20], sound[30] = np.nan, 1e35, -np.inf
    soundfile.write(tmp_path / "it.wav", sound, 44_100, subtype="FLOAT")
    assert float(np.abs(read_clip(tmp_path / "it.wav").samples).max()) == pytest.approx(0.1)
    pipe = tmp_path / "pipe.wav"
    os.mkfifo(pipe)
    with pytest.raises(SoundFileError, match="pipe"):
        read_clip(pipe)
    result = CliRunner().invoke(cli, ["analyse", str(pipe)])
    assert result.exit_code == 1


def test_a_midi_file_whose_header_makes_up_a_size_is_refused_without_the_memory(tmp_path: Path) -> None:
    path = tmp_path / "made up.mid"
    path.write_bytes(b"MThd\xff\xff\xff\xf0\x00\x01\x00\x01\x01\xe0MTrk\x00\x00\x00\x04\x00\xff\x2f\x00")
    code = ("import resource, sys; from pathlib import Path; from bompla.formats.midi_read import read_midi_notes; import mido\n"
            "resource.setrlimit(resource.RLIMIT_AS, (2_500_000_000, 2_500_000_000))\nread_midi_notes(Path(sys.argv[1]))")
    ran = subprocess.run([sys.executable, "-P", "-c", code, str(path)], capture_output=True, text=True, check=False)
    assert "ExportError: made up.mid" in ran.stderr


def test_a_midi_file_of_endless_time_is_refused(tmp_path: Path) -> None:
    import mido

    file = mido.MidiFile(ticks_per_beat=1)
    file.tracks.append(mido.MidiTrack([mido.Message("note_on", note=36, velocity=9, time=2**27)]))
    file.save(tmp_path / "it.mid")
    with pytest.raises(ExportError, match="bars long"):
        read_midi_notes(tmp_path / "it.mid")


def test_links_rights_and_devices_are_kept_as_they_are(tmp_path: Path) -> None:
    real, link = tmp_path / "real.bompla", tmp_path / "link.bompla"
    real.write_bytes(b"old")
    real.chmod(0o640)
    link.symlink_to(real)
    write_atomically(link, b"new", ProjectError)
    assert link.is_symlink()
    assert real.read_bytes() == b"new"
    assert stat.S_IMODE(real.stat().st_mode) == 0o640
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    with pytest.raises(ProjectError, match="no file"):
        write_atomically(pipe, b"x", ProjectError)
    assert stat.S_ISFIFO(pipe.lstat().st_mode)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["link.bompla", "pipe", "real.bompla"]


def test_check_says_what_is_right_and_what_is_not(tmp_path: Path) -> None:
    bad = tmp_path / "bad.bompla"
    bad.write_bytes(b"PK nothing")
    result = CliRunner().invoke(cli, ["check", str(DEMO_PROJECT), str(bad), "--json"])
    good, wrong = (json.loads(line) for line in result.stdout.splitlines())
    assert result.exit_code == 1
    assert (good["ok"], wrong["ok"]) == (True, False)
    assert "not a Bompla project" in wrong["problem"]
    assert CliRunner().invoke(cli, ["check", str(DEMO_PROJECT)]).exit_code == 0


def test_a_file_in_the_current_folder_is_never_run(tmp_path: Path) -> None:
    """Worker, engine and engraver start with the current folder off their path."""
    (tmp_path / "pickle.py").write_text("open('ran', 'w').write('x')\nraise SystemExit(3)\n")
    (tmp_path / "json.py").write_text("open('ran', 'w').write('x')\nraise SystemExit(3)\n")
    for module in ("bompla.worker.process", "bompla.engine.child", "bompla.export.engrave"):
        arguments = ["--list"] if module.endswith("child") else []
        command = [sys.executable, "-P", "-m", module, *arguments]
        subprocess.run(command, cwd=tmp_path, input=b"", capture_output=True, timeout=60, check=False)
    source = Path(bompla.__file__).parent
    starts = [line for path in source.rglob("*.py") for line in path.read_text(errors="replace").splitlines() if '"-m", "bompla.' in line]
    assert starts
    assert all('"-P"' in line for line in starts)
    assert not (tmp_path / "ran").exists()


def test_a_display_that_does_not_answer_is_no_display(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.delenv("QT_QPA_PLATFORM", raising=False)
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    monkeypatch.setenv("DISPLAY", ":8731")
    assert not has_display()
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    monkeypatch.setenv("WAYLAND_DISPLAY", "wayland-7")
    assert not has_display()
    with socket.socket(socket.AF_UNIX) as server:
        server.bind(str(tmp_path / "wayland-7"))
        server.listen()
        assert has_display()


def run_window(*arguments: str, **environment: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-P", "-c", "from bompla.cli import main; main()", "window", *arguments], capture_output=True,
                          text=True, timeout=120, check=False, env={**os.environ, **environment})


def test_the_window_opened_by_hand_fails_in_words(tmp_path: Path) -> None:
    picture = tmp_path / "it.png"
    gone = run_window(str(tmp_path / "nosuch.wav"), "--offscreen", "--screenshot", str(picture), BOMPLA_DEVICE="simulated device")
    assert gone.returncode == 1
    assert "There is no file" in gone.stderr
    assert picture.exists()
    stage = run_window("--offscreen", "--stage", "attic")
    assert stage.returncode == 1
    assert "There is no stage attic" in stage.stderr
    nowhere = run_window("--demo", DISPLAY=":8731", WAYLAND_DISPLAY="", QT_QPA_PLATFORM="")
    assert nowhere.returncode == 2
    assert "no display" in nowhere.stderr


@pytest.mark.usefixtures("window")
def test_settings_that_are_broken_do_not_keep_the_window_shut() -> None:
    from bompla.app import preferences
    from bompla.app.main import make_window
    from bompla.engine.choice import SoundChoice
    from bompla.export.options import ExportOptions

    path = preferences.preferences().path
    path.write_text('{"block_frames": "abc", "channels": 3, "input_latency_s": 1e308, "velocity_curves": {"": -1}, "midi_channel": 17,'
                    ' "export_options": {"bits": "x"}, "recent_files": 7, "theme": "plaid", "placed": "zz", '
                    '"stage": "attic", "shelf_folder": "/no"}')
    preferences.STORE = None
    assert preferences.preferences().value == preferences.Preferences(stage="attic", shelf_folder="/no", export_options={"bits": "x"})
    another = make_window(device="simulated device")
    another.place_as_before()
    assert another.playback.engine.chosen == SoundChoice(device="simulated device")
    assert another.session.outgoing.options == ExportOptions()
    preferences.preferences().set(midi_channel=3)
    assert preferences.read_preferences(path).midi_channel == 3
    path.write_text("[" * 10_000)
    assert preferences.read_preferences(path) == preferences.Preferences()
    another.shut()
    another.deleteLater()


def test_a_project_that_changed_on_disk_is_not_saved_over_without_a_question(
    demo_window: Any, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from PyQt6.QtWidgets import QMessageBox, QPushButton

    path = tmp_path / "it.bompla"
    demo_window.session.project.save(path)
    settle(qtbot, demo_window)
    before = open_project(path).sources[0][0]
    demo_window.session.store.edit("draw hit", lambda d: add_hit(d, d.pads[0].id, 0.33))
    path.write_bytes(path.read_bytes() + b"\0")
    asked: list[str] = []

    def answer(words: str) -> None:
        def clicked(box: QMessageBox) -> int:
            asked.append(box.text())
            next(one for one in box.findChildren(QPushButton) if words in one.text()).click()
            return 0
        monkeypatch.setattr(QMessageBox, "exec", clicked)

    answer("Cancel")
    demo_window.save()
    settle(qtbot, demo_window)
    assert "changed by another program" in asked[0]
    assert open_project(path).sources[0][0] == before
    answer("Save over it")
    demo_window.save()
    settle(qtbot, demo_window)
    assert open_project(path).sources[0][0] == demo_window.session.store.document
    demo_window.session.store.edit("draw hit", lambda d: add_hit(d, d.pads[0].id, 0.41))
    demo_window.save()
    settle(qtbot, demo_window)
    assert len(asked) == 2, "what was saved here is known"


def test_a_damaged_index_of_the_shelf_is_begun_anew_and_a_locked_one_is_left(tmp_path: Path) -> None:
    import sqlite3

    from bompla.shelf.index import ShelfEntry, ShelfIndex, content_key

    path, sound = tmp_path / "cache" / "shelf.sqlite", tmp_path / "it.wav"
    soundfile.write(sound, np.zeros(4_000), 44_100)
    index = ShelfIndex(path)
    index.keep([(sound, content_key(sound), ShelfEntry(bpm=97.0), ())])
    index.close()
    assert stat.S_IMODE(path.stat().st_mode) == 0o600
    with sqlite3.connect(path) as other:
        other.execute("begin exclusive")
        locked = ShelfIndex(path)
        assert locked.known([sound]) == {}
        locked.close()
        other.rollback()
    other.close()
    index = ShelfIndex(path)
    assert index.known([sound])[sound].bpm == 97.0, "a lock takes nothing away"
    index.close()
    damaged = bytearray(path.read_bytes())
    damaged[4_096:] = os.urandom(len(damaged) - 4_096)
    path.write_bytes(bytes(damaged))
    index = ShelfIndex(path)
    assert index.known([sound]) == {}
    index.keep([(sound, content_key(sound), ShelfEntry(bpm=98.0), ())])
    assert index.known([sound])[sound].bpm == 98.0
    index.close()


def test_names_that_are_no_text_are_opened_and_kept(tmp_path: Path) -> None:
    from bompla.shelf.index import ShelfEntry, ShelfIndex, content_key, files_under

    name = os.fsdecode(os.fsencode(tmp_path) + b"/caf\xe9.wav")
    soundfile.write(tmp_path / "plain.wav", 0.1 * np.random.default_rng(1).standard_normal(44_100), 44_100)
    (tmp_path / "plain.wav").rename(name)
    (found,) = files_under(tmp_path)
    assert read_clip(found).frames == 44_100
    index = ShelfIndex(tmp_path / "shelf.sqlite")
    index.keep([(found, content_key(found), ShelfEntry(bpm=97.0), ())])
    assert index.known([found])[found].bpm == 97.0
    index.close()
    result = CliRunner().invoke(cli, ["check", name, str(DEMO_PROJECT)])
    assert result.exit_code == 0, "a name does not end a batch"
