"""What the catalogue knows of one image."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ImageRow:
    """One image of the catalogue.

    Attributes
    ----------
    number : int
        From 1, in the order of the source, without gaps.
    file : str
        Relative to the workspace if it lies in it, else absolute.
    label : int
        Class number from 0.
    given_set : str or None
        "training", "validation" or "test" if source or person named it; "excluded"; "gone" if its file is.
    width, height : int
        Pixels of the file.
    mode : str
        What the file holds, in words.
    bytes : int
        Size of the file; of the values as they are stored, for an image in a table or array.
    part : str
        What in the file it is in; empty for an image file.
    index : int
        Where in the part; -1 for an image file.
    origin : int
        Number of the source it came from.
    digest : int
        Of the pixels as they were last decoded, or of the values they were scaled from, 64 bits with a sign; 0 if that
        was not noted.
    changed : int
        Time at which the file was changed last (ctime), in nanoseconds since 1970; 0 where a change since then could
        have the same time.
    beyond : int
        Values beyond the set's scale, which stand at its ends.
    flagged : bool
        Whether somebody marked it.
    """

    number: int
    file: str
    label: int
    given_set: str | None
    width: int
    height: int
    mode: str
    bytes: int
    part: str = ""
    index: int = -1
    origin: int = 1
    digest: int = 0
    changed: int = 0
    beyond: int = 0
    flagged: bool = False

    @property
    def name(self) -> str:
        """The file's own name, with the place in it if it holds several images."""
        name = self.file.rsplit("/", 1)[-1]
        return f"{name}, {self.part} {self.index}" if self.index >= 0 else name


@dataclass(frozen=True)
class Origin:
    """A source images came from: its kind, its place as a row's file is given, and how it was read."""

    kind: str
    place: str
    reading: dict[str, str | int | float]
