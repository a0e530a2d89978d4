"""What is heard in sounds, from the command line: files, folders, standard input, on many cores or many machines."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from bompla.cli.one_sound import analysed, problem_line
from bompla.cli.running import Progress, files_of, in_order
from bompla.cli.saying import say
from bompla.errors import BomplaError

EXIT_FAILED = 1


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path, allow_dash=True), metavar="FILE...")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object a file on standard output, nothing else.")
@click.option("--jobs", default=1, type=click.IntRange(0, 256), metavar="N", help="Files at a time; 0 for one a core.")
@click.option("--quiet", is_flag=True, help="Say nothing on standard error but what failed.")
@click.option("--cluster", default="", metavar="ADDRESS", help="Hand the files to a Dask scheduler, such as tcp://host:8786.")
@click.option("--send-files", is_flag=True, help="With --cluster: send the sounds themselves, where workers do not see the same folders.")
def analyse(files: tuple[Path, ...], as_json: bool, jobs: int, quiet: bool, cluster: str, send_files: bool) -> None:
    """Find tempo, bars, cuts and drums in sounds.

    FILE is a sound, a folder of them, or - for a sound on standard input. Lines come in the order of the files. One that fails does not
    stop the rest. Exit status: 0 all were heard, 1 some failed, 2 wrong use.
    """
    found = files_of(files)
    if not found:
        say("There are no sound files there.", err=True)
        sys.exit(EXIT_FAILED)
    progress, failed = Progress(len(found), quiet=quiet), 0
    try:
        for line in _answers(found, jobs or os.cpu_count() or 1, cluster, send_files=send_files):
            failed += "error" in line
            if as_json:
                say(json.dumps(line))
            if "error" in line:
                say(str(line["error"]), err=True)
            elif not as_json:
                say(_in_words(line))
            progress.step(str(line["source"]["path"]))
    except BomplaError as error:
        say(str(error), err=True)
        sys.exit(EXIT_FAILED)
    sys.exit(EXIT_FAILED if failed else 0)


def _answers(found: Sequence[Path], jobs: int, cluster: str, *, send_files: bool) -> Iterator[dict[str, Any]]:
    if cluster:
        from bompla.cli.cluster import on_cluster

        yield from on_cluster(found, cluster, send_files=send_files)
        return
    yield from in_order(analysed, found, jobs, _ended)


def _ended(path: Path) -> dict[str, Any]:
    return problem_line(str(path), f"{path.name}: its process was ended; there may not be enough memory for it.")


def _tempo_words(tempo: dict[str, Any]) -> str:
    return f"{tempo['bpm']:.2f} BPM, {100 * tempo['confidence']:.0f} % sure" if tempo["bpm"] is not None else "none"


def _in_words(line: dict[str, Any]) -> str:
    region, tempo = line["region"], line["tempo"]
    drums: dict[str, int] = {}
    for hit in line["hits"]:
        drums[hit["drum"]] = drums.get(hit["drum"], 0) + 1
    counted = ", ".join(f"{count} {drum}" for drum, count in sorted(drums.items(), key=lambda item: -item[1]))
    return (
        f"{line['source']['path']}\n"
        f"  tempo   {_tempo_words(tempo)}\n"
        f"  region  {region['start_s']:.3f} s to {region['end_s']:.3f} s, {region['bars']} bars of {region['meter']}\n"
        f"  cuts    {len(line['cuts'])}\n"
        f"  hits    {counted or 'none'}"
    )
