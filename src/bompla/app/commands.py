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


STAGES = {"bring-in": "Bring in", "slice": "Slice", "kit": "Kit", "groove": "Groove", "study": "Study", "send-out": "Send out"}
"""The stages by key, in the order of the work, as they are called; their keys are Ctrl and their number."""

HINTS = {
    "bring-in": "Space plays. Drag the loop’s ends until nothing is heard at its seam.",
    "slice": "Double click cuts. F8 goes to what is worth a look.",
    "kit": "Play the pads: Z to V, A to F, Q to R, 1 to 4.",
    "groove": "Click in a lane draws a hit, a right click deletes one.",
    "study": "Click a sentence to hear just its hits.",
    "send-out": "Drag a handle straight into another program.",
}
"""One hint a stage, until it is put away."""

EVERYWHERE = "Everywhere"
IN_BRING_IN, IN_SLICE, IN_KIT, IN_GROOVE, IN_STUDY = (STAGES[key] for key in ("bring-in", "slice", "kit", "groove", "study"))

STEP_KEYS = {("start", "step", "earlier"): "Alt+Down", ("start", "step", "later"): "Alt+Up"}
"""The arrows alone move the whole loop, so the steps of its start have other keys."""

COMMANDS = (
    Command("open", "Open a sound or a project", "Ctrl+O", EVERYWHERE),
    Command("add_sound", "Add a sound to the project", "Ctrl+Shift+O", EVERYWHERE),
    Command("next_sound", "Next sound of the project", "Ctrl+Tab", EVERYWHERE),
    Command("save", "Save the project", "Ctrl+S", EVERYWHERE),
    Command("save_as", "Save under another name", "Ctrl+Shift+S", EVERYWHERE),
    Command("undo", "Undo", "Ctrl+Z", EVERYWHERE),
    Command("redo", "Redo", "Ctrl+Shift+Z", EVERYWHERE),
    Command("play", "Play or stop", "Space", EVERYWHERE),
    Command("to_start", "Go to the start of the loop", "Home", EVERYWHERE),
    Command("loop", "Loop on or off", "Ctrl+L", EVERYWHERE),
    Command("click", "Click on or off", "Ctrl+K", EVERYWHERE),
    Command("flip", "Switch between original and rebuilt", "Ctrl+B", EVERYWHERE),
    Command("record", "Record the pads, or stop recording", "Ctrl+Shift+R", EVERYWHERE),
    Command("capture", "Capture what I just played", "Ctrl+Shift+T", EVERYWHERE),
    Command("zoom_in", "Zoom in", "Ctrl++", EVERYWHERE),
    Command("zoom_out", "Zoom out", "Ctrl+-", EVERYWHERE),
    Command("zoom_all", "Show all of it", "Ctrl+0", EVERYWHERE),
    Command("settings", "Settings", "Ctrl+,", EVERYWHERE),
    Command("write_midi", "Write a MIDI file", "Ctrl+M", EVERYWHERE),
    Command("light", "Night or day theme", "Ctrl+T", EVERYWHERE),
    Command("help", "Help for this stage", "F1", EVERYWHERE),
    Command("table", "Show slices, pads or hits as a table", "F3", EVERYWHERE),
    Command("keys", "Find a command by its words", "Shift+F1", EVERYWHERE),
    *(Command(f"stage_{key}", title, f"Ctrl+{number}", EVERYWHERE) for number, (key, title) in enumerate(STAGES.items(), 1)),
    Command("tap", "Tap the tempo", "T", IN_BRING_IN),
    Command("downbeat", "Put the downbeat at the attack nearest the playhead", "Ctrl+D", IN_BRING_IN),
    Command("loop_half_bar", "Let bars begin half a bar later", "Ctrl+Shift+D", IN_BRING_IN),
    Command("proposal_next", "Play the next suggested loop", "Ctrl+P", IN_BRING_IN),
    Command("proposal_use", "Use the suggested loop that was played", "Ctrl+Shift+P", IN_BRING_IN),
    Command("zoom_loop", "Zoom to the loop", "Ctrl+9", IN_BRING_IN),
    Command("seam_listen", "Play the seam repeatedly", "Return", IN_BRING_IN),
    Command("seam_mend", "Mend the seam", "F5", IN_BRING_IN),
    Command("loop_bar_back", "Move the loop a bar back", "Ctrl+Shift+Left", IN_BRING_IN),
    Command("loop_bar_on", "Move the loop a bar forward", "Ctrl+Shift+Right", IN_BRING_IN),
    Command("loop_beat_back", "Move the loop a beat back", "Ctrl+Left", IN_BRING_IN),
    Command("loop_beat_on", "Move the loop a beat forward", "Ctrl+Right", IN_BRING_IN),
    Command("loop_step_back", "Move the loop to the attack before; its tempo stays", "Left", IN_BRING_IN),
    Command("loop_step_on", "Move the loop to the next attack; its tempo stays", "Right", IN_BRING_IN),
    *(
        Command(f"{side}_{step}_{way}", f"Move the loop's {side} {words} {way}", STEP_KEYS.get((side, step, way), f"{keys}{arrow}"),
                IN_BRING_IN)
        for side, up in (("start", False), ("end", True))
        for step, words, keys in (
            ("sample", "a sample", "Alt+Shift+" if not up else "Alt+Shift+Ctrl+"),
            ("ms", "1 ms", "Alt+" if not up else "Alt+Ctrl+"),
            ("step", "a step", "" if not up else "Shift+"),
        )
        for way, arrow in (("earlier", "Left"), ("later", "Right"))
    ),
    Command("slice_next", "Play the next slice", "Right", IN_SLICE),
    Command("slice_back", "Play the previous slice", "Left", IN_SLICE),
    Command("slice_listen", "Play the slice", "Return", IN_SLICE),
    Command("slice_drum", "Play only the drum in doubt, or the main drum", "F4", IN_SLICE),
    Command("slice_follow", "Play the slice and what follows", "Shift+Return", IN_SLICE),
    Command("slice_around", "Play around the cut, to hear clicks", "Alt+Return", IN_SLICE),
    Command("slice_cut", "Cut at the playhead", "Ctrl+Return", IN_SLICE),
    Command("slice_between", "Split the slice at its strongest inner attack", "Ctrl+Shift+Return", IN_SLICE),
    Command("slice_delete", "Delete the cut; its slice joins the previous one", "Delete", IN_SLICE),
    Command("slice_later", "Move the cut 1 ms later", "Alt+Right", IN_SLICE),
    Command("slice_earlier", "Move the cut 1 ms earlier", "Alt+Left", IN_SLICE),
    Command("slice_sample_later", "Move the cut a sample later", "Alt+Shift+Right", IN_SLICE),
    Command("slice_sample_earlier", "Move the cut a sample earlier", "Alt+Shift+Left", IN_SLICE),
    Command("slice_lock", "Lock or unlock the cut", "Ctrl+H", IN_SLICE),
    Command("slice_all", "Select all slices", "Ctrl+A", IN_SLICE),
    Command("slice_alike", "Select all similar slices", "Ctrl+Shift+A", IN_SLICE),
    Command("doubt_next", "Next slice to check", "F8", IN_SLICE),
    Command("doubt_mend", "Mend it, the first way", "F5", IN_SLICE),
    Command("doubt_second", "Mend it, the second way", "F6", IN_SLICE),
    Command("doubt_mend_all", "Mend it and all like it, the first way", "Shift+F5", IN_SLICE),
    Command("doubt_second_all", "Mend it and all like it, the second way", "Shift+F6", IN_SLICE),
    Command("doubt_keep", "Keep it as it is", "F7", IN_SLICE),
    Command("doubt_keep_all", "Keep it and all like it", "Shift+F7", IN_SLICE),
    Command("slice_rename", "Rename the slice", "F2", IN_SLICE),
    Command("slice_leave", "Leave the slice out, or put it back", "Ctrl+E", IN_SLICE),
    *(Command(f"call_{drum.key}", f"Name the slice {drum.label.lower()}", f"Alt+{drum.letter}", IN_SLICE) for drum in DRUMS.values()),
    Command("pad_rename", "Rename the pad", "F2", IN_KIT),
    Command("kit_remake", "Rebuild the kit from the slices; edited pads stay", "Ctrl+R", IN_KIT),
    Command("kit_from", "Kit from elsewhere, under the same groove", "Ctrl+Shift+K", IN_KIT),
    Command("pads_all", "Select all pads, or the leading one alone", "Ctrl+A", IN_KIT),
    Command("shape_copy", "Copy the pad's shape", "Ctrl+C", IN_KIT),
    Command("shape_paste", "Paste the shape on the selected pads", "Ctrl+V", IN_KIT),
    Command("colour", "Colour on or off, at equal loudness", "Ctrl+J", EVERYWHERE),
    Command("pad_file", "Load a sound file onto the pad", "Ctrl+Shift+F", IN_KIT),
    Command("pad_clear", "Clear the pad", "Delete", IN_KIT),
    Command("pad_remove", "Remove the pad with its hits", "Ctrl+Delete", IN_KIT),
    Command("ghost_back", "Add all missing hits of this lane", "Ctrl+H", IN_GROOVE),
    Command("heard_pins", "Show or hide missing hits", "Ctrl+Shift+H", IN_GROOVE),
    Command("feel_write", "Write the feel into the hits", "Ctrl+W", IN_GROOVE),
    Command("writer_cancel", "Cancel the open writer, or clear the selection", "Escape", IN_GROOVE),
    Command("part_hits", "Hits: what is selected", "Alt+1", IN_GROOVE),
    Command("part_write", "Write: writers", "Alt+2", IN_GROOVE),
    Command("part_feel", "Feel: swing, accents, feels", "Alt+3", IN_GROOVE),
    Command("variation_copy", "Duplicate this variation", "Ctrl+Shift+N", IN_GROOVE),
    Command("hit_delete", "Delete the selected hits", "Delete", IN_GROOVE),
    Command("hit_all", "Select all hits", "Ctrl+A", IN_GROOVE),
    Command("hit_draw", "Draw a hit at the cursor, or select the one there", "Return", IN_GROOVE),
    Command("hit_louder", "Selected hits louder; with none, the cursor a lane up", "Up", IN_GROOVE),
    Command("hit_softer", "Selected hits softer; with none, the cursor a lane down", "Down", IN_GROOVE),
    Command("hit_later", "Selected hits a step later; with none, the cursor", "Right", IN_GROOVE),
    Command("hit_earlier", "Selected hits a step earlier; with none, the cursor", "Left", IN_GROOVE),
    Command("hit_up", "Selected hits to the lane above", "Shift+Up", IN_GROOVE),
    Command("hit_down", "Selected hits to the lane below", "Shift+Down", IN_GROOVE),
    Command("hit_behind", "Selected hits 1 ms later", "Alt+Right", IN_GROOVE),
    Command("hit_ahead", "Selected hits 1 ms earlier", "Alt+Left", IN_GROOVE),
    Command("hit_grid", "Quantise the selected hits", "Ctrl+G", IN_GROOVE),
    Command("hit_copy", "Copy the selected hits", "Ctrl+C", IN_GROOVE),
    Command("hit_cut", "Cut the selected hits", "Ctrl+X", IN_GROOVE),
    Command("hit_paste", "Paste at the playhead", "Ctrl+V", IN_GROOVE),
    Command("hit_again", "Duplicate the selected hits", "Ctrl+D", IN_GROOVE),
    Command("hit_repeat", "Repeat these bars to the end", "Ctrl+E", IN_GROOVE),
    Command("hit_reverse", "Reverse these bars", "Alt+R", IN_GROOVE),
    Command("hit_rotate", "Rotate these bars by a step", "Alt+Shift+Right", IN_GROOVE),
    Command("hit_half", "Half time", "Alt+H", IN_GROOVE),
    Command("hit_double", "Double time", "Alt+D", IN_GROOVE),
    Command("choose_lane", "Select the lane", "Alt+L", IN_GROOVE),
    Command("choose_bar", "Select the bar", "Alt+B", IN_GROOVE),
    Command("choose_step", "Select the same step of every beat", "Alt+S", IN_GROOVE),
    Command("choose_softer", "Select everything as soft or softer", "Alt+Down", IN_GROOVE),
    Command("difference_next", "Next difference from the original", "F8", IN_STUDY),
    Command("difference_back", "Previous difference from the original", "Shift+F8", IN_STUDY),
    Command("difference_mend", "Mend the difference", "F5", IN_STUDY),
    Command("lesson_next", "In layers: the next step", "F9", IN_STUDY),
    Command("lesson_back", "In layers: the step before", "Shift+F9", IN_STUDY),
    Command("ear_count", "By ear: how am I doing?", "F6", IN_STUDY),
    Command("ear_hint", "By ear: a hint", "F7", IN_STUDY),
    Command("choose_louder", "Select everything as loud or louder", "Alt+Up", IN_GROOVE),
)

