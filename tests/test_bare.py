"""The wheel in a bare environment of each Python that is there, as a stranger installs it; only where `BOMPLA_BARE` is set, as CI does."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from bompla.demo import loop_paths

ROOT = Path(__file__).parents[1]
OLDEST, NEWEST = (3, 11), (3, 13)


def pythons() -> dict[str, Path]:
    """Return the Pythons of this machine that the wheel is for, one of each version."""
    folders = [*Path.home().glob(".pyenv/versions/*/bin"), *map(Path, os.environ.get("PATH", "").split(os.pathsep))]
    found: dict[str, Path] = {}
    for minor in range(OLDEST[1], NEWEST[1] + 1):
        name = f"{OLDEST[0]}.{minor}"
        for folder in folders:
            path = folder / f"python{name}"
            if name not in found and "shims" not in path.parts and os.access(path, os.X_OK):
                found[name] = path
    return found


PYTHONS = pythons() if os.environ.get("BOMPLA_BARE") else {}


def ran(*command: str | Path, **more: str) -> subprocess.CompletedProcess[str]:
    environment = {name: value for name, value in os.environ.items() if not name.startswith(("PYTHON", "VIRTUAL_ENV"))}
    return subprocess.run(command, capture_output=True, text=True, check=False, timeout=600, env={**environment, **more})


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The wheel, with the sdist beside it, from which it can be built again."""
    folder = tmp_path_factory.mktemp("built")
    done = subprocess.run([sys.executable, "-m", "hatchling", "build", "-d", str(folder)], cwd=ROOT, capture_output=True, text=True,
                          check=False, timeout=300)
    assert done.returncode == 0, done.stderr[-1_500:]
    assert len(list(folder.glob("*.tar.gz"))) == 1
    return next(folder.glob("*.whl"))


@pytest.mark.skipif(not PYTHONS, reason="only where BOMPLA_BARE is set: it installs everything anew, from the network")
@pytest.mark.parametrize("version", PYTHONS or [""])
def test_the_wheel_runs_in_a_bare_environment(version: str, built: Path, tmp_path: Path) -> None:
    made = ran(PYTHONS[version], "-m", "venv", tmp_path / "bare")
    if made.returncode != 0:
        pytest.skip(f"Python {version} here makes no environments: {made.stderr[-200:]}")
    bare = tmp_path / "bare" / "bin"
    installed = ran(bare / "python", "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-compile", built)
    assert installed.returncode == 0, installed.stderr[-1_500:]
    assert re.fullmatch(r"bompla, version [\d.]+\n", ran(bare / "bompla", "--version").stdout)
    heard = ran(bare / "bompla", "analyse", "--json", next(path for path in loop_paths() if path.stem == "rough dub"))
    assert heard.returncode == 0, heard.stderr[-1_500:]
    assert json.loads(heard.stdout)["schema"] >= 1
    shown = ran(bare / "bompla", "window", "--demo", "--offscreen", "--screenshot", tmp_path / "it.png",
                XDG_CONFIG_HOME=str(tmp_path / "config"), XDG_STATE_HOME=str(tmp_path / "state"))
    assert shown.returncode == 0, shown.stderr[-1_500:]
    assert (tmp_path / "it.png").stat().st_size > 20_000
    shutil.rmtree(tmp_path / "bare")
