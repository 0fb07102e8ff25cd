"""What all sources made of arrays share: which are images, which labels, and which goes with which."""

from __future__ import annotations

import difflib
import tempfile
import threading
from abc import abstractmethod
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import Picture, of_stored
from attentive_lens.images.layouts import CHANNELS, Scale, images_in, label_words, may_be_several, one, readings
from attentive_lens.images.pixel_format import EIGHT, usual_channels
from attentive_lens.images.reading import Reading
from attentive_lens.images.scale import Sampled
from attentive_lens.images.sources.base import Found, Skipped, Source, class_name, set_named, with_scale
from attentive_lens.images.stored import StoredValues, of_values
from attentive_lens.plan.labels import NO_LABEL, PARTED

SAMPLED = 64
"""Images looked at to tell what white is."""


@dataclass(frozen=True)
class Entry:
    """An array in a file, not yet read: its name, the file, and its shape and type."""

    name: str
    file: Path
    shape: tuple[int, ...]
    dtype: np.dtype[Any]

    @property
    def holds_images(self) -> bool:
        """Whether it can be images: numbers, in two to four axes, none of them empty."""
        return self.dtype.kind in "buif" and 2 <= len(self.shape) <= 4 and min(self.shape) > 0 and not self.is_column

    @property
    def is_column(self) -> bool:
        """Whether it has one value for each image."""
        return len(self.shape) == 1 or (len(self.shape) == 2 and min(self.shape) == 1)


class ArraySource(Source):
    """Base of the sources that hold images as arrays: images in some, labels in others of the same length.

    Names say what belongs together: «train_images» with «train_labels» gives a training set. An array of texts
    called «classes» or «names» names the classes that whole numbers stand for.
    """

    is_whole = True
    turned: ClassVar[bool] = False
    """Whether its arrays are usually stored column by column."""

    def __init__(self, place: Path, reading: Reading | None = None) -> None:
        super().__init__(place, reading)
        self._lock = threading.Lock()
        self._entries: dict[str, Entry] | None = None
        self._arrays: dict[str, NDArray[Any]] = {}
        self._scale: Scale | None = Scale(self.reading.white) if self.reading.white else None

    @classmethod
    @abstractmethod
    def entries(cls, place: Path) -> list[Entry]:
        """The arrays at a place, in the order of their names, without reading them; `BadFile` if damaged."""

    @classmethod
    @abstractmethod
    def load(cls, entry: Entry) -> NDArray[Any]:
        """An array, memory-mapped where it can be; `BadFile` if damaged."""

    @classmethod
    def readings(cls, place: Path, wish: Reading) -> list[Reading]:
        """Every reading that fits the largest array of images."""
        entries = cls.entries(place)
        images = _chosen_images(place, entries, wish)
        labels = _labels_of(entries, images[0], wish)
        if labels is None:
            remedy = "Put them beside it as an array of one value for each image, or name it with «labels»"
            raise BadFile(f"{place} has no labels", f"no array fits the {images[0].shape} images", remedy)
        ways = readings(images[0].shape, _length(labels), replace(wish, images="", labels=""), cls.turned)
        if not ways:
            sides = "×".join(map(str, images[0].shape))
            raise BadFile(
                f"{place} could not be read as images",
                f"its array «{images[0].name}» of {sides} has no axes that fit {_length(labels)} images",
                "Name its axes with «layout», or the size with «height» and «width»",
            )
        separator = wish.separator or (PARTED if may_be_several(cls.load(labels)) else "")
        return [replace(way, images=wish.images, labels=wish.labels, separator=separator) for way in ways]

    def find(self) -> Iterator[Found | Skipped]:
        """Images in the order of the arrays."""
        entries = self.entries(self.place)
        names = _class_names(entries, self.load)
        chosen = _chosen_images(self.place, entries, self.reading)
        sets = self.sets_of(chosen)
        for images, set_name in zip(chosen, sets, strict=True):
            labels = _labels_of(entries, images, self.reading)
            count = images_in(images.shape, self.reading.layout) if len(images.shape) == self._axes else -1
            if labels is None or _length(labels) != count:
                yield Skipped(images.file, f"the array «{images.name}» has no labels of its length")
                continue
            separator = self.reading.separator
            for index, word in enumerate(label_words(self.load(labels), names, separator)):
                if word or separator:
                    yield Found(images.file, class_name(word) if word else NO_LABEL, set_name, images.name, index)
                else:
                    yield Skipped(images.file, f"image {index} of «{images.name}» has a blank label")

    @classmethod
    def sets_of(cls, images: Sequence[Entry]) -> list[str | None]:
        """The set each array of images is, as its name says; None for the split to decide."""
        return [set_named(entry.name) for entry in images]

    @property
    def _axes(self) -> int:
        return len(self.reading.layout)

    def picture(self, file: Path, part: str, index: int) -> Picture:
        """One image of an array."""
        array = self._opened(part)
        pixel_format = self.reading.pixel_format
        try:
            values = one(array, index, self.reading)
            if not pixel_format.is_plain:
                return replace(of_stored(values, pixel_format, " array"), stored=values.nbytes)
            with self._lock:
                scale = self._white()
            pixels = scale.pixels(values)
        except (ValueError, IndexError) as error:
            raise BadFile(f"{file.name}, {part} {index} was not read", str(error), "Mend the array") from None
        note = f"white is {int(scale.top)}" if scale.top > 255 else ""
        grey = "grey " if values.shape[2] == 1 else ""
        return Picture(pixels, f"{grey}array of {array.dtype.name}", note, values.nbytes)

    def completed(self) -> Reading:
        """By the values themselves: numbers that 8 bits hold make ordinary pictures, whatever type they are kept in."""
        reading = self.reading
        if reading.depth == EIGHT and not reading.channels:
            return reading if reading.has_scale else replace(reading, white=self._white_beyond_eight())
        some = [image for images in self._some() for image in images]
        sampled, count = Sampled.of(some), some[0].shape[2]
        is_usual = sampled.has_eight_bits and count in CHANNELS and not (reading.channels or reading.beyond_eight_bits)
        if reading.depth not in ("", EIGHT) or not is_usual:
            names = reading.channels or ", ".join(usual_channels(count))
            reading = replace(reading, depth=reading.depth or sampled.depth_for(reading), channels=names)
            return reading if reading.has_scale or reading.depth == EIGHT else with_scale(reading, some)
        return reading

    def _white_beyond_eight(self) -> float:
        with self._lock:
            top = self._white().top
        return top if top > 255 else 0.0

    def _some(self) -> list[list[NDArray[Any]]]:
        """Some images of every array, H×W×C."""
        some = []
        for entry in _chosen_images(self.place, self.entries(self.place), self.reading):
            if len(entry.shape) == self._axes:
                array = self.load(entry)
                count = images_in(array.shape, self.reading.layout)
                places = np.linspace(0, count - 1, min(count, SAMPLED)).astype(int)
                some.append([one(array, int(k), self.reading) for k in places])
        return some

    def _white(self) -> Scale:
        """From some images of every array."""
        if self._scale is None:
            self._scale = max((Scale.of(np.stack(images)) for images in self._some()), key=lambda scale: scale.top)
        return self._scale

    def stored(self, file: Path, part: str, index: int) -> StoredValues | None:
        """Of one image of an array."""
        del file
        return of_values(one(self._opened(part), index, self.reading))

    def _opened(self, part: str) -> NDArray[Any]:
        with self._lock:
            if part not in self._arrays:
                if self._entries is None:
                    self._entries = {entry.name: entry for entry in self.entries(self.place)}
                if part not in self._entries:
                    raise BadFile(f"{self.place} has changed", f"there is no array «{part}» any more", "Restore it")
                self._arrays[part] = self.load(self._entries[part])
            return self._arrays[part]


