"""What a server answers with, beside pictures; each is one JSON object."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.scoring.drift import Drift


@dataclass(frozen=True)
class ModelServed:
    """The model that answers.

    Attributes
    ----------
    name : str
        Of its file.
    classes : tuple of str
        In order.
    output : str
        What makes answers of its scores.
    input_size : tuple of int
        Rows and columns an image is brought to.
    channels : tuple of str
        What an image must have; red, green and blue of any ordinary picture.
    methods : tuple of str
        Of maps.
    caution : str
        What is to be known of all answers; mostly nothing.
    thresholds : tuple of float
        Above which probability it says each, where its classes are several labels; empty otherwise.
    """

    name: str
    classes: tuple[str, ...]
    output: str
    input_size: tuple[int, int]
    channels: tuple[str, ...]
    methods: tuple[str, ...]
    caution: str = ""
    thresholds: tuple[float, ...] = ()


@dataclass(frozen=True)
class Answered:
    """Answers to the images of a request, in their order; one that could not be read has its reason."""

    answers: tuple[Prediction | Unreadable, ...]


@dataclass(frozen=True)
class DriftTold:
    """How the images of each day differ from the run's held-out images.

    Attributes
    ----------
    held_out : int
        Images they are compared with.
    answered, measured : int
        Images that were answered, and those of them that were measured, since the server began.
    days : tuple of Drift
    """

    held_out: int
    answered: int
    measured: int
    days: tuple[Drift, ...]


@dataclass(frozen=True)
class Health:
    """Whether the server answers.

    Attributes
    ----------
    state : str
        «ready».
    waiting : int
        Images that wait for their answers.
    answered : int
        Since the server began.
    """

    state: str
    waiting: int
    answered: int
