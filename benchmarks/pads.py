"""What a pad sounds like, struck by itself: `python benchmarks/pads.py [--loops N] [--groups a,b] [--direct] [--seed-offset N]`.

Loops drawn for judging are heard and their kits sent out as SoundFonts, which FluidSynth strikes, a pad at a time, as hard as notes of
the loop near velocities 60, 90 and 120. Each strike is compared, at equal level, with that very note played alone by the loop's true kit:
mean difference of mel levels in dB (64 bands, 46 ms windows, floor 50 dB under the loudest, up to half a second). Beside it the best
slice of the loop: the one that comes nearest, known only to who has the truth. Told, too: hats with over 5 % of their energy under 150 Hz,
kicks with 6 dB too much over 5 kHz, and how far loudness by velocity is off. `--direct` strikes the pads without a file between.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import tempfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import NamedTuple

for _name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(_name, "1")

import mido
import numpy as np

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.export.options import ExportOptions
from bompla.export.request import ExportRequest
from bompla.export.table import EXPORTS
from bompla.groove.rebuild import document_from
from bompla.model.document import Document, Pad
from bompla.render.bake import made_sound
from bompla.render.events import lead_frames, sound_key, strike_gain
from corpus import RATE
from corpus.kits import GROUPS
from corpus.render import LabelledLoop, make_loop
from hearing import JUDGE_SEED, SEEDS_A_GROUP
from rebuilt import mel_db

PLAY_RATE = 48_000
VELOCITIES, NEAR = (60, 90, 120), 18
HEARD_S, FLOOR_DB = 0.5, 50.0
LOW_HZ, HIGH_HZ = 150.0, 5_000.0
FIRST_OWN = 43_000
"""Judged loops of this table begin so far into their group's seeds, where no other table looks."""

SHOWN = ("kick", "snare", "hat_closed", "hat_open", "ride", "crash", "rim", "clap", "tom_low", "tom_mid", "tom_high", "hat_pedal", "shaker",
         "perc")
BARS = {"kick": 2.2, "snare": 1.2, "hat_closed": 2.0}


class Row(NamedTuple):
    """One strike: the loop, its drum and velocity, how far it is from the truth, the best slice's distance, and what is wrong with it."""

    name: str
    drum: str
    velocity: int
    distance_db: float
    best_db: float
    low_share: float
    too_bright_db: float
    level_db: float


def alone(seed: int, group: str, note: object, loop: LabelledLoop) -> np.ndarray:
    """Return one note of a loop by itself, from its onset on, shape (frames,) at PLAY_RATE."""
    others = frozenset(one for one in loop.groove.notes if one is not note)
    sound = make_loop(seed, (group,), clean=True, mix_share=0.0, without=others).samples
    sound = sound if sound.ndim == 1 else sound[:, 0]
    at = round(note.time_s * RATE)  # type: ignore[attr-defined]
    sound = np.concatenate([sound[at:], sound[:at]])  # what rings past the end is folded round
    return resampled(Clip(sound[: round(2.0 * RATE)], RATE), PLAY_RATE).samples[:, 0]


def apart_db(truth: np.ndarray, made: np.ndarray) -> float:
    """Return the mean difference of mel levels of two strikes from their onsets on, at equal energy."""
    frames = round(HEARD_S * PLAY_RATE)
    pad = np.zeros(1_024)
    there, here = (np.concatenate([pad, one[:frames], np.zeros(max(0, frames - len(one)))]) for one in (truth, made))
    here = here * np.sqrt((there**2).sum() / max((here**2).sum(), 1e-12))
    a, b = mel_db(there[:, None]), mel_db(here[:, None])
    floor = a.max() - FLOOR_DB
    return float(np.abs(np.maximum(a, floor) - np.maximum(b, floor)).mean())


def from_onset(sound: np.ndarray, share: float = 0.02) -> np.ndarray:
    """Return a sound from where it first reaches a share of its peak."""
    level = np.abs(sound)
    return sound[int(np.argmax(level >= share * level.max())) :] if level.max(initial=0.0) > 0.0 else sound


def struck_directly(document: Document, clip: Clip, wanted: list[tuple[Pad, int]]) -> list[np.ndarray]:
    """Return strikes of pads as the application plays them."""
    made = []
    for pad, velocity in wanted:
        layer = pad.layer_for(velocity)
        if layer is None:
            made.append(np.zeros(64))
            continue
        key = sound_key(document, pad, layer, clip)
        sound = made_sound(clip, key, PLAY_RATE)[lead_frames(key, clip, PLAY_RATE) :].mean(axis=1)
        made.append(strike_gain(pad, layer, velocity) * sound)
    return made


def struck_by_file(document: Document, clip: Clip, wanted: list[tuple[Pad, int]]) -> list[np.ndarray]:
    """Return strikes of pads as FluidSynth plays the kit that was sent out."""
    request = ExportRequest(document, clip, ExportOptions(rate=PLAY_RATE))
    content = next(iter(EXPORTS["sf2"].make(request, lambda: None))).content
    with tempfile.TemporaryDirectory(prefix="bompla-") as folder:
        kit, notes, out = Path(folder) / "kit.sf2", Path(folder) / "notes.mid", Path(folder) / "out.wav"
        kit.write_bytes(content)
        file = mido.MidiFile(ticks_per_beat=1_000)
        track = mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=1_000_000, time=0)])
        for pad, velocity in wanted:
            track.append(mido.Message("note_on", channel=9, note=pad.note, velocity=velocity, time=1_000))
            track.append(mido.Message("note_off", channel=9, note=pad.note, velocity=0, time=1_000))
        file.tracks.append(track)
        file.save(notes)
        options = ("-ni", "-q", "-g", "0.5", "-R", "0", "-C", "0", "-r", str(PLAY_RATE), "-F", str(out), "-T", "wav", "-O", "float")
        subprocess.run((shutil.which("fluidsynth") or "fluidsynth", *options, str(kit), str(notes)), check=True, capture_output=True)
        import soundfile

        sound, _ = soundfile.read(out, always_2d=True)
    mono = sound.mean(axis=1)
    return [mono[round((1.0 + 2.0 * n) * PLAY_RATE) : round((3.0 + 2.0 * n) * PLAY_RATE)] for n in range(len(wanted))]


