"""What must stay as it was while the code moves: what is heard, what is written and bounced, and projects of older versions.

`kept/` was written once by the code of format version 2; the demo's bounce anew when pads became their drums by themselves. Numeric
kernels differ between machines, so sound and confidences are held to 1e-3 and times to a sample; MIDI and documents are held exactly.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from bompla.analysis.analyse import analyse
from bompla.audio.clip import Clip
from bompla.audio.files import read_clip
from bompla.engine.bounce import bounce_rebuilt
from bompla.formats.midi import MidiOptions, midi_bytes
from bompla.formats.project import Project, open_project, project_bytes, read_project
from bompla.model.document import Document
from bompla.model.variation_edits import set_untouched
from bompla.render.bake import bake
from bompla.render.events import BakeRequest

KEPT = Path(__file__).parent / "kept"
NEAR = 1e-3
QUARTER = 0.25
"""Bounces were kept so much softer, that none of them is clipped."""


def bounced(document: Document, clip: Clip, borrowed: dict[str, Clip] | None = None) -> np.ndarray:
    baked = bake(BakeRequest(document, clip, 48_000, borrowed=borrowed))
    return bounce_rebuilt(baked, passes=2, gain=QUARTER).samples


def test_the_demo_loops_are_heard_as_they_were(demo_loops: list[tuple[str, Clip, dict[str, Any]]]) -> None:
    kept = json.loads((KEPT / "analysis.json").read_text())
    assert {name for name, _, _ in demo_loops} == set(kept)
    for name, clip, _ in demo_loops:
        now, was = analyse(clip, name=name), kept[name]
        start, end, bars, meter = was["loop"]
        assert (now.loop.bars, now.loop.meter_name) == (bars, meter), name
        assert abs(now.loop.start_sample - start) <= 1, name
        assert abs(now.loop.end_sample - end) <= 1, name
        assert now.tempo_confidence == pytest.approx(was["tempo_confidence"], abs=NEAR)
        assert now.readings[0].bpm == pytest.approx(was["readings"][0][0], abs=NEAR)
        assert len(now.attacks) == len(was["attacks"]), name
        for attack, (at, _, strength, clear, drums) in zip(now.attacks, was["attacks"], strict=True):
            assert abs(attack.at_sample - at) <= 1, (name, at)
            assert attack.strength == pytest.approx(strength, abs=NEAR)
            assert attack.clear_db == pytest.approx(clear, abs=0.11)
            heard = {one.drum: (one.confidence, one.velocity) for one in attack.heard}
            for drum, confidence, velocity in drums:
                assert heard.get(drum, (0.05, velocity))[0] == pytest.approx(confidence, abs=2 * NEAR), (name, at, drum)
                assert abs(heard.get(drum, (0.0, velocity))[1] - velocity) <= 1, (name, at, drum)


def test_the_demo_is_written_and_bounced_as_it_was(demo: tuple[Document, Clip]) -> None:
    document, clip = set_untouched(demo[0], "pads"), demo[1]
    assert midi_bytes(document) == (KEPT / "demo.mid").read_bytes()
    assert np.abs(bounced(document, clip) - read_clip(KEPT / "demo.flac").samples).max() < NEAR


def test_a_project_of_version_2_plays_and_writes_as_it_did() -> None:
    project = open_project(KEPT / "version 2.bompla")
    document, clip = project.sources[0]
    assert midi_bytes(document, MidiOptions(letters=("A", "B"))) == (KEPT / "version 2.mid").read_bytes()
    assert np.abs(bounced(document, clip, dict(project.borrowed)) - read_clip(KEPT / "version 2.flac").samples).max() < NEAR


@pytest.mark.parametrize("version", [1, 2])
def test_a_project_that_is_saved_again_stays_as_it_is(version: int) -> None:
    before = open_project(KEPT / f"version {version}.bompla")
    after = read_project(project_bytes(before), "again.bompla")
    assert after.sources[0][0] == before.sources[0][0]
    assert project_bytes(Project(after.sources, after.current, after.borrowed)) == project_bytes(before)
