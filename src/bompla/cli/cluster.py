"""Handing files to the workers of a Dask scheduler: by path where they see the same folders, else as bytes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from bompla.cli.one_sound import analysed, analysed_bytes
from bompla.errors import AnalysisError

RETRIES = 3
"""A worker that is ended takes no file with it: another tries, so often."""

WINDOW = 256
"""So many files are on their way at once; of a hundred thousand the rest waits here."""

CONNECT_S = "10s"


def on_cluster(files: Sequence[Path], address: str, *, send_files: bool) -> Iterator[dict[str, Any]]:
    """Yield what is heard in each file, in the order of the files.

    Raises AnalysisError with a sentence where the package is missing, or no scheduler answers.
    """
    try:
        from distributed import Client
    except ImportError as error:
        raise AnalysisError('Work on a cluster needs a package more: pip install "bompla[cluster]".') from error
    try:
        client: Any = Client(address, timeout=CONNECT_S)  # type: ignore[no-untyped-call]  # theirs has no types
    except (OSError, TimeoutError, ValueError) as error:
        raise AnalysisError(f"No Dask scheduler answers at {address} ({str(error).splitlines()[0][:120]}).") from error
    with client:
        waiting: list[Any] = []
        following = iter(files)
        for path in following:
            waiting.append(_submitted(client, path, send_files=send_files))
            if len(waiting) >= WINDOW:
                yield _answer(waiting.pop(0))
        yield from map(_answer, waiting)


def _submitted(client: Any, path: Path, *, send_files: bool) -> tuple[Path, Any]:
    if not send_files:
        return path, client.submit(analysed, path.resolve(), retries=RETRIES, pure=False)
    try:
        content = path.read_bytes()
    except OSError:
        return path, None
    return path, client.submit(analysed_bytes, content, str(path), retries=RETRIES, pure=False)


def _answer(submitted: tuple[Path, Any]) -> dict[str, Any]:
    """Return the answer for a file, with the path as it was named."""
    path, future = submitted
    try:
        found = analysed(path) if future is None else future.result()
    except Exception as error:  # noqa: BLE001  # whatever a worker may raise is told of its file
        found = {**analysed_bytes(b"", str(path)), "error": f"{path.name}: the cluster gave it up ({error})."}
    found["source"]["path"] = str(path)
    return dict(found)
