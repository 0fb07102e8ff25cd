"""The request for how much worse a model does on worse pictures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.telling import Rows, Words
from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.images.pixel_format import PixelArray
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
    broken, predicted : tuple of int
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

    def words(self) -> Words:
        """How many stay right, way by way."""
        drawn = f" of {self.in_all}" if self.images < self.in_all else ""
        yield f"run {self.run} on {self.images}{drawn} {self.on} images as they are: {self.right.words} right"
        rows = [
            (way.what * (grade is way.grades[0]), f"{grade.grade:g} {way.unit}".strip(), grade.right.words,
             str(len(grade.broken)))
            for way in self.ways for grade in way.grades
        ]  # fmt: skip
        yield Rows(("", "grade", "right", "broken"), tuple(rows))


@dataclass(frozen=True)
class MeasureRobustness(Request[RobustnessMeasured]):
    """Make a set's pictures worse, grade by grade, and tell how many answers stay right and which break."""

    result: ClassVar[type[object]] = RobustnessMeasured
    task: ClassVar[str] = "robustness.measure_robustness"
    doing: ClassVar[str] = "making pictures worse"
    workspace: str
    run: int
    on: str = "validation"
    ways: tuple[str, ...] = spec(
        (),
        label="way",
        meaning="blur, noise, darker, brighter, contrast, rotation, shift or JPEG; all if left out. Repeatable.",
    )
    most: int = spec(500, low=1, meaning="Images; of more, a part of every class is drawn.")


@dataclass(frozen=True, eq=False)
class WorseInAWay:
    """A picture made worse in one way: in words, the unit of its grades, these, and the pictures, G×H×W×C uint8."""

    what: str
    unit: str
    grades: tuple[float, ...]
    pictures: PixelArray


@dataclass(frozen=True)
class WorsePictures:
    """One image made worse in every way and grade that robustness is measured with."""

    image: int
    ways: tuple[WorseInAWay, ...]


@dataclass(frozen=True)
class ShowWorse(Request[WorsePictures]):
    """Make one image worse in every way and grade, to see what is measured."""

    result: ClassVar[type[object]] = WorsePictures
    task: ClassVar[str] = "robustness.show_worse"
    workspace: str
    run: int
    image: int
