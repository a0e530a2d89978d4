"""The command line as other programs meet it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import jsonschema
import mido
import pytest
from click.testing import CliRunner, Result

from bompla.cli import cli
from bompla.demo import loop_paths
from bompla.formats.schemas import schema_of
from bompla.model.drums import DRUMS


def run(*arguments: object) -> Result:
    return CliRunner().invoke(cli, [str(a) for a in arguments])


def test_analyse_prints_one_object_that_keeps_its_contract() -> None:
    path = next(p for p in loop_paths() if p.stem == "rehearsal tape")
    result = run("analyse", path, "--json")
    assert result.exit_code == 0
    assert result.stderr == ""
    found: dict[str, Any] = json.loads(result.stdout)
    jsonschema.validate(found, schema_of("analysis"))
    region = found["region"]
    beats = region["bars"] * region["beats_per_bar"]
    assert found["tempo"]["bpm"] == pytest.approx(60 * beats / (region["end_s"] - region["start_s"]), rel=1e-3)
    assert all(region["start_s"] - 0.01 <= cut["time_s"] < region["end_s"] for cut in found["cuts"])
    first = found["hits"][0]
    assert first["beat"] == pytest.approx((first["time_s"] - found["downbeat_s"]) * found["tempo"]["bpm"] / 60, abs=0.01)


def test_several_files_give_a_line_each_and_a_bad_one_does_not_stop_the_rest(tmp_path: Path) -> None:
    bad = tmp_path / "bad.wav"
    bad.write_bytes(b"not a sound")
    result = run("analyse", "--json", bad, loop_paths()[0], tmp_path / "gone.wav")
    lines = [json.loads(line) for line in result.stdout.splitlines()]
    assert result.exit_code == 1
    assert lines[0]["source"] == {"path": str(bad)}
    for line in lines:
        jsonschema.validate(line, schema_of("analysis"))
    assert "error" in lines[0]
    assert lines[1]["tempo"]["bpm"] > 0
    assert "no file" in lines[2]["error"]
    assert len(result.stderr.splitlines()) == 2


def test_words_for_people_say_the_same() -> None:
    result = run("analyse", loop_paths()[0])
    assert result.exit_code == 0
    assert "96.02 BPM" in result.stdout
    assert "4 bars of 4/4" in result.stdout


@pytest.mark.parametrize("quantise", [False, True])
def test_rebuild_writes_general_midi(tmp_path: Path, quantise: bool) -> None:
    target = tmp_path / "it.mid"
    result = run("rebuild", loop_paths()[0], "--midi", target, *(["--quantise"] if quantise else []))
    assert result.exit_code == 0, result.output
    file = mido.MidiFile(target)
    assert (file.type, file.ticks_per_beat) == (1, 960)
    notes: list[tuple[int, int]] = []
    for track in file.tracks:
        tick = 0
        for message in track:
            tick += message.time
            if message.type == "note_on":
                notes.append((tick, message.note))
                assert message.channel == 9
    assert {note for _, note in notes} <= {drum.note for drum in DRUMS.values()}
    assert all(tick % 240 == 0 or tick % 320 == 0 for tick, _ in notes) == quantise


@pytest.mark.parametrize(
    ("arguments", "status", "words"),
    [
        (["analyse", "/nowhere/x.wav"], 1, "There is no file"),
        (["rebuild", "/nowhere/x.wav", "--midi", "x.mid"], 1, "There is no file"),
        (["rebuild", str(loop_paths()[0]), "--midi", "/nowhere/x.mid"], 1, "does not exist"),
        (["rebuild", str(loop_paths()[0])], 2, "--midi"),
        (["analyse"], 2, "FILE"),
        (["polish"], 2, "No such command"),
    ],
)
def test_errors_are_one_sentence_and_a_status(arguments: list[str], status: int, words: str) -> None:
    result = run(*arguments)
    assert result.exit_code == status
    assert words in result.stderr
    assert result.stdout == ""
    assert status == 2 or len(result.stderr.strip().splitlines()) == 1


@pytest.mark.parametrize("command", ["analyse", "rebuild", "window"])
def test_every_command_explains_itself(command: str) -> None:
    assert command in run("--help").stdout
    text = run(command, "--help").stdout
    assert text.startswith("Usage")
    assert len(text.splitlines()) > 4


def test_without_a_display_the_window_says_so() -> None:
    environment = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    command = [sys.executable, "-P", "-c", "from bompla.cli import main; main()", "window", "--demo"]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 2
    assert "no display" in done.stderr
    assert "--offscreen" in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1


def test_a_picture_of_the_demo_is_written(tmp_path: Path) -> None:
    target = tmp_path / "it.png"
    done = subprocess.run(
        [sys.executable, "-P", "-c", "from bompla.cli import main; main()", "window", "--demo", "--offscreen", "--screenshot", str(target)],
        capture_output=True, text=True, timeout=60, check=False,
    )
    assert done.returncode == 0, done.stderr
    assert target.read_bytes().startswith(b"\x89PNG")
    assert "Traceback" not in done.stderr
