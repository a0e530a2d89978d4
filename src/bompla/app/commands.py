"""The table of commands and their keys, from which actions, tooltips and the sheet of keys derive."""

from __future__ import annotations

from dataclasses import dataclass

from bompla.model.drums import DRUMS


@dataclass(frozen=True)
class Command:
    """A command: its key in the table, its name, its shortcut, and where it works."""

    key: str
    label: str
    shortcut: str
    where: str


EVERYWHERE, IN_BRING_IN, IN_SLICE, IN_KIT, IN_GROOVE = "Everywhere", "Bring in", "Slice", "Kit", "Groove"

COMMANDS = (
    Command("open", "Open a sound or a project", "Ctrl+O", EVERYWHERE),
    Command("add_sound", "Add a sound to the project", "Ctrl+Shift+O", EVERYWHERE),
    Command("next_sound", "Work on the project's next sound", "Ctrl+Tab", EVERYWHERE),
    Command("save", "Save the project", "Ctrl+S", EVERYWHERE),
    Command("save_as", "Save under another name", "Ctrl+Shift+S", EVERYWHERE),
    Command("undo", "Undo", "Ctrl+Z", EVERYWHERE),
    Command("redo", "Redo", "Ctrl+Shift+Z", EVERYWHERE),
    Command("play", "Play or stop", "Space", EVERYWHERE),
    Command("to_start", "Go to the start of the loop", "Home", EVERYWHERE),
    Command("loop", "Loop on or off", "Ctrl+L", EVERYWHERE),
    Command("click", "Click on or off", "Ctrl+K", EVERYWHERE),
    Command("flip", "Flip between original and rebuilt", "Ctrl+B", EVERYWHERE),
    Command("record", "Record what is played on the pads, or end it", "Ctrl+Shift+R", EVERYWHERE),
    Command("take_back", "Take back what was just played into the pattern", "Ctrl+Shift+T", EVERYWHERE),
    Command("sound", "Settings of sound", "Ctrl+,", EVERYWHERE),
    Command("write_midi", "Write a MIDI file", "Ctrl+M", EVERYWHERE),
    Command("light", "Night or day", "Ctrl+T", EVERYWHERE),
    Command("keys", "This sheet of keys", "F1", EVERYWHERE),
    Command("stage_1", "Bring in", "Ctrl+1", EVERYWHERE),
    Command("stage_2", "Slice", "Ctrl+2", EVERYWHERE),
    Command("stage_3", "Kit", "Ctrl+3", EVERYWHERE),
    Command("stage_4", "Groove", "Ctrl+4", EVERYWHERE),
    Command("stage_5", "Send out", "Ctrl+5", EVERYWHERE),
    Command("tap", "Tap the tempo", "T", IN_BRING_IN),
    Command("downbeat", "Begin the loop at the attack near the playhead", "Ctrl+D", IN_BRING_IN),
    Command("proposal_next", "Hear the next proposed loop", "Ctrl+P", IN_BRING_IN),
    Command("seam_listen", "Hear the seam, over and over", "Return", IN_BRING_IN),
    Command("loop_bar_back", "Move the loop a bar back", "Ctrl+Shift+Left", IN_BRING_IN),
    Command("loop_bar_on", "Move the loop a bar on", "Ctrl+Shift+Right", IN_BRING_IN),
    Command("loop_beat_back", "Move the loop a beat back", "Ctrl+Left", IN_BRING_IN),
    Command("loop_beat_on", "Move the loop a beat on", "Ctrl+Right", IN_BRING_IN),
    *(
        Command(f"{side}_{step}_{way}", f"Move the loop's {side} {words} {way}", f"{keys}{arrow}", IN_BRING_IN)
        for side, up in (("start", False), ("end", True))
        for step, words, keys in (
            ("sample", "a sample", "Alt+Shift+" if not up else "Alt+Shift+Ctrl+"),
            ("ms", "1 ms", "Alt+" if not up else "Alt+Ctrl+"),
            ("step", "a step", "" if not up else "Shift+"),
        )
        for way, arrow in (("earlier", "Left"), ("later", "Right"))
    ),
    Command("slice_next", "Next slice, and listen", "Right", IN_SLICE),
    Command("slice_back", "Slice before, and listen", "Left", IN_SLICE),
    Command("slice_listen", "Listen to the slice", "Return", IN_SLICE),
    Command("slice_drum", "Listen to the drum in doubt by itself, or to the one that leads", "F4", IN_SLICE),
    Command("slice_follow", "Listen to the slice and what follows", "Shift+Return", IN_SLICE),
    Command("slice_around", "Listen around the cut, for clicks", "Alt+Return", IN_SLICE),
    Command("slice_cut", "Cut at the playhead", "Ctrl+Return", IN_SLICE),
    Command("slice_between", "Cut the slice between, at its strongest inner attack", "Ctrl+Shift+Return", IN_SLICE),
    Command("slice_delete", "Take the cut out, joining its slice to the one before", "Delete", IN_SLICE),
    Command("slice_later", "Move the cut 1 ms later", "Alt+Right", IN_SLICE),
    Command("slice_earlier", "Move the cut 1 ms earlier", "Alt+Left", IN_SLICE),
    Command("slice_sample_later", "Move the cut a sample later", "Alt+Shift+Right", IN_SLICE),
    Command("slice_sample_earlier", "Move the cut a sample earlier", "Alt+Shift+Left", IN_SLICE),
    Command("slice_lock", "Lock the cut, or unlock it", "Ctrl+H", IN_SLICE),
    Command("slice_all", "Choose all slices", "Ctrl+A", IN_SLICE),
    Command("slice_alike", "Choose all slices like this", "Ctrl+Shift+A", IN_SLICE),
    Command("doubt_next", "Next slice to check", "F8", IN_SLICE),
    Command("doubt_mend", "Mend it, the first way", "F5", IN_SLICE),
    Command("doubt_second", "Mend it, the second way", "F6", IN_SLICE),
    Command("doubt_keep", "Keep it as it is", "F7", IN_SLICE),
    Command("doubt_keep_all", "Keep it and all that are like it", "Shift+F7", IN_SLICE),
    Command("slice_rename", "Rename the slice", "F2", IN_SLICE),
    Command("slice_leave", "Leave the slice out, or take it in", "Ctrl+E", IN_SLICE),
    *(Command(f"call_{drum.key}", f"Call the slice {drum.label.lower()}", f"Alt+{drum.letter}", IN_SLICE) for drum in DRUMS.values()),
    Command("zoom_in", "Show less, larger", "Ctrl++", IN_SLICE),
    Command("zoom_out", "Show more, smaller", "Ctrl+-", IN_SLICE),
    Command("zoom_all", "Show the whole loop", "Ctrl+0", IN_SLICE),
    Command("pad_rename", "Rename the pad", "F2", IN_KIT),
    Command("kit_remake", "Make the kit again from the slices; what was done by hand stays", "Ctrl+R", IN_KIT),
    Command("colour", "Colour of the kit on or off, at equal loudness", "Ctrl+J", EVERYWHERE),
    Command("pad_file", "Put a sound from a file on the pad", "Ctrl+Shift+F", IN_KIT),
    Command("pad_clear", "Take the slices off the pad", "Delete", IN_KIT),
    Command("ghost_back", "Take back the original's hits that the chosen lane lacks", "Ctrl+H", IN_GROOVE),
    Command("heard_pins", "Show or hide what was heard and the pattern lacks", "Ctrl+Shift+H", IN_GROOVE),
    Command("feel_write", "Write the feel into the hits", "Ctrl+W", IN_GROOVE),
    Command("writer_cancel", "Close the open writer, leaving the pattern as it is", "Escape", IN_GROOVE),
    Command("variation_copy", "Copy this variation, to change the copy", "Ctrl+Shift+N", IN_GROOVE),
    Command("hit_delete", "Take the selected hits out", "Delete", IN_GROOVE),
    Command("hit_all", "Select all hits", "Ctrl+A", IN_GROOVE),
    Command("hit_louder", "Selected hits harder", "Up", IN_GROOVE),
    Command("hit_softer", "Selected hits softer", "Down", IN_GROOVE),
    Command("hit_later", "Selected hits a step later", "Right", IN_GROOVE),
    Command("hit_earlier", "Selected hits a step earlier", "Left", IN_GROOVE),
    Command("hit_behind", "Selected hits 1 ms later", "Alt+Right", IN_GROOVE),
    Command("hit_ahead", "Selected hits 1 ms earlier", "Alt+Left", IN_GROOVE),
    Command("hit_grid", "Selected hits onto the grid", "Ctrl+G", IN_GROOVE),
    Command("hit_copy", "Copy the selected hits", "Ctrl+C", IN_GROOVE),
    Command("hit_cut", "Cut the selected hits out, to be pasted", "Ctrl+X", IN_GROOVE),
    Command("hit_paste", "Paste at the beat of the playhead", "Ctrl+V", IN_GROOVE),
    Command("hit_again", "Selected hits once more, right behind", "Ctrl+D", IN_GROOVE),
    Command("hit_repeat", "Repeat these bars to the end", "Ctrl+E", IN_GROOVE),
    Command("hit_reverse", "Play these bars backwards", "Alt+R", IN_GROOVE),
    Command("hit_rotate", "Move these bars a step along, round their end", "Alt+Shift+Right", IN_GROOVE),
    Command("hit_half", "Half time: the first half fills these bars", "Alt+H", IN_GROOVE),
    Command("hit_double", "Double time: these bars twice as fast, twice", "Alt+D", IN_GROOVE),
    Command("choose_lane", "Choose the lane", "Alt+L", IN_GROOVE),
    Command("choose_bar", "Choose the bar", "Alt+B", IN_GROOVE),
    Command("choose_step", "Choose the same step of every beat", "Alt+S", IN_GROOVE),
    Command("choose_softer", "Choose what is as soft or softer", "Alt+Down", IN_GROOVE),
    Command("choose_louder", "Choose what is as hard or harder", "Alt+Up", IN_GROOVE),
)

