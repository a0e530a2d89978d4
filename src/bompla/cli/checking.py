"""Whether sounds and projects are all right, from the command line."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from bompla.cli.saying import problem_of, say

if TYPE_CHECKING:
    from bompla.formats.schemas import Check

EXIT_FAILED = 1


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE...")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object a file on standard output.")
def check(files: tuple[Path, ...], as_json: bool) -> None:
    """Open sounds and projects, check them whole and make all that they play; say what is wrong.

    Exit status: 0 all are right, 1 some are not, 2 wrong use.
    """
    from bompla.formats.schemas import Check, plain

    failed = 0
    for path in files:
        try:
            about = checked(path)
        except Exception as error:  # noqa: BLE001  # whatever it is, the files after it are not lost
            failed += 1
            about = Check(path=str(path), ok=False, problem=problem_of(error, path.name))
        if as_json:
            say(json.dumps(plain(about)))
        else:
            say(f"{path}: {about.problem or f'all right, {about.what}'}", err=not about.ok)
    sys.exit(EXIT_FAILED if failed else 0)


def checked(path: Path) -> Check:
    """Return what a file is, having made all that it plays; raises BomplaError with what is wrong."""
    from bompla.formats.project import SUFFIX, open_project
    from bompla.formats.schemas import Check
    from bompla.model.wording import counted
    from bompla.render.bake import bake
    from bompla.render.events import BakeRequest

    if path.suffix.lower() == SUFFIX:
        project = open_project(path)
        hits = 0
        for document, clip in project.sources:
            baked = bake(BakeRequest(document, clip, clip.sample_rate, project.borrowed))
            hits += len(baked.events)
        what = f"a project of {counted(len(project.sources), 'sound')}, {counted(hits, 'hit')} in it"
        return Check(path=str(path), ok=True, what=what)
    from bompla.audio.files import read_clip
    from bompla.model.wording import counted

    clip = read_clip(path)
    what = f"{clip.duration_s:.2f} s of sound, {counted(clip.channels, 'channel')} at {clip.sample_rate} Hz"
    return Check(path=str(path), ok=True, what=what)
