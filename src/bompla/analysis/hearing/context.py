"""Hearing each attack against all the others of its sound: a hat with a ghost under it is not like the hats without.

What the network of `network.py` made of each attack, and what the spectrum shows around it, is looked
at once more together with every other attack, by self-attention (Vaswani et al., "Attention is all you
need", 2017). It is blind to when attacks are, on purpose: it compares sounds, and cannot learn by heart
which grooves are usual. `training/train_context.py` makes the weights.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import IO

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.hearing.network import scaled
from bompla.analysis.hearing.spectrum import HOP, LOW_HOP, Floats, Spectrum
from bompla.analysis.shipped import damaged, shipped

CONTEXT_FILE = "context.npz"
POWER_FRAMES = (-10, -5, -2, 1, 3, 5, 8, 12, 18, 27, 40)
LOW_FRAMES = (-5, -2, 1, 3, 6, 12, 20)
INNER_FRAMES = (0, 3)
"""Frames around an attack that are looked at: of the bands, of the low bins, and of the network's last layer."""

LIKELIEST = 8.0
ODDS_SPAN, ODDS_CHANGE, FORCE_CHANGE = 3.0, 3.0, 0.3
HEADS = 4
AMONG = 256
"""Attacks are looked at among so many: more are taken in overlapping parts, so that time stays linear in length."""

AT_ENDS = 32
"""So many at the ends of a part are heard in the part before and after it, if there is one."""


@dataclass(frozen=True, eq=False)
class ContextNet:
    """One network's weights by name, of shapes (inputs, outputs): at both ends and of each round; how much odds of before count."""

    ends: dict[str, Floats]
    turns: tuple[dict[str, Floats], ...]
    scale: Floats


ContextModel = tuple[ContextNet, ...]
"""Networks that were taught apart: what they hear is averaged."""


@dataclass(frozen=True, eq=False)
class DrumOdds:
    """For each attack the log odds that a drum is there, and how hard, shapes (attacks, drums), and that it is an attack at all."""

    odds: Floats
    force: Floats
    attack: Floats

    def between(self, first: int, last: int) -> DrumOdds:
        """Return those of the attacks from `first` up to `last`."""
        return DrumOdds(self.odds[first:last], self.force[first:last], self.attack[first:last])


def reheard(context: ContextModel, seen: Floats, before: DrumOdds) -> DrumOdds:
    """Return what is heard at attacks once all of them are known; `seen` is of `seen_at`, `before` what was heard of each by itself."""
    told = [_told(net, seen, before) for net in context]
    parts = zip(*((one.odds, one.force, one.attack) for one in told), strict=True)
    return DrumOdds(*(np.asarray(np.mean(part, axis=0), np.float32) for part in parts))


def _told(net: ContextNet, seen: Floats, before: DrumOdds) -> DrumOdds:
    count = len(seen)
    starts = range(0, count - 2 * AT_ENDS, AMONG - 2 * AT_ENDS) if count > AMONG else range(1)
    out = np.zeros((count, net.ends["out"].shape[1]), np.float32)
    for start in starts:
        first = max(0, min(start, count - AMONG))  # the last part is as long as any
        begin = start + AT_ENDS if start else 0
        out[begin : first + AMONG] = _outputs(net, seen[first : first + AMONG])[begin - first :]
    drums = before.odds.shape[1]
    return DrumOdds(
        np.clip(before.odds, -LIKELIEST, LIKELIEST) * net.scale + ODDS_CHANGE * out[:, :drums],
        before.force + FORCE_CHANGE * out[:, drums : 2 * drums],
        before.attack + ODDS_CHANGE * out[:, 2 * drums],
    )


