"""What the user prefers, as one checked value in one file; a field that is broken counts as not set."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta
from platformdirs import user_config_path
from PyQt6.QtCore import QObject, pyqtSignal

from bompla.errors import SettingsError
from bompla.files import PRIVATE, is_text, read_regular, write_atomically

MOST_RECENT = 10
FILE = "preferences.json"
MOST_BYTES = 4 << 20

Name = Annotated[str, Meta(max_length=4_096)]
Curve = Annotated[float, Meta(ge=0.0, le=10.0)]


class Preferences(msgspec.Struct, frozen=True, kw_only=True):
    """All that is kept between sessions, apart from projects.

    An empty `output_device` is the system's default one, and empty MIDI ports are none; `midi_channel` counts from 1. `velocity_curves`
    has the exponent that velocities of a MIDI input are raised by. An `input_latency_s` of -1 stands for what the device reports.
    `theme` is a key of `THEMES`; `interface_scale` is used when a window is opened. `placed` is the window's place as Qt wrote it, in hex.
    """

    output_device: Name = ""
    block_frames: Literal[64, 128, 256, 512, 1024] = 256
    channels: Literal[2, 4, 6, 8] = 2
    midi_input: Name = ""
    midi_output: Name = ""
    midi_channel: Annotated[int, Meta(ge=1, le=16)] = 10
    midi_clock: bool = True
    velocity_curves: dict[str, Curve] = {}
    input_latency_s: Annotated[float, Meta(ge=-1.0, le=2.0)] = -1.0
    shelf_folder: Name = ""
    export_folder: Name = ""
    drag_folder: Name = ""
    export_options: dict[str, Any] = {}
    last_folder: Name = ""
    recent_files: Annotated[tuple[Name, ...], Meta(max_length=MOST_RECENT)] = ()
    theme: Literal["night", "day", "system", "contrast"] = "night"
    interface_scale: Annotated[float, Meta(ge=0.75, le=3.0)] = 1.0
    placed: Annotated[str, Meta(max_length=4_096, pattern="^[0-9a-f]*$")] = ""
    stage: Annotated[str, Meta(max_length=40)] = ""
    hints_put_away: tuple[str, ...] = ()

    def velocity_curve(self, midi_input: str) -> float:
        """Return the exponent for a MIDI input, 1 where none was chosen."""
        return self.velocity_curves.get(midi_input, 1.0)


class PreferenceStore(QObject):
    """Holds the preferences, and writes each change at once; `changed` carries them as they were before and as they are."""

    changed = pyqtSignal(object, object)

    def __init__(self, path: Path | None = None) -> None:
        super().__init__()
        self.path = path if path is not None else user_config_path("bompla") / FILE
        self.value = read_preferences(self.path)
        self.problem = ""

    def set(self, **values: object) -> None:
        """Change some fields; one that is not allowed is refused. Where the file cannot be written `problem` says why."""
        now = read_preferences(self.path) if not self.problem else self.value  # another window may have changed other fields meanwhile
        made = _convert({**msgspec.to_builtins(now), **values})
        before, self.value = self.value, made
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(self.path, msgspec.json.format(msgspec.json.encode(made), indent=1), SettingsError, mode=PRIVATE)
            self.problem = ""
        except (SettingsError, OSError) as error:
            self.problem = f"The settings could not be kept: {error}"
        if before != made:
            self.changed.emit(before, made)

    def add_recent(self, path: Path) -> None:
        """Put a file at the head of those opened last; one whose name is no text cannot be kept, and is left out."""
        name = str(path.resolve())
        if not is_text(path.resolve()):
            return
        rest = tuple(one for one in self.value.recent_files if one != name)
        self.set(recent_files=(name, *rest)[:MOST_RECENT], last_folder=str(path.resolve().parent))


def read_preferences(path: Path) -> Preferences:
    """Return what a file holds; usual values for fields that it lacks, or that are none."""
    try:
        kept = msgspec.json.decode(read_regular(path, MOST_BYTES, SettingsError))
    except (SettingsError, msgspec.DecodeError, RecursionError):
        return Preferences()
    return _convert(kept if isinstance(kept, dict) else {})


def _convert(kept: dict[str, object]) -> Preferences:
    good: dict[str, Any] = {}
    for field in msgspec.structs.fields(Preferences):
        if field.name in kept:
            with contextlib.suppress(msgspec.ValidationError):
                good[field.name] = msgspec.convert(kept[field.name], field.type)
    return Preferences(**good)


STORE: PreferenceStore | None = None


def preferences() -> PreferenceStore:
    """Return the one store of preferences of the application."""
    global STORE
    if STORE is None:
        STORE = PreferenceStore()
    return STORE
