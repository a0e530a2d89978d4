"""What was left unsaved, from the command line."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from bompla.cli.saying import say
from bompla.errors import BomplaError

EXIT_FAILED = 1


@click.command()
@click.option("--to", "target", type=click.Path(path_type=Path, dir_okay=False), help="Write the newest as a project.")
@click.option("--all", "folder", type=click.Path(path_type=Path, file_okay=False), help="Write all of them as projects into a folder.")
def recover(target: Path | None, folder: Path | None) -> None:
    """List unsaved work that earlier sessions left, or write it as projects; what is left stays until it is put away in the window."""
    from bompla.export.folder import free_name
    from bompla.export.request import file_name
    from bompla.formats.journal import in_words, journals_folder, left_behind, recovered
    from bompla.formats.project import SUFFIX, save_project

    left = left_behind(journals_folder())
    if not left:
        say("nothing to recover")
        return
    if target is None and folder is None:
        say(in_words(left))
        return
    failed = 0
    if folder is not None:
        folder.mkdir(parents=True, exist_ok=True)
    for one in left if folder is not None else left[:1]:
        path = target if target is not None else free_name((folder or Path()) / f"{file_name(one.title)}{SUFFIX}")
        try:
            save_project(recovered(one), path)
        except BomplaError as error:
            failed += 1
            say(str(error), err=True)
        else:
            say(str(path))
    sys.exit(EXIT_FAILED if failed else 0)