def _length(labels: Entry) -> int:
    return labels.shape[0] if len(labels.shape) == 1 or labels.shape[0] != 1 else labels.shape[1]


def _chosen_images(place: Path, entries: list[Entry], wish: Reading) -> list[Entry]:
    """The arrays of images, the largest first: the one named, or all of as many axes as the largest."""
    able = [entry for entry in entries if entry.holds_images and entry.name != wish.labels]
    if wish.images:
        able = [entry for entry in able if entry.name == wish.images]
    if not able:
        known = ", ".join(f"{e.name} {'×'.join(map(str, e.shape))}" for e in entries) or "nothing"
        raise BadFile(f"{place} has no images", f"its arrays are: {known}", "Name the one with images, or another file")
    able.sort(key=lambda entry: -int(np.prod(entry.shape)))
    return [entry for entry in able if len(entry.shape) == len(able[0].shape) and _like(entry, able[0])]


def _like(one_: Entry, other: Entry) -> bool:
    """Whether two arrays can be parts of one collection: they differ in one axis at most."""
    return sum(a != b for a, b in zip(one_.shape, other.shape, strict=True)) <= 1


def _labels_of(entries: list[Entry], images: Entry, wish: Reading) -> Entry | None:
    """The array of labels that goes with an array of images: the one named, else by length, set and name."""
    if wish.labels:
        named = [e for e in entries if e.name == wish.labels]
        return named[0] if named else None
    able = [e for e in entries if e.is_column and _length(e) in images.shape and e.name != images.name]
    if not able:  # one column a class
        able = [e for e in entries if len(e.shape) == 2 and e.shape[0] in images.shape and e.name != images.name]
        able = [e for e in able if e.shape[1] <= 1000 and not _like_images(e, images)]
    same_set = [e for e in able if set_named(e.name) == set_named(images.name)]
    able = same_set or able
    spoken = [e for e in able if any(word in e.name.lower() for word in ("label", "class", "target", "type"))]
    able = spoken or able
    return max(able, key=lambda e: difflib.SequenceMatcher(None, e.name, images.name).ratio(), default=None)


def _like_images(entry: Entry, images: Entry) -> bool:
    return len(entry.shape) == len(images.shape) and _like(entry, images)


def _class_names(entries: list[Entry], load: Any) -> list[str] | None:
    for entry in entries:
        plain = entry.name.lower()
        if entry.is_column and entry.dtype.kind in "US" and ("classes" in plain or "names" in plain):
            return label_words(load(entry))
    return None


def unpacked(stream: Any, shape: tuple[int, ...], dtype: np.dtype[Any], columns_first: bool = False) -> NDArray[Any]:
    """The rest of a stream as an array on disk, in a temporary file that vanishes when nobody uses it.

    Raises
    ------
    ValueError
        If the stream ends too early.
    """
    expected = int(np.prod(shape)) * dtype.itemsize
    with tempfile.TemporaryFile(dir=_roomy_folder()) as file:
        left = expected
        while left and (data := stream.read(min(left, 1 << 20))):
            file.write(data)
            left -= len(data)
        if left:
            raise ValueError(f"it ends {left} bytes too early")
        file.flush()
        return np.memmap(file, dtype, "r", 0, shape, "F" if columns_first else "C")


def _roomy_folder() -> str | None:
    """A folder on disk for large temporary files; the system's own is often memory."""
    roomy = Path("/var/tmp")  # noqa: S108
    return str(roomy) if roomy.is_dir() else None
