"""The project file: a zip of `project.json`, with a format version, and FLAC audio."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from bompla.audio.clip import Clip
from bompla.audio.files import decode_clip, encode_clip
from bompla.errors import BomplaError, ProjectError
from bompla.files import reason_of, write_atomically
from bompla.model.document import Document, check_document

SUFFIX = ".bompla"
FORMAT_VERSION = 1
PROJECT_ENTRY = "project.json"
MAX_ENTRY_BYTES = 2_000_000_000
_FIXED_TIME = (2020, 1, 1, 0, 0, 0)

Migration = Callable[[dict[str, Any]], dict[str, Any]]
MIGRATIONS: dict[int, Migration] = {}
"""For each older version, what turns its document into the next version's."""


def project_bytes(document: Document, clip: Clip) -> bytes:
    """Return a project as bytes; equal projects give equal bytes.

    Audio is kept as FLAC of 24 bits, and as 32-bit float WAV where FLAC cannot hold it: above
    full scale, more than 8 channels, or an unusual rate.
    """
    name, content = _encoded(clip)
    plain = msgspec.to_builtins(document)
    header = {"format": "bompla project", "version": FORMAT_VERSION, "audio": name, "document": plain}
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w") as archive:
        entry = zipfile.ZipInfo(PROJECT_ENTRY, _FIXED_TIME)
        entry.compress_type = zipfile.ZIP_DEFLATED
        archive.writestr(entry, msgspec.json.format(msgspec.json.encode(header), indent=1))
        archive.writestr(zipfile.ZipInfo(name, _FIXED_TIME), content)
    return target.getvalue()


def save_project(document: Document, clip: Clip, path: Path) -> None:
    """Write a project, whole or not at all; raises ProjectError with a sentence."""
    write_atomically(path, project_bytes(document, clip), ProjectError)


def open_project(path: Path) -> tuple[Document, Clip]:
    """Read a project.

    Raises ProjectError with a sentence for a file that is missing, damaged, no project, or made
    by a newer version.
    """
    try:
        content = path.read_bytes()
    except OSError as error:
        raise ProjectError(f"Could not open {path.name}: {reason_of(error)}.") from error
    return read_project(content, path.name)


def read_project(content: bytes, name: str) -> tuple[Document, Clip]:
    """Read a project from bytes; `name` is used in error messages. Raises ProjectError."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            header = msgspec.json.decode(_entry(archive, PROJECT_ENTRY))
            document = _document_of(header, name)
            clip = decode_clip(_entry(archive, str(header.get("audio", ""))), f"The sound in {name}")
    except (zipfile.BadZipFile, KeyError, EOFError, NotImplementedError, RuntimeError, ValueError) as error:
        raise ProjectError(f"{name} is not a Bompla project, or it is damaged.") from error
    except ProjectError:
        raise
    except BomplaError as error:
        raise ProjectError(f"{name} is damaged: {error}") from error
    source = document.source
    if (clip.frames, clip.sample_rate) != (source.frames, source.sample_rate):
        raise ProjectError(f"{name} is damaged: its sound is not the one its cuts were made on.")
    return document, clip


def _document_of(header: Any, name: str) -> Document:
    if not isinstance(header, dict) or header.get("format") != "bompla project":
        raise ProjectError(f"{name} is not a Bompla project.")
    version = header.get("version")
    if not isinstance(version, int) or version < 1:
        raise ProjectError(f"{name} does not say which version it is; it is damaged.")
    if version > FORMAT_VERSION:
        raise ProjectError(f"{name} was made by a newer Bompla (format {version}); update to open it.")
    plain: Any = header.get("document")
    while version < FORMAT_VERSION:
        plain = MIGRATIONS[version](plain)
        version += 1
    try:
        document = msgspec.convert(plain, Document)
    except msgspec.ValidationError as error:
        raise ProjectError(f"{name} is damaged: {str(error).rstrip('.')}.") from error
    check_document(document)
    return document


def _entry(archive: zipfile.ZipFile, name: str) -> bytes:
    if archive.getinfo(name).file_size > MAX_ENTRY_BYTES:
        raise ProjectError(f"The part {name} of this project is too large to be right.")
    return archive.read(name)


def _encoded(clip: Clip) -> tuple[str, bytes]:
    fits = clip.channels <= 8 and clip.sample_rate <= 655_350 and float(abs(clip.samples).max(initial=0.0)) <= 1.0
    if fits:
        return "audio/source.flac", encode_clip(clip, container="FLAC", subtype="PCM_24")
    return "audio/source.wav", encode_clip(clip, container="WAV", subtype="FLOAT")
