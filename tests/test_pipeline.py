"""The command line in a pipeline: folders, many cores, pipes, a cluster, JSON that keeps its schemas; and as a program of the desktop."""

from __future__ import annotations

import io
import json
import os
import shutil
import subprocess
import sys
import xml.etree.ElementTree as ET
import zipfile
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from click.testing import CliRunner

from bompla.cli import cli
from bompla.cli.desktop import SHARE
from bompla.cli.running import files_of, in_order
from bompla.demo import DEMO_PROJECT, loop_paths
from bompla.formats.project import MEDIA_TYPE, open_project, project_bytes
from bompla.formats.schemas import OBJECTS, SCHEMA, schema_of

PROGRAM = [sys.executable, "-P", "-c", "from bompla.cli import main; main()"]
BY_NAME = {path.stem: path for path in loop_paths()}


def plain(line: dict[str, Any]) -> dict[str, Any]:
    """What is heard, without how long it took."""
    return {key: value for key, value in line.items() if key != "elapsed_s"}


def test_every_schema_is_one_and_carries_its_number() -> None:
    for name in OBJECTS:
        found = schema_of(name)
        jsonschema.Draft202012Validator.check_schema(found)
        assert f'"const": {SCHEMA}' in json.dumps(found)


def test_a_folder_on_two_cores_gives_what_one_gives_in_order(tmp_path: Path) -> None:
    folder = tmp_path / "loops"
    (folder / "more").mkdir(parents=True)
    for name in ("rough dub", "half-time pier"):
        shutil.copy(BY_NAME[name], folder / BY_NAME[name].name)
    shutil.copy(BY_NAME["slack tide 6-8"], folder / "more" / "slack.flac")
    (folder / "broken.wav").write_bytes(b"no sound")
    assert [path.name for path in files_of([folder])] == ["broken.wav", "half-time pier.flac", "slack.flac", "rough dub.flac"]
    done = subprocess.run([*PROGRAM, "analyse", "--json", "--jobs", "2", str(folder)], capture_output=True, text=True, check=False,
                          timeout=300)
    assert done.returncode == 1
    lines = [json.loads(line) for line in done.stdout.splitlines()]
    assert [Path(line["source"]["path"]).name for line in lines] == [path.name for path in files_of([folder])]
    assert "error" in lines[0]
    assert len(done.stderr.splitlines()) == 1, "no progress where nobody looks"
    for line in lines:
        jsonschema.validate(line, schema_of("analysis"))
    one = CliRunner().invoke(cli, ["analyse", "--json", str(folder / "half-time pier.flac")])
    assert plain(json.loads(one.stdout)) == plain(lines[1])


def test_a_process_that_is_ended_costs_only_its_own_file() -> None:
    answers = list(in_order(_answer_or_die, [1, 2, 3, 4, 5, 6], 2, lambda job: -job))
    assert answers == [10, 20, -3, 40, 50, 60]


def _answer_or_die(job: int) -> int:
    if job == 3:
        os._exit(9)
    return 10 * job


def test_standard_input_broken_pipes_and_no_colour() -> None:
    content = BY_NAME["rough dub"].read_bytes()
    done = subprocess.run([*PROGRAM, "analyse", "--json", "-"], input=content, capture_output=True, check=False, timeout=120,
                          env={**os.environ, "NO_COLOR": "1"})
    assert done.returncode == 0, done.stderr
    line = json.loads(done.stdout)
    assert line["source"]["path"] == "-"
    assert line["tempo"]["bpm"] == pytest.approx(92.4, rel=0.01)
    assert b"\x1b" not in done.stdout + done.stderr
    piped = subprocess.Popen([*PROGRAM, "analyse", "--json", str(BY_NAME["rough dub"]), str(BY_NAME["quay break"])], stdout=subprocess.PIPE,
                             stderr=subprocess.PIPE)
    assert piped.stdout is not None
    piped.stdout.close()
    assert piped.stderr is not None
    assert b"Traceback" not in piped.stderr.read()
    piped.stderr.close()
    assert piped.wait(120) != 0


