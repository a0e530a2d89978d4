"""What was learned and ships with Bompla: read once, and missed in one sentence."""

from __future__ import annotations

from collections.abc import Callable
from importlib.resources import files
from typing import IO, TypeVar

from bompla.errors import AnalysisError

DAMAGED = "What the analysis has learned ({name}) is missing or damaged; install Bompla again."
Weights = TypeVar("Weights")


def shipped(package: str, name: str, read: Callable[[IO[bytes]], Weights]) -> Weights:
    """Return what ships in a file of a package of the analysis, as `read` reads it.

    Raises AnalysisError where it is missing, or `read` cannot make anything of it.
    """
    try:
        with files(f"bompla.analysis.{package}").joinpath(name).open("rb") as stream:
            return read(stream)
    except (OSError, KeyError, ValueError, TypeError, IndexError, EOFError) as error:
        raise damaged(name) from error


def damaged(name: str) -> AnalysisError:
    """Return the error of a file that is there but does not fit."""
    return AnalysisError(DAMAGED.format(name=name))
