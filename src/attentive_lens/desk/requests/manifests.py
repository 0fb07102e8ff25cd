"""The request for what a figure stands on."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class Manifested:
    """A manifest, and what it differs in from another.

    Attributes
    ----------
    run : int
        Whose images; 0 for those of the workspace as they are now.
    images : int
        In it.
    digest : str
        Of all pixels, labels and sets, 64 hexadecimal digits: the same for the same images.
    file : str
        Where it was written; empty if nowhere.
    against : str
        The file, or the number of the run, that it was checked against; empty for none.
    same : bool or None
        Whether it is the same as that one; None for none.
    pixels, label, set, missing, added, crop : tuple of int
        Numbers of the images with other pixels, another label, in another set, only there, only here, and cropped
        otherwise.
    sentences : tuple of str
        The same in words.
    """

    run: int
    images: int
    digest: str
    file: str
    against: str
    same: bool | None
    pixels: tuple[int, ...]
    label: tuple[int, ...]
    set: tuple[int, ...]
    missing: tuple[int, ...]
    added: tuple[int, ...]
    crop: tuple[int, ...]
    sentences: tuple[str, ...]

    def words(self) -> Iterator[str]:
        """How many there are, by which they are known, and what differs."""
        whose = f"run {self.run}" if self.run else "the workspace as it is now"
        yield f"{self.images} images of {whose}: {self.digest}."
        if self.same:
            yield f"They are those of {called(self.against)}: pixels, labels and sets."
        yield from self.sentences
        if self.file:
            yield f"written to {self.file}"


def called(against: str) -> str:
    """A file's name, or «run 3» for a number."""
    return f"run {against}" if against.isdecimal() else against


@dataclass(frozen=True)
class MakeManifest(Request[Manifested]):
    """List what a run's figures stand on: every image's digest, label, set and decision; and compare two such lists."""

    result: ClassVar[type[object]] = Manifested
    task: ClassVar[str] = "manifests.make_manifest"
    arguments: ClassVar[tuple[str, ...]] = ("run",)
    workspace: str
    run: int = spec(
        0, low=0, meaning="Whose images, as it saw them; those of the workspace as they are now if left out."
    )
    file: str = spec("", meaning="Where the list goes, .csv.")
    against: str = spec("", names="file_or_run", meaning="A list written before, or a run, to say what differs.")
