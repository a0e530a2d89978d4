"""What comes from outside: files and names of any kind end in a sound, or in a sentence; nothing hangs, and nothing else is lost."""

from __future__ import annotations

import csv
import io
import json
import os
import stat
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from msgspec.structs import replace

from bompla.analysis.analyse import analyse
from bompla.app.preferences import PreferenceStore
from bompla.audio.clip import Clip
from bompla.audio.files import MOST_SAMPLES, kept_bytes, kept_suffix, read_clip
from bompla.cli import cli
from bompla.errors import BomplaError, ProjectError, SoundFileError
from bompla.export.options import ExportOptions
from bompla.export.request import ExportRequest, file_name
from bompla.export.table import EXPORTS
from bompla.files import as_text
from bompla.formats.midi_read import read_midi_notes
from bompla.formats.project import PROJECT_ENTRY, Project, open_project, project_bytes, read_project
from bompla.groove.feel import load_feel
from bompla.model.document import Document
from bompla.shelf.scan import scanned
from conftest import none, settle

STRAY = os.fsdecode(b"stray \xff\xfe name")
MARKUP = '<img src="/a/path">'


def two_hits(seconds: float, rate: int = 44_100) -> Clip:
    """A short sound with two strikes: a flam."""
    rng, sound = np.random.default_rng(1), np.zeros((round(seconds * rate), 1), np.float32)
    for at in (0, len(sound) // 2):
        t = np.arange(len(sound) - at) / rate
        sound[at:, 0] += (0.5 * np.cos(2 * np.pi * 180 * t) * np.exp(-t / 0.02) + 0.2 * rng.standard_normal(t.size) * np.exp(-t / 0.01))
    return Clip(sound, rate)


@pytest.mark.parametrize("seconds", [0.06, 0.1, 0.25, 0.4, 0.63])
def test_a_short_sound_has_hits_and_no_tempo(seconds: float) -> None:
    heard = analyse(two_hits(seconds))
    assert heard.readings == ()
    assert heard.tempo_confidence == 0.0
    assert heard.attacks
    assert 0 <= heard.loop.start_sample < heard.loop.end_sample <= heard.source.frames
    bpm = 60.0 * heard.loop.length_beats / seconds
    assert 20.0 <= bpm <= 400.0, "what it is counted by is a usual tempo"


def test_a_flam_in_a_folder_does_not_cost_the_files_after_it(tmp_path: Path) -> None:
    for n in range(2):
        (tmp_path / f"{n} before.wav").write_bytes(b"no sound")
    soundfile.write(tmp_path / "3 flam.wav", two_hits(0.2).samples, 44_100)
    os.mkfifo(tmp_path / "4 pipe.wav")
    soundfile.write(tmp_path / "5 after.wav", two_hits(1.5).samples, 44_100)
    for command in (["analyse", "--json", str(tmp_path)], ["check", "--json", *map(str, sorted(tmp_path.iterdir()))]):
        ran = CliRunner().invoke(cli, command)
        assert ran.exit_code == 1
        assert "Traceback" not in ran.output
        lines = [json.loads(line) for line in ran.stdout.splitlines()]
        assert ["problem" in line or "error" in line for line in lines] == [True, True, False, True, False]
    flam = json.loads(CliRunner().invoke(cli, ["analyse", "--json", str(tmp_path / "3 flam.wav")]).stdout)
    assert flam["tempo"]["bpm"] is None
    sent = CliRunner().invoke(cli, ["export", str(tmp_path), "--to", str(tmp_path / "out"), "--only", "midi,slice"])
    assert "Traceback" not in sent.output
    assert {path.name for path in (tmp_path / "out").iterdir()} == {"3 flam", "5 after"}


def test_a_name_that_is_no_text_is_opened_saved_and_sent_out(window: Any, qtbot: Any, tmp_path: Path) -> None:
    path = tmp_path / f"{STRAY}.wav"
    soundfile.write(os.fsencode(path), two_hits(1.5).samples, 44_100)
    session, said = window.session, []
    session.hub.posted.connect(lambda message: said.append(message.text))
    window.open_path(path)
    settle(qtbot, window)
    assert not said
    document = session.store.document
    assert (document.title, document.source.path) == (as_text(STRAY), "")
    task = session.project.save(tmp_path / "kept.bompla")
    settle(qtbot, window)
    assert task.ending == "done"
    assert open_project(tmp_path / "kept.bompla").sources[0][0] == document
    request = ExportRequest(document, session.project.clip)
    assert next(iter(EXPORTS["midi"].make(request, none))).path.endswith(".mid")
    plain = tmp_path / "plain.wav"
    soundfile.write(plain, two_hits(1.5).samples, 44_100)
    session.project.load(session.project.sounds and _loaded(session), path=None)
    window.open_path(plain)
    settle(qtbot, window)
    assert session.store.document.title == "plain", "and whatever is opened after it opens, too"


def _loaded(session: Any) -> Any:
    from bompla.app.project.project_state import Loaded

    sound = session.project.sound
    sound.saved = sound.history.document
    return Loaded((sound,), 0, {})


def test_names_are_shown_as_they_are_never_as_markup(window: Any, qtbot: Any, demo: Any) -> None:
    from PyQt6.QtCore import Qt
    from PyQt6.QtWidgets import QLabel

    from bompla.app.project.project_state import Loaded, ProjectSound

    document = replace(demo[0], title=MARKUP, source=replace(demo[0].source, name=MARKUP))
    document = replace(document, pads=(replace(document.pads[0], name=MARKUP), *document.pads[1:]))
    window.session.project.load(Loaded((ProjectSound.of(document, demo[1]),), 0, {}), path=None)
    settle(qtbot, window)
    for stage in range(6):
        window.go_to(stage)
        settle(qtbot, window)
        named = [one for one in window.findChildren(QLabel) if MARKUP in one.text()]
        assert all(one.textFormat() == Qt.TextFormat.PlainText for one in named)
        assert not [one for one in window.findChildren(QLabel) if MARKUP in one.toolTip()]


@pytest.mark.parametrize("read", [open_project, read_midi_notes, load_feel, read_clip])
def test_pipes_devices_folders_and_nul_are_refused_without_waiting(read: Any, tmp_path: Path) -> None:
    pipe = tmp_path / "pipe.bompla"
    os.mkfifo(pipe)
    for path in (pipe, Path("/dev/zero"), tmp_path, Path("a\0b.wav"), tmp_path / "gone"):
        with pytest.raises(BomplaError, match=r"\.$|first|again"):
            read(path)


def test_the_shelf_says_of_a_pipe_what_it_is(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe.wav")
    content, entry, hits = scanned(tmp_path / "pipe.wav")
    assert (content, hits) == ("", ())
    assert "pipe" in entry.problem


def test_raw_sound_and_too_much_of_it_are_sentences(tmp_path: Path) -> None:
    (tmp_path / "it.raw").write_bytes(bytes(4_000))
    with pytest.raises(SoundFileError, match="which rate"):
        read_clip(tmp_path / "it.raw")
    path = tmp_path / "wide.flac"
    frames = MOST_SAMPLES // 8 + 1_000
    with soundfile.SoundFile(path, "w", 96_000, 8, format="FLAC", subtype="PCM_16") as stream:
        block = np.zeros((1 << 20, 8), np.int16)
        for start in range(0, frames, 1 << 20):
            stream.write(block[: frames - start])
    with pytest.raises(SoundFileError, match="too much sound"):
        read_clip(path)


@pytest.mark.parametrize("kind", ["16 bits", "24 bits", "float", "loud", "many channels", "mp3"])
def test_a_project_keeps_every_sample_and_knows_its_sound(kind: str, tmp_path: Path) -> None:
    rng = np.random.default_rng(4)
    sound = rng.uniform(-1.0, 1.0, (3_000, 12 if kind == "many channels" else 2)).astype(np.float32)
    if kind == "loud":
        sound *= 2.0
    suffix, subtype = {"16 bits": (".wav", "PCM_16"), "24 bits": (".wav", "PCM_24"), "mp3": (".mp3", None)}.get(kind, (".wav", "FLOAT"))
    soundfile.write(tmp_path / f"it{suffix}", sound, 44_100, subtype=subtype)
    clip = read_clip(tmp_path / f"it{suffix}")
    fits = kind in ("16 bits", "24 bits") or (kind == "mp3" and np.abs(clip.samples).max() < 1.0)
    assert kept_suffix(clip) == (".flac" if fits else ".wav")
    (tmp_path / f"kept{kept_suffix(clip)}").write_bytes(kept_bytes(clip))
    assert np.array_equal(read_clip(tmp_path / f"kept{kept_suffix(clip)}").samples, clip.samples)
    heard = analyse(clip)
    document = Document("it", heard.source, heard.loop)
    content = project_bytes(Project(((document, clip),)))
    assert np.array_equal(read_project(content, "it").sources[0][1].samples, clip.samples)
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    other = Clip(np.ascontiguousarray(clip.samples[::-1]), clip.sample_rate)
    name = next(name for name in parts if name.startswith("audio/"))
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w") as archive:
        for entry, part in parts.items():
            archive.writestr(entry, kept_bytes(other) if entry == name else part)
    with pytest.raises(ProjectError, match="not the one its cuts were made on"):
        read_project(target.getvalue(), "it.bompla")


def test_what_claims_too_much_is_refused_soon(demo: Any) -> None:
    content = project_bytes(Project(((demo[0], demo[1]),)))
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}

    def packed(**other: bytes) -> bytes:
        target = io.BytesIO()
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, part in {**parts, **other}.items():
                archive.writestr(name, part)
        return target.getvalue()

    header = json.loads(parts[PROJECT_ENTRY])
    audio = header["sources"][0]["audio"]
    nested = b'{"format": "bompla project", "version": 4, "sources": ' + b"[" * 2_000_000 + b"]" * 2_000_000 + b"}"
    with pytest.raises(ProjectError):
        read_project(packed(**{PROJECT_ENTRY: nested}), "it.bompla")
    with pytest.raises(ProjectError):
        read_project(packed(**{audio: bytes(200_000_000)}), "it.bompla")
    header["borrowed"] = {f"{n:032x}": audio for n in range(5_000)}
    opened = read_project(packed(**{PROJECT_ENTRY: json.dumps(header).encode()}), "it.bompla")
    assert opened.borrowed == {}, "what no document names is not decoded"


def test_every_export_holds_with_odd_names(demo: Any) -> None:
    odd = 'a\x01b\x7f "c" <d> & =e\n/f\\ \ufffe'
    document = replace(demo[0], title=odd)
    document = replace(document, pads=tuple(replace(pad, name=f"=sum({n}){odd}") for n, pad in enumerate(document.pads)))
    request = ExportRequest(document, demo[1], ExportOptions())
    for key in ("midi", "musicxml", "tab", "hits-csv", "hits-json", "feel", "slice", "single-hit", "sfz", "score-svg", "loop"):
        made = list(EXPORTS[key].make(request, none))
        assert made, key
        for one in made:
            assert not set(one.path) & set('\x01\x7f"<>=\n\\'), one.path
    rows = list(csv.DictReader(io.StringIO(next(iter(EXPORTS["hits-csv"].make(request, none))).content.decode())))
    assert all(not row["pad"].startswith(("=", "+", "-", "@")) for row in rows), "no cell is a formula"
    text = next(one for one in EXPORTS["sfz"].make(request, none) if one.path.endswith(".sfz")).content.decode()
    for line in text.splitlines():
        if line.startswith("sample="):
            assert line.count("=") == 1, "no part of a name reads as an opcode"
    assert file_name("..\x00 ") == "loop"


def test_preferences_are_nobody_elses(tmp_path: Path) -> None:
    store = PreferenceStore(tmp_path / "deep" / "preferences.json")
    store.set(theme="day")
    assert stat.S_IMODE(store.path.stat().st_mode) == 0o600
    store.path.chmod(0o644)
    store.set(theme="night")
    assert stat.S_IMODE(store.path.stat().st_mode) == 0o600
    store.add_recent(tmp_path / STRAY)
    assert store.value.recent_files == ()
    assert not store.problem