BY_KEY = {command.key: command for command in COMMANDS}

GESTURES = (
    ("Bring in", "drag a handle, or the loop between", "move start, end or all of it; with Alt it does not snap"),
    ("Bring in", "click a clarity bar", "start the loop there"),
    ("Bring in", "click a suggested loop's box", "play it; a double click uses it"),
    ("Bring in", "drag at the seam, left or right", "move the loop's end or start; the wheel zooms to the samples"),
    ("Bring in", "click a loop of the shelf, or arrows", "play it; a double click or Return opens it"),
    ("Bring in", "Downbeat, then click a hit of the picture", "let the loop begin there"),
    ("Slice", "click", "select and play a slice"),
    ("Slice", "double click", "cut there, at the attack if one is near; with Alt exactly there"),
    ("Slice", "drag a cut", "move it; with Alt it does not snap"),
    ("Slice", "drag the line", "cut at more or fewer attacks"),
    ("Slice", "Ctrl or Shift and a click", "select more slices"),
    ("Slice", "drag the line between two rows", "resize the rows"),
    ("Kit", "Z to V, A to F, Q to R, 1 to 4", "play the pads, in every stage"),
    ("Kit", "press higher on a pad", "play it harder"),
    ("Kit", "drag a slice or a pad", "put it on a pad, or swap pads; with Ctrl add the slice, or copy the pad"),
    ("Kit", "drag a point of a picture, or a bar", "shape the pad; a double click brings it back"),
    ("Kit", "drag on the keyboard of a pad", "play it at the pitch of these notes"),
    ("Kit", "drag the grip of a colour", "move it up or down the chain"),
    ("Groove", "click in a lane", "draw a hit"),
    ("Groove", "drag a pin along, or to another lane", "move it; with Alt off the grid"),
    ("Groove", "drag the head of a pin up and down", "change its velocity"),
    ("Groove", "Alt and a click in a lane, or on a pin", "draw a hit just there, or a flam"),
    ("Groove", "drag in a lane", "select hits; Shift and a click adds one"),
    ("Groove", "right click, or drag with the right button", "delete a hit, or all the pointer passes"),
    ("Groove", "Ctrl and drag in a lane", "brush hits along the grid"),
    ("Groove", "draw in the strip below", "set offset, velocity, length, pitch, chance or gain of the lane's hits"),
    ("Groove", "drag in the order", "move a step, or play it more or less often"),
    ("Groove", "drag on the ruler, double click there", "loop these bars, all again"),
    ("Groove", "double click a card, right click it", "name a variation; its length, meter, copy, delete"),
    ("Groove", "click a faint pin", "add that missing hit"),
    ("Groove", "click mute or solo in a lane", "hear the pattern without it, or only it"),
    ("Study", "point at a sentence, click it", "light its hits, play them alone"),
    ("Study", "click a bar, on paper or of those alike", "hear it in the original"),
    ("Study", "click a difference", "hear half a beat around it, original and pattern in turn"),
    ("Study", "by ear: click in a lane, or arrows and Return", "place a hit, or take it away"),
    ("Study", "on the shelf: click a loop", "hear it at this tempo"),
    ("Pictures", "wheel, Shift and wheel", "zoom, scroll"),
)


def tip(key: str) -> str:
    """Return the tooltip of a command: what it does, and its key."""
    command = BY_KEY[key]
    return f"{command.label} ({command.shortcut})"
