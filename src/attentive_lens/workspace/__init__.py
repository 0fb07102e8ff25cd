"""The folder on disk that holds one piece of work: catalogue, runs, models. Alone knows SQLite."""

from attentive_lens.workspace.catalogue import Catalogue
from attentive_lens.workspace.corrections import Correction, Corrections
from attentive_lens.workspace.rows import ImageRow, Origin
from attentive_lens.workspace.runs import Run
from attentive_lens.workspace.shelf import Figures, OnShelf, Said, Shelf
from attentive_lens.workspace.workspace import Workspace, is_workspace

__all__ = [
    "Catalogue",
    "Correction",
    "Corrections",
    "Figures",
    "ImageRow",
    "OnShelf",
    "Origin",
    "Run",
    "Said",
    "Shelf",
    "Workspace",
    "is_workspace",
]
