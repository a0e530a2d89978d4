"""What is made of sounds that nobody plays: `python benchmarks/odd_sounds.py [--each N] [--first SEED] [--longest-s S]`.

Silence, one sample, two hits, many channels, rates from 1 Hz to 768 kHz, headers that lie, noise, offsets, clipped and broken-off sound,
20 ms to an hour: each is written as a file, read, heard, and made into kit and pattern. A result has its region inside the file, a tempo
from 20 to 400 or none, cuts in order inside the region, hits at cuts, and is valid by the schema; a file that is no sound is refused in
words. Each may take 10 s and a tenth of its length, and 1 GB beside what its samples are.
"""

from __future__ import annotations

import argparse
import io
import json
import resource
import struct
import tempfile
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import jsonschema
import numpy as np
import soundfile

from bompla.analysis.analyse import analyse
from bompla.audio.files import read_clip
from bompla.errors import BomplaError
from bompla.formats.analysis_json import analysis_object
from bompla.formats.schemas import schema_of
from bompla.groove.rebuild import document_from
from bompla.model.checks import check_document
from bompla.model.detected_pattern import detected_pattern

KINDS = ("silence", "one sample", "two hits", "channels", "slow rate", "fast rate", "lying header", "noise", "offset", "clipped", "cut off",
         "tone", "clicks")
RATES = (1, 100, 1_000, 8_000, 11_025, 44_100, 48_000, 96_000, 192_000, 384_000, 768_000)
MOST_BYTES, MOST_S, LOWEST_BPM, HIGHEST_BPM = 1 << 30, 10.0, 20.0, 400.0


def odd_sound(seed: int, longest_s: float) -> tuple[str, bytes]:
    """Return the kind of a made sound and its file, the same each time for a seed."""
    rng = np.random.default_rng((seed, 77))
    kind = KINDS[seed % len(KINDS)]
    seconds = float(np.exp(rng.uniform(np.log(0.02), np.log(longest_s))))
    rate = int(rng.choice(RATES[:4] if kind == "slow rate" else RATES[7:] if kind == "fast rate" else RATES[3:7]))
    channels = int(rng.choice([3, 8, 17, 64])) if kind == "channels" else int(rng.integers(1, 3))
    if kind in ("channels", "fast rate"):
        seconds = min(seconds, 20.0)
    frames = 1 if kind == "one sample" else max(1, round(seconds * rate))
    sound = np.zeros((frames, channels), np.float32)
    if kind in ("two hits", "channels", "cut off", "fast rate", "slow rate", "lying header", "clipped"):
        for _ in range(2 if kind == "two hits" else int(rng.integers(1, 40))):
            at, length = int(rng.integers(0, frames)), max(2, round(0.15 * rate))
            hit = rng.normal(0.0, 0.4, length) * np.exp(-np.arange(length) / (0.03 * rate + 1.0))
            part = hit[: frames - at]
            sound[at : at + len(part)] += part[:, np.newaxis].astype(np.float32)
    if kind == "noise":
        sound += rng.normal(0.0, 0.2, sound.shape).astype(np.float32)
    if kind == "tone":
        sound += (0.5 * np.sin(np.arange(frames) * rng.uniform(0.001, 3.0)))[:, np.newaxis].astype(np.float32)
    if kind == "clicks":
        sound[:: max(1, int(rng.integers(1, max(2, frames // 3))))] = 1.0
    if kind == "offset":
        sound += np.float32(rng.uniform(-2.0, 2.0))
    if kind == "clipped":
        sound = np.clip(20.0 * sound, -1.0, 1.0)
    target = io.BytesIO()
    soundfile.write(target, sound, rate, format="WAV", subtype="FLOAT" if kind == "offset" else "PCM_16")
    content = target.getvalue()
    if kind == "cut off":
        content = content[: int(rng.integers(20, len(content) + 1))]
    if kind == "lying header":
        place = int(rng.choice([4, 22, 24, 34, 40]))
        content = content[:place] + struct.pack("<I", int(rng.integers(0, 1 << 32))) + content[place + 4 :]
    return kind, content


def troubles(seed: int, longest_s: float = 30.0) -> list[str]:
    """Return what is wrong with what is made of a sound, nothing where all is right or it is refused in words."""
    kind, content = odd_sound(seed, longest_s)
    with tempfile.TemporaryDirectory(prefix="bompla-odd-") as folder:
        path = Path(folder) / f"{kind}.wav"
        path.write_bytes(content)
        began = time.monotonic()
        try:
            clip = read_clip(path)
            heard = analyse(clip, name=path.name)
        except BomplaError as error:
            return [] if len(str(error)) > 10 else [f"{kind}: no sentence"]
        document = document_from(heard, kind)
        spent = time.monotonic() - began
    found = []
    loop = document.loop
    if not 0 <= loop.start_sample < loop.end_sample <= clip.frames:
        found.append("the region is not inside the file")
    if any(not LOWEST_BPM <= one.bpm <= HIGHEST_BPM for one in heard.readings):
        found.append(f"a tempo of {[one.bpm for one in heard.readings]}")
    places = [cut.at_sample for cut in document.cuts]
    if places != sorted(places) or any(not loop.start_sample <= at < loop.end_sample for at in places):
        found.append("cuts are not in order inside the region")
    check_document(document)
    attacks = {cut.attack_sample for cut in document.cuts}
    times = document.beat_map.samples_at([hit.at_beats for hit in detected_pattern(document).hits])
    if any(min((abs(at - one) for one in attacks), default=1e9) > 2 for at in times):
        found.append("a hit is at no cut")
    jsonschema.validate(json.loads(json.dumps(analysis_object(heard, document))), schema_of("analysis"))
    if spent > MOST_S + 0.1 * clip.duration_s:
        found.append(f"{spent:.1f} s")
    return [f"{kind}, seed {seed}: {one}" for one in found]


def looked(seed: int, longest_s: float) -> tuple[str, list[str]]:
    """Return the kind of a sound and what is wrong with what is made of it, a traceback or too much memory among that."""
    kind = KINDS[seed % len(KINDS)]
    resource.setrlimit(resource.RLIMIT_AS, (4 * MOST_BYTES, 4 * MOST_BYTES))
    try:
        return kind, troubles(seed, longest_s)
    except Exception as error:  # noqa: BLE001  # whatever it is, it is what is looked for
        return kind, [f"{kind}, seed {seed}: {type(error).__name__}: {str(error)[:160]}"]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--each", type=int, default=1_000)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--longest-s", type=float, default=3_600.0)
    chosen = parser.parse_args()
    wrong: Counter[str] = Counter()
    with ProcessPoolExecutor() as pool:
        for kind, found in pool.map(partial(looked, longest_s=chosen.longest_s), range(chosen.first, chosen.first + chosen.each)):
            wrong[kind] += len(found)
            for one in found:
                print(one)
    print(f"{chosen.each} sounds: " + ", ".join(f"{kind} {wrong[kind]}" for kind in KINDS))


if __name__ == "__main__":
    main()
