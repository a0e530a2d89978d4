"""A kit from another sound: of this project, or of a project file."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from bompla.audio.clip import Clip
from bompla.errors import ExportError, KitError
from bompla.export.kit_zones import kit_zones
from bompla.export.options import ExportOptions
from bompla.export.request import ExportRequest
from bompla.files import as_text
from bompla.formats.sfz import FILTERS
from bompla.kits.kit import KitLayer, KitPad, ReadKit
from bompla.kits.sounds import attack_of
from bompla.model.document import Document
from bompla.units import velocity_to_db

AS_IT = "as it was there"


def kit_from_document(
    document: Document, clip: Clip, borrowed: Mapping[str, Clip], check: Callable[[], object] = lambda: None
) -> ReadKit:
    """Return a sound's kit, cleaned and shaped as it is there; raises KitError with a sentence where no pad has a sound."""
    request = ExportRequest(document, clip, ExportOptions(rate=clip.sample_rate), borrowed)
    try:
        zones = kit_zones(request, check, tuple(FILTERS))
    except ExportError as error:
        raise KitError(f"{as_text(document.title)} has no pad with a sound.") from error
    pads = []
    for pad in document.pads:
        own = [zone for zone in zones.zones if zone.pad.id == pad.id and zone.low_note <= pad.note <= zone.high_note]
        layers: list[KitLayer] = []
        for zone in own:
            sound = Clip(zones.samples[zone.sample].sound, zones.sample_rate)
            if zone.fixed and layers:  # from where it gets no louder: the pad itself knows that
                layers[-1] = replace(layers[-1], high=zone.high_velocity)
                continue
            gain = zone.gain_db - velocity_to_db(zone.at_velocity)
            name = zones.samples[zone.sample].name
            layers.append(KitLayer(sound, attack_of(sound), zone.low_velocity, zone.high_velocity, gain, name=name, turn=float(zone.turn)))
        if layers:
            pads.append(KitPad(pad.name, pad.drum, AS_IT, pad.note, tuple(layers), pad.keys, own[0].shape, max(0, pad.choke_set),
                               pad.hardest))
    if not pads:
        raise KitError(f"{as_text(document.title)} has no pad with a sound.")
    return ReadKit(document.title, tuple(pads))


