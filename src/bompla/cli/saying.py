"""Saying things in a terminal, whatever names are in them."""

from __future__ import annotations

import click


def say(words: str, *, err: bool = False) -> None:
    """Print a line; what is no text, as in a name of stray bytes, by its numbers."""
    click.echo(words.encode("utf-8", "backslashreplace").decode("utf-8"), err=err)
