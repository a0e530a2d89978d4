"""Pulling the drums of a slice apart, so that a kick can be had without the hat on it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.stft import istft, stft
from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.errors import AnalysisError
from bompla.model.drums import DRUMS

RATE = 44_100
SIZE, HOP = 1024, 256
TEMPLATE_FRAMES = 96
"""How long a drum's picture is: half a second; a longer sound goes on as its picture ends."""

TEMPLATES_FILE = "templates.npz"
ROUNDS = 14
FREEDOM_DB = 9.0
"""How far a drum in a slice may differ from its picture, band by band and moment by moment."""

SHARPNESS = 1.4
_TINY = 1e-10

Floats = NDArray[np.float32]
Picture = NDArray[np.float64]
"""Power of a strike by frame from its attack and by band, shape (`TEMPLATE_FRAMES`, bands)."""


def pull_apart(
    clip: Clip, start_sample: int, end_sample: int, drums: Sequence[str], *, attack_sample: int | None = None,
    alone: Mapping[str, Sequence[int]] | None = None,
) -> dict[str, Clip]:
    """Return the part of each drum in a slice; together they are the slice again.

    `drums` are those that sound in it. `alone` may name, for a drum, attacks in the same clip at
    which it sounds by itself: its picture is then taken from them, and from the shipped one
    otherwise. The slice's power is explained as the sum of the pictures, each bent by band and by
    moment to fit (multiplicative updates for the Kullback-Leibler divergence; Lee and Seung,
    "Algorithms for non-negative matrix factorization", 2001), and each drum gets its share of every
    bin (a Wiener mask), with the mixture's phase. Raises AnalysisError for a drum that is unknown.
    """
    unknown = [drum for drum in drums if drum not in DRUMS]
    if unknown or not drums:
        raise AnalysisError(f"There is no drum called {unknown[0]}." if unknown else "Name at least one drum to pull apart.")
    part = clip.part(start_sample, end_sample)
    wanted = tuple(dict.fromkeys(drums))
    if len(wanted) == 1 or part.frames < 64:
        return {drum: part if index == 0 else Clip(np.zeros_like(part.samples), part.sample_rate) for index, drum in enumerate(wanted)}
    at_rate = resampled(part, RATE)
    lead = 0 if attack_sample is None else max(0, round((attack_sample - start_sample) * RATE / clip.sample_rate))
    spectra = [stft(at_rate.samples[:, channel], SIZE, HOP) for channel in range(at_rate.channels)]
    power = sum(np.abs(spectrum) ** 2 for spectrum in spectra) @ _bands()
    pictures = [_aligned(_picture(clip, drum, (alone or {}).get(drum, ())), power.shape[0], lead // HOP) for drum in wanted]
    shares = _shares(np.asarray(power, np.float64), pictures)
    made = {}
    for drum, share in zip(wanted, shares, strict=True):
        mask = (share @ _bands().T) / np.maximum(_bands().sum(axis=1), 1e-6)
        sound = np.stack([istft(spectrum * mask, SIZE, HOP, at_rate.frames) for spectrum in spectra], axis=1)
        back = resampled(Clip(sound.astype(np.float32), RATE), clip.sample_rate).samples
        fitted = np.zeros_like(part.samples)
        fitted[: min(len(back), len(fitted))] = back[: len(fitted)]
        made[drum] = fitted
    rest = (part.samples - np.sum(list(made.values()), axis=0)) / len(made)
    return {drum: Clip(sound + rest, clip.sample_rate) for drum, sound in made.items()}


def picture_of(sound: Floats) -> Picture:
    """Return the picture of a mono strike at `RATE` that begins at its attack."""
    power = (np.abs(stft(sound, SIZE, HOP)) ** 2) @ _bands()
    picture = np.full((TEMPLATE_FRAMES, power.shape[1]), _TINY)
    count = min(TEMPLATE_FRAMES, power.shape[0])
    picture[:count] = np.maximum(power[:count], _TINY)
    return picture


@lru_cache(maxsize=1)
def _shipped() -> dict[str, Picture]:
    try:
        with files("bompla.analysis").joinpath(TEMPLATES_FILE).open("rb") as stream, np.load(stream) as data:
            return {drum: 10.0 ** (data[drum].astype(np.float64) / 10.0) for drum in DRUMS}
    except (OSError, KeyError, ValueError) as error:
        raise AnalysisError("The pictures of the drums are missing or damaged; install Bompla again.") from error


def _picture(clip: Clip, drum: str, attacks: Sequence[int]) -> Picture:
    """Return a drum's picture: the middle of its strikes alone, in dB, and the shipped one beyond them."""
    known = []
    for attack in attacks[:8]:
        part = clip.part(attack, attack + round(TEMPLATE_FRAMES * HOP * clip.sample_rate / RATE))
        if part.frames > SIZE:
            picture = picture_of(resampled(Clip(part.mono, part.sample_rate), RATE).samples[:, 0])
            known.append(10.0 * np.log10(picture / picture.max()))
    if not known:
        return _shipped()[drum]
    return np.asarray(10.0 ** (np.median(known, axis=0) / 10.0))


def _aligned(picture: Picture, frames: int, lead: int) -> Picture:
    """Return a picture moved to the attack and held to a length."""
    out = np.full((frames, picture.shape[1]), _TINY)
    count = min(frames - lead, picture.shape[0])
    if count > 0:
        out[lead : lead + count] = picture[:count]
        if lead + count < frames:
            fall = picture[-1] * 10.0 ** (-0.02 * np.arange(frames - lead - count))[:, None]
            out[lead + count :] = np.maximum(fall, _TINY)
    return out


def _shares(power: Picture, pictures: list[Picture]) -> list[Picture]:
    """Return each drum's share of the power by frame and band, adding to 1."""
    peak = max(float(power.max()), _TINY)
    power = power / peak + _TINY
    parts = [picture / picture.max() * _first_gain(power, picture / picture.max()) + _TINY for picture in pictures]
    limit = 10.0 ** (FREEDOM_DB / 10.0)
    by_band = [np.ones((1, power.shape[1])) for _ in parts]
    by_time = [np.ones((power.shape[0], 1)) for _ in parts]
    for _ in range(ROUNDS):
        for index in range(len(parts)):
            bent = [p * b * t for p, b, t in zip(parts, by_band, by_time, strict=True)]
            ratio = power / np.sum(bent, axis=0)
            own = bent[index]
            by_band[index] = np.clip(by_band[index] * (own * ratio).sum(axis=0) / own.sum(axis=0), 1.0 / limit, limit)
            own = parts[index] * by_band[index] * by_time[index]
            gain = (own * ratio).sum(axis=1, keepdims=True) / own.sum(axis=1, keepdims=True)
            by_time[index] = np.clip(by_time[index] * gain, 1.0 / limit, limit)
    bent = [(p * b * t) ** (SHARPNESS / 2.0 + 0.3) for p, b, t in zip(parts, by_band, by_time, strict=True)]
    total = np.sum(bent, axis=0) + _TINY
    return [own / total for own in bent]


def _first_gain(power: Picture, picture: Picture) -> float:
    """Return the gain at which a picture explains the power where it is strongest."""
    strong = picture >= np.percentile(picture, 90)
    return float(np.median(power[strong] / picture[strong])) + _TINY


@lru_cache(maxsize=1)
def _bands() -> Floats:
    """Return triangular bands a sixth of an octave wide, never narrower than a bin, shape (bins, bands)."""
    hz = RATE / SIZE
    edges = [0.0, hz]
    while edges[-1] < RATE / 2:
        edges.append(max(edges[-1] + hz, edges[-1] * 2.0 ** (1.0 / 6.0)))
    points = np.array(edges)
    bins = np.arange(SIZE // 2 + 1) * hz
    rising = (bins[:, None] - points[None, :-2]) / (points[1:-1] - points[:-2])
    falling = (points[None, 2:] - bins[:, None]) / (points[2:] - points[1:-1])
    weights = np.clip(np.minimum(rising, falling), 0.0, None)
    weights[0, 0] = 1.0
    return np.asarray(weights, np.float32)
