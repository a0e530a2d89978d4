"""The project file: a zip of `project.json`, with a format version, and FLAC audio."""

from __future__ import annotations

import io
import lzma
import struct
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.audio.files import decode_clip, encode_clip
from bompla.errors import BomplaError, ProjectError
from bompla.files import reason_of, write_atomically
from bompla.formats.migrations import MIGRATIONS
from bompla.model.checks import check_document
from bompla.model.document import Document

SUFFIX = ".bompla"
FORMAT_VERSION = 3
PROJECT_ENTRY = "project.json"
TYPE_ENTRY, MEDIA_TYPE = "mimetype", "application/x-bompla"
MAX_ENTRY_BYTES = 2_000_000_000
MAX_SOURCES = 64
_DAMAGES = (zipfile.BadZipFile, zlib.error, lzma.LZMAError, KeyError, EOFError, NotImplementedError, RuntimeError, ValueError, TypeError,
            OSError, AttributeError, struct.error, RecursionError, OverflowError)
"""What reading a zip that is damaged, and what is in it, can raise."""

MAX_HEADER_BYTES = 60_000_000
_FIXED_TIME = (2020, 1, 1, 0, 0, 0)


@dataclass(frozen=True, eq=False)
class Project:
    """What a project file holds: sounds with their documents, which of them is shown, and by content what their pads borrow."""

    sources: tuple[tuple[Document, Clip], ...]
    current: int = 0
    borrowed: Mapping[str, Clip] = field(default_factory=dict)


def project_bytes(project: Project) -> bytes:
    """Return a project as bytes; equal projects give equal bytes.

    Audio is kept as FLAC of 24 bits, and as 32-bit float WAV where FLAC cannot hold it: above
    full scale, more than 8 channels, or an unusual rate.
    """
    sources, sounds = [], {}
    documents = [_without_unused(document) for document, _ in project.sources]
    for index, (document, clip) in enumerate(zip(documents, (clip for _, clip in project.sources), strict=True)):
        name, content = _encoded(clip, f"audio/source{index + 1 if index else ''}")
        sounds[name] = content
        sources.append({"audio": name, "document": msgspec.to_builtins(document)})
    header: dict[str, Any] = {"format": "bompla project", "version": FORMAT_VERSION, "sources": sources, "current": project.current}
    wanted = sorted({sound.content_hash for document in documents for sound in document.borrowed})
    for key in wanted:
        name, sounds_bytes = _encoded(project.borrowed[key], f"audio/{key}")
        sounds[name] = sounds_bytes
        header.setdefault("borrowed", {})[key] = name
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w") as archive:
        archive.writestr(zipfile.ZipInfo(TYPE_ENTRY, _FIXED_TIME), MEDIA_TYPE)  # first and stored: what tells the file's type
        entry = zipfile.ZipInfo(PROJECT_ENTRY, _FIXED_TIME)
        entry.compress_type = zipfile.ZIP_DEFLATED
        archive.writestr(entry, msgspec.json.format(msgspec.json.encode(header), indent=1))
        for name, content in sounds.items():
            archive.writestr(zipfile.ZipInfo(name, _FIXED_TIME), content)
    return target.getvalue()


def _without_unused(document: Document) -> Document:
    """Return a document without the sounds that no pad plays any more."""
    used = {layer.of for pad in document.pads for layer in pad.layers}
    return replace(document, borrowed=tuple(sound for sound in document.borrowed if sound.content_hash in used))


def save_project(project: Project, path: Path) -> None:
    """Write a project, whole or not at all; raises ProjectError with a sentence."""
    write_atomically(path, project_bytes(project), ProjectError)


def open_project(path: Path) -> Project:
    """Read a project.

    Raises ProjectError with a sentence for a file that is missing, damaged, no project, or made
    by a newer version.
    """
    try:
        content = path.read_bytes()
    except OSError as error:
        raise ProjectError(f"Could not open {path.name}: {reason_of(error, reading=True)}.") from error
    return read_project(content, path.name)


