"""The command line: analyse, rebuild, export, recover, and the window."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from bompla import __version__
from bompla.cli.analysing import analyse
from bompla.cli.checking import check
from bompla.cli.desktop import desktop
from bompla.cli.recovering import recover
from bompla.cli.running import pin_numeric_threads
from bompla.cli.saying import say
from bompla.cli.sending import export, rebuild
from bompla.cli.studying import study
from bompla.errors import BomplaError

EXIT_FAILED, EXIT_USAGE = 1, 2
EXIT_BROKEN_PIPE = 141
OPENED = (".bompla", ".wav", ".w64", ".aif", ".aiff", ".flac", ".ogg", ".opus", ".mp3")
"""Endings that open the window, also where there is no such file: it says so."""



class FilesToo(click.Group):
    """A group that takes a file in the place of a command: the window opens with it."""

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[str | None, click.Command | None, list[str]]:
        """Return the command that is named, or the window for what is a file."""
        named = args[0] if args else ""
        if named and named not in self.commands and (Path(named).exists() or Path(named).suffix.lower() in OPENED):
            return "window", window, args
        return super().resolve_command(ctx, args)


@click.group(cls=FilesToo, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="bompla")
@click.pass_context
def cli(context: click.Context) -> None:
    """Turn a drum loop into slices, a kit and an editable MIDI drum pattern.

    Without a command the window opens, with a file in it where one is named: bompla FILE. Exit status: 0 all is well, 1 something failed
    and was said on standard error, 2 wrong use.
    """
    pin_numeric_threads()
    if context.invoked_subcommand is None:
        context.invoke(window)


@cli.command()
@click.argument("file", required=False, type=click.Path(path_type=Path))
@click.option("--demo", is_flag=True, help="Open the demo project.")
@click.option("--offscreen", is_flag=True, help="Run without a display.")
@click.option("--screenshot", type=click.Path(path_type=Path, dir_okay=False), help="Write a picture of the window and end.")
@click.option("--stage", default="", help="The stage to show: bring-in, slice, kit, groove or send-out.")
@click.option("--go-on", type=click.Path(path_type=Path), hidden=True, help="A journal to go on with.")
def window(file: Path | None, demo: bool, offscreen: bool, screenshot: Path | None, stage: str, go_on: Path | None) -> None:
    """Open the window, with a sound file or a project in it if one is named."""
    if demo and file is not None:
        raise click.UsageError("Open either the demo project or a file, not both.")
    try:
        from bompla.app.main import NoDisplay, run
    except ImportError as error:
        _fail(BomplaError(f"The window needs PyQt6, which cannot be loaded here ({error})."))
    try:
        sys.exit(run(file=file, demo=demo, offscreen=offscreen, screenshot=screenshot, stage=stage, go_on=go_on))
    except NoDisplay as error:
        say(str(error), err=True)
        sys.exit(EXIT_USAGE)
    except BomplaError as error:
        _fail(error)


def _fail(error: BomplaError) -> None:
    say(str(error), err=True)
    sys.exit(EXIT_FAILED)


cli.add_command(analyse)
cli.add_command(export)
cli.add_command(check)
cli.add_command(rebuild)
cli.add_command(recover)
cli.add_command(study)
cli.add_command(desktop)


def main() -> None:
    """Run the command line; who reads it may stop reading at any time."""
    try:
        cli()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # what is still in the buffer has nowhere to go
        sys.exit(EXIT_BROKEN_PIPE)


if __name__ == "__main__":
    main()
