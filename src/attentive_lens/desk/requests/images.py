"""Requests about images: the contact sheet, measures, previews of sources, preprocessing, augmentation, data faults."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.base import Request
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.rows import Pixels, Rows


@dataclass(frozen=True)
class Prepared:
    """All images as they are looked at, see `desk.network.usual.looked_at`.

    Attributes
    ----------
    file : str or None
        Where they are, see `images.rows.Rows`; None where nothing can be written.
    pixels : ndarray, N×H×W×C uint8, or None
        The images themselves in that case.
    """

    file: str | None
    pixels: PixelArray | None

    def opened(self) -> Pixels:
        """The images by their places, those in a file read where they are looked at."""
        if self.file is not None:
            return Rows(Path(self.file), missing=128)
        return self.pixels if self.pixels is not None else np.zeros((0, 1, 1, 1), np.uint8)


@dataclass(frozen=True)
class Prepare(Request[Prepared]):
    """Have the contact sheet's images made, or found."""

    result: ClassVar[type[object]] = Prepared
    task: ClassVar[str] = "images.prepare"
    workspace: str


@dataclass(frozen=True)
class WayToRead:
    """One way a source can be read.

    Attributes
    ----------
    reading : dict
        Settings of the `Reading`.
    labels : tuple of str
        Of the pictures.
    images, skipped : int
        Found, and files or lines that give none.
    classes : dict
        Images by class, the largest first.
    sets : dict
        Images that training, validation and test get by the default split, where the source does not say.
    problems : tuple of str
        What is wrong with some.
    pixels : ndarray, n×64×64×3 uint8
        A few images of each class.
    levels : tuple of int
        Of images of more than an ordinary picture's bits: how many of these few images' values lie in each of equal
        parts of the scale, from black to white.
    beyond : float
        Part of the values beyond the scale, 0–1.
    """

    reading: PlainTable
    labels: tuple[str, ...]
    images: int
    skipped: int
    classes: dict[str, int]
    sets: dict[str, int]
    problems: tuple[str, ...]
    pixels: PixelArray
    levels: tuple[int, ...] = ()
    beyond: float = 0.0


@dataclass(frozen=True)
class Previewed:
    """Every way a source can be read; ``likeliest`` is the place of the one whose pictures are smoothest."""

    kind: str
    title: str
    ways: tuple[WayToRead, ...]
    likeliest: int


@dataclass(frozen=True)
class Preview(Request[Previewed]):
    """The first images of a source, in every way it can be read, before anything is imported."""

    result: ClassVar[type[object]] = Previewed
    task: ClassVar[str] = "images.preview"
    source: str
    reading: PlainTable
    count: int = 10


@dataclass(frozen=True)
class Picture:
    """One image as its file has it, H×W×3 uint8, every ``step`` pixels.

    ``low``, ``high`` and ``bits`` are of the values as they are stored; 0 bits where that cannot be told.
    """

    image: int
    step: int
    pixels: PixelArray
    low: float = 0.0
    high: float = 0.0
    bits: int = 0


@dataclass(frozen=True)
class OpenPicture(Request[Picture]):
    """One image in full size, made smaller if a side is above 2 400 pixels."""

    result: ClassVar[type[object]] = Picture
    task: ClassVar[str] = "images.open_picture"
    workspace: str
    image: int


@dataclass(frozen=True)
class Measures:
    """Of every image, N float32: brightness and contrast 0–1, sharpness as a part of the contrast."""

    brightness: NDArray[np.float32]
    contrast: NDArray[np.float32]
    sharpness: NDArray[np.float32]


@dataclass(frozen=True)
class Measure(Request[Measures]):
    """What images are sorted and filtered by."""

    result: ClassVar[type[object]] = Measures
    task: ClassVar[str] = "images.measure"
    workspace: str


@dataclass(frozen=True)
class Averages:
    """Mean and standard deviation of each class's training images, K×H×W×3 uint8; the latter twice as strong.

    Of images that may have several labels, by label, and of those without any; see `Collection.kinds`.
    """

    mean: PixelArray
    std: PixelArray


@dataclass(frozen=True)
class ClassAverages(Request[Averages]):
    """What the training images of a class have in common."""

    result: ClassVar[type[object]] = Averages
    task: ClassVar[str] = "images.class_averages"
    workspace: str


@dataclass(frozen=True)
class ResizeModesShown:
    """What a plan's preprocessing makes of some images.

    Attributes
    ----------
    images : tuple of int
        Their numbers: the least square ones there are.
    mean, std : tuple of float
        Of each channel over 64 training images: about 0 and 1 where the normalisation centres.
    modes : dict
        Resize mode → n×H×W×C uint8.
    network : ndarray, n×H×W×C uint8
        As the network takes them, stretched to 0–255.
    caution : str
        What is to be known of images that are not cropped where others are; mostly nothing.
    """

    images: tuple[int, ...]
    mean: tuple[float, ...]
    std: tuple[float, ...]
    modes: dict[str, PixelArray]
    network: PixelArray
    caution: str = ""


@dataclass(frozen=True)
class ResizeModes(Request[ResizeModesShown]):
    """A plan's preprocessing on some images, with each resize mode beside the others."""

    result: ClassVar[type[object]] = ResizeModesShown
    task: ClassVar[str] = "images.resize_modes"
    workspace: str
    plan: PlainTable
    columns: int = 8


@dataclass(frozen=True)
class Augmented:
    """Some training images N×H×W×C uint8, and ``rows`` draws of all of them, row by row."""

    originals: PixelArray
    variants: PixelArray


@dataclass(frozen=True)
class Augment(Request[Augmented]):
    """What a plan's augmentation makes of some training images, of the classes in turn."""

    result: ClassVar[type[object]] = Augmented
    task: ClassVar[str] = "images.augmented"
    workspace: str
    plan: PlainTable
    columns: int
    rows: int
    draw: int = 0


@dataclass(frozen=True)
class FaultAction:
    """What can be done about a fault.

    Attributes
    ----------
    word : str
        On its button.
    exclude, flag : tuple of int
        Images, by number, to leave out or to mark.
    relabel : tuple of (int, int)
        Images and the class number each is to get.
    together : tuple of tuple of int
        Groups of images of which each is to stand in one set.
    step : dict or None
        For the augmentation.
    settings : dict
        Of the plan, by dotted key.
    """

    word: str
    exclude: tuple[int, ...]
    flag: tuple[int, ...]
    relabel: tuple[tuple[int, int], ...]
    together: tuple[tuple[int, ...], ...]
    step: PlainTable | None
    settings: dict[str, str]


@dataclass(frozen=True)
class Fault:
    """A fault of the collection: what, why, what to do, and the images it is about."""

    kind: str
    why: str
    remedy: str
    images: tuple[int, ...]
    groups: tuple[tuple[int, ...], ...]
    actions: tuple[FaultAction, ...]


@dataclass(frozen=True)
class Skipped:
    """A file that gave no image, and why."""

    file: str
    reason: str


@dataclass(frozen=True)
class FaultsFound:
    """Faults of the collection, and files that gave no image."""

    faults: tuple[Fault, ...]
    skipped: tuple[Skipped, ...]


@dataclass(frozen=True)
class FindFaults(Request[FaultsFound]):
    """Faults of the collection as a plan splits it (the default plan without one) and the default plan prepares it.

    ``finders`` are names of `FAULTS`; all of them look if none is named.
    """

    result: ClassVar[type[object]] = FaultsFound
    task: ClassVar[str] = "looking.find"
    workspace: str
    plan: PlainTable | None = None
    finders: tuple[str, ...] = ()
