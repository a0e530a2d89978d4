"""How long it takes to write everything of the demo, and which kinds it goes to, beside how long its loop lasts.

    python benchmarks/export.py [--only KIND ...]

Everything is written twice in one process: the first time loads the engraver and the fonts, the second is what each next one takes.
"""

from __future__ import annotations

import argparse
import tempfile
import time
from pathlib import Path

from bompla.cli.running import pin_numeric_threads

pin_numeric_threads()  # as the application does, before NumPy is there
from bompla.demo import DEMO_PROJECT
from bompla.export.folder import write_all
from bompla.export.request import ExportRequest
from bompla.export.table import EXPORTS
from bompla.formats.project import open_project


class Turns:
    """How long each kind took, from what the writer says of its progress."""

    def __init__(self) -> None:
        self.taken_s: dict[str, float] = {}
        self._label, self._since = "", time.perf_counter()

    def tell(self, _share: float, label: str) -> None:
        """Take down how long the kind before this one took."""
        now = time.perf_counter()
        if self._label:
            self.taken_s[self._label] = now - self._since
        self._label, self._since = label, now


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", nargs="*", default=list(EXPORTS), help="the kinds to write")
    only = parser.parse_args().only
    document, clip = open_project(DEMO_PROJECT).sources[0]
    loop_s = document.loop.frames / clip.sample_rate
    runs = []
    with tempfile.TemporaryDirectory() as folder:
        for n in range(2):
            turns = Turns()
            write_all(ExportRequest(document, clip), only, Path(folder) / str(n), progress=turns.tell)
            runs.append(turns.taken_s)
    print(f"{'':28} {'first, s':>9} {'then, s':>9} {'of the loop':>12}")
    for label in runs[0]:
        print(f"{label:28} {runs[0][label]:9.2f} {runs[1][label]:9.2f} {runs[1][label] / loop_s:12.2f}")
    whole = [sum(run.values()) for run in runs]
    print(f"{'everything':28} {whole[0]:9.2f} {whole[1]:9.2f} {whole[1] / loop_s:12.2f}")


if __name__ == "__main__":
    main()
