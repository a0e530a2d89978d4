"""Pulling the drums of a slice apart, so that a kick can be had without the hat on it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import IO

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.params import MOST_STRIKES
from bompla.analysis.separation.stft import istft, stft
from bompla.analysis.separation.template_match import Channels, played_again
from bompla.analysis.shipped import shipped
from bompla.audio.clip import Clip
from bompla.audio.resample import resampled
from bompla.errors import AnalysisError
from bompla.model.drums import DRUMS
from bompla.model.strike_levels import EDGES_HZ, STRETCHES_MS
from bompla.model.strike_levels import SIZE as SIZE_OF_LEVELS
from bompla.units import ms_to_samples

RATE = 44_100
SIZE, HOP = 1024, 256
TEMPLATE_FRAMES = 96
"""How long a drum's picture is: half a second; a longer sound goes on as its picture ends."""

TEMPLATES_FILE = "templates.npz"
LONGEST_S = 1.5
"""How many strikes alone are looked at, and how long."""

USUAL_COUNTS, UNUSUAL_DB = 2.0, 12.0
"""As how many strikes the usual picture of a drum counts, and how far over it none can be."""

BEFORE_MS, CLEAR_MS = 90.0, 12.0
"""What rings on is known from so long before an attack, up to where the attack cannot be heard yet."""

RING_FALLS_DB, RING_FREEDOM_DB, RING_DB = (0.05, 1.0), 2.0, 50.0
"""How much what rings on may fall from frame to frame, how far it may differ from that, and how far under the slice it does not count."""

ROUNDS = 14
FREEDOM_DB = 9.0
"""How far a drum in a slice may differ from its picture, band by band and moment by moment."""

PLAYED_AGAIN = (0.3, 0.6)
"""A drum of which a strike alone explains so much of its share comes again wave for wave: not at all, and wholly."""

LEFT = 0.03
"""What is left, at least, of a drum's share of what remains when such a strike is taken off."""

_TINY = 1e-10

Floats = NDArray[np.float32]
Picture = NDArray[np.float64]
"""Power of a strike by frame from its attack and by band, shape (`TEMPLATE_FRAMES`, bands)."""

RINGING = ""
"""The name of what rings on from before a slice."""

Stretches = Sequence[tuple[int, int]]
"""Parts of a clip, each from one sample up to another."""


@dataclass(frozen=True, eq=False)
class Strikes:
    """A drum by itself: the sound of its strikes at `RATE`, shape (frames, channels) each, and its picture."""

    sounds: Sequence[Channels]
    picture: Picture


Known = dict[tuple[str, tuple[tuple[int, int], ...]], Strikes]
"""What is known of drums of one clip, by the stretches in which they sound by themselves."""


@dataclass(frozen=True, eq=False)
class _Explained:
    """What a slice at `RATE` is made of: of each part by name what was taken off as it is, and the picture that explains the rest by.

    `again` has the shape of the slice, (frames, channels), as has `rest`; pictures have shape (frames of a spectrogram, bands).
    """

    names: tuple[str, ...]
    again: list[Channels]
    pictures: list[Picture]
    rest: Channels


