"""No click where a sound starts, ends, is choked, stolen or goes on past its end: over the kits of all demo loops."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace

from bompla.analysis.analyse import analyse
from bompla.audio.files import read_clip
from bompla.demo import loop_paths
from bompla.engine.commands import Op, command
from bompla.engine.layout import Bus
from bompla.engine.mixer import MAX_VOICES, STEAL_FADE_FRAMES, MixerState, apply, render
from bompla.engine.voices import CHOKE_FADE_FRAMES
from bompla.groove.rebuild import document_from
from bompla.model.document import Document
from bompla.render.bake import bake
from bompla.render.events import Baked, BakeRequest, SoundKey

RATE = 48_000
EDGE_FRAMES = 24
"""The first and last half millisecond, where a fade meets silence."""


@lru_cache(maxsize=32)
def baked_kit(path: Path, tail: str) -> tuple[Document, Baked]:
    clip = read_clip(path)
    document = replace(document_from(analyse(clip, name=path.name), path.stem), tail=tail)
    return document, bake(BakeRequest(document, clip, RATE))


def steps(sound: np.ndarray) -> np.ndarray:
    """Return the steps from sample to sample, silence before and after."""
    return np.abs(np.diff(np.concatenate([np.zeros((1, 2)), sound, np.zeros((1, 2))]), axis=0)).max(axis=1)


@pytest.mark.parametrize("path", loop_paths(), ids=lambda path: path.stem)
@pytest.mark.parametrize("tail", ["end", "ring", "both"])
def test_every_pad_sound_starts_and_ends_no_harder_than_it_moves(path: Path, tail: str) -> None:
    _, baked = baked_kit(path, tail)
    assert baked.sounds
    for sound in (sound for key, sound in baked.sounds.items() if isinstance(key, SoundKey)):
        moved = steps(sound)
        within = moved[EDGE_FRAMES:-EDGE_FRAMES].max(initial=0.0)
        assert moved[:2].max() <= within + 1e-3, "the start"
        assert moved[-EDGE_FRAMES:].max() <= within + 1e-3, "the end"


@pytest.mark.parametrize("path", loop_paths()[:4], ids=lambda path: path.stem)
def test_choking_stealing_and_letting_go_move_no_harder_than_the_sounds(path: Path) -> None:
    document, baked = baked_kit(path, "none")
    sounds = list(baked.sounds.values())
    pool = np.concatenate(sounds).astype(np.float32)
    starts = np.cumsum([0, *(len(s) for s in sounds)])
    rng = np.random.default_rng(4)
    for fade, count, choke in ((CHOKE_FADE_FRAMES, 1, 5), (STEAL_FADE_FRAMES, MAX_VOICES, 0)):
        state = MixerState(pool)
        gain = 0.9 / count
        first = int(rng.integers(len(sounds)))
        for n in range(count):
            apply(state, command(Op.STRIKE, offset=int(starts[first]), length=len(sounds[first]), pad=n, choke=choke, gain=gain))
        before = render(state, 2_000).copy()
        other = int(rng.integers(len(sounds)))
        apply(state, command(Op.STRIKE, offset=int(starts[other]), length=len(sounds[other]), pad=count, choke=choke, gain=gain))
        after = render(state, 3_000).copy()
        whole = steps(np.concatenate([before, after]))[1_990:-1]
        material = gain * (count * steps(sounds[first]).max() + steps(sounds[other]).max())
        assert whole.max() <= material + gain * np.abs(sounds[first]).max() / fade + 1e-4
    state = MixerState(pool)
    apply(state, command(Op.STRIKE, offset=0, length=len(sounds[0]), pad=1, gain=0.9, release=960))
    sounding = render(state, 500).copy()
    apply(state, command(Op.LET_GO, pad=1))
    ended = render(state, 2_000).copy()
    assert steps(np.concatenate([sounding, ended])).max() <= 0.9 * (steps(sounds[0]).max() + np.abs(sounds[0]).max() / 960) + 1e-4
    assert not ended[960:].any()
    assert all(voice.bus != Bus.LIVE for voice in state.voices)
    assert document.pads
