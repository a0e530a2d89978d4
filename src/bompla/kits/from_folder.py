"""A kit from a folder of samples, or from some sound files: by what they are called, and by ear where a name says nothing."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from bompla.audio.clip import Clip
from bompla.audio.files import SUFFIXES, read_clip
from bompla.audio.oneshot import one_shot
from bompla.errors import BomplaError, KitError
from bompla.files import as_text, name_of
from bompla.kits.kit import MOST_SOUND_S, KitLayer, KitPad, ReadKit, Sayings
from bompla.kits.names import NameSays, said_by
from bompla.kits.sounds import known_drum
from bompla.model.drums import DRUMS

MOST_FILES = 400


def files_in_folder(folder: Path) -> tuple[Path, ...]:
    """Return the sound files of a folder and of the folders in it; raises KitError with a sentence where there are none, or too many."""
    try:
        found = sorted((path for path in folder.rglob("*") if path.suffix.lower() in SUFFIXES and not path.name.startswith(".")),
                       key=lambda path: str(path).lower())
    except OSError as error:
        raise KitError(f"{name_of(folder)} could not be looked through; check the rights of the folder.") from error
    found = [path for path in found if path.is_file() and path.resolve().is_relative_to(folder.resolve())]
    if not found:
        raise KitError(f"There is no sound file in {name_of(folder)}.")
    if len(found) > MOST_FILES:
        raise KitError(f"{name_of(folder)} has {len(found):,} sound files; a kit can have {MOST_FILES}. Choose a folder further in.")
    return tuple(found)


def kit_from_files(
    name: str, paths: Sequence[Path], sample_rate: int, hear: Callable[[Clip, int], str], check: Callable[[], object] = lambda: None
) -> ReadKit:
    """Return the kit of some sound files, at a sample rate: those that differ only in how hard, or in which turn, share a pad.

    Files that cannot be read are left out and said; raises KitError where none is left.
    """
    sayings = Sayings()
    groups: dict[str, list[tuple[NameSays, Path, Clip, int]]] = {}
    seconds = 0.0
    for path in paths:
        check()
        try:
            clip, attack = one_shot(read_clip(path), sample_rate, name_of(path))
        except BomplaError as error:
            sayings.add(str(error))
            continue
        seconds += clip.frames / clip.sample_rate
        if seconds > MOST_SOUND_S:
            raise KitError(f"{name} has more than {MOST_SOUND_S / 60:.0f} minutes of sound; that is too much for a kit.")
        said = said_by(path.stem)
        alone = not (said.force or said.turn)
        groups.setdefault(f"{path.parent}/{said.base}" + (f"/{path.name}" if alone else ""), []).append((said, path, clip, attack))
    pads = tuple(_pad(members, hear) for members in groups.values())
    if not pads:
        raise KitError(f"None of the files of {name} could be read. {' '.join(sayings.all())[:300]}".strip())
    order = list(DRUMS)
    return ReadKit(as_text(name), tuple(sorted(pads, key=lambda pad: order.index(pad.drum))), sayings.all())


def _pad(members: list[tuple[NameSays, Path, Clip, int]], hear: Callable[[Clip, int], str]) -> KitPad:
    members.sort(key=lambda one: (one[0].force, one[0].turn, one[1].name))
    forces = sorted({said.force for said, _, _, _ in members})
    layers: list[KitLayer] = []
    for said, path, clip, attack in members:
        place = forces.index(said.force)
        low, high = 1 + 126 * place // len(forces), 126 * (place + 1) // len(forces) + (place == len(forces) - 1)
        turn = sum(1 for layer in layers if layer.high == high)
        layers.append(KitLayer(clip, attack, max(1, low), high, name=as_text(path.stem), turn=float(turn)))
    _, path, clip, attack = members[-1]
    drum, known_by = known_drum(-1, path.stem, lambda: hear(clip, attack))
    if known_by != "by its name" and (of_folder := said_by(path.parent.name).drum):
        drum, known_by = of_folder, "by its folder"
    return KitPad(as_text(path.stem)[:40], drum, known_by, DRUMS[drum].note, tuple(layers))