def test_study_check_and_manifest_keep_their_schemas(tmp_path: Path) -> None:
    path = str(BY_NAME["gangway hats"])
    study = CliRunner().invoke(cli, ["study", path, "--json", "--against", str(DEMO_PROJECT)])
    jsonschema.validate(json.loads(study.stdout), schema_of("study"))
    checked = CliRunner().invoke(cli, ["check", "--json", path, str(tmp_path / "gone.wav")])
    for line in checked.stdout.splitlines():
        jsonschema.validate(json.loads(line), schema_of("check"))
    sent = CliRunner().invoke(cli, ["export", path, "--to", str(tmp_path), "--only", "midi,tab,hits-json"])
    assert sent.exit_code == 0, sent.output
    jsonschema.validate(json.loads((tmp_path / "gangway hats" / "manifest.json").read_text()), schema_of("manifest"))


def test_a_cluster_hears_what_one_machine_hears_and_survives_a_worker(tmp_path: Path) -> None:
    pytest.importorskip("distributed")
    script = tmp_path / "cluster.py"
    script.write_text(CLUSTER)
    files = [str(BY_NAME[name]) for name in ("rough dub", "half-time pier", "slack tide 6-8")]
    done = subprocess.run([sys.executable, "-P", str(script), *files], capture_output=True, text=True, check=False, timeout=280,
                          env={**os.environ, "DASK_DISTRIBUTED__WORKER__DAEMON": "False", "OMP_NUM_THREADS": "1"})
    assert done.returncode == 0, done.stderr[-2_000:]
    by_path, by_bytes, nowhere = json.loads(done.stdout.splitlines()[-1])
    alone = [plain(json.loads(CliRunner().invoke(cli, ["analyse", "--json", path]).stdout)) for path in files]
    assert [plain(line) for line in by_path] == alone
    assert [plain(line) for line in by_bytes] == alone
    assert "No Dask scheduler answers" in nowhere


CLUSTER = """
import json, sys, threading, time
from pathlib import Path

def main():
    from distributed import LocalCluster
    from bompla.cli.cluster import on_cluster
    from bompla.errors import BomplaError
    files = [Path(name) for name in sys.argv[1:]]
    with LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50) as cluster:
        def end_one():
            time.sleep(1.0)
            next(iter(cluster.workers.values())).process.process.kill()
        threading.Thread(target=end_one, daemon=True).start()
        by_path = list(on_cluster(files, cluster.scheduler_address, send_files=False))
        by_bytes = list(on_cluster(files, cluster.scheduler_address, send_files=True))
    try:
        list(on_cluster(files, "tcp://127.0.0.1:9", send_files=False))
        nowhere = ""
    except BomplaError as error:
        nowhere = str(error)
    print(json.dumps([by_path, by_bytes, nowhere]))

if __name__ == "__main__":
    main()
"""


def test_a_file_in_place_of_a_command_opens_the_window_with_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import bompla.app.main as starting

    opened: list[Path | None] = []
    monkeypatch.setattr(starting, "run", lambda **what: opened.append(what["file"]) or 0)
    for name in (str(BY_NAME["rough dub"]), str(tmp_path / "gone.bompla")):
        assert CliRunner().invoke(cli, [name]).exit_code == 0
    assert opened == [BY_NAME["rough dub"], tmp_path / "gone.bompla"]
    assert CliRunner().invoke(cli, ["polish"]).exit_code == 2


def test_the_desktop_gets_its_files_and_loses_them_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    assert CliRunner().invoke(cli, ["desktop", "install"]).exit_code == 0
    there = {str(path.relative_to(tmp_path)) for path in tmp_path.rglob("org.bompla.Bompla*")}
    assert {"applications/org.bompla.Bompla.desktop", "mime/packages/org.bompla.Bompla.xml",
            "metainfo/org.bompla.Bompla.metainfo.xml", "icons/hicolor/128x128/apps/org.bompla.Bompla.png"} <= there
    entry = (tmp_path / "applications" / "org.bompla.Bompla.desktop").read_text()
    assert "bompla\" %f" in entry.replace("Exec=", "\n")
    assert (tmp_path / "man" / "man1" / "bompla.1").is_file()
    assert CliRunner().invoke(cli, ["desktop", "remove"]).exit_code == 0
    assert not list(tmp_path.rglob("org.bompla.Bompla.*"))
    assert CliRunner().invoke(cli, ["desktop", "remove"]).output.strip() == "Nothing was installed."


