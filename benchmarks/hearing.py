"""How well loops are heard that nothing was tuned on: `python benchmarks/hearing.py [--help]`.

Loops are drawn from seeds kept for judging. With `--model` another model than the shipped one is
judged, such as one that never heard a group of sounds, each attack by itself: what hears them together
fits the one network it was trained with, and is judged by `--context`; with `--librosa` a general library does what
it can do on the same files in the same run.
"""

from __future__ import annotations

import argparse
import os
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ[name] = "1"

import mir_eval
import numpy as np

from bompla.analysis import analyse as analysis
from bompla.analysis.hearing.context import read_context
from bompla.analysis.hearing.drums import heard_alone
from bompla.analysis.hearing.network import load_model, read_model
from bompla.audio.clip import Clip
from bompla.groove.rebuild import document_from
from bompla.model.detected_pattern import played
from bompla.model.drums import DRUMS, Family
from corpus import RATE
from corpus.kits import GROUPS
from corpus.render import at_other_tempo, make_loop, repitched

JUDGE_SEED = 500_000
FOLLOWED_S, SOFTER = 20, 0.25
SEEDS_A_GROUP = 1_000
"""Each group of sounds plays grooves of its own: a groove that is misread counts once."""

SAME_ATTACK_S = 0.012
GHOST = 52
LIBRARY_LATE_S = 0.003
"""How late the library's peaks come, found to favour it most."""
LIBRARY_USUAL = 0.957
"""What the library reaches on plainer loops than these: few ghosts, little else in the room."""

FAMILIES = {
    "kick": {"kick"},
    "snare": {d.key for d in DRUMS.values() if d.family is Family.SNARES},
    "hat": {d.key for d in DRUMS.values() if d.family is Family.HATS},
    "cymbal": {d.key for d in DRUMS.values() if d.family is Family.CYMBALS},
    "tom": {"tom_low", "tom_mid", "tom_high"},
}


def attacks_of(times: list[float]) -> np.ndarray:
    """Return onsets with those that are one attack taken as one."""
    kept: list[float] = []
    for at in sorted(times):
        if not kept or at - kept[-1] > SAME_ATTACK_S:
            kept.append(at)
    return np.array(kept)


def matched(known: list[float], found: list[float], window_s: float) -> int:
    if not known or not found:
        return 0
    return len(mir_eval.util.match_events(np.sort(known), np.sort(found), window_s))


def judge(task: tuple[int, str, argparse.Namespace]) -> dict[str, Any]:
    """Return the counts of one loop: its seed, its group of sounds, and what was chosen for all."""
    seed, group, chosen = task
    _use(chosen.model, chosen.context)
    loop = make_loop(seed, (group,), untrimmed=chosen.untrimmed, clean=chosen.clean, mix_share=0.0 if chosen.clean else 0.2,
                     treated=chosen.treated, straight=chosen.straight, written=chosen.written)
    if chosen.speed != 1.0:
        loop = repitched(loop, chosen.speed)
    if chosen.tempo != 1.0:
        loop = at_other_tempo(loop, chosen.tempo, seed)
    clip = Clip(followed_by_another(loop.samples, seed, group) if chosen.followed else loop.samples, RATE)
    began = time.process_time()
    heard = analysis.analyse(clip)
    ours_s = time.process_time() - began
    document = document_from(heard, "it")
    truth = loop.truth()
    known = attacks_of([t for t, _, _ in loop.hits])
    ends_s = loop.end_s - 0.02 if chosen.followed else clip.duration_s
    found = np.array([a.at_sample / RATE for a in heard.attacks if a.strength >= heard.threshold and a.at_sample / RATE < ends_s])
    row: dict[str, Any] = {"group": group, "kind": loop.groove.kind, "seed": seed, "mixed": loop.mixed, "length": clip.duration_s}
    row["attacks"] = (matched(list(known), list(found), 0.010), matched(list(known), list(found), 0.005), len(known), len(found))
    pairs = mir_eval.util.match_events(known, found, 0.010) if len(found) else []
    row["errors"] = [1000.0 * (found[j] - known[i]) for i, j in pairs]
    row |= drums_in(loop, [cut for cut in document.cuts if cut.attack_sample / RATE < ends_s])
    region = truth["region"]
    bpm = document.bpm
    row["tempo"] = (abs(bpm / truth["bpm"] - 1) < 0.005, abs(bpm / truth["bpm"] - 1) < 0.001)
    row["bars"] = row["tempo"][0] and (document.loop.bars, document.loop.meter_name) == (region["bars"], truth["meter"])
    start, end = document.loop.start_sample / RATE, document.loop.end_sample / RATE
    row["region"] = abs(start - region["start_s"]) < 0.01 and abs(end - region["end_s"]) < 0.01
    beat_s = 60.0 / truth["bpm"]
    bar_s = beat_s * region["beats_per_bar"]
    phase = (start - region["start_s"]) / bar_s
    row["downbeat"] = abs(phase - round(phase)) * bar_s < 0.03
    row["said"] = (round(bpm, 2), document.loop.meter_name, document.loop.bars, truth["bpm"], truth["meter"], region["bars"])
    row["seconds"] = ours_s
    if chosen.librosa:
        row |= _general(clip, list(known), truth["bpm"])
    return row


