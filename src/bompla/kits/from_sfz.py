"""A kit from an SFZ instrument."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.errors import BomplaError, KitError
from bompla.files import as_text, name_of
from bompla.formats.sfz import FILTERS
from bompla.formats.sfz_read import SfzRegion, inside, read_sfz
from bompla.kits.kit import MOST_SOUND_S, KitLayer, KitPad, ReadKit, Sayings
from bompla.kits.sounds import attack_of, known_drum
from bompla.model.drums import DRUMS
from bompla.model.shape import PLAIN, Shape, clamped

_KINDS = {words: key for key, words in FILTERS.items()} | {"lpf_1p": "low", "hpf_1p": "high", "bpf_1p": "band", "brf_1p": "notch"}
_ELSEWHERE = {
    "xfin_lovel": "crossfades between velocities", "xfout_lovel": "crossfades between velocities", "lfo01_freq": "LFOs",
    "fillfo_freq": "LFOs", "amplfo_freq": "LFOs", "pitchlfo_freq": "LFOs", "pitcheg_depth": "envelopes of pitch",
    "fileg_depth": "envelopes of the filter", "locc1": "controllers", "on_locc64": "controllers", "sw_last": "key switches",
    "effect1": "sends to effects", "delay": "delays",
}


def kit_from_sfz(path: Path, hear: Callable[[Clip, int], str], check: Callable[[], object] = lambda: None) -> ReadKit:
    """Return the kit of an instrument; `hear` names the drum of a sound whose note and name say nothing.

    Samples that are missing or damaged are left out and said. Raises KitError with a sentence where nothing is left.
    """
    sayings = Sayings()
    sounds: dict[str, Clip | None] = {}
    groups: dict[tuple[int, int], list[tuple[SfzRegion, Clip]]] = {}
    seconds = 0.0
    for region in read_sfz(path):
        check()
        if region.opcodes.get("trigger", "attack") not in ("attack", ""):
            sayings.add("Sounds of keys that are let go are not taken over")
            continue
        if region.sample not in sounds:
            sounds[region.sample] = _read(path, region.sample, sayings)
            sound = sounds[region.sample]
            seconds += sound.frames / sound.sample_rate if sound is not None else 0.0
            if seconds > MOST_SOUND_S:
                raise KitError(f"{name_of(path)} plays more than {MOST_SOUND_S / 60:.0f} minutes of samples; that is too much for a kit.")
        sound = sounds[region.sample]
        if sound is None:
            continue
        key = region.note("key", -1)
        low, high = (region.note(name, key if key >= 0 else end) for name, end in (("lokey", 0), ("hikey", 127)))
        if 0 <= low <= high <= 127:
            groups.setdefault((low, high), []).append((region, sound))
        for opcode, words in _ELSEWHERE.items():
            if opcode in region.opcodes:
                sayings.add(f"A pad cannot hold {words}")
    pads = tuple(_pad(low, high, members, hear) for (low, high), members in sorted(groups.items()))
    if not pads:
        raise KitError(f"None of the samples of {name_of(path)} could be read. {' '.join(sayings.all())[:300]}".strip())
    return ReadKit(as_text(path.stem), pads, sayings.all())


def _read(path: Path, written: str, sayings: Sayings) -> Clip | None:
    try:
        return read_clip(inside(path.parent, written, path))
    except KitError as error:
        sayings.add(str(error))
    except BomplaError:
        sayings.add("A sample is missing or cannot be read, and is left out")
    return None


def _pad(low: int, high: int, members: list[tuple[SfzRegion, Clip]], hear: Callable[[Clip, int], str]) -> KitPad:
    first, _ = members[0]
    root = first.note("pitch_keycenter", low if low == high else 60)
    note = root if low <= root <= high else low
    layers = tuple(sorted((_layer(region, clip, note) for region, clip in members), key=lambda one: (one.high, one.turn)))
    name = Path(first.sample.replace("\\", "/")).stem
    drum, known_by = known_drum(note if low == high else -1, name, lambda: hear(layers[-1].sound, layers[-1].attack))
    label = first.opcodes.get("region_label", "") or first.opcodes.get("group_label", "") or DRUMS[drum].label
    return KitPad(as_text(label)[:40], drum, known_by, note, layers, (low, high) if high > low else (0, 0), _shape(first),
                  round(first.number("group", 0)))


def _layer(region: SfzRegion, clip: Clip, note: int) -> KitLayer:
    first = max(0, round(region.number("offset", 0)))
    last = round(region.number("end", clip.frames - 1)) + 1
    sound = clip.part(min(first, clip.frames - 1), max(min(first, clip.frames - 1) + 1, min(last, clip.frames)))
    sound = Clip(np.ascontiguousarray(sound.samples), clip.sample_rate)
    tune = region.number("transpose", 0) + region.number("tune", region.number("pitch", 0)) / 100.0
    tracked = region.number("pitch_keytrack", 100) / 100.0
    tune += tracked * (note - region.note("pitch_keycenter", note))
    turn = region.number("seq_position", 1) + region.number("lorand", 0.0)
    follows = region.number("amp_veltrack", 100) / 100.0
    low, high = (max(1, min(127, round(region.number(name, end)))) for name, end in (("lovel", 1), ("hivel", 127)))
    gain = region.number("volume", 0.0) + 20.0 * np.log10(max(1e-3, region.number("amplitude", 100.0) / 100.0))
    if follows < 1.0:  # as loud in the middle of its range as it is there by itself
        gain -= (1.0 - follows) * 40.0 * np.log10((low + high) / 254.0)
    name = as_text(Path(region.sample.replace("\\", "/")).stem)
    return KitLayer(sound, attack_of(sound), low, high, float(gain), tune, region.number("pan", 0.0) / 100.0, name, turn)


def _shape(region: SfzRegion) -> Shape:
    """Return what a pad does while it plays."""
    looped = region.opcodes.get("loop_mode", "no_loop")
    gated = looped in ("loop_continuous", "loop_sustain") or ("ampeg_release" in region.opcodes and looped != "one_shot")
    decay = 1_000.0 * region.number("ampeg_decay", 0.0)
    shape = replace(
        PLAIN, attack_ms=1_000.0 * region.number("ampeg_attack", 0.0), hold_ms=1_000.0 * region.number("ampeg_hold", 0.0), decay_ms=decay,
        sustain=region.number("ampeg_sustain", 100.0) / 100.0 if decay else 1.0, gated=gated,
        release_ms=1_000.0 * region.number("ampeg_release", PLAIN.release_ms / 1_000.0))
    kind = _KINDS.get(region.opcodes.get("fil_type", "lpf_2p"))
    if kind is not None and "cutoff" in region.opcodes:
        quality = 10.0 ** (region.number("resonance", 0.0) / 20.0) / 2.0**0.5
        shape = replace(shape, filter=kind, cutoff_hz=region.number("cutoff", PLAIN.cutoff_hz), resonance=quality)
    return clamped(shape)
