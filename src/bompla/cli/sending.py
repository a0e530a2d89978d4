"""What is sent out from the command line: `export` everything, or `rebuild` one thing quickly."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from bompla.cli.running import Progress, files_of, in_order
from bompla.cli.saying import problem_of, say
from bompla.errors import BomplaError, ExportError

if TYPE_CHECKING:
    from bompla.audio.clip import Clip
    from bompla.export.options import ExportOptions
    from bompla.export.request import ExportRequest
    from bompla.model.document import Document

EXIT_FAILED = 1


@dataclass(frozen=True)
class Job:
    """One file to be sent out: where from, into which folder, which kinds, and how."""

    path: Path
    folder: Path
    keys: tuple[str, ...]
    options: ExportOptions
    force: bool


def loaded(path: Path) -> list[tuple[Document, Clip, dict[str, Clip]]]:
    """Return the loops of a project, or the one heard in a sound file, each with its sound and the sounds that pads borrow."""
    from bompla.formats.project import SUFFIX, open_project

    if path.suffix.lower() == SUFFIX:
        project = open_project(path)
        return [(document, clip, dict(project.borrowed)) for document, clip in project.sources]
    from bompla.analysis.analyse import analyse
    from bompla.analysis.hearing.context import load_context
    from bompla.analysis.hearing.network import load_model
    from bompla.audio.files import read_clip
    from bompla.groove.rebuild import document_from

    load_model()
    load_context()
    clip = read_clip(path)
    return [(document_from(analyse(clip, name=path.name, path=str(path)), path.stem), clip, {})]


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE...")
@click.option("--to", "target", required=True, type=click.Path(path_type=Path, file_okay=False),
              help="The folder to write into; made if need be.")
@click.option("--only", default="", metavar="KIND,...", help="Only these kinds; without it, all of them.")
@click.option("--quantise", default=0.0, type=click.FloatRange(0.0, 100.0), metavar="0..100",
              help="Move hits in MIDI to the grid, in per cent.")
@click.option("--rate", default=0, type=int, help="Sample rate of sound in Hz; without it, that of the source.")
@click.option("--bits", default=24, type=int, help="16, 24, or 32 for floats.")
@click.option("--format", "container", default="wav", type=click.Choice(["wav", "flac", "aiff"]), help="Format of sound files.")
@click.option("--repeat-signs", is_flag=True, help="Bars alike as repeats in notation.")
@click.option("--force", is_flag=True, help="Replace folders that are there.")
@click.option("--jobs", default=1, type=click.IntRange(0, 256), metavar="N", help="Files at a time; 0 for one a core.")
@click.option("--quiet", is_flag=True, help="Say nothing on standard error but what failed.")
def export(
    files: tuple[Path, ...], target: Path, only: str, quantise: float, rate: int, bits: int, container: str, repeat_signs: bool,
    force: bool, jobs: int, quiet: bool,
) -> None:
    """Send out loops: MIDI, slices, hits, stems, kits, notation, data.

    FILE is a sound, a project, or a folder of sounds. Each gets a folder of its name below the folder that --to names, with a
    manifest.json. One that fails does not stop the rest. Exit status: 0 all written, 1 some failed, 2 wrong use.
    """
    from bompla.export.options import ExportOptions, checked

    try:
        keys = _keys(only)
        options = checked(ExportOptions(format=container, rate=rate, bits=bits, quantise=quantise / 100.0,  # type: ignore[arg-type]  # checked
                                        repeat_signs=repeat_signs))
    except ExportError as error:
        raise click.UsageError(str(error)) from error
    found = files_of(files)
    made = [Job(path, folder, keys, options, force) for path, folder in zip(found, _folders(found, target), strict=True)]
    failed, progress = 0, Progress(len(made), quiet=quiet)
    for job, problem in zip(made, in_order(_sent_out, made, jobs or os.cpu_count() or 1, _ended), strict=True):
        if problem:
            failed += 1
            say(problem, err=True)
        else:
            say(str(job.folder))
        progress.step(str(job.folder))
    sys.exit(EXIT_FAILED if failed else 0)


def _keys(only: str) -> tuple[str, ...]:
    """Return the exports whose kinds or keys are named, all where none is; raises ExportError for a kind that there is not."""
    from bompla.export.table import EXPORTS, KINDS

    wanted = [one.strip() for one in only.split(",") if one.strip()]
    unknown = [one for one in wanted if one not in KINDS and one not in EXPORTS]
    if unknown:
        raise ExportError(f"There is no kind {unknown[0]}; there are {', '.join(KINDS)}.")
    return tuple(key for key, one in EXPORTS.items() if not wanted or one.kind in wanted or key in wanted)


def _folders(files: Sequence[Path], target: Path) -> list[Path]:
    """Return a folder for each file, named after it; of two of one name the second has a number."""
    taken: set[str] = set()
    made = []
    for path in files:
        stem = path.stem or path.name or "loop"
        name, number = stem, 1
        while name.lower() in taken:
            number += 1
            name = f"{stem} {number}"
        taken.add(name.lower())
        made.append(target / name)
    return made


def _ended(job: Job) -> str:
    return f"{job.path.name}: its process was ended; try it alone, or with fewer --jobs."


def _sent_out(job: Job) -> str:
    """Write what a job asks for; return what went wrong in a sentence, empty where nothing did."""
    try:
        loops = loaded(job.path)
        for number, (document, clip, borrowed) in enumerate(loops, 1):
            _write(job, document, clip, borrowed, job.folder if number == 1 else job.folder.with_name(f"{job.folder.name} {number}"))
    except Exception as error:  # noqa: BLE001  # whatever it is, the files after it are not lost
        return problem_of(error, job.path.name)
    return ""


def _write(job: Job, document: Document, clip: Clip, borrowed: dict[str, Clip], folder: Path) -> None:
    from bompla.export.folder import write_all
    from bompla.export.request import ExportRequest

    request = ExportRequest(document, clip, job.options, borrowed)
    write_all(request, job.keys, folder, taken="replace" if job.force else "refuse", source=str(job.path))


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--midi", type=click.Path(path_type=Path, dir_okay=False), help="The MIDI file to write.")
@click.option("--sound", type=click.Path(path_type=Path, dir_okay=False), help="The WAV, FLAC or AIFF file to write.")
@click.option("--kit", default="made", type=click.Choice(["made", "slices"]), help="Hits grouped on pads, or one pad per slice.")
@click.option("--tempo", default=100.0, type=click.FloatRange(20.0, 400.0), metavar="PERCENT", help="How fast, against the loop.")
@click.option("--quantise", is_flag=True, help="Move hits in MIDI to the grid, beat by beat straight or triplet.")
def rebuild(file: Path, midi: Path | None, sound: Path | None, kit: str, tempo: float, quantise: bool) -> None:
    """Rebuild a loop's groove and write it as MIDI, as sound, or both."""
    if midi is None and sound is None:
        raise click.UsageError("Say what to write: --midi FILE, --sound FILE, or both.")
    from bompla.model.detected_pattern import hits_inside
    from bompla.model.wording import in_bars

    try:
        document, clip, borrowed = loaded(file)[0]
        if kit == "slices":
            from bompla.groove.slice_kit import kit_of_slices

            document = kit_of_slices(document)
        if midi is not None:
            from bompla.formats.midi import MidiOptions, write_midi

            notes: Literal["pads", "drums"] = "pads" if kit == "slices" else "drums"
            write_midi(document, midi, MidiOptions(quantise=float(quantise), notes=notes, speed=tempo / 100.0))
        if sound is not None:
            _write_sound(document, clip, borrowed, sound, tempo)
    except BomplaError as error:
        say(str(error), err=True)
        sys.exit(EXIT_FAILED)
    written = " and ".join(str(path) for path in (midi, sound) if path is not None)
    bpm = document.bpm * tempo / 100.0
    say(f"{written}: {len(hits_inside(document))} hits, {in_bars(document.loop.length_beats, document.loop.meter)} at {bpm:.2f} BPM")


def _write_sound(document: Document, clip: Clip, borrowed: dict[str, Clip], path: Path, tempo: float) -> None:
    from bompla.export.loops import rebuilt_loops
    from bompla.export.options import FORMATS, ExportOptions, checked
    from bompla.export.request import ExportRequest
    from bompla.files import write_atomically

    container = {"aif": "aiff"}.get(path.suffix.lower().lstrip("."), path.suffix.lower().lstrip(".") or "wav")
    if container not in FORMATS:
        raise ExportError(f"Sound can be written as {', '.join(FORMATS)}; {path.name} ends otherwise.")
    options = checked(ExportOptions(format=container, tempo_percent=tempo))  # type: ignore[arg-type]  # looked up above
    request: ExportRequest = ExportRequest(document, clip, options, borrowed)
    made = next(iter(rebuilt_loops(request, lambda: None)))
    write_atomically(path, made.content, ExportError)