def followed_by_another(samples: np.ndarray, seed: int, group: str) -> np.ndarray:
    """Return a loop, 12 dB softer, and after it loops of another kit for so long that the sound is no longer one loop."""
    others = GROUPS[(GROUPS.index(group) + 2) % len(GROUPS)]
    after = make_loop(seed + 50_000, (others,), mix_share=0.0).samples
    times = -(-FOLLOWED_S * RATE // after.size)
    return np.concatenate([SOFTER * samples, *[after] * times]).astype(np.float32)


def _use(model: str, context: str) -> None:
    """Have the analysis use other weights than those that ship."""
    if getattr(_use, "known", ("", "")) == (model, context):
        return
    if model:
        with Path(model).open("rb") as stream:
            made = read_model(stream)
        analysis.load_model = lambda: made  # type: ignore[assignment]
        if not context:
            analysis.heard_together = lambda activations, its, _context, _spectrum, samples: heard_alone(activations, its, samples)
    if context:
        with Path(context).open("rb") as stream:
            read = read_context(stream)
        analysis.load_context = lambda: read  # type: ignore[assignment]
    _use.known = (model, context)  # type: ignore[attr-defined]


def drums_in(loop: Any, cuts: list[Any]) -> dict[str, Any]:
    """Count drums within 25 ms: by family, each drum by itself, and ghost notes."""
    near, slack = 0.025, 0.012
    est = [(c.attack_sample / RATE, h.drum, h.velocity, h.confidence) for c in cuts for h in played(c)]
    row: dict[str, Any] = {}
    for family, members in FAMILIES.items():
        # A clap with a snare is one hit of their family, on both sides.
        known, found = (list(attacks_of(times)) for times in ([t for t, d, _ in loop.hits if d in members],
                                                              [t for t, d, _, _ in est if d in members]))
        row[family] = (matched(known, found, near), len(known), len(found))
    total = np.zeros(3, int)
    for drum in DRUMS:
        known, found = list(attacks_of([t for t, d, _ in loop.hits if d == drum])), [t for t, d, _, _ in est if d == drum]
        total += (matched(known, found, near), len(known), len(found))
    row["drums"] = tuple(int(n) for n in total)
    ghosts = [t for t, d, v in loop.hits if d in FAMILIES["snare"] and v < GHOST]
    row["ghosts"] = (matched(ghosts, [t for t, d, _, _ in est if d in FAMILIES["snare"]], near), len(ghosts))
    row["velocity"] = [
        min(abs(v - known) for t2, d2, known in loop.hits if d2 == d and abs(t2 - t) < near)
        for t, d, v, _ in est
        if any(d2 == d and abs(t2 - t) < near for t2, d2, _ in loop.hits)
    ]
    row["sureness"] = [
        (h.confidence, any(d == h.drum and abs(t - c.attack_sample / RATE) < near + slack for t, d, _ in loop.hits))
        for c in cuts
        for h in c.heard
    ]
    return row


def _general(clip: Clip, known: list[float], bpm: float) -> dict[str, Any]:
    """What librosa makes of it: superflux onsets at a 3 ms hop, peaks of them by SciPy, and its tempogram."""
    import librosa
    from scipy.signal import find_peaks

    began = time.process_time()
    mel = librosa.power_to_db(librosa.feature.melspectrogram(y=clip.mono, sr=RATE, n_fft=1024, hop_length=128, fmax=16_000, n_mels=138))
    curve = librosa.onset.onset_strength(S=mel, sr=RATE, n_fft=1024, hop_length=128, lag=4, max_size=3, center=False)
    peaks = find_peaks(curve, height=0.1 * np.percentile(curve, 99.5), prominence=0.06 * np.percentile(curve, 99.5), distance=8)[0]
    found = peaks * 128 / RATE - LIBRARY_LATE_S
    tempo = float(np.atleast_1d(librosa.feature.tempo(onset_envelope=curve, sr=RATE, hop_length=128))[0])
    seconds = time.process_time() - began
    return {
        "librosa attacks": (matched(known, list(found), 0.010), matched(known, list(found), 0.005), len(known), len(found)),
        "librosa tempo": abs(tempo / bpm - 1) < 0.005,
        "librosa seconds": seconds,
    }


def f_of(rows: list[dict[str, Any]], key: str, at: int = 0) -> float:
    counts = np.array([row[key] for row in rows])
    return float(2 * counts[:, at].sum() / max(1, counts[:, -2].sum() + counts[:, -1].sum()))


def easiest(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return the most loops, easiest for the library first, on which it is as good as it is on usual ones."""
    ranked = sorted(rows, key=lambda row: -f_of([row], "librosa attacks"))
    return next((ranked[:n] for n in range(len(ranked), 0, -1) if f_of(ranked[:n], "librosa attacks") >= LIBRARY_USUAL), [])


def line(label: str, rows: list[dict[str, Any]]) -> str:
    errors = np.array([e for row in rows for e in row["errors"]] or [0.0])
    ghosts = np.array([row["ghosts"] for row in rows]).sum(axis=0)
    velocity = np.array([v for row in rows for v in row["velocity"]] or [0.0])
    cells = [f_of(rows, "attacks"), f_of(rows, "attacks", 1)]
    text = f"{label:<22}" + "".join(f"{c:>7.3f}" for c in cells)
    text += f"{np.median(np.abs(errors)):>6.2f}{np.mean(errors):>6.2f}"
    text += "".join(f"{f_of(rows, key):>7.3f}" for key in (*FAMILIES, "drums"))
    text += f"{ghosts[0] / max(1, ghosts[1]):>7.2f}{velocity.mean():>6.1f}"
    tempo = np.mean([row["tempo"] for row in rows], axis=0)
    rights = [*tempo, *(np.mean([row[key] for row in rows]) for key in ("bars", "downbeat", "region"))]
    return text + "".join(f"{100 * right:>6.0f}" for right in rights)


def against_library(rows: list[dict[str, Any]]) -> None:
    """Print what the library does on the same loops, and what we do where it does well."""
    ratio = sum(r["seconds"] for r in rows) / sum(r["librosa seconds"] for r in rows)
    print(f"librosa: attacks {f_of(rows, 'librosa attacks'):.3f}, at 5 ms {f_of(rows, 'librosa attacks', 1):.3f}, "
          f"tempo right on {100 * np.mean([r['librosa tempo'] for r in rows]):.0f} %; our time is {ratio:.2f} of its")
    if easy := easiest(rows):
        print(f"where it reaches {LIBRARY_USUAL}, on the {len(easy)} loops easiest for it, ours is")
        print(line("easiest for it", easy))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--groups", default=",".join(GROUPS))
    parser.add_argument("--loops", type=int, default=40, help="for each group")
    parser.add_argument("--first", type=int, default=JUDGE_SEED)
    parser.add_argument("--untrimmed", action="store_true")
    parser.add_argument("--clean", action="store_true", help="no rooms, desks or tape, and no bass or chords")
    parser.add_argument("--speed", type=float, default=1.0, help="how many times as fast, and as high, the loops are played")
    parser.add_argument("--tempo", type=float, default=1.0, help="how many times as fast the loops are brought to be, as high as they were")
    parser.add_argument("--treated", action="store_true", help="with echoes, filters, gates, samplers: what producers do to a loop")
    parser.add_argument("--straight", action="store_true", help="rendered by FluidSynth in one piece: no groups that are not SoundFonts")
    parser.add_argument("--written", action="store_true", help="grooves written by hand, as lessons have them")
    parser.add_argument("--followed", action="store_true", help="each loop softer, with loops of another kit after it: of no use for tempo")
    parser.add_argument("--model", default="")
    parser.add_argument("--context", default="")
    parser.add_argument("--librosa", action="store_true")
    parser.add_argument("--wrong", action="store_true", help="list the loops whose tempo or bars came out wrong")
    parser.add_argument("--kinds", action="store_true", help="a line for each kind of groove as well")
    chosen = parser.parse_args()
    if not chosen.model:
        load_model()
    groups = chosen.groups.split(",")
    tasks = [(chosen.first + SEEDS_A_GROUP * GROUPS.index(group) + n, group, chosen) for group in groups for n in range(chosen.loops)]
    with ProcessPoolExecutor() as pool:
        rows = list(pool.map(judge, tasks, chunksize=4))
    report(rows, chosen)


def report(rows: list[dict[str, Any]], chosen: argparse.Namespace) -> None:
    """Print the table."""
    heads = ("10 ms", "5 ms"), ("med", "bias"), (*FAMILIES, "drums", "ghosts"), ("vel", ".5%", ".1%", "bars", "down", "loop")
    print(f"{'':<22}" + "".join(f"{h:>7}" for h in heads[0]) + "".join(f"{h:>6}" for h in heads[1])
          + "".join(f"{h:>7}" for h in heads[2]) + "".join(f"{h:>6}" for h in heads[3]))
    for group in chosen.groups.split(","):
        print(line(group, [r for r in rows if r["group"] == group]))
    for mixed in (False, True):
        if part := [r for r in rows if r["mixed"] == mixed]:
            print(line("full mixes" if mixed else "drums alone", part))
    print(line("all", rows))
    if chosen.kinds:
        for kind in sorted({r["kind"] for r in rows}):
            print(line(kind, [r for r in rows if r["kind"] == kind]))
    sureness = np.array([pair for r in rows for pair in r["sureness"]])
    for low in np.arange(0.1, 1.0, 0.2):
        part = sureness[(sureness[:, 0] >= low) & (sureness[:, 0] < low + 0.2)]
        if len(part):
            print(f"heard at {low:.1f} to {low + 0.2:.1f}: {100 * part[:, 1].mean():.0f} % are there, of {len(part)}")
    print(f"time a second of sound: {1000 * sum(r['seconds'] for r in rows) / sum(r['length'] for r in rows):.1f} ms on one core")
    if chosen.librosa:
        against_library(rows)
    if chosen.wrong:
        for row in rows:
            if not row["bars"] or (chosen.untrimmed and not row["region"]):
                print(f"{row['seed']} {row['group']} {row['kind']}: {row['said']}")


if __name__ == "__main__":
    main()
