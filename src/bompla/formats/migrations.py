"""Projects of older versions: what turns each version's header into the next one's.

Everything here is written out: an older format does not change because a table of today does.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

Header = dict[str, Any]
Migration = Callable[[Header], Header]


def _one_source_to_many(header: Header) -> Header:
    """Version 1 to 2: a project held one sound."""
    return {"sources": [{"audio": header["audio"], "document": header["document"]}], "current": 0}


_TAILS = {"as the kit": "kit", "none": "end", "ring on": "ring", "back and forth": "both"}
_DIRECTIONS = {"forward": "forward", "reverse": "reverse", "forward and back": "both"}
_TREATMENT_KEYS = {
    "tone": ("low_db", "mid_db", "high_db"), "drive": ("drive_db",), "squeeze": ("amount", "release_ms", "kick_share"),
    "grit": ("bits", "rate_hz"), "wobble": ("depth_cents", "speed_hz"), "room": ("size", "damp", "level"),
    "echo": ("beats", "again", "level"), "ceiling": ("ceiling_db", "release_ms"),
}


def _labels_to_keys(header: Header) -> Header:
    """Version 2 to 3: choices are kept by key instead of by label, values of treatments by key instead of by place."""
    for document in _documents(header):
        document["tail"] = _TAILS.get(document.get("tail", "none"), document.get("tail"))
        for cut in document.get("cuts", []):
            cut["locked"] = cut.pop("held", False)
            cut["origin"] = "detected" if cut["origin"] == "heard" else cut["origin"]
        for pad in document.get("pads", []):
            shape = pad.get("shape", {})
            shape["gated"] = shape.pop("held", False)
            shape["tail"] = _TAILS.get(shape.get("tail", "as the kit"), shape.get("tail"))
            shape["direction"] = _DIRECTIONS.get(shape.get("direction", "forward"), shape.get("direction"))
        for treatment in document.get("colour", {}).get("chain", []):
            keys = _TREATMENT_KEYS.get(treatment["kind"], ())
            treatment["values"] = dict(zip(keys, treatment.get("values", []), strict=True))
    return header


def _bars_to_beats(header: Header) -> Header:
    """Version 3 to 4: a loop's length is in beats, which need be no whole bars; what a sound is, is known by its content."""
    for document in _documents(header):
        document_to_4(document)
    return header


_BEATS_PER_BAR = {"4/4": 4, "3/4": 3, "5/4": 5, "7/8": 7, "6/8": 2, "12/8": 4, "2/4": 2}


def document_to_4(document: dict[str, Any]) -> None:
    """Change one document of format 3 into one of format 4, in place."""
    for loop in [document.get("loop"), *(one.get("loop") for one in document.get("proposed", []))]:
        if loop is not None and "bars" in loop:
            loop["length_beats"] = float(loop.pop("bars") * _BEATS_PER_BAR.get(loop.get("meter_name"), 4))


def _moments_by_pads(header: Header) -> Header:
    """Version 4 to 5: untouched moments can play the loop itself; what was made before goes on sounding as it did."""
    for document in _documents(header):
        document_to_5(document)
    return header


def document_to_5(document: dict[str, Any]) -> None:
    """Change one document of format 4 into one of format 5, in place."""
    for variation in document.get("variations", []):
        variation.setdefault("untouched", "pads")


def _documents(header: Header) -> Iterator[dict[str, Any]]:
    for source in header["sources"]:
        yield source["document"]


MIGRATIONS: dict[int, Migration] = {1: _one_source_to_many, 2: _labels_to_keys, 3: _bars_to_beats, 4: _moments_by_pads}
"""For each older version, what turns its header into the next version's."""
