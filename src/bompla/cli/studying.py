"""What makes a groove work, from the command line."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bompla.cli.saying import problem_of, say
from bompla.cli.sending import loaded

if TYPE_CHECKING:
    from bompla.groove.compare import Compared
    from bompla.groove.read import GrooveRead
    from bompla.model.document import Document

EXIT_FAILED = 1


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object on standard output.")
@click.option("--against", type=click.Path(path_type=Path), help="Compare with another sound or project, brought to the same bars.")
def study(file: Path, as_json: bool, against: Path | None) -> None:
    """Read the groove of a sound or a project: in words, or as facts with numbers."""
    from bompla.groove.compare import compared, struck_in
    from bompla.groove.read import read_groove

    try:
        document = loaded(file)[0][0]
        read = read_groove(document)
        other = loaded(against)[0][0] if against is not None else None
        differences = compared(struck_in(document), struck_in(other), bpm=document.bpm) if other is not None else None
    except Exception as error:  # noqa: BLE001  # whatever it is, it is a sentence
        say(problem_of(error, file.name), err=True)
        sys.exit(EXIT_FAILED)
    if as_json:
        say(json.dumps(study_object(document, read, differences)))
        return
    for fact in read.sentences():
        say(fact.text)
    if differences is not None:
        say(f"{differences.found} of {differences.of} hits are there again; timing differs by {differences.timing_ms:.1f} ms, "
            f"loudness by {differences.loudness_db:.1f} dB.")
        for one in differences.differences[:12]:
            say(f"  beat {one.at_beats + 1:.2f}: {one.text}")


def study_object(document: Document, read: GrooveRead, differences: Compared | None) -> dict[str, Any]:
    """Return what is said of a groove as plain values; beats count from the pattern's start."""
    from msgspec import UNSET

    from bompla.formats.schemas import DifferenceFound, FactFound, Study, plain
    from bompla.groove.feel import felt_pattern

    beats = {hit.id: round(hit.at_beats, 4) for hit in felt_pattern(document)}
    facts = tuple(FactFound(key=fact.key, value=fact.value, unit=fact.unit, spread=fact.spread, text=fact.text, **fact.about,
                            beats=tuple(beats[hit_id] for hit_id in fact.hit_ids if hit_id in beats)) for fact in read.facts)
    found = tuple(DifferenceFound(kind=one.kind, beat=round(one.at_beats, 4), drum=one.drum, amount=one.amount, text=one.text)
                  for one in differences.differences) if differences is not None else UNSET
    return plain(Study(facts=facts, form=read.form, found=differences.found if differences is not None else UNSET,
                       of=differences.of if differences is not None else UNSET, differences=found))
