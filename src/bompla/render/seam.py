"""The seam: how well a loop's end meets its start."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from bompla.audio.clip import Clip
from bompla.model.cut_edits import attack_near
from bompla.model.document import Document
from bompla.model.loop import Loop
from bompla.units import gain_to_db, ms_to_samples, samples_to_ms

NEAR_MS = 60.0
EARLY_LIMIT_MS, TOLD_MS = 2.0, 0.5
"""How far from its attack a loop still starts on it, and what is too little to be told."""

STEP_DB, OVER_OWN_DB, FADES_MS = -30.0, 3.0, (2.0, 5.0, 10.0, 20.0)
"""A step below this, or hardly over that of the attack itself, is not heard; the crossfades that are tried against one."""



@dataclass(frozen=True)
class Seam:
    """What happens where a loop goes round.

    `error_ms` is how much too late (positive) or early the first hit comes round again, None where
    no hit follows the end in the file to tell. `early_ms` is how long the loop waits for its first
    attack, None where no attack is near. `jump_db` is the level of the step from the last sample to
    the first, against the loudest sample of the loop, `own_db` that of the step which the sound itself has there;
    `peak` is that loudest sample.
    """

    error_ms: float | None
    early_ms: float | None
    jump_db: float
    own_db: float = -120.0
    peak: float = 1.0

    @property
    def steps(self) -> bool:
        """Whether there is a step that may be heard: no attack begins as abruptly by itself."""
        return self.jump_db > STEP_DB and self.jump_db > self.own_db + OVER_OWN_DB

    @property
    def well(self) -> bool:
        """Whether it starts on its attack, comes round in time, and does so without a click: whether there is nothing to mend."""
        on_attack = self.early_ms is not None and abs(self.early_ms) <= EARLY_LIMIT_MS
        return on_attack and (self.error_ms is None or abs(self.error_ms) < TOLD_MS) and not self.steps

    @property
    def words(self) -> str:
        """The seam in a sentence."""
        if self.early_ms is None:
            start = "starts without an attack"
        elif abs(self.early_ms) <= EARLY_LIMIT_MS:
            start = "starts on its attack" + (f" ({self.early_ms:+.1f} ms)" if abs(self.early_ms) >= TOLD_MS else "")
        else:
            start = f"starts {abs(self.early_ms):.0f} ms {'before' if self.early_ms > 0 else 'after'} its attack"
        if self.error_ms is None:
            return start
        if abs(self.error_ms) < TOLD_MS:
            return f"{start}, ends in time"
        return f"{start}, ends {abs(self.error_ms):.1f} ms {'late' if self.error_ms > 0 else 'early'}"


@dataclass(frozen=True)
class SeamMend:
    """What would make a seam better: its words, and the loop that it leads to."""

    words: str
    loop: Loop


def seam_mend(document: Document, clip: Clip, seam: Seam) -> SeamMend | None:
    """Return what mends the first of what a seam is told for: where the loop starts, when it comes round, its step; None for nothing."""
    loop, rate = document.loop, document.source.sample_rate
    if seam.early_ms is not None and abs(seam.early_ms) > EARLY_LIMIT_MS:
        by = ms_to_samples(abs(seam.early_ms), rate) * (1 if seam.early_ms > 0.0 else -1)
        end = loop.end_sample + by
        return SeamMend("start on the attack", replace(loop, start_sample=max(0, loop.start_sample + by),
                                                       end_sample=end if end <= document.source.frames else loop.end_sample))
    if seam.error_ms is not None and abs(seam.error_ms) >= TOLD_MS:
        by = ms_to_samples(abs(seam.error_ms), rate) * (-1 if seam.error_ms > 0.0 else 1)
        if loop.end_sample + by <= document.source.frames:
            words = f"end {abs(seam.error_ms):.1f} ms {'earlier' if seam.error_ms > 0.0 else 'later'}"
            return SeamMend(words, replace(loop, end_sample=loop.end_sample + by))
    if seam.steps:
        for fade_ms in FADES_MS:
            faded = replace(loop, fade_ms=fade_ms)
            if fade_ms > loop.fade_ms and not Seam(None, None, *_steps_db(clip, faded, seam.peak)).steps:
                return SeamMend(f"crossfade {fade_ms:.0f} ms", faded)
    return None


def seam_of(document: Document, clip: Clip) -> Seam:
    """Return how the loop's end meets its start, from its attacks and its samples."""
    loop, rate = document.loop, document.source.sample_rate
    near = ms_to_samples(NEAR_MS, rate)
    strong = [a for a in document.attacks if a.strength >= document.threshold]
    first = attack_near(strong, loop.start_sample, near)
    again = attack_near(strong, loop.end_sample, near)
    early_ms = samples_to_ms(first.at_sample - loop.start_sample, rate) if first else None
    error_ms = None
    if first is not None and again is not None:
        error_ms = samples_to_ms((loop.end_sample - again.at_sample) - (loop.start_sample - first.at_sample), rate)
    peak = max(float(np.abs(clip.samples[loop.start_sample : loop.end_sample]).max(initial=0.0)), 1e-9)
    return Seam(error_ms, early_ms, *_steps_db(clip, loop, peak), peak)


def _steps_db(clip: Clip, loop: Loop, peak: float) -> tuple[float, float]:
    """Return the step from a loop's last sample to its first, and the one that the sound has there, against its peak."""
    first, last = clip.samples[loop.start_sample], clip.samples[loop.end_sample - 1]
    ahead = clip.samples[max(0, loop.start_sample - 1)]
    fade = _fade_frames(clip, loop)
    if fade > 0:
        turn = 0.5 * np.pi * (fade - 1) / fade
        last = last * np.cos(turn) + ahead * np.sin(turn)
    return gain_to_db(float(np.abs(first - last).max()) / peak), gain_to_db(float(np.abs(first - ahead).max()) / peak)


def _fade_frames(clip: Clip, loop: Loop) -> int:
    """Return how much of a loop's end is blended: what it asks for, where there is as much before it."""
    return min(ms_to_samples(loop.fade_ms, clip.sample_rate), loop.start_sample, loop.frames // 2)


def seamless(clip: Clip, loop: Loop) -> NDArray[np.float32]:
    """Return the loop's samples, shape (frames, channels), its end blended with what lies before its start.

    The blend is of equal power over `fade_ms` of the loop, or over as much as there is before it.
    """
    part = clip.samples[loop.start_sample : loop.end_sample]
    fade = _fade_frames(clip, loop)
    if fade <= 0:
        return part
    part = part.copy()
    turn = np.linspace(0.0, np.pi / 2.0, fade, endpoint=False, dtype=np.float32)[:, np.newaxis]
    before = clip.samples[loop.start_sample - fade : loop.start_sample]
    part[-fade:] = part[-fade:] * np.cos(turn) + before * np.sin(turn)
    return part


def zero_crossing(clip: Clip, at_sample: int, within_samples: int) -> int:
    """Return the rising zero crossing of the mono sum nearest to a sample, or the sample where there is none."""
    first = max(1, at_sample - within_samples)
    sound = clip.mono[first - 1 : at_sample + within_samples + 1]
    places = np.flatnonzero((sound[:-1] < 0.0) & (sound[1:] >= 0.0)) + first
    return int(places[np.abs(places - at_sample).argmin()]) if places.size else at_sample
