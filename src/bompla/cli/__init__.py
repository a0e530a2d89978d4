"""The command line: analyse, rebuild, export, recover, and the window."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import click

from bompla import __version__
from bompla.cli.checking import check
from bompla.cli.recovering import recover
from bompla.cli.saying import say
from bompla.cli.sending import export, rebuild
from bompla.cli.studying import study
from bompla.errors import BomplaError

EXIT_FAILED, EXIT_USAGE = 1, 2


@click.group(invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="bompla")
@click.pass_context
def cli(context: click.Context) -> None:
    """Turn a drum loop into slices, a kit and an editable MIDI drum pattern.

    Without a command the window opens.
    """
    if context.invoked_subcommand is None:
        context.invoke(window)


@cli.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE...")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object a file on standard output, nothing else.")
def analyse(files: tuple[Path, ...], as_json: bool) -> None:
    """Find tempo, bars, cuts and drums in sound files.

    Several files are done one after the other; one that fails does not stop the rest, and the
    exit status is then 1.
    """
    failed = 0
    for path in files:
        try:
            line = _analysed(path)
        except BomplaError as error:
            failed += 1
            if as_json:
                say(json.dumps({"source": {"path": str(path)}, "error": str(error)}))
            say(str(error), err=True)
            continue
        say(json.dumps(line) if as_json else _in_words(line))
    sys.exit(EXIT_FAILED if failed else 0)


@cli.command()
@click.argument("file", required=False, type=click.Path(path_type=Path))
@click.option("--demo", is_flag=True, help="Open the demo project.")
@click.option("--offscreen", is_flag=True, help="Run without a display.")
@click.option("--screenshot", type=click.Path(path_type=Path, dir_okay=False), help="Write a picture of the window and end.")
@click.option("--stage", default="", help="The stage to show: bring-in, slice, kit, groove or send-out.")
def window(file: Path | None, demo: bool, offscreen: bool, screenshot: Path | None, stage: str) -> None:
    """Open the window, with a sound file or a project in it if one is named."""
    if demo and file is not None:
        raise click.UsageError("Open either the demo project or a file, not both.")
    try:
        from bompla.app.main import NoDisplay, run
    except ImportError as error:
        _fail(BomplaError(f"The window needs PyQt6, which cannot be loaded here ({error})."))
    try:
        sys.exit(run(file=file, demo=demo, offscreen=offscreen, screenshot=screenshot, stage=stage))
    except NoDisplay as error:
        say(str(error), err=True)
        sys.exit(EXIT_USAGE)
    except BomplaError as error:
        _fail(error)


def _analysed(path: Path) -> dict[str, object]:
    from bompla.analysis.analyse import analyse as run_analysis
    from bompla.analysis.hearing.context import load_context
    from bompla.analysis.hearing.network import load_model
    from bompla.audio.files import read_clip
    from bompla.formats.analysis_json import analysis_object
    from bompla.groove.rebuild import document_from

    load_model()
    load_context()
    heard = run_analysis(read_clip(path), name=path.name, path=str(path))
    return analysis_object(heard, document_from(heard, path.stem))


def _in_words(line: dict) -> str:  # type: ignore[type-arg]  # a JSON object
    region, tempo = line["region"], line["tempo"]
    drums: dict[str, int] = {}
    for hit in line["hits"]:
        drums[hit["drum"]] = drums.get(hit["drum"], 0) + 1
    counted = ", ".join(f"{count} {drum}" for drum, count in sorted(drums.items(), key=lambda item: -item[1]))
    return (
        f"{line['source']['path']}\n"
        f"  tempo   {tempo['bpm']:.2f} BPM, {100 * tempo['confidence']:.0f} % sure\n"
        f"  region  {region['start_s']:.3f} s to {region['end_s']:.3f} s, {region['bars']} bars of {region['meter']}\n"
        f"  cuts    {len(line['cuts'])}\n"
        f"  hits    {counted or 'none'}"
    )


def _fail(error: BomplaError) -> None:
    say(str(error), err=True)
    sys.exit(EXIT_FAILED)


cli.add_command(export)
cli.add_command(check)
cli.add_command(rebuild)
cli.add_command(recover)
cli.add_command(study)


def main() -> None:
    """Run the command line."""
    cli()


if __name__ == "__main__":
    main()
