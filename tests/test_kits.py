"""Kits from elsewhere: instruments, fonts, folders and sounds are read, put under a groove hit for hit, and fail in words."""

from __future__ import annotations

import io
import struct
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from bompla.app.project.kit_requests import KitRequest
from bompla.audio.clip import Clip
from bompla.demo.synth import draw_kit, strike
from bompla.errors import BomplaError, KitError
from bompla.export.options import ExportOptions
from bompla.export.request import ExportRequest
from bompla.export.table import EXPORTS
from bompla.formats.sf2 import FontInstrument, FontSample, FontZone, Generator, soundfont
from bompla.formats.sf2_read import Font
from bompla.formats.sfz_read import read_sfz
from bompla.groove.feel import felt_pattern
from bompla.groove.from_midi import variation_from_notes
from bompla.groove.taken_groove import with_groove_of
from bompla.kits.from_document import kit_from_document
from bompla.kits.from_folder import files_in_folder, kit_from_files
from bompla.kits.from_sf2 import drum_presets, kit_from_font
from bompla.kits.from_sfz import kit_from_sfz
from bompla.kits.kit import ReadKit
from bompla.kits.names import said_by
from bompla.kits.own import own_kit, own_kits
from bompla.kits.putting import made_ready, onto_pads, under_groove
from bompla.kits.saved import save_kit, saved_kits
from bompla.model.checks import check_document
from bompla.model.detected_pattern import pattern_of
from bompla.model.document import Document, Pad
from bompla.model.drums import DRUMS, METERS
from bompla.model.variation_edits import add_variation
from bompla.render.bake import bake
from bompla.render.events import BakeRequest, sound_key, strike_gain
from conftest import settle

RATE = 44_100
NAMES = {
    "Kick 01": "kick", "BD_hard": "kick", "kik-dry": "kick", "BassDrum_mf": "kick", "KD": "kick", "SNR3_v2": "snare", "Snare_Soft": "snare",
    "sd": "snare", "SN top": "snare", "rimshot": "rim", "SideStick": "rim", "xstick": "rim", "clap808": "clap", "HandClap": "clap",
    "hh closed": "hat_closed", "HHC_01": "hat_closed", "ClosedHat": "hat_closed", "chh": "hat_closed", "hihat": "hat_closed",
    "oh": "hat_open", "HH Open 2": "hat_open", "openhat": "hat_open", "hihat_op": "hat_open", "PedalHat": "hat_pedal",
    "hh ped": "hat_pedal",
    "tom hi": "tom_high", "tom1": "tom_high", "LowTom": "tom_low", "Tom_Floor": "tom_low", "mid tom": "tom_mid", "Ride-Bell": "ride",
    "crash16": "crash", "CYM": "crash", "splash": "crash", "shaker_03": "shaker", "tamb": "shaker", "cowbell": "perc", "conga lo": "perc",
    "weird thing": "", "track 03": "",
}


def deaf(_clip: Clip, _attack: int) -> str:
    return "perc"


def strikes_db(document: Document, clip: Clip, borrowed: dict[str, Clip]) -> dict[str, list[float]]:
    """Return for each drum how loud its pad is by velocity, in dB."""
    baked = bake(BakeRequest(replace(document, tail="end"), clip, RATE, borrowed))
    made = {}
    for pad in document.pads:
        levels = []
        for velocity in (30, 64, 100, 127):
            layer = pad.layer_for(velocity)
            assert layer is not None
            sound = baked.sounds[sound_key(replace(document, tail="end"), pad, layer, clip)]
            levels.append(20 * np.log10(strike_gain(pad, layer, velocity) * np.sqrt((sound**2).sum())))
        made[pad.drum] = levels
    return made


