"""Making what is drawn beside a waveform."""

from __future__ import annotations

import numpy as np

from bompla.analysis.analyse import Listening
from bompla.analysis.hearing.attacks import CANDIDATE_FLOOR, PEAK_FRAMES
from bompla.analysis.hearing.drums import strengths_of
from bompla.analysis.hearing.network import load_model
from bompla.analysis.hearing.spectrum import ANALYSIS_RATE, HOP, LOW_HOP, Floats, Spectrum
from bompla.analysis.pictures import Pictures
from bompla.audio.clip import Clip
from bompla.model.drums import BANDS_HZ


def drawn_from(clip: Clip, heard: Listening | None) -> Pictures:
    """Return what is drawn of a clip in which this was heard; flat where that is nothing."""
    points = round(clip.duration_s * ANALYSIS_RATE)
    if heard is None:
        curve, bands = np.zeros(1 + points // LOW_HOP, np.float32), np.zeros((3, 1 + points // HOP), np.float32)
    else:
        curve, bands = _curve(heard), _bands(heard.spectrum)
    return Pictures(curve, LOW_HOP / ANALYSIS_RATE, bands, HOP / ANALYSIS_RATE)


def _curve(heard: Listening) -> Floats:
    """Return the curve, around each attack as high as the attack is strong, all attacks and bars known; its shape stays."""
    curve, found = strengths_of(heard.activations, load_model()), heard.attacks
    if found.samples.size == 0:
        return curve
    centre = np.round(found.samples / LOW_HOP).astype(np.int64)
    before = curve[np.clip(centre[:, None] + np.arange(-PEAK_FRAMES, PEAK_FRAMES + 1), 0, curve.size - 1)].max(axis=1)
    nearest = np.searchsorted((centre[1:] + centre[:-1]) / 2.0, np.arange(curve.size))
    gain = (found.strengths / np.maximum(before, CANDIDATE_FLOOR))[nearest]
    return np.asarray(np.clip(curve * gain, 0.0, 1.0), np.float32)


def _bands(spectrum: Spectrum) -> Floats:
    rows = []
    for low, high in BANDS_HZ.values():
        level = np.sqrt(spectrum.between(low, high))
        rows.append(level / max(float(level.max()), 1e-6))
    return np.stack(rows).astype(np.float32)