def pull_apart(
    clip: Clip, start_sample: int, end_sample: int, drums: Sequence[str], *, attack_sample: int | None = None,
    alone: Mapping[str, Stretches] | None = None, most: Mapping[str, Sequence[float]] | None = None, known: Known | None = None,
) -> dict[str, Clip]:
    """Return the part of each drum in a slice, and of what rings on from before it as `RINGING`; together they are the slice again.

    `drums` are those that sound in it. `alone` may name, for a drum, stretches of the same clip in which it sounds by itself, from
    its attack up to what comes next. Where one of them comes again in the slice wave for wave it is taken off as it is
    (`template_match.py`). What remains is explained as the sum of the drums' pictures, those that ship and of their strikes alone, and of
    what rang before as it would go on, each bent by band and by moment to fit (multiplicative updates for the Kullback-Leibler
    divergence; Lee and Seung, "Algorithms for non-negative matrix factorization", 2001), and each drum gets its share of every
    bin (a Wiener mask), with the mixture's phase. `most` may name the largest share of power a drum can have, from 0 to 1, by
    `strike_levels`' stretches of time and bands, row after row. `known`, the same for all slices of a clip, keeps what is known of
    their drums from one call to the next. Raises AnalysisError for a drum that is unknown.
    """
    unknown = [drum for drum in drums if drum not in DRUMS]
    if unknown or not drums:
        raise AnalysisError(f"There is no drum called {unknown[0]}." if unknown else "Name at least one drum to pull apart.")
    part = clip.part(start_sample, end_sample)
    wanted = tuple(dict.fromkeys(drums))
    if len(wanted) == 1 or part.frames < 64:
        return {drum: part if index == 0 else Clip(np.zeros_like(part.samples), part.sample_rate) for index, drum in enumerate(wanted)}
    strikes = [_strikes(clip, drum, (alone or {}).get(drum, ()), {} if known is None else known) for drum in wanted]
    made_of = _explained(clip, start_sample, end_sample, wanted, strikes, attack_sample=attack_sample)
    made = {}
    lead = 0 if attack_sample is None else max(0, attack_sample - start_sample) / clip.sample_rate
    for drum, own, share in zip(made_of.names, made_of.again, _held(_shares(made_of), made_of.names, most or {}, lead), strict=True):
        sound = own + _masked(made_of.rest, share)
        back = resampled(Clip(sound.astype(np.float32), RATE), clip.sample_rate).samples
        fitted = np.zeros_like(part.samples)
        fitted[: min(len(back), len(fitted))] = back[: len(fitted)]
        made[drum] = fitted
    over = (part.samples - np.sum(list(made.values()), axis=0)) / len(made)
    return {drum: Clip(sound + over, clip.sample_rate) for drum, sound in made.items()}


