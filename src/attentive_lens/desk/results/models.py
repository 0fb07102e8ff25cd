"""Trained models as tasks and commands take them: from a file or a run, with the images of that run."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.images.data import Data, gather
from attentive_lens.desk.images.outlines import covered_at, known_outlines
from attentive_lens.desk.requests.subjects import FileImage, RunImage, Subject
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.losses import Loss, one_hot
from attentive_lens.errors import BadUsage
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.pages import page_name, parted
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.plan.labels import HALF, labels_in
from attentive_lens.plan.layers import Dropout
from attentive_lens.workspace import Run, Workspace
from attentive_lens.workspace.thresholds import thresholds_of

AT_ONCE = 64
THREADS = 2


def by_class(classes: tuple[str, ...], row: NDArray[np.floating]) -> dict[str, float]:
    """Answers K by the classes' names."""
    return {name: float(p) for name, p in zip(classes, row, strict=True)}


def model_and_data(
    place: Workspace, run: Run, image: int | None = None, classes: bool = True
) -> Job[tuple[ModelFile, Data]]:
    """A run's best model, and the images in the sets it was trained with, prepared and numbered as the model has it.

    Who asks about one image alone names its number, see `gather`. Without ``classes`` nobody needs to know which they
    are of, and a run that answers several labels may be asked about none of them.
    """
    model = model_of_run(run)
    if classes:
        check_one_answer(model, run)
    data = yield from gather(place, run.plan(), run, model.preprocessor.settings, image)
    return model, data if model.several else data.seen_by(model.classes)


@dataclass(frozen=True, eq=False)
class AnsweredImage:
    """An image with the model that answers it.

    Attributes
    ----------
    subject : Subject
        As it was asked about.
    model : ModelFile
        Who answers.
    pixels : ndarray, H×W×C uint8
        At the model's input size.
    label : int or None
        Number of the class on its label, if it has one.
    against : int or None
        The same, or of the class that takes its place.
    set_name : str
        The set it is in; empty for a file.
    file : str
        Where it is from.
    covered : ndarray, H×W float32, or None
        How much of each pixel is the object's, where an outline is known.
    labels : frozenset of str, or None
        Those it has, where it may have several and that is known.
    """

    subject: Subject
    model: ModelFile
    pixels: PixelArray
    label: int | None
    against: int | None
    set_name: str
    file: str
    covered: NDArray[np.float32] | None = None
    labels: frozenset[str] | None = None

    @property
    def number(self) -> int | None:
        """Of an image of a workspace."""
        return self.subject.image if isinstance(self.subject, RunImage) else None


def answered_image(subject: Subject) -> Job[AnsweredImage]:
    """The image of a subject at the model's input size, with the model.

    Raises
    ------
    LensError
        If there is no such image, file, run or model, or the model does not know a class that is named.
    """
    if isinstance(subject, RunImage):
        workspace, run = workspace_and_run(subject)
        model, data = yield from model_and_data(workspace, run, subject.image)
        at = data.place(subject.image)
        label, row = int(data.labels[at]), data.collection.rows[at]
        outline = known_outlines(workspace).get(subject.image)
        covered = None if outline is None else covered_at(row, outline, model.preprocessor.settings)
        labels, stored = None, data.collection.stored
        if model.label and stored is not None:
            labels = frozenset(labels_in(workspace.catalogue.classes()[int(stored[at])]))
        set_name = data.collection.sets[at]
        return AnsweredImage(subject, model, data.pixels[at], label, label, set_name, row.file, covered, labels)
    model = model_answering(subject)
    picture = model.preprocessor.picture(subject.file)
    is_first = picture.pages > 1 and parted(subject.file)[1] is None
    return answered_file(subject, model, picture.pixels, page_name(subject.file, 1) if is_first else "")


def answered_file(subject: FileImage, model: ModelFile, pixels: PixelArray, name: str = "") -> AnsweredImage:
    """As `answered_image`, of a file, or of no file at all, whose pixels H×W×C are there already.

    Its name says which page of a file it is, where that has several.
    """
    against = class_number(model, subject.against) if subject.against else None
    return AnsweredImage(subject, model, pixels, None, against, "", name or subject.file)


