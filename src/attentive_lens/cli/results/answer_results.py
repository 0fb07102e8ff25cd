"""What commands about answers print: scores, answers written to a file, images laid out."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.scoring.curves import Areas
from attentive_lens.scoring.measures import Bin, Confusion, OfClass, Overview
from attentive_lens.scoring.slices import Slice


@dataclass(frozen=True)
class Mistake:
    """An image answered wrongly."""

    image: int
    file: str
    predicted: str
    true: str
    probability: float


@dataclass(frozen=True)
class ScoresOfRun:
    """How a run did on a set; rows of the confusion matrix are true classes, columns what was said.

    The temperature is by what raw scores would have to be divided for the set's loss to be least.
    """

    run: int
    on: str
    images: int
    unknown: int
    accuracy: float
    loss: float
    loss_function: str
    output: str
    classes: tuple[str, ...]
    per_class: tuple[float | None, ...]
    confusion: tuple[tuple[int, ...], ...]
    wrong: tuple[Mistake, ...]
    relabelled: tuple[int, ...]
    judged_by_test: tuple[int, ...]
    overview: Overview
    by_class: tuple[OfClass, ...]
    areas: tuple[Areas, ...]
    confusions: tuple[Confusion, ...]
    calibration: tuple[Bin, ...]
    calibration_error: float | None
    temperature: float | None
    slices: tuple[Slice, ...]


@dataclass(frozen=True)
class MappedImage:
    """Where an image lies on the map of the data, and what was said of it: nothing by a network that encodes."""

    image: int
    file: str
    set: str
    true: str
    predicted: str
    across: float
    down: float


@dataclass(frozen=True)
class Mapped:
    """Images laid out by a layer, of ``in_all``; ``explained`` is each component's part of the variance, for PCA."""

    layer: str
    method: str
    in_all: int
    explained: tuple[float, ...]
    images: tuple[MappedImage, ...]
    written: str | None


@dataclass(frozen=True)
class AnswersWritten:
    """Answers to image files, in a file of their own.

    Attributes
    ----------
    file : str
        Where they are.
    answered, held, unreadable : int
        Images answered now, those that the file held before, and files that could not be read.
    unlike : int or None
        Images unlike all training images; None where it was not asked.
    predicted : dict
        Class → images answered so, now.
    seconds : float
        That it took.
    first_pages : int
        Files of several pages, of which the first was answered.
    """

    file: str
    answered: int
    held: int
    unreadable: int
    unlike: int | None
    predicted: dict[str, int]
    seconds: float
    first_pages: int = 0


@dataclass(frozen=True)
class ServerBegun:
    """A model that answers over HTTP from now on.

    Attributes
    ----------
    url : str
        Its address.
    model : str
        Its file.
    needs_token : bool
        Whether who asks must send one.
    """

    url: str
    model: str
    needs_token: bool
