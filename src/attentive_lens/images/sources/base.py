"""What every source of images does."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Found:
    """An image file, not yet opened.

    Attributes
    ----------
    file : Path
        Where it is.
    label : str
        Its class.
    set_name : str or None
        "training", "validation" or "test" if the source says so.
    """

    file: Path
    label: str
    set_name: str | None


@dataclass(frozen=True)
class Skipped:
    """A file that gives no image, and why."""

    file: Path
    reason: str


class Source(ABC):
    """Base of the sources: recognises a place and lists what is in it, without opening any image."""

    def __init__(self, place: Path) -> None:
        self.place = place

    @classmethod
    @abstractmethod
    def recognises(cls, place: Path) -> bool:
        """Whether this kind of source can read the place; «no» must be cheap and never an error."""

    @abstractmethod
    def find(self) -> Iterator[Found | Skipped]:
        """Everything in the source, in a fixed order."""
