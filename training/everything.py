"""Train every model that ships, from nothing, by one list of steps: `python training/everything.py [--dry-run] [--from N]`.

`steps.txt` is the whole configuration. A step that was done is noted in the corpus folder and not done again; it takes days.
"""

from __future__ import annotations

import argparse
import os
import shlex
import subprocess
import sys
from pathlib import Path

STEPS = Path(__file__).with_name("steps.txt")
ROOT = Path(__file__).parents[1]


def steps_in(text: str) -> list[str]:
    """Return the commands of a list of steps, comments and empty lines left out."""
    return [line.strip() for line in text.splitlines() if line.strip() and not line.startswith("#")]


def main() -> int:
    """Run what was not done yet; stop at the first step that fails."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--dry-run", action="store_true", help="only say what would be done")
    parser.add_argument("--from", dest="first", type=int, default=1, metavar="N", help="begin at this step, counted from 1")
    chosen = parser.parse_args()
    corpus = Path(os.environ.get("BOMPLA_CORPUS", "corpus"))
    done_file = corpus / "steps-done.txt"
    done = done_file.read_text().splitlines() if done_file.is_file() else []
    for number, step in enumerate(steps_in(STEPS.read_text()), 1):
        mark = f"{number} {step}"
        state = "done" if mark in done else "skipped" if number < chosen.first else "to do"
        print(f"{number:3d} {state:8s} {step}")
        if chosen.dry_run or state != "to do":
            continue
        finished = subprocess.run([sys.executable, *shlex.split(os.path.expandvars(step))[1:]], cwd=ROOT, check=False)  # noqa: S603
        if finished.returncode:
            print(f"Step {number} failed; go on with --from {number} once it is mended.")
            return finished.returncode
        corpus.mkdir(parents=True, exist_ok=True)
        with done_file.open("a") as stream:
            stream.write(mark + "\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
