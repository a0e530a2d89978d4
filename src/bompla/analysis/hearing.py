"""Hearing which drums sound at an attack, several at once, and how hard."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

from bompla.analysis.spectrum import ANALYSIS_RATE, HOP, Floats, Spectrum
from bompla.errors import AnalysisError
from bompla.model.document import Heard
from bompla.model.drums import DRUMS

WINDOWS = ((-6, -4), (0, 2), (3, 5), (6, 9), (12, 20), (28, 40), (55, 75))
"""Frames before and after an attack over which bands are averaged, first and last, ends included."""

REPORTED_CONFIDENCE = 0.15
_FLOOR_DB = -72.0
MODEL_FILE = "hearing.npz"


@dataclass(frozen=True, eq=False)
class HearingModel:
    """Weights of the network that hears drums; `drums` names its outputs in order."""

    drums: tuple[str, ...]
    layers: tuple[tuple[Floats, Floats], ...]
    mean: Floats
    scale: Floats


@lru_cache(maxsize=1)
def load_model() -> HearingModel:
    """Return the shipped model; raises AnalysisError where it is missing or damaged."""
    try:
        with files("bompla.analysis").joinpath(MODEL_FILE).open("rb") as stream, np.load(stream) as data:
            count = sum(name.startswith("weight") for name in data.files)
            layers = tuple((data[f"weight{i}"], data[f"bias{i}"]) for i in range(count))
            drums = tuple(str(name) for name in data["drums"])
            model = HearingModel(drums, layers, data["mean"], data["scale"])
    except (OSError, KeyError, ValueError) as error:
        raise AnalysisError("The hearing model is missing or damaged; install Bompla again.") from error
    if any(drum not in DRUMS for drum in model.drums):
        raise AnalysisError("The hearing model does not fit this version; install Bompla again.")
    return model


def features_at(spectrum: Spectrum, samples: NDArray[np.int64]) -> Floats:
    """Return what the model sees of each attack, shape (attacks, features), float32.

    The bands' levels in dB in windows around and after the attack, relative to the loud parts
    of the whole sound, and the time to the attacks on both sides.
    """
    level = 10.0 * np.log10(spectrum.power + 1e-12)
    reference = float(np.percentile(10.0 * np.log10(spectrum.power.sum(axis=1) + 1e-12), 98.0))
    running = np.concatenate([np.zeros((1, level.shape[1])), np.cumsum(spectrum.power, axis=0, dtype=np.float64)])
    frame = np.round(samples / HOP).astype(np.int64)
    columns = []
    for first, last in WINDOWS:
        start = np.clip(frame + first, 0, spectrum.frames - 1)
        stop = np.clip(frame + last + 1, start + 1, spectrum.frames)
        mean = (running[stop] - running[start]) / (stop - start)[:, None]
        columns.append(np.maximum(10.0 * np.log10(np.maximum(mean, 1e-12)) - reference, _FLOOR_DB))
    gaps = np.diff(samples, prepend=samples[:1] - ANALYSIS_RATE, append=samples[-1:] + ANALYSIS_RATE)
    gaps_db = 20.0 * np.log10(np.clip(gaps / ANALYSIS_RATE, 0.005, 1.0))
    columns += [gaps_db[:-1, None], gaps_db[1:, None]]
    return np.concatenate(columns, axis=1).astype(np.float32)


def hear(spectrum: Spectrum, samples: NDArray[np.int64], model: HearingModel) -> list[tuple[Heard, ...]]:
    """Return the drums heard at each attack, surest first, with confidence and velocity.

    A small feed-forward network with one activation and one strength for each drum. Where no
    drum is likelier than not, the likeliest is still named, so that a slice is never nameless.
    """
    if samples.size == 0:
        return []
    outputs = run_model(model, features_at(spectrum, samples))
    count = len(model.drums)
    confidence = 1.0 / (1.0 + np.exp(-outputs[:, :count]))
    velocity = np.clip(np.round(127.0 * outputs[:, count:]), 1, 127).astype(int)
    heard = []
    for row, strengths in zip(confidence, velocity, strict=True):
        order = np.argsort(-row, kind="stable")
        chosen = [i for i in order if row[i] >= REPORTED_CONFIDENCE] or [order[0]]
        heard.append(tuple(Heard(model.drums[i], round(float(row[i]), 3), int(strengths[i])) for i in chosen))
    return heard


def run_model(model: HearingModel, features: Floats) -> Floats:
    """Return the network's outputs, shape (attacks, 2 x drums): logits, then strengths from 0 to 1."""
    values = (features - model.mean) / model.scale
    for index, (weight, bias) in enumerate(model.layers):
        values = values @ weight + bias
        if index < len(model.layers) - 1:
            values = np.maximum(values, 0.0)
    return np.asarray(values, dtype=np.float32)
