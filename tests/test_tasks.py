"""Work that ends exactly once, whatever it does: returns, raises, hangs until it is given up, or is asked for anew."""

from __future__ import annotations

from typing import Any, NamedTuple

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bompla.app.project.tasks import Newest, Task, Threads, Token
from bompla.errors import SoundFileError


class Job(NamedTuple):
    """A kind of work, and when it is given up: never, at once, or a little later."""

    kind: str
    given_up: str
    name: str


def work(job: Job, token: Token) -> str:
    """Do what the kind says; what hangs does so until it is given up."""
    if job.kind == "hang":
        token.wait(20.0)
        token.check()
        raise AssertionError("nobody gave it up")
    if job.kind == "our error":
        raise SoundFileError("It is broken.")
    if job.kind == "any error":
        raise KeyError("x")
    if job.kind == "no memory":
        raise MemoryError
    if job.kind == "exit":
        raise SystemExit
    return job.name


KINDS = ("return", "our error", "any error", "no memory", "exit", "hang")
jobs = st.lists(
    st.builds(Job, st.sampled_from(KINDS), st.sampled_from(["no", "at once", "later"]), st.sampled_from("abc")), min_size=1, max_size=8)


@settings(max_examples=60)
@given(jobs)
def test_each_task_ends_once_and_the_next_ones_go_on(qapp: Any, jobs: list[Job]) -> None:
    threads, told = Threads(), []
    tasks: list[Task] = []
    for number, job in enumerate(jobs):
        tasks.append(threads.run(
            work, job, done=lambda value, n=number: told.append((n, "done", value)),
            failed=lambda text, n=number: told.append((n, "failed", text)), cancelled=lambda n=number: told.append((n, "cancelled", ""))))
        if job.given_up == "at once":
            tasks[-1].cancel()
    for task, job in zip(tasks, jobs, strict=True):
        if job.given_up == "later" or job.kind == "hang":
            task.cancel()
    while threads.busy:
        qapp.processEvents()
    threads.close()
    qapp.processEvents()
    assert sorted(n for n, _, _ in told) == list(range(len(jobs))), "each is told once"
    for number, ending, value in told:
        job = jobs[number]
        given_up = job.given_up != "no" or job.kind == "hang"
        expected = {"cancelled"} if given_up else {"done" if job.kind == "return" else "failed"}
        assert ending in expected
        assert tasks[number].ending == ending
        if ending == "failed":
            assert value.endswith((".", "again."))
            assert ("It is broken." in value) == (job.kind == "our error")


@settings(max_examples=30)
@given(st.lists(st.sampled_from(["return", "our error", "hang"]), min_size=2, max_size=6))
def test_of_a_kind_only_the_newest_is_applied(qapp: Any, kinds: list[str]) -> None:
    threads, newest, applied = Threads(), Newest(), []
    kinds = [*kinds, "return"]
    for number, kind in enumerate(kinds):
        newest.keep("picture", threads.run(work, Job(kind, "no", str(number)), done=applied.append, failed=applied.append))
    while threads.busy:
        qapp.processEvents()
    threads.close()
    assert applied == [str(len(kinds) - 1)]


def test_what_carries_the_window_along_is_refused() -> None:
    threads, seen = Threads(), []
    with pytest.raises(TypeError, match="plain function"):
        threads.run(lambda request, _: seen.append(request), 1, done=print, failed=print)
    with pytest.raises(TypeError, match="plain function"):
        threads.run(seen.append, 1, done=print, failed=print)  # type: ignore[arg-type]
    threads.close()
