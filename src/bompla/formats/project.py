"""The project file: a zip of `project.json`, with a format version, and its audio to the sample."""

from __future__ import annotations

import io
import lzma
import os
import shutil
import struct
import tempfile
import zipfile
import zlib
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

import msgspec
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.audio.files import MOST_SAMPLES, decode_clip, kept_bytes, kept_suffix
from bompla.errors import BomplaError, ProjectError
from bompla.files import name_of, open_regular, reason_of, write_atomically
from bompla.formats.migrations import MIGRATIONS
from bompla.model.checks import check_document
from bompla.model.document import Borrowed, Document

SUFFIX = ".bompla"
FORMAT_VERSION = 5
PROJECT_ENTRY = "project.json"
TYPE_ENTRY, MEDIA_TYPE = "mimetype", "application/x-bompla"
MAX_SOURCES = 64
MOST_FILE_BYTES = 8_000_000_000
MAX_HEADER_BYTES, MOST_ENTRY_BYTES, SPOOLED_BYTES = 60_000_000, 4 * MOST_SAMPLES + 1_000_000, 64 << 20
MOST_PROJECT_SAMPLES = 2 * MOST_SAMPLES
"""So many numbers is the most that all sounds of a project hold together."""

_DAMAGES = (zipfile.BadZipFile, zlib.error, lzma.LZMAError, KeyError, EOFError, NotImplementedError, RuntimeError, ValueError, TypeError,
            OSError, AttributeError, struct.error, RecursionError, OverflowError)
"""What reading a zip that is damaged, and what is in it, can raise."""

_BY_CONTENT_FROM = 4
"""From this version on a project keeps every sample, so that a sound is known by its content; before, by its length alone."""

_FIXED_TIME = (2020, 1, 1, 0, 0, 0)


@dataclass(frozen=True, eq=False)
class Project:
    """What a project file holds: sounds with their documents, which of them is shown, and by content what their pads borrow."""

    sources: tuple[tuple[Document, Clip], ...]
    current: int = 0
    borrowed: Mapping[str, Clip] = field(default_factory=dict)


def project_bytes(project: Project) -> bytes:
    """Return a project as bytes; equal projects give equal bytes. Raises ProjectError for one that could not be read again."""
    target = io.BytesIO()
    write_project(project, target)
    return target.getvalue()


def write_project(project: Project, target: IO[bytes]) -> None:
    """Write a project to a stream, a sound at a time; equal projects give equal bytes.

    Audio is kept to the sample: as FLAC of 24 bits where that holds it, else as 32-bit float WAV. Raises ProjectError for one that could
    not be read again: of too many sounds, or too long ones.
    """
    check_fits([clip for _, clip in project.sources], project.borrowed.values())
    documents = [_without_unused(document) for document, _ in project.sources]
    wanted = sorted({sound.content_hash for document in documents for sound in document.borrowed})
    clips = {f"source{n + 1 if n else ''}": clip for n, (_, clip) in enumerate(project.sources)}
    clips |= {key: project.borrowed[key] for key in wanted}
    names = {stem: f"audio/{stem}{kept_suffix(clip)}" for stem, clip in clips.items()}
    sources = [{"audio": names[stem], "document": msgspec.to_builtins(document)}
               for stem, document in zip(clips, documents, strict=False)]  # those of the sounds come first
    header: dict[str, Any] = {"format": "bompla project", "version": FORMAT_VERSION, "sources": sources, "current": project.current}
    if wanted:
        header["borrowed"] = {key: names[key] for key in wanted}
    content = msgspec.json.format(msgspec.json.encode(header), indent=1)
    if len(content) > MAX_HEADER_BYTES:
        raise ProjectError("This project has more hits and cuts than one file can hold; remove a sound, or clear patterns, first.")
    with zipfile.ZipFile(target, "w") as archive:
        archive.writestr(zipfile.ZipInfo(TYPE_ENTRY, _FIXED_TIME), MEDIA_TYPE)  # first and stored: what tells the file's type
        entry = zipfile.ZipInfo(PROJECT_ENTRY, _FIXED_TIME)
        entry.compress_type = zipfile.ZIP_DEFLATED
        archive.writestr(entry, content)
        for stem, clip in clips.items():
            archive.writestr(zipfile.ZipInfo(names[stem], _FIXED_TIME), kept_bytes(clip))


