"""Sounds that nobody plays, fifty of those that `benchmarks/odd_sounds.py` looks at: each is heard, or refused in words."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parents[1] / "benchmarks"))

from odd_sounds import KINDS, troubles


@pytest.mark.parametrize("kind", range(len(KINDS)), ids=KINDS)
def test_an_odd_sound_is_heard_within_itself_or_refused_in_words(kind: int) -> None:
    for turn in range(4):
        assert troubles(kind + turn * len(KINDS), longest_s=6.0) == []
