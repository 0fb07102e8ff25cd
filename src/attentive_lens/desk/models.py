"""Trained models as tasks and commands take them: from a file or a run, with the images of that run."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.data import Data, gather
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.layers import Dropout
from attentive_lens.workspace import Run, Workspace

AT_ONCE = 64
THREADS = 2


def by_class(classes: tuple[str, ...], row: NDArray[np.floating]) -> dict[str, float]:
    """Answers K by the classes' names."""
    return {name: float(p) for name, p in zip(classes, row, strict=True)}


def model_and_data(place: Workspace, run: Run, image: int | None = None) -> Job[tuple[ModelFile, Data]]:
    """A run's best model, and the images in the sets it was trained with, prepared and numbered as the model has it.

    Who asks about one image alone names its number, see `gather`.
    """
    model = model_of(run.model)
    data = yield from gather(place, run.plan(), run, model.preprocessor.settings, image)
    return model, data.seen_by(model.classes)


@dataclass(frozen=True, eq=False)
class AskedImage:
    """A model, an image S×S×C uint8 at its input size, and the number of the class on its label, if it has one."""

    model: ModelFile
    pixels: NDArray[np.uint8]
    label: int | None


def asked_image(workspace: str, run: int, image: int, model: str = "", file: str = "") -> Job[AskedImage]:
    """An image of a workspace and its run's model; with ``model`` that file, and an image file no workspace knows."""
    if model:
        known = model_of(Path(model))
        return AskedImage(known, known.preprocessor.opened(Path(file)), None)
    place = Workspace.open(Path(workspace))
    known, data = yield from model_and_data(place, place.run(run), image)
    at = data.place(image)
    return AskedImage(known, data.pixels[at], int(data.labels[at]))


def check_layer(model: ModelFile, node: str) -> None:
    """Raise `BadValue` where a model has no such node."""
    names = frozenset(other.name for other in model.plan.nodes)
    if node not in names:
        raise unknown_word("layer", node, names)


def last_layer(model: ModelFile) -> str:
    """The last node before the answers that computes: dropout passes images through unchanged."""
    by_name = {node.name: node for node in model.plan.nodes}
    name = model.plan.nodes[-1].after[0]
    while name in by_name and isinstance(by_name[name].layer, Dropout):
        name = by_name[name].after[0]
    return name


def model_of(file: Path) -> ModelFile:
    """A model file, read once while it stays as it is."""
    try:
        changed = file.stat().st_mtime_ns
    except OSError:
        changed = 0
    return _model_as_of(file, changed)


@lru_cache(maxsize=4)
def _model_as_of(file: Path, changed: int) -> ModelFile:
    del changed
    return read_model(file)
