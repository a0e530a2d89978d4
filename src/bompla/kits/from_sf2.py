"""A kit from a preset of a SoundFont, compressed (sf3) or not."""

from __future__ import annotations

import re
from collections.abc import Callable

import numpy as np
from msgspec.structs import replace

from bompla.audio.clip import MAX_RATE, MIN_RATE, Clip
from bompla.errors import KitError
from bompla.files import as_text
from bompla.formats.sf2 import PERCUSSION_BANK, Generator
from bompla.formats.sf2_read import Font, Preset, ReadZone
from bompla.kits.kit import MOST_SOUND_S, KitLayer, KitPad, ReadKit, Sayings
from bompla.kits.sounds import attack_of, known_drum
from bompla.model.drums import DRUMS
from bompla.model.shape import PLAIN, Shape, clamped
from bompla.model.wording import counted

ATTENUATED = 0.4
"""Players lower a sound by so much of what a font's attenuation says, as the first hardware did; all do, so that fonts count on it."""

LEAST_KEYS, MOST_LOOKED_AT, OLD_PERCUSSION_BANK = 5, 64, 120
LOOPS, MODES = 54, (1, 3)
SCALE, FINE, COARSE = 56, 52, 51
IN_THE_MIDDLE = 0.5**0.5
"""A font lays one channel 3 dB softer on each side."""

_SIDE = re.compile(r"[\s(_-]*\(?\b[LR]\)?$")
_NOT_HELD = {5: "LFOs", 6: "LFOs", 7: "envelopes of pitch", 10: "LFOs", 11: "envelopes of the filter", 13: "LFOs", 15: "sends to effects",
             16: "sends to effects"}


def drum_presets(font: Font) -> tuple[Preset, ...]:
    """Return the presets of a font's percussion banks, or else those that are laid out as kits are, a sound to a key.

    Raises KitError with a sentence where there are none.
    """
    found = tuple(one for one in font.presets if one.bank >= PERCUSSION_BANK or one.bank == OLD_PERCUSSION_BANK)
    found = found or tuple(one for one in font.presets[:MOST_LOOKED_AT] if _is_kit(font, one))
    if not found:
        raise KitError(f"{font.name} has no percussion: its {counted(len(font.presets), 'preset')} are pitched instruments, and no kit.")
    return found


def _is_kit(font: Font, preset: Preset) -> bool:
    """Whether most of a preset's zones play one key each, and several keys are played."""
    zones = font.zones(preset)
    single = {zone.notes for zone in zones if zone.notes[0] == zone.notes[1]}
    return len(single) >= LEAST_KEYS and sum(zone.notes[0] == zone.notes[1] for zone in zones) > len(zones) // 2


def kit_from_font(font: Font, preset: Preset, hear: Callable[[Clip, int], str], check: Callable[[], object] = lambda: None) -> ReadKit:
    """Return the kit of a preset, a pad for each key or range of keys; raises KitError with a sentence where it plays nothing."""
    sayings = Sayings()
    groups: dict[tuple[int, int], list[ReadZone]] = {}
    for zone in font.zones(preset):
        groups.setdefault(zone.notes, []).append(zone)
        for number, words in _NOT_HELD.items():
            if zone.value(number, 0):
                sayings.add(f"A pad cannot hold {words}")
        if zone.value(LOOPS, 0) in MODES:
            sayings.add("Sustain loops are not taken over: a pad plays its sample to the end")
    pads, seconds = [], 0.0
    for (low, high), zones in sorted(groups.items()):
        check()
        pad = _pad(font, low, high, zones, sayings, hear)
        if pad is None:
            continue
        seconds += sum(one.sound.frames / one.sound.sample_rate for one in pad.layers)
        if seconds > MOST_SOUND_S:
            raise KitError(f"{preset.name} plays more than {MOST_SOUND_S / 60:.0f} minutes of samples; that is too much for a kit.")
        pads.append(pad)
    if not pads:
        raise KitError(f"The preset {preset.name} of {font.name} plays nothing.")
    return ReadKit(as_text(f"{preset.name or font.path.stem}"), tuple(pads), sayings.all())