def seen_at(spectrum: Spectrum, inner: Floats, samples: NDArray[np.int64], before: DrumOdds) -> Floats:
    """Return what is looked at of each attack, shape (attacks, features); `samples` are at the analysis rate, in order.

    `inner` is the network's last layer, and `before` what it heard.
    """
    frame, low_frame = np.round(samples / HOP).astype(np.int64), np.round(samples / LOW_HOP).astype(np.int64)
    loud_db = spectrum.loud_db_at(np.minimum(frame, spectrum.frames - 1))[:, None, None]
    power = spectrum.power[(frame[:, None] + np.array(POWER_FRAMES)) % len(spectrum.power)]
    low = spectrum.low[(low_frame[:, None] + np.array(LOW_FRAMES)) % len(spectrum.low)]
    told = inner[np.clip(low_frame[:, None] + np.array(INNER_FRAMES), 0, len(inner) - 1)]
    count = len(samples)
    return np.concatenate(
        [
            scaled(power, loud_db).reshape(count, -1), scaled(low, loud_db).reshape(count, -1), told.reshape(count, -1),
            np.clip(before.odds, -LIKELIEST, LIKELIEST) / ODDS_SPAN, before.force, before.attack[:, None] / ODDS_SPAN,
        ],
        axis=1, dtype=np.float32,
    )


def _outputs(net: ContextNet, seen: Floats) -> Floats:
    ends = net.ends
    values = np.maximum(seen @ ends["first"] + ends["first_bias"], 0.0) @ ends["second"] + ends["second_bias"]
    for turn in net.turns:
        values = values + _attended(turn, values)
        inside = np.maximum(_normal(values, turn, "norm2") @ turn["wide"] + turn["wide_bias"], 0.0)
        values = values + inside @ turn["narrow"] + turn["narrow_bias"]
    return np.asarray(_normal(values, ends, "norm") @ ends["out"] + ends["out_bias"])


def _attended(turn: dict[str, Floats], values: Floats) -> Floats:
    count, width = values.shape
    three = _normal(values, turn, "norm1") @ turn["asked"] + turn["asked_bias"]
    query, key, value = three.reshape(count, 3, HEADS, width // HEADS).transpose(1, 2, 0, 3)
    fit = query @ key.transpose(0, 2, 1) / np.float32((width // HEADS) ** 0.5)
    fit = np.exp(fit - fit.max(axis=2, keepdims=True))
    mixed = (fit / fit.sum(axis=2, keepdims=True)) @ value
    return np.asarray(mixed.transpose(1, 0, 2).reshape(count, width) @ turn["told"] + turn["told_bias"])


def _normal(values: Floats, weights: dict[str, Floats], name: str) -> Floats:
    """Normalise each row (Ba, Kiros and Hinton, "Layer normalization", 2016)."""
    centred = values - values.mean(axis=1, keepdims=True)
    spread = np.sqrt((centred**2).mean(axis=1, keepdims=True) + np.float32(1e-5))
    return np.asarray(centred / spread * weights[name] + weights[f"{name}_bias"])


@lru_cache(maxsize=1)
def load_context() -> ContextModel:
    """Return the shipped weights; raises AnalysisError where they are missing or damaged."""
    return shipped("hearing", CONTEXT_FILE, read_context)


def read_context(stream: IO[bytes]) -> ContextModel:
    """Read weights from a file of them, named by network, part and what they are; raises AnalysisError where it is damaged."""
    try:
        with np.load(stream) as data:
            known = {name: np.ascontiguousarray(data[name], dtype=np.float32) for name in data.files}
        nets: dict[str, dict[str, dict[str, Floats]]] = {}
        for name, value in known.items():
            number, part, own = name.split("/")
            nets.setdefault(number, {}).setdefault(part, {})[own] = value
        if not nets:
            raise KeyError
        return tuple(
            ContextNet(parts["ends"], tuple(parts[name] for name in sorted(parts) if name.startswith("turn")), parts["whole"]["scale"])
            for _, parts in sorted(nets.items())
        )
    except (OSError, KeyError, ValueError, EOFError) as error:
        raise damaged(CONTEXT_FILE) from error
