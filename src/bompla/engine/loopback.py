"""How late a device is, through a cable from its output to its input: `python -m bompla.engine.loopback DEVICE RATE BLOCK`.

Prints JSON: `late_s`, from the sample that is played to the sample that comes in, or `problem`, a sentence.
"""

from __future__ import annotations

import json
import sys

import numpy as np
from numpy.typing import NDArray

from bompla.engine.devices import SystemDevice

TIMES, GAP_S, LONGEST_S = 5, 0.5, 0.45
BURST_S = 0.02
CLEAR = 8.0
"""How far the greatest likeness must stand above the usual one."""

AGREE_S, ENOUGH = 0.002, 3
"""How near so many bursts must agree: a device that runs dry for a moment moves what follows."""


def burst(sample_rate: int) -> NDArray[np.float32]:
    """Return what is played, shape (frames,): a sweep, whose likeness to itself has one sharp peak (Farina 2000)."""
    t = np.arange(round(BURST_S * sample_rate)) / sample_rate
    low, high = 400.0, 6_000.0
    rise = np.log(high / low) / BURST_S
    sweep = np.sin(2.0 * np.pi * low / rise * (np.exp(rise * t) - 1.0))
    return np.asarray(0.5 * sweep * np.hanning(len(t)), np.float32)


def bursts(sample_rate: int) -> NDArray[np.float32]:
    """Return the bursts with their gaps, shape (frames,)."""
    gap = round(GAP_S * sample_rate)
    sound = np.zeros(gap * (TIMES + 1), np.float32)
    one = burst(sample_rate)
    for n in range(TIMES):
        sound[n * gap : n * gap + len(one)] = one
    return sound


def late_of(recorded: NDArray[np.float32], sample_rate: int) -> float | None:
    """Return how late a recording of the bursts is, in seconds; None where fewer than three came back as late as each other."""
    gap, one, longest = (round(s * sample_rate) for s in (GAP_S, BURST_S, LONGEST_S))
    known = burst(sample_rate)
    found = []
    for n in range(TIMES):
        part = recorded[n * gap : n * gap + longest + one]
        if len(part) < len(known):
            break
        likeness = np.abs(np.correlate(part, known, "valid"))
        at = int(np.argmax(likeness))
        if likeness[at] >= CLEAR * max(float(np.median(likeness)), 1e-4):
            found.append(at / sample_rate)
    agreeing = max(([other for other in found if abs(other - one) < AGREE_S] for one in found), key=len, default=[])
    return float(np.median(agreeing)) if len(agreeing) >= ENOUGH else None


def measured(device: str, sample_rate: int, block_frames: int) -> dict[str, object]:
    """Play the test sound and listen to it; return what is printed."""
    try:
        import sounddevice
    except (ImportError, OSError):
        return {"problem": "The PortAudio library is not installed."}
    sound = bursts(sample_rate)
    try:
        heard = sounddevice.playrec(
            np.repeat(sound[:, np.newaxis], 2, axis=1), samplerate=sample_rate, channels=1, dtype="float32", blocking=True,
            blocksize=block_frames, latency=SystemDevice.LATENCY_S, device=(None, device or None),
        )
    except (sounddevice.PortAudioError, ValueError) as error:
        return {"problem": f"The device cannot play and listen at once ({str(error.args[0]).split('[')[0].strip(' :.')})."}
    late = late_of(heard[:, 0], sample_rate)
    if late is None:
        return {"problem": "Nothing came back: lead a cable from the output to the input, and turn the input up."}
    return {"late_s": late}


if __name__ == "__main__":
    sys.stdout.write(json.dumps(measured(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))) + "\n")