def check_fits(sounds: Collection[Clip], borrowed: Iterable[Clip] = ()) -> None:
    """Raise ProjectError with a sentence where a project of these sounds could not be saved and opened again."""
    if len(sounds) > MAX_SOURCES:
        raise ProjectError(f"A project holds up to {MAX_SOURCES} sounds; remove one first, or begin another project.")
    if sum(clip.samples.size for clip in (*sounds, *borrowed)) > MOST_PROJECT_SAMPLES:
        raise ProjectError("A project holds up to two hours of stereo sound; remove a sound first, or begin another project.")


def _without_unused(document: Document) -> Document:
    """Return a document without the sounds that no pad plays any more."""
    used = {layer.of for pad in document.pads for layer in pad.layers}
    return replace(document, borrowed=tuple(sound for sound in document.borrowed if sound.content_hash in used))


def save_project(project: Project, path: Path) -> None:
    """Write a project, whole or not at all, once it was seen that it can be read again; raises ProjectError with a sentence."""
    write_atomically(path, lambda stream: write_project(project, stream), ProjectError, check=lambda written: _check_same(project, written))


def _check_same(project: Project, written: Path) -> None:
    """Raise ProjectError where a file that was written does not hold a project as it is."""
    try:
        found = open_project(written)
    except ProjectError as error:
        raise ProjectError(f"What was written could not be read again, and was not put in place of anything ({error}).") from error
    documents = [_without_unused(document) for document, _ in project.sources]
    if [document for document, _ in found.sources] != documents:
        raise ProjectError("What was written is not the project as it is, and was not put in place of anything; save it again.")


def open_project(path: Path) -> Project:
    """Read a project.

    Raises ProjectError with a sentence for a file that is missing, damaged, no project, or made
    by a newer version.
    """
    try:
        with open_regular(path) as stream:
            if os.fstat(stream.fileno()).st_size > MOST_FILE_BYTES:
                raise ProjectError(f"{name_of(path)} is too large to be a Bompla project.")
            return _read(stream, name_of(path))
    except OSError as error:
        raise ProjectError(f"Could not open {name_of(path)}: {reason_of(error, reading=True)}.") from error


def read_project(content: bytes, name: str) -> Project:
    """Read a project from bytes; `name` is used in error messages. Raises ProjectError."""
    return _read(io.BytesIO(content), name)


def _read(stream: IO[bytes], name: str) -> Project:
    try:
        with zipfile.ZipFile(stream) as archive:
            header, version = _header_of(msgspec.json.decode(_header_bytes(archive)), name)
            if not 1 <= len(header["sources"]) <= MAX_SOURCES:
                raise ProjectError(f"{name} is damaged: it holds no sound, or more than {MAX_SOURCES}.")
            documents = [_document_of(plain, name) for plain in header["sources"]]
            sounds = _Sounds(archive, name)
            entries = {str(key): str(entry) for key, entry in header.get("borrowed", {}).items()}
            if version < _BY_CONTENT_FROM:
                documents, entries = _rekeyed(documents, entries, sounds)
            sources = tuple(_source_of(sounds, str(plain["audio"]), document, version)
                            for plain, document in zip(header["sources"], documents, strict=True))
            borrowed = _borrowed_of(sounds, entries, sources)
            current = int(header["current"])
    except ProjectError:
        raise
    except BomplaError as error:
        raise ProjectError(f"{name} is damaged: {error}") from error
    except _DAMAGES as error:
        raise ProjectError(f"{name} is not a Bompla project, or it is damaged.") from error
    return Project(sources, max(0, min(current, len(sources) - 1)), borrowed)


class _Sounds:
    """The sounds of a project's archive: each is decoded once, and no more than so much of all together."""

    def __init__(self, archive: zipfile.ZipFile, name: str) -> None:
        self._archive, self.name = archive, name
        self._known: dict[str, Clip] = {}
        self._samples = 0

    def clip(self, entry: str, what: str, frames: int) -> Clip:
        """Return the sound of an entry, so many frames long; raises ProjectError or SoundFileError."""
        if entry not in self._known:
            info = self._archive.getinfo(entry)
            if info.file_size > MOST_ENTRY_BYTES:
                raise ProjectError(f"The part {entry} of this project is too large to be right.")
            with self._archive.open(info) as packed, tempfile.SpooledTemporaryFile(SPOOLED_BYTES) as stream:
                shutil.copyfileobj(packed, stream, 1 << 20)
                stream.seek(0)
                clip = decode_clip(stream, what, frames=frames)
            self._samples += clip.samples.size
            if self._samples > MOST_PROJECT_SAMPLES:
                raise ProjectError(f"{self.name} holds more sound than can be opened, over two hours of stereo.")
            self._known[entry] = clip
        return self._known[entry]

    def of_pad(self, entry: str, sound: Borrowed) -> Clip:
        """Return the sound of an entry that a pad borrows."""
        return self.clip(entry, f"{sound.name}, which a pad plays, in {self.name}", sound.frames)


