"""Kits that leave as files: SFZ and SoundFont, read back and played by others."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from msgspec.structs import replace
from scipy.signal import stft

from bompla.audio.clip import Clip
from bompla.demo import loop_paths
from bompla.export.kit import LOUDEST_SFZ_DB
from bompla.export.loops import rebuilt_sound
from bompla.export.options import ExportOptions
from bompla.export.request import ExportRequest, parts_of
from bompla.formats.midi import midi_bytes
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document
from bompla.model.drums import DRUMS
from bompla.model.kit_edits import set_shape
from conftest import made, none

SFZ_OPCODES = {
    "sample": str, "lokey": (0, 127), "hikey": (0, 127), "pitch_keycenter": (0, 127), "lovel": (1, 127), "hivel": (1, 127),
    "volume": (-144.0, LOUDEST_SFZ_DB), "amp_veltrack": (-100.0, 100.0), "group": (0, 2**31), "off_by": (0, 2**31),
    "off_mode": {"fast", "normal"},
    "loop_mode": {"no_loop", "one_shot"}, "trigger": {"attack"}, "seq_length": (1, 100), "seq_position": (1, 100), "transpose": (-127, 127),
    "tune": (-100, 100), "pan": (-100.0, 100.0), "fil_type": {"lpf_2p", "hpf_2p", "bpf_2p", "brf_2p"}, "cutoff": (20.0, 20_000.0),
    "resonance": (0.0, 40.0), "ampeg_attack": (0.0, 100.0), "ampeg_hold": (0.0, 100.0), "ampeg_decay": (0.0, 100.0),
    "ampeg_sustain": (0.0, 100.0), "ampeg_release": (0.0, 100.0),
}


def parsed_sfz(text: str) -> list[dict[str, str]]:
    """Read the regions of an SFZ file, strictly: known opcodes, each once in a region, values that are possible."""
    regions: list[dict[str, str]] = []
    for line in (one.partition("//")[0].strip() for one in text.splitlines()):
        if line == "<region>":
            regions.append({})
        elif line:
            name, equals, value = line.partition("=")
            assert equals, line
            allowed = SFZ_OPCODES[name]
            assert name not in regions[-1], f"{name} twice"
            if isinstance(allowed, tuple):
                assert allowed[0] <= float(value) <= allowed[1], line
            elif isinstance(allowed, set):
                assert value in allowed, line
            regions[-1][name] = value
    return regions


def shaped_kit(document: Document) -> Document:
    """The demo's kit with a pad that has an envelope, a filter, tune and pan, and a gated one."""
    snare = next(pad for pad in document.pads if pad.drum == "snare")
    hat = next(pad for pad in document.pads if pad.drum == "hat_closed")
    sound = replace(snare.shape, filter="low", cutoff_hz=4_000.0, resonance=2.0, tune=-2.5, pan=0.4)
    document = set_shape(document, snare.id, replace(sound, attack_ms=5.0, decay_ms=120.0, sustain=0.3))
    return set_shape(document, hat.id, replace(hat.shape, gated=True, release_ms=40.0, filter="high"))


def test_the_sfz_kit_is_the_kit(demo: tuple[Document, Clip]) -> None:
    document = shaped_kit(demo[0])
    files = made("sfz", ExportRequest(document, demo[1]))
    regions = parsed_sfz(files[-1].content.decode())
    samples = {one.path.removeprefix("kit/") for one in files[:-1]}
    assert {region["sample"] for region in regions} == samples
    for pad in document.pads:
        own = [region for region in regions if int(region["lokey"]) <= pad.note <= int(region["hikey"])]
        heights = sorted({layer.up_to for layer in pad.layers})
        assert min(int(region["lovel"]) for region in own) == 1
        assert max(int(region["hivel"]) for region in own) == 127
        for velocity in range(1, 128):
            at = [region for region in own if int(region["lovel"]) <= velocity <= int(region["hivel"])]
            up_to = next((one for one in heights if velocity <= one), heights[-1])
            turns = [layer for layer in pad.layers if layer.up_to == up_to]
            assert len(at) == len(turns)
            assert [int(region.get("seq_position", 1)) for region in at] == list(range(1, len(turns) + 1))
            assert {region["group"] for region in at} == {region["off_by"] for region in at}
    hat_notes = {pad.note for pad in document.pads if DRUMS[pad.drum].choke_set == 1}
    hats = {region["group"] for region in regions if int(region["lokey"]) in hat_notes}
    assert hats == {"1"}
    snare = next(pad for pad in document.pads if pad.drum == "snare")
    one = next(region for region in regions if int(region["lokey"]) == snare.note)
    assert (one["fil_type"], one["cutoff"], one["pan"], one["ampeg_decay"], one["ampeg_sustain"]) == ("lpf_2p", "4000", "40", "0.12", "30")
    assert 100 * int(one["transpose"]) + int(one["tune"]) == -250
    hat = next(pad for pad in document.pads if pad.drum == "hat_closed")
    gated = next(region for region in regions if int(region["lokey"]) == hat.note)
    assert (gated["loop_mode"], gated["ampeg_release"], gated["fil_type"]) == ("no_loop", "0.04", "hpf_2p")


