"""The analysis process: `python -m bompla.analysis.worker` answers requests on standard input.

Requests and answers are pickled records, each after its length in eight bytes. It runs at low
priority and ends when its input closes.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import sys
from pathlib import Path
from typing import Any, BinaryIO

from bompla.analysis.analyse import analyse, bands_of, curve_of, hear_at
from bompla.analysis.hearing.context import load_context
from bompla.analysis.hearing.network import load_model
from bompla.analysis.protocol import LENGTH, Answer, Request, packed
from bompla.analysis.shelf_scan import scanned
from bompla.analysis.spectrogram import spectrogram
from bompla.audio.clip import Clip
from bompla.errors import BomplaError

NICENESS = 10


def answer_to(request: Request, out: BinaryIO) -> None:
    """Do what is asked and write the answers."""

    def progress(share: float, what: str) -> None:
        _write(out, Answer(request.number, "progress", what, share))

    try:
        if request.kind == "scan":
            _write(out, Answer(request.number, "done", scanned(Path(request.path))))
            return
        clip = Clip(request.samples, request.sample_rate)
        if request.kind == "analyse":
            value: Any = analyse(clip, request.params, name=request.name, path=request.path, progress=progress)
        elif request.kind == "pictures":
            value = (curve_of(clip), bands_of(clip))
        elif request.kind == "drums_only":
            from bompla.analysis.separation.percussive import percussive  # brings SciPy, which nothing else here needs at once

            value = percussive(clip).samples
        elif request.kind == "spectrogram":
            value = spectrogram(clip, "linear" if request.name == "linear" else "mel")
        else:
            value = hear_at(clip, list(request.places))
        _write(out, Answer(request.number, "done", value))
    except BomplaError as error:
        _write(out, Answer(request.number, "failed", str(error)))
    except MemoryError:
        _write(out, Answer(request.number, "failed", "There is not enough memory to analyse this sound."))


def _write(out: BinaryIO, answer: Answer) -> None:
    out.write(packed(answer))
    out.flush()


def main() -> None:
    """Answer requests until standard input closes."""
    os.nice(NICENESS)
    source, out = sys.stdin.buffer, sys.stdout.buffer
    sys.stdout = sys.stderr
    with contextlib.suppress(BomplaError):
        load_model()  # told with the first request, if it fails
        load_context()
    while len(head := source.read(LENGTH.size)) == LENGTH.size:
        size = LENGTH.unpack(head)[0]
        answer_to(pickle.loads(source.read(size)), out)  # our own parent process


if __name__ == "__main__":
    main()
