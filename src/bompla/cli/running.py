"""Running one thing for many files: in order, on several cores, or on the workers of a cluster."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import TypeVar

from bompla.cli.saying import say

Job = TypeVar("Job")
Answer = TypeVar("Answer")
PINNED = ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS")
"""What holds the numeric threads of a process to one: the work is already shared out between threads or processes of our own, and two
kinds of threads on the same cores wait for each other."""

AHEAD = 4
"""So many jobs a worker are handed out at once, so that a hundred thousand files need no memory of their own."""


def pin_numeric_threads() -> None:
    """Hold numeric threads to one, in this process and those that it starts; NumPy must not be loaded yet. What the user says goes."""
    for name in PINNED:
        os.environ.setdefault(name, "1")


def files_of(given: Sequence[Path]) -> list[Path]:
    """Return the files that are named, and those of the folders that are, in order; `-` stays as it is."""
    from bompla.shelf.index import files_under

    found: list[Path] = []
    for path in given:
        found += sorted(files_under(path)) if str(path) != "-" and path.is_dir() else [path]
    return found


def in_order(work: Callable[[Job], Answer], jobs: Sequence[Job], count: int, broken: Callable[[Job], Answer]) -> Iterator[Answer]:
    """Yield the answer of each job in the order of the jobs, so many at a time; `broken` answers for one whose process was ended."""
    if count <= 1 or len(jobs) <= 1:
        yield from (work(job) for job in jobs)
        return
    done: dict[int, Answer] = {}
    following, handed = 0, 0
    while following < len(jobs):
        with ProcessPoolExecutor(min(count, len(jobs) - handed)) as pool:
            waiting: dict[Future[Answer], int] = {}
            try:
                while following < len(jobs):
                    while handed < len(jobs) and len(waiting) < AHEAD * count:
                        waiting[pool.submit(work, jobs[handed])] = handed
                        handed += 1
                    for future in as_completed(tuple(waiting)):
                        done[waiting.pop(future)] = future.result()
                        break
                    while following in done:
                        yield done.pop(following)
                        following += 1
            except BrokenProcessPool:  # which one did it is not known: those that were under way are answered one by one
                for number in sorted(waiting.values()):
                    done[number] = _alone(work, jobs[number], broken)
                while following in done:
                    yield done.pop(following)
                    following += 1


def _alone(work: Callable[[Job], Answer], job: Job, broken: Callable[[Job], Answer]) -> Answer:
    """Return the answer of a job in a process of its own, so that one that ends its process harms no other."""
    with ProcessPoolExecutor(1) as pool:
        try:
            return pool.submit(work, job).result()
        except BrokenProcessPool:
            return broken(job)


class Progress:
    """Says on standard error how far it is, where that is a terminal and nobody asked for quiet."""

    def __init__(self, total: int, *, quiet: bool) -> None:
        self._total, self._done = total, 0
        self._shown = total > 1 and not quiet and sys.stderr.isatty()

    def step(self, what: str) -> None:
        """Say that one more is over."""
        self._done += 1
        if self._shown:
            say(f"{self._done} of {self._total}: {what}", err=True)
