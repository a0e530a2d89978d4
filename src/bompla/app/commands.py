"""The table of commands and their keys, from which actions, tooltips and the sheet of keys derive."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Command:
    """A command: its key in the table, its name, its shortcut, and where it works."""

    key: str
    label: str
    shortcut: str
    where: str


EVERYWHERE, IN_SLICE, IN_KIT, IN_GROOVE = "Everywhere", "Slice", "Kit", "Groove"

COMMANDS = (
    Command("open", "Open a sound or a project", "Ctrl+O", EVERYWHERE),
    Command("save", "Save the project", "Ctrl+S", EVERYWHERE),
    Command("save_as", "Save under another name", "Ctrl+Shift+S", EVERYWHERE),
    Command("undo", "Undo", "Ctrl+Z", EVERYWHERE),
    Command("redo", "Redo", "Ctrl+Shift+Z", EVERYWHERE),
    Command("play", "Play or stop", "Space", EVERYWHERE),
    Command("to_start", "Go to the start of the loop", "Home", EVERYWHERE),
    Command("loop", "Loop on or off", "Ctrl+L", EVERYWHERE),
    Command("click", "Click on or off", "Ctrl+K", EVERYWHERE),
    Command("flip", "Flip between original and rebuilt", "Ctrl+B", EVERYWHERE),
    Command("write_midi", "Write a MIDI file", "Ctrl+M", EVERYWHERE),
    Command("light", "Night or day", "Ctrl+T", EVERYWHERE),
    Command("keys", "This sheet of keys", "F1", EVERYWHERE),
    Command("stage_1", "Bring in", "Ctrl+1", EVERYWHERE),
    Command("stage_2", "Slice", "Ctrl+2", EVERYWHERE),
    Command("stage_3", "Kit", "Ctrl+3", EVERYWHERE),
    Command("stage_4", "Groove", "Ctrl+4", EVERYWHERE),
    Command("stage_5", "Send out", "Ctrl+5", EVERYWHERE),
    Command("slice_next", "Next slice, and listen", "Right", IN_SLICE),
    Command("slice_back", "Slice before, and listen", "Left", IN_SLICE),
    Command("slice_listen", "Listen to the slice", "Return", IN_SLICE),
    Command("slice_cut", "Cut at the playhead", "Ctrl+Return", IN_SLICE),
    Command("slice_delete", "Take the cut out, joining its slice to the one before", "Delete", IN_SLICE),
    Command("slice_later", "Move the cut 1 ms later", "Alt+Right", IN_SLICE),
    Command("slice_earlier", "Move the cut 1 ms earlier", "Alt+Left", IN_SLICE),
    Command("slice_rename", "Rename the slice", "F2", IN_SLICE),
    Command("slice_leave", "Leave the slice out, or take it in", "Ctrl+E", IN_SLICE),
    Command("zoom_in", "Show less, larger", "Ctrl++", IN_SLICE),
    Command("zoom_out", "Show more, smaller", "Ctrl+-", IN_SLICE),
    Command("zoom_all", "Show the whole loop", "Ctrl+0", IN_SLICE),
    Command("pad_rename", "Rename the pad", "F2", IN_KIT),
    Command("pad_clear", "Take the slices off the pad", "Delete", IN_KIT),
    Command("hit_delete", "Take the selected hits out", "Delete", IN_GROOVE),
    Command("hit_all", "Select all hits", "Ctrl+A", IN_GROOVE),
    Command("hit_louder", "Selected hits harder", "Up", IN_GROOVE),
    Command("hit_softer", "Selected hits softer", "Down", IN_GROOVE),
    Command("hit_later", "Selected hits a step later", "Right", IN_GROOVE),
    Command("hit_earlier", "Selected hits a step earlier", "Left", IN_GROOVE),
    Command("hit_behind", "Selected hits 1 ms later", "Alt+Right", IN_GROOVE),
    Command("hit_ahead", "Selected hits 1 ms earlier", "Alt+Left", IN_GROOVE),
    Command("hit_grid", "Selected hits onto the grid", "Ctrl+G", IN_GROOVE),
)

BY_KEY = {command.key: command for command in COMMANDS}

GESTURES = (
    ("Slice", "click", "choose and hear a slice"),
    ("Slice", "double click", "cut there, at the attack if one is near; with Alt exactly there"),
    ("Slice", "drag a cut", "move it; with Alt it does not snap"),
    ("Slice", "drag the line", "cut at more or fewer attacks"),
    ("Kit", "Z to V, A to F, Q to R, 1 to 4", "play the pads, in every stage"),
    ("Kit", "press higher on a pad", "play it harder"),
    ("Kit", "drag a slice or a pad", "put it on a pad, or swap pads"),
    ("Groove", "click in a lane", "draw a hit"),
    ("Groove", "drag a pin along, or up and down", "move it in time, or change its velocity; with Alt off the grid"),
    ("Groove", "drag in a lane", "select hits; Shift and a click adds one"),
    ("Groove", "right click", "take a hit out"),
    ("Pictures", "wheel, Shift and wheel", "zoom, scroll"),
)


def tip(key: str) -> str:
    """Return the tooltip of a command: what it does, and its key."""
    command = BY_KEY[key]
    return f"{command.label} ({command.shortcut})"
