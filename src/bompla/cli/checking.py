"""Whether sounds and projects are all right, from the command line."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import click

from bompla.cli.saying import say
from bompla.errors import BomplaError

EXIT_FAILED = 1


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE...")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object a file on standard output.")
def check(files: tuple[Path, ...], as_json: bool) -> None:
    """Open sounds and projects, check them whole and make all that they play; say what is wrong.

    Exit status: 0 all are right, 1 some are not, 2 wrong use.
    """
    from bompla.formats.schemas import SCHEMA

    failed = 0
    for path in files:
        try:
            about = checked(path)
        except BomplaError as error:
            failed += 1
            about = {"path": str(path), "ok": False, "problem": str(error)}
        except MemoryError:
            failed += 1
            about = {"path": str(path), "ok": False, "problem": f"{path.name} needs more memory than there is."}
        if as_json:
            say(json.dumps({"schema": SCHEMA, **about}))
        else:
            say(f"{path}: {about.get('problem') or 'all right, ' + str(about['what'])}", err=not about["ok"])
    sys.exit(EXIT_FAILED if failed else 0)


def checked(path: Path) -> dict[str, object]:
    """Return what a file is, having made all that it plays; raises BomplaError with what is wrong."""
    from bompla.formats.project import SUFFIX, open_project
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
        return {"path": str(path), "ok": True, "what": what}
    from bompla.audio.files import read_clip
    from bompla.model.wording import counted

    clip = read_clip(path)
    what = f"{clip.duration_s:.2f} s of sound, {counted(clip.channels, 'channel')} at {clip.sample_rate} Hz"
    return {"path": str(path), "ok": True, "what": what}
