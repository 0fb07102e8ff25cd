"""The request for how much worse a model does on worse pictures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.desk.requests.base import Request
from attentive_lens.scoring.measures import Share


@dataclass(frozen=True)
class Grade:
    """How a model does on pictures that are worse in one way by one grade.

    Attributes
    ----------
    grade : float
        How strong, in the unit of its kind.
    right : Share
        Answered rightly.
    broken, said : tuple of int
        Images answered rightly as they are and wrongly then, by number, and the class said then.
    """

    grade: float
    right: Share
    broken: tuple[int, ...]
    predicted: tuple[int, ...]


@dataclass(frozen=True)
class Way:
    """A way in which pictures are worse: its name, in words, the unit of its grades, these from slight to strong."""

    name: str
    what: str
    unit: str
    grades: tuple[Grade, ...]


@dataclass(frozen=True)
class RobustnessMeasured:
    """How a run's best model does on a set as it is, and worse in several ways.

    Attributes
    ----------
    images, in_all : int
        Of the set's images so many were asked about: of more, the same part of every class.
    classes : tuple of str
        The model's, by class number.
    right : Share
        Answered rightly as they are.
    """

    run: int
    on: str
    images: int
    in_all: int
    classes: tuple[str, ...]
    right: Share
    ways: tuple[Way, ...]


@dataclass(frozen=True)
class MeasureRobustness(Request[RobustnessMeasured]):
    """Accuracy under graded blur, noise, brightness, contrast, rotation, shift and JPEG; all ways if none is named."""

    result: ClassVar[type[object]] = RobustnessMeasured
    task: ClassVar[str] = "robustness.measure_robustness"
    workspace: str
    run: int
    on: str = "validation"
    ways: tuple[str, ...] = ()
    most: int = 500