@pytest.mark.parametrize(("program", "pattern", "arguments"), [
    ("desktop-file-validate", "*.desktop", []), ("appstreamcli", "*.metainfo.xml", ["validate", "--no-net", "--pedantic"]),
    ("xmllint", "*.xml", ["--noout"]), ("man", "bompla.1", ["--warnings", "-l"]),
])
def test_the_desktops_own_tools_find_nothing_wrong(program: str, pattern: str, arguments: list[str]) -> None:
    if shutil.which(program) is None:
        pytest.skip(f"needs {program}")
    for path in SHARE.rglob(pattern):
        done = subprocess.run([program, *arguments, str(path)], capture_output=True, text=True, check=False, timeout=60)
        errors = [line for line in done.stdout.splitlines() if line.startswith(("E:", "W:"))]  # for what is only noted it fails, too
        assert not errors, done.stdout
        assert program == "appstreamcli" or (done.returncode, done.stderr) == (0, ""), done.stdout + done.stderr


def test_a_project_tells_its_type_by_its_first_bytes() -> None:
    content = project_bytes(open_project(DEMO_PROJECT))
    assert content[:4] == b"PK\x03\x04"
    assert content[30 : 38 + len(MEDIA_TYPE)] == f"mimetype{MEDIA_TYPE}".encode()
    first = zipfile.ZipFile(io.BytesIO(content)).infolist()[0]
    assert (first.filename, first.compress_type) == ("mimetype", zipfile.ZIP_STORED)
    magic = ET.parse(  # noqa: S314  # our own file
        SHARE / "mime" / "packages" / "org.bompla.Bompla.xml").getroot()
    matches = [node.get("value") for node in magic.iter() if node.tag.endswith("match")]
    assert f"mimetype{MEDIA_TYPE}" in matches


def test_the_wheel_holds_all_that_ships_and_runs_by_itself(tmp_path: Path) -> None:
    """Built without the network, put into a folder of its own, and run from there."""
    root = Path(__file__).parents[1]
    built = subprocess.run([sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(tmp_path)], cwd=root, capture_output=True,
                           text=True, check=False, timeout=300)
    assert built.returncode == 0, built.stderr[-1_500:]
    (wheel,) = tmp_path.glob("*.whl")
    names = set(zipfile.ZipFile(wheel).namelist())
    data = {name.split("/data/", 1)[1] for name in names if "/data/" in name}
    assert {"share/applications/org.bompla.Bompla.desktop", "share/man/man1/bompla.1", "share/mime/packages/org.bompla.Bompla.xml"} <= data
    assert {"bompla/manual/groove.md", "bompla/screenshots/groove.png", "bompla/app/style.qss",
            "bompla/analysis/hearing/hearing.npz", "bompla/share/applications/org.bompla.Bompla.desktop"} <= names
    metadata = next(zipfile.ZipFile(wheel).read(name).decode() for name in names if name.endswith(".dist-info/METADATA"))
    assert "GPL-3.0-only" in metadata
    assert "python_version < \"3.13\"" in metadata.replace("'", '"')
    target = tmp_path / "alone"
    zipfile.ZipFile(wheel).extractall(target)
    code = (
        "import sys; sys.path.insert(0, sys.argv.pop(1)); import bompla; assert bompla.__file__.startswith(sys.path[0]); "
        "from bompla.app.help_view import manual_folder; assert manual_folder().name == 'manual' and 'alone' in str(manual_folder()); "
        "from bompla.cli import main; main()"
    )
    done = subprocess.run([sys.executable, "-P", "-c", code, str(target), "analyse", "--json", str(BY_NAME["rough dub"])],
                          capture_output=True, text=True, check=False, timeout=120, cwd=tmp_path)
    assert done.returncode == 0, done.stderr[-1_500:]
    jsonschema.validate(json.loads(done.stdout), schema_of("analysis"))
