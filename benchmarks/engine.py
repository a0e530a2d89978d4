"""What the engine costs: `python benchmarks/engine.py`. Voices, colour, a strike until it sounds, baking, kit making, coming back.

Costs of voices are shares of the time that a block of 256 frames lasts at 48 kHz, on one core.

`python benchmarks/engine.py --soak SECONDS --device NAME` plays 32 voices, with `--colour` through every
treatment, while a window repaints 60 times a second and an analysis runs over and over, and counts missed
blocks. With JACK's dummy driver: `jackd -R -d dummy -r 48000 -p 256`, device `system`.
"""

from __future__ import annotations

import argparse
import os
import signal
import statistics
import subprocess
import sys
import time
from functools import partial
from pathlib import Path

from bompla.render.bake import bake
from bompla.render.events import Baked, BakeRequest, sound_key, strike_gain

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ[name] = "1"

import msgspec
import numpy as np
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.demo import DEMO_PROJECT
from bompla.engine.choice import SoundChoice
from bompla.engine.colour import Rack
from bompla.engine.commands import Op, command
from bompla.engine.devices import SIMULATED_NAME
from bompla.engine.host import Engine
from bompla.engine.mixer import MixerState, apply, render
from bompla.formats.project import open_project
from bompla.groove.rebuild import made_kit
from bompla.model.colour import TREATMENTS, set_colour
from bompla.model.document import Colour, Document, Hit, Pad, Treatment, Variation
from bompla.model.kit_edits import set_shape
from bompla.model.shape import Shape

RATE, BLOCK = 48_000, 256


def voices(count: int) -> float:
    """Return the middle share of a block that so many voices take."""
    rng = np.random.default_rng(1)
    pool = (0.01 * rng.standard_normal((RATE * 20, 2))).astype(np.float32)
    state = MixerState(pool)
    for n in range(count):
        apply(state, command(Op.STRIKE, offset=n * 1000, length=RATE * 15, pad=n, gain=0.5))
    render(state, BLOCK)
    spent = []
    for _ in range(400):
        began = time.perf_counter()
        render(state, BLOCK)
        spent.append(time.perf_counter() - began)
    return statistics.median(spent) / (BLOCK / RATE)


def colour() -> float:
    """Return the middle share of a block that every treatment at once takes on one bus."""
    rack = Rack(RATE)
    rack.set({"on": True, "dry": 0.2, "beat_s": 0.5, "chain": [(kind, facts.usual) for kind, facts in TREATMENTS.items()]})
    rng = np.random.default_rng(1)
    sound = (0.2 * rng.standard_normal((BLOCK, 2))).astype(np.float32)
    spent = []
    for _ in range(400):
        began = time.perf_counter()
        rack.process(sound, sound, sound, sound)
        spent.append(time.perf_counter() - began)
    return statistics.median(spent) / (BLOCK / RATE)


BARE = """
import os, sys, time
try:
    os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
except OSError:
    pass
period, late, worst = float(sys.argv[1]), 0, 0.0
due = time.monotonic()
end = due + float(sys.argv[2])
while due < end:
    due += period
    time.sleep(max(0.0, due - time.monotonic()))
    over = time.monotonic() - due
    late += over > period
    worst = max(worst, over)
print(late, worst)
"""
"""A process that does nothing but wake once a block, at the engine's priority: what it misses the machine took away."""


def stolen_s() -> float:
    """Return how many seconds the host has taken from this machine's processors, where it says so."""
    words = Path("/proc/stat").read_text().splitlines()[0].split()
    return int(words[8]) / os.sysconf("SC_CLK_TCK") if len(words) > 8 else 0.0


