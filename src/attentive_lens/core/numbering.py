"""Images are numbered from 1, as people count; their rows, pixels and labels stand at places from 0."""

from __future__ import annotations

from typing import TypeAlias, TypeVar

import numpy as np
from numpy.typing import NDArray

ImageNumber: TypeAlias = int
"""Number of an image in a workspace, from 1; it stays the image's for good."""


class RunNumber(int):
    """Number of a run, from 1; of a run that answers several labels, with the one of them that is asked about.

    It is that number wherever a number is wanted. About another label it is another one: what is kept by run is kept
    by label, too. In words «3:spiny», which `read` takes.

    Attributes
    ----------
    label : str
        The label; empty where a run answers classes, or all labels are meant.
    """

    label: str

    def __new__(cls, number: int, label: str = "") -> RunNumber:
        """A number, about a label."""
        result = super().__new__(cls, number)
        result.label = label
        return result

    @classmethod
    def read(cls, words: str) -> RunNumber:
        """From «3», or «3:spiny»; ValueError if it is no number."""
        number, _, label = words.partition(":")
        return cls(int(number), label)

    def __eq__(self, other: object) -> bool:
        """The same number, about the same label."""
        return isinstance(other, int) and int(self) == int(other) and self.label == label_of(other)

    def __ne__(self, other: object) -> bool:
        """Another number, or about another label."""
        return not self == other

    def __hash__(self) -> int:
        """As the number, where no label is asked about."""
        return hash((int(self), self.label)) if self.label else hash(int(self))

    def __str__(self) -> str:
        """«3», or «3:spiny»."""
        return f"{int(self):d}:{self.label}" if self.label else f"{int(self):d}"

    def __format__(self, spec: str) -> str:
        """As `str`, or as the number is formatted."""
        return format(int(self), spec) if spec else str(self)

    def __repr__(self) -> str:
        """As `str`."""
        return str(self)

    def __reduce__(self) -> tuple[object, ...]:
        """By what it is made of."""
        return RunNumber, (int(self), self.label)


def label_of(number: object) -> str:
    """The label that a run's number asks about; empty for any other number."""
    return number.label if isinstance(number, RunNumber) else ""


Counted = TypeVar("Counted", int, NDArray[np.int64])


def place_of(number: Counted) -> Counted:
    """Where the image of a number stands in a workspace's rows, from 0."""
    return number - 1


def number_at(place: Counted) -> Counted:
    """The number of the image at a place of a workspace's rows."""
    return place + 1
