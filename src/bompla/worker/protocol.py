"""What goes through the pipe between the window and the analysis process."""

from __future__ import annotations

import pickle
import struct
from dataclasses import dataclass
from typing import Any, Literal

from bompla.analysis.params import AnalysisParams
from bompla.audio.clip import Clip, Samples
from bompla.audio.memory import Elsewhere, taken

LENGTH = struct.Struct("<Q")

Kind = Literal["analyse", "pictures", "hear_at", "drums_only", "spectrogram", "scan"]


@dataclass(frozen=True)
class Request:
    """What is to be done, one of `Kind`; all inputs go with it as one value.

    `places` are samples to listen at, `scale` is that of a spectrogram.
    """

    number: int
    kind: Kind
    samples: Samples | Elsewhere
    sample_rate: int
    name: str = ""
    path: str = ""
    params: AnalysisParams | None = None
    places: tuple[int, ...] = ()
    scale: str = "mel"

    @property
    def clip(self) -> Clip:
        """The sound that it is about; raises OSError where it is not there any more."""
        return Clip(taken(self.samples), self.sample_rate)


@dataclass(frozen=True)
class Answer:
    """What came of a request: `progress` (share and words), `done` (a value) or `failed` (a sentence)."""

    number: int
    kind: str
    value: Any
    share: float = 0.0


def packed(record: Request | Answer) -> bytes:
    """Return a record as it goes through the pipe."""
    content = pickle.dumps(record, protocol=5)
    return LENGTH.pack(len(content)) + content
