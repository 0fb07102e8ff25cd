"""Requests about models: their scores, and their answers to new images."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.desk.requests.base import Request
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.scoring.drift import Drift
from attentive_lens.scoring.scores import Scores


@dataclass(frozen=True)
class Score(Request[Scores]):
    """Scores of a run's best model on a set: training, validation or test; kept beside the run."""

    result: ClassVar[type[object]] = Scores
    task: ClassVar[str] = "scoring.score"
    workspace: str
    run: int
    on: str = "validation"


@dataclass(frozen=True)
class Prediction:
    """A model's answer to an image.

    Attributes
    ----------
    file : str
        Of the image.
    predicted : str
        The class; of several labels all that are said, in words.
    probability : float
        Of that class; its raw score where the model's output function is none; of several labels, that of the one that
        is least surely said, or not said.
    probabilities : dict
        The same by class.
    output : str
        The model's output function.
    unlike : float or None
        How far the image lies from all training images, as part of what is usual: unlike them above 1; None where
        it was not asked.
    nearest : int or None
        The training image nearest to it.
    labels : tuple of str
        Those that are said, where the model answers several.
    pages : int
        Pictures in the file where none of them is named: this is about the first.
    """

    file: str
    predicted: str
    probability: float
    probabilities: dict[str, float]
    output: str
    unlike: float | None = None
    nearest: int | None = None
    labels: tuple[str, ...] = ()
    pages: int = 1


@dataclass(frozen=True)
class Unreadable:
    """A file that could not be read as an image, and why."""

    file: str
    error: str


@dataclass(frozen=True)
class NewAnswers:
    """A run's answers to image files.

    Attributes
    ----------
    answers : tuple of Prediction
        In the order of the files, but for those that could not be read.
    unreadable : tuple of Unreadable
        Those.
    pixels : ndarray, N×H×W×C uint8
        The answered images at the input size.
    caution : str
        What is to be known of all of them; mostly nothing.
    drift : Drift or None
        How they differ from held-out images; None until all are answered, and where nothing can be told.
    """

    answers: tuple[Prediction, ...]
    unreadable: tuple[Unreadable, ...]
    pixels: PixelArray
    caution: str = ""
    drift: Drift | None = None


@dataclass(frozen=True)
class AnswerNew(Request[NewAnswers]):
    """Answers of a run's best model to image files and folders, each with how unlike its training images it is."""

    result: ClassVar[type[object]] = NewAnswers
    task: ClassVar[str] = "new_images.answer_new"
    workspace: str
    run: int
    places: tuple[str, ...]
    most: int = 2000