def _header_of(header: Any, name: str) -> tuple[dict[str, Any], int]:
    """Return what a header says as the present version says it, and which version it is of."""
    if not isinstance(header, dict) or header.get("format") != "bompla project":
        raise ProjectError(f"{name} is not a Bompla project.")
    version = header.get("version")
    if not isinstance(version, int) or version < 1:
        raise ProjectError(f"{name} does not say which version it is; it is damaged.")
    if version > FORMAT_VERSION:
        raise ProjectError(f"{name} was made by a newer Bompla (format {version}); update to open it.")
    plain: dict[str, Any] = header
    for older in range(version, FORMAT_VERSION):
        plain = MIGRATIONS[older](plain)
    return plain, version


def _document_of(plain: Any, name: str) -> Document:
    try:
        document = msgspec.convert(plain["document"], Document)
    except msgspec.ValidationError as error:
        raise ProjectError(f"{name} is damaged: {_misplaced(str(error))}.") from error
    check_document(document)
    return document


def _source_of(sounds: _Sounds, entry: str, document: Document, version: int) -> tuple[Document, Clip]:
    source = document.source
    clip = sounds.clip(entry, f"The sound in {sounds.name}", source.frames)
    if version < _BY_CONTENT_FROM:
        return replace(document, source=replace(source, content_hash=clip.content_hash)), clip
    if (clip.frames, clip.sample_rate, clip.content_hash) != (source.frames, source.sample_rate, source.content_hash):
        raise ProjectError(f"{sounds.name} is damaged: its sound is not the one its cuts were made on.")
    return document, clip


def _rekeyed(
    documents: list[Document], entries: dict[str, str], sounds: _Sounds
) -> tuple[list[Document], dict[str, str]]:
    """Return documents of an older version, and the entries of what their pads borrow, by the content that is there.

    It was rounded to 24 bits when it was saved, and known by what it was before.
    """
    now = {sound.content_hash: sounds.of_pad(entries[sound.content_hash], sound).content_hash
           for document in documents for sound in document.borrowed if sound.content_hash in entries}
    made = []
    for document in documents:
        borrowed = tuple(replace(sound, content_hash=now.get(sound.content_hash, sound.content_hash)) for sound in document.borrowed)
        pads = tuple(replace(pad, layers=tuple(replace(layer, of=now.get(layer.of, layer.of)) for layer in pad.layers))
                     for pad in document.pads)
        made.append(replace(document, borrowed=borrowed, pads=pads) if now else document)
    return made, {now.get(key, key): entry for key, entry in entries.items()}


def _borrowed_of(sounds: _Sounds, entries: Mapping[str, str], sources: Iterable[tuple[Document, Clip]]) -> dict[str, Clip]:
    """Return what pads borrow by content: those sounds alone that a document names."""
    found: dict[str, Clip] = {}
    for document, clip in sources:
        for sound in document.borrowed:
            key = sound.content_hash
            if key in entries:
                found[key] = sounds.of_pad(entries[key], sound)
            kept = found.get(key)
            if kept is None or (kept.frames, kept.sample_rate, kept.content_hash) != (sound.frames, clip.sample_rate, key):
                raise ProjectError(f"{sounds.name} is damaged: the sound {sound.name}, which a pad plays, is not in it.")
    return found


def _misplaced(words: str) -> str:
    """Return in our words what does not fit where: of a path such as `$.pads[3].note` its names."""
    path = words.partition("`$")[2].partition("`")[0]
    places = [part.partition("[")[0] for part in path.split(".") if part and not part.startswith("[")]
    named = " of ".join(reversed([place.replace("_", " ") for place in places if place]))
    return f"what it says of {named} is not of the right kind" if named else "a part of it is missing or not of the right kind"


def _header_bytes(archive: zipfile.ZipFile) -> bytes:
    info = archive.getinfo(PROJECT_ENTRY)
    if info.file_size > MAX_HEADER_BYTES:
        raise ProjectError(f"The part {PROJECT_ENTRY} of this project is too large to be right.")
    with archive.open(info) as stream:
        return stream.read(MAX_HEADER_BYTES + 1)
