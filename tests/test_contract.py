"""The layers: kept, and seen to be broken when they are; and the core without Qt."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]

PLANTED = {
    "model/drums.py": "import bompla.app.theme",
    "analysis/params.py": "import bompla.engine.mixer",
    "groove/grid.py": "import PyQt6.QtCore",
    "render/events.py": "import qtpy",
    "audio/clip.py": "import bompla.model.document",
    "engine/mixer.py": "import scipy.signal",
    "app/kit/stage.py": "import bompla.app.slice.stage",
    "app/ui/controls.py": "import bompla.app.project.session",
    "app/project/session.py": "import bompla.app.sound.playback",
}


def lint(folder: Path) -> subprocess.CompletedProcess[str]:
    command = "import sys; from importlinter.cli import lint_imports_command as c; c()"
    return subprocess.run(
        [sys.executable, "-c", command, "--no-cache"], cwd=folder, env={**os.environ, "PYTHONPATH": str(folder / "src")},
        capture_output=True, text=True, check=False,
    )


@pytest.fixture
def copy(tmp_path: Path) -> Path:
    shutil.copytree(ROOT / "src", tmp_path / "src", ignore=shutil.ignore_patterns("loops", "fonts", "__pycache__", "*.bompla"))
    shutil.copy(ROOT / "pyproject.toml", tmp_path)
    return tmp_path


def test_the_layers_are_kept(copy: Path) -> None:
    done = lint(copy)
    assert done.returncode == 0, done.stdout


@pytest.mark.parametrize("module", sorted(PLANTED))
def test_a_planted_import_is_seen(copy: Path, module: str) -> None:
    path = copy / "src" / "bompla" / module
    first = "from __future__ import annotations\n"
    path.write_text(path.read_text().replace(first, f"{first}{PLANTED[module]}\n", 1))
    done = lint(copy)
    assert done.returncode != 0
    assert "BROKEN" in done.stdout


def test_the_core_works_with_qt_absent() -> None:
    code = """
import sys
class Absent:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0].startswith(("PyQt", "PySide", "shiboken", "sip")):
            raise ModuleNotFoundError(name)
sys.meta_path.insert(0, Absent())
from click.testing import CliRunner
from bompla.cli import cli
from bompla.demo import loop_paths
result = CliRunner().invoke(cli, ["analyse", "--json", str(loop_paths()[0])])
assert result.exit_code == 0, result.output
result = CliRunner().invoke(cli, ["window", "--demo"])
assert result.exit_code == 1 and "needs PyQt6" in result.stderr, result.output
import bompla.engine.host, bompla.engine.bounce, bompla.formats.project
print("well")
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.stdout.strip() == "well", done.stderr
