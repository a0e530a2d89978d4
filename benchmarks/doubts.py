"""What looking at the drums in doubt is worth: `python benchmarks/doubts.py [--clean] [--together] [--loops N]`.

Every doubt about a drum is answered by what is true, one slice at a time, or with `--together` for all slices that are in the
same doubt as is true of the first. Printed is what is heard before and after, and how often the other way was right.
"""

from __future__ import annotations

import argparse
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np

from bompla.analysis import analyse as analysis
from bompla.analysis.review.unsure import Unsure, other_way, unsure_of
from bompla.audio.clip import Clip
from bompla.groove.rebuild import document_from
from bompla.model.cut_edits import keep_doubt
from bompla.model.document import Cut, Document
from corpus.render import make_loop
from hearing import FAMILIES, GROUPS, JUDGE_SEED, RATE, SEEDS_A_GROUP, drums_in, f_of

NEAR_S = 0.025
Task = tuple[int, str, bool, bool]


def judge(task: Task) -> dict[str, Any]:
    """Return what is heard of a loop before and after its doubts are answered, how many answers it took, and how many were mends."""
    seed, group, clean, together = task
    loop = make_loop(seed, (group,), clean=clean, mix_share=0.0 if clean else 0.2)
    document = document_from(analysis.analyse(Clip(loop.samples, RATE)), "it")
    before, looks, mends = drums_in(loop, list(document.cuts)), Counter[str](), Counter[str]()
    while asked := _asked(document):
        cut, unsure = asked[0]
        true = {drum for at_s, drum, _ in loop.hits if abs(at_s - cut.attack_sample / RATE) < NEAR_S}
        same = [c.id for c, other in asked if other == unsure] if together else [cut.id]
        mended = _wrong(unsure, true)
        kind = "another drum" if unsure.instead else "played" if unsure.sounds else "not played"
        looks[kind] += 1
        mends[kind] += mended
        for cut_id in [] if mended else same:
            document = keep_doubt(document, cut_id, unsure.kept_as)
        document = other_way(document, same, unsure) if mended else document
    after = drums_in(loop, [cut for cut in document.cuts if not cut.left_out])
    return {"before": before, "after": after, "looks": looks, "mends": mends}


def _asked(document: Document) -> list[tuple[Cut, Unsure]]:
    cuts = [s.cut for s in document.slices() if not s.cut.left_out]
    return [(cut, unsure) for cut in cuts if (unsure := unsure_of(cut))]


def _wrong(unsure: Unsure, true: set[str]) -> bool:
    if unsure.instead:
        return unsure.drum not in true and unsure.instead in true
    return (unsure.drum in true) != unsure.sounds


def main() -> None:
    """Read the command line, judge, and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--groups", default="synth,fluid,tim,csound,recorded,freepats")
    parser.add_argument("--loops", type=int, default=40, help="loops of each group of sounds")
    parser.add_argument("--first", type=int, default=JUDGE_SEED)
    parser.add_argument("--clean", action="store_true", help="as they are played, without rooms, desks, bass or chords")
    parser.add_argument("--together", action="store_true", help="answer slices that are in the same doubt at once, as is true of the first")
    chosen = parser.parse_args()
    firsts = {group: chosen.first + SEEDS_A_GROUP * GROUPS.index(group) for group in chosen.groups.split(",")}
    tasks = [(first + n, group, chosen.clean, chosen.together) for group, first in firsts.items() for n in range(chosen.loops)]
    with ProcessPoolExecutor() as pool:
        rows = list(pool.map(judge, tasks, chunksize=4))
    print(f"{'':<10}" + "".join(f"{name:>8}" for name in (*FAMILIES, "drums", "ghosts")))
    for when in ("before", "after"):
        parts = [row[when] for row in rows]
        ghosts = np.array([part["ghosts"] for part in parts]).sum(axis=0)
        cells = "".join(f"{f_of(parts, key):>8.3f}" for key in (*FAMILIES, "drums"))
        print(f"{when:<10}{cells}{ghosts[0] / max(1, ghosts[1]):>8.2f}")
    looks, mends = (sum((row[key] for row in rows), Counter[str]()) for key in ("looks", "mends"))
    print(f"{sum(looks.values()) / len(rows):.1f} looks a loop, at most {max(sum(row['looks'].values()) for row in rows)}")
    for kind in sorted(looks):
        print(f"{kind}: {looks[kind]} looked at, {100 * mends[kind] / looks[kind]:.0f} % the other way")


if __name__ == "__main__":
    main()
