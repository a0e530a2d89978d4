"""The analysis process: `python -m bompla.worker.process` answers requests on standard input.

Requests and answers are pickled records, each after its length in eight bytes. It runs at low
priority and ends when its input closes. What it made lately it keeps, by content and parameters.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from time import perf_counter
from typing import Any, BinaryIO

from msgspec.structs import replace

from bompla.analysis.analyse import Progress, hear_at, listen, named, result_of
from bompla.analysis.draw import drawn_from
from bompla.analysis.hearing.context import load_context
from bompla.analysis.hearing.network import load_model
from bompla.analysis.params import AnalysisParams
from bompla.analysis.spectrogram import spectrogram
from bompla.audio.memory import Handover
from bompla.errors import AnalysisError, BomplaError
from bompla.model.memo import Kept
from bompla.shelf.scan import scanned
from bompla.worker.protocol import LENGTH, Answer, Request, packed

NICENESS = 10


def _analyse(request: Request, kept: Kept, progress: Progress) -> Any:
    clip = request.clip
    params = (request.params or AnalysisParams()).checked()
    key = ("analyse", clip.content_hash, params)
    if key not in kept:
        started = perf_counter()
        heard = listen(clip, params, name=request.name, progress=progress)
        kept.put(key, replace(result_of(clip, heard, params), elapsed_s=perf_counter() - started))
        kept.put(("pictures", clip.content_hash), drawn_from(clip, heard))
    result = kept.get(key, lambda: None)
    progress(1.0, "done")
    return replace(result, source=named(result.source, request.name, request.path))


def _pictures(request: Request, kept: Kept, _progress: Progress) -> Any:
    clip = request.clip
    return kept.get(("pictures", clip.content_hash), lambda: drawn_from(clip, listen(clip, AnalysisParams())))


def _hear_at(request: Request, kept: Kept, _progress: Progress) -> Any:
    clip = request.clip
    return kept.get(("hear_at", clip.content_hash, request.places), lambda: hear_at(clip, list(request.places)))


def _drums_only(request: Request, kept: Kept, _progress: Progress) -> Any:
    from bompla.analysis.separation.percussive import percussive  # brings SciPy's filters, which nothing else here needs at once

    clip = request.clip
    made: Handover = kept.get(("drums_only", clip.content_hash), lambda: Handover(percussive(clip).samples))
    return made.sound


def _spectrogram(request: Request, kept: Kept, _progress: Progress) -> Any:
    clip, scale = request.clip, request.scale
    if scale not in ("mel", "linear"):
        raise AnalysisError(f"There is no scale called {scale}.")
    return kept.get(("spectrogram", clip.content_hash, scale), lambda: spectrogram(clip, "linear" if scale == "linear" else "mel"))


def _scan(request: Request, _kept: Kept, _progress: Progress) -> Any:
    return scanned(Path(request.path))


ANSWERS: dict[str, Callable[[Request, Kept, Progress], Any]] = {
    "analyse": _analyse, "pictures": _pictures, "hear_at": _hear_at, "drums_only": _drums_only, "spectrogram": _spectrogram, "scan": _scan,
}
"""What is done for each kind of request; any other kind is refused."""


def answer_to(request: Request, out: BinaryIO, kept: Kept | None = None) -> None:
    """Do what is asked and write the answers; whatever goes wrong is an answer, too."""

    def progress(share: float, what: str) -> None:
        _write(out, Answer(request.number, "progress", what, share))

    try:
        if request.kind not in ANSWERS:
            raise AnalysisError(f"The analysis does not know how to do “{request.kind}”; close Bompla and start it again.")
        value = ANSWERS[request.kind](request, Kept() if kept is None else kept, progress)
    except BomplaError as error:
        _write(out, Answer(request.number, "failed", str(error)))
    except FileNotFoundError:
        _write(out, Answer(request.number, "failed", "The sound is not there any more; open it again."))
    except MemoryError:
        _write(out, Answer(request.number, "failed", "There is not enough memory to analyse this sound."))
    except Exception as error:  # noqa: BLE001  # a request that is never answered would hang the window
        traceback.print_exc()
        _write(out, Answer(request.number, "failed", f"Something went wrong in the analysis ({type(error).__name__}: {error})."))
    else:
        _write(out, Answer(request.number, "done", value))


def _write(out: BinaryIO, answer: Answer) -> None:
    out.write(packed(answer))
    out.flush()


def main() -> None:
    """Answer requests until standard input closes."""
    os.nice(NICENESS)
    source, out = sys.stdin.buffer, sys.stdout.buffer
    sys.stdout = sys.stderr
    kept = Kept()
    with contextlib.suppress(BomplaError):
        load_model()  # told with the first request, if it fails
        load_context()
    while len(head := source.read(LENGTH.size)) == LENGTH.size:
        size = LENGTH.unpack(head)[0]
        answer_to(pickle.loads(source.read(size)), out, kept)  # our own parent process


if __name__ == "__main__":
    main()
