"""Single hits gathered from many files: each cut out of its own, faded at its end, written beside the others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby
from pathlib import Path

import numpy as np

from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.errors import ExportError
from bompla.export.options import ExportOptions
from bompla.export.request import Check, file_name
from bompla.export.sound_file import encoded, suffix
from bompla.files import write_atomically
from bompla.model.drums import DRUMS
from bompla.render.levels import fade_out_ms
from bompla.units import ms_to_samples

Found = tuple[Path, str, float, float]
"""A hit: the file it is in, its drum, and where it starts and ends in seconds."""


def hit_sound(clip: Clip, start_s: float, end_s: float) -> Clip:
    """Return a hit of a sound, its end faded where it would click."""
    start, end = round(start_s * clip.sample_rate), min(clip.frames, round(end_s * clip.sample_rate))
    sound = clip.part(start, end).samples.copy()
    fade = min(len(sound), ms_to_samples(fade_out_ms(clip, start, end), clip.sample_rate))
    if fade:
        sound[-fade:] *= np.linspace(1.0, 0.0, fade, dtype=np.float32)[:, np.newaxis]
    return Clip(sound, clip.sample_rate)


def write_hits(found: Sequence[Found], folder: Path, options: ExportOptions, check: Check = lambda: None) -> list[Path]:
    """Write hits as files named after the loop and drum that they are of, and return their paths; none that is there is written over.

    Raises ExportError, or SoundFileError where a file cannot be read; what was written until then stays.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise ExportError(f"Could not make the folder {folder}: {error.strerror}.") from error
    written = []
    for path, of_file in groupby(sorted(found, key=lambda hit: (str(hit[0]), hit[2])), key=lambda hit: hit[0]):
        check()
        clip = read_clip(path)
        for _, drum, start_s, end_s in of_file:
            check()
            label = DRUMS[drum].label.lower()
            content, _ = encoded(hit_sound(clip, start_s, end_s), options, note=DRUMS[drum].note, info={"INAM": label, "ISFT": "Bompla"},
                                 as_it_is=True)
            target = next(_free(folder, file_name(f"{path.stem} {label} {start_s:.2f} s"), suffix(options)))
            write_atomically(target, content, ExportError)
            written.append(target)
    return written


def _free(folder: Path, name: str, ending: str) -> Iterator[Path]:
    number = 1
    while True:
        target = folder / f"{name}{f' ({number})' if number > 1 else ''}{ending}"
        if not target.exists():
            yield target
        number += 1
