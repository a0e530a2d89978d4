"""The kit as an instrument for samplers: SFZ with its samples, and SoundFont."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.export.kit_zones import KitZones, Zone, kit_zones
from bompla.export.request import Check, ExportRequest, Made, base_name
from bompla.export.sound_file import encoded, suffix
from bompla.formats.sf2 import FontInstrument, FontSample, FontZone, Generator, cutoff_cents, soundfont, timecents
from bompla.formats.sfz import FILTERS, Region, number, resonance_db, sfz_text
from bompla.model.shape import PLAIN, Shape
from bompla.units import clamped_velocity, db_to_gain, velocity_to_db

LOUDEST_SFZ_DB = 6.0
"""The most that a region can be turned up."""

OWN_SETS_FROM = 100
"""From here on sets count pads that choke nothing but themselves."""

FONT_FILTERS = ("low",)
FONT_PEAK = 0.98
LONG_S = 100.0
FALLS_DB = 34.7
"""A pad's decay falls so far over its length; a font's by 100 dB."""

EVEN_SIDES = 1e-6


def sfz(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make an SFZ instrument, its samples in a folder beside it."""
    kit = kit_zones(request, check, tuple(FILTERS))
    name = base_name(request)
    folder = f"{name} samples"
    for sample in kit.samples:
        check()
        content, facts = encoded(Clip(sample.sound, kit.sample_rate), request.options)
        yield Made(f"kit/{folder}/{sample.name}{suffix(request.options)}", "sfz", f"sample {sample.name}", content, facts)
    loudest = max(_at_full_db(zone) for zone in kit.zones)
    regions = [Region(f"{folder}/{kit.samples[zone.sample].name}{suffix(request.options)}", _opcodes(zone, loudest)) for zone in kit.zones]
    text = sfz_text(kit.title, regions, comment="All levels are against the loudest pad, struck as hard as can be.")
    yield Made(f"kit/{name}.sfz", "sfz", "the kit as SFZ", text.encode("utf-8"), {"regions": len(regions), "samples": len(kit.samples)})


def _at_full_db(zone: Zone) -> float:
    """Return how loud a zone would be at full velocity, were it to follow velocity up to there."""
    return zone.gain_db if zone.fixed else zone.gain_db - velocity_to_db(zone.at_velocity)


def _opcodes(zone: Zone, loudest_db: float) -> dict[str, str]:
    """Return a zone as the opcodes of a region."""
    shape, pad = zone.shape, zone.pad
    own_set = pad.choke_set or OWN_SETS_FROM + pad.id
    made = {
        "lokey": str(zone.low_note), "hikey": str(zone.high_note), "pitch_keycenter": str(pad.note),
        "lovel": str(zone.low_velocity), "hivel": str(zone.high_velocity),
        "volume": number(_at_full_db(zone) - loudest_db + LOUDEST_SFZ_DB), "amp_veltrack": "0" if zone.fixed else "100",
        "group": str(own_set), "off_by": str(own_set), "off_mode": "fast",
        "loop_mode": "no_loop" if shape.gated else "one_shot", "trigger": "attack",
    }
    if zone.turns > 1:
        made |= {"seq_length": str(zone.turns), "seq_position": str(zone.turn)}
    if shape.tune:
        semitones = round(shape.tune)
        made |= {"transpose": str(semitones), "tune": str(round(100.0 * (shape.tune - semitones)))}
    if shape.pan:
        made["pan"] = number(100.0 * shape.pan)
    if shape.filter != PLAIN.filter:
        made |= {"fil_type": FILTERS[shape.filter], "cutoff": number(shape.cutoff_hz), "resonance": number(resonance_db(shape.resonance))}
    made |= _sfz_envelope(shape)
    return made


def _sfz_envelope(shape: Shape) -> dict[str, str]:
    made = {}
    if shape.attack_ms:
        made["ampeg_attack"] = number(shape.attack_ms / 1000.0)
    if shape.decay_ms and shape.sustain < 1.0:
        made |= {"ampeg_hold": number(shape.hold_ms / 1000.0), "ampeg_decay": number(shape.decay_ms / 1000.0),
                 "ampeg_sustain": number(100.0 * shape.sustain)}
    if shape.gated:
        made["ampeg_release"] = number(shape.release_ms / 1000.0)
    return made


