"""Saying things in a terminal, whatever names are in them."""

from __future__ import annotations

import traceback

import click

from bompla.errors import BomplaError


def say(words: str, *, err: bool = False) -> None:
    """Print a line; what is no text, as in a name of stray bytes, by its numbers."""
    click.echo(words.encode("utf-8", "backslashreplace").decode("utf-8"), err=err)


def problem_of(error: Exception, name: str) -> str:
    """Return in a sentence what went wrong with a file of some name, whatever it was; what is no trouble of the file's is traced, too."""
    if isinstance(error, BomplaError):
        return str(error) if name in str(error) else f"{name}: {error}"
    if isinstance(error, MemoryError):
        return f"There is not enough memory for {name}."
    traceback.print_exception(error)
    return f"{name}: something went wrong inside Bompla ({type(error).__name__}: {error}); report it, with the file."
