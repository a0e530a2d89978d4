"""Make the demo project: `python -m bompla.demo.project` analyses the first demo loop and saves it."""

from __future__ import annotations

from bompla.analysis.analyse import analyse
from bompla.audio.files import read_clip
from bompla.demo import DEMO_PROJECT, loop_paths
from bompla.formats.project import Project, save_project
from bompla.groove.rebuild import document_from
from bompla.model.document import Document

BAND = "Night Ferry"


def demo_document() -> Document:
    """Return the demo project as the analysis makes it today."""
    path = loop_paths()[0]
    return document_from(analyse(read_clip(path), name=path.name), BAND)


if __name__ == "__main__":
    save_project(Project(((demo_document(), read_clip(loop_paths()[0])),)), DEMO_PROJECT)
