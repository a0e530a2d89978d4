"""What is heard in one sound, as the plain values that are printed; or why nothing is."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path
from typing import Any

from bompla.cli.saying import problem_of

STANDARD = "-"


def analysed(path: Path) -> dict[str, Any]:
    """Return what is heard in a file as plain values, or its problem in words."""
    try:
        if str(path) == STANDARD:
            return analysed_bytes(sys.stdin.buffer.read(), STANDARD)
        return _heard(path, str(path))
    except Exception as error:  # noqa: BLE001  # whatever it is, the files after it are not lost
        return problem_line(str(path), problem_of(error, path.name))


def analysed_bytes(content: bytes, name: str) -> dict[str, Any]:
    """Return what is heard in the bytes of a sound file of some name, or its problem in words."""
    with tempfile.TemporaryDirectory(prefix="bompla-") as folder:
        path = Path(folder) / (Path(name).name if name != STANDARD else "standard input")
        path.write_bytes(content)
        try:
            return _heard(path, name)
        except Exception as error:  # noqa: BLE001  # as above
            return problem_line(name, problem_of(error, path.name))


def problem_line(path: str, words: str) -> dict[str, Any]:
    """Return why a sound was not analysed, as plain values."""
    from bompla.formats.schemas import Problem, ProblemSource, plain

    return plain(Problem(source=ProblemSource(path=path), error=words))


def _heard(path: Path, shown: str) -> dict[str, Any]:
    from bompla.analysis.analyse import analyse as run_analysis
    from bompla.analysis.hearing.context import load_context
    from bompla.analysis.hearing.network import load_model
    from bompla.audio.files import read_clip
    from bompla.formats.analysis_json import analysis_object
    from bompla.groove.rebuild import document_from

    load_model()
    load_context()
    heard = run_analysis(read_clip(path), name=path.name, path=shown)
    return analysis_object(heard, document_from(heard, path.stem))