def read_project(content: bytes, name: str) -> Project:
    """Read a project from bytes; `name` is used in error messages. Raises ProjectError."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            header = _header_of(msgspec.json.decode(_entry(archive, PROJECT_ENTRY)), name)
            sources = tuple(_source_of(archive, plain, name) for plain in header["sources"])
            borrowed = {str(key): _borrowed_of(archive, str(entry), name) for key, entry in header.get("borrowed", {}).items()}
            current = int(header["current"])
    except _DAMAGES as error:
        raise ProjectError(f"{name} is not a Bompla project, or it is damaged.") from error
    except ProjectError:
        raise
    except BomplaError as error:
        raise ProjectError(f"{name} is damaged: {error}") from error
    if not 1 <= len(sources) <= MAX_SOURCES:
        raise ProjectError(f"{name} is damaged: it holds no sound.")
    for document, clip in sources:
        for sound in document.borrowed:
            kept = borrowed.get(sound.content_hash)
            if kept is None or (kept.frames, kept.sample_rate) != (sound.frames, clip.sample_rate):
                raise ProjectError(f"{name} is damaged: the sound {sound.name}, which a pad plays, is not in it.")
    return Project(sources, max(0, min(current, len(sources) - 1)), borrowed)


def _header_of(header: Any, name: str) -> dict[str, Any]:
    if not isinstance(header, dict) or header.get("format") != "bompla project":
        raise ProjectError(f"{name} is not a Bompla project.")
    version = header.get("version")
    if not isinstance(version, int) or version < 1:
        raise ProjectError(f"{name} does not say which version it is; it is damaged.")
    if version > FORMAT_VERSION:
        raise ProjectError(f"{name} was made by a newer Bompla (format {version}); update to open it.")
    plain: dict[str, Any] = header
    while version < FORMAT_VERSION:
        plain = MIGRATIONS[version](plain)
        version += 1
    return plain


def _source_of(archive: zipfile.ZipFile, plain: Any, name: str) -> tuple[Document, Clip]:
    try:
        document = msgspec.convert(plain["document"], Document)
    except msgspec.ValidationError as error:
        raise ProjectError(f"{name} is damaged: {_misplaced(str(error))}.") from error
    check_document(document)
    source = document.source
    clip = decode_clip(_entry(archive, str(plain["audio"])), f"The sound in {name}", frames=source.frames)
    if (clip.frames, clip.sample_rate) != (source.frames, source.sample_rate):
        raise ProjectError(f"{name} is damaged: its sound is not the one its cuts were made on.")
    return document, clip


def _misplaced(words: str) -> str:
    """Return in our words what does not fit where: of a path such as `$.pads[3].note` its names."""
    path = words.partition("`$")[2].partition("`")[0]
    places = [part.partition("[")[0] for part in path.split(".") if part and not part.startswith("[")]
    named = " of ".join(reversed([place.replace("_", " ") for place in places if place]))
    return f"what it says of {named} is not of the right kind" if named else "a part of it is missing or not of the right kind"


def _borrowed_of(archive: zipfile.ZipFile, entry: str, name: str) -> Clip:
    return decode_clip(_entry(archive, entry), f"A pad's sound in {name}")


def _entry(archive: zipfile.ZipFile, name: str) -> bytes:
    if archive.getinfo(name).file_size > (MAX_HEADER_BYTES if name == PROJECT_ENTRY else MAX_ENTRY_BYTES):
        raise ProjectError(f"The part {name} of this project is too large to be right.")
    return archive.read(name)


def _encoded(clip: Clip, name: str) -> tuple[str, bytes]:
    fits = clip.channels <= 8 and clip.sample_rate <= 655_350 and float(abs(clip.samples).max(initial=0.0)) <= 1.0
    if fits:
        return f"{name}.flac", encode_clip(clip, container="FLAC", subtype="PCM_24")
    return f"{name}.wav", encode_clip(clip, container="WAV", subtype="FLOAT")
