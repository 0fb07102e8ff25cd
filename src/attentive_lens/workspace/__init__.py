"""The folder on disk that holds one piece of work: catalogue, runs, models. Alone knows SQLite."""

from attentive_lens.workspace.catalogue import Catalogue, ImageRow
from attentive_lens.workspace.runs import Run
from attentive_lens.workspace.workspace import Workspace

__all__ = ["Catalogue", "ImageRow", "Run", "Workspace"]