def soak(seconds: float, device: str, *, coloured: bool) -> None:
    """Play, repaint and analyse at once, and count what was missed."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from bompla.app.main import make_application, make_window, open_demo, when_settled

    application = make_application()
    window = make_window(device=device)
    window.show()
    window.playback.start()
    open_demo(window)
    done: list[bool] = []
    when_settled(window, lambda: done.append(True))
    while not done:
        application.processEvents()
    session, playback = window.session, window.playback
    session.store.edit("rattle", partial(_busy, coloured=coloured))
    playback.balance.set_blend(1.0)
    window.go_to(3)
    while playback.busy:
        application.processEvents()
    engine, clip = playback.engine, session.project.clip
    playback.transport.play()
    frames = analyses = most = 0
    asked = False
    stolen = stolen_s()
    bare = subprocess.Popen([sys.executable, "-c", BARE, str(BLOCK / RATE), str(seconds)], stdout=subprocess.PIPE, text=True)
    began = due = time.perf_counter()
    before = engine.state.underruns

    def analysed(_: object) -> None:
        nonlocal analyses, asked
        analyses, asked = analyses + 1, False

    while time.perf_counter() - began < seconds:
        if not asked:
            asked = True
            session.requests.analysis.ask("pictures", clip, done=analysed, failed=print)
        window.groove.lanes.redraw() if frames % 30 == 0 else window.groove.lanes.update()
        application.processEvents()
        most = max(most, engine.state.voices)
        frames += 1
        due += 1.0 / 60.0
        time.sleep(max(0.0, due - time.perf_counter()))
    state = engine.state
    print(f"{state.device}, {seconds:.0f} s: {state.underruns - before} missed blocks, {frames / seconds:.0f} frames a second, "
          f"{analyses} analyses, up to {most} voices, slowest block {1000 * state.worst_s:.2f} of {1000 * BLOCK / RATE:.2f} ms")
    late, worst = bare.communicate()[0].split()
    print(f"beside it, a process that only wakes once a block: {late} blocks late, the worst by {1000 * float(worst):.1f} ms; "
          f"{stolen_s() - stolen:.1f} s of processor taken by the host")
    window.shut()


def _busy(document: Document, *, coloured: bool) -> Document:
    """Return a document with every treatment on, if wanted, and a pattern of 32nds on every pad, all ringing into one another."""
    document = set_colour(document, Colour(coloured, chain=tuple(Treatment(kind, True, facts.usual) for kind, facts in TREATMENTS.items())))
    pads = tuple(Pad(9_000 + n, n, "perc", f"pad {n}", 36 + n, -24.0, document.pads[n % len(document.pads)].layers[-1:]) for n in range(32))
    hits = tuple(Hit(50_000 + 32 * step + n, pad.id, step / 4.0 + n / 128.0, 90) for step in range(4 * document.loop.length_beats)
                 for n, pad in enumerate(pads))
    inside = tuple(hit for hit in hits if hit.at_beats < document.loop.length_beats)
    return msgspec.structs.replace(document, pads=pads, variations=(Variation("A", "rattle", inside),))


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--soak", type=float, default=0.0)
    parser.add_argument("--device", default=SIMULATED_NAME)
    parser.add_argument("--colour", action="store_true", help="with every treatment on")
    chosen = parser.parse_args()
    if chosen.soak:
        soak(chosen.soak, chosen.device, coloured=chosen.colour)
        return
    for count in (16, 32, 64, 128):
        print(f"{count:>4} voices: {100 * voices(count):5.1f} % of a block")
    print(f"every treatment at once: {100 * colour():5.1f} % of a block")
    document, clip = open_project(DEMO_PROJECT).sources[0]
    began = time.perf_counter()
    baked = bake(BakeRequest(document, clip, RATE))
    print(f"baking the demo's kit and loop: {1000 * (time.perf_counter() - began):.0f} ms")
    pad = document.pads[0]
    spent = []
    for n in range(12):
        shaped = set_shape(document, pad.id, Shape(tune=-3.0 + 0.5 * n, filter="low", cutoff_hz=3_000.0))
        began = time.perf_counter()
        bake(BakeRequest(shaped, clip, RATE, before=baked))
        spent.append(time.perf_counter() - began)
    print(f"baking one pad anew: {1000 * statistics.median(spent):.1f} ms")
    sixty = [cut for _ in range(2) for cut in document.cuts][:60]
    sixty = [replace(cut, id=n, at_sample=cut.at_sample + n) for n, cut in enumerate(sixty)]
    began = time.perf_counter()
    made_kit(replace(document, cuts=tuple(sorted(sixty, key=lambda cut: cut.at_sample))), 1_000)
    print(f"making a kit of {len(sixty)} slices: {1000 * (time.perf_counter() - began):.1f} ms")
    speak_and_come_back(document, clip, baked)


def speak_and_come_back(document: Document, clip: Clip, baked: Baked) -> None:
    """Measure a strike until its block is rendered, and how long the engine is gone when its process is killed."""
    pad = document.pads[0]
    engine = Engine(SoundChoice(device=SIMULATED_NAME))
    engine.start()
    while not engine.state.ready:
        time.sleep(0.01)
    engine.show(baked)
    layer = pad.layers[-1]
    key, gain = sound_key(document, pad, layer, clip), strike_gain(pad, layer, 110)
    time.sleep(0.3)
    spent = []
    for _ in range(20):
        began = time.perf_counter()
        engine.strike(key, pad=pad.id, choke=0, gain=gain)
        while not engine.played() and time.perf_counter() - began < 1.0:
            time.sleep(0.0002)
        spent.append(time.perf_counter() - began)
        time.sleep(0.05)
    print(f"strike until its block is rendered: {1000 * statistics.median(spent):.1f} ms, at most {1000 * max(spent):.1f} ms")
    engine.play()
    time.sleep(0.5)
    os.kill(engine.process.pid, signal.SIGKILL)
    began = time.perf_counter()
    while not (engine.state.ready and engine.state.playing and engine.process.pid and time.perf_counter() - began > 0.1):
        engine.watch()
        time.sleep(0.02)
    print(f"killed, and playing again after {time.perf_counter() - began:.2f} s")
    engine.shut()


if __name__ == "__main__":
    main()