def sf2(request: ExportRequest, check: Check) -> Iterator[Made]:
    """Make a SoundFont of the kit; of slices that take turns it has the first alone, as its format knows none."""
    kit = kit_zones(request, check, FONT_FILTERS)
    zones = [zone for zone in kit.zones if zone.turn == 1]
    levels = {zone.sample: _level_db(zone) for zone in zones}
    loudest = max(float(np.abs(kit.samples[n].sound).max(initial=0.0)) * db_to_gain(level) for n, level in levels.items())
    scale = FONT_PEAK / max(np.sqrt(2.0) * loudest, 1e-6)
    used = sorted(levels)
    samples = [_font_sample(kit, n, scale * db_to_gain(levels[n]), zones) for n in used]
    places = {n: place for place, n in enumerate(used)}
    instruments = []
    for key in dict.fromkeys((zone.pad.id, zone.pad.note) for zone in zones):
        check()
        own = [zone for zone in zones if (zone.pad.id, zone.pad.note) == key]
        instruments.append(FontInstrument(own[0].pad.name, tuple(_font_zone(zone, places[zone.sample]) for zone in own)))
    content = soundfont(kit.title, samples, instruments, sample_rate=kit.sample_rate)
    yield Made(f"kit/{base_name(request)}.sf2", "sf2", "the kit as SoundFont", content, {"zones": len(zones), "samples": len(samples)})


def _level_db(zone: Zone) -> float:
    """Return how loud a zone's sample has to be at full velocity; a font turns it down from there as our pads do."""
    at_velocity_db = velocity_to_db(zone.at_velocity)
    return zone.gain_db - at_velocity_db - (zone.raised_db if zone.fixed else 0.0)


def _font_sample(kit: KitZones, number_: int, gain: float, zones: list[Zone]) -> FontSample:
    """Return a sample as a font has it: one channel where both are alike, else panned already."""
    sample = kit.samples[number_]
    sound: NDArray[np.float64] = sample.sound.astype(np.float64) * gain
    pan = next(zone.shape.pan for zone in zones if zone.sample == number_)
    if np.abs(sound[:, 0] - sound[:, 1]).max(initial=0.0) <= EVEN_SIDES:
        return FontSample(sample.name, sound[:, 0] * np.sqrt(2.0))  # a font lays one channel 3 dB softer on each side
    angle = (pan + 1.0) * np.pi / 4.0
    return FontSample(sample.name, sound * np.array([np.cos(angle), np.sin(angle)]) * np.sqrt(2.0))


def _font_zone(zone: Zone, sample: int) -> FontZone:
    shape, pad = zone.shape, zone.pad
    made = {Generator.EXCLUSIVE: pad.choke_set or min(127, 10 + pad.slot),
            Generator.RELEASE: timecents(shape.release_ms / 1000.0 if shape.gated else LONG_S)}
    if zone.fixed:
        made[Generator.FIXED_VELOCITY] = _fixed_velocity(zone)
    if shape.tune:
        semitones = round(shape.tune)
        made |= {Generator.TUNE_SEMITONES: semitones, Generator.TUNE_CENTS: round(100.0 * (shape.tune - semitones))}
    if shape.pan:
        made[Generator.PAN] = round(500.0 * shape.pan)
    if shape.filter in FONT_FILTERS:
        made |= {Generator.CUTOFF: cutoff_cents(shape.cutoff_hz), Generator.RESONANCE: round(10.0 * resonance_db(shape.resonance))}
    if shape.attack_ms:
        made[Generator.ATTACK] = timecents(shape.attack_ms / 1000.0)
    if shape.decay_ms and shape.sustain < 1.0:
        sustain_cb = 1000 if shape.sustain <= 0.0 else min(1000, round(-200.0 * np.log10(shape.sustain)))
        made |= {Generator.HOLD: timecents(shape.hold_ms / 1000.0), Generator.DECAY: timecents(shape.decay_ms / 1000.0 * 100.0 / FALLS_DB),
                 Generator.SUSTAIN: sustain_cb}
    return FontZone(sample, (zone.low_note, zone.high_note), (zone.low_velocity, zone.high_velocity), pad.note, made)


def _fixed_velocity(zone: Zone) -> int:
    """Return the velocity at which a zone that follows velocity is as loud as this one always is."""
    return clamped_velocity(zone.at_velocity * 10.0 ** (zone.raised_db / 40.0))
