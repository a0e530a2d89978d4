"""What goes through the pipe between the window and the analysis process."""

from __future__ import annotations

import pickle
import struct
from dataclasses import dataclass
from typing import Any

from bompla.analysis.params import AnalysisParams
from bompla.audio.clip import Samples

LENGTH = struct.Struct("<Q")


@dataclass(frozen=True)
class Request:
    """What is to be done: `analyse`, `pictures`, `hear_at`, `drums_only`, `spectrogram` or `scan`; all inputs go with it as one value."""

    number: int
    kind: str
    samples: Samples
    sample_rate: int
    name: str = ""
    path: str = ""
    params: AnalysisParams | None = None
    places: tuple[int, ...] = ()


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
