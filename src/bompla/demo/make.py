"""Make the demo loops: `python -m bompla.demo.make [FOLDER]` writes them and their truths.

`python -m bompla.demo.project` then makes the demo project from the first of them.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.signal import fftconvolve

from bompla.audio.clip import Clip
from bompla.audio.files import encode_clip
from bompla.demo.patterns import GROOVES, Groove, Played, perform
from bompla.demo.synth import PANS, DrumKit, draw_kit, strike
from bompla.errors import SoundFileError
from bompla.files import write_atomically
from bompla.model.drums import METERS

SAMPLE_RATE = 44_100
CHOKES = {"hat_closed", "hat_pedal"}
PEAK = 0.89


def render_groove(groove: Groove, *, width: float = 0.6) -> Clip:
    """Return a groove as stereo sound, on a kit drawn from `width` of the range of kits.

    Without a lead-in and a tail the clip is a loop: what rings on at its end is heard at its
    start, as in a loop cut out of a longer take.
    """
    rng = np.random.default_rng(groove.seed + 1000)
    kit = draw_kit(np.random.default_rng(groove.seed + 2000), SAMPLE_RATE, width=width)
    hits = perform(groove)
    trimmed = groove.lead_in_s == 0.0 and groove.tail_s == 0.0
    frames = round(groove.duration_s * SAMPLE_RATE)
    mix = _played(hits, kit, rng, frames + 4 * SAMPLE_RATE)
    mix = mix + 0.5 * _room(mix, rng)
    if trimmed:
        loop = mix[:frames].copy()
        rest = mix[frames : 2 * frames]
        loop[: len(rest)] += rest
        mix = loop
    else:
        lead = round(groove.lead_in_s * SAMPLE_RATE)
        length = lead + frames + round(groove.tail_s * SAMPLE_RATE)
        mix = np.concatenate([np.zeros((lead, 2)), mix])[:length]
        fade = np.linspace(1.0, 0.0, SAMPLE_RATE // 2)[:, np.newaxis]
        mix[-len(fade) :] *= fade
        mix += 0.0006 * rng.standard_normal(mix.shape)
    if groove.hot:
        flat = np.clip(groove.hot * mix / np.abs(mix).max(), -1.0, 1.0) * 32_766.0 / 32_768.0
        return Clip(flat.astype(np.float32), SAMPLE_RATE)
    mix = np.tanh(1.15 * mix / np.abs(mix).max())
    return Clip((PEAK * mix / np.abs(mix).max()).astype(np.float32), SAMPLE_RATE)


def truth_of(groove: Groove) -> dict[str, Any]:
    """Return what is true of a groove's recording: tempo, region and hits, times in the file."""
    lead = groove.lead_in_s
    return {
        "bpm": groove.bpm,
        "meter": groove.meter,
        "region": {
            "start_s": lead,
            "end_s": round(lead + groove.duration_s, 6),
            "bars": groove.bars,
            "beats_per_bar": METERS[groove.meter].beats_per_bar,
        },
        "hits": [
            {
                "time_s": round(lead + round(hit.time_s * SAMPLE_RATE) / SAMPLE_RATE, 6),
                "beat": round(hit.beat, 6),
                "drum": hit.drum,
                "velocity": hit.velocity,
            }
            for hit in perform(groove)
        ],
    }


def _played(hits: tuple[Played, ...], kit: DrumKit, rng: np.random.Generator, frames: int) -> NDArray[np.float64]:
    mix = np.zeros((frames, 2))
    chokes = [hit.time_s for hit in hits if hit.drum in CHOKES]
    for hit in hits:
        sound = strike(kit, hit.drum, hit.velocity, rng)
        if hit.drum == "hat_open":
            after = [time for time in chokes if time > hit.time_s + 0.02]
            sound = _choked(sound, min(after) - hit.time_s) if after else sound
        start = round(hit.time_s * SAMPLE_RATE)
        sound = sound[: frames - start]
        angle = (PANS.get(hit.drum, 0.0) * 0.6 + 1.0) * np.pi / 4.0
        mix[start : start + len(sound), 0] += np.cos(angle) * 1.414 * sound
        mix[start : start + len(sound), 1] += np.sin(angle) * 1.414 * sound
    return mix


def _choked(sound: NDArray[np.float64], after_s: float) -> NDArray[np.float64]:
    t = np.arange(len(sound)) / SAMPLE_RATE
    return np.asarray(sound * np.exp(-np.maximum(t - after_s, 0.0) / 0.008))


def _room(mix: NDArray[np.float64], rng: np.random.Generator) -> NDArray[np.float64]:
    """Return what a small room answers: a few early echoes, then a short dense tail."""
    frames = int(0.38 * SAMPLE_RATE)
    t = np.arange(frames) / SAMPLE_RATE
    answer = rng.standard_normal((frames, 2)) * np.exp(-t / 0.075)[:, np.newaxis] * 0.02
    answer[: int(0.012 * SAMPLE_RATE)] *= 0.1
    for at_ms, gain in ((6.1, 0.22), (9.7, 0.17), (14.3, 0.14), (21.9, 0.1), (31.0, 0.07)):
        for channel in (0, 1):
            answer[int((at_ms + rng.uniform(-0.8, 0.8)) * SAMPLE_RATE / 1000.0), channel] += gain
    wet = fftconvolve(mix, answer, axes=0)[: len(mix)]
    return np.asarray(wet)


def write_set(folder: Path) -> list[Path]:
    """Write every loop as FLAC with its truth as JSON beside it, and return the sound files."""
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    for groove in GROOVES:
        path = folder / f"{groove.title}.flac"
        write_atomically(path, encode_clip(render_groove(groove), subtype="PCM_16"), SoundFileError)
        truth = json.dumps(truth_of(groove), indent=1).encode()
        write_atomically(path.with_suffix(".json"), truth + b"\n", SoundFileError)
        written.append(path)
    return written


if __name__ == "__main__":
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent / "loops"
    for made in write_set(target):
        print(made.name)