def _explained(
    clip: Clip, start_sample: int, end_sample: int, drums: tuple[str, ...], strikes: Sequence[Strikes], *, attack_sample: int | None,
) -> _Explained:
    """Return what a slice is made of, as `pull_apart` says; drums are known, and more than one."""
    sound = resampled(clip.part(start_sample, end_sample), RATE).samples.astype(np.float64)
    lead = 0 if attack_sample is None else max(0, round((attack_sample - start_sample) * RATE / clip.sample_rate))
    power = _power(sound)
    pictures = [_aligned(own.picture, power.shape[0], lead // HOP) for own in strikes]
    ring = _ring(clip, start_sample if attack_sample is None else attack_sample, power, lead // HOP)
    bent = _bent(power, pictures, ring)
    led = [[np.pad(one, ((lead, 0), (0, 0))) for one in own.sounds] for own in strikes]
    again, left = _taken_off(sound, power, bent, led + [[]] * len(ring))
    names = (*drums, RINGING)[: len(bent)]
    return _Explained(names, again, [own * its for own, its in zip(bent, left, strict=True)], sound - np.sum(again, axis=0))


def _shares(known: _Explained) -> list[Picture]:
    """Return the share of each part of what is left by frame and band, adding to 1."""
    total = np.maximum(np.sum(known.pictures, axis=0), np.finfo(np.float64).tiny)
    return [own / total for own in known.pictures]


def _held(shares: list[Picture], names: Sequence[str], most: Mapping[str, Sequence[float]], lead_s: float) -> list[Picture]:
    """Return shares of which none is over the most that its drum can have; what is over goes to the others."""
    if not most:
        return shares
    frames, bands = shares[0].shape
    stretch = np.searchsorted([end for _, end in STRETCHES_MS[:-1]], 1000.0 * (np.arange(frames) * HOP / RATE - lead_s), side="right")
    band = np.searchsorted(EDGES_HZ[1:-1], _centres_hz(), side="right")
    limits = [np.asarray(most.get(name, (1.0,) * SIZE_OF_LEVELS)).reshape(len(STRETCHES_MS), -1)[stretch][:, band] for name in names]
    for _ in range(len(shares)):
        shares = [np.minimum(share, limit) for share, limit in zip(shares, limits, strict=True)]
        missing = 1.0 - np.sum(shares, axis=0)
        room = [(limit > share) * (share + _TINY) for share, limit in zip(shares, limits, strict=True)]
        total = np.sum(room, axis=0)
        given = np.divide(missing, total, out=np.zeros((frames, bands)), where=total > 0.0)
        shares = [share + given * own for share, own in zip(shares, room, strict=True)]
    whole = np.sum(shares, axis=0)
    even = np.full((frames, bands), 1.0 / len(shares))  # where none may have anything, all have as much
    return [np.divide(share, whole, out=even.copy(), where=whole > 0.0) for share in shares]


def picture_of(sound: Floats) -> Picture:
    """Return the picture of a mono strike at `RATE` that begins at its attack."""
    power = (np.abs(stft(sound, SIZE, HOP)) ** 2) @ _bands()
    picture = np.full((TEMPLATE_FRAMES, power.shape[1]), _TINY)
    count = min(TEMPLATE_FRAMES, power.shape[0])
    picture[:count] = np.maximum(power[:count], _TINY)
    return picture


@lru_cache(maxsize=1)
def _shipped() -> dict[str, Picture]:
    return shipped("separation", TEMPLATES_FILE, _read_templates)


def _read_templates(stream: IO[bytes]) -> dict[str, Picture]:
    with np.load(stream) as data:
        return {drum: 10.0 ** (data[drum].astype(np.float64) / 10.0) for drum in DRUMS}


def _strikes(clip: Clip, drum: str, stretches: Stretches, known: Known) -> Strikes:
    """Return the strikes of a drum alone in stretches of a clip; those too short to tell anything are left out."""
    place = (drum, tuple(stretches[:MOST_STRIKES]))
    if place not in known:
        longest = round(LONGEST_S * clip.sample_rate)
        parts = [clip.part(start, min(end, start + longest)) for start, end in place[1]]
        sounds = [resampled(part, RATE).samples.astype(np.float64) for part in parts if part.duration_s * RATE > SIZE]
        known[place] = Strikes(sounds, _picture(drum, sounds))
    return known[place]


def _picture(drum: str, strikes: list[Channels]) -> Picture:
    """Return a drum's picture: between the shipped one and the middle of its strikes alone, in dB, in which something else may ring on."""
    shipped = _shipped()[drum]
    if not strikes:
        return shipped
    known = np.full((len(strikes), *shipped.shape), np.nan)
    for row, strike in zip(known, strikes, strict=True):
        frames = min(TEMPLATE_FRAMES, max(1, (len(strike) - SIZE // 2) // HOP))
        picture = picture_of(strike.mean(axis=1).astype(np.float32))[:frames]
        row[:frames] = 10.0 * np.log10(picture / picture.max())
    longest = int((~np.isnan(known[:, :, 0])).any(axis=0).sum())
    usual = 10.0 * np.log10(shipped / shipped.max())
    levels = np.minimum(np.nanmedian(known[:, :longest], axis=0), usual[:longest] + UNUSUAL_DB)
    share = len(strikes) / (len(strikes) + USUAL_COUNTS)
    made = usual.copy()
    made[:longest] += share * (levels - usual[:longest])
    if longest < TEMPLATE_FRAMES:  # as the usual one falls, from where the strikes end
        made[longest:] += made[longest - 1] - usual[longest - 1]
    return np.asarray(10.0 ** (made / 10.0))


def _taken_off(sound: Channels, power: Picture, bent: list[Picture], strikes: list[list[Channels]]) -> tuple[list[Channels], list[float]]:
    """Return of each drum what comes again wave for wave, and how much of its picture is left to explain the rest by."""
    total = np.sum(bent, axis=0) + _TINY
    found, left = [], []
    for own, picture in zip(played_again(sound, strikes), bent, strict=True):
        share = picture / total
        explained = float((share * np.minimum(1.0, _power(own) / (power + _TINY))).sum() / ((share**2).sum() + _TINY))
        least, most = PLAYED_AGAIN
        sure = float(np.clip((explained - least) / (most - least), 0.0, 1.0))
        found.append(sure * own)
        left.append(max(LEFT, 1.0 - sure))
    return found, left


def _masked(sound: Channels, share: Picture) -> Channels:
    """Return a share by frame and band of a sound, with the phases that it has."""
    mask = (share @ _bands().T) / np.maximum(_bands().sum(axis=1), 1e-6)
    channels = [istft(stft(sound[:, n].astype(np.float32), SIZE, HOP) * mask, SIZE, HOP, len(sound)) for n in range(sound.shape[1])]
    return np.stack(channels, axis=1).astype(np.float64)


def _power(sound: Channels) -> Picture:
    """Return the power of all channels by frame and band."""
    spectra = [stft(sound[:, channel].astype(np.float32), SIZE, HOP) for channel in range(sound.shape[1])]
    return np.asarray(sum(np.abs(spectrum) ** 2 for spectrum in spectra) @ _bands(), np.float64)


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


def _ring(clip: Clip, attack_sample: int, power: Picture, lead: int) -> list[Picture]:
    """Return the picture of what rings on from before an attack, as it would go on, where anything does."""
    first, last = (attack_sample - ms_to_samples(ms, clip.sample_rate) for ms in (BEFORE_MS, CLEAR_MS))
    if last < (last - first) / 2:
        return []
    sound = resampled(clip.part(max(0, first), last), RATE).samples.astype(np.float64)
    before = _power(sound)[: len(sound) // HOP]
    half = len(before) // 2
    earlier, later = before[:half].mean(axis=0), before[half:].mean(axis=0)
    if later.sum() < power.max(axis=0).sum() * 10.0 ** (-RING_DB / 10.0):
        return []
    falls_db = np.clip(10.0 * np.log10((earlier + _TINY) / (later + _TINY)) / half, *RING_FALLS_DB)
    since = np.arange(len(power))[:, None] - lead + half / 2.0 + ms_to_samples(CLEAR_MS, RATE) / HOP
    return [later * 10.0 ** (-0.1 * falls_db * np.maximum(since, 0.0)) + _TINY]


def _bent(power: Picture, pictures: list[Picture], ring: list[Picture]) -> list[Picture]:
    """Return the drums' pictures bent so that together, and with what rings on, they explain the power by frame and band."""
    peak = max(float(power.max()), _TINY)
    power = power / peak + _TINY
    parts = [picture / picture.max() * _first_gain(power, picture / picture.max()) + _TINY for picture in pictures]
    parts += [own / peak + _TINY for own in ring]
    limits = [10.0 ** (FREEDOM_DB / 10.0)] * len(pictures) + [10.0 ** (RING_FREEDOM_DB / 10.0)] * len(ring)
    by_band = [np.ones((1, power.shape[1])) for _ in parts]
    by_time = [np.ones((power.shape[0], 1)) for _ in parts]
    for _ in range(ROUNDS):
        for index, limit in enumerate(limits):
            bent = [p * b * t for p, b, t in zip(parts, by_band, by_time, strict=True)]
            ratio = power / np.sum(bent, axis=0)
            own = bent[index]
            by_band[index] = np.clip(by_band[index] * (own * ratio).sum(axis=0) / own.sum(axis=0), 1.0 / limit, limit)
            own = parts[index] * by_band[index] * by_time[index]
            gain = (own * ratio).sum(axis=1, keepdims=True) / own.sum(axis=1, keepdims=True)
            by_time[index] = np.clip(by_time[index] * gain, 1.0 / limit, limit)
    return [peak * p * b * t for p, b, t in zip(parts, by_band, by_time, strict=True)]


def _first_gain(power: Picture, picture: Picture) -> float:
    """Return the gain at which a picture explains the power where it is strongest."""
    strong = picture >= np.percentile(picture, 90)
    return float(np.median(power[strong] / picture[strong])) + _TINY


@lru_cache(maxsize=1)
def _centres_hz() -> NDArray[np.float64]:
    """Return the middle frequency of each band."""
    return np.asarray(np.arange(SIZE // 2 + 1) * (RATE / SIZE) @ _bands() / np.maximum(_bands().sum(axis=0), 1e-6))


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
