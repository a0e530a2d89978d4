"""The network that hears attacks and drums, run with NumPy alone.

A stack of one-dimensional convolutions over time, after Schlueter and Boeck ("Improved musical
onset detection with convolutional neural networks", 2014) and, for drums, Vogl et al. ("Drum
transcription via joint beat and drum modeling using convolutional recurrent neural networks",
2017), with dilated convolutions in place of recurrence. `training/train_hearing.py` makes the weights.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from typing import IO

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.hearing.spectrum import Floats, Spectrum, level_db
from bompla.analysis.shipped import damaged, shipped
from bompla.errors import AnalysisError
from bompla.model.drums import DRUMS

MODEL_FILE = "hearing.npz"
FLOOR_DB, SPAN_DB = -80.0, 40.0


@dataclass(frozen=True, eq=False)
class Convolution:
    """A convolution over time: weights of shape (taps, inputs, outputs), and the frames from tap to tap."""

    weight: Floats
    bias: Floats
    dilation: int


@dataclass(frozen=True, eq=False)
class HearingModel:
    """The trained network: `drums` names its outputs; `slope` and `shift` calibrate each confidence.

    `wholes` holds, for each block, weights of shape (2 x width, width) and a bias: what the mean and
    spread of its inputs over the whole sound add, so that a hit is heard against its own kit.
    """

    drums: tuple[str, ...]
    first: Convolution
    blocks: tuple[Convolution, ...]
    wholes: tuple[tuple[Floats, Floats], ...]
    head: Convolution
    slope: Floats
    shift: Floats
    threshold: float


@dataclass(frozen=True, eq=False)
class Activations:
    """What the network says, a row each `LOW_HOP` samples of the analysis rate.

    `attack` has shape (frames,) and is a probability; `offset` the time to the attack in frames;
    `drums` (log odds) and `velocity` (0 to 1) have shape (frames, drums); `inner` is the last layer
    they were read from, shape (frames, width).
    """

    attack: Floats
    offset: Floats
    drums: Floats
    velocity: Floats
    inner: Floats


def features_of(spectrum: Spectrum, rows: NDArray[np.intp], loud_db: Floats | np.float32) -> Floats:
    """Return what the network sees of frames at `LOW_HOP`, shape (rows, features): levels against how loud the loud parts are."""
    last = spectrum.frames - 1
    power = [spectrum.power[np.minimum(2 * rows + late, last)] for late in (0, 1)]
    return scaled(np.concatenate([*power, spectrum.low[rows]], axis=1), loud_db)


def scaled(power: Floats, loud_db: Floats | np.float32) -> Floats:
    """Return levels against a loud one as networks see them, -1 where there is next to nothing."""
    return np.asarray((np.clip(level_db(power) - loud_db, FLOOR_DB, 6.0) - FLOOR_DB) / SPAN_DB - 1.0, dtype=np.float32)


def run(model: HearingModel, spectrum: Spectrum) -> Activations:
    """Return what the network makes of a spectrum, a stretch at a time, in bounded memory.

    The sound is taken to go round, as a loop does and as the network learned it; what a stretch is like as a whole is that of what sounds.
    """
    reach = 1 + sum(layer.weight.shape[0] // 2 * layer.dilation for layer in model.blocks)
    frames = spectrum.low.shape[0]
    edges = [*(stretch.first // 2 for stretch in spectrum.stretches), frames]
    inner = np.empty((frames, model.head.weight.shape[1]), np.float32)
    for stretch, (first, last) in zip(spectrum.stretches, pairwise(edges), strict=True):
        rows = np.arange(first - reach, last + reach) % frames
        sounding = np.flatnonzero(spectrum.sounding[np.minimum(2 * rows, spectrum.frames - 1)])
        inner[first:last] = _inner(model, features_of(spectrum, rows, stretch.loud_db), sounding)[reach:-reach]
    return _activations(model, inner)


def _activations(model: HearingModel, inner: Floats) -> Activations:
    out = _convolved(inner, model.head)
    count = len(model.drums)
    attack = 1.0 / (1.0 + np.exp(-np.clip(out[:, 0], -30.0, 30.0)))
    return Activations(attack.astype(np.float32), out[:, 1], out[:, 2 : 2 + count], out[:, 2 + count : 2 + 2 * count], inner)


def _inner(model: HearingModel, features: Floats, sounding: NDArray[np.intp]) -> Floats:
    values = np.maximum(_convolved(features, model.first), 0.0)
    chosen = sounding if sounding.size else slice(None)
    for layer, (weight, bias) in zip(model.blocks, model.wholes, strict=True):
        whole = values[chosen]
        like = np.concatenate([whole.mean(axis=0), np.sqrt(whole.var(axis=0) + np.float32(1e-5))])
        values += np.maximum(_convolved(values, layer) + (like @ weight + bias), 0.0)
    return values


@lru_cache(maxsize=1)
def load_model() -> HearingModel:
    """Return the shipped model; raises AnalysisError where it is missing or damaged."""
    return shipped("hearing", MODEL_FILE, read_model)


def read_model(stream: IO[bytes]) -> HearingModel:
    """Read a model from a file of its weights; raises AnalysisError where it is damaged."""
    try:
        with np.load(stream) as data:
            count = sum(name.startswith("block_weight") for name in data.files)
            model = HearingModel(
                drums=tuple(str(name) for name in data["drums"]),
                first=Convolution(_f32(data["first_weight"]), _f32(data["first_bias"]), 1),
                blocks=tuple(
                    Convolution(_f32(data[f"block_weight{i}"]), _f32(data[f"block_bias{i}"]), int(data["dilations"][i]))
                    for i in range(count)
                ),
                wholes=tuple(
                    (_f32(data[f"whole_weight{i}"]), _f32(data[f"whole_bias{i}"])) for i in range(count)
                ),
                head=Convolution(_f32(data["head_weight"]), _f32(data["head_bias"]), 1),
                slope=_f32(data["slope"]),
                shift=_f32(data["shift"]),
                threshold=float(data["threshold"]),
            )
    except (OSError, KeyError, ValueError, EOFError) as error:
        raise damaged(MODEL_FILE) from error
    if any(drum not in DRUMS for drum in model.drums):
        raise AnalysisError("The hearing model does not fit this version; install Bompla again.")
    return model


def _convolved(values: Floats, layer: Convolution) -> Floats:
    taps = layer.weight.shape[0]
    reach = (taps // 2) * layer.dilation
    frames = values.shape[0]
    padded = np.pad(values, ((reach, reach), (0, 0))) if reach else values
    out = np.tile(layer.bias, (frames, 1))
    for tap in range(taps):
        out += padded[tap * layer.dilation : tap * layer.dilation + frames] @ layer.weight[tap]
    return out


def _f32(array: Floats) -> Floats:
    return np.ascontiguousarray(array, dtype=np.float32)