def played_by_fluidsynth(font: bytes, midi: bytes, folder: Path, rate: int = 44_100) -> np.ndarray:
    (folder / "kit.sf2").write_bytes(font)
    (folder / "it.mid").write_bytes(midi)
    ran = subprocess.run(
        ["fluidsynth", "-ni", "-q", "-R", "0", "-C", "0", "-g", "0.5", "-r", str(rate), "-o", "synth.polyphony=256",
         "-F", str(folder / "it.wav"), str(folder / "kit.sf2"), str(folder / "it.mid")],
        capture_output=True, timeout=120, check=False, text=True)
    assert ran.returncode == 0, ran.stderr
    assert "error" not in ran.stderr.lower(), ran.stderr
    sound, _ = soundfile.read(folder / "it.wav", always_2d=True)
    return np.asarray(sound)


def mel_db(sound: np.ndarray, rate: int) -> np.ndarray:
    _, _, spectrum = stft(sound.mean(axis=1), rate, nperseg=2_048, noverlap=2_048 - 441)
    hz = np.fft.rfftfreq(2_048, 1 / rate)
    edges = 700 * (np.exp(np.linspace(np.log1p(30 / 700), np.log1p(16_000 / 700), 66)) - 1)
    bank = np.clip(np.minimum((hz - edges[:-2, None]) / (edges[1:-1] - edges[:-2])[:, None],
                              (edges[2:, None] - hz) / (edges[2:] - edges[1:-1])[:, None]), 0, None)
    return np.asarray(10 * np.log10(bank @ np.abs(spectrum) ** 2 + 1e-14))


@pytest.mark.skipif(shutil.which("fluidsynth") is None, reason="needs FluidSynth to play the font")
@pytest.mark.parametrize("name", [path.stem for path in loop_paths()[:3]])
def test_the_font_played_by_another_program_sounds_as_the_kit_does(name: str, demo_loops: Any, tmp_path: Path) -> None:
    from bompla.analysis.analyse import analyse
    from bompla.groove.rebuild import document_from

    clip = next(clip for stem, clip, _ in demo_loops if stem == name)
    document = document_from(analyse(clip, name=name), name)
    plain = [replace(hit, gain_db=0.0) for hit in pattern_of(document).hits]
    first_of_turns = tuple(
        replace(pad, layers=tuple(layer for n, layer in enumerate(pad.layers) if all(layer.up_to != one.up_to for one in pad.layers[:n])))
        for pad in document.pads)
    by_pads = replace(pattern_of(document), hits=tuple(plain), untouched="pads")
    document = replace(document, pads=first_of_turns, variations=(by_pads,), shown=0)
    request = ExportRequest(document, clip, ExportOptions(rate=44_100, tail="ringing"))
    ours = rebuilt_sound(request, parts_of(document, "shown")[0], none).samples.astype(float)
    theirs = played_by_fluidsynth(made("sf2", request)[0].content, midi_bytes(document), tmp_path)
    frames = min(len(ours), len(theirs), round(document.loop.frames * 44_100 / clip.sample_rate))
    ours, theirs = ours[:frames], theirs[:frames]
    late = np.correlate(np.abs(theirs[:, 0])[: 4 * 44_100 + 400], np.abs(ours[:, 0])[400 : 4 * 44_100], "valid").argmax() - 400
    assert abs(late) <= 0.003 * 44_100
    theirs *= np.sqrt(np.square(ours).sum() / np.square(theirs).sum())
    one, other = mel_db(ours, 44_100), mel_db(theirs, 44_100)
    floor = one.max() - 60
    assert np.abs(np.maximum(one, floor) - np.maximum(other, floor)).mean() < 3.0
