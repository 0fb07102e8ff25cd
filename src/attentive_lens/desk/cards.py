"""What a workspace's card on the first page tells, read without opening it in a window."""

from __future__ import annotations

import hashlib
import os
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.keeping import keep, stored
from attentive_lens.desk.images.data import several_labels
from attentive_lens.desk.remembering import state_folder
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import LensError
from attentive_lens.images.rows import Pixels
from attentive_lens.plan.labels import labels_of
from attentive_lens.workspace import Workspace

PICTURES = 5


@dataclass(frozen=True)
class Card:
    """A workspace in short.

    Attributes
    ----------
    folder : Path
        Where it is.
    name : str
        Its name.
    images, classes, runs : int
        How many.
    labels : int
        How many there are where an image may have several; 0 elsewhere.
    best : float or None
        Highest validation accuracy of all runs, 0 to 1.
    training : bool
        Whether a run is being trained.
    open : bool
        Whether a window has it open.
    pictures : n×H×W×C uint8
        Some of its images, n = 0 if it was never shown.
    error : str
        Why it cannot be read; the rest is empty then.
    """

    folder: Path
    name: str
    images: int
    classes: int
    runs: int
    best: float | None
    training: bool
    open: bool
    pictures: NDArray[np.uint8]
    labels: int = 0
    error: str = ""


@dataclass(frozen=True)
class _Pictures:
    pixels: NDArray[np.uint8]


def read_card(folder: Path) -> Card:
    """A workspace's card; one that cannot be read says why."""
    nothing = np.zeros((0, 1, 1, 3), np.uint8)
    try:
        workspace = Workspace.open(folder)
        images, classes = workspace.catalogue.size()
        views = [RunReader(run).view() for run in workspace.runs()]
    except (LensError, OSError) as error:
        return Card(folder, folder.name, 0, 0, 0, None, False, False, nothing, error=str(error))
    judged = [epoch.validation for view in views for epoch in view.epochs if epoch.validation is not None]
    scores = [figures.accuracy for figures in judged if figures.accuracy is not None]
    pictures = stored(_file(folder), _Pictures, str(folder.absolute()))
    return Card(
        folder,
        workspace.name,
        images,
        classes,
        len(views),
        max(scores, default=None),
        any(view.state == "training" for view in views),
        workspace.has_window,
        nothing if pictures is None else pictures.pixels,
        len(labels_of(workspace.catalogue.classes())) if several_labels(workspace) else 0,
    )


def keep_pictures(folder: Path, pixels: Pixels, labels: NDArray[np.int64]) -> None:
    """Keep some images for the card, of different classes as far as there are any."""
    firsts = np.unique(labels, return_index=True)[1]
    chosen = firsts[np.linspace(0, len(firsts) - 1, min(PICTURES, len(firsts))).astype(int)]
    if len(chosen):
        keep(_file(folder), _Pictures(np.asarray(pixels[chosen])), str(folder.absolute()))


def _file(folder: Path) -> Path:
    name = hashlib.sha256(os.fsencode(folder.absolute())).hexdigest()[:20]
    return state_folder() / "cards" / f"{name}.npz"
