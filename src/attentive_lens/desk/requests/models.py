"""Requests about models: their scores, and their answers to new images."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.desk.requests.base import Request
from attentive_lens.scoring.scores import Scores


@dataclass(frozen=True)
class Score(Request[Scores]):
    """Scores of a run's best model on a set: training, validation or test; kept beside the run."""

    result: ClassVar[type[object]] = Scores
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
    said : str
        The class.
    probability : float
        Of that class; its raw score where the model's output function is none.
    probabilities : dict
        The same by class.
    output : str
        The model's output function.
    """

    file: str
    said: str
    probability: float
    probabilities: dict[str, float]
    output: str


@dataclass(frozen=True)
class Unreadable:
    """A file that could not be read as an image, and why."""

    file: str
    error: str


@dataclass(frozen=True)
class Predictions:
    """Answers in the order of the files, but for those that could not be read."""

    answers: tuple[Prediction, ...]
    unreadable: tuple[Unreadable, ...]


@dataclass(frozen=True)
class Predict(Request[Predictions]):
    """Answers of a model file to image files."""

    result: ClassVar[type[object]] = Predictions
    model: str
    files: tuple[str, ...]
