"""What becomes of broken files: `python benchmarks/faults.py [--each N] [--first SEED] [--kinds KIND ...] [--kills N] [--engine N]`.

Sounds of every format, projects and MIDI files have bytes changed, cut out and added, and projects also any number of any field; they
are opened by processes that may use 1 GB beside their libraries, and each takes at most 20 s. A result or a sentence is right; a traceback,
a hang or more memory is not. With `--kills` a window that edits is killed at random moments, and what is left is looked at; with
`--engine` the audio process is, while it plays.
"""

from __future__ import annotations

import argparse
import io
import json
import os
import random
import resource
import signal
import subprocess
import sys
import tempfile
import time
import zipfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
import soundfile

from bompla.demo import DEMO_PROJECT
from bompla.engine.choice import SoundChoice
from bompla.engine.devices import SIMULATED_NAME
from bompla.engine.host import Engine
from bompla.formats.journal import left_behind, recovered
from bompla.formats.midi import midi_bytes
from bompla.formats.project import PROJECT_ENTRY, open_project
from bompla.render.bake import bake
from bompla.render.events import BakeRequest

MOST_BYTES, MOST_S = 2_500_000_000, 20.0
"""Address space, of which the libraries take 1.5 GB before anything is read; and how long one file may take."""

TOGETHER = 25
EXTREMES = (0, -1, 1e308, -1e308, 1e-300, 10**9, 2**62, "x", None, [])
READS_MIDI = """
import sys
from pathlib import Path
from bompla.errors import BomplaError
from bompla.formats.midi_read import read_midi_notes
try:
    read_midi_notes(Path(sys.argv[1]))
except BomplaError:
    sys.exit(1)
"""
EDITING = """
import sys, time
from bompla.app.main import make_application, make_window, open_demo, _end_on_signals
from bompla.model.pattern_edits import add_hit
from PyQt6.QtCore import QTimer
application = make_application()
window = make_window(device="simulated device")
_end_on_signals(window, application)
open_demo(window)
window.show()
window.playback.start()
count = [0]
def edit():
    count[0] += 1
    window.session.store.edit("draw", lambda d: add_hit(d, d.pads[0].id, round(0.011 + 0.01 * count[0], 4)))
    print(count[0], time.time(), flush=True)
timer = QTimer()
timer.timeout.connect(edit)
timer.start(100)
sys.exit(application.exec())
"""


def whole_files() -> dict[str, bytes]:
    """Return a good file of each kind."""
    sound = 0.3 * np.random.default_rng(1).standard_normal((22_050, 2))
    made = {}
    kinds = (("wav", "WAV", "PCM_16"), ("flac", "FLAC", "PCM_24"), ("aiff", "AIFF", "PCM_24"), ("ogg", "OGG", "VORBIS"),
             ("mp3", "MP3", "MPEG_LAYER_III"), ("w64", "W64", "PCM_16"), ("rf64", "RF64", "FLOAT"))
    for name, container, subtype in kinds:
        target = io.BytesIO()
        soundfile.write(target, sound, 44_100, format=container, subtype=subtype)
        made[name] = target.getvalue()
    made["bompla"] = DEMO_PROJECT.read_bytes()
    made["mid"] = midi_bytes(open_project(DEMO_PROJECT).sources[0][0])
    return made


def damaged(content: bytes, rng: random.Random) -> bytes:
    made = bytearray(content)
    for _ in range(rng.choice((1, 2, 8, 64))):
        at = rng.randrange(max(1, min(len(made), rng.choice((64, 4_096, len(made))))))
        kind = rng.randrange(4)
        if kind == 0:
            made[at] = rng.randrange(256)
        elif kind == 1:
            del made[at : at + rng.randrange(1, 2_000)]
        elif kind == 2:
            made[at:at] = rng.randbytes(rng.randrange(1, 200))
        else:
            made[at : at + 4] = rng.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff"))
        if not made:
            made = bytearray(b"\0")
    return bytes(made)


def with_a_field(content: bytes, rng: random.Random) -> bytes:
    """Return a project in which one value somewhere is another."""
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    header = json.loads(parts[PROJECT_ENTRY])
    inner, place = header, None
    while isinstance(inner, dict | list) and inner:
        outer, place = inner, rng.choice(list(inner)) if isinstance(inner, dict) else rng.randrange(len(inner))
        inner = inner[place]
    outer[place] = rng.choice(EXTREMES)
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w") as archive:
        for name, part in {**parts, PROJECT_ENTRY: json.dumps(header).encode()}.items():
            archive.writestr(name, part)
    return target.getvalue()


def tried(task: tuple[str, range]) -> Counter[tuple[str, str]]:
    """Return what became of damaged files of a kind: together in one process, and one by one where that did not end well."""
    kind, seeds = task
    with tempfile.TemporaryDirectory() as folder:
        paths = []
        for seed in seeds:
            rng = random.Random(seed)
            content = WHOLE["bompla" if kind == "fields" else kind]
            made = with_a_field(content, rng) if kind == "fields" else damaged(content, rng)
            paths.append(Path(folder) / f"{seed}.{'bompla' if kind == 'fields' else kind}")
            paths[-1].write_bytes(made)
        said = checked_together(kind, paths)
        if len(said) != len(paths):
            said = [alone(kind, path) for path in paths]
            for path, one in zip(paths, said, strict=True):
                if one not in ("result", "sentence"):
                    print(f"{path.name}: {one}", flush=True)
    return Counter((kind, one) for one in said)


