"""The JSON that leaves the command line, as JSON Schemas that ship: what other programs may rely on."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

SCHEMA = 1
"""The number in every JSON object; another one where a field changes its meaning or goes."""

FOLDER = Path(__file__).parent / "schema"
NAMES = ("analysis", "study", "check", "manifest")


def schema_of(name: str) -> dict[str, Any]:
    """Return the JSON Schema of one of `NAMES`."""
    found: dict[str, Any] = json.loads((FOLDER / f"{name}.json").read_text(encoding="utf-8"))
    return found