def _pad(font: Font, low: int, high: int, zones: list[ReadZone], sayings: Sayings, hear: Callable[[Clip, int], str]) -> KitPad | None:
    root = zones[0].value(Generator.ROOT, font.samples[zones[0].sample].root)
    note = root if low <= root <= high else low
    layers = [layer for zone in zones if (layer := _layer(font, zone, note, sayings)) is not None]
    if not layers:
        return None
    layers.sort(key=lambda one: (one.high, one.low))
    name = _SIDE.sub("", font.samples[zones[0].sample].name).strip()
    drum, known_by = known_drum(note, name, lambda: hear(layers[-1].sound, layers[-1].attack))
    group = zones[0].value(Generator.EXCLUSIVE, 0)
    return KitPad(as_text(name)[:40] or DRUMS[drum].label, drum, known_by, note, tuple(layers), (low, high) if high > low else (0, 0),
                  _shape(zones[0]), group)


def _layer(font: Font, zone: ReadZone, note: int, sayings: Sayings) -> KitLayer | None:
    """Return the layer of a zone; zones of one velocity sound together, the two channels of a sample among them."""
    try:
        sound, rate = font.sound(zone)
    except KitError as error:
        sayings.add(str(error))
        return None
    if not len(sound) or not MIN_RATE <= rate <= MAX_RATE:
        sayings.add("A sample is empty or damaged, and is left out")
        return None
    head = font.samples[zone.sample]
    clip = Clip(np.ascontiguousarray(sound[:, np.newaxis] * np.float32(IN_THE_MIDDLE)), rate)
    pan = zone.value(Generator.PAN, 0) / 500.0
    root = zone.value(Generator.ROOT, -1)
    root = head.root if root < 0 else root
    tune = zone.value(COARSE, 0) + (zone.value(FINE, 0) + head.correction_cents) / 100.0 + zone.value(SCALE, 100) / 100.0 * (note - root)
    gain = -ATTENUATED * zone.value(Generator.LEVEL, 0) / 10.0
    low, high = max(1, zone.velocities[0]), max(1, zone.velocities[1])
    fixed = zone.value(Generator.FIXED_VELOCITY, -1)
    if fixed > 0:
        gain += 40.0 * np.log10(fixed / 127.0) - 40.0 * np.log10((low + high) / 254.0)
    name = as_text(_SIDE.sub("", head.name).strip())
    return KitLayer(clip, attack_of(clip), low, high, float(gain), tune, max(-1.0, min(1.0, pan)), name)


def _shape(zone: ReadZone) -> Shape:
    def ms(number: int) -> float:
        cents = zone.value(number, -12_000)
        return 0.0 if cents <= -10_000 else 1_000.0 * 2.0 ** (min(8_000, cents) / 1_200.0)

    release = ms(Generator.RELEASE)
    fall = zone.value(Generator.SUSTAIN, 0)
    sustain = 0.0 if fall >= 960 else 10.0 ** (-max(0, fall) / 200.0)
    decay = ms(Generator.DECAY) * 34.7 / 100.0 if sustain < 1.0 else 0.0  # a font's decay falls by 100 dB, a pad's by as much as its curve
    shape = replace(PLAIN, attack_ms=ms(Generator.ATTACK), hold_ms=ms(Generator.HOLD) if decay else 0.0, decay_ms=decay,
                    sustain=sustain if decay else 1.0)
    if 0.0 < release < 3_000.0 and zone.value(LOOPS, 0) in MODES:
        shape = replace(shape, gated=True, release_ms=release)
    cutoff = zone.value(Generator.CUTOFF, 13_500)
    if cutoff < 13_000:
        quality = 10.0 ** (max(0, zone.value(Generator.RESONANCE, 0)) / 200.0) / 2.0**0.5
        shape = replace(shape, filter="low", cutoff_hz=8.176 * 2.0 ** (cutoff / 1_200.0), resonance=quality)
    return clamped(shape)