@pytest.mark.parametrize("kind", ["sfz", "sf2"])
def test_a_kit_that_was_written_comes_back_as_it_was(demo: tuple[Document, Clip], tmp_path: Path, kind: str) -> None:
    document, clip = demo
    document = replace(document, pads=tuple(replace(pad, hardest=127) for pad in document.pads))  # no range that is equally loud
    for one in EXPORTS[kind].make(ExportRequest(document, clip, ExportOptions(rate=RATE)), lambda: None):
        place = tmp_path / one.path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(one.content)
    path = next(tmp_path.rglob(f"*.{kind}"))
    if kind == "sfz":
        kit = kit_from_sfz(path, deaf)
    else:
        font = Font(path)
        kit = kit_from_font(font, drum_presets(font)[0], deaf)
    ready = made_ready(kit, clip.sample_rate)
    swap = under_groove(document, ready)
    check_document(swap.document)
    assert (swap.stands_in, swap.stayed) == ((), ())
    assert [(p.drum, p.note) for p in swap.document.pads] == [(p.drum, p.note) for p in document.pads]
    there, here = strikes_db(document, clip, {}), strikes_db(swap.document, clip, dict(ready.sounds))
    off = [h - t for drum in there for t, h in zip(there[drum], here[drum], strict=True)]
    assert max(off) - min(off) < 0.8, "by as much as ever, at every velocity and on every pad"


def test_three_kits_are_put_under_one_groove_and_no_hit_is_lost(demo_window: Any, qtbot: Any) -> None:
    window, session = demo_window, demo_window.session
    window.go_to_stage("kit")
    window.kit.choose_kit()
    kits = window.kit.kits
    hits = [(hit.id, hit.at_beats, hit.velocity) for hit in pattern_of(session.store.document).hits]
    drums = {hit.id: session.store.document.pad(hit.pad_id).drum for hit in pattern_of(session.store.document).hits}
    for row, name in enumerate(own_kits()):
        kits.open_kits()
        kits.sources.setCurrentRow(row)
        qtbot.waitUntil(lambda name=name: kits.kit is not None and kits.kit.name == name, timeout=20_000)
        assert kits.finds.text() == f"All {len(hits)} hits stay."
        kits.take.click()
        document = session.store.document
        assert [(hit.id, hit.at_beats, hit.velocity) for hit in pattern_of(document).hits] == hits
        assert all(document.pad(hit.pad_id).drum == drums[hit.id] for hit in pattern_of(document).hits)
        check_document(document)
        settle(qtbot, window)
        assert all(not event.stands_for for event in window.playback.baking.baked.events), "another kit is heard throughout"
    session.store.undo()
    session.store.undo()
    session.store.undo()
    assert [(hit.id, hit.at_beats, hit.velocity) for hit in pattern_of(session.store.document).hits] == hits


