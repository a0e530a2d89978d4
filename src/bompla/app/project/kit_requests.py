"""Kits read off the interface thread: from files, folders, other sounds, our own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from bompla.app.project.tasks import Token
from bompla.audio.clip import Clip
from bompla.export.request import ExportRequest
from bompla.kits.putting import ReadyKit
from bompla.model.document import Document

PROJECT_SUFFIX, FONT_SUFFIXES, SFZ_SUFFIX = ".bompla", (".sf2", ".sf3"), ".sfz"


@dataclass(frozen=True, eq=False)
class KitRequest:
    """A kit that is wanted at a project's rate: one that ships, by `own`; of another sound; or of `paths`, of a font the preset `number`.

    Several paths are sound files; one is an instrument, a font, a project or a folder.
    """

    sample_rate: int
    own: str = ""
    document: Document | None = None
    clip: Clip | None = None
    borrowed: Mapping[str, Clip] = field(default_factory=dict)
    paths: tuple[Path, ...] = ()
    number: int = 0


@dataclass(frozen=True, eq=False)
class KitAnswer:
    """A kit that was read, and, of a font, its presets as (number, name) to choose from."""

    kit: ReadyKit
    presets: tuple[tuple[int, str], ...] = ()


def read_kit(request: KitRequest, token: Token) -> KitAnswer:
    """Return the kit that is wanted; raises a BomplaError with a sentence where it cannot be had."""
    from bompla.formats.sf2_read import Font
    from bompla.kits.from_document import kit_from_document
    from bompla.kits.from_folder import files_in_folder, kit_from_files
    from bompla.kits.from_sf2 import drum_presets, kit_from_font
    from bompla.kits.from_sfz import kit_from_sfz
    from bompla.kits.own import own_kit
    from bompla.kits.putting import made_ready

    presets: tuple[tuple[int, str], ...] = ()
    path = request.paths[0] if request.paths else Path()
    suffix = path.suffix.lower()
    if request.own:
        kit = own_kit(request.own, token.check)
    elif request.document is not None and request.clip is not None:
        kit = kit_from_document(request.document, request.clip, request.borrowed, token.check)
    elif len(request.paths) == 1 and suffix in FONT_SUFFIXES:
        font = Font(path)
        found = drum_presets(font)
        presets = tuple((n, f"{one.name} · bank {one.bank}, program {one.program}") for n, one in enumerate(found))
        kit = kit_from_font(font, found[min(request.number, len(found) - 1)], heard_as, token.check)
    elif len(request.paths) == 1 and suffix == SFZ_SUFFIX:
        kit = kit_from_sfz(path, heard_as, token.check)
    elif len(request.paths) == 1 and suffix == PROJECT_SUFFIX:
        from bompla.formats.project import open_project

        project = open_project(path)
        sounds = project.sources
        presets = tuple((n, document.title) for n, (document, _) in enumerate(sounds)) if len(sounds) > 1 else ()
        kit = kit_from_document(*sounds[min(request.number, len(sounds) - 1)], dict(project.borrowed), token.check)
    else:
        files = tuple(file for one in request.paths for file in (files_in_folder(one) if one.is_dir() else (one,)))
        name = path.name if len(request.paths) == 1 else f"{len(files)} files"
        kit = kit_from_files(name, files, request.sample_rate, heard_as, token.check)
    return KitAnswer(made_ready(kit, request.sample_rate), presets)


def heard_as(clip: Clip, attack: int) -> str:
    """Return the drum that a sound is most likely, by ear."""
    from bompla.analysis.analyse import hear_at

    heard = hear_at(clip, [attack])[0]
    return max(heard, key=lambda one: one.confidence).drum if heard else "perc"


@dataclass(frozen=True, eq=False)
class SaveKit:
    """A document's kit that is to be saved under a name."""

    export: ExportRequest
    name: str


def keep_kit(request: SaveKit, token: Token) -> Path:
    """Save a kit where it is found again."""
    from bompla.kits.saved import kits_folder, save_kit

    return save_kit(request.export, request.name, kits_folder(), token.check)