def share_between(sound: np.ndarray, low: float, high: float) -> float:
    """Return the share of a sound's energy between two frequencies."""
    power = np.abs(np.fft.rfft(sound[: round(HEARD_S * PLAY_RATE)], 1 << 15)) ** 2
    hz = np.fft.rfftfreq(1 << 15, 1.0 / PLAY_RATE)
    return float(power[(hz >= low) & (hz < high)].sum() / max(power.sum(), 1e-12))


def judge(task: tuple[str, str, int, bool]) -> list[Row]:
    name, group, seed, direct = task
    loop = make_loop(seed, (group,), clean=True, mix_share=0.0)
    clip = Clip(loop.samples, RATE)
    document = document_from(analyse(clip), name)
    pads = {pad.drum: pad for pad in document.pads if pad.layers}
    chosen = []
    played = {drum for _, drum, _ in loop.hits}
    for drum in SHOWN:
        notes = [note for note in loop.groove.notes if note.drum == drum and drum in played]
        for velocity in VELOCITIES:
            near = [note for note in notes if abs(note.velocity - velocity) <= NEAR]
            if near and drum in pads:
                chosen.append((drum, min(near, key=lambda one: abs(one.velocity - velocity))))
    if not chosen:
        return []
    truths = [alone(seed, group, note, loop) for _, note in chosen]
    wanted = [(pads[drum], note.velocity) for drum, note in chosen]
    strikes = (struck_directly if direct else struck_by_file)(document, clip, wanted)
    slices = [resampled(clip.part(piece.cut.attack_sample, piece.end_sample), PLAY_RATE).samples[:, 0] for piece in document.slices()
              if piece.end_sample - piece.cut.attack_sample > 0.06 * RATE]
    rows, off = [], []
    for (drum, note), truth, strike in zip(chosen, truths, strikes, strict=True):
        made = from_onset(strike)
        best = min((apart_db(truth, one) for one in slices), default=float("nan"))
        bright = 10.0 * np.log10((share_between(made, HIGH_HZ, 24_000.0) + 1e-6) / (share_between(truth, HIGH_HZ, 24_000.0) + 1e-6))
        frames = round(0.3 * PLAY_RATE)
        level = 10.0 * np.log10(((made[:frames] ** 2).sum() + 1e-12) / ((truth[:frames] ** 2).sum() + 1e-12))
        off.append(level)
        rows.append(Row(name, drum, note.velocity, apart_db(truth, made), best, share_between(made, 0.0, LOW_HZ), bright, level))
    middle = {drum: float(np.median([row.level_db for row in rows if row.drum == drum])) for drum in {row.drum for row in rows}}
    return [row._replace(level_db=row.level_db - middle[row.drum]) for row in rows]


def tasks_of(groups: str, loops: int, offset: int, *, direct: bool) -> list[tuple[str, str, int, bool]]:
    made = []
    for group in groups.split(","):
        first = JUDGE_SEED + SEEDS_A_GROUP * GROUPS.index(group) + FIRST_OWN + offset
        made += [(f"{group} {first + n}", group, first + n, direct) for n in range(loops)]
    return made


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--loops", type=int, default=6)
    parser.add_argument("--groups", default="denemo,plain,minuet,machine")
    parser.add_argument("--seed-offset", type=int, default=0)
    parser.add_argument("--direct", action="store_true")
    chosen = parser.parse_args()
    with ProcessPoolExecutor() as pool:
        rows = [row for found in pool.map(judge, tasks_of(chosen.groups, chosen.loops, chosen.seed_offset, direct=chosen.direct))
                for row in found]
    print(f"{'':12} strikes  median   mean   best slice    bar   loudness by velocity off, dB")
    for drum in SHOWN:
        some = [row for row in rows if row.drum == drum]
        if some:
            far = np.array([row.distance_db for row in some])
            print(f"{drum:12} {len(some):7} {np.median(far):7.2f} {far.mean():6.2f} {np.nanmedian([row.best_db for row in some]):10.2f}"
                  f" {BARS.get(drum, float('nan')):8.1f} {np.mean([abs(row.level_db) for row in some]):8.2f}")
    hats = [row.low_share > 0.05 for row in rows if row.drum in ("hat_closed", "hat_pedal", "hat_open")]
    kicks = [row.too_bright_db > 6.0 for row in rows if row.drum == "kick"]
    print(f"hats with over 5 % of their energy under 150 Hz: {np.mean(hats):.0%}; "
          f"kicks with 6 dB too much over 5 kHz: {np.mean(kicks):.0%}")
    print("\nworst:")
    for row in sorted(rows, key=lambda one: one.best_db - one.distance_db)[:10]:
        print(f"  {row.name:18} {row.drum:11} at {row.velocity:3}  {row.distance_db:5.2f} dB, best slice {row.best_db:5.2f}, "
              f"{row.low_share:4.0%} under 150 Hz")


if __name__ == "__main__":
    main()
