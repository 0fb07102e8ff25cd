"""What every source of images does."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any, ClassVar

from numpy.typing import NDArray

from attentive_lens.core.files import shown
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.decoding import Picture, decode
from attentive_lens.images.pixel_format import (
    EACH,
    EIGHT,
    FIRST,
    STACKED,
    PixelArray,
    numbered,
    usual_channels,
    white_of,
)
from attentive_lens.images.preprocessing import Region, cropped, resized
from attentive_lens.images.reading import Reading
from attentive_lens.images.scale import Sampled
from attentive_lens.images.stored import (
    BROKEN,
    Kind,
    StoredValues,
    count_of_pages,
    kind_of_file,
    stored_values,
    values_in,
)
from attentive_lens.plan.preprocessing import Preprocessing

SET_WORDS = {
    "train": "training",
    "training": "training",
    "val": "validation",
    "valid": "validation",
    "validation": "validation",
    "test": "test",
    "testing": "test",
}


SAMPLED = 400
"""Files that are opened to learn what white is."""
PAGE = "page"
"""Part of a file of which each page is an image."""
WORKSPACE_MARKER = "workspace.toml"
"""The file that makes a folder a workspace."""


def class_name(words: str) -> str:
    """A class's name as it may be shown and kept: printable text without outer blanks.

    Bytes that are no text and control characters, with which a terminal could be steered, stand as escapes.
    """
    return shown(words).strip() or "(blank)"


@dataclass(frozen=True, slots=True)
class Found:
    """An image, not yet opened.

    Attributes
    ----------
    file : Path
        The image file, or the table or array file it is in.
    label : str
        Its class.
    set_name : str or None
        "training", "validation" or "test" if the source says so.
    part : str
        What in the file it is in: an array's name; empty for an image file.
    index : int
        Where in the part it is: a row of an array, the first byte of a table's line; -1 for an image file.
    """

    file: Path
    label: str
    set_name: str | None
    part: str = ""
    index: int = -1

    @property
    def name(self) -> str:
        """What to call it in a report."""
        return f"{self.file}, {self.part} {self.index}" if self.index >= 0 else str(self.file)


@dataclass(frozen=True, slots=True)
class Skipped:
    """A file, or a line of one, that gives no image, and why."""

    file: Path
    reason: str


class Source(ABC):
    """Base of the sources: recognises a place, lists what is in it without opening any image, and opens one.

    Parameters
    ----------
    place : Path
        File or folder.
    reading : Reading
        One of `readings`; sources that need none ignore it.
    """

    title: ClassVar[str] = ""
    """What it reads, in words."""
    is_whole: ClassVar[bool] = False
    """Whether all images are in memory once one is opened, so that no other process should open them again."""

    def __init__(self, place: Path, reading: Reading | None = None) -> None:
        self.place = place
        self.reading = reading or Reading()

    def __reduce__(self) -> tuple[object, ...]:
        """Another process looks into the place by itself, once."""
        return _source, (type(self), self.place, self.reading)

    @classmethod
    @abstractmethod
    def recognises(cls, place: Path) -> bool:
        """Whether this kind of source can read the place; «no» must be cheap and never an error."""

    @classmethod
    def readings(cls, place: Path, wish: Reading) -> list[Reading]:
        """Every way the place can be read, the likeliest first; one for sources that leave nothing open.

        Raises
        ------
        BadFile
            If it cannot be read at all; the reason says what is missing.
        """
        del place
        return [wish]

    @abstractmethod
    def find(self) -> Iterator[Found | Skipped]:
        """Everything in the source, in a fixed order."""

    def picture(self, file: Path, part: str, index: int) -> Picture:
        """Open one image, named as `find` named it; may be called from several threads.

        Raises
        ------
        BadFile
            With the reason.
        """
        return decode(file, self.reading.pixel_format, index if part == PAGE else None)

    def stored(self, file: Path, part: str, index: int) -> StoredValues | None:
        """What an image holds as it is stored; None where that cannot be told."""
        if part == PAGE:
            return stored_values(file, EACH, index)
        return stored_values(file, self.reading.pages or FIRST)

    def each_page(self, item: Found) -> Iterator[Found]:
        """An image file as the images in it: itself, or each of its pages where the reading says so."""
        if self.reading.pages != EACH:
            yield item
            return
        for number in range(count_of_pages(item.file)):
            yield replace(item, part=PAGE, index=number)

    def completed(self) -> Reading:
        """The reading with depth, channels and scale, as far as some of the images tell.

        One scale holds for a whole source: an image that is dark throughout stays so.
        """
        files = list(dict.fromkeys(item.file for item in self.find() if isinstance(item, Found)))
        some = files[:: max(1, len(files) // SAMPLED)]
        kinds = {file: kind for file in some if (kind := kind_of_file(file)) is not None}
        reading = self.reading
        pages = reading.pages or FIRST

        def is_stack(kind: Kind) -> bool:
            return pages == STACKED and kind.pages > 1

        def channels(kind: Kind) -> tuple[str, ...]:
            return numbered(kind.channels * kind.pages) if is_stack(kind) else usual_channels(kind.channels)

        unusual = [kind for kind in kinds.values() if not kind.is_plain or is_stack(kind)]
        wanted = len(unusual) * 2 > len(kinds) or reading.channels or reading.depth not in ("", EIGHT)
        if reading.depth == EIGHT and not reading.channels and pages != STACKED:
            wanted = False
        if wanted and kinds:
            of_these = unusual or list(kinds.values())
            depth = reading.depth or Counter(kind.depth for kind in of_these).most_common(1)[0][0]
            names = reading.channels or ", ".join(Counter(map(channels, of_these)).most_common(1)[0][0])
            reading = replace(reading, depth=depth, channels=names)
        if not wanted and (reading.black or reading.white % 1):
            why = "most of its images have 8 bits, from 0 to 255"
            raise BadValue(f"{self.place} has no scale of its own", why, "Leave black and white out")
        if reading.has_scale or (wanted and reading.depth == EIGHT):
            return reading
        deep = [file for file, kind in kinds.items() if kind.depth != EIGHT]
        return with_scale(reading, (values for file in deep if (values := _values(file, pages)) is not None))


def _values(file: Path, pages: str) -> NDArray[Any] | None:
    try:
        return values_in(file, pages)
    except BROKEN:
        return None  # decoding it says why


def with_scale(reading: Reading, images: Iterable[NDArray[Any]]) -> Reading:
    """A reading that says what black and white are in images of more than 8 bits; as it is without any."""
    sampled = Sampled.of(images)
    if not sampled.values.size:
        return reading
    if reading.depth in ("", EIGHT):  # made ordinary pictures: white alone, and as far as they need it
        return replace(reading, white=float(white_of(max(sampled.highs, default=0))))
    black, white = sampled.ends(reading.scale)
    return replace(reading, black=black, white=white)


@cache
def _source(kind: type[Source], place: Path, reading: Reading) -> Source:
    return kind(place, reading)


@dataclass(frozen=True, slots=True)
class Reference:
    """Where one image of a catalogue is, the source that opens it, and what of it is seen, see `outlines.region_of`."""

    source: Source
    file: str
    part: str
    index: int
    region: Region | None = None

    def picture(self) -> Picture:
        """Open it; `BadFile` with the reason if that fails."""
        return self.source.picture(Path(self.file), self.part, self.index)

    def resized(self, preprocessing: Preprocessing) -> PixelArray:
        """Open it at the input size, see `preprocessing.resized`; `BadFile` or `BadValue` with the reason."""
        return resized(self.seen(), preprocessing, self.source.reading.channel_names)

    def seen(self) -> PixelArray:
        """Its pixels, of its region alone."""
        return cropped(self.picture().pixels, self.region)

    def stored(self) -> StoredValues | None:
        """What it holds as it is stored; None where that cannot be told."""
        return self.source.stored(Path(self.file), self.part, self.index)


def listed(place: Path) -> list[Path]:
    """What is in a folder, sorted, without hidden entries; `BadFile` if it cannot be listed."""
    try:
        return sorted(p for p in place.iterdir() if not p.name.startswith("."))
    except OSError as error:
        raise BadFile(f"{place} could not be listed", str(error.strerror).lower(), "Check its permissions") from None


def set_named(name: str) -> str | None:
    """The set a name speaks of, if any: «x_train», «test-labels», «validation»."""
    plain = name.lower()
    for word in ("train", "val", "test"):
        if word in plain:
            return SET_WORDS[word]
    return None