def model_answering(subject: Subject) -> ModelFile:
    """The model that answers a subject."""
    if isinstance(subject, FileImage) and subject.model:
        model = model_of(Path(subject.model))
        if model.several and not subject.label:
            raise unnamed_label(subject.model, model)
        return model.about(subject.label) if subject.label else model
    run = workspace_and_run(subject)[1]
    model = model_of_run(run)
    check_one_answer(model, run)
    return model


def workspace_and_run(subject: Subject) -> tuple[Workspace, Run]:
    """The workspace and the run of a subject.

    Raises
    ------
    BadUsage
        If only a model file is named.
    """
    if not subject.workspace:
        why = "it takes other images of a workspace, and a model file has none"
        raise BadUsage("This cannot be asked of a model file", why, "Ask the run in its workspace")
    workspace = Workspace.open(Path(subject.workspace))
    return workspace, workspace.run(subject.run)


def class_number(model: ModelFile, name: str) -> int:
    """Of a model's class by its name; `BadUsage` with the nearest if it has none of that name."""
    if name not in model.classes:
        raise unknown_word("class", name, frozenset(model.classes))
    return model.classes.index(name)


def loss_and_gradient(loss: Loss, model: ModelFile, raw: Array, labels: NDArray[np.int64]) -> tuple[Array, Array]:
    """Losses N of raw scores, by the classes' numbers, and their gradients by the scores.

    Of a model about one label it is that label's part of the loss.
    """
    if not model.label:
        return loss(raw, one_hot(labels, len(model.classes), raw.dtype))
    own = model.labels.index(model.label)
    losses, gradient = loss(raw[:, own : own + 1], labels[:, None].astype(raw.dtype))
    whole = np.zeros_like(raw)
    whole[:, own : own + 1] = gradient
    return losses, whole


def other_image(subject: Subject, number: int) -> Job[PixelArray]:
    """Another image of the subject's workspace, H×W×C at the input size of the run's model."""
    _, data = yield from model_and_data(*workspace_and_run(subject), number)
    pixels: PixelArray = data.pixels[data.place(number)]
    return pixels


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
    """A model file, read once while it stays as it is; that of a run, with the thresholds chosen since."""
    folder = file.absolute().parent
    if folder.name == "checkpoints" and (folder.parent / "thresholds.json").exists():
        return with_thresholds(_model_as_of(file, _changed(file)), file, Run(folder.parent))
    return _model_as_of(file, _changed(file))


def model_of_run(run: Run) -> ModelFile:
    """A run's best model: of several labels, with the thresholds chosen since, and about the one that is asked about.

    Read once while both files stay as they are.
    """
    file = run.model
    return with_thresholds(_model_as_of(file, _changed(file)), file, run)


def with_thresholds(model: ModelFile, file: Path, run: Run) -> ModelFile:
    """A run's model as read from a file: of several labels, with its thresholds, and about the label asked about."""
    if not model.thresholds:
        return model
    known = thresholds_of(run)
    values = tuple(known[label].value if label in known else HALF for label in model.classes)
    return _model_about(file, _changed(file), values, run.label)


def check_one_answer(model: ModelFile, run: Run) -> None:
    """Raise `BadUsage` where a run answers several labels, and none of them is named."""
    if model.several:
        number = int(run.number)
        raise unnamed_label(f"Run {number}", model, f"Name one with it, as in «{number}:{model.classes[0]}»")


def unnamed_label(who: str, model: ModelFile, remedy: str = "Name one") -> BadUsage:
    """The error where a model answers several labels, and is asked about one that is not named."""
    labels = ", ".join(model.classes[:12])
    why = f"this is asked about one of them, and none is named; its labels are: {labels}"
    return BadUsage(f"{who} answers several labels", why, remedy)


def _changed(file: Path) -> int:
    try:
        return file.stat().st_mtime_ns
    except OSError:
        return 0


@lru_cache(maxsize=4)
def _model_as_of(file: Path, changed: int) -> ModelFile:
    del changed
    return read_model(file)


@lru_cache(maxsize=8)
def _model_about(file: Path, changed: int, thresholds: tuple[float, ...], label: str) -> ModelFile:
    model = replace(_model_as_of(file, changed), thresholds=thresholds)
    return model.about(label) if label else model
