"""How fast a shelf is scanned: `python benchmarks/shelf.py [FILES]`, with one worker and with two, and the second visit.

The files are copies of the demo loops, each with other bytes, so that nothing is known of them.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtWidgets import QApplication

from bompla.app.bring_in import shelf_scanner as scanning
from bompla.app.bring_in.shelf_scanner import ShelfScanner
from bompla.demo import loop_paths
from bompla.shelf.index import ShelfEntry, ShelfIndex, files_under


def scan(application: QApplication, folder: Path, index: Path, workers: int) -> tuple[float, int]:
    """Return the seconds a scan takes, and how many files were told."""
    scanning.os.cpu_count = lambda: workers  # type: ignore[attr-defined]
    told: list[ShelfEntry] = []
    done: list[bool] = []
    scanner = ShelfScanner(index, print)
    scanner.looked_at.connect(lambda _, entry: told.append(entry))
    scanner.finished.connect(lambda: done.append(True))
    began = time.perf_counter()
    scanner.scan([folder])
    while not done:
        application.processEvents()
    spent = time.perf_counter() - began
    scanner.close()
    return spent, len(told)


def main() -> None:
    """Measure and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    application = QApplication([])
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "loops"
        folder.mkdir()
        for n in range(count):
            source = loop_paths()[n % len(loop_paths())]
            (folder / f"{n:04d} {source.name}").write_bytes(source.read_bytes() + n.to_bytes(4, "little"))
        for workers in (1, 2):
            spent, told = scan(application, folder, Path(name) / f"{workers}.sqlite", workers)
            print(f"{workers} worker{'s' if workers > 1 else ''}: {told / spent:5.1f} files a second")
        spent, told = scan(application, folder, Path(name) / "2.sqlite", 2)
        print(f"second visit to {told} files: {1000 * spent:.0f} ms")
        many = Path(name) / "many"
        many.mkdir()
        for n in range(5_000):
            (many / f"{n:05d}.wav").write_bytes(n.to_bytes(8, "little"))
        index = ShelfIndex(Path(name) / "many.sqlite")
        index.keep([(path, path.name, ShelfEntry(bpm=100.0, wave=bytes(96)), ()) for path in files_under(many)])
        index.close()
        spent, told = scan(application, many, Path(name) / "many.sqlite", 2)
        print(f"second visit to {told} files: {1000 * spent:.0f} ms")


if __name__ == "__main__":
    main()