def checked_together(kind: str, paths: list[Path]) -> list[str]:
    """Return what is said of each file, fewer where the process that looks at all of them goes wrong."""
    if kind == "mid":
        return []
    try:
        ran = limited([sys.executable, "-P", "-c", "from bompla.cli import main; main()", "check", "--json", *map(str, paths)],
                      MOST_S + len(paths))
    except subprocess.TimeoutExpired:
        return []
    if b"Traceback" in ran.stderr or ran.returncode not in (0, 1):
        return []
    return ["result" if json.loads(line)["ok"] else "sentence" for line in ran.stdout.splitlines()]


def alone(kind: str, path: Path) -> str:
    """Return what becomes of one file."""
    code = "from bompla.cli import main; main()"
    command = [sys.executable, "-P", "-c", *([READS_MIDI] if kind == "mid" else [code, "check"]), str(path)]
    try:
        ran = limited(command, MOST_S)
    except subprocess.TimeoutExpired:
        return "hang"
    if b"Traceback" in ran.stderr or ran.returncode not in (0, 1):
        return "traceback" if b"MemoryError" not in ran.stderr else "memory"
    return "result" if ran.returncode == 0 else "sentence"


def limited(command: list[str], seconds: float) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run(command, capture_output=True, timeout=seconds, check=False,
                          preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (MOST_BYTES, MOST_BYTES)))


WHOLE = whole_files()


def kills(count: int) -> None:
    rng = random.Random(3)
    lost, worst = 0, 0.0
    for number in range(count):
        with tempfile.TemporaryDirectory() as folder:
            process = subprocess.Popen([sys.executable, "-P", "-c", EDITING], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
                                       env={**os.environ, "XDG_STATE_HOME": folder, "QT_QPA_PLATFORM": "offscreen"})
            if process.stdout is None:
                continue
            times = [float(process.stdout.readline().split()[1])]
            until = time.time() + rng.uniform(0.2, 4.0)
            while time.time() < until:
                times.append(float(process.stdout.readline().split()[1]))
            process.send_signal(signal.SIGKILL if number % 2 else signal.SIGTERM)
            killed = time.time()
            process.wait(20)
            process.stdout.close()
            left = left_behind(Path(folder) / "bompla" / "journal")
            kept = left[0].edits if left and recovered(left[0]) else 0
            gone = times[kept:] if kept < len(times) else []
            worst = max(worst, killed - min(gone)) if gone else worst
            lost += bool(gone) and killed - min(gone) > 5.0
    print(f"{count} kills: {lost} with an edit older than 5 s lost; the oldest edit lost was {worst:.2f} s old")


def engine_kills(count: int) -> None:
    """Kill the audio process while it plays, each time once it has played for a while, and time how long nothing plays."""
    document, clip = open_project(DEMO_PROJECT).sources[0]
    engine, waits, rng = Engine(SoundChoice(device=SIMULATED_NAME)), [], random.Random(5)
    engine.start()
    engine.show(bake(BakeRequest(document, clip, engine.sample_rate)))
    engine.play()
    for _ in range(count):
        until = time.monotonic() + rng.uniform(10.5, 12.0)
        while time.monotonic() < until:
            engine.watch()
            time.sleep(0.1)
        gone = engine.process.pid
        os.kill(gone, signal.SIGKILL)
        killed = time.monotonic()
        while engine.process.pid == gone or not (engine.state.ready and engine.state.playing and engine.state.rendered_frames > 0):
            engine.watch()
            time.sleep(0.01)
        waits.append(time.monotonic() - killed)
    engine.close()
    print(f"{count} kills of the audio process: it played again after {np.median(waits):.2f} s, at most {max(waits):.2f} s")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--each", type=int, default=50)
    parser.add_argument("--kills", type=int, default=0)
    parser.add_argument("--engine", type=int, default=0)
    parser.add_argument("--first", type=int, default=0, help="the first seed")
    parser.add_argument("--kinds", nargs="*", default=[*WHOLE, "fields"])
    chosen = parser.parse_args()
    kinds = chosen.kinds
    with ProcessPoolExecutor() as pool:
        tasks = [(kind, range(first, min(first + TOGETHER, chosen.first + chosen.each)))
                 for first in range(chosen.first, chosen.first + chosen.each, TOGETHER) for kind in kinds]
        found: Counter[tuple[str, str]] = sum(pool.map(tried, tasks), Counter())
    if found:
        told(found, kinds)
    if chosen.kills:
        kills(chosen.kills)
    if chosen.engine:
        engine_kills(chosen.engine)


def told(found: Counter[tuple[str, str]], kinds: list[str]) -> None:
    print(f"{'':>8}{'result':>9}{'sentence':>10}{'traceback':>11}{'hang':>6}{'memory':>8}")
    for kind in kinds:
        print(f"{kind:>8}{found[kind, 'result']:>9}{found[kind, 'sentence']:>10}{found[kind, 'traceback']:>11}{found[kind, 'hang']:>6}"
              f"{found[kind, 'memory']:>8}")


if __name__ == "__main__":
    main()
