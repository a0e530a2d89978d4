"""The one table of exports: what can leave, what is said of it before, what it cannot hold, and what makes it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from bompla.errors import BomplaError
from bompla.export.data import feel, hits_csv, hits_json, midi
from bompla.export.kit import sf2, sfz
from bompla.export.loops import rebuilt_loops, single_hits, slices, trimmed_loop
from bompla.export.options import BITS, CHANCES, FORMATS, NOTES, PATTERNS, RATES, TAILS
from bompla.export.paper import engrave_ahead, musicxml, pages_ahead, score_pdf, score_svg, tab
from bompla.export.report import report, sounds_ahead
from bompla.export.report_pdf import report_pdf
from bompla.export.request import Check, ExportRequest, Made, parts_of
from bompla.export.stems import original_stems, pull_ahead, rebuilt_stems
from bompla.groove.feel import felt_pattern
from bompla.model.detected_pattern import pattern_bars, pattern_beats, pattern_of
from bompla.model.document import Document, Hit
from bompla.model.moments import BY_PADS, counted_moments
from bompla.model.wording import counted, in_bars
from bompla.render.events import WAYS

Maker = Callable[[ExportRequest, Check], Iterator[Made]]
Words = Callable[[ExportRequest], str]

SOUND_OPTIONS = ("format", "rate", "bits", "tempo_percent", "way")


@dataclass(frozen=True)
class Export:
    """One thing that can leave.

    `kind` is what the manifest and the command line call it; `about` says what will be in it, `lost` what its format cannot hold,
    empty where it holds all; `options` are the fields of `ExportOptions` that it looks at; `reader` is the independent library that its
    test reads it back with; `ahead` is what can be begun beside other work.
    """

    key: str
    kind: str
    label: str
    about: Words
    make: Maker
    reader: str
    options: tuple[str, ...] = ()
    lost: Words = lambda _request: ""
    ahead: Callable[[ExportRequest, Check], object] | None = None


def _hits(request: ExportRequest) -> list[Hit]:
    """Return the hits of the shown pattern that leave."""
    silent = request.left_silent
    return request.kept("hits that leave", lambda: [hit for hit in felt_pattern(request.document) if hit.pad_id not in silent])


def _bits(request: ExportRequest) -> str:
    return f"{request.rate / 1000:g} kHz, {BITS[request.options.bits]}"


def _patterns(request: ExportRequest) -> str:
    try:
        parts = parts_of(request.document, request.options.patterns)
    except BomplaError:
        return "no order yet"
    return parts[0].letter if len(parts) == 1 else f"{len(parts)} variations"


def _about_midi(request: ExportRequest) -> str:
    options = request.options
    how = f"quantised by {100 * options.quantise:.0f} %" if options.quantise else "as played"
    return f"{_patterns(request)} · {how}, notes {NOTES[options.notes]} · {counted(len(_hits(request)), 'hit')}"


def _lost_midi(request: ExportRequest) -> str:
    hits, options = _hits(request), request.options
    pitched = sum(1 for hit in hits if hit.pitch and not request.document.pad(hit.pad_id).keys[1])
    parts = [
        f"pitch of {counted(pitched, 'hit')}" if pitched and not options.pitch_as_notes else "",
        f"chance of {counted(sum(1 for hit in hits if hit.chance < 1.0), 'hit')}"
        if options.chance == "all" and any(hit.chance < 1.0 for hit in hits) else "",
        "the gain of hits" if any(hit.gain_db for hit in hits) else "",
    ]
    said = [part for part in parts if part]
    return f"a MIDI note cannot hold {' and '.join(said)}" if said else ""


def _about_loop(request: ExportRequest) -> str:
    loop = request.document.loop
    places = f" · {counted(len(request.document.slices()), 'cue point')}, loops" if request.options.format == "wav" else ""
    return f"{in_bars(loop.length_beats, loop.meter)} at {request.document.bpm * request.options.speed:.2f} BPM · {_bits(request)}{places}"


def _lost_loop(request: ExportRequest) -> str:
    return "" if request.options.format == "wav" else f"{FORMATS[request.options.format]} has no cue points"


def _about_slices(request: ExportRequest) -> str:
    kept = [piece for piece in request.document.slices() if not piece.cut.left_out]
    return f"{counted(len(kept), 'file')}, numbered and named · {_bits(request)}"


def _about_hits(request: ExportRequest) -> str:
    pads = [pad for pad in request.document.pads if pad.layers]
    return f"{counted(sum(len(pad.layers) for pad in pads), 'file')} from {counted(len(pads), 'pad')}, as shaped · {_bits(request)}"


def _about_rebuilt(request: ExportRequest) -> str:
    ceiling = "" if request.options.bits == 32 else " · peaks held under −1 dB"
    return f"{_patterns(request)} · {_moments(request)} · tail {TAILS[request.options.tail]} · {_bits(request)}{ceiling}"


def _moments(request: ExportRequest) -> str:
    """Return in words what is the loop itself, and what the pads play."""
    document = request.document
    own, attacks = counted_moments(document, felt_pattern(document), pattern_beats(document))
    if not own or pattern_of(document).untouched == BY_PADS:
        return "from the pads"
    return "the loop itself" if own == attacks else f"{own} of {counted(attacks, 'moment')} the loop itself"


def _about_rebuilt_stems(request: ExportRequest) -> str:
    drums = {request.document.pad(pad_id).drum for pad_id in {hit.pad_id for hit in _hits(request)}}
    return f"{_patterns(request)} · {counted(len(drums), 'drum')}, {_moments(request)}, add up to it · {_bits(request)}"


def _lost_rebuilt_stems(request: ExportRequest) -> str:
    return "the colour is not in stems" if request.document.colour.on else ""


def _about_original_stems(request: ExportRequest) -> str:
    drums = {h.drum for piece in request.document.slices() for h in piece.cut.heard if h.sure}
    return f"{counted(len(drums), 'drum')} and the remainder, add up to the loop · {_bits(request)}"


def _about_kit(request: ExportRequest) -> str:
    pads = [pad for pad in request.document.pads if pad.layers]
    return f"{counted(len(pads), 'pad')}, {counted(sum(len(pad.layers) for pad in pads), 'layer')} · choke sets, envelopes, filters"


def _lost_kit(request: ExportRequest) -> str:
    document = request.document
    said = [words for words, there in (
        ("the colour", document.colour.on),
        ("shares of room and echo", document.colour.on and any(pad.shape.room or pad.shape.echo for pad in document.pads)),
    ) if there]
    return f"an instrument file cannot hold {' and '.join(said)}" if said else ""


def _lost_sf2(request: ExportRequest) -> str:
    turns = sum(1 for pad in request.document.pads if len({layer.up_to for layer in pad.layers}) < len(pad.layers))
    said = [_lost_kit(request), f"SoundFont has no alternates: {counted(turns, 'pad')} play the first only" if turns else ""]
    return "; ".join(one for one in said if one)


def _about_paper(request: ExportRequest) -> str:
    return f"{_patterns(request)} · {counted(pattern_bars(request.document), 'bar')}, hands up, feet down"


def _lost_paper(request: ExportRequest) -> str:
    hits = _hits(request)
    pitched = sum(1 for hit in hits if hit.pitch)
    return f"pitch of {counted(pitched, 'hit')} is not on paper" if pitched else ""


def _about_data(request: ExportRequest) -> str:
    return f"{counted(len(_hits(request)), 'hit')}: time, beat, drum, pad, velocity, offset, confidence"


def _about_report(request: ExportRequest) -> str:
    return f"{_patterns(request)} · what Study says, with pictures, notation and sound, in one HTML file"


def _about_print(request: ExportRequest) -> str:
    return f"{_patterns(request)} · the same without sound, as a PDF"


def _about_feel(document: Document) -> str:
    return f"offset and accent of each step of a bar of {document.loop.meter_name}"


_TABLE = (
    Export("midi", "midi", "MIDI pattern", _about_midi, midi, "mido, pretty_midi",
           ("patterns", "quantise", "notes", "midi_type", "muted", "chance", "seed", "pitch_as_notes", "tempo_percent"), _lost_midi),
    Export("loop", "loop", "Trimmed loop", _about_loop, trimmed_loop, "soundfile, wavinfo", (*SOUND_OPTIONS, "loudness_lufs"), _lost_loop),
    Export("slice", "slice", "Slices", _about_slices, slices, "soundfile", ("format", "rate", "bits")),
    Export("single-hit", "single-hit", "Single hits", _about_hits, single_hits, "soundfile", ("format", "rate", "bits")),
    Export("rebuilt", "rebuilt", "Rebuilt loop", _about_rebuilt, rebuilt_loops, "soundfile",
           ("patterns", "tail", "muted", *SOUND_OPTIONS, "loudness_lufs")),
    Export("rebuilt-stems", "stem", "Stems of the rebuilt loop", _about_rebuilt_stems, rebuilt_stems, "soundfile",
           ("patterns", "tail", "muted", *SOUND_OPTIONS), _lost_rebuilt_stems),
    Export("original-stems", "stem", "Stems of the original", _about_original_stems, original_stems, "soundfile", SOUND_OPTIONS,
           ahead=pull_ahead),
    Export("sfz", "sfz", "Kit as SFZ", _about_kit, sfz, "a strict parser in the tests", ("format", "rate", "bits"), _lost_kit),
    Export("sf2", "sf2", "Kit as SoundFont", _about_kit, sf2, "FluidSynth", ("rate",), _lost_sf2),
    Export("musicxml", "musicxml", "Notation as MusicXML", _about_paper, musicxml, "music21", ("patterns", "repeat_signs"), _lost_paper),
    Export("score-svg", "score-svg", "Notation as SVG", _about_paper, score_svg, "Qt's SVG renderer", ("patterns", "repeat_signs"),
           _lost_paper, engrave_ahead),
    Export("score-pdf", "score-pdf", "Notation as PDF", _about_paper, score_pdf, "pypdf", ("patterns", "repeat_signs"), _lost_paper,
           pages_ahead),
    Export("tab", "tab", "Drum tab", _about_paper, tab, "plain text", ("patterns",), _lost_paper),
    Export("hits-csv", "hits-csv", "Hits as a table", _about_data, hits_csv, "csv", ("patterns", "muted")),
    Export("hits-json", "hits-json", "Hits as JSON", _about_data, hits_json, "json", ("patterns", "muted")),
    Export("report", "report", "Report", _about_report, report, "html.parser", ("patterns", "muted", "repeat_signs"),
           ahead=sounds_ahead),
    Export("report-pdf", "report", "Report to print", _about_print, report_pdf, "pypdf", ("patterns", "muted", "repeat_signs"),
           ahead=engrave_ahead),
    Export("feel", "feel", "Feel", lambda request: _about_feel(request.document), feel, "json"),
)

EXPORTS: dict[str, Export] = {export.key: export for export in _TABLE}
"""All exports by key, in the order they are shown."""

KINDS = tuple(dict.fromkeys(export.kind for export in _TABLE))
"""What files are called in a manifest, and on the command line."""

CHOICES: dict[str, Mapping[Any, str]] = {
    "format": FORMATS, "rate": RATES, "bits": BITS, "patterns": PATTERNS, "notes": NOTES, "chance": CHANCES, "tail": TAILS,
    "way": WAYS, "midi_type": {1: "type 1, a track a pad", 0: "type 0, one track"},
}
"""The options that are one of a few, with the words for each."""
