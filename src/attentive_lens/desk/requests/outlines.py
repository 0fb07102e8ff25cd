"""The request that takes in where objects are."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.telling import counted
from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.images import Skipped

NAMED = 5
"""Of what was not taken, told in words."""


@dataclass(frozen=True)
class OutlinesKnown:
    """All outlines of a workspace, and what came of those taken now.

    Attributes
    ----------
    images, drawn : int
        Images with an outline, and those in which somebody drew it.
    of : int
        Images in all.
    taken : int
        Images of which the place just named tells.
    skipped : tuple of Skipped
        What of it was not taken: a file, line or name, and why.
    places : tuple of str
        Where they were taken from.
    file : str
        Where all were written; empty if nowhere.
    """

    images: int
    drawn: int
    of: int
    taken: int
    skipped: tuple[Skipped, ...]
    places: tuple[str, ...]
    file: str

    def words(self) -> Iterator[str]:
        """How many, what was left out, where they are written."""
        if self.taken:
            yield f"Outlines of {counted(self.taken, 'image was', 'images were')} taken."
        if self.skipped:
            yield f"{counted(len(self.skipped), 'entry was', 'entries were')} not taken:"
            for each in self.skipped[:NAMED]:
                yield f"  {each.file}: {each.reason}"
            if len(self.skipped) > NAMED:
                yield f"  … and {len(self.skipped) - NAMED} more; --json lists all."
        yield f"{self.images} of {self.of} images have an outline, {self.drawn} of them drawn by hand."
        if self.file:
            yield f"written to {self.file}"


@dataclass(frozen=True)
class TakeOutlines(Request[OutlinesKnown]):
    """Take in where the object is in each image: mask pictures, boxes or polygons. Count them without any."""

    result: ClassVar[type[object]] = OutlinesKnown
    task: ClassVar[str] = "outlines.outlines"
    arguments: ClassVar[tuple[str, ...]] = ("place",)
    workspace: str
    place: str = spec(
        "",
        names="place",
        meaning="Folder of mask pictures called like their images, or a table or JSON file of boxes and polygons.",
    )
    forget: bool = spec(False, meaning="Forget first all that were taken; those drawn by hand stay.")
    file: str = spec("", meaning="Where all outlines go: a .json file, or a folder for mask pictures.")