def test_a_kit_without_a_drum_lets_another_stand_in_and_what_is_near_nothing_stays(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    own = own_kit("dry wood")
    few = ReadKit("few", tuple(pad for pad in own.pads if pad.drum in ("kick", "rim", "shaker")))
    swap = under_groove(document, made_ready(few, 44_100))
    assert {words.split(" on ")[1] for words in swap.stands_in} == {"Rim", "Shaker"}
    assert set(swap.stayed) == {pad.name for pad in document.pads if pad.drum in ("crash", "hat_open", "ride")}
    assert len(pattern_of(swap.document).hits) == len(pattern_of(document).hits)
    check_document(swap.document)


@pytest.mark.parametrize("name", NAMES)
def test_names_are_read_as_people_write_them(name: str) -> None:
    assert said_by(name).drum == NAMES[name]


def test_a_folder_of_badly_named_samples_comes_onto_the_pads(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    window, session = demo_window, demo_window.session
    folder = tmp_path / "one shots"
    folder.mkdir()
    kit, rng = draw_kit(np.random.default_rng(3), RATE), np.random.default_rng(4)
    for name, drum in NAMES.items():
        soundfile.write(folder / f"{name}.wav", strike(kit, drum or "kick", 110, rng), RATE)
    (folder / "notes.txt").write_text("not a sound")
    (folder / "broken snare.wav").write_bytes(b"RIFF....")
    assert len(files_in_folder(folder)) == len(NAMES) + 1
    window.go_to_stage("kit")
    window.kit.load_files([folder])
    kits = window.kit.kits
    qtbot.waitUntil(lambda: kits.kit is not None, timeout=60_000)
    known = {ready.pad.name: by for ready, by in zip(kits.kit.pads, kits.kit.known_by, strict=True)}
    assert {name for name, by in known.items() if by == "by ear"} == {name for name, drum in NAMES.items() if not drum}
    assert "broken snare.wav" in kits.said.text()
    before = pattern_of(session.store.document).hits
    assert kits.take.text() == "Put onto the pads"
    QTest.mouseClick(kits.take, Qt.MouseButton.LeftButton)
    document = session.store.document
    check_document(document)
    assert pattern_of(document).hits == before
    loaded = [pad for pad in document.pads if pad.layers and pad.layers[0].of]
    assert len(loaded) == len(NAMES)
    assert next(pad for pad in loaded if pad.name == "oh").drum == "hat_open", "a pad takes the name of what it plays"
    session.store.undo()
    assert all(not layer.of for pad in session.store.document.pads for layer in pad.layers)


def test_velocities_and_alternates_in_names_share_a_pad(tmp_path: Path) -> None:
    for name in ("snare_v1_rr1", "snare_v1_rr2", "snare_v127_rr1"):
        soundfile.write(tmp_path / f"{name}.wav", np.sin(np.arange(4_000) / 20.0) * np.exp(-np.arange(4_000) / 500.0), RATE)
    kit = kit_from_files("snares", files_in_folder(tmp_path), RATE, deaf)
    (pad,) = kit.pads
    assert [(layer.low, layer.high, layer.turn) for layer in pad.layers] == [(1, 63, 0.0), (1, 63, 1.0), (64, 127, 0.0)]
    ready = made_ready(kit, RATE).pads[0].pad
    assert [layer.up_to for layer in ready.layers] == [63, 63, 127]


def sfz_of(tmp_path: Path, text: str, *names: str) -> Path:
    for name in names:
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        soundfile.write(tmp_path / name, 0.5 * np.exp(-np.arange(3_000) / 400.0), RATE)
    path = tmp_path / "kit.sfz"
    path.write_text(text)
    return path


def test_an_instrument_is_read_with_headers_includes_and_definitions(tmp_path: Path) -> None:
    (tmp_path / "more.txt").write_text("<region> sample=b c.wav key=d2 // a snare\n")
    path = sfz_of(tmp_path, """
<control> default_path=sounds/
#define $VOL -6
<global> amp_veltrack=100 ampeg_release=0.2
<group> volume=$VOL group=3 loop_mode=one_shot lovel=1 hivel=63
<region> sample=a.wav key=36 lovel=1 hivel=63
<region> sample=a.wav key=36 lovel=64 hivel=127 volume=-3 pan=50 seq_length=2 seq_position=1
<region> sample=b c.wav key=36 lovel=64 hivel=127 seq_length=2 seq_position=2 lfo01_freq=3
<group> volume=0
#include "more.txt"
<region> sample=lost.wav key=42
<region> sample=../../outside.wav key=46
<region> sample=a.wav lokey=60 hikey=72 pitch_keycenter=64 trigger=release
""", "sounds/a.wav", "sounds/b c.wav")
    assert [region.note("key", -1) for region in read_sfz(path)][:4] == [36, 36, 36, 38]
    kit = kit_from_sfz(path, deaf)
    assert [(pad.note, pad.drum, len(pad.layers)) for pad in kit.pads] == [(36, "kick", 3), (38, "snare", 1)]
    assert [layer.gain_db for layer in kit.pads[0].layers] == [-6.0, -3.0, -6.0]
    said = " ".join(kit.said)
    for words in ("missing", "outside its own folder", "LFOs", "let go"):
        assert words in said
    ready = made_ready(kit, RATE)
    assert [layer.up_to for layer in ready.pads[0].pad.layers] == [63, 127, 127]


@pytest.mark.parametrize(("text", "words"), [
    ("", "no region"), ('#include "kit.sfz"', "includes itself"), ("<region> key=36", "no region"),
    ("<region> sample=lost.wav key=36", "None of the samples"), ('#include "../../etc/passwd"', "outside its own folder"),
    ("<region> sample=a.wav key=36 " * 9_000, "more than a kit"),
])
def test_an_instrument_that_cannot_be_read_is_told_in_words(tmp_path: Path, text: str, words: str) -> None:
    with pytest.raises(KitError, match=words):
        kit_from_sfz(sfz_of(tmp_path, text, "a.wav"), deaf)


def font_bytes(*, keys: tuple[int, ...] = (36, 38, 42, 46, 49), compressed: bool = False) -> bytes:
    """Return a small font: a tone for each key, in two ranges of velocity."""
    t = np.arange(4_000)
    samples = [FontSample(f"tone {key}", 0.5 * np.sin(t * (key / 400.0)) * np.exp(-t / 900.0)) for key in keys]
    instruments = [FontInstrument(f"pad {key}", (
        FontZone(n, (key, key), (0, 63), key, {Generator.LEVEL: 60, Generator.PAN: -200, Generator.EXCLUSIVE: 1 if key in (42, 46) else 0}),
        FontZone(n, (key, key), (64, 127), key, {Generator.EXCLUSIVE: 1 if key in (42, 46) else 0}))) for n, key in enumerate(keys)]
    content = soundfont("small", samples, instruments, sample_rate=RATE)
    if not compressed:
        return content
    return compressed_font(content)


def compressed_font(content: bytes) -> bytes:
    """Return a font with its samples as Ogg Vorbis, as sf3 has them: places are bytes, and a bit of the kind says so."""
    at, size = content.index(b"smpl"), struct.unpack_from("<I", content, content.index(b"smpl") + 4)[0]
    numbers = np.frombuffer(content[at + 8 : at + 8 + size], "<i2").astype(float) / 32_768.0
    heads = content.index(b"shdr")
    count = struct.unpack_from("<I", content, heads + 4)[0] // 46
    streams, records = b"", []
    for n in range(count - 1):
        name, start, end, *rest = struct.unpack_from("<20sIIIIIBbHH", content, heads + 8 + 46 * n)
        target = io.BytesIO()
        soundfile.write(target, numbers[start:end], RATE, format="OGG", subtype="VORBIS")
        place = len(streams)
        streams += target.getvalue()
        records.append(struct.pack("<20sIIIIIBbHH", name, place, len(streams), *rest[:-1], rest[-1] | 0x10))
    streams += b"\0" * (len(streams) % 2)
    records.append(content[heads + 8 + 46 * (count - 1) : heads + 8 + 46 * count])

    def chunk(kind: bytes, inside: bytes) -> bytes:
        return kind + struct.pack("<I", len(inside)) + inside

    info_end = content.index(b"LIST", 20)
    pdta = content.index(b"pdta")
    body = content[12:info_end] + chunk(b"LIST", b"sdta" + chunk(b"smpl", streams))
    body += chunk(b"LIST", b"pdta" + content[pdta + 4 : heads] + chunk(b"shdr", b"".join(records)))
    return b"RIFF" + struct.pack("<I", 4 + len(body)) + b"sfbk" + body


@pytest.mark.parametrize("compressed", [False, True])
def test_a_font_is_read_with_its_ranges_levels_and_choke_groups(tmp_path: Path, compressed: bool) -> None:
    path = tmp_path / ("small.sf3" if compressed else "small.sf2")
    path.write_bytes(font_bytes(compressed=compressed))
    font = Font(path)
    assert [(one.bank, one.program) for one in drum_presets(font)] == [(128, 0)]
    kit = kit_from_font(font, drum_presets(font)[0], deaf)
    assert [(pad.note, pad.drum) for pad in kit.pads] == [
        (36, "kick"), (38, "snare"), (42, "hat_closed"), (46, "hat_open"), (49, "crash")]
    for pad in kit.pads:
        assert [(layer.low, layer.high, round(layer.gain_db, 2), layer.pan) for layer in pad.layers] == [
            (1, 63, -2.4, -0.4), (64, 127, 0.0, 0.0)]
        wanted = 0.5 * 0.5**0.5 * np.sin(np.arange(4_000) * (pad.note / 400.0)) * np.exp(-np.arange(4_000) / 900.0)
        sound = pad.layers[1].sound.samples[:, 0]
        assert np.abs(sound[:4_000] - wanted[: len(sound)]).max() < (0.05 if compressed else 1e-4)
    ready = made_ready(kit, RATE)
    chokes = {one.pad.drum: one.pad.shape.choke for one in ready.pads}
    assert (chokes["hat_closed"], chokes["hat_open"], chokes["kick"]) == (1, 1, 0)


def test_layers_that_sound_at_once_are_one(tmp_path: Path) -> None:
    """The two channels of a sample, and zones laid over each other, are mixed as a font mixes them."""
    samples = [FontSample("wide", np.stack([0.4 * np.ones(2_000), -0.2 * np.ones(2_000)], axis=1)), FontSample("low", 0.1 * np.ones(1_000))]
    zones = (FontZone(0, (36, 36), (0, 127), 36), FontZone(1, (36, 36), (90, 127), 36))
    path = tmp_path / "wide.sf2"
    path.write_bytes(soundfont("wide", samples, [FontInstrument("kick", zones)], sample_rate=RATE))
    kit = kit_from_font(Font(path), Font(path).presets[0], deaf)
    ready = made_ready(kit, RATE)
    pad = ready.pads[0].pad
    assert [layer.up_to for layer in pad.layers] == [89, 127]
    soft, hard = (ready.sounds[layer.of].samples[500] for layer in pad.layers)
    assert soft == pytest.approx([0.4, -0.2], abs=2e-3)
    assert hard - soft == pytest.approx([0.1 * 0.5**0.5] * 2, abs=2e-3)


def test_a_font_without_percussion_says_so(tmp_path: Path) -> None:
    path = tmp_path / "piano.sf2"
    sample = FontSample("tone", 0.1 * np.ones(1_000))
    content = soundfont("piano", [sample], [FontInstrument("piano", (FontZone(0, (0, 127), (0, 127), 60),))], sample_rate=RATE)
    path.write_bytes(content.replace(struct.pack("<HH", 0, 128), struct.pack("<HH", 0, 0)))
    with pytest.raises(KitError, match="no percussion"):
        drum_presets(Font(path))


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(at=st.integers(0, 3_000), value=st.integers(0, 255), end=st.integers(0, 60_000))
def test_a_damaged_font_is_read_or_refused_in_words(tmp_path: Path, at: int, value: int, end: int) -> None:
    content = bytearray(font_bytes())
    place = (len(content) - 3_000 + at) % len(content)  # where its lists are
    content[place] = value
    path = tmp_path / "damaged.sf2"
    path.write_bytes(bytes(content[: max(40, len(content) - (end if end < 30_000 else 0))]))
    told = ""
    try:
        font = Font(path)
        made_ready(kit_from_font(font, drum_presets(font)[0], deaf), RATE)
    except BomplaError as error:
        told = str(error)
    assert told == "" or (len(told) > 20 and told.endswith((".", "no kit.")) and "Traceback" not in told)


def test_the_kit_of_another_sound_and_a_saved_one_sound_as_they_did(demo: tuple[Document, Clip], tmp_path: Path) -> None:
    document, clip = replace(demo[0], pads=tuple(replace(pad, hardest=127) for pad in demo[0].pads)), demo[1]
    request = ExportRequest(document, clip, ExportOptions(rate=clip.sample_rate))
    instrument = save_kit(request, "night / ferry", tmp_path)
    assert saved_kits(tmp_path) == (instrument,)
    assert save_kit(request, "night / ferry", tmp_path) != instrument, "a kit that was saved is never written over"
    there = strikes_db(document, clip, {})
    for kit in (kit_from_document(document, clip, {}), kit_from_sfz(instrument, deaf)):
        ready = made_ready(kit, clip.sample_rate)
        here = strikes_db(under_groove(document, ready).document, clip, dict(ready.sounds))
        off = [h - t for drum in there for t, h in zip(there[drum], here[drum], strict=True)]
        assert max(off) - min(off) < 0.8
    with pytest.raises(KitError, match="no pad with a sound"):
        kit_from_document(replace(document, pads=()), clip, {})


def test_every_percussion_note_finds_a_pad_and_no_note_is_dropped(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    notes = [(n * 0.25, note, 90) for n, note in enumerate(range(20, 108))]
    made, said = variation_from_notes(document, notes, beats=24, meter=METERS["4/4"], name="all")
    assert len(pattern_of(made).hits) == len(notes)
    check_document(made)
    placed = {hit.at_beats: made.pad(hit.pad_id) for hit in pattern_of(made).hits}
    for at, note, _ in notes:
        if 35 <= note <= 81 and note not in (56, 58, 67, 68, 71, 72, 78, 79):
            assert placed[at].layers, f"note {note} sounds"
    assert "new, empty pad" in said
    drums = [(n * 0.25, DRUMS[drum].note, 90) for n, drum in enumerate(DRUMS)]
    by_drum, _ = variation_from_notes(document, drums, beats=4, meter=METERS["4/4"], name="drums")
    own = {pad.drum for pad in document.pads}
    for hit, (_, note, _) in zip(pattern_of(by_drum).hits, drums, strict=True):
        drum = next(key for key in DRUMS if DRUMS[key].note == note)
        assert drum not in own or by_drum.pad(hit.pad_id).drum == drum, "a drum that the kit has is played by it"
    crowded = replace(document, pads=tuple(replace(document.pads[0], id=10_000 + n, slot=n, note=n % 20) for n in range(128)))
    full, _ = variation_from_notes(crowded, [(0.0, 100, 90), (1.0, 101, 90)], beats=4, meter=METERS["4/4"], name="full")
    assert len(pattern_of(full).hits) == 2, "nor where every place is taken"


def test_a_groove_is_taken_from_another_sound(demo: tuple[Document, Clip]) -> None:
    document = demo[0]
    own = under_groove(document, made_ready(own_kit("plain electronic"), 44_100)).document
    other = add_variation(own, [(next(p for p in own.pads if p.drum == "clap").id, 1.0, 100),
                                (next(p for p in own.pads if p.drum == "kick").id, 0.0, 110)], "clap")
    made, said = with_groove_of(document, other, other.variations[-1])
    check_document(made)
    assert said == ""
    drums = {hit.at_beats: made.pad(hit.pad_id).drum for hit in pattern_of(made).hits}
    assert drums == {0.0: "kick", 1.0: "snare"}


def test_hats_drawn_into_an_empty_variation_are_hats(demo_window: Any, qtbot: Any) -> None:
    window, session = demo_window, demo_window.session
    hat: Pad = next(p for p in session.store.document.pads if p.drum == "hat_closed")
    session.store.edit("hats", lambda d: add_variation(d, [(hat.id, n / 4, (70, 50, 100, 50)[n % 4]) for n in range(64)], "hats"))
    settle(qtbot, window)
    from bompla.engine.bounce import bounce_rebuilt

    sound = bounce_rebuilt(window.playback.baking.baked, passes=1).samples[:, 0]
    power = np.abs(np.fft.rfft(sound)) ** 2
    hz = np.fft.rfftfreq(len(sound), 1.0 / window.playback.engine.sample_rate)
    assert power[hz < 150.0].sum() < 0.01 * power.sum()
    assert len(felt_pattern(session.store.document)) == 64


def test_a_kit_that_cannot_be_read_is_told_in_the_window(demo_window: Any, qtbot: Any, tmp_path: Path) -> None:
    window = demo_window
    window.kit.choose_kit()
    kits = window.kit.kits
    path = tmp_path / "no.sf2"
    path.write_bytes(b"nothing")
    kits._ask(KitRequest(44_100, paths=(path,)))
    qtbot.waitUntil(lambda: "no SoundFont" in kits.said.text())
    assert not kits.take.isEnabled()
    assert onto_pads(window.session.store.document, made_ready(ReadKit("none", ()), 44_100)) is not None
