"""Reading SFZ: headers, includes and definitions, merged into regions that stand for themselves.

As in "SFZ format, opcodes of the first version" (Cakewalk, 2004) with `#include`, `#define`, `<control> default_path` and `seq_*`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from bompla.errors import KitError
from bompla.files import name_of, read_regular

MOST_BYTES = 8 << 20
MOST_REGIONS = 8_192
DEEPEST_INCLUDE = 12

_HEADERS = ("global", "master", "group", "region")
_TOKEN = re.compile(r"<(\w+)>|([A-Za-z_][\w$]*)=|(#include)\s+\"([^\"]+)\"|(#define)\s+(\$\w+)\s+(\S+)")
_COMMENT = re.compile(r"//[^\n]*|/\*.*?\*/", re.DOTALL)
_NOTES = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}


@dataclass(frozen=True)
class SfzRegion:
    """One region with all that its headers say: where its sample is, as it is written, and its opcodes."""

    sample: str
    opcodes: dict[str, str]

    def number(self, name: str, default: float) -> float:
        """Return an opcode as a number; the default where it is not there, or is none."""
        try:
            value = float(self.opcodes.get(name, default))
        except ValueError:
            return default
        return value if abs(value) < 1e9 else default

    def note(self, name: str, default: int) -> int:
        """Return an opcode as a MIDI note, given as a number or as a name such as c#3."""
        words = self.opcodes.get(name, "").strip().lower()
        found = re.fullmatch(r"([a-g])([#b]?)(-?\d+)", words)
        if found:
            return _NOTES[found[1]] + {"#": 1, "b": -1, "": 0}[found[2]] + 12 * (int(found[3]) + 1)
        return round(self.number(name, default))


def read_sfz(path: Path) -> tuple[SfzRegion, ...]:
    """Return the regions of an instrument.

    Raises KitError with a sentence for a file that cannot be read, includes that go round or are not there, and one without a region.
    """
    regions = tuple(_regions(path, _text(path, path.parent, ())))
    if not regions:
        raise KitError(f"{name_of(path)} holds no region with a sample; is it an SFZ instrument?")
    return regions


def _text(path: Path, root: Path, within: tuple[Path, ...]) -> str:
    """Return a file's text with what it includes in its place."""
    if path in within or len(within) > DEEPEST_INCLUDE:
        raise KitError(f"{name_of(within[0])} includes itself by way of {name_of(path)}; it cannot be read.")
    content = read_regular(path, MOST_BYTES, KitError)
    if b"\0" in content[:4_096]:
        raise KitError(f"{name_of(path)} is no SFZ text.")
    text = _COMMENT.sub(" ", content.decode("utf-8", "replace"))
    made, at = [], 0
    for found in _TOKEN.finditer(text):
        if found[3]:
            made.append(text[at : found.start()])
            made.append(_text(inside(root, found[4], path), root, (*within, path)))
            at = found.end()
    whole = "".join([*made, text[at:]])
    if len(whole) > MOST_BYTES:
        raise KitError(f"{name_of(path)} is too large with all that it includes.")
    return whole


def inside(root: Path, written: str, named_by: Path) -> Path:
    """Return the file that a path in an instrument stands for; raises KitError where it leaves the instrument's folder."""
    path = (root / written.strip().replace("\\", "/")).resolve()
    if not path.is_relative_to(root.resolve()):
        raise KitError(f"{name_of(named_by)} names a file outside its own folder ({written.strip()[:80]}); that is not read.")
    return path


def _regions(path: Path, text: str) -> Iterator[SfzRegion]:
    scopes: dict[str, dict[str, str]] = {name: {} for name in _HEADERS}
    defined: dict[str, str] = {}
    default_path, header, count = "", "", 0

    def region() -> Iterator[SfzRegion]:
        merged = {name: value for scope in _HEADERS for name, value in scopes[scope].items()}
        if header == "region" and (sample := merged.pop("sample", "")):
            yield SfzRegion(default_path + sample, merged)

    tokens = list(_TOKEN.finditer(text))
    for found, after in zip(tokens, [*tokens[1:], None], strict=False):
        if found[5]:
            defined[found[6]] = found[7]
        elif found[1]:
            yield from region()
            header, count = found[1].lower(), count + 1
            if count > MOST_REGIONS:
                raise KitError(f"{name_of(path)} has more than {MOST_REGIONS:,} regions and groups; that is more than a kit can be.")
            if header in scopes:
                for inner in _HEADERS[_HEADERS.index(header) :]:
                    scopes[inner] = {}
        elif found[2]:
            value = text[found.end() : after.start() if after is not None else len(text)].strip()
            value = value if found[2] == "sample" else value.split("\n")[0].strip()
            name = _filled(found[2], defined).lower()
            if header == "control":
                default_path = _filled(value, defined) if name == "default_path" else default_path
            elif header in scopes:
                scopes[header][name] = _filled(value.split("\n")[0].strip(), defined)
    yield from region()


def _filled(words: str, defined: dict[str, str]) -> str:
    for name in sorted(defined, key=len, reverse=True):
        words = words.replace(name, defined[name])
    return words
