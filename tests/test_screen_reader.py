"""What a screen reader is told, and what it can do: over the accessibility bus of a real window."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

NEEDED = ("dbus-run-session", "xvfb-run", "xdotool")
BUS = Path("/usr/libexec/at-spi-bus-launcher")
pytestmark = pytest.mark.skipif(
    not BUS.exists() or any(shutil.which(one) is None for one in NEEDED),
    reason="needs at-spi2-core, dbus, xvfb and xdotool")


def test_the_work_is_done_by_a_screen_reader(tmp_path: Path) -> None:
    """Every control has a name; pictures say what is at their cursor; sliders are set, hits drawn, taken back and read in a table."""
    told = tmp_path / "told.json"
    command = ["dbus-run-session", "--", "xvfb-run", "-a", sys.executable, str(Path(__file__).parent / "screen_reader.py"), str(told)]
    homes = {name: str(tmp_path) for name in ("XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR")}
    ran = subprocess.run(command, env={**os.environ, **homes}, capture_output=True, text=True, timeout=180, check=False)
    assert ran.returncode == 0, ran.stderr[-2_000:]
    found = json.loads(told.read_text())
    assert found["nameless"] == []
    second, third = "slice 2 of 45 at 1.1.50: kick", "slice 3 of 45 at 1.1.99: snare, closed hat"
    assert found["slices"] == [second, third, second]
    assert found["pad"].startswith("pad 5: Snare, D2, 1 slice")
    assert (found["level before"], found["level after"], found["level undone"]) == ("+0.0 dB", "-48.0 dB", "+0.0 dB")
    assert found["cursor"] == "Snare at 1.1.25: nothing"
    assert found["drawn"].startswith("Snare at 1.1.25: a hit of velocity ")
    assert found["hits"] == ["A · 70 hits", "A · 69 hits"]
    assert found["cells"][1:4] == ["place", "pad", "velocity"]
    assert found["cells"][7:10] == ["1.1.00", "Kick", "118"]