BY_KEY = {command.key: command for command in COMMANDS}

GESTURES = (
    ("Bring in", "drag a handle, or the loop between", "move start, end or all of it; with Alt it does not snap"),
    ("Bring in", "click a bar of the drums' clearness", "begin the loop there"),
    ("Bring in", "drag at the seam, left or right", "move the loop's end or start; the wheel zooms to the samples"),
    ("Bring in", "arrows in the shelf, Return", "hear the next loop, open it"),
    ("Slice", "click", "choose and hear a slice"),
    ("Slice", "double click", "cut there, at the attack if one is near; with Alt exactly there"),
    ("Slice", "drag a cut", "move it; with Alt it does not snap"),
    ("Slice", "drag the line", "cut at more or fewer attacks"),
    ("Slice", "Ctrl or Shift and a click", "choose more slices"),
    ("Slice", "drag a short line between two rows", "make one row higher"),
    ("Kit", "Z to V, A to F, Q to R, 1 to 4", "play the pads, in every stage"),
    ("Kit", "press higher on a pad", "play it harder"),
    ("Kit", "drag a slice or a pad", "put it on a pad, or swap pads; with Ctrl add the slice, or copy the pad"),
    ("Kit", "drag a point of a picture, or a bar", "shape the pad; a double click brings it back"),
    ("Kit", "drag on the keyboard of a pad", "play it at the pitch of these notes"),
    ("Kit", "drag the grip of a colour", "move it up or down the chain"),
    ("Groove", "click in a lane", "draw a hit"),
    ("Groove", "drag a pin along, or up and down", "move it in time, or change its velocity; with Alt off the grid"),
    ("Groove", "drag in a lane", "select hits; Shift and a click adds one"),
    ("Groove", "right click, or drag with the right button", "take a hit out, or all that are passed"),
    ("Groove", "Ctrl and drag in a lane", "brush hits along the grid"),
    ("Groove", "draw in the strip below", "set offset, velocity, length, pitch or chance of the chosen lane's hits"),
    ("Groove", "drag in the order", "move a step, or play it more or less often"),
    ("Groove", "click a faint pin", "take back that hit of the original"),
    ("Groove", "click mute or solo in a lane", "hear the pattern without it, or only it"),
    ("Pictures", "wheel, Shift and wheel", "zoom, scroll"),
)


def tip(key: str) -> str:
    """Return the tooltip of a command: what it does, and its key."""
    command = BY_KEY[key]
    return f"{command.label} ({command.shortcut})"
